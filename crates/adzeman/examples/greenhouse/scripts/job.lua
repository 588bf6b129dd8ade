local function grow(days)
  local size = 1
  for _ = 1, days do
    size = size + size // 2 + 1
  end
  return size
end

return grow(...)
