//! Many contexts on one thread: events reach those that handle them, whichever that are, and nothing is reported of the others.

use std::sync::mpsc;
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua};
use serde_json::json;

use crate::harness::Client;
use crate::trust::{alone, resident};

const CONTEXTS: usize = 20;

/// `nested` raises an event of its own inside the handler.
const SCRIPT: &str = "\
local host = ...
function update(n)
  local twice = 2 * n
  return twice
end
local wrapped = coroutine.wrap(function() while true do coroutine.yield(update(n_now)) end end)
function resumed(n)
  n_now = n
  return wrapped()
end
function nested(n)
  local before = n
  host(n)
  return before
end
";

/// What happens in one event: which contexts handle it, and by which function. Made up by a small generator.
fn plan() -> Vec<Vec<(usize, &'static str)>> {
    let mut seed = 2_463_534_242_u32;
    let mut next = move |below: u32| {
        seed ^= seed << 13;
        seed ^= seed >> 17;
        seed ^= seed << 5;
        seed % below
    };
    let functions = ["update", "resumed", "nested"];
    let mut handled = |_| {
        let count = [0, 1, 1, 1, 2, 5][next(6) as usize];
        (0..count).map(|_| (next(20) as usize, functions[next(3) as usize])).collect()
    };
    (0..300).map(&mut handled).collect()
}

#[test]
fn an_event_is_reported_once_for_each_context_that_handles_it_and_at_the_boundary_where_none_does() {
    let host = Host::builder("many")
        .event(EventKind::new("tick"))
        .event(EventKind::new("inner"))
        .event(EventKind::new("end"))
        .start(Listen::ANY_PORT)
        .unwrap();
    let (go, may_go) = mpsc::channel();
    let running = thread::spawn({
        let host = host.clone();
        move || run(&host, &may_go)
    });
    let mut client = Client::attached(&host);
    let say = |kind: &str, condition: &str| {
        let own = json!({"say": "{event.name} {event.n}"});
        json!({"filterId": kind, "condition": condition, "adzeman": own})
    };
    // Nobody but a script can tell what these names are.
    let filters =
        json!([say("tick", "n == nil or n >= 0"), say("inner", "n == nil or n % 2 == 0"), say("end", "true")]);
    client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": filters}));
    client.ok("configurationDone", json!({}));
    go.send(()).unwrap();
    let mut said = Vec::new();
    while said.last().is_none_or(|last| last != "end 0") {
        said.push(client.event("output")["output"].as_str().unwrap().trim().to_owned());
    }
    assert_eq!(said, expected());
    client.ok("disconnect", json!({}));
    running.join().unwrap();
}

/// What is said: once for each context whose lines run in an event, and once where there is none.
fn expected() -> Vec<String> {
    let mut said = Vec::new();
    for (n, handled) in plan().iter().enumerate() {
        let mut seen = Vec::new();
        for (context, function) in handled {
            if !seen.contains(context) {
                seen.push(*context);
                said.push(format!("tick {n}"));
            }
            // The context's own `update` handles the inner event.
            if *function == "nested" && n % 2 == 0 {
                said.push(format!("inner {n}"));
            }
        }
        if handled.is_empty() {
            said.push(format!("tick {n}"));
        }
    }
    said.push("end 0".to_owned());
    said
}

fn run(host: &Host, may_go: &mpsc::Receiver<()>) {
    let states: Vec<_> = (0..CONTEXTS)
        .map(|number| {
            let lua = Lua::new();
            let context = LuaContext::attach(host, &lua, &format!("context {number}")).unwrap();
            let raise = {
                let host = host.clone();
                lua.create_function(move |lua, n: i64| {
                    let update: Function = lua.globals().get("update")?;
                    host.emit(Event::of("inner").with("n", n), || update.call::<i64>(n))
                })
            };
            context.load("job.lua", SCRIPT).unwrap().call::<()>(raise.unwrap()).unwrap();
            (context, lua)
        })
        .collect();
    may_go.recv().unwrap();
    host.poll();
    for (n, handled) in (0_i64..).zip(plan()) {
        let handle = || {
            for (context, name) in &handled {
                states[*context].1.globals().get::<Function>(*name)?.call::<i64>(n)?;
            }
            Ok::<_, mlua::Error>(())
        };
        host.emit(Event::of("tick").with("n", n), handle).unwrap();
    }
    host.emit(Event::of("end").with("n", 0), || Ok::<_, String>(())).unwrap();
    while host.is_attached() {
        host.poll();
        thread::yield_now();
    }
}

const JOB: &str = "\
local function grow(days)
  local size = 1
  for _ = 1, days do
    size = size + days
  end
  return size
end
return grow(...)
";

/// In a process of its own: its memory is looked at.
#[test]
fn a_thousand_states_that_come_and_go_leave_nothing() {
    alone("many::states_come_and_go");
}

#[test]
#[ignore = "the test above runs it"]
fn states_come_and_go() {
    let host = Host::builder("many").event(EventKind::new("job")).start(Listen::ANY_PORT).unwrap();
    let (go, may_go) = mpsc::channel::<usize>();
    let (done, is_done) = mpsc::channel();
    let running: Vec<_> = {
        let work = std::sync::Arc::new(std::sync::Mutex::new(may_go));
        let worker = |number: usize| {
            let (host, work, done) = (host.clone(), work.clone(), done.clone());
            move || loop {
                let Ok(job) = work.lock().unwrap().recv() else { return };
                let lua = Lua::new();
                let name = format!("job-{}", job % 7);
                let context = LuaContext::attach(&host, &lua, &name).unwrap();
                let body = context.load("job.lua", JOB).unwrap();
                let grown: usize = host.emit(Event::of("job").with("n", job), || body.call(number + job % 5)).unwrap();
                drop((body, context, lua));
                done.send(grown).unwrap();
            }
        };
        (0..3).map(|number| thread::spawn(worker(number))).collect()
    };
    let mut client = Client::attached(&host);
    // On states that are yet to come.
    let lines = json!([
        {"line": 4, "logMessage": "{n}", "adzeman": {"subject": "job-*"}},
        {"line": 6, "condition": "event.n == 1234", "adzeman": {"subject": "job-2*"}},
        {"line": 6, "adzeman": {"subject": "other-*"}},
    ]);
    client.ok("setBreakpoints", json!({"source": {"path": "job.lua"}, "breakpoints": lines}));
    client.ok("configurationDone", json!({}));
    let run = |jobs: std::ops::Range<usize>| {
        let count = jobs.len();
        jobs.for_each(|job| go.send(job).unwrap());
        is_done.iter().take(count).count()
    };
    run(0..300);
    client.forget_events();
    let stops = thread::scope(|scope| {
        let seen = scope.spawn(|| {
            let (body, line) = client.stopped();
            let threads = client.ok("threads", json!({}))["threads"].as_array().unwrap().clone();
            client.ok("continue", json!({"threadId": body["threadId"]}));
            (line, threads)
        });
        assert_eq!(run(300..1300), 1000);
        seen.join().unwrap()
    });
    let (line, threads) = stops;
    assert!(line == 6 && threads.len() <= 3, "those that run are listed, and no others: {threads:?}");
    assert!(threads.iter().all(|thread| thread["name"].as_str().unwrap().starts_with("job-")), "{threads:?}");
    client.forget_events();
    // By now what the two sides keep has grown to its size, apart from the trail, which has a line of each event and message.
    let before = resident();
    for rounds in 0..10 {
        run(1300 + 100 * rounds..1400 + 100 * rounds);
        client.forget_events();
    }
    let after = resident();
    assert!(after < before + 4 * 1024, "{before} kB, then {after} kB after 1,000 states more");
    assert_eq!(client.ok("threads", json!({}))["threads"], json!([]));
    let sources = client.ok("loadedSources", json!({}))["sources"].clone();
    assert_eq!(sources.as_array().unwrap().len(), 1, "{sources}");
    let hits = client.ok("adzeman/breakpoints", json!({}))["breakpoints"].clone();
    assert_eq!((&hits[1]["hits"], &hits[2]["hits"]), (&json!(1), &json!(0)), "{hits}");
    assert!(hits[0]["hits"].as_u64().unwrap() > 4_000, "{hits}");
    drop(go);
    client.ok("disconnect", json!({}));
    running.into_iter().for_each(|worker| worker.join().unwrap());
}

#[test]
fn a_change_of_a_host_object_is_told_once_by_the_thread_that_made_it() {
    let level = std::sync::Arc::new(std::sync::Mutex::new(0_i64));
    let host = Host::builder("many")
        .event(EventKind::new("turn"))
        .editable_object("level", level.clone())
        .start(Listen::ANY_PORT)
        .unwrap();
    // They take turns: each does so many events, of which one changes the level.
    let rounds = 20;
    let (barrier, done) =
        (std::sync::Arc::new(std::sync::Barrier::new(2)), std::sync::Arc::new(std::sync::Barrier::new(3)));
    let running: Vec<_> = ["one", "two"]
        .into_iter()
        .enumerate()
        .map(|(number, name)| {
            let (host, level, barrier, done) = (host.clone(), level.clone(), barrier.clone(), done.clone());
            thread::spawn(move || {
                let lua = Lua::new();
                let _context = LuaContext::attach(&host, &lua, name).unwrap();
                let turn = |changes: bool| {
                    let _ = host.emit(Event::of("turn").subject(name), || {
                        *level.lock().unwrap() += i64::from(changes);
                        Ok::<_, String>(())
                    });
                };
                done.wait();
                for round in 0..rounds {
                    if round % 2 == number {
                        (0..3).for_each(|n| turn(n == 1));
                    }
                    barrier.wait();
                }
                // At once, on both.
                (0..50).for_each(|_| turn(true));
                barrier.wait();
                turn(false);
            })
        })
        .collect();
    let mut client = Client::attached(&host);
    let said = json!({"dataId": "host.level", "adzeman": {"say": "level {host.level} by {event.subject}"}});
    let set = client.ok("setDataBreakpoints", json!({"breakpoints": [said]}));
    assert_eq!(set["breakpoints"][0]["verified"], true, "{set}");
    client.ok("configurationDone", json!({}));
    done.wait();
    running.into_iter().for_each(|thread| thread.join().unwrap());
    client.ok("adzeman/status", json!({}));
    let mut told = Vec::new();
    while client.has_event("output") {
        told.push(client.event("output")["output"].as_str().unwrap().trim().to_owned());
    }
    let alone: Vec<_> =
        (0..rounds).map(|round| format!("level {} by {}", round + 1, ["one", "two"][round % 2])).collect();
    assert_eq!(told[..rounds], alone, "each once, by who made it");
    // Where both do it at the same moment, it is told at most once for each change.
    let at_once = told.len() - rounds;
    assert!((1..=100).contains(&at_once), "{told:?}");
}
