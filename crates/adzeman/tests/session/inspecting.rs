//! What a session shows of scripts and of the host: changes between stops, watches, tables, shapes, monitors, secrets.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::thread::{self, JoinHandle};

use adzeman::{About, Event, EventKind, Host, Listen, LuaContext};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::harness::{Client, on_each};
use crate::versions::{is_since, whole_float};

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
pub(crate) struct Lock {
    pub(crate) level: f64,
    pub(crate) pin: u32,
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

pub(crate) type Locks = Arc<Mutex<BTreeMap<String, Lock>>>;

pub(crate) struct Canal {
    host: Host,
    pub(crate) locks: Locks,
    ending: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Canal {
    /// A host that raises `frame.update` for `update(n)` again and again once someone is attached, and within it
    /// `record.before_save` for `check`.
    pub(crate) fn start() -> Self {
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

    pub(crate) fn attach(&self) -> Client {
        Client::attached(&self.host)
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

pub(crate) fn stop_at(client: &mut Client, line: i64, condition: Option<&str>) {
    let wanted = json!([{"line": line, "condition": condition}]);
    client.ok("setBreakpoints", json!({"source": {"path": "canal.lua"}, "breakpoints": wanted}));
}

/// The variables behind a reference.
pub(crate) fn variables(client: &mut Client, reference: &Json) -> Vec<Json> {
    client.ok("variables", json!({"variablesReference": reference}))["variables"].as_array().unwrap().clone()
}

pub(crate) fn scope(client: &mut Client, title: &str) -> Vec<Json> {
    let frame = client.frame(0)["id"].clone();
    let scopes = client.ok("scopes", json!({"frameId": frame}));
    let found = scopes["scopes"].as_array().unwrap().iter().find(|scope| scope["name"] == title).cloned();
    variables(client, &found.unwrap_or_else(|| panic!("no {title} in {scopes}"))["variablesReference"])
}

#[track_caller]
pub(crate) fn named(variables: &[Json], name: &str) -> Json {
    variables.iter().find(|held| held["name"] == name).unwrap_or_else(|| panic!("no {name} in {variables:?}")).clone()
}

pub(crate) fn evaluate_as(client: &mut Client, context: &str, text: &str) -> Json {
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
    assert_eq!(hover(&mut client, "host.locks.lower.level"), whole_float("1.0"));
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
    let whole = if is_since("5.3") { "integer" } else { "number" };
    assert_eq!(
        lines,
        [
            ": table",
            " crew: table (2 elements)",
            "  []: table",
            &format!("   age: {whole} (in 1 of 2)"),
            "   nick: string",
            &format!(" length: {whole}"),
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
        client.stopped();
    }
    client.go_on("next");
    let body = client.event("stopped");
    assert_eq!(body["linesRan"], json!([12, 13, 14, 15, 16]));
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

#[test]
fn what_a_function_has_no_way_to_is_not_taken_for_a_global() {
    let script = "\
local rate, base = 3, 10
_G.rate = 'another one'

local function fare(n)
  local sum = base + n
  return sum
end

local function both(n)
  local twice = fare(n) * rate
  return twice
end

function update(n)
  for rate = 1, 1 do both(n) end
end
";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, None)]);
        host.go();
        client.stopped();
        let (inner, outer) = (client.frame(0)["id"].clone(), client.frame(1)["id"].clone());
        for how in ["repl", "watch", "hover", "clipboard"] {
            let asked = json!({"expression": "rate", "frameId": inner, "context": how});
            let why = client.refused("evaluate", asked);
            assert!(why.contains("has no way to it"), "{how}: {why}");
        }
        for (command, arguments) in [
            ("evaluate", json!({"expression": "rate * n", "frameId": inner})),
            ("setExpression", json!({"expression": "rate", "value": "1", "frameId": inner})),
            ("setExpression", json!({"expression": "n", "value": "rate", "frameId": inner})),
            ("dataBreakpointInfo", json!({"name": "rate", "frameId": inner})),
        ] {
            let why = client.refused(command, arguments);
            assert!(why.contains("has no way to it"), "{command}: {why}");
        }
        // A statement that was refused is none that was run.
        let why = client.refused("evaluate", json!({"expression": "rate = 5", "frameId": inner, "context": "repl"}));
        assert!(why.contains("has no way to it"), "{why}");
        assert_eq!(client.ok("adzeman/changes", json!({}))["changes"], json!([]));
        // What it does use, a caller that uses it, and the global itself are there.
        assert_eq!(
            client.evaluate("base + sum").parse::<i64>().unwrap(),
            20 + client.evaluate("n").parse::<i64>().unwrap()
        );
        let of = |client: &mut Client, expression: &str, frame: &Json| {
            client.ok("evaluate", json!({"expression": expression, "frameId": frame}))["result"].clone()
        };
        assert_eq!(of(&mut client, "rate", &outer), "3");
        assert_eq!(of(&mut client, "_G.rate", &inner), "\"another one\"");
        client.go_on("continue");
    });
}
