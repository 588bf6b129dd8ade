-- A script that ends its process.
watched = 0
local function last(x)
  watched = x
  return x * 3
end
local held <close> = setmetatable({}, { __close = function() print("closed") end })
print("before")
io.write("not a line")
os.exit(last(1), true)
