//! Figures, profiles and plans: numbers that are true, found by their names, and harm nobody.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};

use adzeman::{About, Event, EventKind, Figure, Host, Listen, LuaContext, Placed};
use serde_json::{Value as Json, json};

use crate::harness::{Client, TestHost, Transport, Works, until};

/// Makes memory jump when it is told to, by one event of its own kind.
const SCRIPT: &str = "\
kept = {}
function update(n) return n + 1 end
function load_charts()
  for i = 1, 20000 do kept[i] = { i, i + 1 } end
end
";

/// A host whose memory jumps, with a figure of its own, and one that panics.
fn canal(jumps: &Arc<AtomicBool>) -> Works {
    let (waiting, jumps) = (Arc::new(AtomicU64::new(2)), jumps.clone());
    let host = Host::builder("canal")
        .event(EventKind::new("frame.update"))
        .event(EventKind::new("charts.loaded"))
        .start(Listen::ANY_PORT)
        .unwrap();
    let asked = waiting.clone();
    let figure = Figure::new("boats.waiting", move || u32::try_from(asked.load(SeqCst)).map_or(0.0, f64::from));
    host.figure(figure.describe("boats that wait").in_unit("boats").usually(0.0..=6.0));
    host.figure(Figure::new("broken", || -> f64 { panic!("the host's own fault") }));
    host.figure(Figure::new("silent", || None));
    Works::start(host, move |host, ending| {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, "keeper").unwrap();
        context.load("keeper.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
        let function = |name: &str| lua.globals().get::<mlua::Function>(name).unwrap();
        let (update, load) = (function("update"), function("load_charts"));
        lua.gc_stop();
        let mut n = 0_u64;
        while !ending.load(SeqCst) {
            n += 1;
            let _ = host.emit(Event::of("frame.update"), || update.call::<i64>(n));
            if jumps.swap(false, SeqCst) {
                waiting.store(11, SeqCst);
                let _ = host.emit(Event::of("charts.loaded").subject(("chart", 7)), || load.call::<()>(()));
            }
            std::thread::yield_now();
        }
    })
}

fn figure(client: &mut Client, name: &str) -> Json {
    client.ok("adzeman/figure", json!({ "name": name }))
}

#[test]
fn a_figure_that_an_event_makes_jump_names_that_event() {
    let jumps = Arc::new(AtomicBool::new(false));
    let works = canal(&jumps);
    let mut client = works.attach();
    let samples = |client: &mut Client, name: &str| {
        let asked = client.request("adzeman/figure", json!({ "name": name }));
        asked.body.as_ref().and_then(|body| body["figure"]["samples"].as_u64()).unwrap_or(0)
    };
    until(|| samples(&mut client, "keeper.memory") > 50 && samples(&mut client, "boats.waiting") > 50, "samples come");
    jumps.store(true, SeqCst);
    until(|| figure(&mut client, "keeper.memory")["jumps"] != json!([]), "it jumps");
    let memory = figure(&mut client, "keeper.memory");
    let jump = &memory["jumps"][0];
    assert_eq!(
        (&jump["cause"]["event"], &jump["cause"]["events"]),
        (&json!("charts.loaded of chart 7"), &json!(1)),
        "{memory:#}"
    );
    assert!(jump["to"].as_f64().unwrap() - jump["from"].as_f64().unwrap() > 1_000_000.0, "{jump}");
    let number = jump["cause"]["number"].as_u64().unwrap();
    let entry = client.ok("adzeman/trail", json!({"number": number, "count": 0}));
    assert_eq!(entry["entries"][0]["event"], "charts.loaded", "it is the event of that number");
    until(|| figure(&mut client, "boats.waiting")["jumps"] != json!([]), "the host's own jumps, too");
    let own = figure(&mut client, "boats.waiting");
    assert_eq!((&own["jumps"][0]["from"], &own["jumps"][0]["to"]), (&json!(2.0), &json!(11.0)));
    let all = client.ok("adzeman/figures", json!({}));
    let named = |list: &Json, name: &str| list.as_array().unwrap().iter().find(|held| held["name"] == name).cloned();
    assert_eq!(named(&all["own"], "boats.waiting").unwrap()["usual"], json!([0.0, 6.0]));
    assert!(named(&all["own"], "broken").unwrap()["why"].as_str().unwrap().contains("panicked"));
    assert_eq!(named(&all["own"], "silent").unwrap()["value"], json!(null));
    assert!(named(&all["process"], "process.network").unwrap()["why"].as_str().unwrap().contains("does not tell"));
    let events = all["events"].as_array().unwrap();
    let charts = events.iter().find(|sum| sum["event"] == "charts.loaded").unwrap();
    assert_eq!((&charts["events"], &charts["worst"]), (&json!(1), &json!(number)));
    assert_eq!(all["contexts"][0]["context"], "keeper");
    let share = all["contexts"][0]["share"].as_f64().unwrap();
    assert!(share > 0.0 && share <= 1.01, "{share}");
    assert!(client.refused("adzeman/figure", json!({"name": "boats"})).contains("boats.waiting"));
    // Who comes after the last has left begins anew.
    client.vanish();
    until(|| !works.host.is_attached(), "it has left");
    let mut next = works.attach();
    let sum = next.ok("adzeman/figures", json!({}));
    assert!(sum["events"].as_array().unwrap().iter().all(|sum| sum["event"] != "charts.loaded"), "{sum:#}");
}

/// Counts by its own clock what its parts take.
const PARTS: &str = "\
took = { heavy = 0, light = 0, find = 0 }
local clock = os.clock
local text, pattern = string.rep('a', 80), 'a*a*b'
local function inner(n) local s = 0 for i = 1, n do s = s + i % 7 end return s end
local function heavy() local s = 0 for i = 1, 24000 do s = s + i % 7 end return s end
local function light() return inner(8000) end
local function find() local at = string.find(text, pattern) return at end
function update(n)
  local a = clock()
  heavy()
  local b = clock()
  light()
  local c = clock()
  find()
  local d = clock()
  took.heavy, took.light, took.find = took.heavy + b - a, took.light + c - b, took.find + d - c
end
";

#[test]
fn a_profile_has_the_shares_that_the_script_counts_by_itself() {
    let host = TestHost::start(Transport::Socket, PARTS);
    let mut client = host.attach();
    host.go();
    host.wait_frames(3);
    let counted = |client: &mut Client| {
        let value = |client: &mut Client, name: &str| -> f64 {
            let body = client.ok("evaluate", json!({"expression": format!("took.{name}"), "threadId": 1}));
            body["result"].as_str().unwrap().parse().unwrap()
        };
        ["heavy", "light", "find"].map(|name| value(client, name))
    };
    let mut profile = adzeman::core::profile::Profile::default();
    let before = counted(&mut client);
    // A machine that has little time for it takes few samples, and other threads count in the script's clock: the more samples, the
    // less of that is seen.
    let mut told = String::new();
    let mut is_so = false;
    for _ in 0..20 {
        let body = client.ok("adzeman/profile", json!({"milliseconds": 1000, "event": "frame.update"}));
        assert!(body["share"].as_f64().unwrap() > 0.0 && body["ticks"].as_u64().unwrap() > 0, "{}", body["share"]);
        profile.take_in(serde_json::from_value(body["profile"].clone()).unwrap());
        let after = counted(&mut client);
        let sum: f64 = after.iter().zip(before).map(|(after, before)| after - before).sum();
        let times = profile.times();
        // In the place of the last call of one stands what that calls.
        let shares = ["heavy", "inner", "find"].into_iter().enumerate().map(|(number, name)| {
            let time = times.iter().find(|time| time.function.name.as_deref() == Some(name));
            let total = time.map_or(0, |time| time.total);
            #[expect(clippy::cast_precision_loss, reason = "some thousand samples")]
            let sampled = total as f64 / profile.samples() as f64;
            (name, (after[number] - before[number]) / sum, sampled)
        });
        let shares: Vec<_> = shares.collect();
        told = format!("counted, sampled: {shares:?} of {}; {times:#?}", profile.samples());
        is_so = profile.samples() > 1200 && shares.iter().all(|(_, counted, sampled)| (counted - sampled).abs() < 0.1);
        if is_so {
            break;
        }
    }
    assert!(is_so, "{told}");
    let times = profile.times();
    // The time of the native function is its own, and not that of the line behind it.
    let find = times.iter().find(|time| time.function.name.as_deref() == Some("string.find")).expect("it is named");
    let caller = times.iter().find(|time| time.function.name.as_deref() == Some("find")).unwrap();
    assert!(find.own * 10 > caller.total * 8, "{find:?} {caller:?}");
    assert!(profile.folded().lines().any(|line| line.starts_with("frame.update;update (scripts/toll.lua:8);heavy")));
    let frames = host.frames.load(SeqCst);
    host.wait_frames(frames.min(2));
    // Nothing is left of it, and breakpoints are where they were.
    client.break_at(&[(10, None)]);
    assert_eq!(client.stopped().1, 10);
    assert!(client.refused("adzeman/profile", json!({"threadId": 1})).contains("is stopped"));
}

#[test]
fn who_leaves_in_the_middle_of_a_profile_leaves_nothing() {
    let host = TestHost::start(Transport::Socket, PARTS);
    let mut client = host.attach();
    host.go();
    client.send("adzeman/profile", json!({"milliseconds": 60000}));
    host.wait_frames(3);
    let begun = std::time::Instant::now();
    client.vanish();
    host.wait_frames(3);
    let mut other = host.attach();
    let clients = |other: &mut Client| other.ok("adzeman/status", json!({}))["clients"].as_array().map(Vec::len);
    until(|| clients(&mut other) == Some(1), "it is gone");
    assert!(begun.elapsed().as_secs() < 50, "it did not wait for the profile's end");
    other.ok("adzeman/takeOver", json!({}));
    let body = other.ok("adzeman/profile", json!({"milliseconds": 100, "event": "never"}));
    assert_eq!(body["profile"]["stacks"], json!([]), "{body:#}");
    let mut onlooker = host.attach();
    assert!(onlooker.refused("adzeman/profile", json!({})).contains("observes"));
    assert!(onlooker.ok("adzeman/figures", json!({}))["contexts"].is_array(), "that costs nothing, and is for all");
}

#[derive(Clone, serde::Serialize, serde::Deserialize)]
struct Boat {
    name: String,
    x: f64,
    y: f64,
    length: f64,
    heading: f64,
    code: u32,
}

#[test]
fn a_plan_says_where_things_lie_and_what_is_wrong_with_it() {
    let boat = |name: &str, x: f64, heading: f64| Boat { name: name.into(), x, y: 0.0, length: 20.0, heading, code: 7 };
    let boats =
        Arc::new(Mutex::new(vec![boat("Heron", 10.0, 0.0), boat("Otter", 29.0, 180.0), boat("水", 500.0, 90.0)]));
    let host = Host::builder("canal")
        .event(EventKind::new("frame.update"))
        .editable_object("boats", boats.clone())
        .about(
            "boats",
            About::new("boats").secret("*.code").measured("*.length", "over all", "m").placed(
                "*",
                Placed::at("x", "y")
                    .sized("length", 4.0)
                    .turned("heading")
                    .named("name")
                    .noted("length")
                    .in_unit("m")
                    .within((0.0, -8.0), (400.0, 8.0)),
            ),
        )
        .object("vault", Arc::new(Mutex::new(vec![boat("hidden", 1.0, 0.0)])))
        .about("vault", About::new("").secret("*.x").placed("*", Placed::at("x", "y")))
        .object("weather", Arc::new(Mutex::new(json!({"rain": 2.5}))))
        .start(Listen::ANY_PORT)
        .unwrap();
    let works = Works::start(host, |host, ending| {
        let lua = mlua::Lua::new();
        let _context = LuaContext::attach(host, &lua, "keeper").unwrap();
        while !ending.load(SeqCst) {
            let _ = host.emit(Event::of("frame.update"), || Ok::<_, String>(()));
            std::thread::yield_now();
        }
    });
    let mut client = works.attach();
    until(|| client.ok("threads", json!({}))["threads"] != json!([]), "the context is open");
    let plan = client.ok("adzeman/plan", json!({"path": "host.boats"}));
    assert_eq!(plan["things"][0]["path"], "host.boats[1]", "as the script would count");
    assert_eq!((&plan["things"][2]["name"], &plan["things"][2]["note"]), (&json!("水"), &json!("20.00 m")));
    assert_eq!(plan["overlaps"], json!([{"first": "host.boats[1]", "second": "host.boats[2]", "by": 1.0}]));
    assert_eq!(plan["outside"], json!([{"path": "host.boats[3]", "by": 102.0}]));
    assert_eq!((&plan["unit"], &plan["overlapping"]), (&json!("m"), &json!(1)));
    let one = client.ok("adzeman/plan", json!({"path": "host.boats[2]"}));
    assert_eq!(one["things"].as_array().map(Vec::len), Some(1));
    // What is secret has no place.
    let hidden = client.ok("adzeman/plan", json!({"path": "host.vault"}));
    assert_eq!((&hidden["things"], hidden["unplaced"].as_array().map(Vec::len)), (&json!([]), Some(1)), "{hidden}");
    assert!(!hidden.to_string().contains("1.0"), "{hidden}");
    for (path, why) in
        [("host.weather", "has no place"), ("boats", "begin with 'host.'"), ("host.boats[", "cannot read")]
    {
        assert!(client.refused("adzeman/plan", json!({ "path": path })).contains(why), "{path}");
    }
    // Many are read a part at a time.
    *boats.lock().unwrap() = (0..6000).map(|n| boat("b", f64::from(n) * 30.0, 0.0)).collect();
    let many = client.ok("adzeman/plan", json!({"path": "host.boats"}));
    assert_eq!((many["things"].as_array().map(Vec::len), &many["cut"]), (Some(5000), &json!(true)));
}
