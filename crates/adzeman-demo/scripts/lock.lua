-- Works one lock: levels the chamber with the pound a boat waits on, and opens that gate.

local EVEN = 0.02        -- metres; levels this close count as equal
local margin = EVEN      -- how far apart levels may be when a gate is told to open
local target = "below"   -- the pound the chamber is being levelled with
local turns = 0          -- how often the target changed

local function other(side)
  if side == "below" then
    return "above"
  end
  return "below"
end

-- The pound to level with: the one a boat in the chamber is bound for, else one where boats wait.
local function choose(lock)
  if lock.boat then
    return lock.boat.heading == "up" and "above" or "below"
  end
  if lock.waiting[target] > 0 then
    return target
  end
  if lock.waiting[other(target)] > 0 then
    return other(target)
  end
  return target
end

-- Opens the sluice towards the target while the levels differ.
local function level_with(lock, side)
  local difference = lock[side] - lock.level
  local opening = math.min(1.0, math.abs(difference) + 0.1)
  if math.abs(difference) <= margin then
    opening = 0.0
  end
  sluice(side, opening)
  sluice(other(side), 0.0)
  return math.abs(difference)
end

function update(dt, lock)
  local wanted = choose(lock)
  if wanted ~= target then
    gate(target, "shut")
    target = wanted
    turns = turns + 1
  end
  local apart = level_with(lock, target)
  if apart <= margin and lock.gates[target] == "shut" then
    gate(target, "open")
  end
end

function boat_arrived(boat, lock)
  local queue = lock.waiting.below + lock.waiting.above
  if queue >= 4 then
    print(lock.name .. ": " .. queue .. " boats are waiting")
  end
end

-- In a strong wind the water is never quite even, so the gates are given more room.
function weather_changed(weather)
  if weather.wind > 8 then
    margin = weather.wind / 100
  else
    margin = EVEN
  end
end
