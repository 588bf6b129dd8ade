-- Two hundred boats, each moved by an event of its own a frame: many small handlers.
--: events 200
--: local n < 0
--: captured width < 0
--: field boat.x == "gone"
--: nested boat.cargo.kind == "gone"
--: global wind == "gone"
--: call is_gone(boat)
--: watch captured width
--: watch global wind
--: watch field boats[1].name
--: written spare.x
local width = 100
boats = {}
wind = 0.5
spare = { x = 1 }

function is_gone(boat)
  return boat.x == "gone"
end

for number = 1, 200 do
  boats[number] = { name = "boat " .. number, x = number, y = 0, speed = number % 7, cargo = { kind = "grain" } }
end

function run(n)
  local boat = boats[n] -- @stop
  boat.x = boat.x + boat.speed * wind -- @hot
  if boat.x < 0 then
    boat.x = 0 -- @never
  end
  if boat.x > width then
    boat.x = boat.x - width
    boat.y = boat.y + 1
  end
  return boat.y
end
