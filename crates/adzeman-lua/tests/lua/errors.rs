//! Errors, reported where they are raised.

use adzeman_core::breakpoint::{BreakpointSpec, Site};

use crate::common::{Go, Ran, run_with};

fn run(script: &str) -> Ran {
    let every = BreakpointSpec::at(Site::Error { every: true, containing: None });
    run_with(script, vec![every], |_, _| Go::Freely)
}

#[test]
fn an_uncaught_error_shows_the_stack_that_raised_it() {
    let ran = run("local function inner() local t; return t.x end\nlocal function outer() inner() end\nouter()");
    let expected =
        "1: test.lua:1: attempt to index a nil value (local 't') (uncaught; inner < outer < whole script test.lua)";
    assert_eq!(ran.raises, [expected]);
    assert!(ran.outcome.is_err());
}

#[test]
fn errors_that_pcall_and_xpcall_catch_are_seen_once_and_stay_caught() {
    let ran = run("\
local ok, why = pcall(function() error({code = 5}) end)
assert(not ok and why.code == 5)
local ok, why = xpcall(function(x) error('b' .. x, 0) end, function(e) return 'handled ' .. e end, 1)
assert(not ok and why == 'handled b1')
assert(select('#', pcall(function() return 1, nil, 3 end)) == 4)");
    ran.outcome.unwrap();
    assert_eq!(ran.raises.len(), 2, "{:?}", ran.raises);
    assert!(ran.raises[0].starts_with("1: (a value of type table) (caught; error < "), "{}", ran.raises[0]);
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
    assert!(ran.raises[0].contains("bad argument #1 to 'string.rep'"), "{:?}", ran.raises);
}

#[test]
fn a_stack_that_overflows_is_reported_and_survived() {
    let ran = run(
        "local function down() return 1 + down() end\nlocal ok, why = pcall(down)\nassert(not ok and why:find('stack overflow'))",
    );
    ran.outcome.unwrap();
    assert!(ran.raises[0].contains("stack overflow"), "{:?}", ran.raises[0]);
}
