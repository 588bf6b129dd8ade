//! Hostile texts in every entry, at a stop, at the host's boundary and while it runs, on a host in a process of its own. Each is
//! cut off, or what it is stuck in is named; afterwards the host does a thousand more frames, and a new client attaches. What
//! hangs fails, with its text. `ADZEMAN_FUZZ_RUNS` says how many, `ADZEMAN_FUZZ_FIRST` from which on.

use std::io::{BufRead as _, BufReader};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use adzeman_dap::Response;
use adzeman_fuzz::{Client, ENTRIES, Entry, hostile_text, slow_texts};
use arbitrary::Unstructured;
use serde_json::{Value as Json, json};

/// Far more than anything here may take.
const LONG: Duration = Duration::from_secs(30);
/// The limits that the texts run under.
const ASKED: f64 = 100.0;
const ASIDE: f64 = 50.0;
const FRAMES: u64 = 1_000;
/// Between two looks whether something came.
const GLANCE: Duration = Duration::from_millis(10);

/// A host in a process of its own.
struct Host {
    child: Child,
    address: String,
    token: String,
}

impl Host {
    fn start() -> Self {
        let runtime = std::env::temp_dir().join(format!("adzeman-hostile-{}", std::process::id()));
        std::fs::create_dir_all(&runtime).unwrap();
        let mut child = Command::new(env!("CARGO_BIN_EXE_hostile-host"))
            .env("XDG_RUNTIME_DIR", runtime)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let (address, token) = line.trim().split_once(' ').unwrap();
        let (address, token) = (address.to_owned(), token.to_owned());
        Self { child, address, token }
    }

    fn attach(&self, what: &str) -> Client {
        let mut client = Client::over_socket(TcpStream::connect(&self.address).unwrap()).unwrap();
        let attached = client.attach(&self.token, LONG).unwrap_or_else(|| panic!("nobody can attach after {what}"));
        assert!(attached.success, "{attached:?} after {what}");
        let limits = json!({"askedMilliseconds": ASKED, "asideMilliseconds": ASIDE, "memoryBytes": 64 << 20});
        ok(&mut client, "adzeman/limits", limits, what);
        client
    }

    /// Waits until the host has done a thousand frames more, as a client that has just come, and only looks.
    fn goes_on(&mut self, what: &str) {
        let mut client = Client::over_socket(TcpStream::connect(&self.address).unwrap()).unwrap();
        let attached = client.observe(&self.token, LONG).unwrap_or_else(|| panic!("nobody can attach after {what}"));
        assert!(attached.success, "{attached:?} after {what}");
        let until = Instant::now() + LONG;
        let mut first = None;
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                panic!("the host has ended ({status}) after {what}");
            }
            let now = frames(&mut client);
            match (first, now) {
                (None, Some(now)) => first = Some(now),
                (Some(first), Some(now)) if now >= first + FRAMES => return,
                _ => {}
            }
            assert!(Instant::now() < until, "the host does not go on after {what}: {first:?}, {now:?}");
        }
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[track_caller]
fn ok(client: &mut Client, command: &str, arguments: Json, what: &str) -> Json {
    let answer = answered(client, command, arguments, what);
    assert!(answer.success, "{command}: {:?} with {what}", answer.message);
    answer.body.unwrap_or_default()
}

#[track_caller]
fn answered(client: &mut Client, command: &str, arguments: Json, what: &str) -> Response {
    client.request(command, arguments, LONG).unwrap_or_else(|| panic!("no answer to {command} with {what}"))
}

/// Stops the host on a line of its script; answers the frame.
fn stop(client: &mut Client, what: &str) -> Json {
    ok(client, "setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 10}]}), what);
    client.event("stopped", LONG).unwrap_or_else(|| panic!("no stop before {what}"));
    ok(client, "setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": []}), what);
    ok(client, "stackTrace", json!({"threadId": 1}), what)["stackFrames"][0]["id"].clone()
}

/// Sets breakpoints that have the text in them, lets the host run into them, and takes them off again.
fn runs_into(client: &mut Client, command: &str, arguments: Json, what: &str) {
    let set = ok(client, command, arguments, what);
    if set["breakpoints"][0]["verified"] != true {
        return;
    }
    // What is cut off stops, or is said; what comes to an end by itself lets the host go on.
    let (until, before) = (Instant::now() + LONG, frames(client));
    let mut is_told = false;
    while !is_told {
        is_told = ["stopped", "output", "breakpoint"].iter().any(|event| client.event(event, GLANCE).is_some())
            || before.zip(frames(client)).is_some_and(|(before, now)| now > before + 2);
        assert!(Instant::now() < until, "nothing comes of {what}");
    }
}

/// How many frames the host has done, if that can be looked at now.
fn frames(client: &mut Client) -> Option<u64> {
    let look = json!({"expression": "host.frames", "threadId": 1, "context": "hover"});
    client.request("evaluate", look, LONG)?.body?["result"].as_str()?.parse().ok()
}

/// Puts a text into an entry. `at_stop` is whether the host is stopped then.
fn put(client: &mut Client, entry: Entry, text: &str, at_stop: bool, what: &str) {
    let frame = if at_stop { stop(client, what) } else { Json::Null };
    let place = if at_stop { json!({"frameId": frame}) } else { json!({"threadId": 1}) };
    let with = |more: Json| {
        let mut arguments = place.clone();
        let fields = more.as_object().unwrap().clone();
        arguments.as_object_mut().unwrap().extend(fields);
        arguments
    };
    let line = |more: Json| {
        let mut wanted = json!({"line": 9});
        wanted.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        json!({"source": {"path": "toll.lua"}, "breakpoints": [wanted]})
    };
    match entry {
        Entry::Expression | Entry::Watch | Entry::Hover => {
            let context = match entry {
                Entry::Watch => "watch",
                Entry::Hover => "hover",
                _ => "repl",
            };
            answered(client, "evaluate", with(json!({"expression": text, "context": context})), what);
        }
        Entry::Completion => {
            let column = text.chars().count() + 1;
            answered(client, "completions", with(json!({"text": text, "column": column})), what);
        }
        Entry::Table => {
            answered(client, "adzeman/table", with(json!({"expression": text})), what);
        }
        Entry::Assignment => {
            answered(client, "setExpression", with(json!({"expression": "_G.given", "value": text})), what);
        }
        Entry::Condition => go_into(client, at_stop, "setBreakpoints", line(json!({"condition": text})), what),
        Entry::Message => {
            let text = text.replace('{', "{{").replace('}', "}}");
            let message = if text.contains("{{") { "{saved.forever()}".to_owned() } else { format!("{{{text}}}") };
            go_into(client, at_stop, "setBreakpoints", line(json!({"logMessage": message})), what);
        }
        Entry::Statement => {
            let own = json!({"adzeman": {"run": format!("local _ = {text}")}});
            go_into(client, at_stop, "setBreakpoints", line(own), what);
        }
        Entry::EventCondition => {
            let options = json!([{"filterId": "frame.update", "condition": text, "adzeman": {"atBoundary": true}}]);
            let arguments = json!({"filters": [], "filterOptions": options});
            go_into(client, at_stop, "setExceptionBreakpoints", arguments, what);
        }
        Entry::Monitor => monitor(client, text, at_stop, what),
        Entry::Run => run_and_cancel(client, with(json!({"expression": text})), what),
    }
}

fn monitor(client: &mut Client, text: &str, at_stop: bool, what: &str) {
    let arguments = json!({"expression": text, "threadId": 1, "everyMilliseconds": 1.0, "share": 1.0});
    if at_stop {
        ok(client, "continue", json!({"threadId": 1}), what);
    }
    if answered(client, "adzeman/monitor", arguments, what).success {
        client.event("adzeman/sample", LONG).unwrap_or_else(|| panic!("no sample of {what}"));
    }
}

/// Calls it without a limit, and gives the call up.
fn run_and_cancel(client: &mut Client, arguments: Json, what: &str) {
    let seq = client.send("adzeman/run", arguments);
    let answer = client.answer(seq, LONG).unwrap_or_else(|| panic!("no answer to {what}"));
    if answer.success {
        ok(client, "cancel", json!({"requestId": seq}), what);
        client.event("adzeman/ran", LONG).unwrap_or_else(|| panic!("it is not cancelled: {what}"));
    }
}

fn go_into(client: &mut Client, at_stop: bool, command: &str, arguments: Json, what: &str) {
    if at_stop {
        ok(client, "continue", json!({"threadId": 1}), what);
    }
    client.forget();
    runs_into(client, command, arguments, what);
}

/// A number that the environment may give.
fn number(name: &str, usual: u64) -> u64 {
    std::env::var(name).ok().and_then(|text| text.parse().ok()).unwrap_or(usual)
}

/// Numbers that are as good as random, the same each time.
fn bytes(seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()[3]
    };
    (0..400).map(|_| next()).collect()
}

#[test]
fn every_hostile_text_is_cut_off_in_every_entry() {
    let runs = number("ADZEMAN_FUZZ_RUNS", 120);
    let mut host = Host::start();
    for seed in number("ADZEMAN_FUZZ_FIRST", 0)..runs {
        let bytes = bytes(seed + 1);
        let text = hostile_text(&mut Unstructured::new(&bytes)).unwrap();
        let entry = ENTRIES[usize::try_from(seed).unwrap() % ENTRIES.len()];
        let at_stop = bytes[0].is_multiple_of(2);
        let shown: String = text.chars().take(400).collect();
        let what = format!("{entry:?} (seed {seed}, at a stop: {at_stop}): {shown}");
        let begun = Instant::now();
        let mut client = host.attach(&what);
        put(&mut client, entry, &text, at_stop, &what);
        // However it leaves.
        if bytes[1].is_multiple_of(2) {
            answered(&mut client, "disconnect", json!({}), &what);
        }
        drop(client);
        host.goes_on(&what);
        if std::env::var_os("ADZEMAN_FUZZ_TELL").is_some() {
            eprintln!("{:?} {what}", begun.elapsed());
        }
    }
}

#[test]
fn what_cannot_be_interrupted_is_named() {
    let mut host = Host::start();
    for (text, native) in slow_texts() {
        let mut client = host.attach(text);
        let frame = stop(&mut client, text);
        let mut other = host.attach(text);
        ok(&mut client, "adzeman/takeOver", json!({}), text);
        client.send("evaluate", json!({"expression": text, "frameId": frame}));
        let mut told = || other.event("adzeman/stuck", LONG).unwrap_or_else(|| panic!("nobody is told of {text}"));
        let mut told_of = told();
        if told_of["stuck"] == false {
            // That was the end of the one before.
            told_of = told();
        }
        assert_eq!(told_of["native"], native, "{text}");
        // The session answers meanwhile.
        assert!(answered(&mut client, "threads", json!({}), text).success);
        drop((client, other));
        host.goes_on(text);
    }
}
