//! How many values there are, and what holds one: compared with a walk that the script makes by itself, on heaps made at random.

use std::time::Duration;

use adzeman_core::engine::Engine;
use adzeman_core::evaluation::{Cancel, Limits};
use adzeman_core::heap::{Census, CensusLine, Counting, Holders, Root};

use crate::common::at_stop;
use crate::versions::{VERSION, is_since};

fn census(engine: &mut dyn Engine) -> Census {
    engine.census(Counting::Standing, &mut |_| true).unwrap().expect("nobody ends it")
}

fn holders(engine: &mut dyn Engine, text: &str) -> Holders {
    engine.holders(None, text, 1000, &mut |_| true).unwrap().expect("nobody ends it")
}

/// How many of a group there are.
fn count(census: &Census, kind: &str, group: &str) -> u64 {
    let lines = census.lines.iter().filter(|line| line.kind == kind && line.group == group);
    lines.map(|line| line.count).sum()
}

fn paths(holders: &Holders) -> Vec<String> {
    holders
        .holders
        .iter()
        .map(|holder| format!("{}{}", if holder.weak { "weak: " } else { "" }, holder.path()))
        .collect()
}

/// Makes a heap at random: tables, functions that capture them, coroutines that hold them, metatables, weak tables, and things that
/// nothing leads to. `walk` goes through it as any script could.
const RANDOM: &str = "\
math.randomseed(SEED)
local random = math.random
world = {}
function make()
  local all = {}
  for i = 1, 400 do
    local kind = random(6)
    local one = { id = i }
    if kind == 1 then
      local held, other
      one = { id = i, call = function() return held, other end, bind = function(a, b) held, other = a, b end }
    elseif kind == 2 then
      one = { id = i, wait = coroutine.create(function(a, b) local c, d = a, b coroutine.yield() return c, d end) }
    elseif kind == 3 then
      one = setmetatable({ id = i }, { __mode = ({ 'k', 'v', 'kv' })[random(3)] })
    end
    all[i] = one
  end
  for i = 1, 900 do
    local from, to = all[random(400)], all[random(400)]
    local how = random(5)
    if how == 1 and from.bind then from.bind(to, all[random(400)])
    elseif how == 2 and from.wait and coroutine.status(from.wait) == 'suspended' and not from.begun then
      coroutine.resume(from.wait, to, all[random(400)])
      from.begun = true
    elseif how == 3 and not getmetatable(from) then setmetatable(from, { owner = to })
    elseif how == 4 then from[to] = random(2) == 1 and true or all[random(400)]
    else from['f' .. random(30)] = to end
  end
  for i = 1, 25 do world['w' .. i] = all[random(400)] end
end
make()
-- By numbers: what was reached, from how far, and what holds each.
function walk(target)
  local seen, far, queue, late, holds = { [world] = true }, { [world] = 0 }, { world }, {}, 0
  local function meet(value, from)
    local kind = type(value)
    if kind ~= 'table' and kind ~= 'function' and kind ~= 'thread' then return end
    if value == target then
      holds = holds + 1
      far[target] = far[target] or far[from] + 1
      return
    end
    if seen[value] or value == _G then return end
    seen[value], far[value] = true, far[from] + 1
    queue[#queue + 1] = value
  end
  local at = 1
  while true do
    while queue[at] do
      local value = queue[at]
      at = at + 1
      if type(value) == 'table' then
        local meta = getmetatable(value)
        local mode = meta and rawget(meta, '__mode') or ''
        if meta then meet(meta, value) end
        for k, v in next, value do
          if not mode:find('k') then meet(k, value) end
          if not mode:find('v') then
            if mode:find('k') and type(k) == 'table' then late[#late + 1] = { k, v, value } else meet(v, value) end
          end
        end
      elseif type(value) == 'function' then
        for i = 1, 250 do
          local name, held = debug.getupvalue(value, i)
          if not name then break end
          meet(held, value)
        end
      else
        for level = 0, 9 do
          local info = debug.getinfo(value, level, 'f')
          if not info then break end
          meet(info.func, value)
          for i = 1, 250 do
            local name, held = debug.getlocal(value, level, i)
            if not name then break end
            meet(held, value)
          end
        end
        if coroutine.status(value) == 'suspended' and not debug.getinfo(value, 0) then meet(body, value) end
      end
    end
    local rest, more = {}, false
    for _, one in ipairs(late) do
      if seen[one[1]] then more = true meet(one[2], one[3]) else rest[#rest + 1] = one end
    end
    late = rest
    if not more then break end
  end
  local tables, threads = 0, 0
  for value in pairs(seen) do
    if type(value) == 'table' then tables = tables + 1 end
    if type(value) == 'thread' then threads = threads + 1 end
  end
  return tables, threads, holds, far[target] or 0
end
collectgarbage('stop')
function stop()
  return 1 --stop
end
stop()
";

#[test]
fn what_is_counted_and_what_holds_a_value_is_what_a_walk_of_the_script_finds() {
    for seed in 0..5 {
        let script = RANDOM.replace("SEED", &seed.to_string());
        at_stop(&script, move |engine| {
            // What walks through a heap by the script's own means takes its time on a slow machine.
            let patient = Limits { asked: Duration::from_secs(300), ..Limits::default() };
            engine.allow(Some(patient.for_asked(Cancel::default())));
            let number = |engine: &mut dyn Engine, text: &str| -> Vec<u64> {
                let values = engine.evaluate(None, text).unwrap();
                values.iter().map(|value| value.preview.parse().unwrap()).collect()
            };
            let found = number(engine, "walk()");
            let before = census(engine);
            for which in 1..=12 {
                let target = format!("world.w{which}");
                let told = holders(engine, &target);
                let walked = number(engine, &format!("walk({target})"));
                let strong = told.holders.iter().filter(|holder| !holder.weak).count() as u64;
                assert_eq!(strong, walked[2], "seed {seed}, {target}: {:#?}", paths(&told));
                // One step more than from `world`, which is a step itself.
                let shortest = &told.holders[0];
                assert_eq!(shortest.steps.len() as u64, walked[3] + 1, "seed {seed}, {target}: {:#?}", paths(&told));
                for holder in told.holders.iter().filter(|holder| !holder.weak) {
                    let path = holder.path();
                    if !path.contains('›') && !path.contains("[table") {
                        let same = engine.evaluate(None, &format!("rawequal({path}, {target})")).unwrap();
                        assert_eq!(same[0].preview, "true", "seed {seed}: {path}");
                    }
                }
            }
            // All that is reached from there, and from nowhere else.
            engine.evaluate(None, "rawset(_G, 'world', nil)").unwrap();
            let without = census(engine);
            let of_kind = |census: &Census, kind: &str| -> u64 {
                census.lines.iter().filter(|line| line.kind == kind).map(|line| line.count).sum()
            };
            let gone = ["table", "coroutine"].map(|kind| of_kind(&before, kind) - of_kind(&without, kind));
            assert_eq!(gone, [found[0], found[1]], "seed {seed}");
        });
    }
}

const BOATS: &str = "\
Boat = {}
Boat.__index = Boat
function Boat.new(name) return setmetatable({ name = name, length = 20 }, Boat) end
local Gate = {}
function Gate.open() end
gates = {}
for i = 1, 5 do gates[i] = setmetatable({}, { __index = Gate }) end
boats, listeners, cache = {}, {}, setmetatable({}, { __mode = 'v' })
for i = 1, 30 do boats[i] = Boat.new('boat ' .. i) end
many = {} for i = 1, 5000 do many[i] = { at = i } end lists = { { 1, 2 }, { 3, 4 }, { 'a' } }
loop = { name = 'loop' }
loop.me = { back = loop }
weak = { name = 'weak' }
cache[1] = weak
long = string.rep('x', 1000)
local function on(what, call) listeners[what] = call end
do
  local heron = boats[7]
  on('arrive', function() return heron.name end)
end
waits = coroutine.create(function(boat) coroutine.yield(boat.name) end)
coroutine.resume(waits, boats[7])
local under = boats[8]
local number, text = 12, 'a text'
local function deep(boat, ...)
  return boat.name, number, text, under --stop
end
deep(boats[7], boats[8])
";

#[test]
fn values_are_counted_by_what_they_have_in_common() {
    at_stop(BOATS, |engine| {
        let standing = census(engine);
        let text = |census: &Census| format!("{census:#?}");
        for (kind, group, number) in [
            ("table", "Boat", 30),
            ("table", "with the methods of test.lua:5", 5),
            ("table", "list of numbers", 2),
            ("table", "list of texts", 1),
            ("table", "global loop", 1),
            ("coroutine", "that begins in test.lua:21", 1),
            ("function", "test.lua:19", 1),
            ("text", "longer than 40 bytes", 1),
        ] {
            assert!(count(&standing, kind, group) >= number, "{kind} {group}: {}", text(&standing));
        }
        assert_eq!(count(&standing, "table", "Boat"), 30);
        let boats = standing.lines.iter().find(|line| line.group == "Boat").unwrap();
        // A table with two nodes.
        let (table, node) = match VERSION {
            "5.1" => (64, 40),
            "5.2" => (56, 40),
            "5.3" => (56, 32),
            "5.4" => (56, 24),
            _ => (48, 24),
        };
        assert_eq!((boats.bytes, boats.measured), (30 * (table + 2 * node), true), "{}", text(&standing));
        let defined = standing.lines.iter().find(|line| line.group == "test.lua:19").unwrap().defined.clone().unwrap();
        assert_eq!(defined.text.as_deref(), Some("on('arrive', function() return heron.name end)"));
        assert!(standing.engine_bytes > standing.bytes && !standing.running && standing.own_bytes > 0);
        // A part at a time it is the same where nothing was left to be collected.
        let may_collect = engine.evaluate(None, "collectgarbage()");
        assert_eq!(
            may_collect.is_ok(),
            is_since("5.4"),
            "an evaluation collects where its finalizers can be held back"
        );
        let (mut parts, mut how) = (0, Counting::Begin);
        let running = loop {
            parts += 1;
            match engine.census(how, &mut |_| false).unwrap() {
                Some(census) => break census,
                None => how = Counting::GoOn,
            }
        };
        assert!(parts > 1 && running.running, "{parts}");
        let counted = |line: &&CensusLine| line.kind == "table" || line.kind == "coroutine";
        for line in standing.lines.iter().filter(|line| may_collect.is_ok() && counted(line)) {
            if ["Boat", "test.lua", "numbers", "{at}"].iter().any(|part| line.group.contains(part)) {
                let now = count(&running, &line.kind, &line.group);
                assert_eq!(now, line.count, "{}: {}", line.group, text(&running));
            }
        }
        // Thirty more.
        engine.evaluate(None, "rawset(_G, 'more', (function() local m = {} for i = 1, 30 do m[i] = Boat.new('x') end return m end)())").unwrap();
        let grown = census(engine).since(&standing);
        assert_eq!((grown[0].now.group.as_str(), grown[0].more), ("Boat", 30), "{grown:#?}");
        assert_eq!(engine.census(Counting::Standing, &mut |_| false).unwrap(), None);
        assert_eq!(engine.holders(None, "boats", 9, &mut |_| false).unwrap(), None);
    });
}

#[test]
fn paths_to_a_value_are_told_in_words() {
    at_stop(BOATS, |engine| {
        let told =
            |engine: &mut dyn Engine, text: &str| engine.holders(Some(0), text, 1000, &mut |_| true).unwrap().unwrap();
        let heron = told(engine, "boats[7]");
        assert_eq!(paths(&heron), ["boat", "boats[7]", "waits › boat", "listeners.arrive › captured heron",]);
        assert_eq!(heron.told(), "4 values hold it");
        assert_eq!(heron.holders[0].remark.as_deref(), Some("a variable of deep"));
        let made = heron.holders[3].made().unwrap();
        assert_eq!((made.line, made.text.as_deref()), (19, Some("on('arrive', function() return heron.name end)")));
        let eighth = paths(&told(engine, "boats[8]"));
        assert!(eighth.contains(&"(an extra argument)".to_owned()), "{eighth:?}");
        assert!(eighth.contains(&"under".to_owned()), "{eighth:?}");
        assert!(eighth.contains(&"running deep › captured under".to_owned()), "{eighth:?}");
        assert_eq!(paths(&told(engine, "weak")), ["weak", "weak: cache[1]"]);
        // Only held by what it holds itself, once its name is gone.
        let alone = told(engine, "(function() local held = loop rawset(_G, 'loop', nil) return held end)()");
        assert_eq!((paths(&alone), alone.holders[0].root), (vec!["(itself).me.back".to_owned()], Root::Itself));
        assert!(alone.told().starts_with("only values that it holds itself"), "{}", alone.told());
        assert_eq!(told(engine, "{}").told(), "nothing holds it: the next collection takes it");
        for (text, why) in
            [("12", "copied"), ("'x'", "a text"), ("nil", "nothing at all"), ("print", "always there"), ("1 +", "")]
        {
            let error = engine.holders(Some(0), text, 9, &mut |_| true).unwrap_err().to_string();
            assert!(error.contains(why), "{text}: {error}");
        }
    });
}

#[test]
fn what_only_the_host_keeps_is_said_to_be_its() {
    let script = "function held() return 1 end\nlocal kept = held\nhost_keep(held)\nweak = setmetatable({ [held] = true }, { __mode = 'k' })\nheld = nil\nkept = nil\nlocal box = host_box(function() return 2 end)\nlocal x = 1 --stop\nreturn x, box";
    at_stop(script, |engine| {
        let told =
            |engine: &mut dyn Engine, text: &str| engine.holders(Some(0), text, 9, &mut |_| true).unwrap().unwrap();
        let boxed = told(engine, "host_unbox(box)");
        assert_eq!(paths(&boxed)[0], "box › attached by the host[1]");
        let kept = told(engine, "next(weak)");
        assert_eq!(paths(&kept), ["(the host)", "weak: weak › key"], "{kept:#?}");
        assert!(kept.told().starts_with("only the host holds it"), "{}", kept.told());
        // A function of the host that captures something is a value like others; its own captures have no names.
        assert_eq!(paths(&told(engine, "host_keep"))[0], "host_keep");
        let census = census(engine);
        assert_eq!(count(&census, "function", "test.lua:1"), 1);
    });
}
