-- Functions that take functions: map, filter, fold, and closures over closures.
--: local value < 0
--: captured width < 0
--: field list.name == "nobody"
--: nested list.of.name == "nobody"
--: global season < 0
--: call is_none(value)
--: watch local rounds
--: watch captured width
--: watch global season
--: watch field lists.name
--: written spare[1]
local width = 3
season = 1
lists = { name = "chains" }
spare = { 1 }

function is_none(value)
  return value < 0
end

local function map(list, change)
  local out = { name = "mapped", of = { name = "list" } }
  for at = 1, #list do
    local value = list[at]
    out[at] = change(value) -- @hot
    if value < 0 then
      out[at] = width -- @never
    end
  end
  return out
end

local function filter(list, keeps)
  local out = { name = "kept", of = { name = "list" } }
  for at = 1, #list do
    if keeps(list[at]) then
      out[#out + 1] = list[at]
    end
  end
  return out
end

local function fold(list, first, join)
  local held = first
  for at = 1, #list do
    held = join(held, list[at])
  end
  return held
end

local function after(one, other)
  return function(value)
    return other(one(value))
  end
end

function run(rounds)
  local first, sum = { of = { name = "first" } }, 0 -- @stop
  for number = 1, 100 do
    first[number] = number
  end
  local both = after(function(x) return x + width end, function(x) return x * 2 end)
  for _ = 1, rounds * 30 do
    local list = filter(map(first, both), function(x) return x % 3 ~= 0 end)
    sum = fold(list, sum, function(a, b) return (a + b) % 1000 end)
  end
  return sum
end
