//! What looking costs: `cargo bench -p adzeman --bench looking`. The first page of very large tables against that of small
//! ones, and pages far into one against its first. Prints the differences at its end. The collector rests: each evaluation
//! lets it make a step, which in a state of this size takes more than everything else.

mod support;

use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant, SystemTime};

use adzeman::{Event, EventKind, Host, Listen, LuaContext, PipeReader, PipeWriter};
use criterion::Criterion;
use mlua::{Function, Lua};
use serde_json::{Value as Json, json};

use support::{Client, mean};

/// Stops at line 15, where all four tables are captured.
const SCRIPT: &str = "\
collectgarbage('stop')
local function list(n)
  local t = {}
  for i = 1, n do t[i] = i end
  return t
end
local function map(n)
  local t = {}
  for i = 1, n do t['key' .. i] = i end
  return t
end
local small_list, large_list = list(100), list(1000000)
local small_map, large_map = map(100), map(1000000)
function run()
  return small_list, large_list, small_map, large_map
end";
const STOP: u32 = 15;
/// Entries in a page.
const PAGE: usize = 100;
/// Pages of the large map.
const PAGES: usize = 10_000;

/// A client at a stop at which the tables are in reach.
struct AtStop {
    client: Client<PipeReader, PipeWriter>,
    frame: Json,
}

impl AtStop {
    fn reference(&mut self, expression: &str) -> Json {
        let arguments = json!({"expression": expression, "frameId": self.frame, "context": "watch"});
        self.client.request("evaluate", arguments)["variablesReference"].clone()
    }

    fn page(&mut self, reference: &Json, number: usize) {
        let page = json!({"variablesReference": reference, "start": number * PAGE, "count": PAGE});
        let body = self.client.request("variables", page);
        assert_eq!(body["variables"].as_array().map(Vec::len), Some(PAGE), "page {number}");
    }
}

fn first_pages(criterion: &mut Criterion, at: &mut AtStop) {
    let mut group = criterion.benchmark_group("first page");
    group.sample_size(30).measurement_time(Duration::from_secs(3)).warm_up_time(Duration::from_millis(300));
    for table in ["small_list", "large_list", "small_map", "large_map"] {
        group.bench_function(table, |b| {
            b.iter(|| {
                // Looked for anew, so that nothing is known of its keys.
                let reference = at.reference(table);
                at.page(&reference, 0);
            });
        });
    }
    group.finish();
}

/// Pages of a map, gone through from the first on: the time of a hundred near the beginning, and of the last hundred.
fn forward(criterion: &mut Criterion, at: &mut AtStop) {
    let mut group = criterion.benchmark_group("forward");
    group.sample_size(10).measurement_time(Duration::from_secs(5)).warm_up_time(Duration::from_millis(1));
    for (name, counted) in [("pages 200 to 299", 200..300), ("the last 100 of 10000 pages", PAGES - 100..PAGES)] {
        group.bench_function(name, |b| {
            b.iter_custom(|rounds| {
                let mut spent = Duration::ZERO;
                for _ in 0..rounds {
                    let reference = at.reference("large_map");
                    (0..counted.start).for_each(|number| at.page(&reference, number));
                    let begun = Instant::now();
                    counted.clone().for_each(|number| at.page(&reference, number));
                    spent += begun.elapsed();
                }
                spent / 100
            });
        });
    }
    group.finish();
}

fn print_differences(begun: SystemTime) {
    let mean = |group: &str, name: &str| mean(begun, group, name);
    println!("\nin this run");
    for kind in ["list", "map"] {
        let times = mean("first page", &format!("small_{kind}")).zip(mean("first page", &format!("large_{kind}")));
        if let Some((small, large)) = times {
            println!(
                "  first page of a {kind} of 1,000,000: {:.3} ms more than of 100 ({:.1}x)",
                (large - small) / 1e6,
                large / small
            );
        }
    }
    let near = mean("forward", "pages 200 to 299");
    if let Some((near, far)) = near.zip(mean("forward", "the last 100 of 10000 pages")) {
        println!("  a page near the 10,000th: {:.2}x of one near the 250th", far / near);
    }
}

fn main() {
    let begun = SystemTime::now();
    let host = Host::builder("bench").event(EventKind::new("frame.update")).start(Listen::Off).expect("a host");
    let (ready, is_ready) = mpsc::channel();
    let script = thread::spawn({
        let host = host.clone();
        move || {
            let lua = Lua::new();
            let context = LuaContext::attach(&host, &lua, "main").expect("a context");
            context.load("case.lua", SCRIPT).expect("a script").call::<()>(()).expect("it runs");
            let run: Function = lua.globals().get("run").expect("a function");
            ready.send(()).expect("the bench waits");
            while !host.is_attached() {
                thread::yield_now();
            }
            while host.is_attached() {
                host.emit(Event::of("frame.update"), || run.call::<()>(())).expect("it runs");
            }
        }
    });
    is_ready.recv().expect("the host starts");
    let (reader, writer) = host.connect().expect("a session");
    let mut client = Client::attach(reader, writer, "");
    client.request("setBreakpoints", json!({"source": {"path": "case.lua"}, "breakpoints": [{"line": STOP}]}));
    client.event("stopped");
    let frame = client.request("stackTrace", json!({"threadId": 1}))["stackFrames"][0]["id"].clone();
    let mut at = AtStop { client, frame };
    let mut criterion = Criterion::default().configure_from_args();
    first_pages(&mut criterion, &mut at);
    forward(&mut criterion, &mut at);
    criterion.final_summary();
    print_differences(begun);
    at.client.request("setBreakpoints", json!({"source": {"path": "case.lua"}, "breakpoints": []}));
    at.client.request("disconnect", json!({}));
    drop(at);
    script.join().expect("the host ends");
}
