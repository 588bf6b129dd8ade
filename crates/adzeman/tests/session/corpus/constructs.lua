-- Loops, jumps, operators and how numbers are written.
watched = 0
print(1.0, 1e15, 2^53, 0/0 ~= 0/0, -0.0, 1e100, math.maxinteger, 7 // 2, 7.5 // 2, -7 % 3, 3 | 4, "10" + 5) --since 5.3
print(nil, true, 1, 1.5, "text\0with a zero", -1/0, 255 // 1 | 0, 1 << 62) --since 5.3
local function sum(...)
  local total = 0
  for _, value in ipairs({...}) do
    total = total + value
  end
  return total, select("#", ...)
end
print(sum(1, 2, 3), (sum(4, 5)))
for i = 3, 1, -1 do watched = watched + i print(i, watched) end
for i = 1, 3 do
  for j = 1, 3 do
    if j == 2 then goto continue end --since 5.2
    if i == 3 then goto done end --since 5.2
    print(i, j)
    ::continue:: --since 5.2
  end
end
::done:: --since 5.2
local i = 0
repeat local last = i i = i + 1 until last >= 2
while true do i = i - 1 if i == 0 then break end end
local k <const>, unused = 10, nil
print(i, k, k * 2, unused)
local text = [[
a long
text]]
print(#text, text:upper(), ("%5.2f|%q"):format(1 / 3, "a\nb"))
local t = { 1, 2, 3, n = 4, [10] = 5, sum = sum, { deep = { er = "x" } } }
print(t[1], #t, t.n, t[10], t[4].deep.er, t.sum(1, 1))
print(t --{
  .n +
  t[2])
local function tail(n) if n == 0 then return "end" end return tail(n - 1) end
print(tail(20))
return sum(1, 2)
