//! Scripts that are corrected where they stand: functions get the bodies of a changed text, and keep what they have captured.

use serde_json::{Value as Json, json};

use crate::harness::{Client, TestHost, on_each};

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
