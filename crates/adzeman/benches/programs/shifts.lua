-- A day's work, dealt out by objects with methods: inheritance by metatables, queues, one call after the other.
--: local packet == 1
--: captured longest < 0
--: field self.name == "nobody"
--: nested self.work.kind == "nothing"
--: global overtime == true
--: call is_idle(packet)
--: watch local rounds
--: watch captured longest
--: watch global overtime
--: watch field plan.name
--: written spare.left
local longest = 100
overtime = false
plan = { name = "monday" }
spare = { left = 1 }

function is_idle(packet)
  return packet == 1
end

local Task = {}
Task.__index = Task

local function task(name, kind)
  return setmetatable({ name = name, left = 0, work = { kind = kind }, queue = {} }, Task)
end

function Task:give(packet)
  self.queue[#self.queue + 1] = packet
end

function Task:take()
  return table.remove(self.queue, 1)
end

function Task:run(packet)
  self.left = self.left + packet.size -- @hot
  if self.left < 0 then
    self.left = 0 -- @never
  end
  if self.left > longest then
    self.left = self.left - longest
  end
  return packet
end

local Keeper = setmetatable({}, { __index = Task })
Keeper.__index = Keeper

local function keeper(name)
  return setmetatable(task(name, "gate"), Keeper)
end

function Keeper:run(packet)
  packet.seen = packet.seen + 1
  return Task.run(self, packet)
end

local function day()
  local tasks = { task("paint", "brush"), keeper("upper"), keeper("lower"), task("sweep", "broom") }
  for number = 1, 8 do
    tasks[1]:give({ size = number, seen = 0 })
  end
  local done = 0
  for turn = 1, 12 do
    for at, one in ipairs(tasks) do
      local packet = one:take()
      while packet do
        one:run(packet)
        done = done + 1
        local other = tasks[at + 1]
        if other then
          other:give(packet)
        elseif turn < 12 then
          tasks[1]:give(packet)
          break
        end
        packet = one:take()
      end
    end
  end
  return done
end

function run(rounds)
  local done = 0 -- @stop
  for _ = 1, rounds * 10 do
    done = done + day()
  end
  return done, longest
end
