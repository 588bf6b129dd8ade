//! Whatever ends a session's threads, and whatever a client sends, types or leaves unread: the host goes on, and everything that
//! the client had is given back.

use adzeman::core::sharing::Shared;
use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpStream};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use adzeman::core::engine::Need;
use adzeman::core::engine::{Engine, EngineContext, Interrupt, Syntax};
use adzeman::discovery::Announcement;
use adzeman::{ContextHandle, Host, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, LONG, SCRIPT, TestHost, Transport, on_each};
use crate::trust::{alone, resident};

/// Numbers that overflow when something is added to them, or taken away.
const EDGES: [i64; 9] = [i64::MIN, i64::MIN + 1, -(1 << 32), -1, 0, 1 << 20, 1 << 32, i64::MAX - 1, i64::MAX];

/// A client at a stop on a line, and its innermost frame.
fn at_a_stop(host: &TestHost) -> (Client, Json) {
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
    fn interrupt(&self) -> bool {
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
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok("attach", json!({}));
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
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok("attach", json!({}));
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
        client.ok("adzeman/limits", json!({"askedMilliseconds": 50.0, "memoryBytes": 1 << 20}));
        client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let endless = json!({"expression": "(function() while true do end end)()", "frameId": frame});
        assert!(client.refused("evaluate", endless).contains("gave up after 0.05 s"));
        let large = json!({"expression": "#string.rep('x', 9000000)", "frameId": frame});
        assert!(client.refused("evaluate", large).contains("more than 1 MiB of memory"));
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

#[test]
fn one_call_that_cannot_be_interrupted_is_named_and_the_session_answers() {
    on_each(SCRIPT, |host| {
        let (mut client, frame) = at_a_stop(host);
        client.ok("adzeman/limits", json!({"askedMilliseconds": 20.0}));
        // Backtracks for some seconds.
        let slow = "(string.find(string.rep('a', 300), string.rep('a*', 3) .. 'b'))";
        let waiting = client.send("evaluate", json!({"expression": slow, "frameId": frame}));
        let mut other = host.attach();
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
        "local text, pattern = string.rep('a', 300), string.rep('a*', 3) .. 'b'\nfunction update(n)\n  {slow}\nend"
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
    let why = client.refused("evaluate", json!({"expression": "1", "threadId": 1}));
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

#[test]
fn a_flood_of_requests_is_refused_and_others_are_served() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    let (mut client, frame) = at_a_stop(&host);
    client.ok("adzeman/limits", json!({"askedMilliseconds": 3_600_000.0}));
    let waiting =
        client.send("evaluate", json!({"expression": "(function() while true do end end)()", "frameId": frame}));
    let flood: Vec<_> = (0..600).map(|_| client.send("threads", json!({}))).collect();
    let last = client.answer_to(*flood.last().unwrap());
    assert!(last.message.unwrap().contains("512 requests wait for their answers already"));
    client.send("cancel", json!({"requestId": waiting}));
    assert!(client.answer_to(flood[0]).success);
    assert!(client.answer_to(flood[400]).success);
    client.ok("threads", json!({}));
}

#[test]
fn who_is_turned_away_is_told_why_and_the_owner_always_gets_in() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    let address = host.host.address().unwrap();
    let silent: Vec<_> = (0..32).map(|_| TcpStream::connect(address).unwrap()).collect();
    // One more than there is room for, as soon as all are seated.
    let mut last = loop {
        let mut client = Client::over(TcpStream::connect(address).unwrap());
        client.send_raw(
            b"Content-Length: 65\r\n\r\n{\"seq\":1,\"type\":\"request\",\"command\":\"initialize\",\"arguments\":{}}",
        );
        if client.is_dropped() && client.has_event("adzeman/turnedAway") {
            break client;
        }
    };
    let why = last.event("adzeman/turnedAway");
    assert!(why["reason"].as_str().unwrap().contains("32 clients that have not attached"), "{why}");
    assert!(last.event("output")["output"].as_str().unwrap().contains("32 clients"));
    #[cfg(unix)]
    {
        let announced = adzeman::discovery::announced().unwrap();
        // The port may have been that of a host of another process, which has gone without a word.
        let is_own = |note: &Announcement| note.process_id == std::process::id() && note.address == Some(address);
        let own = announced.iter().find(|found| is_own(&found.announcement)).unwrap();
        let adzeman::discovery::Connection::Local(_) = own.connect().unwrap() else { panic!("by the local socket") };
    }
    let (reader, writer) = host.host.connect().unwrap();
    let mut inside = Client::within(reader, writer);
    inside.ok("initialize", json!({}));
    assert_eq!(inside.ok("attach", json!({}))["role"], "control");
    drop(silent);
    // With their places free, sixteen can attach, and one more is told why not.
    let mut attached = Vec::new();
    while attached.len() < 16 {
        attached.push(host.attach());
    }
    let mut client = Client::connect(&host.host);
    client.ok("initialize", json!({}));
    let why = client.refused("attach", json!({}));
    assert!(why.contains("16 clients are attached over TCP already"), "{why}");
    attached.pop();
    while !client.request("attach", json!({})).success {
        thread::yield_now();
    }
}

#[test]
fn a_client_that_says_little_is_dropped_after_a_time_all_in_all() {
    let host = Host::builder("test").start(Listen::ANY_PORT).unwrap();
    let mut drip = TcpStream::connect(host.address().unwrap()).unwrap();
    drip.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
    let begun = Instant::now();
    let mut said = Vec::new();
    let header = b"Content-Length: 100\r\n\r\n{\"seq\":1,                    ";
    let mut bytes = header.iter().cycle();
    // A byte now and then, each within any time that a single read may take.
    while begun.elapsed() < LONG {
        let _ = drip.write_all(&[*bytes.next().unwrap()]);
        match drip.read(&mut [0; 512]) {
            Ok(0) => break,
            Ok(count) => said.push(count),
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            Err(_) => break,
        }
    }
    assert!(begun.elapsed() < LONG, "it is still there");
    assert!(!said.is_empty(), "it is told why");
}

/// In a process of its own: its memory is looked at.
#[test]
fn messages_that_nobody_reads_take_no_memory() {
    alone("survival::flat_memory");
}

#[test]
#[ignore = "the test above runs it"]
fn flat_memory() {
    let script = "function update(n)\n  for i = 1, 100 do print(('x'):rep(200), n, i) end\nend";
    let host = TestHost::start(Transport::Socket, script);
    // Controls, and never reads.
    let mut deaf = TcpStream::connect(host.host.address().unwrap()).unwrap();
    let say = |command: &str, arguments: Json| {
        let body = json!({"seq": 1, "type": "request", "command": command, "arguments": arguments}).to_string();
        format!("Content-Length: {}\r\n\r\n{body}", body.len())
    };
    deaf.write_all(say("initialize", json!({"token": host.host.token()})).as_bytes()).unwrap();
    deaf.write_all(say("attach", json!({})).as_bytes()).unwrap();
    while !host.host.is_attached() {
        thread::yield_now();
    }
    // The script prints on its own standard output as well, which this process does not show.
    host.go();
    host.wait_frames(500);
    let before = resident();
    host.wait_frames(1000);
    let after = resident();
    assert!(after < before + 8 * 1024, "{before} kB, then {after} kB after 100,000 messages");
    println!("resident: {before} kB after 50,000 messages, {after} kB after 150,000");
    // Who comes later is served, and when the deaf one goes, all is given back.
    let mut client = host.attach();
    assert_eq!(client.ok("threads", json!({}))["threads"][0]["name"], "main");
    deaf.shutdown(Shutdown::Both).unwrap();
    while client.ok("adzeman/status", json!({}))["clients"].as_array().unwrap().len() > 1 {
        thread::yield_now();
    }
}

/// The ways in which a client can be at a stop when it is killed.
const STOPS: [(&str, &str); 5] = [
    ("setBreakpoints", r#"{"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11}]}"#),
    ("setFunctionBreakpoints", r#"{"breakpoints": [{"name": "fare"}]}"#),
    ("setExceptionBreakpoints", r#"{"filters": ["frame.update"]}"#),
    ("setExceptionBreakpoints", r#"{"filters": ["error.every"]}"#),
    ("pause", r#"{"threadId": 1}"#),
];

#[test]
fn two_hundred_kills_at_every_kind_of_stop_leave_nothing() {
    let script = SCRIPT.replace("local toll = fare(length)", "pcall(error, 'caught') local toll = fare(length)");
    let host = TestHost::start(Transport::Socket, &script);
    host.go();
    for round in 0..200 {
        let mut client = host.attach();
        let (command, arguments) = STOPS[round % STOPS.len()];
        client.ok(command, serde_json::from_str(arguments).unwrap());
        let stop = client.event("stopped");
        if round % 3 == 1 {
            client.send("next", json!({"threadId": stop["threadId"]}));
        } else if round % 3 == 2 {
            let frame = client.frame(0)["id"].clone();
            client.send("evaluate", json!({"expression": "(function() while true do end end)()", "frameId": frame}));
        }
        client.vanish();
        host.wait_frames(2);
    }
    while host.host.is_attached() {
        thread::yield_now();
    }
    let mut next = host.attach();
    assert_eq!(next.ok("adzeman/breakpoints", json!({}))["breakpoints"], json!([]));
}
