//! What a profile costs: `cargo bench -p adzeman --bench profiling`. Three kinds of scripts run for a while with a profile at one
//! sample a millisecond and without, in turn; prints the time of the processor that the same work took, as a ratio, and what the profile
//! says itself that it took.

mod support;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::thread;
use std::time::Duration;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua};
use serde_json::json;

use support::{Client, worked};

const SCRIPTS: [(&str, &str); 3] = [
    ("loop", "function update(n) local s = 0 for i = 1, 20000 do s = s + i % 7 end return s end"),
    (
        "calls",
        "local function fib(n) if n < 2 then return n end return fib(n - 1) + fib(n - 2) end function update() return fib(17) end",
    ),
    (
        "library",
        "function update(n) local t = {} for i = 1, 400 do t[i] = string.format('%05d', (i * 7919) % 1000) end table.sort(t) return #table.concat(t) end",
    ),
];
/// Windows of each kind, in turn, and how long each is.
const WINDOWS: usize = 30;
const WINDOW: Duration = Duration::from_millis(500);

fn main() {
    for (name, script) in SCRIPTS {
        measure(name, script);
    }
}

fn measure(name: &str, script: &'static str) {
    let host = Host::builder("game").event(EventKind::new("frame.update")).start(Listen::Off).expect("a host");
    let (ends, events, time) =
        (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)), Arc::new(AtomicU64::new(0)));
    let game = thread::spawn({
        let (host, ends, events, time) = (host.clone(), ends.clone(), events.clone(), time.clone());
        move || {
            let lua = Lua::new();
            let context = LuaContext::attach(&host, &lua, "game").expect("a context");
            context.load("game.lua", script).and_then(|body| body.call::<()>(())).expect("the script runs");
            let update: Function = lua.globals().get("update").expect("there");
            while !ends.load(SeqCst) {
                let begun = worked();
                let _ = host.emit(Event::of("frame.update"), || update.call::<f64>(1));
                time.fetch_add(u64::try_from((worked() - begun).as_nanos()).unwrap_or(0), SeqCst);
                events.fetch_add(1, SeqCst);
            }
            host.poll();
        }
    });
    let (reader, writer) = host.connect().expect("a session");
    let mut client = Client::attach(reader, writer, "");
    client.request("configurationDone", json!({}));
    while events.load(SeqCst) < 100 {
        thread::sleep(Duration::from_millis(1));
    }
    let window = |work: &mut dyn FnMut()| {
        let before = (time.load(SeqCst), events.load(SeqCst));
        work();
        let (time, events) = (time.load(SeqCst) - before.0, events.load(SeqCst) - before.1);
        time as f64 / events.max(1) as f64
    };
    let (mut without, mut with, mut said, mut rate) = (Vec::new(), Vec::new(), 0.0_f64, 0.0_f64);
    for _ in 0..WINDOWS {
        without.push(window(&mut || thread::sleep(WINDOW)));
        with.push(window(&mut || {
            let milliseconds = WINDOW.as_secs_f64() * 1000.0;
            let body = client.request("adzeman/profile", json!({ "milliseconds": milliseconds }));
            said = said.max(body["share"].as_f64().unwrap_or(0.0));
            rate = body["everyMilliseconds"].as_f64().unwrap_or(0.0);
        }));
    }
    ends.store(true, SeqCst);
    game.join().expect("the game ends");
    // What else is busy on the machine makes windows longer, and none shorter: the shortest quarter tells.
    let shortest = |times: &mut Vec<f64>| {
        times.sort_by(f64::total_cmp);
        times[..times.len() / 4].iter().sum::<f64>() / (times.len() / 4) as f64
    };
    let (without, with) = (shortest(&mut without), shortest(&mut with));
    println!(
        "{name:8} {:.3}x with a sample every {rate:.2} ms, which took {:.2}% by its own account",
        with / without,
        said * 100.0
    );
}
