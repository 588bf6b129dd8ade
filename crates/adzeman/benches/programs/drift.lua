-- Barges that pull at each other: arithmetic on fields of a few tables, in two nested loops.
--: local dx > 1000
--: captured pull < 0
--: field one.mass == nil
--: nested one.speed.x == nil
--: global calm < 0
--: call is_lost(dx)
--: watch local rounds
--: watch captured pull
--: watch global calm
--: watch field barges[1].mass
--: written spare.x
local pull = 0.01
local barges = {}
calm = 1
spare = { x = 1 }

function is_lost(distance)
  return distance > 1000
end

local function barge(x, y, mass)
  return { x = x, y = y, mass = mass, speed = { x = 0, y = 0 } }
end

for number = 1, 5 do
  barges[number] = barge(number * 3, number * number, 10 - number)
end

local function advance(dt)
  for i = 1, #barges do
    local one = barges[i]
    for j = i + 1, #barges do
      local other = barges[j]
      local dx, dy = one.x - other.x, one.y - other.y
      local squared = dx * dx + dy * dy + 0.1 -- @hot
      if squared < 0 then
        squared = 1 -- @never
      end
      local strength = pull * dt / (squared * squared ^ 0.5)
      one.speed.x = one.speed.x - dx * other.mass * strength
      one.speed.y = one.speed.y - dy * other.mass * strength
      other.speed.x = other.speed.x + dx * one.mass * strength
      other.speed.y = other.speed.y + dy * one.mass * strength
    end
  end
  for _, one in ipairs(barges) do
    one.x = one.x + dt * one.speed.x
    one.y = one.y + dt * one.speed.y
  end
end

function run(rounds)
  local begun = rounds -- @stop
  for _ = 1, rounds * 300 do
    advance(0.01)
  end
  return begun, pull, barges[1].mass
end
