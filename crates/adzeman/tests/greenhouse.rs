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

fn attached(wanted: &Counts, condition: Option<&str>) -> Attached {
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
        let (wanted, condition) = (wanted.clone(), condition.map(str::to_owned));
        move || {
            client.ok("initialize", json!({}));
            client.event("initialized");
            client.ok("attach", json!({}));
            set_breakpoints(&mut client, &wanted, condition.as_deref());
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
fn set_breakpoints(client: &mut Client, wanted: &Counts, condition: Option<&str>) {
    let mut files = BTreeMap::<&str, Vec<Json>>::new();
    for (file, line) in wanted.keys() {
        let breakpoint = json!({"line": line, "logMessage": "here", "condition": condition});
        files.entry(file).or_default().push(breakpoint);
    }
    for (file, breakpoints) in files {
        client.ok("setBreakpoints", json!({"source": {"path": file}, "breakpoints": breakpoints}));
    }
}

#[test]
fn the_hits_of_every_breakpoint_are_those_of_a_bare_twin() {
    let (expected, water) = twin();
    let files: std::collections::BTreeSet<_> = expected.keys().map(|(file, _)| file.as_str()).collect();
    println!("{} lines in {files:?}", expected.len());
    let found = attached(&expected, None);
    println!("{} lines counted; elsewhere: {:#?}", found.counts.len(), found.elsewhere);
    assert_eq!(found.water, water, "the application does the same");
    assert!(found.limited > 100, "its own hook goes on: {}", found.limited);
    let differing: Vec<_> = found.counts.iter().filter(|(place, hits)| expected[*place] != **hits).collect();
    let differing: Vec<_> = differing.iter().map(|(place, hits)| (place, hits, expected[*place])).collect();
    assert!(differing.is_empty(), "{differing:?}");
}
