-- Finds out which Lua runs, and loads the library that was built for it, which lies beside this file.
local _, file = ...
if type(file) ~= "string" then
  -- Where nobody says which file this is, the engine does.
  local source = debug and debug.getinfo and debug.getinfo(1, "S").source or ""
  file = source:match("^@(.*)$") or ""
end
local folder = file:match("^(.*[/\\])") or ""

local made_for = { lua51 = "Lua 5.1", lua52 = "Lua 5.2", lua53 = "Lua 5.3", lua54 = "Lua 5.4" }
local names = { "lua51", "lua52", "lua53", "lua54" }

local function library(name)
  return folder .. "adzeman_" .. name .. ".so"
end

-- What lies there, for people.
local function there_is()
  local found = {}
  for _, name in ipairs(names) do
    local opened = io and io.open and io.open(library(name), "rb")
    if opened then
      opened:close()
      found[#found + 1] = made_for[name]
    end
  end
  return #found > 0 and "there are libraries for " .. table.concat(found, ", ") or "there is no library"
end

local engine = rawget(_G, "jit") and "LuaJIT" or _VERSION
local name = "lua" .. tostring(_VERSION):gsub("%D", "")
if engine == "LuaJIT" or not made_for[name] then
  error(("adzeman: this is %s; %s beside %s"):format(engine, there_is(), file), 0)
end
if not (package and package.loadlib) then
  error("adzeman: this program lets scripts load no libraries (it has no 'package.loadlib')", 0)
end
local open, why = package.loadlib(library(name), "luaopen_adzeman_" .. name)
if not open then
  error(("adzeman: this is %s; %s beside %s: %s"):format(engine, there_is(), file, tostring(why)), 0)
end
-- For guides that lie beside it.
local loaded = package.loaded
if loaded then
  loaded["adzeman.folder"] = folder
end
return open()
