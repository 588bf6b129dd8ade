//! Who gets in, and who may do what; how hosts are found and waited for.

use std::collections::HashSet;
use std::net::TcpListener;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::{Event, EventKind, Host, Listen, ListenError, LuaContext, Token};
use proptest::prelude::*;
use serde_json::{Value as Json, json};

use crate::harness::{Client, LONG, SCRIPT, TestHost, Transport};

#[test]
fn over_tcp_the_token_is_asked_for_before_anything_else() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    let mut client = Client::over(std::net::TcpStream::connect(host.host.address().unwrap()).unwrap());
    client.ok("initialize", json!({}));
    for command in ["threads", "adzeman/status", "configurationDone", "adzeman/library"] {
        let why = client.refused(command, json!({}));
        assert!(why.contains("asks for its token"), "{command}: {why}");
    }
    let breakpoints = json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11}]});
    assert!(client.refused("setBreakpoints", breakpoints).contains("asks for its token"));
    assert!(client.refused("attach", json!({})).contains("asks for its token"));
    let almost = host.host.token().replace('a', "b");
    for wrong in ["", "x", &almost[..10], &format!("{}0", host.host.token())] {
        assert!(client.refused("attach", json!({"token": wrong})).contains("not this host's token"), "{wrong}");
    }
    assert!(!client.has_event("initialized"), "nothing is to be configured yet");
    let role = client.ok("attach", json!({"token": host.host.token()}));
    assert_eq!(role["role"], "control");
    client.event("initialized");
    client.ok("threads", json!({}));
}

#[test]
fn every_start_has_its_own_token_and_none_is_shown() {
    let tokens: HashSet<_> = (0..20).map(|_| Host::builder("test").start(Listen::Off).unwrap().token()).collect();
    assert_eq!(tokens.len(), 20);
    assert!(tokens.iter().all(|token| token.len() == 64));
    let token = Token::new("a token that was agreed upon").unwrap();
    let listen = Listen::Exposed("127.0.0.1:0".parse().unwrap(), token);
    assert!(!format!("{listen:?}").contains("agreed"), "{listen:?}");
    assert!(matches!(Token::new("short"), Err(ListenError::WeakToken)));
    let host = Host::builder("test").start(listen).unwrap();
    assert_eq!(host.token(), "a token that was agreed upon");
}

#[test]
fn one_client_controls_and_the_others_look() {
    let host = TestHost::start(Transport::Pipe, SCRIPT);
    let mut first = host.attach();
    first.break_at(&[(6, None)]);
    host.go();
    first.stopped();
    let mut second = host.attach();
    let (body, line) = second.stopped();
    assert_eq!((body["reason"].as_str(), line), (Some("breakpoint"), 6), "who comes late is told of the stop");
    assert_eq!(second.scope("Locals"), "length = 1; sum = 11");
    let frame = second.frame(0)["id"].clone();
    let hover = second.ok("evaluate", json!({"expression": "length", "frameId": frame, "context": "hover"}));
    assert_eq!(hover["result"], "1");
    let refused = [
        ("evaluate", json!({"expression": "length", "frameId": frame, "context": "repl"})),
        ("setExpression", json!({"expression": "length", "value": "2", "frameId": frame})),
        ("setVariable", json!({"variablesReference": 1, "name": "length", "value": "2"})),
        ("continue", json!({"threadId": 1})),
        ("next", json!({"threadId": 1})),
        ("pause", json!({"threadId": 1})),
        ("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11}]})),
        ("setExceptionBreakpoints", json!({"filters": ["frame.update"]})),
        ("adzeman/run", json!({"expression": "fare(1)"})),
        ("adzeman/monitor", json!({"expression": "total"})),
        ("restartFrame", json!({"frameId": frame})),
    ];
    for (command, arguments) in refused {
        let why = second.refused(command, arguments);
        assert_eq!(
            why,
            "this client observes, and test controls: it may look, and nothing else; 'take over' takes control"
        );
    }
    let status = second.ok("adzeman/status", json!({}));
    assert_eq!(status["contexts"][0], json!({"name": "main", "state": "stopped"}));
    let roles: Vec<_> = status["clients"].as_array().unwrap().iter().map(|client| client["role"].clone()).collect();
    assert_eq!(roles, ["control", "observe"]);

    second.ok("adzeman/takeOver", json!({}));
    let told = first.event("adzeman/role");
    assert_eq!((&told["role"], &told["controlledBy"]), (&json!("observe"), &json!("test")));
    assert!(first.refused("continue", json!({"threadId": 1})).contains("this client observes"));
    first.vanish();
    while second.ok("adzeman/status", json!({}))["clients"].as_array().unwrap().len() > 1 {
        thread::yield_now();
    }
    assert_eq!(second.evaluate("sum"), "11", "the stop is the one's who controls");
    second.go_on("continue");
    host.wait_frames(3);
}

#[test]
fn a_host_can_let_clients_look_only() {
    let host = Host::builder("test").observers_only().start(Listen::ANY_PORT).unwrap();
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    assert_eq!(client.ok("attach", json!({"takeOver": true}))["role"], "observe");
    assert!(client.refused("adzeman/takeOver", json!({})).contains("look, and nothing else"));
    assert!(client.refused("pause", json!({"threadId": 1})).contains("look, and nothing else"));
}

#[test]
fn a_stop_is_kept_for_a_client_that_is_expected_back() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    let mut client = host.attach_with(json!({"keepStopSeconds": 60}));
    client.break_at(&[(6, None)]);
    host.go();
    client.stopped();
    client.vanish();
    while host.host.is_attached() {
        thread::yield_now();
    }
    let mut again = host.attach();
    assert_eq!(again.stopped().1, 6);
    again.go_on("continue");
    host.wait_frames(2);
    // One that says goodbye is not expected back.
    let mut polite = host.attach_with(json!({"keepStopSeconds": 60, "takeOver": true}));
    polite.break_at(&[(6, None)]);
    polite.stopped();
    polite.ok("disconnect", json!({}));
    host.wait_frames(3);
}

/// Runs `scripts` on a thread of a host that was started with `listen`, once its context is open.
fn on_thread<T: Send + 'static>(
    host: &Host,
    scripts: impl FnOnce(&mlua::Lua, &LuaContext) -> T + Send + 'static,
) -> thread::JoinHandle<T> {
    let host = host.clone();
    thread::spawn(move || {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(&host, &lua, "main").unwrap();
        scripts(&lua, &context)
    })
}

#[test]
fn scripts_are_held_until_someone_is_there() {
    let host = Host::builder("test").start(Listen::Wait(LONG)).unwrap();
    let ran = Arc::new(AtomicBool::new(false));
    let script = on_thread(&host, {
        let ran = ran.clone();
        move |lua, context| {
            ran.store(true, SeqCst);
            context.load("start.lua", "level = 1\nlevel = 2").unwrap().call::<()>(()).unwrap();
            lua.globals().get::<i64>("level").unwrap()
        }
    });
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    loop {
        let status = client.ok("adzeman/status", json!({}));
        if status["contexts"][0]["state"] == "waiting" {
            break;
        }
        thread::yield_now();
    }
    assert!(!ran.load(SeqCst));
    client.ok("attach", json!({}));
    client.ok("setBreakpoints", json!({"source": {"path": "start.lua"}, "breakpoints": [{"line": 2}]}));
    assert!(!ran.load(SeqCst), "who has attached may still set what they want set");
    client.ok("configurationDone", json!({}));
    let (_, line) = client.stopped();
    assert_eq!(line, 2, "code that runs at the start is reached");
    client.go_on("continue");
    assert_eq!(script.join().unwrap(), 2);
}

#[test]
fn the_first_line_stops_when_asked_and_nobody_waits_for_ever() {
    let host = Host::builder("test").start(Listen::First(LONG)).unwrap();
    let script = on_thread(&host, |_, context| {
        context.load("start.lua", "level = 1\nlevel = 2").unwrap().call::<()>(()).unwrap();
    });
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    let (body, line) = client.stopped();
    assert_eq!((body["reason"].as_str(), line), (Some("pause"), 1));
    client.go_on("continue");
    script.join().unwrap();
    let host = Host::builder("test").start(Listen::Wait(Duration::from_millis(30))).unwrap();
    on_thread(&host, |_, _| ()).join().unwrap();
}

/// The host can be come to as soon as it is started, before it has any script.
#[test]
fn the_first_line_stops_of_who_was_ready_before_there_was_a_context() {
    let host = Host::builder("test").start(Listen::First(LONG)).unwrap();
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    let run = |_: &mlua::Lua, context: &LuaContext| {
        context.load("start.lua", "level = 1\nlevel = 2").unwrap().call::<()>(()).unwrap();
    };
    let script = on_thread(&host, run);
    let (body, line) = client.stopped();
    assert_eq!((body["reason"].as_str(), line), (Some("pause"), 1));
    client.go_on("continue");
    script.join().unwrap();
    // What is opened later is none that scripts begin with.
    on_thread(&host, run).join().unwrap();
}

#[test]
fn a_host_dials_out_to_where_someone_waits() {
    let waiting = TcpListener::bind("127.0.0.1:0").unwrap();
    let host = Host::builder("test").start(Listen::Dial(waiting.local_addr().unwrap())).unwrap();
    let mut client = Client::over(waiting.accept().unwrap().0);
    client.ok("initialize", json!({}));
    client.event("initialized");
    assert_eq!(client.ok("attach", json!({}))["role"], "control");
    assert_eq!(client.ok("adzeman/host", json!({}))["name"], "test");
    assert_eq!(host.address(), None, "nothing is opened to the network");
}

#[test]
fn a_script_can_stop_wait_and_say_by_itself() {
    let script = "\
function update(n)
  local kept = n
  if n == 3 then
    adzeman.stop()
  end
  if n == 4 then adzeman.say('at', n, nil) end
  return kept
end";
    let host = TestHost::start(Transport::Pipe, script);
    let mut client = host.attach();
    host.go();
    let (body, line) = client.stopped();
    assert_eq!((body["reason"].as_str(), line), (Some("script"), 4));
    assert_eq!(client.scope("Locals"), "n = 3; kept = 3");
    let globals = client.scope("Globals");
    assert!(!globals.contains("adzeman"), "{globals}");
    client.go_on("next");
    assert_eq!(client.stopped().1, 6);
    client.go_on("continue");
    let said = client.event("output");
    assert_eq!((said["category"].as_str(), said["output"].as_str()), (Some("console"), Some("at\t4\tnil\n")));
    assert_eq!(said["line"], 6);
}

#[test]
fn a_script_waits_for_someone_and_is_free_without() {
    let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::ANY_PORT).unwrap();
    let script = on_thread(&host, |lua, context| {
        let text = "adzeman.stop() adzeman.say('nobody') early = adzeman.wait(0.01)\nlate = adzeman.wait(20)";
        context.load("start.lua", text).unwrap().call::<()>(()).unwrap();
        (lua.globals().get::<bool>("early").unwrap(), lua.globals().get::<bool>("late").unwrap())
    });
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    while client.ok("adzeman/status", json!({}))["contexts"][0]["state"] != "waiting" {
        thread::yield_now();
    }
    client.ok("attach", json!({}));
    client.ok("configurationDone", json!({}));
    let (_, late) = script.join().unwrap();
    assert!(late);
    // The same without a debugger: the shim of docs/attaching.md.
    let lua = mlua::Lua::new();
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/attaching.md")).unwrap();
    let shim = page.split("```lua\n").nth(1).and_then(|block| block.split("```").next()).unwrap();
    lua.load(format!("{shim}\nadzeman.stop() adzeman.say('x') return adzeman.wait(1)")).exec().unwrap();
}

/// In a process of its own: other tests open and close things too.
#[test]
fn a_thousand_clients_come_and_go_and_leave_nothing() {
    alone("trust::come_and_go");
}

/// Runs an ignored test in a process of its own.
#[track_caller]
pub(crate) fn alone(test: &str) {
    let alone = [test, "--exact", "--ignored"];
    let output = std::process::Command::new(std::env::current_exe().unwrap()).args(alone).output().unwrap();
    let shown = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success() && shown.contains("1 passed"), "{}", shown.chars().take(4000).collect::<String>());
}

#[test]
#[ignore = "the test above runs it"]
fn come_and_go() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    host.go();
    let count = |folder: &str| std::fs::read_dir(folder).map_or(0, Iterator::count);
    let threads = || count("/proc/self/task");
    let rounds = |number: usize| {
        for round in 0..number {
            let mut client = host.attach();
            client.break_at(&[(11, (round % 4 > 0).then_some("n < 0"))]);
            client.ok("evaluate", json!({"expression": "{1, 2}", "threadId": 1, "context": "repl"}));
            if round % 4 == 0 {
                client.stopped();
            }
            client.ok("disconnect", json!({}));
            assert!(client.is_dropped());
            while host.host.is_attached() {
                thread::yield_now();
            }
            // It goes on, also when it was stopped.
            host.wait_frames(2);
        }
    };
    let idle = threads();
    rounds(200);
    let (handles, memory) = (count("/proc/self/fd"), resident());
    rounds(800);
    // The last reading thread is about to end.
    let until = Instant::now() + LONG;
    while threads() > idle {
        assert!(Instant::now() < until, "{idle} threads, then {}", threads());
        thread::yield_now();
    }
    let (handles_after, memory_after) = (count("/proc/self/fd"), resident());
    assert!(handles_after <= handles, "{handles} handles, then {handles_after}");
    assert!(memory_after < memory + 4 * 1024, "{memory} kB, then {memory_after} kB");
    println!(
        "resident: {memory} kB after 200 rounds, {memory_after} kB after 1,000; handles: {handles}, {handles_after}"
    );
}

/// Memory of this process, in kB.
pub(crate) fn resident() -> usize {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0)
}

#[test]
fn bounds_hold() {
    let host = TestHost::start(Transport::Socket, SCRIPT);
    let mut client = host.attach();
    let line = |condition: String| json!({"line": 12, "condition": condition});
    let many: Vec<_> = (0..5001).map(|n| line(format!("n == -{n}"))).collect();
    let set = client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": many}));
    let message = |at: usize| set["breakpoints"][at]["message"].as_str().unwrap_or_default();
    assert!(
        message(5000).contains("at most 5000 breakpoints") && !message(4999).contains("at most"),
        "{}",
        message(5000)
    );
    client.break_at(&[]);
    let deep = format!("{}1{}", "[".repeat(200), "]".repeat(200));
    let body = format!("{{\"seq\":1,\"type\":\"request\",\"command\":\"threads\",\"arguments\":{{\"x\":{deep}}}}}");
    let mut nested = host.connect();
    nested.send_raw(format!("Content-Length: {}\r\n\r\n{body}", body.len()).as_bytes());
    assert!(nested.is_dropped(), "nesting beyond what JSON is read to");
    client.ok("threads", json!({}));
}

/// Any request, with arguments that fit or do not.
fn any_request() -> impl Strategy<Value = (String, Json)> {
    let command = prop::sample::select(vec![
        "initialize",
        "attach",
        "configurationDone",
        "threads",
        "stackTrace",
        "scopes",
        "variables",
        "evaluate",
        "setVariable",
        "setExpression",
        "completions",
        "setBreakpoints",
        "setFunctionBreakpoints",
        "setExceptionBreakpoints",
        "dataBreakpointInfo",
        "setDataBreakpoints",
        "continue",
        "next",
        "stepIn",
        "stepOut",
        "pause",
        "source",
        "loadedSources",
        "breakpointLocations",
        "restartFrame",
        "adzeman/host",
        "adzeman/status",
        "adzeman/table",
        "adzeman/shape",
        "adzeman/monitor",
        "adzeman/sampleNow",
        "adzeman/endMonitor",
        "adzeman/goTo",
        "adzeman/armed",
        "adzeman/library",
        "adzeman/breakpoints",
        "adzeman/takeOver",
        "nonsense",
    ]);
    let scalar = prop_oneof![
        Just(json!(null)),
        any::<bool>().prop_map(|value| json!(value)),
        (-3_i64..2_000_000).prop_map(|value| json!(value)),
        prop::sample::select(vec!["total", "length +", "toll.lua", "*", "frame.update", "event.n", "\u{1}"])
            .prop_map(|text| json!(text)),
    ];
    let name = prop::sample::select(vec![
        "threadId",
        "frameId",
        "expression",
        "variablesReference",
        "source",
        "breakpoints",
        "filters",
        "name",
        "value",
        "line",
        "start",
        "count",
        "filter",
        "context",
        "armed",
        "paths",
        "event",
        "monitorId",
        "text",
        "column",
        "path",
        "levels",
    ]);
    let arguments = prop::collection::vec((name, scalar), 0..6)
        .prop_map(|fields| Json::Object(fields.into_iter().map(|(name, value)| (name.to_owned(), value)).collect()));
    (command.prop_map(str::to_owned), arguments)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Whatever is asked, in whatever order: every request is answered, and the host goes on.
    #[test]
    fn every_request_is_answered(requests in prop::collection::vec(any_request(), 1..40)) {
        let host = TestHost::start(Transport::Pipe, SCRIPT);
        host.go();
        let mut client = host.connect();
        for (command, arguments) in requests {
            let _ = client.request(&command, arguments);
        }
        client.request("disconnect", json!({}));
        drop(client);
        host.wait_frames(2);
    }

    /// Whatever bytes come: the connection is dropped or waits for more, and others are served.
    #[test]
    fn no_bytes_disturb_the_host(bytes in prop::collection::vec(any::<u8>(), 0..2000), framed in any::<bool>()) {
        let host = TestHost::start(Transport::Pipe, SCRIPT);
        let mut garbage = host.connect();
        if framed {
            garbage.send_raw(format!("Content-Length: {}\r\n\r\n", bytes.len()).as_bytes());
        }
        garbage.send_raw(&bytes);
        let mut client = host.attach();
        client.ok("threads", json!({}));
    }
}

#[test]
fn events_are_raised_as_always_for_observers() {
    let host = Host::builder("test").event(EventKind::new("frame.update")).observers_only().start(Listen::Off).unwrap();
    assert_eq!(host.emit(Event::of("frame.update"), || Ok::<_, String>(7)), Ok(7));
}
