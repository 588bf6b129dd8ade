//! Evaluating and changing.

use std::time::Duration;

use crate::common::{Go, at_stop, path, run, scope, shown};
use crate::versions::{NO_CONSTANTS, VERSION, cannot_index, is_refused_before, is_since};
use adzeman_core::engine::{Engine, EngineError, ScopeKind};
use adzeman_core::evaluation::{Allowance, Cancel, Limits};

const SCRIPT: &str = "\
rate = 3
local base = 10
local function fare(length, ...)
  local sum = base + length
  local boat = {name = 'Heron', crew = {2, 3}}
  return sum, boat --stop
end
return fare(5, 'x', 'y')";

fn evaluate(engine: &mut dyn Engine, text: &str) -> String {
    match engine.evaluate(Some(0), text) {
        Ok(values) => values.iter().map(|value| value.preview.clone()).collect::<Vec<_>>().join(", "),
        Err(error) => format!("error: {error}"),
    }
}

#[track_caller]
fn check(text: &'static str, expected: &str) {
    let found = at_stop(SCRIPT, move |engine| evaluate(engine, text));
    assert_eq!(found, expected, "{text}");
}

#[test]
fn names_are_found_where_they_are() {
    check("sum", "15");
    check("base + length", "15");
    check("rate", "3");
    check("...", "\"x\", \"y\"");
    check("select('#', ...)", "2");
    check("boat.crew[2]", "3");
    check("event.dt", "0.5");
    check("event.nothing", "nil");
    check("host.lock.level * 2", if is_since("5.3") { "3.0" } else { "3" });
    check("host.lock.boats[2]", "30");
    check("#host.lock.boats", "2");
    check("host.lock", "{boats: [12, 30], gate: \"shut\", level: 1.5}");
    check("unknown", "nil");
}

#[test]
fn statements_run_and_last() {
    check("sum = 99", "");
    let text = at_stop(SCRIPT, |engine| {
        for statement in ["sum = 99", "base = 1", "rate = 4", "boat.name = 'Swan'", "length = 'long'"] {
            assert_eq!(evaluate(engine, statement), "");
        }
        evaluate(engine, "sum, base, rate, boat.name, length")
    });
    assert_eq!(text, "99, 1, 4, \"Swan\", \"long\"");
}

#[test]
fn a_changed_local_is_what_the_script_goes_on_with() {
    let ran = run("local a = 1\nlocal b = a --stop\nreturn b", |engine, _| {
        engine.assign_expression(Some(0), "a", "41 + 1").unwrap();
        Go::Freely
    });
    assert_eq!(ran.outcome.unwrap().as_integer(), Some(42));
}

#[test]
fn the_host_is_changed_through_its_proxy() {
    let ran = run(SCRIPT, |engine, _| {
        assert_eq!(evaluate(engine, "host.lock.level"), "1.5");
        engine.assign_expression(Some(0), "host.lock.level", "2.25").unwrap();
        assert_eq!(evaluate(engine, "host.lock.level"), "2.25");
        assert!(evaluate(engine, "host.lock.lvel").contains("has no 'lvel'; it has boats, gate, level"));
        assert!(evaluate(engine, "host = 1").contains("cannot be changed"));
        Go::Freely
    });
    assert_eq!(path("lock.level").walk(&*ran.host.0.borrow()).unwrap(), 2.25);
}

#[test]
fn a_mistyped_name_makes_no_global() {
    let text = at_stop(SCRIPT, |engine| {
        let error = engine.assign_expression(Some(0), "lenght", "1").unwrap_err();
        assert_eq!(evaluate(engine, "lenght"), "nil");
        error.to_string()
    });
    assert_eq!(text, "there is no 'lenght' here; to make a new global of that name, write 'let _G.lenght = 1'");
}

#[test]
fn errors_are_said_and_nothing_breaks() {
    let end = if is_since("5.2") { "<eof>" } else { "'<eof>'" };
    check("1 +", &format!("error: cannot read that: unexpected symbol near {end}, at column 4"));
    check("error('no water')", "error: no water");
    check("nothing.x", &format!("error: {}", cannot_index("nil", "global 'nothing'")));
    check("error({})", "error: it raised a value that is no text (a table)");
    check(
        "coroutine.yield(1)",
        "error: the text yields, and nobody would resume it; call what it needs in a coroutine of its own",
    );
}

#[test]
fn endless_evaluations_are_cut_off() {
    for text in [
        "while true do end",
        "(function() while true do pcall(function() while true do end end) end end)()",
        "coroutine.wrap(function() while true do end end)()",
        "setmetatable({}, {__index = function() while true do end end}).x",
    ] {
        let error = at_stop(SCRIPT, move |engine| {
            // On a machine that is busy with others, the usual time may be up first.
            let usual = Limits::default().for_aside(Cancel::default());
            engine.allow(Some(Allowance { time: Duration::from_secs(60), ..usual }));
            engine.evaluate(Some(0), text).unwrap_err()
        });
        assert!(matches!(error, EngineError::OverLimit { .. }), "{text}: {error}");
    }
}

#[test]
fn evaluation_sees_the_frame_that_is_asked_for() {
    let script =
        "local function inner(x)\n  return x --stop\nend\nlocal x = 'outer'\nlocal r = inner('inner')\nreturn r, x";
    let text = at_stop(script, |engine| {
        let outer = engine.evaluate(Some(1), "x").unwrap().remove(0).preview;
        format!("{} {outer}", evaluate(engine, "x"))
    });
    assert_eq!(text, "\"inner\" \"outer\"");
}

#[test]
fn children_are_assigned_by_name() {
    let text = at_stop(SCRIPT, |engine| {
        let scopes = engine.scopes(0).unwrap();
        let handle = |kind| scopes.iter().find(|scope| scope.kind == kind).unwrap().handle;
        engine.assign(handle(ScopeKind::Locals), "length", "base * 2", Some(0)).unwrap();
        engine.assign(handle(ScopeKind::Varargs), "[2]", "'z'", Some(0)).unwrap();
        engine.assign(handle(ScopeKind::Captured), "base", "7", Some(0)).unwrap();
        engine.assign(handle(ScopeKind::Globals), "rate", "8", Some(0)).unwrap();
        let error = engine.assign(handle(ScopeKind::Locals), "nobody", "1", Some(0)).unwrap_err();
        assert!(matches!(error, EngineError::NoName { .. }), "{error}");
        let locals = scope(engine, 0, ScopeKind::Locals);
        format!("{} | {}", shown(&locals[..1]), evaluate(engine, "base, rate, select(2, ...)"))
    });
    assert_eq!(text, "length = 20 | 7, 8, \"z\"");
}

#[test]
fn a_table_entry_is_set_without_metamethods() {
    let script = "local t = setmetatable({a = 1}, {__newindex = function() error('ran') end})\nreturn t --stop";
    let text = at_stop(script, |engine| {
        let value = engine.evaluate(Some(0), "t").unwrap().remove(0);
        let Some(adzeman_core::value::Expand::Engine(handle)) = value.children.map(|c| c.expand) else { panic!() };
        engine.assign(handle, "[1]", "'new'", Some(0)).unwrap();
        engine.assign(handle, "a", "2", Some(0)).unwrap();
        evaluate(engine, "t")
    });
    assert_eq!(text, "{\"new\", a = 2}");
}

#[test]
fn completion_offers_what_is_in_reach() {
    let names = at_stop(SCRIPT, |engine| engine.complete(Some(0), "b"));
    let expected: &[&str] = if VERSION == "5.2" { &["base", "bit32", "boat"] } else { &["base", "boat"] };
    assert_eq!(names, expected);
}

#[test]
fn many_evaluations_leave_nothing_behind() {
    let ran = run(SCRIPT, |engine, _| {
        for _ in 0..10_000 {
            engine.evaluate(Some(0), "{sum, boat}").unwrap();
            engine.release();
        }
        Go::Freely
    });
    ran.lua.gc_collect().unwrap();
    let used = ran.lua.used_memory();
    assert!(used < 2_000_000, "{used} bytes are in use after 10,000 evaluations");
}

#[test]
fn the_last_results_can_be_named() {
    let text = at_stop(SCRIPT, |engine| {
        let keep = |engine: &mut dyn Engine, text: &str| engine.evaluate_and_keep(Some(0), text).unwrap();
        keep(engine, "{length = 24}");
        keep(engine, "7");
        let both = evaluate(engine, "it2.length + it");
        let error = engine.evaluate(Some(0), "it = 1").unwrap_err().to_string();
        engine.release();
        (both, evaluate(engine, "it3"), error)
    });
    assert_eq!((text.0.as_str(), text.1.as_str()), ("31", "nil"));
    assert!(text.2.contains("'it' cannot be changed"), "{}", text.2);
}

#[test]
fn names_of_the_script_come_before_those_of_the_host() {
    let script = "host = {own = 1}\nit = 5\nlocal a = 1\nreturn a --stop";
    let text = at_stop(script, |engine| {
        engine.evaluate_and_keep(Some(0), "99").unwrap();
        format!("{} {} {}", evaluate(engine, "host.own"), evaluate(engine, "it"), evaluate(engine, "event.dt"))
    });
    assert_eq!(text, "1 5 0.5");
}

#[test]
fn names_that_are_nowhere_are_told_without_evaluating() {
    let script = "toll = 2\nlocal function f(length)\n  return length --stop\nend\nlocal r = f(24)\nreturn r";
    let used = at_stop(script, |engine| {
        ["length * toll", "toll + host.lock.level", "lenght + 1", "string.rep('x', draught)", "1 +"].map(|text| {
            let used = engine.names_used(Some(0), text);
            format!("{} {}", used.missing.unwrap_or_default(), used.of_function)
        })
    });
    assert_eq!(used, [" true", " false", "lenght false", "draught false", " false"]);
}

#[test]
fn whole_texts_are_as_they_print() {
    let script = "local s = 'line one\\nline two'\nlocal b = string.rep('x', 3000000)\nreturn s, b --stop";
    let texts = at_stop(script, |engine| {
        let mut whole = |text: &str| engine.whole_text(Some(0), text).unwrap();
        let big = whole("b");
        assert!(big.is_cut() && big.length == 3_000_000);
        ["s", "0.1", "2^53", "12", "nil", "host.lock.boats"].map(|text| String::from_utf8(whole(text).bytes).unwrap())
    });
    let power = if is_since("5.5") { "9007199254740992.0" } else { "9.007199254741e+15" };
    assert_eq!(texts, ["line one\nline two", "0.1", power, "12", "nil", "[\n  12,\n  30\n]"]);
}

const CONSTANTS: &str = "\
local k <const> = 6 * 7
local name <const>, other <const> = 'a', -k
local function f(x)
  local y = x + k
  do
    local k <const> = 'inner' local z = y
    z = z .. k --stop
  end
  return y, name
end
local r = f(1)
return r";

#[test]
fn constants_that_the_compiler_has_removed_are_what_the_line_sees() {
    if is_refused_before("5.4", NO_CONSTANTS) {
        return;
    }
    let check = |text: &'static str, expected: &str| {
        let found = at_stop(CONSTANTS, move |engine| evaluate(engine, text));
        assert_eq!(found, expected, "{text}");
    };
    check("k .. '!'", "\"inner!\"");
    check("k == 'inner' and other", "-42");
    check("name", "\"a\"");
    let outer = at_stop(CONSTANTS, |engine| engine.evaluate(Some(1), "k + other").unwrap()[0].preview.clone());
    assert_eq!(outer, "0");
    let why = at_stop(CONSTANTS, |engine| engine.assign_expression(Some(0), "k", "1").unwrap_err().to_string());
    assert!(why.contains("it is a constant"), "{why}");
    let why = at_stop(CONSTANTS, |engine| engine.track(Some(0), "k").unwrap_err().to_string());
    assert!(why.contains("never changes"), "{why}");
    let held = at_stop(CONSTANTS, |engine| {
        [("k == 'inner'", true), ("k == 42", false), ("other < 0 and k", true)].map(|(text, expected)| {
            (engine.condition(adzeman_core::breakpoint::BreakpointId(expected.into()), text).unwrap(), expected)
        })
    });
    assert!(held.iter().all(|(held, expected)| held == expected), "{held:?}");
    let hovered = at_stop(CONSTANTS, |engine| engine.peek(Some(0), "k").unwrap().preview);
    assert_eq!(hovered, "\"inner\"");
}

#[test]
fn a_constant_that_the_line_does_not_tell_is_refused() {
    if is_refused_before("5.4", NO_CONSTANTS) {
        return;
    }
    let script = "local k <const> = 1\ndo local k <const> = 2 f = k end g = k local x = 1 --stop\nreturn k";
    let found = at_stop(script, |engine| evaluate(engine, "k"));
    assert!(found.contains("more than one of this name"), "{found}");
}

fn globals_are_those_that_a_function_has_beside_it() {
    let script = "\
shown = 'outside'
local function f(x)
  local y = x --stop
  return y
end
local inside = {shown = 'inside'}
setfenv(f, inside)
f(1)
local ours = {shown = 'of the thread'}
local co = coroutine.create(function()
  setfenv(0, ours)
  local g = loadstring('local x = 1 return x', '@other.lua')
  return getfenv(g).shown
end)
local _, shown_there = coroutine.resume(co)
local y = shown_there --stop
return inside.shown";
    let told = std::rc::Rc::new(std::cell::RefCell::new(Vec::new()));
    let kept = told.clone();
    let ran = run(script, move |engine, line| {
        for text in ["shown", "_ENV.shown", "print", "_ENV == _G"] {
            kept.borrow_mut().push(format!("{line} {text}: {}", evaluate(engine, text)));
        }
        if line == 3 {
            engine.evaluate(Some(0), "shown = 'changed'").unwrap();
        }
        Go::Freely
    });
    let told = told.take();
    let expected = ["3 shown: \"inside\"", "3 _ENV.shown: \"inside\"", "3 print: nil", "3 _ENV == _G: false"];
    // There is no `_G` inside.
    assert_eq!(told[..4], expected, "{told:#?}");
    assert!(ran.outcome.is_ok(), "{:?}", ran.outcome);
    assert_eq!(told[4..6], ["16 shown: \"outside\"", "16 _ENV.shown: \"outside\""], "{told:#?}");
    assert_eq!(told[7], "16 _ENV == _G: true", "{told:#?}");
    assert_eq!(ran.outcome.unwrap().to_string().unwrap(), "changed");
}

#[test]
fn globals_are_those_of_the_function_s_own_environment() {
    if !is_since("5.2") {
        return globals_are_those_that_a_function_has_beside_it();
    }
    let script = "\
shown = 'outside'
local function f()
  local _ENV <const> = {shown = 'inside', tostring = tostring}
  local x = shown
  do local _ENV = {} x = x .. tostring(shown) end --stop
  return x
end
local function none()
  local _ENV = nil
  local x = 1 --stop
  return x
end
local function free(x)
  local y = x --stop
  return y
end
return pcall(f), none(), free(1)";
    let texts = ["shown", "_ENV.shown", "tostring ~= nil", "_ENV == _G"];
    let told = std::rc::Rc::new(std::cell::RefCell::new(Vec::new()));
    let kept = told.clone();
    run(script, move |engine, line| {
        kept.borrow_mut().extend(texts.map(|text| format!("{line} {text}: {}", evaluate(engine, text))));
        if line == 10 {
            let set = engine
                .evaluate(Some(0), "(function() _ENV = {shown = 'new'} local now = shown _ENV = nil return now end)()");
            kept.borrow_mut().push(format!("{line} set: {}", set.unwrap()[0].preview));
            let why = engine.evaluate(Some(0), "shown = 'lost'").unwrap_err().to_string();
            assert!(why.contains("sees none"), "nothing is written elsewhere: {why}");
        }
        Go::Freely
    });
    let told = told.take();
    assert_eq!(told[..3], ["5 shown: \"inside\"", "5 _ENV.shown: \"inside\"", "5 tostring ~= nil: true"], "{told:#?}");
    assert!(told[4].starts_with("10 shown: error: ") && told[4].contains("sees none"), "{told:#?}");
    assert!(told[5].contains("error: "), "{told:#?}");
    assert_eq!(told[8], "10 set: \"new\"", "{told:#?}");
    assert_eq!(told[9..11], ["14 shown: \"outside\"", "14 _ENV.shown: \"outside\""], "{told:#?}");
    assert_eq!(told[12], "14 _ENV == _G: true", "{told:#?}");
}
