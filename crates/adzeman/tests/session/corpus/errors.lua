-- Errors of every kind, caught in every way, and one that nobody catches.
watched = 1
local function fails(how, ...)
  if how == "text" then error("text", ...) end
  if how == "table" then error({ code = 7 }) end
  if how == "nil" then error() end
  if how == "field" then local nothing return nothing.field end
  if how == "call" then return undefined_function() end
  if how == "add" then return {} + 1 end
  if how == "own" then
    error(setmetatable({}, { __tostring = function() return "my own text" end }))
  end
  return how
end
for _, how in ipairs({ "text", "table", "nil", "field", "call", "add", "own", "fine" }) do
  local ok, what = pcall(fails, how)
  print(how, ok, type(what) == "table" and (what.code or tostring(what)) or what)
end
print(pcall(error, "no position", 0), pcall(error, "level two", 2))
print(xpcall(fails, function(message) return "handled: " .. tostring(message) end, "field"))
print(xpcall(fails, debug.traceback, "text"))
print(select(2, xpcall(fails, function(message) watched = watched + 1 return debug.traceback(message, 2) end, "text")))
print(pcall(pcall, fails, "text"))
print(pcall(string.rep, "x", -1), pcall(string.rep), pcall(setmetatable, 1, 2))
print(pcall(function() local x <close> = setmetatable({}, { __close = function(_, e) print("closing", e) end }) error("inner", 0) end))
local ok, message = pcall(function() local s = "x" for i = 1, 3 do s = s .. i if i == 2 then error(s, 0) end end end)
print(ok, message, tostring(assert(true, "unused")))
print(pcall(assert, false), pcall(assert, nil, "asserted"), pcall(assert, false, { 1 }) == false)
local function deep(n) if n == 0 then error("deep") end return (deep(n - 1)) end
print(pcall(deep, 30))
fails("table")
