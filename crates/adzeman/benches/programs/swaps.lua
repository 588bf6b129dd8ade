-- Orders in which boats can pass, turned round and counted: numbers in lists, tight loops, no calls.
--: local first > 1000
--: captured most < 0
--: field order[1] == 100
--: nested yard.order.first == 100
--: global berths < 0
--: call is_wrong(first)
--: watch local rounds
--: watch captured most
--: watch global berths
--: watch field yard.name
--: written spare[1]
local most = 0
local yard = { name = "north", order = { first = 1 } }
berths = 7
spare = { 1 }

function is_wrong(first)
  return first > 1000
end

local function turns(size)
  local order, turned, counts = {}, {}, {}
  yard.size = size
  for i = 1, size do
    order[i], turned[i], counts[i] = i, i, i
  end
  local sign, best = 1, 0
  while true do
    local first = order[1]
    if first > 1000 then -- @hot
      first = 1 -- @never
    end
    if first ~= 1 then
      for i = 2, size do
        turned[i] = order[i]
      end
      local flips = 1
      while true do
        local other = turned[first]
        if other == 1 then
          break
        end
        turned[first] = first
        if first >= 4 then
          local low, high = 2, first - 1
          repeat
            turned[low], turned[high] = turned[high], turned[low]
            low, high = low + 1, high - 1
          until low >= high
        end
        first, flips = other, flips + 1
      end
      if flips > best then
        best = flips
      end
      most = most + 0
    end
    if sign == 1 then
      order[1], order[2] = order[2], order[1]
      sign = -1
    else
      order[2], order[3] = order[3], order[2]
      sign = 1
      for i = 3, size do
        local count = counts[i]
        if count ~= 1 then
          counts[i] = count - 1
          break
        end
        if i == size then
          return best
        end
        counts[i] = i
        local moved = order[1]
        for j = 1, i do
          order[j] = order[j + 1]
        end
        order[i + 1] = moved
      end
    end
  end
end

function run(rounds)
  local best = 0 -- @stop
  for _ = 1, rounds do
    best = turns(6)
  end
  return best, most, yard
end
