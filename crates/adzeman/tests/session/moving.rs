//! Contexts that move between threads: with the feature `send`, whichever thread runs a state has its context.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Barrier, mpsc};
use std::thread::{self, JoinHandle};

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua};
use serde_json::json;

use crate::harness::{Client, LONG};

const SCRIPT: &str = "\
count = 0
function update(n)
  local twice = 2 * n
  count = count + 1
  return twice
end
function spin(wanted, begun)
  local turns = 0
  begun()
  while not stopped do
    turns = turns + 1
  end
  return wanted
end
";

/// A state with a script, for whichever thread comes.
struct Plant {
    // Closed before the state goes.
    context: LuaContext,
    lua: Lua,
}

impl Plant {
    fn open(host: &Host, name: &str) -> Arc<Self> {
        let lua = Lua::new();
        let context = LuaContext::attach(host, &lua, name).unwrap();
        context.load(&format!("{name}.lua"), SCRIPT).unwrap().call::<()>(()).unwrap();
        Arc::new(Self { context, lua })
    }

    fn function(&self, name: &str) -> Function {
        self.lua.globals().get(name).unwrap()
    }

    /// One event, in which the script's `update` runs, with or without saying that this thread runs it.
    fn update(&self, host: &Host, n: i64, enters: bool) -> i64 {
        let event = || Event::of("frame.update").subject(("frame", n.unsigned_abs())).with("n", n);
        let update = self.function("update");
        let run = || host.emit(event(), || update.call(n)).unwrap();
        if enters { self.context.enter(run) } else { run() }
    }
}

fn start() -> Host {
    Host::builder("test")
        .event(EventKind::new("frame.update").field("n", "its number"))
        .start(Listen::ANY_PORT)
        .unwrap()
}

fn attach(host: &Host) -> Client {
    let mut client = Client::attached(host);
    client.ok("configurationDone", json!({}));
    client
}

fn break_at(client: &mut Client, name: &str, line: i64, condition: Option<&str>) {
    let breakpoint = json!({"line": line, "condition": condition});
    let body = client.ok("setBreakpoints", json!({"source": {"path": name}, "breakpoints": [breakpoint]}));
    assert_eq!(body["breakpoints"][0]["verified"], true, "{body}");
}

/// Does `work` on a thread of its own.
fn elsewhere<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> JoinHandle<T> {
    thread::spawn(work)
}

#[test]
fn a_state_stops_is_looked_at_and_stepped_on_whichever_thread_runs_it() {
    for enters in [true, false] {
        let host = start();
        let plant = elsewhere({
            let host = host.clone();
            move || Plant::open(&host, "plant")
        })
        .join()
        .unwrap();
        let mut client = attach(&host);
        break_at(&mut client, "plant.lua", 4, None);
        for n in 1..=6 {
            let running = elsewhere({
                let (host, plant) = (host.clone(), plant.clone());
                move || plant.update(&host, n, enters)
            });
            let (body, line) = client.stopped();
            assert_eq!((body["reason"].as_str(), line), (Some("breakpoint"), 4), "frame {n}");
            assert_eq!(client.evaluate("100 * n + twice"), (102 * n).to_string());
            client.go_on("next");
            assert_eq!(client.stopped().1, 5);
            assert_eq!(client.evaluate("count"), n.to_string());
            client.go_on("continue");
            assert_eq!(running.join().unwrap(), 2 * n);
        }
    }
}

#[test]
fn an_event_stops_in_the_state_that_handles_it_and_a_condition_sees_it() {
    let host = start();
    let plants: Vec<_> = (0..3).map(|number| Plant::open(&host, &format!("plant{number}"))).collect();
    let mut client = attach(&host);
    let filter = json!({"filterId": "frame.update", "condition": "event.n == 7"});
    client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": [filter]}));
    for (n, plant) in (5..9).zip(plants.iter().cycle().skip(1)) {
        let running = elsewhere({
            let (host, plant) = (host.clone(), plant.clone());
            move || plant.update(&host, n, true)
        });
        if n == 7 {
            let (body, line) = client.stopped();
            assert_eq!((body["threadId"].as_i64(), line), (Some(1), 3), "the third one from the second on: {body}");
            client.go_on("continue");
        }
        assert_eq!(running.join().unwrap(), 2 * n);
    }
    assert!(!client.has_event("stopped"));
}

/// A thread of its own in whose `spin` the script of a plant is; and what it returns.
fn spin(plant: &Arc<Plant>, enters: bool) -> JoinHandle<i64> {
    let plant = plant.clone();
    let (begun, has_begun) = mpsc::channel();
    let running = elsewhere(move || {
        let spin = plant.function("spin");
        let tell = plant.lua.create_function(move |_, ()| begun.send(()).map_err(mlua::Error::external)).unwrap();
        let run = || spin.call((11, tell)).unwrap();
        if enters { plant.context.enter(run) } else { run() }
    });
    has_begun.recv_timeout(LONG).unwrap();
    running
}

#[test]
fn a_pause_and_a_new_breakpoint_reach_an_endless_loop_on_another_thread_than_the_first() {
    let host = start();
    let plant = Plant::open(&host, "plant");
    let mut client = attach(&host);
    let running = spin(&plant, true);
    client.ok("pause", json!({"threadId": 1}));
    let (body, _) = client.stopped();
    assert_eq!(body["reason"], "pause");
    client.go_on("continue");
    break_at(&mut client, "plant.lua", 11, Some("turns > 100"));
    assert_eq!(client.stopped().1, 11);
    let frame = client.frame(0)["id"].clone();
    client.ok("evaluate", json!({"expression": "stopped = true", "frameId": frame, "context": "repl"}));
    client.ok("setBreakpoints", json!({"source": {"path": "plant.lua"}, "breakpoints": []}));
    client.go_on("continue");
    assert_eq!(running.join().unwrap(), 11);
}

#[test]
fn a_pause_asked_for_when_a_thread_has_come_by_stops_the_first_line_that_runs() {
    let host = start();
    let plant = Plant::open(&host, "plant");
    let mut client = attach(&host);
    let (begun, has_begun) = mpsc::channel();
    let (asked, is_asked) = mpsc::channel();
    let running = elsewhere(move || {
        for n in 0..50 {
            let update = plant.function("update");
            let run = || {
                begun.send(()).unwrap();
                is_asked.recv_timeout(LONG).unwrap();
                update.call::<i64>(n).unwrap()
            };
            plant.context.enter(run);
        }
    });
    for _ in 0..50 {
        has_begun.recv_timeout(LONG).unwrap();
        client.ok("pause", json!({"threadId": 1}));
        // It is answered before it is carried out, and this is answered afterwards.
        client.ok("threads", json!({}));
        asked.send(()).unwrap();
        assert_eq!(client.stopped().0["reason"], "pause");
        client.go_on("continue");
    }
    running.join().unwrap();
}

#[test]
fn a_thread_that_does_not_run_the_state_is_not_interrupted_in_its_place() {
    let host = start();
    let plant = Plant::open(&host, "plant");
    let mut client = attach(&host);
    // This thread is where the context was made; another one runs it, and does not say so.
    let running = spin(&plant, false);
    client.ok("pause", json!({"threadId": 1}));
    let why = client.refused("evaluate", json!({"expression": "count", "context": "repl"}));
    assert!(why.contains("has not come to a point"), "{why}");
    // The client goes; the state itself is freed by the script's own thread, in the only way that there is.
    drop(client);
    let lua = plant.lua.clone();
    let ending = elsewhere(move || lua.globals().set("stopped", true).is_ok());
    assert!(!running.is_finished() && !ending.is_finished(), "the state is locked for as long as the script runs");
    // Saying which thread it is, once it comes by, is not possible for a thread in an endless loop: end the process with it.
    std::mem::forget((running, ending, plant, host));
}

#[test]
fn who_asks_for_an_idle_state_is_answered_when_a_thread_comes_by_with_it() {
    let host = start();
    let plant = elsewhere({
        let host = host.clone();
        // The thread that made it is gone by the time that anybody asks.
        move || Plant::open(&host, "plant")
    })
    .join()
    .unwrap();
    let mut client = attach(&host);
    let asked = client.send("evaluate", json!({"expression": "count + 41", "context": "repl"}));
    elsewhere({
        let (host, plant) = (host.clone(), plant.clone());
        move || {
            plant.update(&host, 1, true);
            while host.is_attached() {
                plant.context.enter(|| host.poll());
                thread::yield_now();
            }
        }
    });
    let answer = client.answer_to(asked);
    assert!(answer.success, "{answer:?}");
    let told: i64 = answer.body.unwrap()["result"].as_str().unwrap().parse().unwrap();
    assert!((41..=42).contains(&told));
}

#[test]
fn a_breakpoint_in_a_state_whose_host_never_calls_us_is_hit_by_its_next_call() {
    let host = start();
    let plant = Plant::open(&host, "plant");
    plant.function("update").call::<i64>(1).unwrap();
    let mut client = attach(&host);
    break_at(&mut client, "plant.lua", 5, None);
    let running = elsewhere(move || {
        let update = plant.function("update");
        let mut calls = 0;
        while update.call::<i64>(2).unwrap() == 4 {
            calls += 1;
        }
        calls
    });
    assert_eq!(client.stopped().1, 5);
    let frame = client.frame(0)["id"].clone();
    client.ok("evaluate", json!({"expression": "twice = 5", "frameId": frame, "context": "repl"}));
    client.go_on("continue");
    running.join().unwrap();
}

#[test]
fn a_monitor_goes_where_its_context_goes() {
    let host = start();
    let plant = Plant::open(&host, "plant");
    let mut client = attach(&host);
    client.ok("adzeman/monitor", json!({"expression": "count", "event": "frame.update", "share": 1.0}));
    for n in 1..=5 {
        let (host, plant) = (host.clone(), plant.clone());
        elsewhere(move || plant.update(&host, n, true)).join().unwrap();
        let sample = client.event("adzeman/sample");
        assert_eq!((sample["value"].as_str(), sample["success"].as_bool()), (Some(n.to_string().as_str()), Some(true)));
    }
    // Closed on yet another thread; the next one that comes by says so, once.
    elsewhere(move || drop(plant)).join().unwrap();
    assert_eq!(client.event("thread")["reason"], "exited");
    let other = Plant::open(&host, "other");
    for n in 0..3 {
        other.update(&host, n, true);
    }
    let sample = client.event("adzeman/sample");
    assert!(sample["value"].as_str().unwrap().contains("gone"), "{sample}");
    client.ok("threads", json!({}));
    assert!(!client.has_event("adzeman/sample"));
}

/// Many states, fewer threads, and whichever is free takes the next: every breakpoint is hit as often as its line runs, whatever
/// is set, asked and stepped meanwhile.
#[test]
fn states_that_hop_between_threads_are_hit_as_often_as_their_lines_run() {
    const STATES: usize = 5;
    const THREADS: usize = 4;
    const ROUNDS: usize = 60;
    let host = start();
    let plants: Arc<Vec<_>> =
        Arc::new((0..STATES).map(|number| Plant::open(&host, &format!("plant{number}"))).collect());
    let mut client = attach(&host);
    for number in 0..STATES {
        let message = json!({"line": 5, "logMessage": "{count} of {n}"});
        let source = json!({"path": format!("plant{number}.lua")});
        client.ok("setBreakpoints", json!({"source": source, "breakpoints": [message]}));
    }
    // From the next time on that they are come by with.
    plants.iter().for_each(|plant| plant.context.enter(|| ()));
    let (next, begins) = (Arc::new(AtomicUsize::new(0)), Arc::new(Barrier::new(THREADS + 1)));
    let threads: Vec<_> = (0..THREADS)
        .map(|thread| {
            let (host, plants, next, begins) = (host.clone(), plants.clone(), next.clone(), begins.clone());
            elsewhere(move || {
                begins.wait();
                loop {
                    let turn = next.fetch_add(1, SeqCst);
                    if turn >= STATES * ROUNDS {
                        return;
                    }
                    let n = i64::try_from(turn).unwrap();
                    let enters = (turn + thread) % 3 != 0;
                    assert_eq!(plants[turn % STATES].update(&host, n, enters), 2 * n);
                }
            })
        })
        .collect();
    begins.wait();
    let asking = Arc::new(AtomicBool::new(true));
    let mut asked = 0;
    while asking.load(SeqCst) {
        // Whether it comes by in time is the threads' business; a refusal is an answer, too.
        let id = i64::try_from(asked % STATES + 1).unwrap();
        client.request("evaluate", json!({"expression": "count", "context": "repl", "threadId": id}));
        asked += 1;
        asking.store(threads.iter().any(|thread| !thread.is_finished()), SeqCst);
    }
    threads.into_iter().for_each(|thread| thread.join().unwrap());
    // All that was said is there once this is answered.
    client.ok("threads", json!({}));
    let mut said = Vec::new();
    while client.has_event("output") {
        let output = client.event("output");
        said.push(output["output"].as_str().unwrap().trim().to_owned());
    }
    said.retain(|text| text.contains(" of "));
    assert_eq!(said.len(), STATES * ROUNDS, "each frame said something once");
    let mut frames: Vec<usize> = said.iter().map(|text| text.rsplit(' ').next().unwrap().parse().unwrap()).collect();
    frames.sort_unstable();
    assert_eq!(frames, (0..STATES * ROUNDS).collect::<Vec<_>>());
}
