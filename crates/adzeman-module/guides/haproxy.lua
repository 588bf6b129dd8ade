-- What this proxy calls: services, actions, and what is computed for its rules. A handler that yields, as by sending an answer, is one
-- event up to there.
local adzeman = ...

local function request(applet)
  return { path = applet.path, method = applet.method }
end

adzeman.event("request.served", "core", "register_service", { callback = 3, payload = request })
adzeman.event("rule.action", "core", "register_action", { callback = 3 })
adzeman.event("rule.fetch", "core", "register_fetches", { callback = 2 })
adzeman.event("rule.converter", "core", "register_converters", { "value", callback = 2 })
adzeman.event("task", "core", "register_task", { callback = 1 })
