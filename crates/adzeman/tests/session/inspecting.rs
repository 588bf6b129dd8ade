//! What a session shows of scripts and of the host: changes between stops, watches, tables, shapes, monitors, secrets.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::thread::{self, JoinHandle};

use adzeman::{About, Event, EventKind, Host, HostBuilder, Listen, LuaContext};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::harness::{Client, Level, on_each};

/// Line 8 is in `check`, which runs inside `update`; line 15 is in `update`.
const SCRIPT: &str = "\
local tariff = {base = 4, small = {per_metre = 1.5}}
turns = 0
kept = {length = 24, name = 'Heron', crew = {{nick = 'Ada', age = 30}, {nick = 'Ben'}}}

function check(record, ...)
  local inner = record.length
  local extra = select('#', ...)
  return inner + extra
end

function update(n)
  turns = turns + 1
  kept.length = kept.length + 1
  local toll = tariff.base * n
  if n % 2 == 0 then save(kept) end
  return toll
end
";

#[derive(Clone, Serialize, Deserialize)]
struct Lock {
    level: f64,
    pin: u32,
}

/// A value of the host inside the script.
#[derive(Serialize)]
struct Winch {
    load: f64,
    serial: String,
}

impl mlua::UserData for Winch {
    fn add_fields<F: mlua::UserDataFields<Self>>(fields: &mut F) {
        fields.add_field_method_get("half_load", |_, winch| Ok(winch.load / 2.0));
    }

    fn add_methods<M: mlua::UserDataMethods<Self>>(methods: &mut M) {
        methods.add_method("pull", |_, winch, ()| Ok(winch.load));
    }
}

type Locks = Arc<Mutex<BTreeMap<String, Lock>>>;

struct Canal {
    host: Host,
    locks: Locks,
    ending: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Canal {
    /// A host that raises `frame.update` for `update(n)` again and again once someone is attached, and within it
    /// `record.before_save` for `check`.
    fn start() -> Self {
        let lock = |level| Lock { level, pin: 7_341_205 };
        let locks: Locks =
            Arc::new(Mutex::new([("upper".to_owned(), lock(2.5)), ("lower".to_owned(), lock(1.0))].into()));
        let about = About::new("the flight of locks")
            .measured("*.level", "water above the sill", "m")
            .secret("*.pin")
            .subject("*", "lock.*");
        let deepest = |_: &BTreeMap<String, Lock>, wanted: &BTreeMap<String, Lock>| {
            let too_deep = wanted.values().any(|lock| lock.level > 6.0);
            if too_deep { Err("the walls are 6 m high".to_owned()) } else { Ok(()) }
        };
        let host = Host::builder("canal")
            .event(EventKind::new("frame.update").field("n", "its number").secret_field("key", "of the gate house"))
            .event(EventKind::new("record.before_save").field("record", "what is saved"))
            .guarded_object("locks", locks.clone(), deepest)
            .about("locks", about)
            .object("sealed", Arc::new(Mutex::new(7)))
            .start(Listen::ANY_PORT)
            .unwrap();
        let ending = Arc::new(AtomicBool::new(false));
        let thread = thread::spawn({
            let (host, ending) = (host.clone(), ending.clone());
            move || run(&host, &ending)
        });
        while !host.connect_context() {
            thread::yield_now();
        }
        Self { host, locks, ending, thread: Some(thread) }
    }

    fn attach(&self) -> Client {
        let mut client = Client::connect(&self.host);
        client.ok("initialize", json!({}));
        client.ok("attach", json!({}));
        client
    }
}

impl Drop for Canal {
    fn drop(&mut self) {
        self.ending.store(true, SeqCst);
        self.host.close();
        if let Some(thread) = self.thread.take() {
            let outcome = thread.join();
            assert!(thread::panicking() || outcome.is_ok(), "the host's thread does not panic");
        }
    }
}

/// Whether a context is open yet: clients ask for it by its number.
trait HasContext {
    fn connect_context(&self) -> bool;
}

impl HasContext for Host {
    fn connect_context(&self) -> bool {
        let mut client = Client::connect(self);
        client.ok("initialize", json!({}));
        !client.ok("adzeman/status", json!({}))["contexts"].as_array().unwrap().is_empty()
    }
}

fn run(host: &Host, ending: &AtomicBool) {
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(host, &lua, "lock.upper").unwrap();
    context.show_type::<Winch>(About::new("a winch").secret("serial")).unwrap();
    let save = {
        let host = host.clone();
        move |lua: &mlua::Lua, record: mlua::Table| {
            let check: mlua::Function = lua.globals().get("check")?;
            host.emit(Event::of("record.before_save").subject(("passage", 118)), || check.call::<f64>((record, 1, 2)))
        }
    };
    lua.globals().set("save", lua.create_function(save).unwrap()).unwrap();
    lua.globals().set("winch", Winch { load: 3.0, serial: "W-17".to_owned() }).unwrap();
    context.load("scripts/canal.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
    let update: mlua::Function = lua.globals().get("update").unwrap();
    let mut n = 0;
    while !ending.load(SeqCst) {
        n += 1;
        let event = Event::of("frame.update").subject("lock.upper").with("n", n).with("key", "brass");
        let _ = host.emit(event, || update.call::<f64>(n));
        thread::yield_now();
    }
}

fn stop_at(client: &mut Client, line: i64, condition: Option<&str>) {
    let wanted = json!([{"line": line, "condition": condition}]);
    client.ok("setBreakpoints", json!({"source": {"path": "canal.lua"}, "breakpoints": wanted}));
}

/// The variables behind a reference.
fn variables(client: &mut Client, reference: &Json) -> Vec<Json> {
    client.ok("variables", json!({"variablesReference": reference}))["variables"].as_array().unwrap().clone()
}

fn scope(client: &mut Client, title: &str) -> Vec<Json> {
    let frame = client.frame(0)["id"].clone();
    let scopes = client.ok("scopes", json!({"frameId": frame}));
    let found = scopes["scopes"].as_array().unwrap().iter().find(|scope| scope["name"] == title).cloned();
    variables(client, &found.unwrap_or_else(|| panic!("no {title} in {scopes}"))["variablesReference"])
}

#[track_caller]
fn named(variables: &[Json], name: &str) -> Json {
    variables.iter().find(|held| held["name"] == name).unwrap_or_else(|| panic!("no {name} in {variables:?}")).clone()
}

fn evaluate_as(client: &mut Client, context: &str, text: &str) -> Json {
    let frame = client.frame(0)["id"].clone();
    client.ok("evaluate", json!({"expression": text, "frameId": frame, "context": context}))
}

#[test]
fn values_that_changed_since_the_last_stop_say_what_they_were() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let globals = scope(&mut client, "Globals");
    assert!(globals.iter().all(|variable| variable["before"].is_null()), "{globals:?}");
    let kept = named(&globals, "kept");
    let first = named(&variables(&mut client, &kept["variablesReference"]), "length")["value"].clone();
    assert!(evaluate_as(&mut client, "repl", "turns")["before"].is_null());

    client.go_on("continue");
    client.stopped();
    let locals = scope(&mut client, "Locals");
    assert!(named(&locals, "toll")["before"].is_null(), "it was not on show");
    let globals = scope(&mut client, "Globals");
    let inside = variables(&mut client, &named(&globals, "kept")["variablesReference"]);
    assert_eq!(named(&inside, "length")["before"], first, "also inside a table");
    assert!(named(&inside, "name")["before"].is_null());
    let turns = evaluate_as(&mut client, "repl", "turns");
    assert_eq!(
        turns["before"].as_str().unwrap().parse::<i64>().unwrap() + 1,
        turns["result"].as_str().unwrap().parse::<i64>().unwrap()
    );
}

#[test]
fn children_have_expressions_and_natures() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let kept = evaluate_as(&mut client, "repl", "kept");
    let crew = named(&variables(&mut client, &kept["variablesReference"]), "crew");
    assert_eq!(crew["evaluateName"], "kept.crew");
    let first = variables(&mut client, &crew["variablesReference"]).remove(0);
    let nick = named(&variables(&mut client, &first["variablesReference"]), "nick");
    assert_eq!(nick["evaluateName"], "kept.crew[1].nick");
    assert_eq!(client.evaluate("kept.crew[1].nick"), nick["value"]);

    let winch = evaluate_as(&mut client, "repl", "winch");
    assert_eq!(winch["result"], "{load: 3.0, serial: (secret)}");
    let members = variables(&mut client, &winch["variablesReference"]);
    let names: Vec<_> = members.iter().map(|member| member["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["load", "serial", "half_load", "pull", "(metatable)"]);
    let half = named(&members, "half_load");
    assert_eq!((&half["value"], &half["presentationHint"]["lazy"]), (&json!(""), &json!(true)));
    let computed = variables(&mut client, &half["variablesReference"]);
    assert_eq!((computed.len(), &computed[0]["value"]), (1, &json!("1.5")));
    assert_eq!(named(&members, "pull")["presentationHint"]["kind"], "method");
    assert_eq!(named(&members, "(metatable)")["presentationHint"]["visibility"], "internal");
    let why = client.refused(
        "setVariable",
        json!({"variablesReference": winch["variablesReference"], "name": "load", "value": "1"}),
    );
    assert!(why.contains("inside a value of the host"), "{why}");
}

#[test]
fn numbers_come_in_other_bases_and_texts_whole() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    let mut show = |context: &str, text: &str, format: Json| {
        client.ok("evaluate", json!({"expression": text, "frameId": frame, "context": context, "format": format}))
    };
    assert_eq!(show("repl", "255", json!({"hex": true}))["result"], "0xff");
    assert_eq!(show("repl", "5", json!({"base": 2}))["result"], "0b101");
    assert_eq!(show("clipboard", "'one\\ntwo'", json!(null))["result"], "one\ntwo");
    let big = show("clipboard", "string.rep('x', 2000000)", json!(null));
    assert_eq!((big["result"].as_str().unwrap().len(), &big["bytesInAll"]), (1024 * 1024, &json!(2_000_000)));
    let bytes = show("bytes", "'lock\\0'", json!(null));
    assert!(bytes["result"].as_str().unwrap().starts_with("00000000  6c 6f 63 6b 00"), "{bytes}");
    let table = show("repl", "{10, 11}", json!(null));
    let inside =
        client.ok("variables", json!({"variablesReference": table["variablesReference"], "format": {"hex": true}}));
    assert_eq!(inside["variables"][1]["value"], "0xb");
}

#[test]
fn watches_out_of_scope_say_so_and_where_they_are() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    let watch = |text: &str| json!({"expression": text, "frameId": frame, "context": "watch"});
    let mixed = client.ok("evaluate", watch("host.locks.upper.level - toll"));
    assert_eq!(mixed["ofFunction"], true);
    assert_eq!(client.ok("evaluate", watch("turns"))["ofFunction"], false);
    let why = client.refused("evaluate", watch("inner + 1"));
    assert_eq!(why, "not in scope here: 'inner' is a variable of check (scripts/canal.lua)");
    let why = client.refused("evaluate", watch("nothing.at.all"));
    assert_eq!(why, "not in scope here: no script makes a variable 'nothing'");
    let why = client.refused("evaluate", watch("toll +* 2"));
    assert!(why.contains("at column 7"), "{why}");
}

#[test]
fn what_the_pointer_is_over_is_looked_up_and_never_run() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let hover = |client: &mut Client, text: &str| evaluate_as(client, "hover", text)["result"].clone();
    assert_eq!(hover(&mut client, "kept.crew[1].nick"), "\"Ada\"");
    assert_eq!(hover(&mut client, "host.locks.lower.level"), "1.0");
    assert!(hover(&mut client, "winch").as_str().unwrap().starts_with("{load: 3.0"));
    let frame = client.frame(0)["id"].clone();
    for text in ["winch.half_load", "check(kept)", "turns + 1", "kept.nothing"] {
        let why = client.refused("evaluate", json!({"expression": text, "frameId": frame, "context": "hover"}));
        assert!(why.contains("is no variable here"), "{text}: {why}");
    }
}

#[test]
fn records_become_rows_and_columns_and_any_value_has_a_shape() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    let table = client.ok("adzeman/table", json!({"expression": "kept.crew", "frameId": frame}));
    assert_eq!(table["columns"], json!(["age", "nick"]));
    assert_eq!(table["rows"][0], json!({"name": "[1]", "cells": ["30", "\"Ada\""]}));
    assert_eq!(table["rows"][1], json!({"name": "[2]", "cells": [null, "\"Ben\""]}));
    let locks = client.ok("adzeman/table", json!({"expression": "host.locks", "frameId": frame}));
    assert_eq!(locks["columns"], json!(["level", "pin"]));
    assert_eq!(locks["rows"][0]["name"], "lower");
    let why = client.refused("adzeman/table", json!({"expression": "7", "frameId": frame}));
    assert!(why.contains("nothing inside"), "{why}");

    let shape = client.ok("adzeman/shape", json!({"expression": "kept", "frameId": frame}));
    let lines: Vec<_> = shape["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| {
            let depth = row["depth"].as_u64().unwrap() as usize;
            let remark = row["remark"].as_str().map_or(String::new(), |remark| format!(" ({remark})"));
            let (name, types) = (row["name"].as_str().unwrap(), row["types"].as_str().unwrap());
            format!("{}{name}: {types}{remark}", " ".repeat(depth))
        })
        .collect();
    assert_eq!(
        lines,
        [
            ": table",
            " crew: table (2 elements)",
            "  []: table",
            "   age: integer (in 1 of 2)",
            "   nick: string",
            " length: integer",
            " name: string",
        ]
    );
}

#[test]
fn the_stack_shows_arguments_and_every_event_where_it_was_raised() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 8, None);
    client.stopped();
    let stack = client.ok("stackTrace", json!({"threadId": 1}));
    let frames = stack["stackFrames"].as_array().unwrap();
    let names: Vec<_> = frames.iter().map(|frame| frame["name"].as_str().unwrap()).collect();
    let outer = "frame.update of lock.upper, raised by canal";
    assert_eq!(
        names,
        ["check", "record.before_save of passage 118, raised by canal", "save", "update", outer],
        "{stack:#}"
    );
    let arguments = frames[0]["arguments"][0].as_str().unwrap();
    assert!(arguments.starts_with("record = {crew = {{…}, {…}}, length = "), "{arguments}");
    assert_eq!(stack["totalFrames"], 5);
    // The same in pages.
    let paged: Vec<_> = (0..5)
        .map(|at| {
            let page = client.ok("stackTrace", json!({"threadId": 1, "startFrame": at, "levels": 1}));
            page["stackFrames"][0]["name"].as_str().unwrap().to_owned()
        })
        .collect();
    assert_eq!(paged, names);
    let scopes = client.ok("scopes", json!({"frameId": frames[4]["id"]}));
    assert_eq!(scopes["scopes"].as_array().unwrap().len(), 1, "only the innermost event is at hand: {scopes}");
}

#[test]
fn steps_tell_which_lines_ran() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 12, Some("n % 2 == 1"));
    client.stopped();
    for _ in 0..3 {
        client.go_on("next");
        client.event("continued");
        client.stopped();
    }
    client.go_on("next");
    let body = client.event("stopped");
    assert_eq!(body["linesRan"], json!([12, 13, 14, 15, 16]));
}

#[test]
fn what_is_secret_never_leaves_the_host() {
    let canal = Canal::start();
    let mut client = canal.attach();
    let log =
        json!([{"line": 15, "logMessage": "{host.locks.upper.pin} {host.locks.upper} {event.key} {winch.serial}"}]);
    client.ok("setBreakpoints", json!({"source": {"path": "canal.lua"}, "breakpoints": log}));
    let said = client.event("output")["output"].as_str().unwrap().to_owned();
    stop_at(&mut client, 16, None);
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    let mut seen = vec![said];
    let routes = [
        "host.locks.upper.pin",
        "host.locks.upper",
        "host.locks",
        "host",
        "host.locks.upper.pin == 7341204 + 1",
        "event.key",
        "event",
        "winch",
        "(function() local t = {} for k, v in pairs(host.locks.upper) do t[#t + 1] = tostring(v) end return table.concat(t, ' ') end)()",
    ];
    for route in routes {
        for context in ["repl", "watch", "hover", "clipboard", "bytes", "variables"] {
            let answer = client.request("evaluate", json!({"expression": route, "frameId": frame, "context": context}));
            seen.push(format!("{:?} {:?}", answer.message, answer.body));
        }
        for request in ["adzeman/table", "adzeman/shape"] {
            let answer = client.request(request, json!({"expression": route, "frameId": frame}));
            seen.push(format!("{:?} {:?}", answer.message, answer.body));
        }
    }
    for name in ["host.locks.upper.pin", "host.locks.upper", "host.locks"] {
        let info = client.request("dataBreakpointInfo", json!({"name": name, "frameId": frame}));
        seen.push(format!("{:?} {:?}", info.message, info.body));
    }
    for title in ["Event", "Host", "Globals"] {
        let mut waiting = scope(&mut client, title);
        while let Some(variable) = waiting.pop() {
            seen.push(variable.to_string());
            let reference = &variable["variablesReference"];
            if *reference != 0 && variable["presentationHint"]["visibility"] != "internal" && seen.len() < 500 {
                waiting.extend(variables(&mut client, reference));
            }
        }
    }
    let why = client
        .refused("setExpression", json!({"expression": "host.locks.upper.pin", "value": "'x'", "frameId": frame}));
    assert!(why.contains("kept secret by the host"), "{why}");
    let why = client.refused(
        "setExpression",
        json!({"expression": "host.locks.upper", "value": "{level = 1, pin = 2}", "frameId": frame}),
    );
    assert!(why.contains("parts of it are secret"), "{why}");
    seen.push(why);
    for text in &seen {
        assert!(!["7341205", "brass", "W-17"].iter().any(|secret| text.contains(secret)), "{text}");
    }
    assert_eq!(canal.locks.lock().unwrap()["upper"].pin, 7_341_205);
}

#[test]
fn a_change_that_does_not_fit_or_is_not_wanted_is_refused_with_the_reason() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    let frame = client.frame(0)["id"].clone();
    let set = |value: &str| json!({"expression": "host.locks.upper.level", "value": value, "frameId": frame});
    let why = client.refused("setExpression", set("'high'"));
    assert!(why.contains("expected f64") && why.contains("it holds 2.5 (float) now"), "{why}");
    let why = client.refused("setExpression", set("7"));
    assert_eq!(why, "the host does not let 'host.locks.upper.level' become that: the walls are 6 m high");
    assert_eq!(canal.locks.lock().unwrap()["upper"].level, 2.5);
    client.ok("setExpression", set("5"));
    assert_eq!(canal.locks.lock().unwrap()["upper"].level, 5.0);
    assert_eq!(
        evaluate_as(&mut client, "watch", "host.locks.upper.level")["result"],
        "5.0",
        "the effect is there at once"
    );
    let host = scope(&mut client, "Host");
    let locks = named(&host, "locks");
    assert_eq!(locks["doc"], "the flight of locks");
    assert_eq!(named(&host, "sealed")["presentationHint"]["attributes"], json!(["readOnly"]));
    let upper = named(&variables(&mut client, &locks["variablesReference"]), "upper");
    assert_eq!(upper["belongsTo"], json!(["subject lock.upper", "context lock.upper"]));
    let level = named(&variables(&mut client, &upper["variablesReference"]), "level");
    assert_eq!((&level["doc"], &level["unit"]), (&json!("water above the sill"), &json!("m")));
}

#[test]
fn a_change_while_the_host_runs_says_when_it_was_made() {
    let canal = Canal::start();
    let mut client = canal.attach();
    let set = client.ok("setExpression", json!({"expression": "turns", "value": "1000000"}));
    let made = set["made"].as_str().unwrap();
    let at_an_event = ["before frame.update of lock.upper, ", "before record.before_save of passage 118, "];
    assert!(at_an_event.iter().any(|event| made.starts_with(event)), "{made}");
    let turns: i64 = client.ok("evaluate", json!({"expression": "turns"}))["result"].as_str().unwrap().parse().unwrap();
    assert!(turns >= 1_000_000);
}

#[test]
fn monitors_sample_while_the_host_runs_and_report_their_cost() {
    let canal = Canal::start();
    let mut client = canal.attach();
    let by_event = client.ok(
        "adzeman/monitor",
        json!({"expression": "turns + event.n - event.n", "event": "frame.update", "count": 3, "share": 1.0}),
    );
    let mut counts = Vec::new();
    for _ in 0..3 {
        let sample = client.event("adzeman/sample");
        assert_eq!(sample["success"], true, "{sample}");
        assert_eq!(sample["event"], "frame.update of lock.upper");
        assert!(sample["costMicroseconds"].as_f64().unwrap() > 0.0);
        assert!((0.0..=1.0).contains(&sample["share"].as_f64().unwrap()), "{sample}");
        counts.push(sample["count"].as_u64().unwrap());
    }
    assert_eq!(counts, [1, 2, 3]);
    client.ok("adzeman/endMonitor", by_event.clone());
    let why = client.refused("adzeman/sampleNow", by_event);
    assert!(why.contains("no monitor"), "{why}");

    // By the time, once a day; and when asked for.
    let by_time = client.ok("adzeman/monitor", json!({"expression": "nothing.here", "everyMilliseconds": 86_400_000}));
    let id = by_time["monitorId"].clone();
    let sample = |client: &mut Client| loop {
        let sample = client.event("adzeman/sample");
        if sample["monitorId"] == id {
            return sample;
        }
    };
    let first = sample(&mut client);
    assert_eq!(first["success"], false);
    assert!(first["value"].as_str().unwrap().contains("nil value"), "{first}");
    client.ok("adzeman/sampleNow", by_time);
    assert_eq!(sample(&mut client)["count"], 2);
    let why = client.refused("adzeman/monitor", json!({"expression": "turns +"}));
    assert!(why.contains("cannot read that"), "{why}");
}

#[test]
fn a_monitor_that_would_take_more_than_its_share_is_slowed_and_not_the_host() {
    let canal = Canal::start();
    let mut client = canal.attach();
    let costly = "(function() local s = 0 for i = 1, 200000 do s = s + i end return s end)()";
    client.ok("adzeman/monitor", json!({"expression": costly, "everyMilliseconds": 1, "share": 0.05}));
    let samples: Vec<_> = (0..4).map(|_| client.event("adzeman/sample")).collect();
    let last = samples.last().unwrap();
    assert_eq!(last["slowed"], true, "{last}");
    // Between the first sample and the last, at least as much time has passed as three samples may take.
    let spent: f64 = samples[..3].iter().map(|sample| sample["costMicroseconds"].as_f64().unwrap() / 1e6).sum();
    let passed = last["seconds"].as_f64().unwrap() - samples[0]["seconds"].as_f64().unwrap();
    assert!(spent <= 0.05 * passed * 1.001, "{spent} s of {passed} s");
}

#[test]
fn the_last_results_can_be_used_again() {
    let canal = Canal::start();
    let mut client = canal.attach();
    stop_at(&mut client, 16, None);
    client.stopped();
    evaluate_as(&mut client, "repl", "kept.crew[1]");
    evaluate_as(&mut client, "repl", "10");
    assert_eq!(evaluate_as(&mut client, "repl", "it + it2.age")["result"], "40");
    evaluate_as(&mut client, "watch", "5");
    assert_eq!(evaluate_as(&mut client, "repl", "it")["result"], "40", "a watch is no result");
}

/// Where a script has a variable of the name `host`, its own comes first in what is typed; what is shown of the host is the
/// host's all the same.
#[test]
fn a_change_of_what_is_shown_of_the_host_lands_in_the_host() {
    let script = "function update(n)\n  local host = {lock = {metres = 7, names = {'own'}}}\n  return host\nend";
    on_each(script, |test| {
        let mut client = test.attach();
        client.break_at(&[(3, None)]);
        test.go();
        client.stopped();
        let frame = client.frame(0)["id"].clone();
        let lock = scope(&mut client, "Host").into_iter().find(|variable| variable["name"] == "lock").unwrap();
        let set = |name: &str, value: &str, inside: &Json| json!({"variablesReference": inside["variablesReference"], "name": name, "value": value});
        let changed = client.ok("setVariable", set("metres", "host.lock.metres + 0.5", &lock));
        assert_eq!(
            (&changed["value"], &changed["type"]),
            (&json!("7.5"), &json!("float")),
            "the right side is the script's"
        );
        let names = variables(&mut client, &lock["variablesReference"]);
        let names = names.into_iter().find(|variable| variable["name"] == "names").unwrap();
        client.ok("setVariable", set("[2]", "'weir'", &names));
        assert!(client.refused("setVariable", set("[3]", "'none'", &names)).contains("'host.lock.names' has no '[3]'"));
        let level = test.level.lock().unwrap().clone();
        assert_eq!(level, Level { metres: 7.5, names: vec!["upper".to_owned(), "weir".to_owned()] });
        assert_eq!(client.evaluate("host.lock.metres"), "7", "and not in the script");
        client.ok("setExpression", json!({"expression": "host.lock.metres", "value": "8", "frameId": frame}));
        assert_eq!((client.evaluate("host.lock.metres").as_str(), test.level.lock().unwrap().metres), ("8", 7.5));
    });
}

#[test]
fn what_a_host_opens_is_put_together_when_it_starts_whatever_the_order() {
    let level = || Arc::new(Mutex::new(json!({"pin": 1, "level": 2})));
    let host = Host::builder("canal")
        .about("lock", About::new("").secret("pin"))
        .editable_object("lock", level())
        .start(Listen::Off)
        .unwrap();
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(&host, &lua, "main").unwrap();
    context.load("main.lua", "return").unwrap().call::<()>(()).unwrap();
    let (reader, writer) = host.connect().unwrap();
    let asking = std::thread::spawn(move || {
        let mut client = Client::within(reader, writer);
        client.ok("initialize", json!({}));
        client.ok("attach", json!({}));
        client.ok("configurationDone", json!({}));
        let shown = client.ok("evaluate", json!({"expression": "host.lock", "threadId": 1}));
        let why = client.refused("evaluate", json!({"expression": "host.lock.pin", "threadId": 1}));
        (shown["result"].as_str().unwrap().to_owned(), why)
    });
    while !asking.is_finished() {
        host.poll();
        std::thread::yield_now();
    }
    let (shown, why) = asking.join().unwrap();
    assert_eq!(shown, "{level: 2, pin: (secret)}");
    assert!(why.contains("kept secret"), "{why}");

    let why = |builder: HostBuilder| builder.start(Listen::Off).err().unwrap().to_string();
    let one = || Host::builder("canal").object("lock", level());
    let misspelt = why(one().about("lokc", About::new("").secret("pin")));
    assert_eq!(misspelt, "the host says what 'lokc' is, and opens no object of that name; it has lock");
    assert!(why(one().object("lock", level())).contains("two objects by the name 'lock'"));
    let no_path = why(one().about("lock", About::new("").secret("pins[*")));
    assert!(no_path.contains("'pins[*' is not a path: the bracket is not closed at column 7"), "{no_path}");
}
