-- What scripts can find out about themselves.
watched = 1
local function here(level) local info = debug.getinfo(level + 1, "nSlu") return info.name, info.what, info.currentline, info.short_src, info.nups, info.nparams, info.isvararg end
local function named(a, b, ...) print(here(1)) return a, b end
print(named(1, 2))
local info = debug.getinfo(print)
print(info.what, info.nups, info.short_src, info.nparams, info.isvararg, debug.getupvalue(print, 1))
for _, native in ipairs({ pcall, xpcall, load, dofile, coroutine.wrap, coroutine.resume, string.dump, debug.sethook }) do
  local held = debug.getinfo(native)
  io.write(held.what, " ", held.nups, " ", held.short_src, "; ")
end
print()
local function locals(x)
  local y, z <const> = x + 1, "constant"
  local list = {}
  for i = 1, 10 do
    local name, value = debug.getlocal(1, i)
    if not name then break end
    list[#list + 1] = name .. "=" .. type(value)
  end
  return table.concat(list, " "), y, z
end
print(locals(1))
print(debug.gethook())
local count = 0
debug.sethook(function(event, line) count = count + 1 end, "l") --{
local a = 1
local b = 2
debug.sethook()
print(count, debug.gethook() == nil, a + b)
print(debug.traceback("a traceback", 1))
print((loadstring or load)(string.dump(function(x) return x * 2 end))(21))
local up = 5
local function capture() return up end
print(debug.getupvalue(capture, 1), debug.setupvalue(capture, 1, 6), capture())
local globals = {}
for name in pairs(_G) do globals[#globals + 1] = name end
table.sort(globals)
print(table.concat(globals, " "))
print(type(debug.getregistry()), debug.getmetatable("").__index == string, collectgarbage("isrunning"))
