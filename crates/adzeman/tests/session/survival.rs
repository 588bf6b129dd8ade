//! Whatever ends a session's threads, and whatever a client sends, types or leaves unread: the host goes on, and everything that
//! the client had is given back.

use adzeman::core::sharing::Shared;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::thread;

use adzeman::core::engine::Need;
use adzeman::core::engine::{Engine, EngineContext, Interrupt, Syntax};
use adzeman::{ContextHandle, Host, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, SCRIPT, TestHost, Transport, on_each};

/// Numbers that overflow when something is added to them, or taken away.
const EDGES: [i64; 9] = [i64::MIN, i64::MIN + 1, -(1 << 32), -1, 0, 1 << 20, 1 << 32, i64::MAX - 1, i64::MAX];

/// A client at a stop on a line, and its innermost frame.
pub(crate) fn at_a_stop(host: &TestHost) -> (Client, Json) {
    let mut client = host.attach();
    client.break_at(&[(11, None)]);
    host.go();
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    (client, frame)
}

/// Lets it go on from there, and sees that it does.
fn goes_on(client: &mut Client, host: &TestHost) {
    client.break_at(&[]);
    client.go_on("continue");
    host.wait_frames(3);
}

#[test]
fn completions_have_any_text_and_any_column() {
    on_each(SCRIPT, |host| {
        let (mut client, frame) = at_a_stop(host);
        for text in ["look \"5 €", "€€€", "größe.ü", "lengt", "", "\u{1F6A2}.x", "a.b[\"€"] {
            for column in EDGES.into_iter().chain(1..12) {
                let answer = client.request("completions", json!({"text": text, "column": column, "frameId": frame}));
                assert!(answer.success, "{text} {column}: {answer:?}");
            }
        }
        let found = client.ok("completions", json!({"text": "€ + lengt", "column": 10, "frameId": frame}));
        assert_eq!(found["targets"], json!([{"label": "length"}]));
        assert_eq!(client.evaluate("length"), "1", "the session goes on");
    });
}

#[test]
fn numbers_at_their_limits_are_answered() {
    on_each(SCRIPT, |host| {
        host.go();
        for starts_at_1 in [true, false] {
            let mut client = host.connect();
            client.ok("initialize", json!({"linesStartAt1": starts_at_1}));
            client.ok("attach", json!({"takeOver": true}));
            for edge in EDGES {
                let source = json!({"path": "toll.lua", "sourceReference": edge});
                for (command, arguments) in [
                    (
                        "setBreakpoints",
                        json!({"source": source, "breakpoints": [{"line": edge, "hitCondition": edge.to_string()}]}),
                    ),
                    ("breakpointLocations", json!({"source": source, "line": edge, "endLine": edge})),
                    ("source", json!({"sourceReference": edge})),
                    ("stackTrace", json!({"threadId": edge, "startFrame": edge, "levels": edge})),
                    ("scopes", json!({"frameId": edge})),
                    ("variables", json!({"variablesReference": edge, "start": edge, "count": edge})),
                    ("evaluate", json!({"expression": "1", "frameId": edge})),
                    ("restartFrame", json!({"frameId": edge})),
                    ("cancel", json!({"requestId": edge})),
                    ("adzeman/goTo", json!({"threadId": 1, "line": edge, "path": "toll.lua", "count": edge})),
                    ("adzeman/goTo", json!({"threadId": 1, "event": "never", "count": edge})),
                    ("adzeman/table", json!({"expression": "{1}", "start": edge, "count": edge})),
                    ("adzeman/monitor", json!({"expression": "1", "everyMilliseconds": edge, "count": edge})),
                    ("adzeman/monitor", json!({"expression": "1", "event": "never", "count": edge, "share": edge})),
                    ("adzeman/endMonitor", json!({"monitorId": edge})),
                    ("adzeman/limits", json!({"askedMilliseconds": edge, "asideMilliseconds": edge})),
                ] {
                    client.request(command, arguments);
                }
            }
            client.ok("threads", json!({}));
        }
    });
}

/// A language in which reading a text is a fault.
struct Faulty;

impl Syntax for Faulty {
    fn check_expression(&self, _: &str) -> Result<(), String> {
        panic!("a fault that this test plants")
    }

    fn check_statement(&self, _: &str) -> Result<(), String> {
        Ok(())
    }
}

/// An engine without scripts.
struct Idle;

impl EngineContext for Idle {
    fn watch(&self, _: &Need) {}
    fn at_safe_point(&self, _: &mut dyn FnMut(&mut dyn Engine)) {}
    fn discover(&self) {}
}

impl Interrupt for Idle {
    fn prepare(&self) {}

    fn reach(&self, _: &mut BTreeSet<i64>) -> bool {
        false
    }
}

#[test]
fn a_request_that_panics_is_answered_and_the_session_goes_on() {
    let host = Host::builder("test").start(Listen::ANY_PORT).unwrap();
    let opened = ContextHandle::open(&host, "faulty", Arc::new(Faulty), |_, _| {
        Ok::<_, String>((Shared::new(Idle), Arc::new(Idle) as Arc<dyn Interrupt>))
    });
    let (_context, _) = opened.unwrap();
    let mut client = Client::attached(&host);
    let faulty = json!({"source": {"path": "x.lua"}, "breakpoints": [{"line": 1, "condition": "x"}]});
    for _ in 0..3 {
        let why = client.refused("setBreakpoints", faulty.clone());
        assert!(why.contains("a fault inside the debugger ended 'setBreakpoints'"), "{why}");
    }
    assert_eq!(client.ok("threads", json!({}))["threads"][0]["name"], "faulty");
}

/// A host object whose text cannot be made.
struct Unwritable;

impl serde::Serialize for Unwritable {
    fn serialize<S: serde::Serializer>(&self, _: S) -> Result<S::Ok, S::Error> {
        panic!("a fault that this test plants in the host")
    }
}

#[test]
fn a_fault_of_the_host_s_own_at_a_stop_is_told_and_holds_nobody() {
    let object = Arc::new(std::sync::Mutex::new(Unwritable));
    let host = Host::builder("test").object("broken", object).start(Listen::ANY_PORT).unwrap();
    let script = thread::spawn({
        let host = host.clone();
        move || {
            let lua = mlua::Lua::new();
            let context = LuaContext::attach(&host, &lua, "main").unwrap();
            let body = context.load("toll.lua", "level = 1\nadzeman.wait(20)\nadzeman.stop()\nlevel = 2").unwrap();
            body.call::<()>(()).unwrap();
            lua.globals().get::<i64>("level").unwrap()
        }
    });
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    client.refused("evaluate", json!({"expression": "host.broken", "frameId": frame}));
    client.refused("evaluate", json!({"expression": "host.broken", "frameId": frame, "context": "hover"}));
    assert_eq!(client.evaluate("level"), "1");
    client.go_on("continue");
    assert_eq!(script.join().unwrap(), 2);
}

#[test]
fn what_a_client_waits_for_can_be_cancelled() {
    on_each(SCRIPT, |host| {
        let (mut client, frame) = at_a_stop(host);
        client.ok("adzeman/limits", json!({"askedMilliseconds": 3_600_000.0}));
        let endless = json!({"expression": "(function() while true do pcall(error) end end)()", "frameId": frame});
        let waiting = client.send("evaluate", endless.clone());
        let queued = client.send("evaluate", endless);
        let behind = client.send("evaluate", json!({"expression": "length", "frameId": frame}));
        for seq in [queued, waiting] {
            client.send("cancel", json!({"requestId": seq}));
        }
        for seq in [waiting, queued] {
            let answer = client.answer_to(seq);
            assert_eq!((answer.success, answer.message.as_deref()), (false, Some("cancelled")));
        }
        assert_eq!(client.answer_to(behind).body.unwrap()["result"], "1");
        goes_on(&mut client, host);
    });
}

#[test]
fn a_call_is_cancelled_and_the_stop_is_there_again() {
    on_each(SCRIPT, |host| {
        let (mut client, frame) = at_a_stop(host);
        let endless = json!({"expression": "xpcall(function() while true do end end, print)", "frameId": frame});
        let seq = client.send("adzeman/run", endless);
        assert!(client.answer_to(seq).success);
        client.ok("cancel", json!({"requestId": seq}));
        let ran = client.event("adzeman/ran");
        assert_eq!((&ran["success"], &ran["stopped"]), (&json!(false), &json!(true)), "{ran}");
        assert!(ran["result"].as_str().unwrap().contains("cancelled"), "{ran}");
        assert_eq!(client.evaluate("length"), "1");
        goes_on(&mut client, host);
    });
}

/// What holds a script's thread when a client goes.
const HOLDING: [(&str, &str); 4] = [
    ("evaluate", "(function() while true do pcall(error) end end)()"),
    ("adzeman/run", "xpcall(function() while true do end end, function() while true do end end)"),
    ("evaluate", "xpcall(error, function() while true do end end)"),
    ("adzeman/run", "coroutine.wrap(function() while true do end end)()"),
];

#[test]
fn a_client_that_goes_takes_with_it_what_it_waits_for() {
    on_each(SCRIPT, |host| {
        host.go();
        for (round, (command, expression)) in HOLDING.into_iter().enumerate() {
            let mut client = host.attach();
            client.ok("adzeman/limits", json!({"askedMilliseconds": 3_600_000.0}));
            client.break_at(&[(11, None)]);
            client.stopped();
            let frame = client.frame(0)["id"].clone();
            client.send(command, json!({"expression": expression, "frameId": frame}));
            if round % 2 == 0 {
                client.send("disconnect", json!({}));
            }
            client.vanish();
            host.wait_frames(3);
        }
    });
}

#[test]
fn who_takes_over_ends_what_the_other_waits_for() {
    on_each(SCRIPT, |host| {
        let mut first = host.attach();
        first.ok("adzeman/limits", json!({"askedMilliseconds": 3_600_000.0}));
        first.break_at(&[(11, None)]);
        host.go();
        first.stopped();
        let frame = first.frame(0)["id"].clone();
        let endless = "(function() adzeman.say('now') while true do end end)()";
        let waiting = first.send("evaluate", json!({"expression": endless, "frameId": frame}));
        first.event("output");
        let mut second = host.attach_with(json!({"takeOver": true}));
        assert_eq!(first.answer_to(waiting).message.as_deref(), Some("cancelled"));
        second.stopped();
        second.go_on("continue");
    });
}

#[test]
fn limits_are_the_controller_s_to_change_and_go_with_it() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let usual = client.ok("adzeman/limits", json!({}));
        assert_eq!(usual, json!({"askedMilliseconds": 5000.0, "asideMilliseconds": 200.0, "memoryBytes": 256 << 20}));
        client.ok("adzeman/limits", json!({"memoryBytes": 1 << 20}));
        client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let large = json!({"expression": "#string.rep('x', 9000000)", "frameId": frame});
        assert!(client.refused("evaluate", large).contains("more than 1 MiB of memory"));
        client.ok("adzeman/limits", json!({"askedMilliseconds": 50.0}));
        let endless = json!({"expression": "(function() while true do end end)()", "frameId": frame});
        assert!(client.refused("evaluate", endless).contains("gave up after 0.05 s"));
        let mut other = host.attach();
        assert!(other.refused("adzeman/limits", json!({})).contains("observes"));
        client.vanish();
        while other.ok("adzeman/status", json!({}))["clients"].as_array().unwrap().len() > 1 {
            thread::yield_now();
        }
        other.ok("adzeman/takeOver", json!({}));
        assert_eq!(other.ok("adzeman/limits", json!({})), usual);
    });
}

/// The length of a text in which a search backtracks for a second or two before it finds nothing.
const BACKTRACKING: usize = if cfg!(debug_assertions) { 240 } else { 340 };

#[test]
fn one_call_that_cannot_be_interrupted_is_named_and_the_session_answers() {
    on_each(SCRIPT, |host| {
        let (mut client, frame) = at_a_stop(host);
        client.ok("adzeman/limits", json!({"askedMilliseconds": 20.0}));
        let slow = format!("(string.find(string.rep('a', {BACKTRACKING}), string.rep('a*', 3) .. 'b'))");
        // Who comes later may come too late to be told.
        let mut other = host.attach();
        let waiting = client.send("evaluate", json!({"expression": slow, "frameId": frame}));
        let told = other.event("adzeman/stuck");
        assert_eq!((&told["stuck"], &told["native"]), (&json!(true), &json!("string.find")), "{told}");
        assert!(told["description"].as_str().unwrap().contains("in 'string.find'"), "{told}");
        assert_eq!(other.ok("threads", json!({}))["threads"][0]["name"], "main");
        let why = client.answer_to(waiting);
        assert!(!why.success, "{why:?}");
        let text = why.message.unwrap();
        assert!(text.contains("string.find") || text.contains("gave up"), "{text}");
        while other.event("adzeman/stuck")["stuck"] != false {}
        goes_on(&mut client, host);
    });
}

/// A host whose script is in something that cannot be interrupted for some seconds of each frame: who asks it to pause is told
/// `what` that is, and who looks, too. It stops once that is over.
#[track_caller]
fn is_named(slow: &str, what: &str) {
    let script = format!(
        "local text, pattern = string.rep('a', {}), string.rep('a*', 3) .. 'b'\nfunction update(n)\n  {slow}\nend",
        // For longer than the two seconds that a request waits.
        BACKTRACKING * 4 / 3
    );
    let host = TestHost::start(Transport::Socket, &script);
    let mut client = host.attach();
    host.go();
    loop {
        client.ok("pause", json!({"threadId": 1}));
        // It may come to a line before it is in there again.
        let (name, told) = client.first_of(&["stopped", "adzeman/stuck"]);
        if name == "stopped" {
            client.go_on("continue");
            continue;
        }
        assert_eq!((&told["stuck"], &told["native"]), (&json!(true), &json!(what)), "{told}");
        assert!(told["description"].as_str().unwrap().contains("the script has been in"), "{told}");
        break;
    }
    // It may be answered between two frames.
    let mut asked = (0..20).map(|_| client.request("evaluate", json!({"expression": "1", "threadId": 1})));
    let why = asked.find(|answer| !answer.success).and_then(|answer| answer.message).expect("it is refused in there");
    assert!(why.contains(&format!("main is in {what}")) || why.contains("not come to a point"), "{why}");
    while client.event("adzeman/stuck")["stuck"] != false {}
    client.ok("pause", json!({"threadId": 1}));
    client.event("stopped");
    client.vanish();
    host.wait_frames(1);
    host.end();
}

#[test]
fn what_the_script_itself_is_stuck_in_is_named() {
    is_named("string.find(text, pattern)", "string.find");
    let times = if cfg!(debug_assertions) { 400_000_000_u64 } else { 3_000_000_000 };
    let finalizer = format!("setmetatable({{}}, {{__gc = function() for i = 1, {times} do end end}}) collectgarbage()");
    is_named(&finalizer, "a finalizer of the script");
}

#[test]
fn a_host_that_runs_no_script_is_told_from_one_in_a_long_call() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    let mut client = host.attach();
    // It waits to be let go, and does not poll meanwhile.
    let why = client.refused("evaluate", json!({"expression": "1", "threadId": 1}));
    assert!(why.contains("main runs no script"), "{why}");
    host.go();
    host.wait_frames(3);
    assert_eq!(client.ok("evaluate", json!({"expression": "1 + 1", "threadId": 1}))["result"], "2");
}

#[test]
fn a_text_longer_than_a_message_does_not_end_the_session() {
    let script = "function update(n)\n  if n == 2 then adzeman.say(string.rep('x', 9000000)) end\n  if n == 4 then error(string.rep('y', 9000000)) end\n  return n\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        for (category, begin) in [("console", "xxx"), ("stderr", "frame.update of frame 4 failed")] {
            let body = client.event("output");
            let text = body["output"].as_str().unwrap();
            assert_eq!(body["category"], category);
            assert!(text.starts_with(begin) && text.contains("… (cut: 90") && text.len() < 100_000, "{}", text.len());
        }
        client.ok("threads", json!({}));
    });
}
