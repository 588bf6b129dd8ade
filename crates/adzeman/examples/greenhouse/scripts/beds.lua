local climate = require("climate")
local pests = bring("pests")
local frosts = 0

on_frost(function(bed)
  frosts = frosts + 1
  water(bed, -1)
end)

-- Nothing but the metatable of all texts holds this one.
getmetatable("").__unm = function(name)
  local dose = #name
  return dose
end

valve(function(litres)
  local lost = litres // 10
  return litres - lost
end)

local mix, weed

function day(n)
  for bed = 1, 3 do
    local dry = climate.dryness(bed, n)
    if dry > 2 then
      water(bed, turn_valve(dry))
    end
    if pests.found(bed, n) then
      water(bed, -"soap")
    end
  end
  if n % 4 == 0 then
    mix = mix or load(recipe(), "@recipe.lua")
    mix(n)
  end
  if n == 5 then
    require("late").arrive(n)
  end
  if n > 6 then
    weed = weed or bring("weeds")
    weed(n)
  end
  return frosts
end
