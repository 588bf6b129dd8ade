-- What a guide says: which functions are the handlers of which events. In the place of each stands one that calls it, for as long as the
-- state is open.
--
-- What is given: whether anyone wants to know of events; begins one; ends one; says something to people; and whether variables can be
-- closed (5.4).
local wants, begin, finish, warn, closes = ...
local rawget, rawset, pairs, next, select, type, tostring, setmetatable, getmetatable, pcall, error =
  rawget, rawset, pairs, next, select, type, tostring, setmetatable, getmetatable, pcall, error
local unpack = rawget(table, "unpack") or rawget(_G, "unpack")
local raw_metatable = debug and debug.getmetatable or getmetatable
local load = rawget(_G, "loadstring") or rawget(_G, "load")
local globals = _G

local rules = {}
-- What stands in whose place, in which order it was put there; and of the functions that were put there, in whose place, and by which rule.
local placed = {}
local originals = setmetatable({}, { __mode = "k" })
local owners = setmetatable({}, { __mode = "k" })
-- The metatables of tables that are waited for to be given a new field.
local traps = {}
local is_open = false
-- The kinds of events that the host has told of; nothing before it does.
local known

local look

-- A value as text; nothing where it has none, as its own conversion fails.
local function text_of(value)
  local ok, text = pcall(tostring, value)
  return ok and type(text) == "string" and text or nil
end

-- Its subject, where that is told, or what else is looked up by the guide: nothing of it may harm the host.
local function asked(rule, what, ...)
  local ok, answer = pcall(rule[what], ...)
  if ok then
    return answer
  end
  if not rule.has_failed then
    rule.has_failed = true
    warn(("the guide's '%s' of %s failed: %s"):format(what, rule.kind, text_of(answer) or "an error without a text"))
  end
  return nil
end

local function started(rule, name, wrapper, ...)
  local first = rule.method and 2 or 1
  local subject = rule.subject
  if type(subject) == "function" then
    subject = asked(rule, "subject", ...)
  elseif subject then
    subject = (select(first - 1 + rule.at[subject], ...))
  else
    subject = name
  end
  local payload = rule.payload and asked(rule, "payload", ...)
  if type(payload) ~= "table" then
    payload = nil
  end
  if subject ~= nil then
    subject = text_of(subject)
  end
  return begin(rule.kind, subject, wrapper, rule.fields, payload, select(first, ...))
end

local function ended(number, ...)
  if number then
    finish(number)
    look()
  end
  return ...
end

local closing = {
  __close = function(event, why)
    finish(event.number, why ~= nil and (text_of(why) or "an error without a text") or nil)
    look()
  end,
}

local function closed(number)
  return number and setmetatable({ number = number }, closing)
end

-- A function that is told of at its beginning and at its end, whatever ends it, and yields as the one that it calls.
local make
if closes then
  make = load([[
    local wants, started, closed = ...
    return function(rule, name, original)
      local function wrapper(...)
        if not wants() then return original(...) end
        local event <close> = closed(started(rule, name, wrapper, ...))
        return original(...)
      end
      return wrapper
    end
  ]], "=(adzeman)")(wants, started, closed)
else
  function make(rule, name, original)
    local function wrapper(...)
      if not wants() then return original(...) end
      return ended(started(rule, name, wrapper, ...), original(...))
    end
    return wrapper
  end
end

-- Whether a function stands for another one by this rule, or for one that does.
local function stands(rule, wrapper)
  while wrapper do
    if owners[wrapper] == rule then
      return true
    end
    wrapper = originals[wrapper]
  end
  return false
end

-- Notes that a function stands for another one.
local function noted(rule, wrapper, original)
  originals[wrapper], owners[wrapper] = original, rule
  return wrapper
end

-- The one that stands for a function, the same one for as long as anyone has it.
local function standing_for(rule, name, original)
  local wrapper = rule.wrappers[original]
  if not wrapper then
    wrapper = noted(rule, make(rule, name, original), original)
    rule.wrappers[original] = wrapper
  end
  return wrapper
end

-- One that is given functions to call later.
local function registering(rule, _, register)
  local function is_meant(...)
    if type(rule.when) == "function" then
      return asked(rule, "when", ...)
    end
    return rule.when == nil or (...) == rule.when
  end
  return noted(rule, function(...)
    local given = (select(rule.callback, ...))
    if not is_open or type(given) ~= "function" or stands(rule, given) or not is_meant(...) then
      return register(...)
    end
    local name = rule.when == nil and rule.callback > 1 and type((...)) == "string" and (...) or nil
    local arguments = { ... }
    arguments[rule.callback] = standing_for(rule, name, given)
    return register(unpack(arguments, 1, select("#", ...)))
  end, register)
end

-- One that is given such a function again, to be told which not to call any more.
local function undoing(rule, _, undo)
  return noted(rule, function(...)
    local arguments, count = { ... }, select("#", ...)
    for number = 1, count do
      local given = arguments[number]
      arguments[number] = given ~= nil and rule.wrappers[given] or given
    end
    return undo(unpack(arguments, 1, count))
  end, undo)
end

local function field(holder, key)
  if type(holder) == "table" then
    return rawget(holder, key)
  end
  local ok, value = pcall(function() return holder[key] end)
  return ok and value or nil
end

local function set(holder, key, value)
  if type(holder) == "table" then
    rawset(holder, key, value)
    return true
  end
  return (pcall(function() holder[key] = value end))
end

-- Puts what `standing` makes in the place of a function, if there is one and none stands there by this rule. Whether there is one.
local function place(rule, holder, key, standing, name)
  local original = field(holder, key)
  if type(original) ~= "function" then
    return false
  end
  if not stands(rule, original) then
    local wrapper = standing(rule, name, original)
    if set(holder, key, wrapper) then
      placed[#placed + 1] = { holder = holder, key = key, wrapper = wrapper, original = original }
    end
  end
  return true
end

-- Looks again when a table is given a new field. One with a metatable is left as it is.
local function await(holder)
  if type(holder) ~= "table" or traps[holder] or raw_metatable(holder) ~= nil then
    return
  end
  local trap = {}
  function trap.__newindex(holder, key, value)
    rawset(holder, key, value)
    if is_open then
      look()
    end
  end
  traps[holder] = trap
  setmetatable(holder, trap)
end

local function release(holder, trap)
  -- A script may have put its own into it meanwhile.
  if raw_metatable(holder) == trap and next(trap) == "__newindex" and next(trap, "__newindex") == nil then
    setmetatable(holder, nil)
  end
  traps[holder] = nil
end

-- The table of this path, and else the last one on the way there.
local function found(path)
  local holder = globals
  for name in path:gmatch("[^.]+") do
    local inner = field(holder, name)
    if type(inner) ~= "table" and type(inner) ~= "userdata" then
      return nil, holder
    end
    holder = inner
  end
  return holder
end

local function bind(rule, waited_for)
  local holder, last = rule.holder, nil
  if type(holder) == "string" then
    holder, last = found(holder)
  end
  if not holder then
    waited_for[last] = true
    return
  end
  if rule.pattern then
    waited_for[holder] = true
    for key in next, type(holder) == "table" and holder or {} do
      if type(key) == "string" and key:match(rule.pattern) then
        place(rule, holder, key, standing_for, key)
      end
    end
  elseif not place(rule, holder, rule.key, rule.callback and registering or standing_for) then
    waited_for[holder] = true
  elseif rule.undo then
    place(rule, holder, rule.undo, undoing)
  end
end

-- Puts in what is not there, or not any more.
function look()
  if not is_open then
    return
  end
  local waited_for = {}
  for number = 1, #rules do
    local rule = rules[number]
    if rule.holder and known[rule.kind] then
      bind(rule, waited_for)
    end
  end
  for holder in pairs(waited_for) do
    await(holder)
  end
  for holder, trap in pairs(traps) do
    if not waited_for[holder] then
      release(holder, trap)
    end
  end
end

local usage = 'adzeman.event("frame.update", "game", "update", { "dt" })'

local function wrong(why)
  error(("adzeman.event: %s; it is called as in %s"):format(why, usage), 3)
end

local function unknown(kind)
  return ("'%s' is not among the kinds of events that this program has told of when it was opened: its guide names them"):format(kind)
end

local options = { method = "boolean", callback = "number", undo = "string", payload = "function" }

local function event(kind, holder, key, said)
  said = said or {}
  if type(kind) ~= "string" or kind == "" then
    wrong("the kind of an event is a text")
  end
  if holder ~= nil and type(holder) ~= "string" and type(holder) ~= "table" and type(holder) ~= "userdata" then
    wrong("what holds the function is a table, or the path of a global one, such as \"game.screens\"")
  end
  if holder ~= nil and (type(key) ~= "string" or key == "") then
    wrong("the name of the function is a text")
  end
  if type(said) ~= "table" then
    wrong("the names of the arguments are in a table")
  end
  local rule = { kind = kind, holder = holder, key = key, fields = {}, at = {} }
  for option, value in pairs(said) do
    local wanted = options[option]
    if type(option) == "number" then
      if type(value) ~= "string" then
        wrong("the names of arguments are texts")
      end
    elseif wanted and type(value) ~= wanted then
      wrong(("'%s' is a %s"):format(option, wanted))
    elseif option == "subject" and type(value) ~= "string" and type(value) ~= "function" then
      wrong("'subject' is the name of an argument, or a function that is given all of them")
    elseif not wanted and option ~= "subject" and option ~= "when" then
      wrong(("there is no option '%s'; there are 'method', 'subject', 'payload', 'callback', 'when' and 'undo'"):format(
        tostring(option)))
    else
      rule[option] = value
    end
  end
  for number = 1, #said do
    rule.fields[number] = said[number]
    rule.at[said[number]] = number
  end
  if type(rule.subject) == "string" and not rule.at[rule.subject] then
    wrong(("the subject '%s' is not among the arguments that are named"):format(rule.subject))
  end
  if rule.callback and (rule.callback < 1 or rule.callback % 1 ~= 0) then
    wrong("'callback' is which argument the function is, from 1 on")
  end
  if key and key:find("*", 1, true) then
    if rule.callback then
      wrong("a function that is given callbacks has one name")
    end
    rule.pattern = "^" .. key:gsub("[^%w_]", "%%%0"):gsub("%%%*", ".*") .. "$"
  end
  if known and not known[kind] then
    wrong(unknown(kind))
  end
  -- Each holds the function that it stands for: neither is held here (5.1 would never let go of them).
  rule.wrappers = setmetatable({}, { __mode = "kv" })
  rules[#rules + 1] = rule
  look()
end

-- The kinds that are told of, with what calls raise them and the names of their arguments.
local function kinds()
  local all, at = {}, {}
  for number = 1, #rules do
    local rule = rules[number]
    local kind = at[rule.kind]
    if not kind then
      kind = { name = rule.kind, calls = {}, fields = {} }
      at[rule.kind] = kind
      all[#all + 1] = kind
    end
    if rule.holder then
      local holder = type(rule.holder) == "string" and rule.holder .. "." or ""
      kind.calls[#kind.calls + 1] = (holder == "_G." and "" or holder) .. rule.key
    end
    for field_number = 1, #rule.fields do
      kind.fields[rule.fields[field_number]] = true
    end
  end
  return all
end

local function open(names)
  known = {}
  for number = 1, #names do
    known[names[number]] = true
  end
  for number = 1, #rules do
    if not known[rules[number].kind] then
      warn(unknown(rules[number].kind))
    end
  end
  is_open = true
  look()
end

-- Everything is as it was.
local function close()
  is_open, known = false, nil
  for number = #placed, 1, -1 do
    local one = placed[number]
    if field(one.holder, one.key) == one.wrapper then
      set(one.holder, one.key, one.original)
    end
  end
  placed = {}
  for holder, trap in pairs(traps) do
    release(holder, trap)
  end
end

return { event = event, kinds = kinds, open = open, close = close }
