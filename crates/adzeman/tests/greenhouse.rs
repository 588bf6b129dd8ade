//! The example application, attached to, against a bare twin of it, which the engine's own line hook looks at.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::thread;

use adzeman::Listen;
use mlua::{HookTriggers, VmState};
use serde_json::{Value as Json, json};

#[path = "session/harness.rs"]
#[allow(dead_code, reason = "shared with the sessions' tests")]
mod harness;
#[path = "../examples/greenhouse/house.rs"]
mod house;
#[path = "../../adzeman-lua/tests/lua/versions.rs"]
mod versions;

use harness::Client;
use house::{House, describe};

const DAYS: i64 = 12;

/// How often each line of each file runs.
type Counts = BTreeMap<(String, i64), u64>;

/// The same application without any context, each state of which counts the lines that it runs once that is wanted. Answers the
/// water in the beds as well.
fn twin() -> (Counts, Vec<i64>) {
    let (counts, counting) = (Arc::new(Mutex::new(Counts::new())), Arc::new(AtomicBool::new(false)));
    let prepare = {
        let (counts, counting) = (counts.clone(), counting.clone());
        move |lua: &mlua::Lua| {
            let (counts, counting) = (counts.clone(), counting.clone());
            lua.set_global_hook(HookTriggers::EVERY_LINE, move |_, debug| {
                if counting.load(SeqCst) {
                    let (source, line) = (debug.source().short_src, debug.current_line());
                    let file = source.as_deref().unwrap_or_default().rsplit('/').next().unwrap_or_default().to_owned();
                    let line = i64::try_from(line.unwrap_or(0)).unwrap_or(0);
                    *counts.lock().unwrap().entry((file, line)).or_default() += 1;
                }
                Ok(VmState::Continue)
            })
        }
    };
    let house = House::new(describe().start(Listen::Off).unwrap(), false, Arc::new(prepare));
    let mut opened = house.open().unwrap();
    counting.store(true, SeqCst);
    let water = house.run(&mut opened, 1..=DAYS).unwrap();
    drop(opened);
    let counts = counts.lock().unwrap().clone();
    (counts, water)
}

/// What an attached client counts of lines, by breakpoints that do not stop, and which lines hold none.
struct Attached {
    counts: Counts,
    elsewhere: Vec<String>,
    water: Vec<i64>,
    limited: u64,
}

fn attached(wanted: &Counts) -> Attached {
    let host = describe().start(Listen::ANY_PORT).unwrap();
    let limited = Arc::new(AtomicU64::new(0));
    let prepare = {
        let limited = limited.clone();
        move |lua: &mlua::Lua| {
            let limited = limited.clone();
            lua.set_global_hook(HookTriggers::new().every_nth_instruction(10), move |_, _| {
                limited.fetch_add(1, SeqCst);
                Ok(VmState::Continue)
            })
        }
    };
    let house = House::new(host.clone(), true, Arc::new(prepare));
    let mut opened = house.open().unwrap();
    let mut client = Client::connect(&host);
    let asking = thread::spawn({
        let wanted = wanted.clone();
        move || {
            client.ok("initialize", json!({}));
            client.event("initialized");
            client.ok("attach", json!({}));
            set_breakpoints(&mut client, &wanted);
            client.ok("configurationDone", json!({}));
            client
        }
    });
    // Between its events the application comes to safe points.
    while !asking.is_finished() {
        host.poll();
    }
    let mut client = asking.join().unwrap();
    limited.store(0, SeqCst);
    let water = house.run(&mut opened, 1..=DAYS).unwrap();
    let asking = thread::spawn(move || client.ok("adzeman/breakpoints", json!({})));
    while !asking.is_finished() {
        host.poll();
    }
    let body = asking.join().unwrap();
    let (mut counts, mut elsewhere) = (Counts::new(), Vec::new());
    for ((place, _), held) in wanted.iter().zip(body["breakpoints"].as_array().unwrap()) {
        let is_there = |at: &Json| at.as_str().is_some_and(|at| at.ends_with(&format!("{}:{}", place.0, place.1)));
        match held["places"].as_array().into_iter().flatten().all(is_there) && held["verified"] == true {
            true => drop(counts.insert(place.clone(), held["hits"].as_u64().unwrap())),
            false => elsewhere.push(format!("{}:{} {held}", place.0, place.1)),
        }
    }
    drop(opened);
    Attached { counts, elsewhere, water, limited: limited.load(SeqCst) }
}

/// One breakpoint on each line, file by file.
fn set_breakpoints(client: &mut Client, wanted: &Counts) {
    let mut files = BTreeMap::<&str, Vec<Json>>::new();
    for (file, line) in wanted.keys() {
        let breakpoint = json!({"line": line, "logMessage": "here"});
        files.entry(file).or_default().push(breakpoint);
    }
    for (file, breakpoints) in files {
        client.ok("setBreakpoints", json!({"source": {"path": file}, "breakpoints": breakpoints}));
    }
}

#[test]
fn the_hits_of_every_breakpoint_are_those_of_a_bare_twin() {
    let (mut expected, water) = twin();
    // What the binding joins asynchronous functions by is nobody's script.
    expected.retain(|(file, _), _| !file.starts_with("__mlua_"));
    assert!(expected.len() > 60, "all of the application runs: {expected:?}");
    for _ in 0..5 {
        let found = attached(&expected);
        assert_eq!(found.water, water, "the application does the same");
        assert!(found.limited > 100, "its own hook goes on: {}", found.limited);
        let differing = found.counts.iter().filter(|(place, hits)| expected[*place] != **hits);
        let differing: Vec<_> = differing.map(|(place, hits)| (place, hits, expected[place])).collect();
        assert!(differing.is_empty(), "{differing:?}");
        // A line that only defines a function is none to stop at, and what has no text and never runs is not known: both are said.
        let is_said =
            |held: &&String| held.contains("has no code to stop at") || held.contains("nothing is known of line");
        assert!(
            found.elsewhere.len() <= 4 && found.elsewhere.iter().all(|held| is_said(&held)),
            "{:#?}",
            found.elsewhere
        );
    }
}

/// The application while somebody is attached, until that is over.
fn while_it_runs(work: impl FnOnce(&mut Client)) {
    let host = describe().start(Listen::ANY_PORT).unwrap();
    let ending = Arc::new(AtomicBool::new(false));
    let running = thread::spawn({
        let (host, ending) = (host.clone(), ending.clone());
        move || {
            let house = House::new(host, true, Arc::new(|_: &mlua::Lua| Ok(())));
            let mut opened = house.open().unwrap();
            for n in 1.. {
                house.run(&mut opened, n..=n).unwrap();
                if ending.load(SeqCst) {
                    break;
                }
            }
        }
    });
    let mut client = Client::attached(&host);
    work(&mut client);
    ending.store(true, SeqCst);
    client.ok("disconnect", json!({}));
    running.join().unwrap();
}

/// The context that stopped, the line, and what an expression is there.
fn stopped_at(client: &mut Client, expression: &str) -> (Json, i64, String) {
    let body = client.event("stopped");
    let frames = client.ok("stackTrace", json!({"threadId": body["threadId"]}));
    let frame = &frames["stackFrames"][0];
    let found = client.ok("evaluate", json!({"expression": expression, "frameId": frame["id"]}));
    (body["threadId"].clone(), frame["line"].as_i64().unwrap(), found["result"].as_str().unwrap().to_owned())
}

/// Stops once at a line, where nothing else is set then.
fn stop_once(client: &mut Client, file: &str, line: i64, expression: &str) -> (Json, i64, String) {
    let set = |client: &mut Client, lines: Json| {
        client.ok("setBreakpoints", json!({"source": {"path": file}, "breakpoints": lines}));
    };
    set(client, json!([{"line": line}]));
    let found = stopped_at(client, expression);
    set(client, json!([]));
    found
}

#[test]
fn whoever_attaches_works_with_each_of_its_shapes() {
    while_it_runs(|client| {
        client.ok("configurationDone", json!({}));
        let go_on = |client: &mut Client, thread: &Json, how: &str| client.ok(how, json!({"threadId": thread}));
        // What began before anybody came is let pass.
        let (house, _, _) = stop_once(client, "beds.lua", 37, "n");
        go_on(client, &house, "continue");
        // State that it has by `&mut`, in a module that `require` brought before anybody came.
        let (_, line, all) = stop_once(client, "climate.lua", 9, "host.beds[bed].water >= 0 and host.stock.seed3");
        assert_eq!((line, all.as_str()), (9, "40"));
        go_on(client, &house, "continue");
        // A coroutine that it resumes: the step over its yield is there when its turn comes again.
        let (_, _, name) = stop_once(client, "robot.lua", 9, "name");
        go_on(client, &house, "next");
        assert_eq!(stopped_at(client, "name"), (house.clone(), 10, name.clone()));
        go_on(client, &house, "next");
        assert_eq!(stopped_at(client, "name"), (house.clone(), 11, name));
        go_on(client, &house, "continue");
        // A task that waits, while others of its state run.
        let (orders, _, name) = stop_once(client, "orders.lua", 4, "name .. event.subject");
        go_on(client, &orders, "next");
        assert_eq!(stopped_at(client, "name .. event.subject"), (orders.clone(), 5, name));
        go_on(client, &orders, "continue");
        // A state that is there for a moment, and one that is run by whichever thread is free.
        let (job, _, subject) = stop_once(client, "job.lua", 4, "event.subject");
        assert!(subject.starts_with("\"job "), "{subject}");
        let threads = client.ok("threads", json!({}))["threads"].clone();
        let named = threads.as_array().unwrap().iter().find(|thread| thread["id"] == job).unwrap()["name"].clone();
        assert!(named.as_str().unwrap().starts_with("job"), "{threads}");
        go_on(client, &job, "continue");
        let (ledger, line, booked) = stop_once(client, "ledger.lua", 8, "booked <= 100");
        assert_eq!((line, booked.as_str()), (8, "true"));
        go_on(client, &ledger, "continue");
    });
}
