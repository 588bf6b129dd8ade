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
