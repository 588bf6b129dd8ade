-- Boats that hand a message on: coroutines that resume each other, a generator behind a filter behind a filter.
--: local value < 0
--: captured step < 0
--: field from.name == "nobody"
--: nested from.of.name == "nobody"
--: global fog < 0
--: call is_odd_one(value)
--: watch local rounds
--: watch captured step
--: watch global fog
--: watch field crew.name
local step = 2
fog = 1
crew = { name = "relay" }

function is_odd_one(value)
  return value < 0
end

local function source(count)
  return coroutine.wrap(function()
    for number = 1, count do
      coroutine.yield(number)
    end
  end)
end

local function passed_on(from)
  return coroutine.wrap(function()
    for value in from.next do
      local next = value + 1 -- @hot
      if value < 0 then
        next = 0 -- @never
      end
      if next % step ~= 0 then
        coroutine.yield(next)
      else
        coroutine.yield(next + 1)
      end
    end
  end)
end

function run(rounds)
  local sum = 0 -- @stop
  for _ = 1, rounds * 10 do
    local line = source(100)
    for number = 1, 3 do
      line = passed_on({ next = line, name = "boat" .. number, of = { name = "fleet" } })
    end
    for value in line do
      sum = sum + value
    end
  end
  return sum, step
end
