-- A stack that overflows.
watched = 0
local function overflow() return 1 + overflow() end
print((select(2, pcall(overflow)):match("stack overflow")))
print("and on")
for i = 1, 3 do
  watched = i
  print(i, (pcall(string.rep, "x", 2^40)))
end
