//! What a condition that is decided in place comes to, against what the script's own `if` does: of values of every type, with and
//! without metatables.

use std::cell::Cell;
use std::rc::Rc;

use proptest::prelude::*;

use adzeman_core::breakpoint::BreakpointSpec;
use adzeman_core::engine::Engine;
use adzeman_core::stepping::StepKind;

use crate::common::{Go, Ran, at_line, run_watching, run_with};
use crate::ffi::lua_with_debug;
use crate::versions::{NO_JOINING, NOT_ALL_OPERATORS, is_refused_before};

/// Values that a script may have in a variable. Each metamethod says that it was asked.
const VALUES: [&str; 25] = [
    "nil",
    "true",
    "false",
    "0",
    "1",
    "-1.5",
    "3",
    "2^53",
    "0/0",
    "math.mininteger",
    "''",
    "'1'",
    "'up'",
    "{}",
    "{x = 1}",
    "{x = 'up', y = false}",
    "{x = {y = 3, x = 'up'}, 5, 7}",
    "{x = {}, y = {x = 0/0}}",
    "meta({}, '__index')",
    "meta({x = 1, y = 'up'}, '__index')",
    "setmetatable({}, {__index = {x = 5, y = {x = 1}}})",
    "meta({x = meta({}, '__index')}, '__eq', '__lt', '__le', '__add', '__sub', '__mul', '__div', '__idiv', '__mod')",
    "print",
    "coroutine.create(print)",
    "io.stdout",
];

/// What conditions speak of: parameters, a captured variable, a global, fields of them, an index that is another value.
fn operand() -> impl Strategy<Value = String> {
    let name = prop::sample::select(vec!["v", "w", "kept", "late", "shared", "missing"]);
    let path = (
        name.clone(),
        prop::collection::vec(prop::sample::select(vec![".x", ".y", "[1]", "[v]", "[shared]", "[w.x]"]), 0..3),
    );
    let constant =
        prop::sample::select(vec!["0", "1", "-1.5", "3", "'up'", "''", "nil", "true", "false", "\"1\"", "5"]);
    let path = path.prop_map(|(name, steps)| format!("{name}{}", steps.concat()));
    let sum = (path.clone(), prop::sample::select(vec!["+", "-", "*", "/", "%", "//"]), constant.clone())
        .prop_map(|(path, sign, constant)| format!("{path} {sign} {constant}"));
    prop_oneof![4 => path, 2 => constant.prop_map(str::to_owned), 1 => sum]
}

fn condition() -> impl Strategy<Value = String> {
    let sign = prop::sample::select(vec!["==", "~=", "<", "<=", ">", ">="]);
    let leaf = prop_oneof![
        1 => operand().prop_map(|operand| format!("({operand})")),
        3 => (operand(), sign, operand()).prop_map(|(one, sign, other)| format!("{one} {sign} {other}")),
    ];
    leaf.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            inner.clone().prop_map(|inner| format!("not ({inner})")),
            prop::collection::vec(inner.clone(), 2..4).prop_map(|all| format!("({})", all.join(" and "))),
            prop::collection::vec(inner, 2..4).prop_map(|any| format!("({})", any.join(" or "))),
        ]
    })
}

/// Calls a function with one value after the other, and says how often a metamethod was asked. With `twin`, the function asks the
/// condition itself: it counts the times that it holds, and that it fails.
fn script(condition: &str, values: &[&str], twin: bool) -> String {
    let asks = if twin {
        format!("local ok, held = pcall(function() return ({condition}) end) tell(ok, held)")
    } else {
        String::new()
    };
    let values = values.iter().map(|value| format!("function() return {value} end")).collect::<Vec<_>>().join(", ");
    format!(
        "\
local asked = 0
local function meta(held, ...)
  local methods = {{}}
  for _, name in ipairs({{...}}) do methods[name] = function() asked = asked + 1 return name ~= '__index' and 1 or nil end end
  return setmetatable(held, methods)
end
shared = {{x = 2, y = {{x = 'up'}}, [3] = 1}}
local kept, late = 1, {{x = 1}}
local function f(v, w)
  {asks}
  local here = v
  return here, late, kept, shared
end
local values = {{{values}}}
for one = 1, #values do
  for other = 1, #values, 2 do
    f(values[one](), values[other]())
  end
end
return tostring(asked)"
    )
}

/// The line of that script at which the condition is asked.
const LINE: u32 = 12;

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]
    #[test]
    fn a_condition_in_place_is_true_where_the_script_s_own_is(
        condition in condition(),
        values in prop::collection::vec(prop::sample::select(VALUES.to_vec()), 2..7),
    ) {
        if is_refused_before("5.3", NOT_ALL_OPERATORS) {
            return Ok(());
        }
        let (holds, fails) = (Rc::new(Cell::new(0)), Rc::new(Cell::new(0)));
        let lua = lua_with_debug();
        let (held, failed) = (holds.clone(), fails.clone());
        let tell = lua.create_function(move |_, (ok, value): (bool, mlua::Value)| {
            let is_true = !matches!(value, mlua::Value::Nil | mlua::Value::Boolean(false));
            held.set(held.get() + usize::from(ok && is_true));
            failed.set(failed.get() + usize::from(!ok));
            Ok(())
        });
        lua.globals().set("tell", tell.unwrap()).unwrap();
        let asked: String = lua.load(script(&condition, &values, true)).call(()).unwrap();
        let ran = run_with(&script(&condition, &values, false), vec![at_line(LINE, Some(&condition))], |_: &mut dyn Engine, _| Go::Freely);
        // One that fails stops and is said once.
        prop_assert_eq!(ran.stops.len(), holds.get() + fails.get().min(1), "{} of {:?}", condition, values);
        let outcome: String = mlua::FromLua::from_lua(ran.outcome.unwrap(), &ran.lua).unwrap();
        prop_assert_eq!(outcome, asked, "metamethods: {} of {:?}", condition, values);
        prop_assert!(ran.hooked.is_empty());
    }
}

/// Which times that `n` is reached stop, with breakpoints of these hit rules on a line, and how often it was reported.
fn counted(
    rules: &[&str],
    condition: Option<&str>,
    at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static,
) -> (Vec<u32>, usize) {
    let script = "\
local function f(n)
  local here = n
  return here
end
local co = coroutine.wrap(function() for n = 1, 50 do f(n) coroutine.yield() end end)
for n = 1, 50 do f(n) co() end
return 'done'";
    let mut breakpoints: Vec<_> =
        rules.iter().map(|rule| BreakpointSpec { hits: rule.parse().unwrap(), ..at_line(3, None) }).collect();
    breakpoints.extend(condition.map(|condition| at_line(3, Some(condition))));
    let ran = run_with(script, breakpoints, at_stop);
    assert!(ran.outcome.is_ok() && ran.hooked.is_empty());
    (ran.stops, ran.reached)
}

#[test]
fn times_that_do_not_count_are_counted_in_place() {
    let freely = |_: &mut dyn Engine, _| Go::Freely;
    let cases: [(&[&str], Option<&str>, usize, usize); 7] = [
        (&["every 10"], None, 10, 10),
        (&["after 95"], None, 5, 5),
        (&["50"], None, 1, 1),
        (&["after 10 every 30"], None, 3, 3),
        // Of two, neither can: a time that one of them reports is counted by both.
        (&["every 10", "every 50"], None, 10, 100),
        // A time that is reported for a condition is counted by who decides.
        (&["every 10"], Some("n == 7"), 12, 12),
        (&["every 10"], Some("#'' == n"), 10, 100),
    ];
    for (rules, condition, stops, reached) in cases {
        let found = counted(rules, condition, freely);
        assert_eq!((found.0.len(), found.1), (stops, reached), "{rules:?} {condition:?}");
    }
}

#[test]
fn a_time_that_the_hook_has_told_of_counts_once() {
    // Each stop is followed by some steps, which come to the line by the hook.
    for steps in 1..6 {
        let mut left = 0;
        let step = move |_: &mut dyn Engine, _: u32| {
            left = if left == 0 { steps } else { left - 1 };
            if left > 0 { Go::Step(StepKind::Into) } else { Go::Freely }
        };
        let in_place = counted(&["every 4"], None, step);
        let mut left = 0;
        let step = move |_: &mut dyn Engine, _: u32| {
            left = if left == 0 { steps } else { left - 1 };
            if left > 0 { Go::Step(StepKind::Into) } else { Go::Freely }
        };
        // Beside a condition that only the script's language can tell, every time is reported.
        let reported = counted(&["every 4"], Some("#'' == n"), step);
        assert_eq!(in_place.0, reported.0, "{steps} steps");
    }
}

/// A statement that may change a watched value, by its number.
fn changing(choice: u8) -> &'static str {
    match choice % 21 {
        0 => "here = here + 1",
        1 => "kept = kept + 1",
        2 => "shared = shared + 1",
        3 => "held.level = held.level + 1",
        4 => "held['level'] = held.level",
        5 => "rawset(held, 'level', held.level * 2)",
        6 => "for i = 1, 3 do other = other + i end",
        7 => "local inner = function() kept = kept + 1; held.level = 0 end\n    inner()",
        8 => {
            "local co = coroutine.wrap(function(n)\n    shared = n\n    coroutine.yield()\n    held.level = n\n    end)\n    co(5) co()"
        }
        9 => "pcall(function() shared = 7; error('no') end)",
        10 => "if depth < 2 then work(depth + 1) end",
        11 => "here, kept = kept, here",
        12 => "held.level = 0/0",
        13 => "other = setmetatable({}, {__index = function() shared = shared + 1 return 3 end}).x",
        14 => "table.sort({3, 1, 2}, function(a, b)\n      kept = a\n      return a < b\n    end)",
        15 => "local function set()\n      debug.setlocal(2, 1, 5)\n      other = 3\n    end\n    set()",
        16 => {
            "local function deep(n)\n      if n > 0 then return deep(n - 1) end\n      return 3\n    end\n    here = here + deep(3)"
        }
        17 => "pcall(function()\n      local here = 1\n      here = here + 1\n      error('no')\n    end)",
        18 => {
            "local turns = coroutine.wrap(function()\n      for i = 1, 2 do coroutine.yield(i) end\n    end)\n    here = here + turns()\n    turns()"
        }
        19 => "local raise = function(n)\n      here = here + n\n    end\n    raise(0)\n    raise(2)",
        _ => "local shared = 3; shared = 4",
    }
}

/// The changes that were found, and where; not what is said to have done it, for which every line would have to be told of, and every
/// return.
fn found(ran: &Ran) -> Vec<String> {
    ran.changes.iter().map(|change| change.split(" by ").next().unwrap().to_owned()).collect()
}

/// A change whose line is not one that may have done it, if there is one: that has the variable in it, or sets variables by number.
fn not_done_there(ran: &Ran, script: &str) -> Option<String> {
    let is_wrong = |change: &&String| {
        let (change, line) = change.split_once(" by ").unwrap();
        let name = change.split([' ', '.']).nth(1).unwrap();
        let line = script.lines().nth(line.parse::<usize>().unwrap().wrapping_sub(1)).unwrap_or_default();
        !line.contains(name) && !line.contains("debug.set")
    };
    ran.changes.iter().find(is_wrong).cloned()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(100))]
    #[test]
    fn a_change_is_found_where_it_would_be_if_every_line_were_told_of(
        statements in prop::collection::vec(0..21_u8, 1..10),
        inner in prop::collection::vec(0..21_u8, 0..6),
        armed in prop::collection::vec(5..30_u32, 0..3),
    ) {
        let block = |choices: &[u8]| {
            choices.iter().map(|choice| format!("  do\n    {}\n  end\n", changing(*choice))).collect::<String>()
        };
        let script = format!(
            "local kept, other, held = 1, 0, {{level = 1}}\nshared = 1\nlocal work\nfunction work(depth)\n  local here = depth\n{}  return here, kept, held\nend\n\
             local function main()\n  local here = 1\n  local depth = 1\n  local both = {{here, kept, held, depth}} --stop\n  rearm({{{}}})\n{}  return work(1), here, kept, both\nend\nmain()\nkept = kept + 100\nmain()\nreturn 'done'",
            block(&inner),
            armed.iter().map(ToString::to_string).collect::<Vec<_>>().join(","),
            block(&statements),
        );
        for names in [&["here"][..], &["kept"], &["shared"], &["held.level"], &["kept", "held.level", "shared"]] {
            let (ran, expected) = (run_watching(&script, names, false), run_watching(&script, names, true));
            prop_assert!(ran.outcome.is_ok(), "{:?} in {}", ran.outcome, script);
            prop_assert_eq!(found(&ran), found(&expected), "{:?} in {}", names, script);
            prop_assert_eq!(&ran.stops, &expected.stops, "{:?} in {}", names, script);
            prop_assert!(ran.reached <= expected.reached);
            prop_assert_eq!(not_done_there(&ran, &script), None, "in {}", script);
        }
    }
}

/// A statement that may change a variable that it has captured, by its number.
fn assigning(choice: u8) -> &'static str {
    match choice % 12 {
        0 => "kept = kept + 1",
        1 => "other, kept = kept, kept * 2; other = 3",
        2 => "for i = 1, 3 do kept = i other = other + i end",
        3 => "local kept = other\n    kept = kept + 1",
        // Lua 5.2 and 5.3 may take the function that they made there before, where it has captured the same.
        4 => "local one = 1\n    made = function(n) kept = kept + n * one end",
        5 => "if made then made(2) end",
        6 => "turn()",
        7 => "kept =\n      kept\n      + other -- for kept",
        8 => "pcall(function() kept = kept + 1 error('x') end)",
        9 => {
            "local at = 1\n    while debug.getupvalue(work, at) ~= 'kept' do at = at + 1 end\n    debug.setupvalue(work, at, 7)"
        }
        10 => "held = setmetatable({}, {__index = function() kept = kept + 1 return kept end})\n    other = held.x",
        _ => "kept = kept",
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(150))]
    #[test]
    fn what_statements_tell_of_a_variable_is_all_that_changes_it(
        inner in prop::collection::vec(0..12_u8, 0..5),
        turned in prop::collection::vec(0..12_u8, 0..4),
        events in prop::collection::vec(prop::collection::vec(0..12_u8, 0..4), 1..5),
        first in prop::collection::vec(0..12_u8, 0..2),
        armed in prop::collection::vec(3..40_u32, 0..3),
    ) {
        let block = |choices: &[u8]| {
            choices.iter().map(|choice| format!("  do\n    {}\n  end\n", assigning(*choice))).collect::<String>()
        };
        let event = |choices: &Vec<u8>| format!("function()\n{}  return work()\nend, ", block(choices));
        let script = format!(
            "local kept, other, held, made, work = 1, 0\n\
             local turn = coroutine.wrap(function()\n  while true do\n{}    coroutine.yield()\n  end\nend)\n\
             function work()\n{}  return kept, made\nend\n\
             events = {{function()\n  local all = {{kept, made}} --stop\n  rearm({{{}}})\n{}  return all\nend, {}}}\nreturn 'done'",
            // A coroutine that resumes itself raises.
            block(&turned).replace("turn()", "other = 1"),
            block(&inner),
            armed.iter().map(ToString::to_string).collect::<Vec<_>>().join(","),
            block(&first),
            events.iter().map(event).collect::<String>(),
        );
        for names in [&["kept"][..], &["kept", "made"]] {
            let (ran, expected) = (run_watching(&script, names, false), run_watching(&script, names, true));
            prop_assert!(ran.outcome.is_ok(), "{:?} in {}", ran.outcome, script);
            prop_assert_eq!(found(&ran), found(&expected), "{:?} in {}", names, script);
            prop_assert_eq!(&ran.stops, &expected.stops, "{:?} in {}", names, script);
            prop_assert_eq!(not_done_there(&ran, &script), None, "in {}", script);
            // Where nothing has changed, nothing is hooked from the second event on.
            let is_quiet = names == ["kept"] && ran.changes.is_empty() && armed.is_empty();
            prop_assert!(!is_quiet || ran.hooks[1..].iter().all(|hooks| *hooks == (0, 0)), "{:?} in {}", ran.hooks, script);
        }
    }
}

#[test]
fn no_line_is_looked_at_for_a_variable_whose_statements_tell() {
    if is_refused_before("5.2", NO_JOINING) {
        return;
    }
    let script = "\
local kept, other = 1, {}
local function work(n)
  kept = n
  other.x = kept
end
local joined
local function away() joined = 9 end
events = {
  function()
    local all = {kept, other} --stop
    rearm({})
  end,
  function() for i = 1, 100 do work(1) end end,
  function()
    work(2)
    other.x = 5
  end,
  function() work(2) end,
  function() kept = 3 end,
  function() for i = 1, 3 do work(3) end end,
  function() debug.setupvalue(work, 1, 4)
    other.y = 1
  end,
  function() return work(4) end,
  function() debug.upvaluejoin(away, 1, work, 1) end,
  function() away()
    other.z = 1
  end,
}
return 'done'";
    let ran = run_watching(script, &["kept"], false);
    assert_eq!(
        ran.changes,
        ["4: kept 1 > 2 by 3", "20: kept 2 > 3 by 19", "22: kept 3 > 4 by 21", "27: kept 4 > 9 by 7"]
    );
    let lines = |mask: i32| mask & 4 != 0;
    let hooks: Vec<_> = ran.hooks.iter().map(|(before, after)| (lines(*before), lines(*after))).collect();
    let (off, on) = (false, true);
    // A change in the last statement is found at the next line, whenever that is.
    let expected = [
        (off, off),
        (off, off),
        (off, off),
        (off, off),
        (off, on),
        (on, off),
        (off, off),
        (off, off),
        (off, on),
        (on, on),
    ];
    assert_eq!(hooks, expected);
    assert_eq!(run_watching(script, &["kept"], true).changes, ran.changes);
}

#[test]
fn for_a_local_that_nothing_else_has_only_lines_of_its_own_call_are_looked_at() {
    let script = "\
local seen = {}
local function look(n)
  seen[#seen + 1] = looks_at_lines() and 'lines' or 'none'
  return n
end
local function main(n)
  local here = n
  local both = {here, n} --stop
  rearm({})
  seen[#seen + 1] = looks_at_lines() and 'lines' or 'none'
  look(1)
  here = here + look(2)
  pcall(function() look(3) error('no') end)
  seen[#seen + 1] = looks_at_lines() and 'lines' or 'none'
  here = here + 1
  return here
end
main(1)
look(4)
look(5)
return table.concat(seen, ' ')";
    let outcome = |ran: &Ran| -> String { mlua::FromLua::from_lua(ran.outcome.clone().unwrap(), &ran.lua).unwrap() };
    let ran = run_watching(script, &["here"], false);
    // What asks is called itself.
    assert_eq!(outcome(&ran), "none none none none none none none");
    assert_eq!(ran.changes, ["13: here 1 > 3 by 12", "16: here 3 > 4 by 15"]);
    // One that a function may have captured can change in whatever is called.
    let script = script.replace("local both = {here, n}", "local both = {here, function() return here end}");
    let ran = run_watching(&script, &["here"], false);
    assert_eq!(outcome(&ran), "lines lines lines lines lines none none");
    assert_eq!(ran.changes, ["13: here 1 > 3 by 12", "16: here 3 > 4 by 15"]);
}

#[test]
fn what_a_call_changes_is_read_behind_it() {
    let script = "\
local count = 0
function bump() count = count + 1 return count end
total = setmetatable({}, {__add = function(_, n) count = n return 7 end})
local function f(n)
  local here = n
  return here + count
end
for i = 1, 3 do f(i) end
return 'done'";
    for condition in [
        "bump() == count",
        "count == bump() - 1 and n < 4",
        "count + bump() == 2 * count - 1",
        "total + n == 7 and count == n",
        "rawequal(count, count) and bump() - count == 0",
        // What the function sees as its globals is meant, wherever it stands.
        "bump() > 0 and _ENV.count == nil and _ENV.total == total",
    ] {
        let ran = run_with(script, vec![at_line(6, Some(condition))], |_: &mut dyn Engine, _| Go::Freely);
        assert_eq!(ran.stops, [6, 6, 6], "{condition}");
    }
}

#[test]
fn what_a_condition_changes_is_found_at_the_next_line() {
    let script = "\
local kept = 1
function keep(n) kept = n return false end
function work()
  local n = 5
  n = n + 1
  return n
end
events = {
  function()
    local all = {kept} --stop
    rearm({5}, 'keep(n)')
  end,
  function() work() end,
  function() work() end,
}
return 'done'";
    let (ran, expected) = (run_watching(script, &["kept"], false), run_watching(script, &["kept"], true));
    assert_eq!(ran.changes, ["6: kept 1 > 5 by 5"]);
    assert_eq!(ran.changes, expected.changes);
    assert_eq!(ran.hooks[2], (0, 0));
}

#[test]
fn a_change_tells_what_ran() {
    let script = "\
local held = {level = 1}
local function open(by)
  local level = held.level
  held.level = level + by
end
local function main()
  local both = held --stop
  rearm({})
  open(0)
  open(2)
  rawset(held, 'level', 9)
  return both
end
main()
return 'done'";
    let ran = run_watching(script, &["held.level"], false);
    assert_eq!(ran.changes, ["5: held.level 1 > 3 by 4", "12: held.level 3 > 9 by 11"]);
    assert_eq!(ran.reached, 4, "lines on which nothing has changed are told of to nobody");
    assert!(run_watching(script, &["held.level"], true).reached > 9);
}

#[test]
fn a_write_to_another_field_of_the_name_is_told_apart_in_place() {
    let script = "\
local held, others = {level = 1}, {} --writes
total = 0
for i = 1, 5 do others[i] = {level = i} end
local function write(to, key)
  to.level = 2
  to[key] = 3
  total = total + 1
  others[1].level, to.level = 5, 6
end
local function main()
  local both = {held, others} --stop
  rearm({})
  for i = 1, 5 do write(others[i], 'level') end
  write(held, 'other')
  write(setmetatable({}, {__index = held}), 'level')
  _ENV.total = 3
  return both
end
main()
return 'done'";
    let ran = run_watching(script, &["held.level"], false);
    assert_eq!(ran.changes, ["5: held.level", "8: held.level"]);
    // Where a field is read that may not be there raw, the line is told of.
    assert!(ran.reached < 10, "{} lines are told of", ran.reached);
    let ran = run_watching(script, &["total"], false);
    assert_eq!(ran.changes, [vec!["7: total"; 7], vec!["16: total"]].concat());
}

#[test]
fn a_write_to_a_field_whose_name_stands_nowhere_is_found() {
    let script = "\
local boats = {} --writes
local names = {'He' .. 'ron', 'Ot' .. 'ter'}
local function count(name)
  boats[name] = (boats[name] or 0) + 1
end
local function main()
  local all = {boats, names} --stop
  rearm({})
  for i = 1, 6 do count(names[i % 2 + 1]) end
  return all
end
main()
return 'done'";
    let ran = run_watching(script, &["boats.Heron"], false);
    assert_eq!(ran.changes, ["4: boats.Heron", "4: boats.Heron", "4: boats.Heron"]);
}
