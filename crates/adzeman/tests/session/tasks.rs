//! Asynchronous handlers: events, steps, errors, pauses and evaluations while tasks take turns, on one thread and, with the feature
//! `send`, on several.

use std::future::Future;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::time::{Duration, Instant};

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use adzeman_core::sharing::Shared;
use mlua::{Function, Lua};
use serde_json::{Value as Json, json};
use tokio::task::yield_now;

use crate::harness::{Client, Works};

const SCRIPT: &str = "\
function work(name)
  local sum = 0
  for n = 1, 3 do
    sum = sum + fetch(n)
    local shown = sum
  end
  return sum
end
function strict(name)
  fetch(1)
  error('refused ' .. name)
end
function forever(name)
  fetch(1)
  local turns = 0
  while not stopped do turns = turns + 1 end
end
function patient(name)
  rest()
  local rested = name
  if name == 'two' then
    work_hard()
  end
  rest()
  return rested
end
";

/// How a task has its coroutine run.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Way {
    /// By the context.
    Ours,
    /// By the binding alone.
    Bindings,
}

/// One task, until the host ends.
async fn run(
    host: Host,
    lua: Lua,
    context: Shared<LuaContext>,
    name: &'static str,
    what: (Way, &str),
    ending: Arc<AtomicBool>,
) {
    let (way, function) = what;
    let function: Function = lua.globals().get(function).unwrap();
    while !ending.load(SeqCst) {
        let handler = async {
            // Others run before the first line of this one.
            yield_now().await;
            match way {
                Way::Ours => {
                    let thread = lua.create_thread(function.clone())?;
                    context.resume_async::<mlua::Value>(&thread, name)?.await
                }
                Way::Bindings => function.call_async::<mlua::Value>(name).await,
            }
        };
        let event = Event::of("task.run").subject(name).with("name", name);
        let _ = context.enter_async(host.emit_async(event, handler)).await;
        yield_now().await;
    }
}

#[cfg(feature = "send")]
fn run_all(tasks: impl Iterator<Item = impl Future<Output = ()> + Send + 'static>) {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(3).enable_time().build().unwrap();
    let tasks: Vec<_> = tasks.map(|task| runtime.spawn(task)).collect();
    tasks.into_iter().for_each(|task| runtime.block_on(task).unwrap());
}

#[cfg(not(feature = "send"))]
fn run_all(tasks: impl Iterator<Item = impl Future<Output = ()> + 'static>) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap();
    let local = tokio::task::LocalSet::new();
    let tasks: Vec<_> = tasks.map(|task| local.spawn_local(task)).collect();
    local.block_on(&runtime, async {
        for task in tasks {
            task.await.unwrap();
        }
    });
}

/// A host of three tasks that run a function of the script, each time as an event of their name.
fn start(way: Way, function: &'static str) -> Works {
    let host = Host::builder("works")
        .event(EventKind::new("task.run").field("name", "whose"))
        .start(Listen::ANY_PORT)
        .unwrap();
    Works::start(host, move |host, ending| {
        let lua = Lua::new();
        let context = Shared::new(LuaContext::attach(host, &lua, "main").unwrap());
        let fetch = lua.create_async_function(async |_, n: i64| {
            for _ in 0..n {
                yield_now().await;
            }
            Ok(n)
        });
        lua.globals().set("fetch", fetch.unwrap()).unwrap();
        let ready = lua.create_async_function(async |_, n: i64| Ok(2 * n));
        lua.globals().set("ready", ready.unwrap()).unwrap();
        let rest = lua.create_async_function(async |_, ()| {
            tokio::time::sleep(Duration::from_millis(60)).await;
            Ok(())
        });
        lua.globals().set("rest", rest.unwrap()).unwrap();
        let work_hard = lua.create_function(|_, ()| {
            let begun = Instant::now();
            while begun.elapsed() < Duration::from_millis(60) {}
            Ok(())
        });
        lua.globals().set("work_hard", work_hard.unwrap()).unwrap();
        context.load("work.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
        let task = |name| run(host.clone(), lua.clone(), context.clone(), name, (way, function), ending.clone());
        run_all(["one", "two", "three"].into_iter().map(task));
        host.poll();
    })
}

fn set_lines(client: &mut Client, lines: Json) {
    client.ok("setBreakpoints", json!({"source": {"path": "work.lua"}, "breakpoints": lines}));
}

fn steps_stay_with_their_task(way: Way) {
    let works = start(way, "work");
    let mut client = works.attach();
    let wanted = json!([{"line": 5, "condition": "name == 'two' and n == 1"}]);
    set_lines(&mut client, wanted.clone());
    client.ok("configurationDone", json!({}));
    for _ in 0..10 {
        client.stopped();
        set_lines(&mut client, json!([]));
        let mut lines = Vec::new();
        for _ in 0..6 {
            client.go_on("next");
            let (body, line) = client.stopped();
            assert_eq!(body["reason"], "step");
            assert_eq!(client.evaluate("name .. (event.name)"), "\"twotask.run\"", "at line {line}, behind {lines:?}");
            lines.push(line);
        }
        assert_eq!(lines, [3, 4, 5, 3, 4, 5]);
        set_lines(&mut client, wanted.clone());
        client.go_on("continue");
    }
}

#[test]
fn a_step_over_a_call_that_waits_ends_on_the_next_line_of_its_task() {
    steps_stay_with_their_task(Way::Ours);
}

#[test]
fn a_step_stays_with_a_coroutine_that_the_binding_resumes() {
    steps_stay_with_their_task(Way::Bindings);
}

#[test]
fn a_step_out_of_the_end_of_a_task_tells_that_its_handler_has_ended() {
    let works = start(Way::Ours, "work");
    let mut client = works.attach();
    set_lines(&mut client, json!([{"line": 7, "condition": "name == 'three'"}]));
    client.ok("configurationDone", json!({}));
    for _ in 0..10 {
        client.stopped();
        client.go_on("next");
        let (what, body) = client.first_of(&["stopped", "adzeman/handlerLeft"]);
        assert_eq!((what.as_str(), &body["subject"]), ("adzeman/handlerLeft", &json!("three")), "{body}");
    }
}

#[test]
fn an_event_stops_at_the_first_line_of_its_own_handler_whatever_runs_before() {
    let works = start(Way::Ours, "work");
    let mut client = works.attach();
    let filter = json!({"filterId": "task.run", "condition": "event.nothing == nil", "adzeman": {"subject": "two"}});
    client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": [filter]}));
    client.ok("configurationDone", json!({}));
    for _ in 0..10 {
        let (body, line) = client.stopped();
        assert_eq!((line, client.evaluate("name")), (2, "\"two\"".to_owned()), "{body}");
        client.go_on("continue");
    }
}

#[test]
fn an_error_stops_where_it_is_raised_and_tells_of_its_event() {
    let works = start(Way::Ours, "strict");
    let mut client = works.attach();
    client.ok("setExceptionBreakpoints", json!({"filters": ["error.uncaught"]}));
    client.ok("configurationDone", json!({}));
    let (mut told, mut untold) = (0, 0);
    while told < 6 {
        let (body, _) = client.stopped();
        let raising = client.frame(1);
        assert_eq!(raising["line"], 11, "{body}");
        let event = client.ok("evaluate", json!({"expression": "event", "frameId": raising["id"]}));
        if event["result"] == "nil" {
            untold += 1;
        } else {
            let same = json!({"expression": "name == event.subject", "frameId": raising["id"]});
            assert_eq!(client.ok("evaluate", same)["result"], "true");
            told += 1;
        }
        client.go_on("continue");
    }
    // What a thread polled when the client came had begun while nobody was there to see of which event it is.
    assert!(untold <= 3, "{untold} of the errors tell no event");
}

#[test]
fn a_pause_reaches_a_task_that_never_ends() {
    let works = start(Way::Ours, "forever");
    let mut client = works.attach();
    client.ok("configurationDone", json!({}));
    client.ok("pause", json!({"threadId": 1}));
    let (body, _) = client.stopped();
    assert_eq!(body["reason"], "pause");
    works.ending.store(true, SeqCst);
    let frame = client.frame(0)["id"].clone();
    client.ok("setExpression", json!({"expression": "_G.stopped", "value": "true", "frameId": frame}));
    client.go_on("continue");
}

#[test]
fn what_waits_cannot_be_evaluated_and_says_why() {
    let works = start(Way::Ours, "work");
    let mut client = works.attach();
    set_lines(&mut client, json!([{"line": 5}]));
    client.ok("configurationDone", json!({}));
    client.stopped();
    assert_eq!(client.evaluate("ready(21)"), "42", "one that does not wait is like any other");
    let frame = client.frame(0)["id"].clone();
    let why = client.refused("evaluate", json!({"expression": "fetch(1)", "frameId": frame}));
    assert!(why.contains("calls an asynchronous function of the host, which waits"), "{why}");
    set_lines(&mut client, json!([{"line": 7, "condition": "sum ~= 6"}]));
    client.go_on("continue");
    client.ok("pause", json!({"threadId": 1}));
    let (body, _) = client.stopped();
    assert_eq!(body["reason"], "pause", "the tasks go on as if nothing had been asked");
    client.go_on("continue");
}

#[test]
fn a_time_budget_counts_what_the_handler_works_and_not_what_it_waits() {
    let works = start(Way::Ours, "patient");
    let mut client = works.attach();
    let options = json!([{"filterId": "task.run", "adzeman": {"budgetMilliseconds": 40.0}}]);
    client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
    client.ok("configurationDone", json!({}));
    for _ in 0..3 {
        // At the first line that the engine tells of behind the call that took so long.
        let (body, _) = client.stopped();
        assert_eq!(client.evaluate("event.subject"), "\"two\"", "{body}");
        assert_eq!(body["text"], "the handler has taken longer than 40ms", "{body}");
        client.go_on("continue");
    }
}

#[test]
fn a_step_into_passes_over_what_the_binding_joins_functions_by() {
    let works = start(Way::Ours, "work");
    let mut client = works.attach();
    set_lines(&mut client, json!([{"line": 4, "condition": "name == 'two'"}]));
    client.ok("configurationDone", json!({}));
    client.stopped();
    set_lines(&mut client, json!([]));
    let mut steps = 0;
    loop {
        client.go_on("stepIn");
        if client.first_of(&["stopped", "adzeman/handlerLeft"]).0 != "stopped" {
            break;
        }
        steps += 1;
        let frame = client.frame(0);
        assert_eq!(frame["source"]["name"], "work.lua", "{frame}");
    }
    assert!(steps >= 3, "{steps}");
    let sources = client.ok("loadedSources", json!({}))["sources"].clone();
    assert_eq!(sources.as_array().unwrap().len(), 1, "{sources}");
}
