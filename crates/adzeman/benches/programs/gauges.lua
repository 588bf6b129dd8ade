-- Readings of gauges against each other: a matrix that is worked out entry by entry, by a function.
--: local i > 1000
--: captured offset < 0
--: field sums.scale == 0
--: nested sums.of.scale == 0
--: global tide < 0
--: call is_out(i)
--: watch local rounds
--: watch captured offset
--: watch global tide
--: watch field sums.scale
--: written spare[1]
local offset = 1
local sums = { scale = 1, of = { scale = 1 } }
tide = 1
spare = { 1 }

function is_out(i)
  return i > 1000
end

local function entry(i, j)
  local ij = i + j -- @hot
  if ij < 0 then
    ij = 0 -- @never
  end
  return sums.scale / (ij * (ij + 1) * 0.5 + i + offset)
end

local function times(from, to)
  for i = 1, #from do
    local sum = 0
    for j = 1, #from do
      sum = sum + entry(i - 1, j - 1) * from[j]
    end
    to[i] = sum
  end
end

function run(rounds)
  local u, v = {}, {} -- @stop
  for i = 1, 40 do
    u[i] = 1
  end
  for _ = 1, rounds * 4 do
    times(u, v)
    times(v, u)
  end
  return u[1] > 0, offset, sums
end
