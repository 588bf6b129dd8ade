-- Coroutines: generators, errors, closing, wrapped ones, and those inside each other.
watched = 0
local function numbers(n)
  local made = coroutine.wrap(function() --{
    for i = 1, n do
      watched = i
      coroutine.yield(i, i * i)
    end
    return "done"
  end)
  return made
end
for i, square in numbers(3) do
  if i == "done" then break end
  print(i, square)
end
local co = coroutine.create(function(a, b) --{
  print("given", a, b)
  local c = coroutine.yield(a + b)
  print("again", c)
  local d, e = coroutine.yield()
  print(d, e, coroutine.isyieldable())
  error("inside")
end)
print(coroutine.status(co), coroutine.resume(co, 1, 2))
print(coroutine.resume(co, "x"))
print(coroutine.status(co), coroutine.resume(co, nil, 5))
print(coroutine.status(co), coroutine.resume(co))
print(pcall(coroutine.wrap(function() error({ code = 1 }) end)))
local outer = coroutine.wrap(function() --{
  local inner = coroutine.wrap(function() --{
    for i = 1, 2 do coroutine.yield("inner " .. i) end
  end)
  coroutine.yield(inner())
  coroutine.yield(inner())
end)
print(outer(), outer())
local protected = coroutine.wrap(function() --{
  print(pcall(function() --{
    coroutine.yield("in a protected call")
    error("after it")
  end))
  return "over"
end)
print(protected(), protected())
local closing = coroutine.create(function() --{
  local x <close> = setmetatable({}, { __close = function() print("closed") end })
  coroutine.yield()
end)
coroutine.resume(closing)
print(coroutine.close(closing), coroutine.status(closing)) --since 5.4
print(select("#", coroutine.running()), select(2, coroutine.running()))
table.sort({ 3, 1, 2 }, function(a, b) return a < b end)
