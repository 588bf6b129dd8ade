//! Errors, reported where they are raised.

use std::cell::RefCell;
use std::rc::Rc;

use adzeman_core::breakpoint::{BreakpointSpec, BreakpointStore, OwnerId, Site};
use adzeman_core::engine::EngineError;
use adzeman_core::evaluation::Cancel;
use adzeman_core::value::{Page, Part, Value};

use crate::common::{Go, Ran, at_line, run_with};
use crate::versions::{cannot_index, is_since};

fn run(script: &str) -> Ran {
    let every = BreakpointSpec::at(Site::Error { every: true, containing: None });
    run_with(script, vec![every], |_, _| Go::Freely)
}

#[test]
fn an_uncaught_error_shows_the_stack_that_raised_it() {
    let ran = run("local function inner() local t; return t.x end\nlocal function outer() inner() end\nouter()");
    let why = cannot_index("nil", "local 't'");
    let expected = format!("1: test.lua:1: {why} (uncaught; inner < outer < whole script test.lua)");
    assert_eq!(ran.raises, [expected]);
    assert!(ran.outcome.is_err());
}

#[test]
fn errors_that_pcall_and_xpcall_catch_are_seen_once_and_stay_caught() {
    let ran = run("\
local ok, why = pcall(function() error({code = 5}) end)
assert(not ok and why.code == 5)
local ok, why = xpcall(function() error('b1', 0) end, function(e) return 'handled ' .. e end)
assert(not ok and why == 'handled b1')
assert(select('#', pcall(function() return 1, nil, 3 end)) == 4)");
    ran.outcome.unwrap();
    assert_eq!(ran.raises.len(), 2, "{:?}", ran.raises);
    assert!(ran.raises[0].starts_with("1: {code = 5} (caught; error < "), "{}", ran.raises[0]);
    assert!(ran.raises[1].starts_with("3: b1 (caught; error < "), "{}", ran.raises[1]);
}

#[test]
fn an_error_in_a_coroutine_is_seen_on_its_own_stack() {
    let ran = run("\
local function deep() error('stuck') end
local co = coroutine.create(function() deep() end)
local ok, why = coroutine.resume(co)
assert(not ok and why == 'test.lua:1: stuck')
local wrapped = coroutine.wrap(function() deep() end)
local ok, why = pcall(wrapped)
assert(not ok and why == 'test.lua:1: stuck', why)");
    ran.outcome.unwrap();
    assert_eq!(ran.raises.len(), 2, "{:?}", ran.raises);
    for raise in &ran.raises {
        assert!(
            raise.starts_with("1: test.lua:1: stuck (caught; error < deep <  < called as a coroutine from < "),
            "{raise}"
        );
    }
}

#[test]
fn an_error_of_the_host_has_its_text() {
    let ran = run("pcall(string.rep)\nlocal ok = pcall(string.rep, 'x', -1, {})");
    ran.outcome.unwrap();
    // What a function is called by is told by what calls it.
    let name = if is_since("5.2") { "string.rep" } else { "?" };
    assert!(ran.raises[0].contains(&format!("bad argument #1 to '{name}'")), "{:?}", ran.raises);
}

#[test]
fn a_stack_that_overflows_is_reported_and_survived() {
    let ran = run(
        "local function down() return 1 + down() end\nlocal ok, why = pcall(down)\nassert(not ok and why:find('stack overflow'))",
    );
    ran.outcome.unwrap();
    assert!(ran.raises[0].contains("stack overflow"), "{:?}", ran.raises[0]);
}

/// Lua forbids calls on a coroutine that has died or waits, and says so in builds that check their callers.
#[test]
fn everything_can_be_asked_where_a_coroutine_has_died_of_an_object() {
    let script = "\
local class = {__tostring = function() return 'text' end, __name = 'Lock', __index = function() return 1 end}
local function deep(level, ...)
  local boat = {name = 'Heron', crew = {1, 2}}
  error(setmetatable({code = level}, class))
end
local co = coroutine.create(function(...) deep(7, ...) end)
local ok, why = coroutine.resume(co, 'a', 'b')
assert(not ok and why.code == 7)
local wrapped = coroutine.wrap(function() deep(8) end)
local ok, why = pcall(wrapped)
assert(not ok and why.code == 8)
local waiting = coroutine.create(function() local held = 5 coroutine.yield() end)
coroutine.resume(waiting)";
    let every = BreakpointSpec::at(Site::Error { every: true, containing: None });
    let seen = Rc::new(RefCell::new(Vec::new()));
    let kept = seen.clone();
    let ran = run_with(script, vec![every], move |engine, line| {
        let text = |found: Result<Vec<Value>, EngineError>| match found {
            Ok(values) => values.into_iter().map(|value| value.preview).collect::<Vec<_>>().join(", "),
            Err(error) => error.to_string(),
        };
        assert_eq!(line, 4);
        let frame = 1;
        let owner = BreakpointStore::default().add(OwnerId(1), at_line(1, None));
        let condition = engine.condition(owner.id, "level + #tostring(level) > 1").unwrap();
        let said = engine.text_of(owner.id, 0, "level .. 'm'").unwrap();
        engine.run_statement(owner.id, "seen = (seen or 0) + 1").unwrap();
        let statement = text(engine.evaluate(Some(frame), "seen"));
        let raised = text(engine.evaluate(Some(frame), "error(setmetatable({}, {__tostring = error}))"));
        let kept_value = text(engine.evaluate_and_keep(Some(frame), "{1, {2}}"));
        let run =
            text(engine.run_openly(Some(frame), "(coroutine.wrap(function() return 3 end)())", &Cancel::default()));
        let _ = engine.assign_expression(Some(frame), "seen", "10 * 2");
        for kind in engine.scopes(frame).unwrap() {
            engine.children(kind.handle, Part::All, Page::first(50)).unwrap();
        }
        assert!(engine.peek(Some(frame), "coroutine.wrap").is_some());
        assert!(engine.complete(Some(frame), "cor").contains(&"coroutine".to_owned()));
        engine.whole_text(Some(frame), "('x'):rep(10)").unwrap();
        engine.names_used(Some(frame), "boat.crew");
        if let Ok(track) = engine.track(Some(frame), "boat") {
            engine.probe(track);
            engine.untrack(track);
        }
        engine.rules_out("level == 3");
        kept.borrow_mut().push(format!("{line}: {condition} {said} {statement} {kept_value} {run}; {raised}"));
        Go::Freely
    });
    ran.outcome.unwrap();
    let rest = "{1, {2}} 3; it raised a value that is no text (a table)";
    assert_eq!(*seen.borrow(), [format!("4: true 7m 1 {rest}"), format!("4: true 8m 21 {rest}")]);
}

#[test]
fn an_error_is_a_value_like_any_other() {
    let every = BreakpointSpec::at(Site::Error { every: true, containing: None });
    let told = Rc::new(RefCell::new(Vec::new()));
    let kept = told.clone();
    let script = "\
local function deeper() error({ code = 8 }) end
local ok, why = pcall(error, { code = 7, list = { 'a', 'b' } })
assert(not ok and why.code == 9)
ok, why = pcall(error, nil)
ok, why = pcall(error, 12.5)
ok, why = pcall(error, setmetatable({}, { __tostring = function() ran = true return 'own' end }))
assert(ran == nil)
raised = 'a global'
pcall(error, 'x')";
    let ran = run_with(script, vec![every], move |engine, _| {
        let shown = |outcome: Result<Vec<Value>, EngineError>| match outcome {
            Ok(values) => values[0].preview.clone(),
            Err(error) => error.to_string(),
        };
        kept.borrow_mut().push(shown(engine.evaluate(Some(0), "raised")));
        kept.borrow_mut()
            .push(shown(engine.evaluate(Some(0), "type(raised) == 'table' and raised.list and raised.list[2]")));
        if kept.borrow().len() == 2 {
            let nested = shown(engine.evaluate(Some(0), "select(2, pcall(error, 'other'))"));
            kept.borrow_mut().push(nested);
            engine.assign_expression(Some(0), "raised.code", "raised.code + 2").unwrap();
            let why = engine.assign_expression(Some(0), "raised", "1").unwrap_err().to_string();
            kept.borrow_mut().push(why);
        }
        Go::Freely
    });
    ran.outcome.unwrap();
    let told = told.take();
    // Before 5.3 a number is raised as a text.
    let number = if is_since("5.3") { "12.5" } else { "\"12.5\"" };
    assert_eq!(told[..3], ["{code = 7, list = {\"a\", \"b\"}}", "\"b\"", "\"other\""], "{told:#?}");
    assert!(told[3].contains("raised"), "{told:#?}");
    assert_eq!((told[4].as_str(), told[6].as_str()), ("nil", number), "{told:#?}");
    assert_eq!(told[10], "\"a global\"", "{told:#?}");
    assert!(ran.raises[3].starts_with("6: {}"), "{:?}", ran.raises);
}

#[test]
fn a_handler_that_raises_is_reported_once() {
    let ran = run("\
local times = 0
local ok, why = xpcall(function() error('first', 0) end, function(message) times = times + 1 error('again') end)
assert(not ok and times > 100)
ok, why = xpcall(function() error('fine', 0) end, function(message) return message .. '!' end)
assert(why == 'fine!')
return times");
    ran.outcome.unwrap();
    let told: Vec<_> = ran.raises.iter().map(|raise| raise.split(" (").next().unwrap()).collect();
    assert_eq!(told, ["2: first", "2: test.lua:2: again", "4: fine"]);
}
