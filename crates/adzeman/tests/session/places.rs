//! Places for clients, and what those who take one, flood it, keep silent or are killed leave behind.

use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpStream};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::discovery::Announcement;
use adzeman::{Host, Listen};
use serde_json::{Value as Json, json};

use crate::harness::{Client, LONG, SCRIPT, TestHost, Transport};
use crate::survival::at_a_stop;
use crate::trust::{alone, resident};

/// The ways in which a client can be at a stop when it is killed.
const STOPS: [(&str, &str); 5] = [
    ("setBreakpoints", r#"{"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11}]}"#),
    ("setFunctionBreakpoints", r#"{"breakpoints": [{"name": "fare"}]}"#),
    ("setExceptionBreakpoints", r#"{"filters": ["frame.update"]}"#),
    ("setExceptionBreakpoints", r#"{"filters": ["error.every"]}"#),
    ("pause", r#"{"threadId": 1}"#),
];

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
    for mut leaving in silent {
        // The host hangs up when the place is free.
        leaving.shutdown(Shutdown::Write).unwrap();
        let _ = leaving.read_to_end(&mut Vec::new());
    }
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
    alone("places::flat_memory");
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
