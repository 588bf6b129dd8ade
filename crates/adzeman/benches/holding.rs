//! For how long any one event is held on account of who is attached: `cargo bench -p adzeman --bench holding`. A game loop with
//! 200 entities at 60 frames a second runs beside a heap of a million values, some of which a few collections have gone through,
//! and measures each of its own events, by its own clock. Meanwhile a client attaches, sets and removes breakpoints, steps, looks
//! into a large object of the host, and leaves. Prints the longest event of each part, and of the frames before anyone came.

mod support;

use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::{About, Event, EventKind, Host, Listen, LuaContext, PipeReader, PipeWriter, Placed};
use mlua::{Function, Lua};
use serde::Serialize;
use serde_json::json;

use support::{Client, Meter, worked};

/// A heap, and a game of entities that are each in a coroutine of their own, suspended in the middle of their behaviour.
const SCRIPT: &str = "\
local values, kind = ...
heap = {}
for i = 1, values do heap[i] = kind == 'closures' and function() return i end or { i } end
if kind == 'churned' then
  for round = 1, 3 do
    for i = round, values, 3 do heap[i] = { i, round } end
    collectgarbage()
  end
end
local entities = {}
local function behave(entity)
  while true do
    local speed = entity.speed
    entity.x = entity.x + speed
    if entity.x > 1000 then
      entity.x = 0
    end
    coroutine.yield(entity.x)
  end
end
for i = 1, 200 do
  local entity = { x = i, speed = i % 7 }
  entity.step = coroutine.wrap(function() behave(entity) end)
  entities[i] = entity
end
local function move(entity)
  local at = entity.step()
  return at
end
function update(dt)
  local sum = 0
  for i = 1, #entities do
    local entity = entities[i]
    sum = sum + move(entity)
  end
  return sum
end
";
/// In `move`, which is never on a stack between two frames; in `behave`, which always is.
const PLAIN: i64 = 28;
const SUSPENDED: i64 = 15;
/// In `update`, where steps begin.
const STEPS: i64 = 34;

#[derive(Serialize)]
struct Big {
    rows: Vec<Row>,
}

#[derive(Serialize)]
struct Row {
    name: String,
    x: f64,
    y: f64,
}

/// Frames that are measured behind each part.
const FRAMES: u64 = 120;

fn main() {
    let values: usize = std::env::var("HOLDING_VALUES").ok().and_then(|text| text.parse().ok()).unwrap_or(1_000_000);
    for kind in ["fresh", "churned", "closures"] {
        println!("\n{values} values, {kind}");
        measure(values, kind);
    }
}

fn measure(values: usize, kind: &'static str) {
    let rows = (0..100_000).map(|n| Row { name: format!("barge {n}"), x: n as f64, y: 0.5 }).collect();
    let boats: Vec<Row> = (0..10_000).map(|n| Row { name: format!("boat {n}"), x: f64::from(n), y: 0.5 }).collect();
    let host = Host::builder("game")
        .event(EventKind::new("frame.update").field("dt", "seconds"))
        .object("big", Arc::new(Mutex::new(Big { rows })))
        .object("boats", Arc::new(Mutex::new(boats)))
        .about("boats", About::new("").placed("*", Placed::at("x", "y").sized(2.0, 1.0)))
        .start(Listen::Off)
        .expect("a host");
    let meter = Arc::new(Meter::default());
    let (ready, is_ready) = mpsc::channel();
    let game = thread::spawn({
        let (host, meter) = (host.clone(), meter.clone());
        move || play(&host, &meter, (values, kind), &ready)
    });
    is_ready.recv().expect("the game starts");
    meter.part("nobody attached", FRAMES, || ());
    let mut client = support::attach(&host, &meter, FRAMES);
    work(&meter, &mut client);
    meter.part("leaves", FRAMES, || {
        client.request("disconnect", json!({}));
    });
    meter.end();
    game.join().expect("the game ends");
}

/// The game loop, on its own thread.
fn play(host: &Host, meter: &Meter, script: (usize, &str), ready: &mpsc::Sender<()>) {
    let lua = Lua::new();
    let context = LuaContext::attach(host, &lua, "game").expect("a context");
    context.load("game.lua", SCRIPT).and_then(|body| body.call::<()>(script)).expect("the script runs");
    let update: Function = lua.globals().get("update").expect("there");
    ready.send(()).expect("somebody waits");
    while !meter.is_over() {
        // The host's clock stands still while a person looks at a stop.
        let begun = (host.clock(), worked());
        let _ = host.emit(Event::of("frame.update").with("dt", 0.016), || update.call::<f64>(0.016));
        let took = host.clock() - begun.0;
        meter.take(took, worked() - begun.1);
        thread::sleep(Duration::from_millis(16).saturating_sub(took));
    }
    host.poll();
}

/// What a person does who is attached.
fn work(meter: &Meter, client: &mut Client<PipeReader, PipeWriter>) {
    let set = |client: &mut Client<_, _>, lines: &[i64], condition: Option<&str>| {
        let wanted: Vec<_> = lines.iter().map(|line| json!({"line": line, "condition": condition})).collect();
        client.request("setBreakpoints", json!({"source": {"path": "game.lua"}, "breakpoints": wanted}));
    };
    let before = meter.count();
    meter.part("first breakpoint, never true", FRAMES, || {
        set(client, &[PLAIN], Some("at < 0"));
        // The script takes notice at its next event.
        while meter.count() < before + 2 {
            thread::sleep(Duration::from_millis(1));
        }
        while client.request("adzeman/breakpoints", json!({}))["breakpoints"].to_string().contains("being armed") {
            thread::sleep(Duration::from_millis(1));
        }
        println!("armed in full within {} events", meter.count() - before);
    });
    meter.part("100 changes of it", FRAMES, || {
        for n in 0..50 {
            set(client, &[PLAIN], Some(&format!("at < -{n}")));
            set(client, &[], None);
        }
    });
    meter.part("one where 200 coroutines are suspended", FRAMES, || set(client, &[SUSPENDED], Some("speed < 0")));
    meter.part("and away", FRAMES, || set(client, &[], None));
    meter.part("into, over, out, on", FRAMES, || {
        set(client, &[STEPS], None);
        client.event("stopped");
        for step in ["stepIn", "stepIn", "stepIn", "next", "stepOut"] {
            client.request(step, json!({"threadId": 1}));
            client.event("stopped");
        }
        set(client, &[], None);
        client.request("continue", json!({"threadId": 1}));
    });
    meter.part("counts at a stop, and looks for holders", FRAMES, || {
        set(client, &[STEPS], None);
        client.event("stopped");
        let body = client.request("adzeman/census", json!({"threadId": 1}));
        let (values, own) = (&body["census"]["values"], &body["census"]["ownBytes"]);
        println!(
            "{values} values counted at a stop in {:.0} ms, with {own} bytes",
            body["milliseconds"].as_f64().unwrap_or(0.0)
        );
        let begun = Instant::now();
        let held = client.request("adzeman/holders", json!({"expression": "update", "threadId": 1}));
        println!(
            "{} values looked at for holders in {:.0} ms",
            held["holders"]["lookedAt"],
            begun.elapsed().as_secs_f64() * 1000.0
        );
        set(client, &[], None);
        client.request("continue", json!({"threadId": 1}));
    });
    meter.part("looks into a host object of 100,000 rows", FRAMES, || {
        for n in 0..20 {
            let path = format!("host.big.rows[{}].x", 5_000 * n + 1);
            client.request("evaluate", json!({"expression": path, "context": "repl"}));
        }
    });
    meter.part("a page of it, and the next", FRAMES, || {
        let body = client.request("evaluate", json!({"expression": "host.big.rows", "context": "repl"}));
        for start in [0, 100, 50_000] {
            let page = json!({"variablesReference": body["variablesReference"], "start": start, "count": 100});
            client.request("variables", page);
        }
    });
    meter.part("figures", FRAMES, || {
        (0..20).for_each(|_| drop(client.request("adzeman/figures", json!({}))));
    });
    meter.part("a census of the whole", FRAMES, || {
        let body = client.request("adzeman/census", json!({"threadId": 1}));
        let values = &body["census"]["values"];
        println!(
            "{values} values counted in {} parts, {:.0} ms",
            body["parts"],
            body["milliseconds"].as_f64().unwrap_or(0.0)
        );
    });
    meter.part("where 10,000 objects lie", FRAMES, || {
        client.request("adzeman/plan", json!({"path": "host.boats"}));
    });
    meter.part("a profile of two seconds", FRAMES, || {
        let body = client.request("adzeman/profile", json!({"milliseconds": 2000}));
        println!("a profile took {:.2}% of the time", body["share"].as_f64().unwrap_or(0.0) * 100.0);
    });
    meter.part("monitors a part of it", FRAMES, || {
        client.request("adzeman/monitor", json!({"expression": "host.big.rows[77].x", "everyMilliseconds": 50}));
    });
}
