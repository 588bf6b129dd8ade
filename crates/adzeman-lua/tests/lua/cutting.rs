//! Evaluations that try not to be cut off, and texts that try to take the stack.

use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_core::engine::{Engine, EngineError};
use adzeman_core::evaluation::{Cancel, Limits};

use crate::common::{Go, at_stop, run};
use crate::versions::{NO_CLOSING, is_refused_before, is_since};

/// What scripts have made before anyone looks: originals of functions, and coroutines that wait.
const SCRIPT: &str = "\
local saved = {pcall = pcall, xpcall = xpcall, resume = coroutine.resume, close = coroutine.close,
  setmetatable = setmetatable, collect = collectgarbage, sethook = debug.sethook, exit = os.exit, error = error}
local forever = function() while true do end end
local turns = 0
local old = coroutine.create(function() while true do turns = turns + 1 end end)
local waiting = coroutine.wrap(function() coroutine.yield() while true do end end)
waiting()
local closing = coroutine.create(function()
  local held <close> = setmetatable({}, {__close = forever})
  coroutine.yield()
end)
coroutine.resume(closing)
local planted = setmetatable({}, {__gc = function() finalized = true end})
planted = nil
local level = 1
level = level + 1 --stop
return level";

#[test]
fn as_many_finalizers_as_an_evaluation_can_give_are_limited() {
    let text = "(function() while true do local a = select(2, saved.pcall(function() \
        saved.setmetatable({}, {__gc = function() while true do saved.collect('step') end end}) \
        saved.collect('collect') saved.collect() end)) end end)()";
    for seconds in [0.01, 0.05, 0.3] {
        in_time(text, move || {
            let ran = run(SCRIPT, move |engine, _| {
                for _ in 0..3 {
                    evaluate_within(engine, Duration::from_secs_f64(seconds), text).unwrap_err();
                }
                Go::Freely
            });
            for _ in 0..5 {
                ran.lua.gc_collect().unwrap();
            }
        });
    }
}

/// Fails the whole test, by name, when `work` does not come to an end.
fn in_time<T: Send + 'static>(what: &str, work: impl FnOnce() -> T + Send + 'static) -> T {
    let (done, is_done) = mpsc::channel();
    // As small a stack as threads of hosts have.
    let working = thread::Builder::new().stack_size(256 * 1024).spawn(move || done.send(work())).unwrap();
    match is_done.recv_timeout(Duration::from_secs(300)) {
        Ok(value) => value,
        Err(mpsc::RecvTimeoutError::Timeout) => {
            eprintln!("it hangs: {what}");
            std::process::exit(101);
        }
        Err(_) => panic!("{what}: {:?}", working.join().map(|_| ())),
    }
}

/// Evaluates within a short time.
fn evaluate(engine: &mut dyn Engine, text: &str) -> Result<String, EngineError> {
    evaluate_within(engine, Duration::from_millis(100), text)
}

fn evaluate_within(engine: &mut dyn Engine, asked: Duration, text: &str) -> Result<String, EngineError> {
    let limits = Limits { asked, memory_bytes: 32 * 1024 * 1024, ..Limits::default() };
    engine.allow(Some(limits.for_asked(Cancel::default())));
    let values = engine.evaluate(Some(0), text);
    engine.allow(None);
    values.map(|values| values.iter().map(|value| value.preview.as_str()).collect::<Vec<_>>().join(", "))
}

#[track_caller]
fn outcome(text: &'static str) -> Result<String, EngineError> {
    in_time(text, move || {
        at_stop(SCRIPT, move |engine| {
            let outcome = evaluate(engine, text);
            // Whatever came of it, the next one is served as always.
            assert_eq!(evaluate(engine, "level + 41").unwrap(), "42", "{text}");
            outcome
        })
    })
}

#[track_caller]
fn is_cut_off(text: &'static str) {
    let error = outcome(text).unwrap_err();
    let is_over = matches!(error, EngineError::OverTime { .. } | EngineError::OverLimit { .. });
    // Where no collection can be let through, what is made stays.
    let takes_memory = !is_since("5.3") && matches!(error, EngineError::OverMemory { .. });
    assert!(is_over || takes_memory, "{text}: {error}");
}

#[test]
fn loops_are_cut_off_wherever_they_are() {
    for text in [
        "while true do end",
        "forever()",
        "pcall(forever) forever()",
        "(function() while true do pcall(forever) end end)()",
        "xpcall(forever, forever)",
        "saved.xpcall(forever, forever)",
        "(function() while true do saved.pcall(saved.xpcall, forever, forever) end end)()",
        "local function f() pcall(f) f() end f()",
        "local function f() saved.pcall(f) f() end f()",
        "xpcall(error, function() xpcall(error, forever) forever() end)",
        "setmetatable({}, {__index = forever}).x",
        "local same = setmetatable({}, {__eq = forever}) == setmetatable({}, {}) forever()",
        "table.sort({3, 2, 1}, forever)",
        "(('x'):rep(10):gsub('x', forever))",
        "for _ in forever do end",
        // Few instructions, and slow ones.
        "local big = ('x'):rep(4000000) while true do local s = big .. big end",
        "tostring(setmetatable({}, {__tostring = forever}))",
        "load(forever)",
        if is_since("5.2") {
            "package.searchers[1] = forever require('nothing')"
        } else {
            "package.loaders[1] = forever require('nothing')"
        },
    ] {
        is_cut_off(text);
    }
}

#[test]
fn closing_values_are_cut_off() {
    if is_refused_before("5.4", NO_CLOSING) {
        return;
    }
    for text in [
        "local held <close> = setmetatable({}, {__close = forever})",
        "local held <close> = setmetatable({}, {__close = forever}) error('x')",
        "local held <close> = setmetatable({}, {__close = forever}) forever()",
        "local a <close> = setmetatable({}, {__close = forever}) local b <close> = setmetatable({}, {__close = forever}) forever()",
        "local held <close> = setmetatable({}, {__close = function() pcall(forever) forever() end}) coroutine.yield()",
        "coroutine.wrap(function() local held <close> = setmetatable({}, {__close = forever}) forever() end)()",
        "coroutine.close(closing)",
        "saved.close(closing)",
    ] {
        is_cut_off(text);
    }
    let error =
        outcome("local held <close> = setmetatable({}, {__close = coroutine.yield}) error('first')").unwrap_err();
    assert!(error.to_string().contains("yield"), "{error}");
    let error =
        outcome("local held <close> = setmetatable({}, {__close = function() error('closing') end}) error('x')");
    assert_eq!(error.unwrap_err().to_string(), "closing");
}

#[test]
fn coroutines_that_were_there_before_are_cut_off() {
    for text in [
        "coroutine.resume(old)",
        "saved.resume(old)",
        "saved.pcall(saved.resume, old)",
        "waiting()",
        "pcall(waiting) while true do saved.resume(old) end",
        "coroutine.wrap(function() saved.resume(old) end)()",
        "(function() while true do saved.resume(coroutine.create(forever)) end end)()",
    ] {
        is_cut_off(text);
    }
    // The script's own coroutine is what it was: it waits, and can be resumed.
    let status = in_time("status", || {
        at_stop(SCRIPT, |engine| {
            evaluate(engine, "saved.resume(old)").unwrap_err();
            evaluate(engine, "coroutine.status(old)").unwrap()
        })
    });
    // Before 5.3 it cannot be told whether it may yield.
    assert_eq!(status, if is_since("5.3") { "\"suspended\"" } else { "\"dead\"" });
}

#[test]
fn no_finalizer_runs_in_an_evaluation_and_later_ones_are_limited() {
    for (text, result) in [
        ("collectgarbage(), finalized", "nil, nil"),
        ("collectgarbage('collect'), pcall(collectgarbage), finalized", "nil, true, nil"),
        ("saved.collect('step', 1000), finalized", "nil, nil"),
        ("saved.collect('count') > 1 and saved.collect(), finalized", "nil, nil"),
        ("saved.collect('isrunning')", "true"),
        ("saved.collect('count') > 1 and math.type(saved.collect('count'))", "\"float\""),
        ("(function() for i = 1, 10000 do local t = {i} end return 1 end)()", "1"),
        ("select('#', setmetatable({}, {__gc = forever}))", "1"),
        ("(function() local m = {__gc = true} saved.setmetatable({}, m) m.__gc = forever return 1 end)()", "1"),
        ("select(2, pcall(setmetatable, {}, {__gc = function() pcall(forever) forever() end})) ~= nil", "true"),
        ("load('return setmetatable({}, {__gc = function() while true do end end}) ~= nil')()", "true"),
    ] {
        let found = in_time(text, move || {
            let ran = run(SCRIPT, move |engine, _| {
                assert_eq!(evaluate(engine, text).unwrap(), result, "{text}");
                Go::Freely
            });
            // What an evaluation made is collected later; that takes no longer than it may.
            let begun = Instant::now();
            ran.lua.gc_collect().unwrap();
            ran.lua.gc_collect().unwrap();
            (ran.outcome.is_ok(), begun.elapsed())
        });
        assert!(found.0, "{text}");
        assert!(found.1 < Duration::from_secs(20), "{text}: {:?}", found.1);
    }
}

#[test]
fn what_would_end_or_hold_the_host_is_not_called() {
    for (text, why) in [
        ("os.exit()", "os.exit would end the host"),
        ("saved.exit(1)", "os.exit would end the host"),
        ("pcall(os.exit) os.exit()", "os.exit would end the host"),
        ("debug.debug()", "until someone types"),
        ("debug.sethook() forever()", "cannot set a hook"),
        ("saved.sethook() forever()", "cannot set a hook"),
    ]
    .into_iter()
    .chain((!is_since("5.2")).then_some(("newproxy(true)", "may get a finalizer that no limit reaches")))
    {
        let error = outcome(text).unwrap_err();
        assert!(error.to_string().contains(why), "{text}: {error}");
    }
}

#[test]
fn memory_is_bounded() {
    for text in [
        "(function() local t = {} for i = 1, 1e9 do t[i] = {i} end end)()",
        "string.rep('x', 1e9)",
        "(function() local s = 'x' while true do s = s .. s end end)()",
    ] {
        let error = in_time(text, move || {
            at_stop(SCRIPT, move |engine| evaluate_within(engine, Duration::from_secs(30), text).unwrap_err())
        });
        assert!(matches!(error, EngineError::OverMemory { .. }), "{text}: {error}");
        let error = in_time(text, move || {
            at_stop(SCRIPT, move |engine| engine.run_openly(Some(0), text, &Cancel::default()).unwrap_err())
        });
        assert!(matches!(error, EngineError::OverMemory { .. }), "run {text}: {error}");
    }
    assert_eq!(outcome("(pcall(string.rep, 'x', 1e9))").unwrap(), "false", "the text goes on, with less");
    is_cut_off("while true do pcall(string.rep, 'x', 1e9) end");
}

#[test]
fn an_evaluation_is_cancelled_from_another_thread() {
    let error = in_time("cancelling", || {
        at_stop(SCRIPT, |engine| {
            let cancel = Cancel::default();
            engine.allow(Some(
                Limits { asked: Duration::from_secs(3600), ..Limits::default() }.for_asked(cancel.clone()),
            ));
            let cancelling = thread::spawn(move || cancel.cancel());
            let error = engine.evaluate(Some(0), "xpcall(forever, forever)").unwrap_err();
            cancelling.join().unwrap();
            engine.allow(None);
            assert_eq!(evaluate(engine, "level").unwrap(), "1");
            error
        })
    });
    assert_eq!(error, EngineError::Cancelled);
}

#[test]
fn a_call_without_a_limit_is_cancelled() {
    for text in [
        "forever()",
        "xpcall(forever, forever)",
        "saved.resume(old)",
        "while true do pcall(forever) end",
        "while true do pcall(function() local s = 'x' while true do s = s .. s end end) end",
    ] {
        let error = in_time(text, move || {
            at_stop(SCRIPT, move |engine| {
                let cancel = Cancel::default();
                let cancelling = cancel.clone();
                let cancelling = thread::spawn(move || cancelling.cancel());
                let error = engine.run_openly(Some(0), text, &cancel).unwrap_err();
                cancelling.join().unwrap();
                assert_eq!(evaluate(engine, "level").unwrap(), "1", "{text}");
                error
            })
        });
        assert_eq!(error, EngineError::Cancelled, "{text}");
    }
    let error = in_time("exit", || {
        at_stop(SCRIPT, |engine| engine.run_openly(Some(0), "os.exit()", &Cancel::default()).unwrap_err())
    });
    assert!(error.to_string().contains("os.exit would end the host"), "{error}");
}

#[test]
fn deep_and_long_texts_are_refused_and_take_no_stack() {
    let deep = |open: &str, close: &str, count: usize| format!("{}1{}", open.repeat(count), close.repeat(count));
    let texts = [
        deep("(", ")", 1554),
        deep("{", "}", 1248),
        deep("- ", "", 3053),
        deep("not ", "", 10_000),
        deep("'a' .. ", "", 8000),
        deep("f(", ")", 10_000),
        deep("a[", "]", 10_000),
        deep("(function() return ", " end)()", 1000),
        deep("1 + ", "", 15_000),
        "x".repeat(100_000),
        "a.".repeat(20_000),
        "a[b".repeat(20_000),
    ];
    for text in texts {
        let shown = text.chars().take(40).collect::<String>();
        let error = in_time(&shown.clone(), move || {
            at_stop(SCRIPT, move |engine| {
                engine.names_used(Some(0), &text);
                engine.peek(Some(0), &text);
                engine.complete(Some(0), &text);
                engine.rules_out(&text);
                let _ = engine.track(Some(0), &text);
                let _ = engine.assign_expression(Some(0), &text, &text);
                engine.evaluate(Some(0), &text).unwrap_err()
            })
        });
        let shown_error = error.to_string();
        assert!(matches!(error, EngineError::Syntax(_)) && shown_error.len() < 300, "{shown}: {shown_error}");
    }
    // What is within the bounds is read, on the same small stack.
    for (text, result) in [(deep("(", ")", 150), "1"), (deep("1 or ", "", 4774), "1"), (deep("1 + ", "", 4000), "4001")]
    {
        let found = in_time("within", move || {
            at_stop(SCRIPT, move |engine| {
                assert_eq!(engine.names_used(Some(0), &text).missing, None);
                evaluate(engine, &text)
            })
        });
        assert_eq!(found.unwrap(), result);
    }
}

#[test]
fn values_that_attack_when_their_text_is_made_are_shown_by_type() {
    for text in [
        "error(setmetatable({}, {__tostring = forever}))",
        "error(setmetatable({}, {__tostring = coroutine.wrap(forever)}))",
        "error(setmetatable({}, {__tostring = saved.error}))",
        "error(setmetatable({}, {__tostring = waiting}))",
        "error(coroutine.create(forever))",
        "coroutine.wrap(function() error(setmetatable({}, {__tostring = forever, __index = forever})) end)()",
    ] {
        let error = outcome(text).unwrap_err();
        assert!(error.to_string().contains("a value that is no text"), "{text}: {error}");
    }
}
