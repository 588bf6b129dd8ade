//! Scripts that are corrected where they stand: functions get the bodies of a changed text, and keep what they have captured.

use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::sync::atomic::{AtomicBool, AtomicI64};

use serde_json::{Value as Json, json};

use crate::harness::{Client, TestHost, on_each, until};

const SCRIPT: &str = "\
local base = 10
local kept = {count = 0}
total = 0

local function fare(length)
  local sum = base + length
  return sum
end

function update(n)
  kept.count = kept.count + 1
  local toll = fare(n % 5)
  total = toll
  return total
end
";

fn reload(client: &mut Client, text: &str) -> Json {
    client.ok("adzeman/reload", json!({"path": "toll.lua", "text": text}))
}

fn states(body: &Json) -> Vec<String> {
    let text = |held: &Json| held.as_str().unwrap_or("?").to_owned();
    let functions = body["functions"].as_array().unwrap().iter();
    functions.map(|held| format!("{} {} ({})", text(&held["name"]), text(&held["state"]), held["alive"])).collect()
}

fn evaluate(client: &mut Client, text: &str) -> String {
    client.ok("evaluate", json!({"expression": text, "threadId": 1}))["result"].as_str().unwrap().to_owned()
}

fn wait(host: &TestHost) {
    host.wait_frames(3);
}

#[test]
fn a_function_gets_its_new_body_while_the_host_runs_and_keeps_its_state() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        wait(host);
        let body = reload(&mut client, &SCRIPT.replace("base + length", "1000 + base + length"));
        assert_eq!((body["done"].as_bool(), &body["topLevelChanged"]), (Some(true), &json!(false)), "{body}");
        assert_eq!(states(&body), ["fare changed (1)", "update unchanged (1)"]);
        wait(host);
        let total: i64 = evaluate(&mut client, "total").parse().unwrap();
        assert!((1010..1015).contains(&total), "{total}");
        let changes = client.ok("adzeman/changes", json!({}))["changes"].clone();
        assert_eq!(changes[0]["target"], "the text of scripts/toll.lua", "{changes}");
        assert_ne!(changes[0]["before"], changes[0]["value"]);
        // And again, and back.
        reload(&mut client, &SCRIPT.replace("base + length", "length - base"));
        wait(host);
        let total: i64 = evaluate(&mut client, "total").parse().unwrap();
        assert!((-10..-5).contains(&total), "{total}");
        let body = client.ok("adzeman/reload", json!({"path": "toll.lua"}));
        assert_eq!(states(&body), ["fare changed (1)", "update unchanged (1)"]);
        wait(host);
        let total: i64 = evaluate(&mut client, "total").parse().unwrap();
        assert!((10..15).contains(&total), "{total}");
    });
}

#[test]
fn breakpoints_lines_and_texts_are_those_of_the_new_text() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, Some("length == 3"))]);
        host.go();
        assert_eq!(client.stopped().1, 6);
        client.forget_events();
        let text = SCRIPT
            .replace("local function fare", "-- what a boat pays\n\nlocal function fare")
            .replace("base + length", "2 * base + length");
        let body = reload(&mut client, &text);
        let fare = &body["functions"][0];
        assert_eq!((&fare["running"], &fare["line"]), (&json!(1), &json!(7)), "{body}");
        // What runs is shown in the text that it was called with.
        let frames = client.ok("stackTrace", json!({"threadId": 1}))["stackFrames"].clone();
        let source = client.ok(
            "source",
            json!({"source": frames[0]["source"], "sourceReference": frames[0]["source"]["sourceReference"]}),
        );
        assert_eq!((&frames[0]["line"], source["content"].as_str()), (&json!(6), Some(SCRIPT)), "{frames}");
        let moved = client.ok("adzeman/breakpoints", json!({}))["breakpoints"][0].clone();
        assert_eq!(moved["places"], json!(["scripts/toll.lua:8"]), "{moved}");
        client.go_on("continue");
        for _ in 0..3 {
            let (_, line) = client.stopped();
            assert_eq!(line, 8);
            let frame = client.frame(0);
            let source = client.ok(
                "source",
                json!({"source": frame["source"], "sourceReference": frame["source"]["sourceReference"]}),
            );
            assert_eq!(source["content"], text);
            assert_eq!(client.evaluate("base + length"), "13");
            client.go_on("next");
            assert_eq!(client.stopped().1, 9);
            assert_eq!(client.evaluate("sum"), "23");
            client.go_on("continue");
        }
    });
}

#[test]
fn a_text_that_does_not_fit_changes_nothing() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        wait(host);
        let why = client.refused("adzeman/reload", json!({"path": "toll.lua", "text": "local x = 1\nfunction ("}));
        assert!(why.contains("toll.lua:2:"), "{why}");
        let text = SCRIPT
            .replace("local base = 10", "local base, limit = 10, 5")
            .replace("base + length", "base + length + limit")
            .replace("kept.count + 1", "kept.count + 2");
        let body = reload(&mut client, &text);
        assert_eq!(body["done"], false, "{body}");
        assert_eq!(states(&body), ["fare refused (1)", "update changed (1)"]);
        assert_eq!(body["functions"][0]["why"], "it uses 'limit', which nothing of the script has kept");
        let checked = client.ok("adzeman/reload", json!({"path": "toll.lua", "text": text, "check": true}));
        assert_eq!((&checked["done"], &checked["functions"]), (&json!(false), &body["functions"]));
        // The rest of it, if that is wanted.
        let body = client.ok("adzeman/reload", json!({"path": "toll.lua", "text": text, "partly": true}));
        assert_eq!(body["done"], true, "{body}");
        wait(host);
        let total: i64 = evaluate(&mut client, "total").parse().unwrap();
        assert!((10..15).contains(&total), "{total}");
        client.break_at(&[(11, None)]);
        client.stopped();
        let before: i64 = client.evaluate("kept.count").parse().unwrap();
        client.go_on("next");
        client.stopped();
        assert_eq!(client.evaluate("kept.count"), (before + 2).to_string());
        let why = client.refused("adzeman/reload", json!({"path": "nowhere.lua", "text": ""}));
        assert!(why.contains("there is no source nowhere.lua"), "{why}");
    });
}

#[test]
fn a_function_that_captures_more_calls_what_has_it() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        // A captured variable of its neighbour, and globals, of which it used none.
        let text = SCRIPT.replace("base + length", "base + length + kept.count * 0 + math.floor(1000.5) + total * 0");
        let body = reload(&mut client, &text);
        let fare = &body["functions"][0];
        assert_eq!(
            (body["done"].as_bool(), &fare["state"], &fare["running"]),
            (Some(true), &json!("changed"), &json!(1))
        );
        // The one that runs goes on as it was.
        client.go_on("next");
        assert_eq!(client.stopped().1, 7);
        assert!(client.evaluate("sum").len() < 3, "{}", client.evaluate("sum"));
        client.break_at(&[]);
        client.go_on("continue");
        let event = client.event("loadedSource");
        assert_eq!((&event["reason"], &event["source"]["path"]), (&json!("changed"), &json!("scripts/toll.lua")));
        wait(host);
        let total: i64 = evaluate(&mut client, "total").parse().unwrap();
        assert!((1010..1015).contains(&total), "{total}");
        // It stops, steps and is looked at like any other; what calls it is not seen.
        client.break_at(&[(6, Some("length == 3"))]);
        client.stopped();
        let frames = client.ok("stackTrace", json!({"threadId": 1}))["stackFrames"].clone();
        let names: Vec<_> = frames.as_array().unwrap().iter().map(|frame| (&frame["name"], &frame["line"])).collect();
        assert_eq!(names[1], (&json!("update"), &json!(12)), "{frames}");
        assert_eq!(client.evaluate("base + length"), "13");
        client.go_on("next");
        assert_eq!(client.stopped().1, 7);
        assert_eq!(client.evaluate("sum"), "1013");
        client.go_on("stepOut");
        let (body, line) = client.stopped();
        assert_eq!((line, &body["returned"]), (13, &json!(["1013"])), "{body}");
        client.break_at(&[(12, None)]);
        client.go_on("continue");
        client.stopped();
        client.go_on("stepIn");
        assert_eq!(client.stopped().1, 6, "a step into it comes to its first line");
        // A change after that is one of what it calls.
        client.break_at(&[]);
        client.go_on("continue");
        wait(host);
        let body = reload(&mut client, &text.replace("1000.5", "2000.5"));
        assert_eq!(body["done"], true, "{body}");
        wait(host);
        let total: i64 = evaluate(&mut client, "total").parse().unwrap();
        assert!((2010..2015).contains(&total), "{total}");
    });
}

#[test]
fn the_top_level_is_run_again_where_that_is_asked_for() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        wait(host);
        let text = SCRIPT.replace("base = 10", "base = 5000");
        let body = reload(&mut client, &text);
        assert_eq!((&body["topLevelChanged"], &body["ran"]), (&json!(true), &Json::Null), "{body}");
        wait(host);
        assert!(evaluate(&mut client, "total").parse::<i64>().unwrap() < 100, "it is not run");
        let again = |client: &mut Client, text: &str| {
            client.ok("adzeman/reload", json!({"path": "toll.lua", "text": text, "run": true}))["ran"].clone()
        };
        assert_eq!(again(&mut client, &text), json!([{"context": "main"}]));
        wait(host);
        assert!(evaluate(&mut client, "total").parse::<i64>().unwrap() >= 5000, "the new functions run");
        // They are of the same source: breakpoints bind in them, and they can be changed.
        client.break_at(&[(7, None)]);
        assert_eq!(client.stopped().1, 7);
        assert!(client.evaluate("sum").parse::<i64>().unwrap() >= 5000);
        client.break_at(&[]);
        let body = reload(&mut client, &text.replace("base + length", "-base"));
        assert_eq!((&body["done"], &body["others"]), (&json!(true), &json!(0)), "{body}");
        client.go_on("continue");
        wait(host);
        assert_eq!(evaluate(&mut client, "total"), "-5000");
    });
}

#[test]
fn a_top_level_that_fails_or_never_ends_says_so_and_the_host_goes_on() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        client.ok("adzeman/limits", json!({"asideMilliseconds": 100, "askedMilliseconds": 100}));
        for (end, why) in
            [("error('no water')", "no water"), ("while true do end", "gave up"), ("coroutine.yield()", "yields")]
        {
            let text = format!("{SCRIPT}{end}\n");
            let body = client.ok("adzeman/reload", json!({"path": "toll.lua", "text": text, "run": true}));
            let told = body["ran"][0]["error"].as_str().unwrap();
            assert!(told.contains(why), "{told}");
            assert_eq!(body["done"], true);
            wait(host);
        }
    });
}

#[test]
fn whoever_attaches_later_is_told_that_what_runs_is_not_what_was_loaded() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        wait(host);
        let text = SCRIPT.replace("base + length", "base - length");
        reload(&mut client, &text);
        client.ok("disconnect", json!({}));
        drop(client);
        let mut client = host.attach_with(json!({"takeOver": true}));
        let source = client.ok("loadedSources", json!({}))["sources"][0].clone();
        assert_eq!(source["loadedAs"], source["replaces"], "{source}");
        let asked = json!({"sourceReference": source["replaces"]});
        assert_eq!(client.ok("source", asked)["content"], SCRIPT, "the text before is kept");
        reload(&mut client, SCRIPT);
        let source = client.ok("loadedSources", json!({}))["sources"][0].clone();
        assert_eq!(source["loadedAs"], Json::Null, "{source}");
        let asked = json!({"sourceReference": source["replaces"]});
        assert_eq!(client.ok("source", asked)["content"], text);
    });
}

/// Ways to call a function again and again while the host raises no event and never polls.
#[cfg(target_os = "linux")]
const DRIVERS: [&str; 5] = [
    "while is_on() do update(1) end",
    // At each line, the function that the host calls is on the stack.
    "drive(update)",
    "local wheel = coroutine.wrap(function() while is_on() do update(1) end end)\nwheel()",
    "local fast = update\nupdate = function(n) return fast(n) end\ndrive(function() coroutine.wrap(update)(1) end)",
    "local function deep(n)\n  if n > 0 then return deep(n - 1) + update(n) end\n  return 0\nend\n\
     drive(function() deep(20) end)",
];

/// A host that runs `toll.lua` for ever, raises no event and never polls; and what the script noted last.
#[cfg(target_os = "linux")]
struct Mill {
    host: adzeman::Host,
    on: Arc<AtomicBool>,
    noted: Arc<AtomicI64>,
    running: std::thread::JoinHandle<()>,
}

#[cfg(target_os = "linux")]
impl Mill {
    fn start(driver: &str) -> Self {
        let host = adzeman::Host::builder("mill").start(adzeman::Listen::ANY_PORT).unwrap();
        let (on, noted) = (Arc::new(AtomicBool::new(true)), Arc::new(AtomicI64::new(0)));
        let text = format!("{SCRIPT}{driver}\n").replace("  total = toll\n", "  total = toll\n  note(toll)\n");
        let (held, is_on, note) = (host.clone(), on.clone(), noted.clone());
        let running = std::thread::spawn(move || {
            let lua = mlua::Lua::new();
            let context = adzeman::LuaContext::attach(&held, &lua, "main").unwrap();
            let asked = is_on.clone();
            let ask = lua.create_function(move |_, ()| Ok(asked.load(SeqCst))).unwrap();
            let drive = move |_: &mlua::Lua, function: mlua::Function| {
                while is_on.load(SeqCst) {
                    function.call::<()>(1)?;
                }
                Ok(())
            };
            let note = move |_: &mlua::Lua, total: i64| {
                note.store(total, SeqCst);
                Ok(())
            };
            lua.globals().set("is_on", ask).unwrap();
            lua.globals().set("drive", lua.create_function(drive).unwrap()).unwrap();
            lua.globals().set("note", lua.create_function(note).unwrap()).unwrap();
            context.load("toll.lua", &text).unwrap().call::<()>(()).unwrap();
        });
        until(|| noted.load(SeqCst) > 0, "the script runs");
        Self { host, on, noted, running }
    }

    fn end(self) {
        self.on.store(false, SeqCst);
        self.running.join().unwrap();
    }
}

#[cfg(target_os = "linux")]
#[test]
fn functions_of_a_host_that_never_polls_get_their_new_text_whoever_is_attached() {
    for driver in DRIVERS {
        let mill = Mill::start(driver);
        let text = format!("{SCRIPT}{driver}\n").replace("  total = toll\n", "  total = toll\n  note(toll)\n");
        let text = text.replace("base + length", "1000 + base + length");
        let text = text.replace("  kept.count =", "\n  kept.count =");
        let mut client = Client::attached(&mill.host);
        client.ok("configurationDone", json!({}));
        let body = reload(&mut client, &text);
        assert_eq!(body["done"], true, "{driver}: {body}");
        client.ok("disconnect", json!({}));
        until(|| mill.noted.load(SeqCst) > 1000, driver);
        // What is bound in the new text is met there.
        let mut client = Client::attached(&mill.host);
        client.ok("configurationDone", json!({}));
        for (line, name) in [(7, "sum"), (15, "total")] {
            let set = json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": line}]});
            let set = client.ok("setBreakpoints", set)["breakpoints"][0].clone();
            assert_eq!((set["verified"].as_bool(), set["line"].as_i64()), (Some(true), Some(line)), "{driver}: {set}");
            assert_eq!(client.stopped().1, line, "{driver}");
            let value: i64 = client.evaluate(name).parse().unwrap();
            assert!(value > 1000, "{driver}: {name} is {value}");
            client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": []}));
            client.go_on("continue");
        }
        client.ok("disconnect", json!({}));
        mill.end();
    }
}

#[cfg(target_os = "linux")]
#[test]
fn a_breakpoint_in_what_goes_on_in_the_text_from_before_says_so() {
    let mill = Mill::start("while is_on() do\n  update(1)\nend");
    let mut client = Client::attached(&mill.host);
    client.ok("configurationDone", json!({}));
    let loaded = client.ok("loadedSources", json!({}))["sources"][0]["sourceReference"].clone();
    let text = client.ok("source", json!({"sourceReference": loaded}))["content"].as_str().unwrap().to_owned();
    reload(&mut client, &text.replace("base + length", "1000 + base + length"));
    until(|| mill.noted.load(SeqCst) > 1000, "the function that returns has its new text");
    // The script itself never returns.
    let set = |client: &mut Client, line: i64| {
        let set = json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": line}]});
        client.ok("setBreakpoints", set)["breakpoints"][0].clone()
    };
    let held = set(&mut client, 19);
    let message = held["message"].as_str().unwrap_or_default();
    assert!(message.contains("goes on in the text from before"), "{held}");
    let held = set(&mut client, 7);
    assert!(!held.to_string().contains("from before"), "{held}");
    assert_eq!(client.stopped().1, 7);
    client.ok("disconnect", json!({}));
    mill.end();
}
