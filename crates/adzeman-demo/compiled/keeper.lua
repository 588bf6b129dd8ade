-- Lua Library inline imports
local function __TS__Class(self)
    local c = {prototype = {}}
    c.prototype.__index = c.prototype
    c.prototype.constructor = c
    return c
end

local function __TS__New(target, ...)
    local instance = setmetatable({}, target.prototype)
    instance:____constructor(...)
    return instance
end
-- End of Lua Library inline imports
EVEN = 0.02
target = "below"
turns = 0
other = function(____, side) return side == "below" and "above" or "below" end
Keeper = __TS__Class()
Keeper.name = "Keeper"
function Keeper.prototype.____constructor(self)
    self.margin = EVEN
end
function Keeper.prototype.choose(self, lock)
    local candidates = {
        target,
        other(nil, target)
    }
    if lock.boat then
        return lock.boat.heading == "up" and "above" or "below"
    end
    for ____, side in ipairs(candidates) do
        if lock.waiting[side] > 0 then
            return side
        end
    end
    return target
end
function Keeper.prototype.level(self, lock, side)
    local apart = math.abs(lock[side] - lock.level)
    local opening = apart <= self.margin and 0 or math.min(1, apart + 0.1)
    sluice(side, opening)
    sluice(
        other(nil, side),
        0
    )
    return apart
end
function Keeper.prototype.work(self, lock)
    local wanted = self:choose(lock)
    if wanted ~= target then
        gate(target, "shut")
        target = wanted
        turns = turns + 1
    end
    if self:level(lock, target) <= self.margin and lock.gates[target] == "shut" then
        gate(target, "open")
    end
end
keeper = __TS__New(Keeper)
function update(dt, lock)
    keeper:work(lock)
end
function boat_arrived(boat, lock)
    local queue = lock.waiting.below + lock.waiting.above
    if queue >= 4 then
        print(((lock.name .. ": ") .. tostring(queue)) .. " boats are waiting")
    end
end
function weather_changed(weather)
end

--# sourceMappingURL=data:application/json;base64,eyJ2ZXJzaW9uIjozLCJzb3VyY2VzIjpbImtlZXBlci50cyJdLCJuYW1lcyI6WyJ0aGlzIl0sIm1hcHBpbmdzIjoiOzs7Ozs7Ozs7Ozs7OztBQXNCTSxPQUFPO0FBQ1QsU0FBZTtBQUNmLFFBQVE7QUFFTixRQUFRLGVBQUMsTUFBcUIsT0FBQyxRQUFTLFlBQVUsV0FBVSxPQUFwRDtBQUVkO0FBQUE7QUFBQTtBQUNJLGtCQUFpQjtBQURyQjtBQUlJLHVDQUFPO0FBQ0csdUJBQXFCO1FBQUM7UUFBUSxXQUFNOztPQUN0QztBQUFXLGVBQU8scUJBQXNCLFNBQU8sV0FBVTs7QUFDN0QsY0FBVyxlQUFRO1dBQ1gsYUFBYSxRQUFRO0FBQUcsbUJBQU87OztBQUV2QyxXQUFPO0FBTlg7QUFTQSxzQ0FBTSxNQUFZO0FBQ1Isa0JBQVEsU0FBUyxLQUFLLFFBQVE7QUFDOUIsb0JBQVUsU0FBUyxBQUFBQSxnQkFDbkIsS0FDQSxTQUFTLEdBQUcsUUFBUTtJQUMxQixPQUFPLE1BQU07SUFBVTtRQUFPLFdBQU07UUFBTzs7QUFDM0MsV0FBTztBQU5YO0FBU0EscUNBQUs7QUFDSyxtQkFBUyxBQUFBQSxLQUFLLE9BQU87T0FDdkIsVUFBVztRQUNYLEtBQUssUUFBUTtBQUNiLGlCQUFTO0FBQ1Qsd0JBQVM7O09BRVQsQUFBQUEsS0FBSyxNQUFNLE1BQU0sV0FBVyxBQUFBQSxnQkFBZSxXQUFXLFdBQVk7UUFDbEUsS0FBSyxRQUFROztBQVJyQjtBQWFFLFNBQVMsVUFBSTtBQUVuQixTQUFTLE9BQW1CLElBQVk7SUFDcEMsT0FBTyxLQUFLO0FBRGhCO0FBSUEsU0FBUyxhQUF5QixNQUFZO0FBQ3BDLGtCQUFRLHFCQUFxQjtPQUMvQixTQUFTO1FBQ1QsUUFBUyxhQUFTLGtCQUFLLFdBQUs7O0FBSHBDO0FBT0EsU0FBUyxnQkFBNEI7QUFBckMiLCJmaWxlIjoia2VlcGVyLmx1YSIsInNvdXJjZVJvb3QiOiIiLCJzb3VyY2VzQ29udGVudCI6WyIvLyBXb3JrcyBvbmUgbG9jaywgbGlrZSBsb2NrLmx1YSwgaW4gYW5vdGhlciBsYW5ndWFnZS4gQ29tcGlsZWQgdG8gTHVhIGJ5IGNvbXBpbGUuc2guXG5cbnR5cGUgU2lkZSA9IFwiYmVsb3dcIiB8IFwiYWJvdmVcIjtcblxuaW50ZXJmYWNlIEJvYXQge1xuICAgIGhlYWRpbmc6IFwidXBcIiB8IFwiZG93blwiO1xuICAgIGxlbmd0aDogbnVtYmVyO1xufVxuXG5pbnRlcmZhY2UgTG9jayB7XG4gICAgbmFtZTogc3RyaW5nO1xuICAgIGxldmVsOiBudW1iZXI7XG4gICAgYmVsb3c6IG51bWJlcjtcbiAgICBhYm92ZTogbnVtYmVyO1xuICAgIGdhdGVzOiBSZWNvcmQ8U2lkZSwgXCJvcGVuXCIgfCBcInNodXRcIj47XG4gICAgd2FpdGluZzogUmVjb3JkPFNpZGUsIG51bWJlcj47XG4gICAgYm9hdD86IEJvYXQ7XG59XG5cbmRlY2xhcmUgZnVuY3Rpb24gZ2F0ZSh0aGlzOiB2b2lkLCBzaWRlOiBTaWRlLCBvcmRlcjogXCJvcGVuXCIgfCBcInNodXRcIik6IHZvaWQ7XG5kZWNsYXJlIGZ1bmN0aW9uIHNsdWljZSh0aGlzOiB2b2lkLCBzaWRlOiBTaWRlLCBvcGVuaW5nOiBudW1iZXIpOiB2b2lkO1xuXG5jb25zdCBFVkVOID0gMC4wMjtcbmxldCB0YXJnZXQ6IFNpZGUgPSBcImJlbG93XCI7XG5sZXQgdHVybnMgPSAwO1xuXG5jb25zdCBvdGhlciA9IChzaWRlOiBTaWRlKTogU2lkZSA9PiAoc2lkZSA9PT0gXCJiZWxvd1wiID8gXCJhYm92ZVwiIDogXCJiZWxvd1wiKTtcblxuY2xhc3MgS2VlcGVyIHtcbiAgICBwcml2YXRlIG1hcmdpbiA9IEVWRU47XG5cbiAgICAvKiogVGhlIHBvdW5kIHRvIGxldmVsIHdpdGguICovXG4gICAgY2hvb3NlKGxvY2s6IExvY2spOiBTaWRlIHtcbiAgICAgICAgY29uc3QgY2FuZGlkYXRlczogU2lkZVtdID0gW3RhcmdldCwgb3RoZXIodGFyZ2V0KV07XG4gICAgICAgIGlmIChsb2NrLmJvYXQpIHJldHVybiBsb2NrLmJvYXQuaGVhZGluZyA9PT0gXCJ1cFwiID8gXCJhYm92ZVwiIDogXCJiZWxvd1wiO1xuICAgICAgICBmb3IgKGNvbnN0IHNpZGUgb2YgY2FuZGlkYXRlcykge1xuICAgICAgICAgICAgaWYgKGxvY2sud2FpdGluZ1tzaWRlXSA+IDApIHJldHVybiBzaWRlO1xuICAgICAgICB9XG4gICAgICAgIHJldHVybiB0YXJnZXQ7XG4gICAgfVxuXG4gICAgbGV2ZWwobG9jazogTG9jaywgc2lkZTogU2lkZSk6IG51bWJlciB7XG4gICAgICAgIGNvbnN0IGFwYXJ0ID0gTWF0aC5hYnMobG9ja1tzaWRlXSAtIGxvY2subGV2ZWwpO1xuICAgICAgICBjb25zdCBvcGVuaW5nID0gYXBhcnQgPD0gdGhpcy5tYXJnaW5cbiAgICAgICAgICAgID8gMFxuICAgICAgICAgICAgOiBNYXRoLm1pbigxLCBhcGFydCArIDAuMSk7XG4gICAgICAgIHNsdWljZShzaWRlLCBvcGVuaW5nKTsgc2x1aWNlKG90aGVyKHNpZGUpLCAwKTtcbiAgICAgICAgcmV0dXJuIGFwYXJ0O1xuICAgIH1cblxuICAgIHdvcmsobG9jazogTG9jayk6IHZvaWQge1xuICAgICAgICBjb25zdCB3YW50ZWQgPSB0aGlzLmNob29zZShsb2NrKTtcbiAgICAgICAgaWYgKHdhbnRlZCAhPT0gdGFyZ2V0KSB7XG4gICAgICAgICAgICBnYXRlKHRhcmdldCwgXCJzaHV0XCIpO1xuICAgICAgICAgICAgdGFyZ2V0ID0gd2FudGVkO1xuICAgICAgICAgICAgdHVybnMgKz0gMTtcbiAgICAgICAgfVxuICAgICAgICBpZiAodGhpcy5sZXZlbChsb2NrLCB0YXJnZXQpIDw9IHRoaXMubWFyZ2luICYmIGxvY2suZ2F0ZXNbdGFyZ2V0XSA9PT0gXCJzaHV0XCIpIHtcbiAgICAgICAgICAgIGdhdGUodGFyZ2V0LCBcIm9wZW5cIik7XG4gICAgICAgIH1cbiAgICB9XG59XG5cbmNvbnN0IGtlZXBlciA9IG5ldyBLZWVwZXIoKTtcblxuZnVuY3Rpb24gdXBkYXRlKHRoaXM6IHZvaWQsIGR0OiBudW1iZXIsIGxvY2s6IExvY2spOiB2b2lkIHtcbiAgICBrZWVwZXIud29yayhsb2NrKTtcbn1cblxuZnVuY3Rpb24gYm9hdF9hcnJpdmVkKHRoaXM6IHZvaWQsIGJvYXQ6IEJvYXQsIGxvY2s6IExvY2spOiB2b2lkIHtcbiAgICBjb25zdCBxdWV1ZSA9IGxvY2sud2FpdGluZy5iZWxvdyArIGxvY2sud2FpdGluZy5hYm92ZTtcbiAgICBpZiAocXVldWUgPj0gNCkge1xuICAgICAgICBwcmludChgJHtsb2NrLm5hbWV9OiAke3F1ZXVlfSBib2F0cyBhcmUgd2FpdGluZ2ApO1xuICAgIH1cbn1cblxuZnVuY3Rpb24gd2VhdGhlcl9jaGFuZ2VkKHRoaXM6IHZvaWQsIHdlYXRoZXI6IHsgd2luZDogbnVtYmVyIH0pOiB2b2lkIHtcbiAgICAvLyBUaGlzIGtlZXBlciBkb2VzIG5vdCBtaW5kIHRoZSB3aW5kLlxufVxuIl19
