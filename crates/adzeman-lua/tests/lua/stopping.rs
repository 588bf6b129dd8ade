//! Breakpoints and steps wherever Lua code can run.

use std::cell::RefCell;
use std::rc::Rc;

use crate::common::{Go, run};
use adzeman_core::engine::{Engine, FrameKind};
use adzeman_core::stepping::StepKind::{self, Into, Out, Over};
use adzeman_core::value::Page;

#[track_caller]
fn stops(script: &str) -> Vec<u32> {
    let ran = run(script, |_, _| Go::Freely);
    ran.outcome.expect("the script runs to its end");
    ran.stops
}

/// Stops at the marked line, then makes the steps.
#[track_caller]
fn steps(script: &str, steps: &[StepKind]) -> Vec<u32> {
    let left = Rc::new(RefCell::new(steps.to_vec()));
    let ran = run(script, move |_, _| {
        let mut left = left.borrow_mut();
        if left.is_empty() { Go::Freely } else { Go::Step(left.remove(0)) }
    });
    ran.outcome.expect("the script runs to its end");
    ran.stops
}

#[test]
fn a_line_in_a_loop_stops_each_time() {
    assert_eq!(stops("local n = 0\nfor i = 1, 3 do\n  n = n + i --stop\nend\nreturn n"), [3, 3, 3]);
}

#[test]
fn lines_under_pcall_metamethods_comparators_and_coroutines_stop() {
    assert_eq!(stops("pcall(function()\n  local x = 1 --stop\nend)"), [2]);
    assert_eq!(stops("local t = setmetatable({}, {__index = function()\n  return 1 --stop\nend})\nreturn t.x"), [2]);
    assert_eq!(stops("table.sort({2, 1}, function(a, b)\n  return a < b --stop\nend)"), [2]);
    assert_eq!(
        stops("local f = coroutine.wrap(function()\n  coroutine.yield() --stop\n  return 1 --stop\nend)\nf()\nf()"),
        [2, 3]
    );
    assert_eq!(stops("return (string.gsub('ab', '.', function(c)\n  return c .. c --stop\nend))"), [2, 2]);
}

#[test]
fn a_breakpoint_on_a_line_without_code_moves_on_and_a_definition_means_its_body() {
    assert_eq!(stops("local a = 1\n--stop\n\nlocal b = 2\nreturn a + b"), [4]);
    assert_eq!(stops("function f() --stop\n  return 1\nend\nf()\nf()"), [2, 2]);
    assert_eq!(stops("local function f() --stop\n  return 1\nend\nf()"), [2]);
}

const CALLS: &str = "\
local function leaf(x)
  local y = x * 2
  return y
end
local a = leaf(1) --stop
local b = leaf(a)
return a + b";

#[test]
fn over_passes_calls_into_enters_them_and_out_returns() {
    assert_eq!(steps(CALLS, &[Over, Over]), [5, 6, 7]);
    assert_eq!(steps(CALLS, &[Into, Over, Out]), [5, 2, 3, 6]);
}

#[test]
fn over_survives_an_error_that_unwinds() {
    let script =
        "local function bad()\n  error('x')\nend\nlocal ok = pcall(bad) --stop\nlocal after = ok\nreturn after";
    assert_eq!(steps(script, &[Over, Over]), [4, 5, 6]);
    assert_eq!(steps(script, &[Into, Over]), [4, 2, 5]);
}

#[test]
fn over_passes_recursion() {
    let script = "local function fib(n)\n  if n < 2 then return n end\n  return fib(n - 1) + fib(n - 2)\nend\nlocal r = fib(8) --stop\nreturn r";
    assert_eq!(steps(script, &[Over]), [5, 6]);
}

#[test]
fn steps_cross_coroutines() {
    let script = "\
local co = coroutine.wrap(function()
  local x = 1
  coroutine.yield(x)
  return 2
end)
local a = co() --stop
local b = co()
return a + b";
    assert_eq!(steps(script, &[Over, Over]), [6, 7, 8], "over a resume");
    assert_eq!(steps(script, &[Into, Over, Over]), [6, 2, 3, 7], "over a yield, to the resumer");
    assert_eq!(steps(script, &[Into, Out]), [6, 2, 7], "out of a coroutine");
}

#[test]
fn into_reaches_functions_called_by_the_runtime() {
    let script =
        "local function less(a, b)\n  return a < b\nend\nlocal t = {3, 1, 2} --stop\ntable.sort(t, less)\nreturn t";
    assert_eq!(steps(script, &[Over, Into]), [4, 5, 2]);
}

#[test]
fn coroutines_made_before_the_step_are_entered() {
    let script = "local co = coroutine.create(function()\n  local x = 1\n  return x\nend)\nlocal a = 1\nlocal b = 2 --stop\ncoroutine.resume(co)\nreturn a, b";
    assert_eq!(steps(script, &[Over, Into]), [6, 7, 2]);
}

/// Stops at each mark, then makes the steps, the first of them again after the last; the lines, with what was returned there.
#[track_caller]
fn returns(script: &str, steps: &[Option<StepKind>]) -> Vec<String> {
    let (told, steps, made) = (Rc::new(RefCell::new(Vec::new())), steps.to_vec(), RefCell::new(0));
    let kept = told.clone();
    let ran = run(script, move |engine, line| {
        let returned = engine.returned().map(|values| {
            let shown: Vec<_> = values.into_iter().map(|value| value.preview).collect();
            format!(" after {}", shown.join(", "))
        });
        kept.borrow_mut().push(format!("{line}{}", returned.unwrap_or_default()));
        let step = steps[*made.borrow() % steps.len()];
        *made.borrow_mut() += 1;
        step.map_or(Go::Freely, Go::Step)
    });
    ran.outcome.expect("the script runs to its end");
    told.take()
}

const RETURNS: &str = "\
local function other(...)
  local count = select('#', ...)
  return 'other', count
end
local function fx(x)
  local y = x * 2 --stop
  return y
end
local value, n = print('value', fx(2)), 1
other(fx(3))
local t = {fx(4), (other(fx(5)))}
local function tail(x) return fx(x) end
value = tail(6) .. other(1)
local ok = pcall(function() fx(7) error('x') end) other(1)
return value";

#[test]
fn what_was_returned_is_of_the_very_call_that_was_left() {
    let out = [Some(Out), None];
    let expected = [
        "6",
        "10 after 4",
        "6",
        "11 after 6",
        "6",
        "12 after 8",
        "6",
        "12 after 10",
        "6",
        "14 after 12",
        "6",
        "14 after 14",
    ];
    // From the fourth call on, the fifth is met on the way.
    let told = returns(RETURNS, &out);
    assert_eq!(told[..4], expected[..4], "{told:?}");
    assert!(told.contains(&"14 after 12".to_owned()), "{told:?}");
    let over = [Some(Over), Some(Over), None];
    let told = returns(RETURNS, &over);
    assert_eq!(told[..6], ["6", "7", "10 after 4", "6", "7", "11 after 6"], "not in the other function: {told:?}");
}

#[test]
fn a_call_that_an_error_has_ended_has_returned_nothing() {
    let script = "\
local function other(x) return x end
local function fails(x)
  local y = x --stop
  error(y)
end
local function caught() local ok = pcall(fails, 1) return other(2) end
caught() other(3)
pcall(pcall, fails) other(4)
return 1";
    for steps in [[Some(Out), None], [Some(Over), None]] {
        let told = returns(script, &steps);
        assert!(told.iter().all(|told| !told.contains("after 2") && !told.contains("after 3")), "{told:?}");
    }
    let told = returns(script, &[Some(Out), None]);
    assert_eq!(told, ["3", "8", "3", "9"], "lines alone");
}

#[test]
fn a_step_over_a_tail_call_goes_on_behind_what_took_the_place_of_the_function() {
    let script = "\
local function last(x)
  local y = x + 1
  return y
end
local function first(x)
  return last(x) --stop
end
local got = first(1)
return got";
    assert_eq!(returns(script, &[Some(Over), None]), ["6", "9 after 2"]);
    assert_eq!(returns(script, &[Some(Out), None]), ["6", "9 after 2"]);
    assert_eq!(returns(script, &[Some(Into), None]), ["6", "2"]);
}

#[test]
fn what_ran_before_calls_were_timed_has_run_for_longer() {
    let script = "\
local function late()
  local here = 1 --stop
  return here
end
local co = coroutine.wrap(function()
  time_calls()
  return (late())
end)
local function early()
  return (co())
end
early()
return 'done'";
    let seen = Rc::new(RefCell::new(Vec::new()));
    let noted = seen.clone();
    let ran = run(script, move |engine: &mut dyn Engine, _| {
        let frames = engine.frames(Page::first(9)).unwrap().items;
        let script = frames.into_iter().filter(|frame| frame.kind == FrameKind::Script);
        let times = script.map(|frame| (frame.name, frame.running_for.is_some(), frame.ran_before));
        noted.borrow_mut().extend(times.map(|(name, is_known, ran_before)| format!("{name} {is_known} {ran_before}")));
        Go::Freely
    });
    assert!(ran.outcome.is_ok());
    let seen = seen.borrow();
    assert_eq!(seen[0], "late true false");
    assert!(seen.len() == 4 && seen[1..].iter().all(|frame| frame.ends_with("true true")), "{seen:?}");
}
