-- Keeps the books: works out the toll of each passage, and may refuse a record.

local tariff = {
  base = 4.0,                                 -- for any boat
  per_metre = { small = 0.5, middle = 0.8, large = 1.4 },
  free_after = 20,                            -- minutes of waiting after which a passage is free
}
local takings = 0.0
local boats = {}                              -- by name: how often each boat came through

-- Up to 12 metres a boat is small, over 20 it is large.
local function rate(length)
  if length > 12 then
    return tariff.per_metre.middle
  elseif length > 20 then
    return tariff.per_metre.large
  end
  return tariff.per_metre.small
end

function fare(length, minutes)
  if minutes > tariff.free_after then
    return 0.0
  end
  local sum = tariff.base + length * rate(length)
  return math.floor(sum * 100 + 0.5) / 100
end

-- Answers the toll, or nil and the reason why the record is refused.
function before_save(record)
  if record.kind ~= "passage" then
    return nil, "only passages are kept"
  end
  local toll = fare(record.length, record.minutes)
  if toll < 0 then
    return nil, "a toll cannot be negative"
  end
  return toll
end

function after_save(record)
  takings = takings + record.toll
  boats[record.boat] = (boats[record.boat] or 0) + 1
end
