//! Bad input, and clients and scripts that misbehave. The host goes on, whatever happens.

use adzeman::{Host, Listen, ListenError, LuaContext, StartError};
use serde_json::json;

use crate::harness::{Client, SCRIPT, on_each};
use crate::versions::cannot_index;

#[test]
fn a_condition_that_does_not_parse_is_refused_with_the_reason() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let set = client.break_at(&[(11, Some("length >")), (12, None)]);
        assert_eq!((&set[0]["verified"], &set[1]["verified"]), (&json!(false), &json!(true)));
        assert!(
            set[0]["message"].as_str().unwrap().contains("the condition 'length >' cannot be read: unexpected symbol")
        );
        host.go();
        assert_eq!(client.stopped().1, 12);
    });
}

#[test]
fn a_condition_that_fails_stops_once_and_says_why() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(11, Some("nobody.length > 2"))]);
        host.go();
        let (body, line) = client.stopped();
        assert_eq!((body["reason"].as_str(), line), (Some("condition failed"), 11));
        assert!(body["text"].as_str().unwrap().contains(&cannot_index("nil", "global 'nobody'")));
        client.go_on("continue");
        host.wait_frames(20);
        let now = client.ok("adzeman/breakpoints", json!({}));
        assert!(now["breakpoints"][0]["message"].as_str().unwrap().contains("its condition failed"), "{now}");
    });
}

#[test]
fn an_endless_condition_is_cut_off() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(11, Some("(function() while true do end end)()"))]);
        host.go();
        let (body, _) = client.stopped();
        assert!(body["text"].as_str().unwrap().contains("gave up after"), "{body}");
        client.break_at(&[]);
        client.go_on("continue");
        host.wait_frames(3);
    });
}

#[test]
fn a_script_that_raises_is_reported_and_the_host_goes_on() {
    let script = "function update(n)\n  if n == 2 then error('the gate is stuck') end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        let body = client.event("output");
        assert_eq!(body["category"], "stderr");
        let text = body["output"].as_str().unwrap();
        assert!(
            text.starts_with("frame.update of frame 2 failed:") && text.contains("toll.lua:2: the gate is stuck"),
            "{text}"
        );
        host.wait_frames(3);
    });
}

#[test]
fn a_syntax_error_at_load_says_where() {
    let host = Host::builder("test").start(Listen::Off).unwrap();
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(&host, &lua, "main").unwrap();
    let error = context.load("scripts/bad.lua", "local x =\nend").unwrap_err();
    assert!(error.to_string().contains("scripts/bad.lua:2:"), "{error}");
}

#[test]
fn a_port_in_use_and_an_open_address_are_refused() {
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let error = Host::builder("test").start(Listen::On(taken.local_addr().unwrap())).err().unwrap();
    assert!(matches!(error, StartError::Listen(ListenError::Unavailable { .. })));
    assert!(error.to_string().contains("choose another port"), "{error}");
    let error = Host::builder("test").start(Listen::at("0.0.0.0:0").unwrap()).err().unwrap();
    assert!(error.to_string().contains("Only addresses of this machine"), "{error}");
}

#[test]
fn requests_out_of_turn_say_what_must_come_first() {
    on_each(SCRIPT, |host| {
        let mut client = host.connect();
        assert_eq!(client.refused("threads", json!({})), "'threads' came too early: 'initialize' must come first");
        client.ok("initialize", json!({}));
        assert_eq!(client.refused("threads", json!({})), "'threads' came too early: 'attach' must come first");
        client.ok("attach", json!({}));
        assert!(client.refused("launch", json!({})).contains("is not understood here"));
        assert!(client.refused("scopes", json!({"frameId": "one"})).contains("the arguments of 'scopes' do not fit"));
        assert!(client.refused("scopes", json!({"frameId": -5})).contains("the frame -5 is none of this stop"));
        let many = json!({"variablesReference": 123_456});
        assert!(client.refused("variables", many).contains("earlier stop"));
        client.ok("threads", json!({}));
    });
}

#[test]
fn other_protocols_and_broken_messages_are_dropped() {
    let pieces: [&[u8]; 6] = [
        b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n",
        b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc",
        b"Content-Length: 999999999999\r\n\r\n",
        b"Content-Length: 5\r\n\r\nhello",
        b"Content-Length: 2\r\n\r\n{}",
        &[b' '; 5000],
    ];
    on_each(SCRIPT, |host| {
        for bytes in pieces {
            let mut client = host.connect();
            client.send_raw(bytes);
            assert!(client.is_dropped(), "{:?}", String::from_utf8_lossy(bytes));
        }
        let mut client = host.attach();
        client.ok("threads", json!({}));
    });
}

#[test]
fn half_a_message_disturbs_nobody() {
    on_each(SCRIPT, |host| {
        let mut half = host.connect();
        half.send_raw(b"Content-Length: 100\r\n\r\n{\"seq\":1,");
        let mut client = host.attach();
        host.go();
        host.wait_frames(2);
        client.ok("threads", json!({}));
        half.vanish();
        client.ok("threads", json!({}));
    });
}

#[test]
fn a_client_that_vanishes_at_a_stop_lets_the_host_go_on() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        client.vanish();
        host.wait_frames(10);
        assert!(!host.host.is_attached());
        let mut next = host.attach();
        assert_eq!(next.ok("adzeman/breakpoints", json!({}))["breakpoints"], json!([]));
    });
}

#[test]
fn the_end_of_the_host_is_told() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        host.host.close();
        client.event("terminated");
    });
}

#[test]
fn values_that_attack_show_as_what_they_are() {
    let script = "\
local function forever() while true do end end
function update(n)
  local trap = setmetatable({1}, {__index = forever, __tostring = forever, __len = forever, __pairs = forever, __eq = forever})
  local liar = setmetatable({}, {__tostring = function() return 5 end, __index = function() error('looked') end})
  return trap, liar
end";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(5, None)]);
        host.go();
        client.stopped();
        assert_eq!(client.scope("Locals"), "n = 1; trap = {1}; liar = {}");
        let frame = client.frame(0)["id"].clone();
        let why = client.refused("evaluate", json!({"expression": "trap.x", "frameId": frame}));
        assert!(why.contains("gave up after"), "{why}");
        let why = client.refused("evaluate", json!({"expression": "liar.x", "frameId": frame}));
        assert!(why.contains("looked"), "{why}");
        client.break_at(&[]);
        client.go_on("continue");
        host.wait_frames(3);
    });
}

#[test]
fn a_busy_host_object_is_said_to_be_busy() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        let held = host.level.lock().unwrap();
        let frame = client.frame(0)["id"].clone();
        let why = client.refused("evaluate", json!({"expression": "host.lock.metres", "frameId": frame}));
        assert!(why.contains("in use by the host at this moment"), "{why}");
        drop(held);
        assert_eq!(client.evaluate("host.lock.metres"), "1.5");
    });
}

#[test]
fn a_burst_of_twenty_thousand_messages_arrives_whole_and_in_order() {
    let script = "local at = 0\nfunction update(n)\n  if n > 1 then return end\n  for barge = 1, 20000 do\n    at = at + barge\n  end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        let message = json!({"line": 5, "logMessage": format!("{{barge}} {}", "x".repeat(100))});
        client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": [message]}));
        host.go();
        for number in 1..=20_000 {
            // Nothing else comes, such as word of messages that were dropped.
            let (name, body) = client.first_of(&["output", "adzeman/dropped"]);
            assert_eq!(name, "output", "{body}");
            let text = body["output"].as_str().unwrap();
            assert!(text.contains(&format!("{number} x")), "{number}: {text}");
        }
    });
}

#[test]
fn what_a_host_says_twice_or_not_at_all_is_said_with_its_name() {
    use adzeman::{About, Event, EventKind};
    let told = |outcome: Result<Host, StartError>| outcome.map(|_| ()).unwrap_err().to_string();
    let twice = Host::builder("works").event(EventKind::new("shift")).event(EventKind::new("shift")).start(Listen::Off);
    assert!(told(twice).contains("two kinds of events by the name 'shift'"));
    let unknown = Host::builder("works").about("mill", About::new("the mill")).start(Listen::Off);
    assert!(told(unknown).contains("'mill'"));
    let host = Host::builder("works").event(EventKind::new("shift")).start(Listen::ANY_PORT).unwrap();
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    let lua = mlua::Lua::new();
    let _context = LuaContext::attach(&host, &lua, "main").unwrap();
    for kind in ["shift", "brake", "brake"] {
        host.emit(Event::of(kind), || Ok::<_, String>(())).unwrap();
    }
    let output = client.event("output")["output"].clone();
    assert!(
        output.as_str().unwrap().contains("works raises 'brake', a kind of event that it has not declared"),
        "{output}"
    );
    client.ok("adzeman/status", json!({}));
    assert!(!client.has_event("output"), "once");
}

#[test]
fn nothing_is_no_expression() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        for context in ["repl", "watch", "hover", "clipboard", "expression", "variables"] {
            for text in ["", "  \n"] {
                let why = client.refused("evaluate", json!({"expression": text, "context": context, "threadId": 1}));
                assert!(why.contains("no expression"), "{why}");
            }
        }
        let why = client.refused("evaluate", json!({"expression": "n = 5", "context": "expression", "threadId": 1}));
        assert!(why.contains("is a statement"), "{why}");
        assert_eq!(client.frame(0)["column"], 1, "where there is a source");
        let frames = client.ok("stackTrace", json!({"threadId": 1}))["stackFrames"].clone();
        let without = frames.as_array().unwrap().iter().filter(|frame| frame["source"].is_null());
        assert!(without.clone().count() > 0 && without.clone().all(|frame| frame["column"] == 0), "{frames}");
    });
}
