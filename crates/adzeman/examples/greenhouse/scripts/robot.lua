local function move(at)
  local next = at + 1
  return next % 10
end

function robot(name)
  local at = 0
  while true do
    at = move(at)
    local order = coroutine.yield(at)
    if order == "home" then
      at = 0
    end
  end
end
