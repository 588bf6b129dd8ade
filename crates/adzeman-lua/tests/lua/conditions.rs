//! What a condition that is decided in place comes to, against what the script's own `if` does: of values of every type, with and
//! without metatables.

use std::cell::Cell;
use std::rc::Rc;

use proptest::prelude::*;

use adzeman_core::breakpoint::BreakpointSpec;
use adzeman_core::engine::Engine;
use adzeman_core::stepping::StepKind;

use crate::common::{Go, at_line, run_with};
use crate::ffi::lua_with_debug;

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
    let path = (name.clone(), prop::collection::vec(prop::sample::select(vec![".x", ".y", "[1]", "[v]", "[shared]", "[w.x]"]), 0..3));
    let constant = prop::sample::select(vec!["0", "1", "-1.5", "3", "'up'", "''", "nil", "true", "false", "\"1\"", "5"]);
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
    let asks = if twin { format!("local ok, held = pcall(function() return ({condition}) end) tell(ok, held)") } else { String::new() };
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
fn counted(rules: &[&str], condition: Option<&str>, at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static) -> (Vec<u32>, usize) {
    let script = "\
local function f(n)
  local here = n
  return here
end
local co = coroutine.wrap(function() for n = 1, 50 do f(n) coroutine.yield() end end)
for n = 1, 50 do f(n) co() end
return 'done'";
    let mut breakpoints: Vec<_> = rules
        .iter()
        .map(|rule| BreakpointSpec { hits: rule.parse().unwrap(), ..at_line(3, None) })
        .collect();
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
