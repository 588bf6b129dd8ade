//! What a thousand contexts on one thread cost: `cargo bench -p adzeman --bench contexts`. Prints the time of an event that
//! one of them handles, and the longest event while a client attaches, sets a breakpoint and leaves, for one context and for many.

mod support;

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua};
use serde_json::json;

use support::Client;

const SCRIPT: &str = "function update(n)\n  local twice = 2 * n\n  return twice\nend";
/// Events that are timed together.
const EVENTS: u64 = 1_000;

#[derive(Default)]
struct Measured {
    longest: AtomicU64,
    /// All time in events, and how many there were.
    total: AtomicU64,
    events: AtomicU64,
    ends: AtomicBool,
}

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
    let measured = Arc::new(Measured::default());
    let (ready, is_ready) = mpsc::channel();
    let running = thread::spawn({
        let (host, measured) = (host.clone(), measured.clone());
        move || {
            let states: Vec<_> = (0..contexts)
                .map(|number| {
                    let lua = Lua::new();
                    let context = LuaContext::attach(&host, &lua, &format!("context {number}")).expect("a context");
                    context.load("job.lua", SCRIPT).and_then(|body| body.call::<()>(())).expect("it runs");
                    let update: Function = lua.globals().get("update").expect("there");
                    (context, update)
                })
                .collect();
            ready.send(()).expect("somebody waits");
            for n in 0_u64.. {
                if measured.ends.load(SeqCst) {
                    break;
                }
                let update = &states[usize::try_from(n).unwrap_or(0) % contexts].1;
                let begun = Instant::now();
                let _ = host.emit(Event::of("tick").with("n", n), || update.call::<u64>(n));
                let took = u64::try_from(begun.elapsed().as_nanos()).unwrap_or(u64::MAX);
                measured.longest.fetch_max(took, SeqCst);
                measured.total.fetch_add(took, SeqCst);
                measured.events.fetch_add(1, SeqCst);
            }
            host.poll();
        }
    });
    is_ready.recv().expect("the host starts");
    let part = |name: &str, work: &mut dyn FnMut()| {
        measured.longest.store(0, SeqCst);
        let (total, events) = (measured.total.load(SeqCst), measured.events.load(SeqCst));
        work();
        let until = measured.events.load(SeqCst) + EVENTS;
        while measured.events.load(SeqCst) < until {
            thread::sleep(Duration::from_millis(1));
        }
        let count = measured.events.load(SeqCst) - events;
        let mean = (measured.total.load(SeqCst) - total) / count.max(1);
        println!(
            "{name:<40} {:>9.3} ms the longest event, {:>9.3} us the mean",
            measured.longest.load(SeqCst) as f64 / 1e6,
            mean as f64 / 1e3
        );
    };
    part("nobody attached", &mut || ());
    let mut ends = Some(host.connect().expect("a session"));
    let mut client = None;
    part("attaches", &mut || {
        let (reader, writer) = ends.take().expect("once");
        let mut held = Client::attach(reader, writer, "");
        held.request("configurationDone", json!({}));
        client = Some(held);
    });
    let mut client = client.expect("attached");
    part("attached, nothing armed", &mut || ());
    let mut set = |condition: &str| {
        let breakpoint = json!({"line": 3, "condition": condition});
        client.request("setBreakpoints", json!({"source": {"path": "job.lua"}, "breakpoints": [breakpoint]}));
    };
    part("sets a breakpoint that is never hit", &mut || set("twice < 0"));
    part("armed", &mut || ());
    part("changes it", &mut || set("twice < -1"));
    part("a condition on an event, never true", &mut || {
        let filter = json!({"filterId": "tick", "condition": "event.n < 0"});
        client.request("setExceptionBreakpoints", json!({"filters": [], "filterOptions": [filter]}));
    });
    part("leaves", &mut || {
        client.request("disconnect", json!({}));
    });
    measured.ends.store(true, SeqCst);
    running.join().expect("it ends");
}
