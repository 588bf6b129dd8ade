-- What this analyser calls: the dissectors that scripts give to their protocols.
local adzeman = ...

local function packet(buffer, info)
  return { number = info.number, length = buffer:len() }
end

-- A protocol is given its functions by assigning them.
adzeman.event("packet.dissected", debug.getregistry().Proto, "__newindex", {
  callback = 3,
  when = function(_, key) return key == "dissector" end,
  payload = packet,
})
