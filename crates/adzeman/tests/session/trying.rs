//! What a client changes: listed with what was there before, and, where it was set for now, given back, whoever leaves how.

use std::sync::atomic::{AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};

use adzeman::{About, Event, EventKind, Host, Listen, LuaContext};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::harness::{Client, Works};
use crate::versions::{NO_CONSTANTS, adapted, is_refused_before};

#[derive(Clone, Serialize, Deserialize)]
struct Weather {
    rain: f64,
    #[serde(default)]
    code: u32,
}

/// Line 9 is in `update`, where `here` is a local, `tariff` captured, and `limit` a global.
const SCRIPT: &str = "\
local tariff = {base = 4, small = {per_metre = 1.5}}
local free = 10
limit = 3
guarded = setmetatable({}, {__newindex = function() asked = true end, __index = {hidden = 1}})
seen = {}
local RATE <const> = 7
function update(n)
  local here = n * 2
  seen.n = here + free + tariff.base + limit + RATE
  return seen.n
end
function answer(n) limit = n return limit end
";

struct Canal {
    works: Works,
    weather: Arc<Mutex<Weather>>,
    frames: Arc<AtomicU64>,
    /// What `update` answered at each frame.
    answers: Arc<Mutex<Vec<i64>>>,
}

fn start() -> Canal {
    let weather = Arc::new(Mutex::new(Weather { rain: 2.5, code: 77 }));
    let frames = Arc::new(AtomicU64::new(0));
    let host = Host::builder("canal")
        .event(EventKind::new("frame.update"))
        .editable_object("weather", weather.clone())
        .about("weather", About::new("the weather").measured("rain", "", "mm/h").for_trying("rain", 2.0).secret("code"))
        .start(Listen::ANY_PORT)
        .unwrap();
    let answers = Arc::new(Mutex::new(Vec::new()));
    let (counted, answered) = (frames.clone(), answers.clone());
    let works = Works::start(host, move |host, ending| {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, "keeper").unwrap();
        context.load("keeper.lua", &adapted(SCRIPT)).unwrap().call::<()>(()).unwrap();
        let update: mlua::Function = lua.globals().get("update").unwrap();
        while !ending.load(SeqCst) {
            let n = counted.fetch_add(1, SeqCst);
            let answer = host.emit(Event::of("frame.update"), || update.call::<i64>(n));
            answered.lock().unwrap().push(answer.unwrap_or(-1));
            std::thread::yield_now();
        }
    });
    Canal { works, weather, frames, answers }
}

impl Canal {
    fn stopped() -> (Self, Client) {
        let canal = start();
        let mut client = canal.works.attach();
        let source = json!({"path": "keeper.lua"});
        client.ok("setBreakpoints", json!({"source": source, "breakpoints": [{"line": 9}]}));
        client.ok("configurationDone", json!({}));
        client.stopped();
        (canal, client)
    }

    fn rain(&self) -> f64 {
        self.weather.lock().unwrap().rain
    }

    /// Waits until the host has come by some events more.
    fn run_on(&self) {
        let until = self.frames.load(SeqCst) + 5;
        while self.frames.load(SeqCst) < until {
            std::thread::yield_now();
        }
    }
}

fn set(client: &mut Client, target: &str, value: &str, for_now: bool) -> Json {
    let frame = client.frame(0)["id"].clone();
    client.ok("setExpression", json!({"expression": target, "value": value, "frameId": frame, "forNow": for_now}))
}

fn undo(client: &mut Client, arguments: Json) -> (Vec<String>, Vec<(String, String)>) {
    let body = client.ok("adzeman/undo", arguments);
    let text = |held: &Json| held.as_str().unwrap_or_default().to_owned();
    let list = |name: &str| body[name].as_array().unwrap().clone();
    let undone =
        list("undone").iter().map(|held| format!("{} = {}", text(&held["target"]), text(&held["value"]))).collect();
    (undone, list("left").iter().map(|held| (text(&held["target"]), text(&held["why"]))).collect())
}

const PLACES: [(&str, &str, &str); 6] = [
    ("limit", "30", "3"),
    ("free", "-1", "10"),
    ("tariff.base", "{1}", "4"),
    ("tariff.small.per_metre", "'much'", "1.5"),
    ("here", "99", ""),
    ("host.weather.rain", "12", "2.5"),
];

#[test]
fn what_is_set_for_now_is_given_back_by_undo() {
    let (canal, mut client) = Canal::stopped();
    let here = client.evaluate("here");
    for (target, value, _) in PLACES {
        set(&mut client, target, value, true);
    }
    assert_eq!((client.evaluate("limit"), client.evaluate("here"), canal.rain()), ("30".into(), "99".into(), 12.0));
    // Twice at the same place: the last one first.
    set(&mut client, "limit", "31", true);
    set(&mut client, "host.weather.rain", "13", true);
    let (undone, left) = undo(&mut client, json!({}));
    assert_eq!((undone.len(), left), (8, Vec::new()), "{undone:?}");
    assert_eq!(undone[0], "host.weather.rain = 12.0");
    for (target, _, before) in PLACES {
        let before = if target == "here" { &here } else { before };
        assert_eq!(client.evaluate(target), before, "{target}");
    }
    assert_eq!(canal.rain(), 2.5);
    assert_eq!(undo(&mut client, json!({})), (Vec::new(), Vec::new()), "nothing is left to be undone");
    assert!(client.refused("adzeman/undo", json!({"id": 1})).contains("'changes' lists them"));
}

#[test]
fn all_changes_are_listed_with_what_was_there_and_how_far_from_usual_it_is() {
    let (_canal, mut client) = Canal::stopped();
    let here = client.evaluate("here");
    set(&mut client, "limit", "limit + 1", false);
    set(&mut client, "host.weather.rain", "12", true);
    let frame = client.frame(0)["id"].clone();
    let scopes = client.ok("scopes", json!({"frameId": frame}));
    let locals = scopes["scopes"][0]["variablesReference"].clone();
    client.ok("setVariable", json!({"variablesReference": locals, "name": "here", "value": "5"}));
    client.ok("evaluate", json!({"expression": "limit = 9", "frameId": frame, "context": "repl"}));
    client.ok("evaluate", json!({"expression": "limit + 9", "frameId": frame, "context": "repl"}));
    client.ok("adzeman/run", json!({"expression": "answer(8)", "frameId": frame}));
    client.event("adzeman/ran");
    client.ok("adzeman/undo", json!({}));
    let changes = client.ok("adzeman/changes", json!({}))["changes"].as_array().unwrap().clone();
    let of = |held: &Json| {
        let text = |name: &str| held[name].as_str().unwrap_or("-").to_owned();
        format!(
            "{} {}: {} -> {}, {}, {}",
            held["id"],
            text("target"),
            text("before"),
            text("value"),
            text("state"),
            text("at")
        )
    };
    let shown: Vec<_> = changes.iter().map(of).collect();
    assert_eq!(
        shown,
        [
            "1 limit: 3 -> 4, kept, at keeper.lua:9",
            "2 host.weather.rain: 2.5 -> 12.0, undone, at keeper.lua:9",
            &format!("3 here: {here} -> 5, kept, at keeper.lua:9"),
            "4 limit = 9: - -> -, ran, ",
            "5 answer(8): - -> -, ran, ",
        ]
    );
    assert_eq!((&changes[1]["usual"], &changes[1]["fromUsual"]), (&json!("2.0"), &json!(10.0)), "{changes:?}");
    assert_eq!(changes[0]["context"], "keeper");
}

#[test]
fn what_was_changed_since_is_left_unless_it_is_wanted_anyway() {
    let (canal, mut client) = Canal::stopped();
    set(&mut client, "limit", "30", true);
    set(&mut client, "host.weather.rain", "12", true);
    set(&mut client, "tariff.base", "5", true);
    canal.weather.lock().unwrap().rain = 13.5;
    let frame = client.frame(0)["id"].clone();
    client.ok("adzeman/run", json!({"expression": "answer(8)", "frameId": frame}));
    client.event("adzeman/ran");
    let (undone, left) = undo(&mut client, json!({}));
    assert_eq!(undone, ["tariff.base = 4"]);
    let changed = |target: &str| (target.to_owned(), "changed".to_owned());
    assert_eq!(left, [changed("host.weather.rain"), changed("limit")]);
    assert_eq!((canal.rain(), client.evaluate("limit")), (13.5, "8".to_owned()));
    let (undone, left) = undo(&mut client, json!({"id": 2, "anyway": true}));
    assert_eq!((undone, left), (vec!["host.weather.rain = 2.5".to_owned()], Vec::new()));
    assert_eq!(undo(&mut client, json!({"anyway": true})).0, ["limit = 3"]);
}

#[test]
fn a_local_is_given_back_at_its_own_stop_alone() {
    let (_canal, mut client) = Canal::stopped();
    set(&mut client, "here", "99", true);
    client.go_on("continue");
    client.stopped();
    let before = client.evaluate("here");
    let (undone, left) = undo(&mut client, json!({}));
    assert_eq!((undone.len(), left.len()), (0, 1));
    assert!(left[0].1.contains("a local variable of a function that has gone on"), "{left:?}");
    assert_eq!(client.evaluate("here"), before, "another call's local is not touched");
    let changes = client.ok("adzeman/changes", json!({}))["changes"].clone();
    assert_eq!(changes[0]["state"], "gone");
}

#[test]
fn what_could_not_be_given_back_is_not_set_for_now() {
    let (canal, mut client) = Canal::stopped();
    let frame = client.frame(0)["id"].clone();
    for (target, value, why) in [
        ("guarded.x", "1", "a function of the script may answer for it"),
        ("RATE", "8", "it is a constant"),
        ("nowhere", "1", "cannot be set for now"),
        ("nowhere.x", "1", "holds no table"),
        ("host.weather", "{rain = 1, code = 1}", "secret"),
        ("host.weather.code", "1", "secret"),
        ("event.name", "'x'", "event"),
        ("limit", "1 +", "expected"),
        ("limit + 1", "1", ""),
    ] {
        if target == "RATE" && is_refused_before("5.4", NO_CONSTANTS) {
            continue;
        }
        let asked = json!({"expression": target, "value": value, "frameId": frame, "forNow": true});
        let answer = client.refused("setExpression", asked);
        assert!(answer.contains(why), "{target}: {answer}");
    }
    assert_eq!((canal.rain(), client.evaluate("asked"), client.evaluate("limit")), (2.5, "nil".into(), "3".into()));
    assert_eq!(client.ok("adzeman/changes", json!({}))["changes"], json!([]));
}

#[test]
fn what_the_host_has_locked_when_a_client_leaves_is_given_back_as_soon_as_it_is_free() {
    for vanishes in [false, true] {
        let (canal, mut client) = Canal::stopped();
        set(&mut client, "limit", "30", true);
        set(&mut client, "here", "-1", true);
        set(&mut client, "host.weather.rain", "12", true);
        set(&mut client, "host.weather.rain", "13", true);
        let n: usize = client.evaluate("n").parse().unwrap();
        {
            let locked = canal.weather.lock().unwrap();
            if vanishes {
                client.vanish();
            } else {
                client.ok("disconnect", json!({}));
            }
            // The stop is over, and events go by.
            canal.run_on();
            assert_eq!(locked.rain, 13.0, "vanishes: {vanishes}");
        }
        if !vanishes {
            let answer = canal.answers.lock().unwrap()[n];
            assert_eq!(
                answer,
                n as i64 * 2 + 10 + 4 + 3 + 7,
                "what is not the host's was given back before the script went on"
            );
        }
        let until = std::time::Instant::now() + crate::harness::LONG;
        while canal.rain() != 2.5 {
            assert!(std::time::Instant::now() < until, "vanishes: {vanishes}");
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
    }
}

#[test]
fn who_leaves_or_vanishes_leaves_nothing_that_was_set_for_now() {
    for (is_stopped, vanishes) in [(true, false), (true, true), (false, false), (false, true)] {
        let (canal, mut client) = Canal::stopped();
        set(&mut client, "limit", "30", true);
        set(&mut client, "free", "50", true);
        set(&mut client, "host.weather.rain", "12", true);
        set(&mut client, "host.weather.rain", "13", true);
        set(&mut client, "tariff.base", "5", false);
        if !is_stopped {
            client.ok("setBreakpoints", json!({"source": {"path": "keeper.lua"}, "breakpoints": []}));
            client.go_on("continue");
            canal.run_on();
            assert_eq!(canal.rain(), 13.0, "it stays for as long as the client does");
        }
        if vanishes {
            client.vanish();
        } else {
            client.ok("disconnect", json!({}));
        }
        let until = std::time::Instant::now() + crate::harness::LONG;
        while canal.rain() != 2.5 {
            assert!(std::time::Instant::now() < until, "stopped: {is_stopped}, vanishes: {vanishes}");
            std::thread::yield_now();
        }
        canal.run_on();
        let mut next = canal.works.attach();
        let value = |client: &mut Client, name: &str| {
            client.ok("evaluate", json!({"expression": name, "threadId": 1}))["result"].as_str().unwrap().to_owned()
        };
        assert_eq!(value(&mut next, "limit"), "3", "stopped: {is_stopped}, vanishes: {vanishes}");
        next.ok("setBreakpoints", json!({"source": {"path": "keeper.lua"}, "breakpoints": [{"line": 9}]}));
        next.stopped();
        assert_eq!((next.evaluate("free"), next.evaluate("tariff.base")), ("10".to_owned(), "5".to_owned()));
        assert_eq!(next.ok("adzeman/changes", json!({}))["changes"], json!([]), "those of another client");
    }
}
