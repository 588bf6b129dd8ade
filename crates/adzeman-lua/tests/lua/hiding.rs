//! Functions that are held in places where nobody would look for them. Whatever holds one, its lines are hit as often as they run,
//! by the count of a twin that runs under the engine's own line hook.

use std::fmt::Write as _;

use mlua::Lua;
use proptest::prelude::*;

use crate::common::{Go, Ran, run};
use crate::versions::{MODES, adapted};

/// Functions of several kinds, and the places that can hold them: each has a way to put one there, and one to call it.
const HEAD: &str = "\
local function plain(x)
  local y = x + 1
  return y
end
local function counting(n)
  return function(x)
    n = n + x
    return n
  end
end
local function repeating(f)
  return function(x)
    for i = 1, 2 do
      x = x + i
    end
    return f(x)
  end
end
local function turning()
  local sum = 0
  while true do
    local got = coroutine.yield(sum)
    sum = sum + got
  end
end
local makers = {
  function() return plain end,
  function() return counting(1) end,
  function() return repeating(counting(2)) end,
  function() return repeating(function(z) return z end) end,
  function() local turn = coroutine.wrap(turning) turn() return turn end,
}
local function in_metatable_of(value)
  return function(f) debug.setmetatable(value, f and { hidden = f }) end,
    function(x) return debug.getmetatable(value).hidden(x) end
end
local put, call = {}, {}
local function place(put_there, call_there) put[#put + 1], call[#call + 1] = put_there, call_there end
place(in_metatable_of(nil))
place(in_metatable_of(true))
place(in_metatable_of(1))
place(in_metatable_of(print))
place(in_metatable_of(coroutine.create(function() end)))
place(function(f) getmetatable('').hidden = f end, function(x) return getmetatable('').hidden(x) end)
place(function(f) debug.getregistry()['a hidden place'] = f end, function(x) return debug.getregistry()['a hidden place'](x) end)
-- Not begun, in what a native function has captured; each is called once.
local wrapped = {}
place(function(f) wrapped[1] = f and coroutine.wrap(function(x) return f(x) end) end, function(x)
  local once = wrapped[1]
  wrapped[1] = coroutine.wrap(function() return 0 end)
  return once(x)
end)
-- A local variable, and one of many arguments, of a coroutine that waits.
local waiting, given = nil, nil
place(function(f)
  waiting = f and coroutine.wrap(function()
    local held, x = f, coroutine.yield()
    f = nil
    while true do x = coroutine.yield(held(x)) end
  end)
  if waiting then waiting() end
end, function(x) return waiting(x) end)
place(function(f)
  given = f and coroutine.wrap(function(...)
    local x = coroutine.yield()
    while true do x = coroutine.yield((select(3, ...))(x)) end
  end)
  if given then given(1, 2, f) end
end, function(x) return given(x) end)
-- The host's own: what holds a function by the binding, in a userdata, in a native function's values.
local box, held, captured
place(function(f) box = f and host_box(f) end, function(x) return host_unbox(box)(x) end)
place(function(f) held = f and host_keep(f) end, function(x) return host_call(held, x) end)
place(function(f) captured = f and host_capture(f) end, function(x) return captured(x) end)
-- Keys, values that live as long as their weak keys, captured variables of others, other environments.
local keys, ephemerons, key = {}, setmetatable({}, { __mode = 'k' }), {}
place(function(f) keys = f and { [f] = true } or {} end, function(x) return (next(keys))(x) end)
place(function(f) ephemerons[key] = f end, function(x) return ephemerons[key](x) end)
local inner
place(function(f) inner = f and (function() return function(x) return f(x) end end)() end, function(x) return inner(x) end)
local box_env
place(function(f) box_env = f and load('return hidden(...)', '=elsewhere', 't', { hidden = f }) end, function(x) return box_env(x) end)
local full = {}
local function ballast(count) for i = 1, count do full[#full + 1] = { i } end end
local sum = 0
local function use(at, x) if full[-at] then sum = sum + (call[at](x) or 0) end end
local function hide(at, kind) put[at](makers[kind]()) full[-at] = true end
";
const PLACES: u8 = 17;
const KINDS: u8 = 5;
/// Lines of each kind of function. On one a loop begins, and on one a coroutine waits.
const LINES: [u32; 6] = [2, 7, 13, 14, 22, 23];

/// What happens, one thing after the other.
#[derive(Debug, Clone)]
enum Step {
    Hide(u8, u8),
    Use(u8),
    Arm(Vec<usize>),
    Collect(bool),
    Point,
    Discover,
    Ballast(u16),
}

fn steps() -> impl Strategy<Value = Vec<Step>> {
    let step = prop_oneof![
        4 => (1..=PLACES, 1..=KINDS).prop_map(|(place, kind)| Step::Hide(place, kind)),
        8 => (1..=PLACES).prop_map(Step::Use),
        3 => proptest::collection::vec(0..LINES.len(), 0..3).prop_map(Step::Arm),
        1 => any::<bool>().prop_map(Step::Collect),
        2 => Just(Step::Point),
        1 => Just(Step::Discover),
        1 => (0..6000_u16).prop_map(Step::Ballast),
    ];
    proptest::collection::vec(step, 20..120)
}

fn script(steps: &[Step], generational: bool) -> String {
    let mut text = HEAD.to_owned();
    let mode = adapted(if generational { MODES[0] } else { MODES[1] });
    writeln!(text, "{mode}").unwrap();
    for (n, step) in steps.iter().enumerate() {
        match step {
            Step::Hide(place, kind) => writeln!(text, "hide({place}, {kind})"),
            Step::Use(place) => writeln!(text, "use({place}, {n})"),
            Step::Arm(which) => {
                let lines: Vec<_> = which.iter().map(|at| LINES[*at].to_string()).collect();
                writeln!(text, "rearm({{{}}})", lines.join(","))
            }
            Step::Collect(whole) => writeln!(text, "collectgarbage('{}')", if *whole { "collect" } else { "step" }),
            Step::Point => writeln!(text, "safe_point()"),
            Step::Discover => writeln!(text, "discover()"),
            Step::Ballast(count) => writeln!(text, "ballast({count})"),
        }
        .unwrap();
    }
    // Metatables of basic types are those of the whole state.
    text.push_str("for at = 1, 5 do put[at](nil) end\ngetmetatable('').hidden = nil\nreturn sum\n");
    text
}

/// What runs of such a script in a state that nobody watches: its outcome, and the lines that its own hook sees while they are
/// armed, in order.
fn twin(script: &str) -> (i64, Vec<u32>) {
    let lua = crate::ffi::lua_with_debug();
    crate::common::offer_hiding_places(&lua);
    let before = "\
armed, hits = {}, {}
function rearm(lines) armed = {} for _, line in ipairs(lines) do armed[line] = true end end
function safe_point() end
function discover() end
local getinfo, sethook, create, resume = debug.getinfo, debug.sethook, coroutine.create, coroutine.resume
local function see(_, line)
  if armed[line] and getinfo(2, 'S').source == '@twin' then hits[#hits + 1] = line end
end
local function pass_on(fine, ...) if not fine then error(..., 0) end return ... end
function coroutine.create(f) local co = create(f) sethook(co, see, 'l') return co end
function coroutine.wrap(f) local co = coroutine.create(f) return function(...) return pass_on(resume(co, ...)) end end
sethook(see, 'l')";
    lua.load(before).exec().unwrap();
    let outcome = lua.load(adapted(script)).set_name("@twin").call::<i64>(()).unwrap();
    (outcome, lua.globals().get("hits").unwrap())
}

fn outcome(ran: &Ran) -> i64 {
    match &ran.outcome {
        Ok(mlua::Value::Integer(sum)) => *sum,
        other => panic!("{other:?}"),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(120))]
    #[test]
    fn wherever_a_function_is_its_lines_are_hit_as_often_as_they_run(steps in steps(), generational in any::<bool>()) {
        let script = script(&steps, generational);
        let (expected, hits) = twin(&script);
        let ran = run(&script, |_, _| Go::Freely);
        prop_assert_eq!(outcome(&ran), expected);
        prop_assert_eq!(&ran.stops, &hits, "{}", &script[HEAD.len()..]);
    }
}

#[test]
fn each_place_with_each_kind_is_armed_when_it_is_hidden_before_and_after() {
    let mut steps = Vec::new();
    for kind in 1..=KINDS {
        for place in 1..=PLACES {
            // Held there, and by nothing else, when it is armed, and disarmed.
            steps.extend([
                Step::Arm(vec![]),
                Step::Hide(place, kind),
                Step::Collect(true),
                Step::Arm((0..LINES.len()).collect()),
            ]);
            steps.extend([Step::Use(place), Step::Point, Step::Hide(place, kind), Step::Use(place), Step::Arm(vec![])]);
            steps.push(Step::Use(place));
        }
    }
    let script = script(&steps, false);
    let (expected, hits) = twin(&script);
    let ran = run(&script, |_, _| Go::Freely);
    assert_eq!(outcome(&ran), expected);
    assert_eq!(ran.stops, hits);
    assert!(hits.len() >= 2 * usize::from(PLACES) * usize::from(KINDS), "{}", hits.len());
    for line in LINES {
        assert!(hits.contains(&line), "{line} never runs");
    }
    let _: Lua = ran.lua;
}

/// A coroutine has the hook of the one that made it, as that was then.
#[test]
fn a_coroutine_that_was_made_while_other_lines_were_armed_is_watched_when_it_goes_on() {
    let steps = [
        Step::Ballast(2847),
        Step::Ballast(4815),
        Step::Arm(vec![0]),
        Step::Hide(7, 5),
        Step::Discover,
        Step::Arm(vec![4]),
        Step::Use(7),
    ];
    let script = script(&steps, false);
    let (expected, hits) = twin(&script);
    let ran = run(&script, |_, _| Go::Freely);
    assert_eq!((outcome(&ran), &ran.stops), (expected, &hits));
    assert_eq!(hits, [22]);
}
