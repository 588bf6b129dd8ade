//! What it costs to arm 1,000 breakpoints in a script of 10,000 lines, and what the script costs then:
//! `cargo bench -p adzeman --bench arming`. Prints ratios within the run, and the times of arming and disarming.

mod support;

use std::fmt::Write as _;
use std::hint::black_box;
use std::thread;
use std::time::{Duration, Instant, SystemTime};

use adzeman::{Event, EventKind, Host, Listen, LuaContext, PipeReader, PipeWriter};
use criterion::Criterion;
use mlua::{Function, Lua};
use serde_json::{Value as Json, json};

use support::{Client, mean};

/// Functions of the script, of [`LINES`] lines each, one of them with a breakpoint.
const FUNCTIONS: usize = 1_000;
const LINES: usize = 10;
/// The line of each function that is never reached, from 0.
const NEVER: usize = 3;
/// How often a call of the script runs all of them.
const ROUNDS: i64 = 20;

fn program() -> String {
    let mut text = "all = {}\nfunction run(n)\n  local s = 1\n".to_owned();
    text.push_str("  for _ = 1, n do for k = 1, #all do s = all[k](s) end end\n  return s\nend\n");
    for number in 1..=FUNCTIONS {
        let _ = writeln!(
            text,
            "all[{number}] = function(n)\n  local s = n\n  if s < 0 then\n    s = 1\n  end\n  s = s + {number}\n  s = s * 3\n  s = s % \
             65537\n  return s\nend"
        );
    }
    text
}

/// Lines before the first function.
const HEAD: usize = 6;

struct Bench {
    host: Host,
    run: Function,
    client: Client<PipeReader, PipeWriter>,
    _context: LuaContext,
}

impl Bench {
    fn new(text: &str) -> Self {
        let host = Host::builder("bench").event(EventKind::new("frame.update")).start(Listen::Off).expect("a host");
        let lua = Lua::new();
        let context = LuaContext::attach(&host, &lua, "main").expect("a context");
        context.load("large.lua", text).expect("a script").call::<()>(()).expect("it runs");
        let (reader, writer) = host.connect().expect("a session");
        let client = Client::attach(reader, writer, "");
        Self { run: lua.globals().get("run").expect("a function"), host, client, _context: context }
    }

    /// Sets a breakpoint in each function, or none; the script thread arms them at its next event.
    fn set(&mut self, armed: bool) {
        let lines = (0..if armed { FUNCTIONS } else { 0 }).map(|number| HEAD + number * LINES + NEVER + 1);
        let breakpoints: Vec<Json> = lines.map(|line| json!({ "line": line })).collect();
        let count = breakpoints.len();
        let arguments = json!({"source": {"path": "large.lua"}, "breakpoints": breakpoints});
        let body = self.client.request("setBreakpoints", arguments);
        let set = body["breakpoints"].as_array().expect("a list");
        assert!(set.len() == count && set.iter().all(|held| held["verified"] == true));
        self.call(0);
    }

    /// How long that takes.
    fn timed(&mut self, armed: bool) -> Duration {
        let begun = Instant::now();
        self.set(armed);
        begun.elapsed()
    }

    /// Waits until bodies are made and functions have them: by another thread, and at some events.
    fn settle(&self) {
        for _ in 0..200 {
            self.call(0);
            thread::sleep(Duration::from_millis(10));
        }
    }

    fn call(&self, rounds: i64) -> i64 {
        self.host.emit(Event::of("frame.update"), || self.run.call::<i64>(rounds)).expect("it runs")
    }
}

/// The script in one of the ways it is measured in, as a call that runs it once.
fn ready(way: &str) -> Box<dyn Fn()> {
    let text = program();
    if way == "bare" {
        let lua = Lua::new();
        lua.load(&text).exec().expect("it runs");
        let run: Function = lua.globals().get("run").expect("a function");
        return Box::new(move || {
            black_box((&lua, run.call::<i64>(black_box(ROUNDS)).expect("it runs")));
        });
    }
    let mut bench = Bench::new(&text);
    bench.set(true);
    bench.settle();
    if way == "disarmed" {
        bench.set(false);
        bench.settle();
    }
    Box::new(move || {
        black_box(bench.call(black_box(ROUNDS)));
    })
}

const WAYS: [&str; 3] = ["bare", "armed", "disarmed"];

fn main() {
    // Only that, without measuring, for counting instructions.
    if let Ok(what) = std::env::var("COST_ONCE") {
        let (way, calls) = what.split_once('/').expect("COST_ONCE is WAY/CALLS");
        let call = ready(way);
        (0..calls.parse().expect("a number")).for_each(|_: u32| call());
        return;
    }
    let begun = SystemTime::now();
    let mut criterion = Criterion::default().configure_from_args();
    let mut group = criterion.benchmark_group("arming");
    group.sample_size(20).measurement_time(Duration::from_secs(2)).warm_up_time(Duration::from_millis(300));
    for way in WAYS {
        let call = ready(way);
        group.bench_function(way, |b| b.iter(&call));
    }
    let text = program();
    // For the first time, when the text has not been read yet.
    group.bench_function("arm", |b| b.iter_custom(|times| (0..times).map(|_| Bench::new(&text).timed(true)).sum()));
    let mut bench = Bench::new(&text);
    let mut disarm = || {
        bench.set(true);
        bench.timed(false)
    };
    group.bench_function("disarm", |b| b.iter_custom(|times| (0..times).map(|_| disarm()).sum()));
    group.finish();
    criterion.final_summary();
    if let Some(bare) = mean(begun, "arming", "bare") {
        for way in &WAYS[1..] {
            let ratio = mean(begun, "arming", way).map_or(f64::NAN, |time| time / bare);
            println!("  {FUNCTIONS} breakpoints that are never reached, {way}: {ratio:.2}x");
        }
    }
    for name in ["arm", "disarm"] {
        if let Some(time) = mean(begun, "arming", name) {
            println!("  to {name} them: {:.1} ms", time / 1e6);
        }
    }
}
