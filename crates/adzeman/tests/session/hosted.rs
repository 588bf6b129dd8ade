//! Coroutines that the host resumes by itself: steps stay with them, errors stop where they are raised, a pause reaches them.

use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use adzeman_core::sharing::Shared;
use mlua::{Function, Lua, Thread};
use serde_json::json;

use crate::harness::Works;

const SCRIPT: &str = "\
function work(name)
  local sum = 0
  while true do
    local n = coroutine.yield(sum)
    sum = sum + n
    if sum > 1000 then return name end
    if name == 'weak' and n == 7 then
      error('too weak for ' .. n)
    end
  end
end
function through(name)
  local inner = spawn(name)
  return inner
end
function forever()
  local turns = 0
  while not stopped do turns = turns + 1 end
end
";

/// A host that resumes coroutines as `run` has it, each in an event.
fn start(run: fn(&Host, &Lua, &Shared<LuaContext>, &AtomicBool)) -> Works {
    let host = Host::builder("works").event(EventKind::new("turn")).start(Listen::ANY_PORT).unwrap();
    Works::start(host, move |host, ending| {
        let lua = Lua::new();
        let context = Shared::new(LuaContext::attach(host, &lua, "main").unwrap());
        context.load("work.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
        run(host, &lua, &context, ending);
        host.poll();
        // What the state holds may hold the context.
        drop(lua.globals().raw_remove("spawn"));
        lua.gc_collect().unwrap();
    })
}

fn worker(lua: &Lua) -> Thread {
    lua.create_thread(lua.globals().get::<Function>("work").unwrap()).unwrap()
}

/// Three workers take turns, again and again; one that is done is begun anew on the same coroutine.
fn take_turns(host: &Host, lua: &Lua, context: &Shared<LuaContext>, ending: &AtomicBool) {
    let work: Function = lua.globals().get("work").unwrap();
    let mut workers = ["one", "weak", "two"].map(|name| (name, worker(lua)));
    let begin = |name: &str, thread: &Thread| context.resume::<mlua::Value>(thread, name).unwrap();
    workers.iter().for_each(|(name, thread)| drop(begin(name, thread)));
    let mut n = 0;
    while !ending.load(SeqCst) {
        n = n % 9 + 1;
        for (name, thread) in &mut workers {
            let turn = || context.resume::<mlua::Value>(thread, n);
            let _ = host.emit(Event::of("turn").subject(*name), turn);
            if thread.is_error() {
                *thread = worker(lua);
            } else if !thread.is_resumable() {
                thread.reset(work.clone()).unwrap();
            } else {
                continue;
            }
            begin(name, thread);
        }
    }
}

#[test]
fn a_step_over_a_yield_stays_with_its_coroutine() {
    let works = start(take_turns);
    let mut client = works.attach();
    client.ok(
        "setBreakpoints",
        json!({"source": {"path": "work.lua"}, "breakpoints": [{"line": 7, "condition": "name == 'two' and sum < 900"}]}),
    );
    client.ok("configurationDone", json!({}));
    for _ in 0..20 {
        client.stopped();
        client.ok("setBreakpoints", json!({"source": {"path": "work.lua"}, "breakpoints": []}));
        let mut lines = Vec::new();
        for step in ["next", "next", "stepIn", "next"] {
            client.go_on(step);
            let (body, line) = client.stopped();
            assert_eq!(body["reason"], "step");
            assert_eq!(client.evaluate("name"), "\"two\"", "at line {line} after {step} behind {lines:?}");
            lines.push(line);
        }
        assert_eq!(lines, [4, 5, 6, 7]);
        client.ok(
            "setBreakpoints",
            json!({"source": {"path": "work.lua"}, "breakpoints": [{"line": 7, "condition": "name == 'two' and sum < 900"}]}),
        );
        client.go_on("continue");
    }
}

#[test]
fn a_step_out_of_a_coroutine_that_ends_says_that_its_handler_has_ended() {
    let works = start(take_turns);
    let mut client = works.attach();
    client.ok(
        "setBreakpoints",
        json!({"source": {"path": "work.lua"}, "breakpoints": [{"line": 6, "condition": "name == 'one' and sum > 1000"}]}),
    );
    client.ok("configurationDone", json!({}));
    client.stopped();
    client.go_on("stepOut");
    let (what, body) = client.first_of(&["stopped", "adzeman/handlerLeft"]);
    assert_eq!((what.as_str(), &body["subject"]), ("adzeman/handlerLeft", &json!("one")), "{body}");
}

#[test]
fn an_error_stops_where_it_is_raised() {
    let works = start(take_turns);
    let mut client = works.attach();
    client.ok("setExceptionBreakpoints", json!({"filters": ["error.uncaught"]}));
    client.ok("configurationDone", json!({}));
    for _ in 0..3 {
        let (body, _) = client.stopped();
        assert_eq!(body["text"].as_str(), Some("work.lua:8: too weak for 7 (nobody in the script catches it)"));
        // The innermost frame is that of `error` itself.
        let raising = client.frame(1);
        assert_eq!(raising["line"], 8);
        let found = client.ok("evaluate", json!({"expression": "name .. n", "frameId": raising["id"]}));
        assert_eq!(found["result"], "\"weak7\"");
        client.go_on("continue");
    }
}

#[test]
fn a_pause_reaches_a_coroutine_that_never_ends_and_leaving_lets_it_run() {
    let works = start(|host, lua, context, ending| {
        let forever: Function = lua.globals().get("forever").unwrap();
        while !ending.load(SeqCst) {
            let thread = lua.create_thread(forever.clone()).unwrap();
            let _ = host.emit(Event::of("turn"), || context.resume::<()>(&thread, ()));
        }
    });
    let mut client = works.attach();
    client.ok("configurationDone", json!({}));
    client.ok("pause", json!({"threadId": 1}));
    let (body, _) = client.stopped();
    assert_eq!(body["reason"], "pause");
    // Lets it end: what the host runs has to come to an end here.
    works.ending.store(true, SeqCst);
    let frame = client.frame(0)["id"].clone();
    client.ok("setExpression", json!({"expression": "_G.stopped", "value": "true", "frameId": frame}));
    client.go_on("continue");
}

#[test]
fn the_stack_shows_who_resumed_it() {
    let works = start(|host, lua, context, ending| {
        let spawn = {
            let context = Shared::downgrade(context);
            lua.create_function(move |lua, name: String| {
                let thread = worker(lua);
                let context = context.upgrade().expect("it is there");
                context.resume::<mlua::Value>(&thread, name)?;
                context.resume::<mlua::Value>(&thread, 5000)
            })
        };
        lua.globals().set("spawn", spawn.unwrap()).unwrap();
        let through: Function = lua.globals().get("through").unwrap();
        while !ending.load(SeqCst) {
            // On a coroutine of its own, which the host resumes as well.
            let outer = lua.create_thread(through.clone()).unwrap();
            let _ = host.emit(Event::of("turn"), || context.resume::<mlua::Value>(&outer, "deep"));
        }
    });
    let mut client = works.attach();
    client.ok("setBreakpoints", json!({"source": {"path": "work.lua"}, "breakpoints": [{"line": 5}]}));
    client.ok("configurationDone", json!({}));
    // Of an event that began before anybody came nothing is known.
    client.stopped();
    client.go_on("continue");
    client.stopped();
    let frames = client.ok("stackTrace", json!({"threadId": 1}));
    let names = frames["stackFrames"].as_array().unwrap().iter();
    let names: Vec<_> = names.map(|frame| format!("{}:{}", frame["name"].as_str().unwrap(), frame["line"])).collect();
    assert_eq!(
        names,
        ["work:5", "called as a coroutine from:0", "spawn:0", "through:13", "turn, raised by works:0"],
        "{frames}"
    );
    client.go_on("stepOut");
    let (_, line) = client.stopped();
    assert_eq!(
        (line, client.evaluate("inner")),
        (14, "\"deep\"".to_owned()),
        "out of the coroutine is to who resumed it"
    );
}

/// Ends what no pause reaches.
static STOPPED: AtomicBool = AtomicBool::new(false);
/// Whether it has begun.
static BEGUN: AtomicBool = AtomicBool::new(false);

#[test]
fn a_pause_that_does_not_reach_a_coroutine_says_so() {
    let works = start(|host, lua, _, ending| {
        let is_over = lua.create_function(|_, ()| {
            BEGUN.store(true, SeqCst);
            Ok(STOPPED.load(SeqCst))
        });
        let is_over = is_over.unwrap();
        let forever = lua.load("local over = ... while not over() do end").into_function().unwrap();
        while !ending.load(SeqCst) {
            let thread = lua.create_thread(forever.clone()).unwrap();
            // By the binding alone.
            let _ = host.emit(Event::of("turn"), || thread.resume::<()>(is_over.clone()));
        }
    });
    let mut client = works.attach();
    client.ok("configurationDone", json!({}));
    while !BEGUN.load(SeqCst) {
        thread::yield_now();
    }
    client.ok("pause", json!({"threadId": 1}));
    let told = client.event("output")["output"].as_str().unwrap().to_owned();
    assert!(told.starts_with("main: no line of a script has been reached for"), "{told}");
    assert!(told.contains("A coroutine that the host resumes by itself"), "{told}");
    works.ending.store(true, SeqCst);
    STOPPED.store(true, SeqCst);
}

#[test]
fn an_error_of_a_host_function_keeps_its_text_through_the_script() {
    let script = "\
function caught() local ok, why = pcall(read); error(why) end
function nested() local ok, why = pcall(read); ok, why = pcall(error, why, 0); error(why, 0) end
function told() local ok, why = pcall(read); error('saving: ' .. tostring(why), 0) end
function held() local ok, why = pcall(read); error({cause = why}) end
";
    let host = Host::builder("works").event(EventKind::new("turn")).start(Listen::ANY_PORT).unwrap();
    let works = Works::start(host, move |host, ending| {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, "main").unwrap();
        let read = |_: &mlua::Lua, ()| Err::<(), _>(mlua::Error::external(std::io::Error::other("no gauge")));
        lua.globals().set("read", lua.create_function(read).unwrap()).unwrap();
        context.load("work.lua", script).unwrap().call::<()>(()).unwrap();
        while !ending.load(SeqCst) {
            for name in ["caught", "nested", "told", "held"] {
                let function: mlua::Function = lua.globals().get(name).unwrap();
                let _ = host.emit(Event::of("turn").subject(name), || function.call::<()>(()));
            }
        }
    });
    let mut client = works.attach();
    client.ok("setExceptionBreakpoints", json!({"filters": ["error.uncaught"]}));
    client.ok("configurationDone", json!({}));
    let mut seen = std::collections::BTreeMap::new();
    while seen.len() < 4 {
        let body = client.event("stopped");
        let text = body["text"].as_str().unwrap().to_owned();
        let value = client.evaluate("raised");
        let name = client.frame(1)["name"].as_str().unwrap().to_owned();
        if name == "caught" || name == "nested" {
            let frame = client.frame(0)["id"].clone();
            let whole = json!({"expression": "raised", "context": "clipboard", "frameId": frame});
            let whole = client.ok("evaluate", whole)["result"].as_str().unwrap().to_owned();
            assert!(whole.starts_with("no gauge\nstack traceback:"), "{whole}");
        }
        seen.insert(name, (text.lines().next().unwrap().to_owned(), value));
        client.go_on("continue");
    }
    let of = |name: &str| (seen[name].0.as_str(), seen[name].1.as_str());
    assert_eq!(of("caught"), ("no gauge", "userdata with the text \"no gauge\""));
    assert_eq!(of("nested"), of("caught"));
    assert_eq!(of("told").0, "saving: no gauge");
    assert!(of("held").0.starts_with("{cause = userdata}"), "{:?}", of("held"));
}
