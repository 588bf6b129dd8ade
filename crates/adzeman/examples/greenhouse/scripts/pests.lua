local pests = {}

local seen = setmetatable({}, {__index = function(held, bed)
  local first = bed * 2
  rawset(held, bed, first)
  return first
end})

function pests.found(bed, n)
  local due = seen[bed]
  seen[bed] = due + 1
  return (due + n) % 3 == 0
end

return pests
