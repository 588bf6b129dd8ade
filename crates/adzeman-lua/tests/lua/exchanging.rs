//! Functions whose bodies are exchanged while they live, run, wait and are collected.

use std::fmt::Write as _;

use proptest::prelude::*;

use adzeman_core::engine::Engine;
use adzeman_core::stepping::StepKind;

use crate::common::{Go, Ran, at_line, run, run_hooked, run_stepping_widely, run_with};
use crate::ffi::lua_with_debug;
use crate::versions::{MODES, NO_JOINING, NOT_IN_PLACE, VERSION, adapted, cannot_index, is_refused_before, is_since};

fn ran(script: &str) -> Ran {
    run(script, |_, _| Go::Freely)
}

#[track_caller]
fn text(ran: &Ran) -> String {
    match &ran.outcome {
        Ok(value) => mlua::FromLua::from_lua(value.clone(), &ran.lua).unwrap(),
        Err(error) => panic!("{error}"),
    }
}

#[test]
fn what_needs_the_hook_says_why_and_the_rest_needs_none() {
    let script = "\
local function f(n)
  local sum = 0 --stop
  for i = 1, n do --stop
    sum = math.max(sum + i,
      tonumber('0')) --stop
  end
  if sum < 0 then --stop
    return 0
  elseif sum > 2 then --stop
    sum = sum + 1
  end
  return sum
end
return tostring(f(2))";
    let ran = ran(script);
    assert_eq!(text(&ran), "4");
    let hooked: Vec<_> = ran.hooked.iter().map(|(line, why)| (*line, why.as_str())).collect();
    let expected = [
        (3, "a loop begins on the line, which is reached at each turn"),
        (9, "the line is inside a statement that begins above it"),
    ];
    assert_eq!(hooked, expected);
    assert_eq!(ran.stops, [2, 3, 4, 3, 4, 3, 7, 9], "and all of them stop, line 5 where its statement begins");
}

#[test]
fn a_text_with_declarations_of_globals_is_watched_by_the_hook_which_is_said() {
    // There are such since 5.5.
    if !is_since("5.5") {
        return;
    }
    let script = "\
global tostring
global count = 1
local function f(n)
  count = count + n --stop
  return count
end
f(2)
return tostring(f(3))";
    let ran = ran(script);
    assert_eq!((text(&ran).as_str(), &ran.stops[..]), ("6", &[4, 4][..]));
    assert_eq!(ran.hooked[&4], "the text of the source is not known, or does not parse");
}

#[test]
fn a_function_that_runs_keeps_its_body_and_stops_all_the_same() {
    let script = "\
local log = {}
local function work(again)
  log[#log + 1] = 'a'
  if again then rearm({6}) end
  log[#log + 1] = 'b'
  log[#log + 1] = 'c'
end
work(true)
work(false)
rearm({})
work(false)
return table.concat(log)";
    let ran = ran(script);
    assert_eq!(text(&ran), "abcabcabc");
    assert_eq!(ran.stops, [6, 6], "in the call that was under way, and in the next one");
}

#[test]
fn a_body_that_is_replaced_while_it_runs_reports_nothing_twice() {
    let script = "\
local function work(again)
  if again then rearm({3, 4}) end
  local a = 1 --stop
  local b = 2
end
work(true)
work(false)
return 'done'";
    assert_eq!(ran(script).stops, [3, 4, 3, 4]);
}

#[test]
fn functions_on_one_line_stop_each() {
    let script = "\
local list, sum = {1, 2}, 0
local function each(f) for _, v in ipairs(list) do f(v) end end
each(function(v) sum = sum + v end) --stop
return tostring(sum)";
    let ran = ran(script);
    assert_eq!(text(&ran), "3");
    assert_eq!(ran.stops, [3, 3, 3], "where the function is made and given, and each time it runs");
    assert!(ran.hooked.is_empty());
}

#[test]
fn a_coroutine_that_waits_in_its_old_body_stops_when_it_goes_on() {
    let script = "\
local function body()
  for i = 1, 3 do
    coroutine.yield(i)
    local here = i
  end
end
local co = coroutine.wrap(body)
co()
rearm({4})
co()
local other = coroutine.wrap(body)
other() other()
rearm({})
co() other()
return 'done'";
    let ran = ran(script);
    assert_eq!(text(&ran), "done");
    assert_eq!(ran.stops, [4, 4]);
}

#[test]
fn closures_made_before_and_after_share_and_stop() {
    if is_refused_before("5.2", NO_JOINING) {
        return;
    }
    let script = "\
local function counter()
  local n = 0
  return function()
    n = n + 1
    return n
  end, function() return n end
end
local up, read = counter()
up()
rearm({4})
up()
local up2, read2 = counter()
up2()
rearm({})
up()
return read() .. read2() .. tostring(debug.upvalueid(up, 1) == debug.upvalueid(read, 1))";
    let ran = ran(script);
    assert_eq!(text(&ran), "31true");
    assert_eq!(ran.stops, [4, 4]);
}

#[test]
fn a_function_that_is_returned_to_is_watched_when_returns_are_not_looked_at_any_more() {
    let script = "\
local sum = 0
local function leaf(x) return x end
local function watched()
  rearm({7}) safe_point()
  for i = 1, 10000 do
    local x = leaf(1)
    sum = sum + x
  end
  return sum
end
return tostring(watched())";
    let ran = ran(script);
    assert_eq!((text(&ran).as_str(), ran.stops.len()), ("10000", 10_000));
}

#[test]
fn a_dump_is_of_the_function_as_it_was_loaded() {
    let script = "\
local function f(x)
  local y = x + 1
  return y
end
local before = string.dump(f)
rearm({2, 3})
assert(string.dump(f) == before, 'the same while it is armed')
assert(load(string.dump(f, true))(4) == 5)
local ok, why = pcall(string.dump, print)
rearm({})
return why";
    let ran = ran(script);
    assert_eq!(text(&ran), "unable to dump given function");
    // Before 5.3 a script cannot have names left out.
    let expected: &[u32] = if is_since("5.3") { &[] } else { &[2, 3] };
    assert_eq!(ran.stops, expected, "what is loaded from a dump without names is no function of the source");
}

#[test]
fn what_the_host_writes_out_while_lines_are_armed_runs_elsewhere_and_stops_nowhere() {
    let script = "\
local function f(n)
  local twice = n * 2
  for i = 1, 3 do
    twice = twice + i
    if twice > 100 then return -1, 'far' end
  end
  local inner = function(k)
    return k + twice
  end
  return twice, inner(1)
end
local seen = {}
for _, condition in ipairs({'none', 'n > 3', 'n > 3 or twice == 8', 'n // 0 == 1', '_G.f'}) do
  rearm({2, 4, 5, 8, 10}, condition ~= 'none' and condition or nil)
  for _, strips in ipairs({false, true}) do
    local chunk = host_dump(f, strips)
    rearm({})
    local copy, why = load(chunk, 'copy', 'b')
    if not copy then return why end
    for _, n in ipairs({1, 4, 60}) do
      local a, b = copy(n)
      local c, d = f(n)
      assert(a == c and b == d, condition)
      seen[#seen + 1] = a
    end
    -- Once more, from what was written out of a copy.
    assert(load(string.dump(copy), 'again', 'b')(4) == 14)
    rearm({2, 4, 5, 8, 10}, condition ~= 'none' and condition or nil)
  end
end
rearm({})
return #seen .. ' ' .. table.concat(seen, ' ', 1, 3)";
    let ran = ran(script);
    // They do not take nil for what they cannot write: the docs say so.
    let cannot_be_loaded = match VERSION {
        "5.1" => Some("copy: bad constant in precompiled chunk"),
        "5.5" => Some("copy: bad binary format (invalid constant)"),
        _ => None,
    };
    if let Some(why) = cannot_be_loaded {
        return assert_eq!(text(&ran), why);
    }
    assert_eq!(text(&ran), "30 8 14 -1");
    assert_eq!(ran.stops, [] as [u32; 0]);
}

#[test]
fn arming_ten_thousand_times_leaves_nothing_behind() {
    let script = "\
local function f(x)
  local y = x + 1
  return y
end
local sum = 0
local function round(times)
  for i = 1, times do
    rearm(i % 2 == 0 and {} or {2}, i % 3 == 0 and 'x < 0' or nil)
    if i % 20 == 0 then sum = sum + f(i) end
  end
  collectgarbage() collectgarbage()
  return collectgarbage('count')
end
round(100)
local before = round(100)
local after = round(10000)
return tostring(after - before < 20) .. ' ' .. sum";
    let ran = ran(script);
    assert_eq!(text(&ran), "true 2506110");
}

#[test]
fn a_source_whose_text_is_not_what_runs_is_left_to_the_hook() {
    let script = "\
local f = load('local x = 1\\nlocal function g() return 5 end\\nreturn g', '=stripped', 't')
local g = load(string.dump(f(), true), 'precompiled', 'b')
return tostring(g())";
    assert_eq!(text(&ran(script)), "5");
}

/// Runs a script with a condition on a line; answers the run and the values of `n` at the stops.
fn ran_with_condition(script: &str, line: u32, condition: &str) -> (Ran, Vec<String>) {
    let seen = std::rc::Rc::new(std::cell::RefCell::new(Vec::new()));
    let kept = seen.clone();
    let look = move |engine: &mut dyn Engine, _| {
        kept.borrow_mut().push(engine.evaluate(Some(0), "n").unwrap()[0].preview.clone());
        Go::Freely
    };
    let ran = run_with(script, vec![at_line(line, Some(condition))], look);
    let seen = seen.take();
    (ran, seen)
}

#[test]
fn a_condition_on_what_is_at_hand_is_decided_in_place() {
    let script = "\
local limit, t, at, key = 40, {}, {n = 1, of = {'first'}}, 'n'
t.at = at
local function f(n)
  local twice = n * 2
  return twice + limit, at, key, host_dump
end
for n = 1, 100 do f(n) end
return 'done'";
    let everywhere = [
        ("n == 50", vec!["50"], 1),
        ("n ~= nil and limit == 'forty'", vec![], 0),
        ("not n or n == 99 or n == 100", vec!["99", "100"], 2),
        ("n == 50 and math ~= nil", vec!["50"], 1),
        ("n == 7 and at.of[n] == nil", vec!["7"], 1),
        ("n == 2 and host.lock.gate == 'shut' and not host.lock.shut", vec!["2"], 1),
        ("key == 'm' or at.n ~= 1", vec![], 0),
        ("n == 91 and #at.of == 1 and n < 92", vec!["91"], 1),
    ];
    let with_calculations = [
        ("twice / 2 % 50 == 0 and n < limit + 20", vec!["50"], 1),
        ("n > 98 or not n", vec!["99", "100"], 2),
        // Fields, globals and the host's data are read in place.
        ("n > 90 and host.lock.level > 1 and n < 92", vec!["91"], 1),
        ("math and n == 50", vec!["50"], 1),
        ("event.dt > n / 4 and host.lock.gate == 'shut' and not host.lock.shut", vec!["1"], 1),
        ("at.n == n and at.of[n] == 'first' and at[key] == 1", vec!["1"], 1),
        // The part that needs more is asked only where the rest holds.
        ("n > 90 and #at.of == 1 and n < 92", vec!["91"], 10),
    ];
    let calculates = is_since("5.4");
    for (condition, stops, reached) in
        everywhere.into_iter().chain(with_calculations.into_iter().filter(|_| calculates))
    {
        let (ran, seen) = ran_with_condition(script, 5, condition);
        assert_eq!(text(&ran), "done");
        let wanted: Vec<_> = stops.iter().map(ToString::to_string).collect();
        assert_eq!((seen, ran.reached), (wanted, reached), "{condition}");
        assert!(ran.hooked.is_empty(), "{:?}", ran.hooked);
    }
}

#[test]
fn what_is_no_number_is_left_to_the_condition_itself() {
    if is_refused_before("5.4", NOT_IN_PLACE) {
        return;
    }
    let script = "\
local log = {}
local order = {__lt = function(a, b) log[#log + 1] = 'asked' return true end}
local function f(n)
  local text = tostring(n)
  return text
end
f(1) f('7') f(setmetatable({}, order)) f(-1)
f(nil)
return table.concat(log, ' ')";
    let (ran, seen) = ran_with_condition(script, 4, "n < 0");
    // It fails for the text, which stops and is said once, and is asked of the table.
    assert_eq!(seen.len(), 3, "{seen:?}");
    assert_eq!((seen[0].as_str(), seen[2].as_str()), ("\"7\"", "-1"));
    assert_eq!(text(&ran), "asked");
    assert_eq!(ran.reached, 4, "the number that is not below zero is not reported");
}

#[test]
fn a_step_ends_on_a_line_whose_condition_does_not_hold() {
    let script = "\
local function f(n)
  local one = n --stop
  local two = one
  local three = two
  return three
end
for n = 1, 3 do f(n) end
return 'done'";
    for condition in ["n == 99", "n == 1", "n < 9", "two == nil"] {
        let over = |_: &mut dyn Engine, line| if line < 4 { Go::Step(StepKind::Over) } else { Go::Freely };
        let ran = run_with(script, vec![at_line(3, Some(condition))], over);
        assert_eq!(ran.stops, [2, 3, 4, 2, 3, 4, 2, 3, 4], "{condition}");
        // Once the step is over, what is told of the line is told once.
        let once = |_: &mut dyn Engine, line| if line == 2 { Go::Step(StepKind::Over) } else { Go::Freely };
        let ran = run_with(script, vec![at_line(3, Some(condition))], once);
        assert_eq!(ran.stops, [2, 3, 2, 3, 2, 3], "{condition}");
    }
    // Lines are not watched any longer than it takes.
    let first = |engine: &mut dyn Engine, line| {
        let n = engine.evaluate(Some(0), "n").unwrap()[0].preview.clone();
        if line == 2 && n == "1" { Go::Step(StepKind::Over) } else { Go::Freely }
    };
    let ran = run_with(script, vec![at_line(3, Some("n == 3"))], first);
    assert_eq!((ran.stops, ran.reached), (vec![2, 3, 2, 2, 3], 5));
}

#[test]
fn two_conditions_on_a_line_are_both_asked() {
    let script = "local function f(n)\n  return n\nend\nfor n = 1, 20 do f(n) end\nreturn 'done'";
    let breaks = |conditions: &[Option<&str>]| conditions.iter().map(|held| at_line(2, *held)).collect::<Vec<_>>();
    let both = run_with(script, breaks(&[Some("n == 3"), Some("n == 5")]), |_, _| Go::Freely);
    assert_eq!((both.stops.len(), both.reached), (2, 2));
    let one = run_with(script, breaks(&[Some("n == 3"), None]), |_, _| Go::Freely);
    assert_eq!((one.stops.len(), one.reached), (20, 20));
}

#[test]
fn a_filter_shows_in_no_error_and_no_dump() {
    let script = "\
local function f(n)
  local here = n
  return here.field.more
end
local before = string.dump(f)
rearm({2, 3}, 'n == 0 or n % 3 > 1')
assert(string.dump(f) == before, 'the same while it is armed')
return select(2, pcall(f, 7))";
    assert_eq!(text(&ran(script)), format!("test.lua:3: {}", cannot_index("number", "local 'here'")));
}

#[test]
fn hooks_of_the_script_itself_see_what_they_always_saw() {
    let script = "\
local log = {}
local function f(n)
  local twice = n * 2
  return twice
end
local function hook(event, line)
  local info = debug.getinfo(2, 'Sl')
  log[#log + 1] = event .. (line or '') .. info.what .. info.currentline
end
rearm({3, 4, 13, 14})
for _, mask in ipairs({'l', 'c', 'r', 'crl'}) do
  debug.sethook(hook, mask)
  local sum = f(3) + math.abs(f(-3))
  sum = select('#', pcall(f, 'x')) + sum
  local own, kept = debug.gethook()
  debug.sethook()
  log[#log + 1] = tostring(own == hook) .. kept .. tostring(debug.gethook())
end
local co = coroutine.create(function() return f(4) end)
debug.sethook(co, hook, 'c')
coroutine.resume(co)
log[#log + 1] = tostring(debug.gethook(co) == hook)
return table.concat(log, ' ')";
    let lua = lua_with_debug();
    lua.globals().set("rearm", lua.create_function(|_, _: mlua::MultiValue| Ok(())).unwrap()).unwrap();
    let expected: String = lua.load(script).set_name("@test.lua").call(()).unwrap();
    assert_eq!(text(&ran(script)), expected);
}

/// A statement of a random program, by its number; each writes what it saw.
fn statement(choice: u8, at: usize, functions: usize) -> String {
    let callee = (at + usize::from(choice)) % functions;
    match choice % 17 {
        0 => "x = x * 3 % 1009".to_owned(),
        1 => "local y = x + 1; x = y; note(y)".to_owned(),
        2 => format!("if depth < 4 then x = x + (f[{}](depth + 1) or 0) end", callee + 1),
        3 => "note((pcall(function() error('at ' .. x) end)))".to_owned(),
        4 => "for i = 1, 3 do x = x + i end".to_owned(),
        5 => "local co = coroutine.wrap(function(a)\n  local b = coroutine.yield(a + 1)\n  x = x + b\n  return b\nend)\n  note(co(1)) note(co(2))".to_owned(),
        6 => "t[#t + 1] = function(z) x = x + z return x end".to_owned(),
        7 => "if #t > 0 then note(t[#t](2)) end".to_owned(),
        8 => "collectgarbage('step')".to_owned(),
        9 => "table.sort(t2, function(a, b)\n    return a > b\n  end)".to_owned(),
        10 => "do local c <close> = setmetatable({}, {__close = function() x = x + 1 end})\n  x = x - 1 end".to_owned(),
        11 if !is_since("5.2") => "if x % 2 ~= 0 then\n  x = x + 7 end".to_owned(),
        11 => "if x % 2 == 0 then goto skip end\n  x = x + 7\n  ::skip::".to_owned(),
        13 => format!("note(select(2, pcall(function() if depth < 3 then return f[{}](depth + 1) end error('deep') end)))", callee + 1),
        14 => "local function inner(n)\n  if n == 0 then coroutine.yield(x) return 1 end\n  local found = inner(n - 1)\n  return found + 1\n  end\n  local co = coroutine.create(inner)\n  coroutine.resume(co, 2)\n  note(coroutine.status(co))\n  if x % 2 == 0 then note(select(2, coroutine.resume(co))) end".to_owned(),
        15 => "local function fails(n)\n  if n == 0 then error('at the bottom', 0) end\n  local y = fails(n - 1)\n  return y\n  end\n  note(select(2, pcall(fails, 2)))\n  note(select(2, xpcall(function() fails(1) end, function(e) return e .. '!' end)))".to_owned(),
        12 => "note(select('#', (function(...) return ... end)(x, nil, depth)))".to_owned(),
        _ => "local ok, why = pcall(function() local n; return n.x end)\n  note(why)".to_owned(),
    }
}

/// A program of functions that call each other, arm and disarm lines as they run, and say what they saw.
fn program(bodies: &[Vec<u8>], arms: &[Vec<u32>], condition: &str, generational: bool) -> String {
    let mode = if generational { MODES[0] } else { MODES[1] };
    let mut text = format!("{mode}\nlocal log, f, t, t2, armed, x = {{}}, {{}}, {{}}, {{3, 1, 2}}, 0, 1\n");
    text.push_str("local function note(v) log[#log + 1] = tostring(v) end\nlocal arms = {");
    arms.iter().for_each(|lines| {
        write!(text, "{{{}}},", lines.iter().map(ToString::to_string).collect::<Vec<_>>().join(",")).unwrap();
    });
    text.push_str("}\nlocal function change()\n  armed = armed + 1\n");
    writeln!(text, "  local condition = armed % 3 > 0 and {condition:?} or nil").unwrap();
    text.push_str("  if #arms > 0 then rearm(arms[armed % #arms + 1], condition) end\nend\n");
    for (number, body) in bodies.iter().enumerate() {
        writeln!(text, "f[{}] = function(depth)", number + 1).unwrap();
        for (at, choice) in body.iter().enumerate() {
            // Each statement in a block of its own, so that labels and locals do not meet.
            writeln!(text, "  do {} end", statement(*choice, at + number, bodies.len())).unwrap();
            if choice % 3 == 0 {
                text.push_str("  change()\n");
            }
        }
        text.push_str("  return x % 13\nend\n");
    }
    text.push_str("for round = 1, 4 do f[1](1) change() end\nchange()\nreturn table.concat(log, ' ') .. ' ' .. x");
    text
}

/// Of local variables, captured ones, and names that are none, or not everywhere. Something of each is decided in place, so that bodies are
/// made anew when it is armed and when it is not, as with the form that is never decided so.
const CONDITIONS: &[&str] = &[
    "x % 2 == 0",
    "x > 20 and depth < 3",
    "depth == 2 or x // 3 == y",
    "not (x * 2 <= 100)",
    "y == nil",
    "x == 1 or depth == 2",
    "depth ~= 1 and t[1]",
    "t2 ~= x and depth",
    "t[1] == nil or x > 500",
    "armed % 2 == 1 and t2[2] == 1",
    "not t[x] and print ~= nil",
    "host.lock.level > x",
];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn random_programs_do_not_notice(
        bodies in proptest::collection::vec(proptest::collection::vec(0..17_u8, 1..7), 1..5),
        arms in proptest::collection::vec(proptest::collection::vec(1..70_u32, 0..6), 1..5),
        condition in proptest::sample::select(CONDITIONS),
        generational in any::<bool>(),
        steps in any::<bool>(),
    ) {
        // Before 5.4 nothing of some is decided in place.
        let condition = if is_since("5.4") { condition.to_owned() } else { format!("x ~= 'none' and ({condition})") };
        let script = adapted(&program(&bodies, &arms, &condition, generational));
        let lua = lua_with_debug();
        lua.globals().set("rearm", lua.create_function(|_, _: mlua::MultiValue| Ok(())).unwrap()).unwrap();
        let expected: String = lua.load(&script).set_name("@test.lua").call(()).unwrap();
        let go = move |_: &mut dyn Engine, line| if steps && line % 3 == 0 { Go::Step(StepKind::Into) } else { Go::Freely };
        let in_place = run(&script, go);
        prop_assert_eq!(text(&in_place), expected.clone(), "{}", script);
        // The same condition in a form that is never decided in place stops at the same lines.
        let apart = run(&program(&bodies, &arms, &format!("_VERSION.x == nil and ({condition})"), generational), go);
        prop_assert_eq!(&in_place.stops, &apart.stops, "{}", script);
        prop_assert!(in_place.reached <= apart.reached);
        // And so does the line hook, which comes to the first line of a statement of several lines once more at its end.
        let hooked = run_hooked(&script, go);
        prop_assert_eq!(text(&hooked), expected, "{}", script);
        if !steps {
            let mut left = hooked.stops.iter();
            let all_found = in_place.stops.iter().all(|stop| left.any(|other| other == stop));
            prop_assert!(all_found, "{:?} and {:?} in {}", in_place.stops, hooked.stops, script);
            prop_assert!(hooked.stops.iter().all(|stop| in_place.stops.contains(stop)), "{:?} in {}", hooked.stops, script);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]
    #[test]
    fn a_step_ends_where_it_would_if_every_line_were_watched(
        bodies in proptest::collection::vec(proptest::collection::vec(0..17_u8, 1..7), 1..5),
        arms in proptest::collection::vec(proptest::collection::vec(1..70_u32, 0..4), 1..4),
        kinds in proptest::collection::vec(0..4_u8, 1..6),
    ) {
        let script = program(&bodies, &arms, "x % 2 == 0", false);
        let trace = || {
            let (seen, kinds) = (std::rc::Rc::new(std::cell::RefCell::new(Vec::new())), kinds.clone());
            let kept = seen.clone();
            let go = move |engine: &mut dyn Engine, line| {
                let returned = engine.returned().map(|values| values.into_iter().map(|value| value.preview).collect::<Vec<_>>());
                kept.borrow_mut().push((line, returned));
                match kinds[kept.borrow().len() % kinds.len()] {
                    0 => Go::Freely,
                    1 => Go::Step(StepKind::Into),
                    2 => Go::Step(StepKind::Over),
                    _ => Go::Step(StepKind::Out),
                }
            };
            (go, seen)
        };
        let ((go, narrowly), (go_widely, widely)) = (trace(), trace());
        let ran = run(&script, go);
        let expected = run_stepping_widely(&script, go_widely);
        prop_assert_eq!(text(&ran), text(&expected), "{}", script);
        prop_assert_eq!(narrowly.take(), widely.take(), "{}", script);
        prop_assert!(ran.reached <= expected.reached);
    }
}

/// In a state of this size a walk takes several slices. Between two of them coroutines begin that nobody has met yet, and wait in
/// the function that is being armed, which others go on with.
#[test]
fn what_begins_while_arming_goes_on_is_hit_as_often_as_it_runs() {
    let script = "\
local function body()
  local sum = 0
  for i = 1, 4 do
    sum = sum + i
    coroutine.yield(sum)
  end
end
heap = {}
for i = 1, 60000 do heap[i] = { i } end
local made, sum = {}, 0
local function go_on(from)
  for i = from, #made, 7 do
    local co = made[i]
    if co.left > 0 then
      co.left = co.left - 1
      sum = sum + co.next()
    end
  end
end
for round = 1, 6 do
  rearm(round % 2 == 1 and {4} or {})
  for turn = 1, 12 do
    made[#made + 1] = { next = coroutine.wrap(body), left = 4 }
    go_on(turn % 7 + 1)
    if turn % 5 == 0 then discover() end
    safe_point()
  end
end
rearm({})
for i = 1, 7 do for j = 1, 4 do go_on(i) end end
return sum";
    let ran = ran(script);
    assert_eq!(text(&ran), (72 * (1 + 3 + 6 + 10)).to_string());
    let hits = hits_of_a_twin(script);
    assert!(hits > 50, "{hits}");
    assert_eq!(ran.stops.len(), hits);
}

/// How often the engine's own line hook sees line 4 in such a script while it is armed, in a state that nobody watches.
fn hits_of_a_twin(script: &str) -> usize {
    let lua = crate::ffi::lua_with_debug();
    let before = "\
armed, hits = false, 0
function rearm(lines) armed = #lines > 0 end
function safe_point() end
function discover() end
local function see(_, line) if armed and line == 4 and debug.getinfo(2, 'S').source == '@twin' then hits = hits + 1 end end
local create = coroutine.create
function coroutine.wrap(f)
  local co = create(f)
  debug.sethook(co, see, 'l')
  return function() return select(2, coroutine.resume(co)) end
end";
    lua.load(before).exec().unwrap();
    lua.load(script).set_name("@twin").exec().unwrap();
    lua.globals().get("hits").unwrap()
}
