//! What clients may rely on by the protocol's own declarations: numbers of frames, counts of what is inside, who is held, and
//! what is told of it.

use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, SCRIPT, Works, on_each};

/// Runs a context of each name on this thread, until the host ends.
fn run_contexts(host: &Host, names: &[&str], ending: &AtomicBool) {
    let open = |name: &&str| {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, name).unwrap();
        let script = "function update(n)\n  local twice = 2 * n\n  return twice\nend";
        context.load(&format!("{name}.lua"), script).unwrap().call::<()>(()).unwrap();
        (context, lua.globals().get::<mlua::Function>("update").unwrap())
    };
    let contexts: Vec<_> = names.iter().map(open).collect();
    while !ending.load(SeqCst) {
        for (_, update) in &contexts {
            let _ = host.emit(Event::of("frame.update"), || update.call::<i64>(2));
        }
        thread::yield_now();
    }
}

/// `weather` and `locks` run on one thread, `ledger` on another one.
fn start_two_threads() -> Works {
    let host = Host::builder("works").event(EventKind::new("frame.update")).start(Listen::ANY_PORT).unwrap();
    Works::start(host, move |host, ending| {
        thread::scope(|scope| {
            scope.spawn(|| run_contexts(host, &["ledger"], ending));
            run_contexts(host, &["weather", "locks"], ending);
        });
    })
}

/// The number of each context, once all are open.
fn threads(client: &mut Client) -> [i64; 3] {
    loop {
        let body = client.ok("threads", json!({}));
        let number = |name: &str| {
            let held = body["threads"].as_array().unwrap().iter().find(|held| held["name"] == name);
            held.map(|held| held["id"].as_i64().unwrap())
        };
        if let [Some(weather), Some(locks), Some(ledger)] = ["weather", "locks", "ledger"].map(number) {
            return [weather, locks, ledger];
        }
    }
}

fn break_in(client: &mut Client, name: &str) {
    let source = json!({"path": format!("{name}.lua")});
    client.ok("setBreakpoints", json!({"source": source, "breakpoints": [{"line": 2}]}));
}

#[test]
fn who_is_said_to_be_held_is_and_can_be_looked_at() {
    let works = start_two_threads();
    let mut client = works.attach();
    let [weather, locks, ledger] = threads(&mut client);
    break_in(&mut client, "weather");
    client.ok("configurationDone", json!({}));
    let body = client.event("stopped");
    assert_eq!(
        (&body["threadId"], &body["allThreadsStopped"]),
        (&json!(weather), &json!(false)),
        "ledger runs: {body}"
    );
    let frames = client.ok("stackTrace", json!({"threadId": weather}));
    assert_eq!(frames["stackFrames"][0]["line"], 2);
    // One of the same thread is held with it, and has nothing on its stack.
    let beside = client.ok("stackTrace", json!({"threadId": locks}));
    assert_eq!(beside["stackFrames"].as_array().map(Vec::len), Some(1), "the event: {beside}");
    assert!(client.refused("stackTrace", json!({"threadId": ledger})).contains("is running"));
    let status = client.ok("adzeman/status", json!({}))["contexts"].clone();
    let states: Vec<_> = status.as_array().unwrap().iter().map(|held| (&held["state"], &held["heldWith"])).collect();
    for state in
        [(&json!("stopped"), &Json::Null), (&json!("held"), &json!("weather")), (&json!("running"), &Json::Null)]
    {
        assert!(states.contains(&state), "{status}");
    }

    break_in(&mut client, "ledger");
    let body = client.event("stopped");
    assert_eq!((&body["threadId"], &body["allThreadsStopped"]), (&json!(ledger), &json!(true)), "all are held: {body}");
    for thread in [weather, locks, ledger] {
        client.ok("stackTrace", json!({"threadId": thread}));
    }
    let answer = client.ok("continue", json!({"threadId": weather}));
    assert_eq!(answer["allThreadsContinued"], false, "ledger is held: {answer}");
    let body = client.event("stopped");
    assert_eq!((&body["threadId"], &body["allThreadsStopped"]), (&json!(weather), &json!(true)), "{body}");
    break_in(&mut client, "none");
    for name in ["weather", "ledger"] {
        client.ok("setBreakpoints", json!({"source": {"path": format!("{name}.lua")}, "breakpoints": []}));
    }
    client.ok("continue", json!({"threadId": weather}));
    let answer = client.ok("continue", json!({"threadId": ledger}));
    assert_eq!(answer["allThreadsContinued"], true, "{answer}");
    assert!(!client.has_event("continued"), "by whom it was asked for, it is known");
}

#[test]
fn frames_of_the_stop_before_are_refused() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(5, None)]);
        host.go();
        client.stopped();
        let asked = json!({"threadId": 1});
        let frames = client.ok("stackTrace", asked.clone());
        assert_eq!(client.ok("stackTrace", asked.clone()), frames, "the same numbers at one stop");
        let frames: Vec<_> =
            frames["stackFrames"].as_array().unwrap().iter().map(|frame| frame["id"].clone()).collect();
        let paged = json!({"threadId": 1, "startFrame": 1, "levels": 1});
        assert_eq!(client.ok("stackTrace", paged)["stackFrames"][0]["id"], frames[1]);
        // A call from here that stops further in, and comes back: the frames are those of this stop again.
        client.ok("adzeman/run", json!({"expression": "update(3)", "frameId": frames[0]}));
        client.stopped();
        let why = client.refused("scopes", json!({"frameId": frames[1]}));
        assert!(why.contains("is none of this stop"), "{why}");
        client.go_on("continue");
        assert_eq!(client.event("adzeman/ran")["stopped"], true);
        client.ok("scopes", json!({"frameId": frames[1]}));
        client.go_on("next");
        client.stopped();
        for frame in &frames {
            for (command, mut arguments) in [
                ("scopes", json!({})),
                ("evaluate", json!({"expression": "n"})),
                ("setExpression", json!({"expression": "total", "value": "0"})),
                ("adzeman/table", json!({"expression": "_G"})),
                ("completions", json!({"text": "to", "column": 3})),
                ("restartFrame", json!({})),
            ] {
                arguments["frameId"] = frame.clone();
                let why = client.refused(command, arguments);
                assert!(why.contains("is none of this stop"), "{command}: {why}");
            }
        }
        client.go_on("continue");
    });
}

#[test]
fn all_but_who_asked_hear_that_a_context_goes_on() {
    on_each(SCRIPT, |host| {
        let mut first = host.attach();
        first.break_at(&[(11, None)]);
        let mut second = host.attach();
        host.go();
        first.stopped();
        second.event("stopped");
        for command in ["next", "stepIn", "stepOut", "continue"] {
            first.go_on(command);
            assert_eq!(second.event("continued")["allThreadsContinued"], true);
            second.event("stopped");
            first.stopped();
            assert!(!first.has_event("continued"), "{command} says so itself");
        }
        first.ok("disconnect", json!({}));
        second.event("continued");
    });
}

/// Looks at everything inside a value, to some depth: counts are of what is listed, by parts and in pages.
fn check_counts(client: &mut Client, value: &Json, depth: usize) -> usize {
    let reference = &value["variablesReference"];
    if reference == &json!(0) || depth == 0 {
        return 0;
    }
    let mut list = |filter: Json, start: usize, count: usize| {
        let asked = json!({"variablesReference": reference, "filter": filter, "start": start, "count": count});
        let body = client.ok("variables", asked);
        (body["variables"].as_array().unwrap().clone(), body["total"].as_u64().unwrap(), body["totalIsLeast"] == true)
    };
    let names = |listed: &[Json]| listed.iter().map(|held| held["name"].clone()).collect::<Vec<_>>();
    let count = |name: &str| value[name].as_u64().unwrap_or(0);
    let (all, total, is_least) = list(Json::Null, 0, 0);
    let (indexed, total_indexed, _) = list(json!("indexed"), 0, 0);
    let (named, total_named, named_is_least) = list(json!("named"), 0, 0);
    assert_eq!(total_indexed, count("indexedVariables"), "{value}");
    assert_eq!((is_least, total), (named_is_least, total_indexed + total_named), "{value}");
    // Scopes say how many names they have only where that is cheap; a lower bound is one.
    if value["namedVariables"].is_u64() {
        assert!(total_named >= count("namedVariables"), "{value}: {total_named}");
        let is_exact = value["value"].is_null() || !is_least;
        assert!(
            !is_exact || total_named == count("namedVariables") || value["type"] == "coroutine" || is_userdata(value)
        );
    }
    assert_eq!(names(&all), [names(&indexed), names(&named)].concat(), "{value}");
    let mut paged = Vec::new();
    while paged.len() < all.len() {
        let (page, ..) = list(Json::Null, paged.len(), 3);
        assert!(!page.is_empty() && page.len() <= 3, "{value}: {} of {}", paged.len(), all.len());
        paged.extend(page);
    }
    assert_eq!(names(&paged), names(&all), "{value}");
    1 + all.iter().map(|held| check_counts(client, held, depth - 1)).sum::<usize>()
}

/// How much is inside a userdata is known when it is listed.
fn is_userdata(value: &Json) -> bool {
    !["table", "function", "list", "object"]
        .iter()
        .any(|name| value["type"].as_str().unwrap_or("table").starts_with(name))
}

#[test]
fn counts_are_those_of_what_is_listed() {
    let script = "\
local plain, mixed, hollow = {1, 2, 3, 4, 5, 6, 7}, {1, 2, 3, 4, x = 1, y = {2, 3}}, {1, 2, nil, 4, [9] = 1}
local with = setmetatable({5, 6, name = 'Heron'}, {__index = {length = 24}})
local only, empty = setmetatable({}, {__mode = 'k'}), {}
local work = coroutine.create(function() local inside = plain; coroutine.yield(mixed) end)
coroutine.resume(work)
function update(n, ...)
  local here, there = plain, function() return mixed, hollow, with, only, empty, work, io.stdout end
  local sum = select('#', ...)
  return sum
end
function call() update(1, 2, {3, 4}, 'five') end
";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(9, None)]);
        host.go();
        client.stopped();
        for expression in ["call()", "update(1)"] {
            let frame = client.frame(0)["id"].clone();
            client.ok("adzeman/run", json!({"expression": expression, "frameId": frame}));
            client.stopped();
            let frame = client.frame(0)["id"].clone();
            let scopes = client.ok("scopes", json!({"frameId": frame}))["scopes"].clone();
            let seen: usize = scopes
                .as_array()
                .unwrap()
                .iter()
                .map(|scope| check_counts(&mut client, scope, if scope["name"] == "Built-ins" { 2 } else { 4 }))
                .sum();
            assert!(seen > 30, "{seen}: {scopes}");
            client.go_on("continue");
            client.event("adzeman/ran");
        }
    });
}
