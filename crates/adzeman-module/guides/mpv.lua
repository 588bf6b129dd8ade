-- What this player calls: whatever a script has registered.
local adzeman = ...

adzeman.event("player.event", "mp", "register_event", { callback = 2, undo = "unregister_event" })
adzeman.event("property.changed", "mp", "observe_property", {
  "name", "value", callback = 3, undo = "unobserve_property", subject = "name",
})
adzeman.event("timer.due", "mp", "add_timeout", { callback = 2 })
adzeman.event("timer.due", "mp", "add_periodic_timer", { callback = 2 })
adzeman.event("key.pressed", "mp", "add_key_binding", { callback = 3 })
