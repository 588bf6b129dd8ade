-- A canal network that branches: many small tables, made and walked by recursion.
--: local depth > 1000
--: captured least < 0
--: field mouth.name == "south"
--: nested mouth.at.name == "south"
--: global flooded == true
--: call is_deep(depth)
--: watch local rounds
--: watch captured least
--: watch global flooded
--: watch field mouth.name
local least = 1
local mouth = { name = "north", at = { name = "lake" } }
flooded = false

function is_deep(depth)
  return depth > 1000
end

local function dig(depth)
  if depth < least then -- @hot
    return {}
  end
  if depth > 1000 then
    depth = 1000 -- @never
  end
  local node = { left = dig(depth - 1), right = dig(depth - 1), mouth = mouth }
  return node
end

local function count(node)
  if not node.left then
    return 1
  end
  return 1 + count(node.left) + count(node.right)
end

function run(rounds)
  local total = 0 -- @stop
  for _ = 1, rounds * 10 do
    total = total + count(dig(8))
  end
  return total, least, mouth
end
