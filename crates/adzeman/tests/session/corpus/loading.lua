-- Texts compiled at run time, sandboxes, modules.
watched = 0
print(load("return 1 + 1")(), load("syntax error here"), load(function() return nil end))
local parts = { "return ", "...", " * 2" }
local at = 0
print(load(function() at = at + 1 return parts[at] end, "=parts")(21))
local sandbox = { print = print, x = "inside" }
local chunk = load("x = x .. '!' local function f() return x end return f()", "=sandbox", "t", sandbox)
print(chunk(), sandbox.x, x)
print(pcall(load("error('from a text')", "=named")))
print(pcall(load("local a <const> = 5 return a .. nil", "@file.lua")))
package.preload.module = function(name, where)
  print("loading", name, where)
  return { value = 42 }
end
print(require("module").value, require("module") == package.loaded.module)
print(pcall(require, "no.such.module") == false)
local function inside()
  local _ENV = { tostring = tostring }
  y = 1
  return tostring(y), _ENV
end
local shown, env = inside()
print(shown, env.y, y)
for i = 1, 3 do watched = load("local n = ... return n + 1", "=step")(watched) end
print(watched, #load("return {...}")(1, 2, 3))
