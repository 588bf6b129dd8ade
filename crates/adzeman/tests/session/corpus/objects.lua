-- Metatables, methods, iterators, text conversions.
watched = "none"
local Boat = {}
Boat.__index = Boat
Boat.__name = "Boat"
Boat.__tostring = function(self) watched = self.name return "boat " .. self.name end
Boat.__add = function(a, b) return a.length + b.length end
Boat.__eq = function(a, b) return a.length == b.length end
Boat.__lt = function(a, b) return a.length < b.length end
Boat.__le = function(a, b) return a.length <= b.length end
Boat.__call = function(self, what) return self.name .. " " .. what end
Boat.__len = function(self) return self.length end
Boat.__concat = function(a, b) return tostring(a) .. "&" .. tostring(b) end
function Boat.new(name, length)
  return setmetatable({ name = name, length = length }, Boat)
end
function Boat:longer(by)
  return Boat.new(self.name, self.length + by)
end
local heron, otter = Boat.new("Heron", 12), Boat.new("Otter", 9)
print(heron, otter, heron + otter, heron == otter, heron < otter, heron <= otter, #heron, heron("sails"), heron .. otter)
print(heron:longer(3).length, rawlen({ 1, 2 }), rawequal(heron, heron), rawget(heron, "missing"))
local proxy = setmetatable({}, { --{
  __index = function(_, key) return "no " .. key end, --{
  __newindex = function(t, key, value) rawset(t, key, value * 2) end, --{
  __pairs = function() return function(_, last) if not last then return 1, "one" end end, nil, nil end, --{
})
proxy.x = 4
print(proxy.x, proxy.y)
for key, value in pairs(proxy) do print(key, value) end
print(pcall(print, setmetatable({}, { __tostring = function() return 1 end })))
print("before", pcall(print, "a", setmetatable({}, { __tostring = function() error("no text", 0) end }), "b"))
print(setmetatable({}, { __tostring = function() print("while it is written") return "late" end }), "and on")
print((tostring(setmetatable({}, { __name = "Thing" })):gsub("0x%x+", "ADDRESS")))
