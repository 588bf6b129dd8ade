local climate = {}

local function sun(n)
  local height = n % 7
  return height
end

function climate.dryness(bed, n)
  local dry = sun(n) + bed - 3
  if dry < 0 then
    dry = 0
  end
  return dry
end

return climate
