//! Many contexts on one thread: events reach those that handle them, whichever that are, and nothing is reported of the others.

use std::sync::mpsc;
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua};
use serde_json::json;

use crate::harness::Client;

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
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok("attach", json!({}));
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
