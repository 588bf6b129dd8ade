-- The library's functions that call scripts, and closing values.
watched = ""
print(("the quick fox"):gsub("%w+", function(word) watched = watched .. word:sub(1, 1) return word:reverse() end))
print(table.concat({ 3, 1, 2 }, ","), table.unpack({ 1, 2, 3 }, 2))
local list = { "pear", "apple", "fig" }
table.sort(list, function(a, b) return #a < #b end)
print(table.concat(list, " "), select(-1, "a", "b"))
for word in ("one two"):gmatch("%a+") do print(word) end
local function closing(name)
  return setmetatable({ name = name }, { __close = function(held, why) print("close", held.name, why) end })
end
do
  local a <close> = closing("a")
  local b <close> = closing("b")
  print("in the block")
end
for i = 1, 2 do local c <close> = closing("c" .. i) if i == 2 then break end end
local function early() local d <close> = closing("d") return "returned" end
print(early())
print(pcall(function() local e <close> = closing("e") local f <close> = closing("f") error("both", 0) end))
for key, value in next, { x = 1 } do print(key, value) end
print(tostring(12):rep(3, "-"), math.type(1), math.type(1.0), math.tointeger(3.0), utf8.char(233, 8364)) --since 5.3
print(string.format("%s %d %g %x", "s", 3, 0.1, 255), ("x"):byte(), #"żółw")
local seen = setmetatable({}, { __mode = "k" })
seen[{}] = true
collectgarbage()
print(next(seen), os.time({ year = 2020, month = 1, day = 1, hour = 12 }) > 0, os.getenv("NO_SUCH_VARIABLE"))
