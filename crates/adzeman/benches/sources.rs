//! What many sources, and very long ones, cost the host: `cargo bench -p adzeman --bench sources`. Prints the mean time of all
//! events, and the longest one, while a client sets a breakpoint in each of a number of sources, and one in a source of 100,000
//! lines; and what each source takes of memory. Three threads are busy meanwhile: by the clock, on two cores, it is a matter of who
//! is let go on.

mod support;

use std::fmt::Write as _;
use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::Instant;

use adzeman::{Event, EventKind, Host, Listen, LuaContext, PipeReader, PipeWriter};
use mlua::{Function, Lua};
use serde_json::json;

use support::{Client, Meter, worked};

/// Events that are measured behind each part.
const EVENTS: u64 = 500;

/// A source of so many functions, of ten lines each, all of which a table holds.
fn text(functions: usize) -> String {
    let mut text = "local all = {}\n".to_owned();
    for number in 1..=functions {
        let body = "  local s = n\n  if s < 0 then\n    s = 1\n  end\n  s = s + 1\n  s = s * 3\n  s = s % 65537\n  return s\nend";
        let _ = writeln!(text, "all[{number}] = function(n)\n{body}");
    }
    text.push_str("kept[#kept + 1] = all\nreturn all\n");
    text
}

fn main() {
    for sources in [100, 1_000] {
        println!("\n{sources} sources of 51 lines");
        measure(sources, 5, |client| {
            for number in 0..sources {
                let source = json!({"path": format!("s{number}.lua")});
                client.request(
                    "setBreakpoints",
                    json!({"source": source, "breakpoints": [{"line": 4, "condition": "s < -1"}]}),
                );
            }
        });
    }
    println!("\none source of 100,000 lines");
    measure(1, 10_000, |client| {
        let lines = json!([{"line": 50_004, "condition": "s < -1"}]);
        client.request("setBreakpoints", json!({"source": {"path": "s0.lua"}, "breakpoints": lines}));
    });
}

fn measure(sources: usize, functions: usize, set: impl FnOnce(&mut Client<PipeReader, PipeWriter>)) {
    let host = Host::builder("many").event(EventKind::new("tick")).start(Listen::Off).expect("a host");
    let meter = Arc::new(Meter::default());
    // Bytes that the state has, when everything that is not used is collected.
    let in_state = Arc::new(AtomicUsize::new(0));
    let (ready, is_ready) = mpsc::channel();
    let running = thread::spawn({
        let (host, meter, in_state) = (host.clone(), meter.clone(), in_state.clone());
        move || run(&host, (&meter, &in_state), &vec![text(functions); sources], &ready)
    });
    is_ready.recv().expect("the host starts");
    let mut client = support::attach(&host, &meter, EVENTS);
    let (before, before_in_state) = (support::resident(), in_state.load(SeqCst));
    meter.part("sets breakpoints", EVENTS, || set(&mut client));
    // What is made elsewhere takes its time.
    meter.part("until they are armed", EVENTS, || {
        while client.request("adzeman/breakpoints", json!({}))["breakpoints"].to_string().contains("being armed") {
            thread::sleep(std::time::Duration::from_millis(5));
        }
    });
    meter.part("armed", 2 * EVENTS, || ());
    let each = |bytes: f64| bytes / 1024.0 / sources as f64;
    let (all, of_state) = (support::resident() - before, in_state.load(SeqCst).saturating_sub(before_in_state));
    println!("{:.1} KB a source, {:.1} KB of these in the state", each(all), each(of_state as f64));
    meter.part("leaves", EVENTS, || {
        client.request("disconnect", json!({}));
    });
    meter.end();
    running.join().expect("it ends");
}

fn run(host: &Host, (meter, in_state): (&Meter, &AtomicUsize), texts: &[String], ready: &mpsc::Sender<()>) {
    let lua = Lua::new();
    let context = LuaContext::attach(host, &lua, "main").expect("a context");
    lua.globals().set("kept", lua.create_table().expect("a table")).expect("set");
    for (number, text) in texts.iter().enumerate() {
        let begun = Instant::now();
        context.load(&format!("s{number}.lua"), text).and_then(|body| body.call::<mlua::Table>(())).expect("it runs");
        if texts.len() == 1 {
            println!("loaded in {:?}", begun.elapsed());
        }
    }
    let run: Function = lua
        .load("local n = 0\nreturn function() n = n + 1\n local all = kept[n % #kept + 1]\n return all[n % #all + 1](n) end")
        .eval()
        .expect("a function");
    lua.gc_collect().expect("collected");
    in_state.store(lua.used_memory(), SeqCst);
    ready.send(()).expect("somebody waits");
    let mut events = 0;
    while !meter.is_over() {
        let begun = (Instant::now(), worked());
        let _ = host.emit(Event::of("tick"), || run.call::<u64>(()));
        meter.take(begun.0.elapsed(), worked() - begun.1);
        events += 1;
        if events % EVENTS == 0 {
            lua.gc_collect().expect("collected");
            in_state.store(lua.used_memory(), SeqCst);
        }
        thread::sleep(std::time::Duration::from_micros(100));
    }
    host.poll();
}
