//! What a thousand contexts on one thread cost: `cargo bench -p adzeman --bench contexts`. Prints the time of an event that
//! one of them handles, and the longest event while a client attaches, sets a breakpoint and leaves, for one context and for many.

mod support;

use std::sync::{Arc, mpsc};
use std::thread;
use std::time::Instant;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua};
use serde_json::json;

use support::{Meter, worked};

const SCRIPT: &str = "function update(n)\n  local twice = 2 * n\n  return twice\nend";
/// Events that are timed together.
const EVENTS: u64 = 1_000;

fn main() {
    for contexts in [1_usize, 1_000] {
        println!("\n{contexts} contexts");
        measure(contexts);
    }
}

fn measure(contexts: usize) {
    let host = Host::builder("many")
        .event(EventKind::new("tick").field("n", "its number"))
        .start(Listen::Off)
        .expect("a host");
    let meter = Arc::new(Meter::default());
    let (ready, is_ready) = mpsc::channel();
    let running = thread::spawn({
        let (host, meter) = (host.clone(), meter.clone());
        move || run(&host, &meter, contexts, &ready)
    });
    is_ready.recv().expect("the host starts");
    meter.part("nobody attached", EVENTS, || ());
    let mut client = support::attach(&host, &meter, EVENTS);
    meter.part("attached, nothing armed", EVENTS, || ());
    let mut set = |condition: &str| {
        let breakpoint = json!({"line": 3, "condition": condition});
        client.request("setBreakpoints", json!({"source": {"path": "job.lua"}, "breakpoints": [breakpoint]}));
    };
    meter.part("sets a breakpoint that is never hit", EVENTS, || set("twice < 0"));
    meter.part("armed", EVENTS, || ());
    meter.part("changes it", EVENTS, || set("twice < -1"));
    let mut set = |condition: &str| {
        let filter = json!({"filterId": "tick", "condition": condition});
        client.request("setExceptionBreakpoints", json!({"filters": [], "filterOptions": [filter]}));
    };
    meter.part("a condition on an event, never true", EVENTS, || set("event.n < 0"));
    meter.part("armed", EVENTS, || ());
    meter.part("one that only a script can tell, never true", EVENTS, || set("n < 0"));
    meter.part("armed", EVENTS, || ());
    meter.part("leaves", EVENTS, || {
        client.request("disconnect", json!({}));
    });
    meter.end();
    running.join().expect("it ends");
}

/// The host's thread: each event is handled by the next context.
fn run(host: &Host, meter: &Meter, contexts: usize, ready: &mpsc::Sender<()>) {
    let states: Vec<_> = (0..contexts)
        .map(|number| {
            let lua = Lua::new();
            let context = LuaContext::attach(host, &lua, &format!("context {number}")).expect("a context");
            context.load("job.lua", SCRIPT).and_then(|body| body.call::<()>(())).expect("it runs");
            let update: Function = lua.globals().get("update").expect("there");
            (context, update)
        })
        .collect();
    ready.send(()).expect("somebody waits");
    for (n, (_, update)) in (0_u64..).zip(states.iter().cycle()) {
        if meter.is_over() {
            break;
        }
        let begun = (Instant::now(), worked());
        let _ = host.emit(Event::of("tick").with("n", n), || update.call::<u64>(n));
        meter.take(begun.0.elapsed(), worked() - begun.1);
    }
    host.poll();
}
