-- Records written as text and read again: a writer and a reader of JSON, character by character.
--: local value == "flood"
--: captured quote == "x"
--: field book.name == "none"
--: nested book.first.flood == 1
--: global format == "none"
--: call is_strange(value)
--: watch local rounds
--: watch captured quote
--: watch global format
--: watch field book.name
--: written spare.boat
local quote = '"'
local book = { name = "tolls", first = { flood = 0 } }
format = "short"
spare = { boat = "none" }

function is_strange(value)
  return value == "flood"
end

local function write(value)
  local kind = type(value) -- @hot
  if kind == "function" then
    return "" -- @never
  end
  if kind == "string" then
    return quote .. value:gsub('[%c"\\]', "?") .. quote
  elseif kind == "table" then
    local parts = {}
    if #value > 0 then
      for at, item in ipairs(value) do
        parts[at] = write(item)
      end
      return "[" .. table.concat(parts, ",") .. "]"
    end
    local keys = {}
    for key in pairs(value) do
      keys[#keys + 1] = key
    end
    table.sort(keys)
    for at, key in ipairs(keys) do
      parts[at] = write(key) .. ":" .. write(value[key])
    end
    return "{" .. table.concat(parts, ",") .. "}"
  end
  book.last = value
  return tostring(value)
end

local read

local function skip(text, at)
  return text:find("%S", at) or #text + 1
end

function read(text, at)
  at = skip(text, at)
  local char = text:sub(at, at)
  if char == '"' then
    local stop = text:find('"', at + 1, true)
    return text:sub(at + 1, stop - 1), stop + 1
  elseif char == "[" or char == "{" then
    local found, close = {}, char == "[" and "]" or "}"
    at = skip(text, at + 1)
    while text:sub(at, at) ~= close do
      local key, value
      value, at = read(text, at)
      if close == "}" then
        key = value
        value, at = read(text, skip(text, at) + 1)
      end
      found[key or #found + 1] = value
      at = skip(text, at)
      if text:sub(at, at) == "," then
        at = skip(text, at + 1)
      end
    end
    return found, at + 1
  end
  local number = text:match("^-?[%d.]+", at)
  if number then
    return tonumber(number), at + #number
  end
  local word = text:match("^%a+", at)
  return word == "true", at + #word
end

local passage = {
  boat = "Heron", lock = "upper", toll = 24.5, crew = { "Ada", "Bo", "Cy" }, open = true,
  levels = { 1.5, 2, 2.5, 3 }, at = { day = 12, hour = 7 },
}

function run(rounds)
  local size = 0 -- @stop
  for _ = 1, rounds * 15 do
    local text = write(passage)
    size = size + #write(read(text, 1))
  end
  return size, quote, book
end
