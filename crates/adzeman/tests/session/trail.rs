//! The trail: the last events with what they cost, what came of them, what they carried and what was said meanwhile.

use std::cell::RefCell;
use std::future::poll_fn;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::rc::Rc;
use std::sync::Mutex;
use std::task::{Context, Poll, Waker};
use std::thread;

use adzeman::{Event, EventKind, Host, KeepTrail, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, on_each};

fn builder() -> adzeman::HostBuilder {
    Host::builder("canal")
        .event(EventKind::new("frame.update").field("dt", "seconds"))
        .event(EventKind::new("record.before_save").field("boat", "its name").secret_field("key", "of the gate"))
}

fn attached(host: &Host) -> Client {
    let (reader, writer) = host.connect().unwrap();
    let mut client = Client::within(reader, writer);
    client.ok("initialize", json!({}));
    client.event("initialized");
    client.ok("attach", json!({}));
    client
}

fn trail(client: &mut Client, arguments: Json) -> Vec<Json> {
    client.ok("adzeman/trail", arguments)["entries"].as_array().unwrap().clone()
}

/// Raises an event whose handler comes to this.
fn raise(host: &Host, number: u64, outcome: Result<(), String>) {
    let event =
        Event::of("record.before_save").subject(("passage", number)).with("boat", "Heron").with("key", "sesame");
    let _ = host.emit(event, || outcome);
}

#[test]
fn events_that_begin_and_end_apart_are_kept_however_they_end() {
    let host = builder().start(Listen::Off).unwrap();
    assert!(host.begin(Event::of("frame.update"), 0, || None).is_none(), "nobody wants to know");
    let mut client = attached(&host);
    let passage = |number| Event::of("record.before_save").subject(("passage", number)).with("boat", "Heron");
    let begin = |number| host.begin(passage(number), 0, || None).unwrap();

    let frame = host.begin(Event::of("frame.update").with("dt", 0.5), 0, || None).unwrap();
    begin(1).end(Ok(()));
    begin(2).end(Err("no water".to_owned()));
    drop(begin(3));
    raise(&host, 4, Ok(()));
    let inner = begin(5);
    frame.end(Ok(()));
    assert!(!inner.is_under_way(), "what was begun inside ends with it");
    inner.end(Err("too late".to_owned()));

    // One that was left is found by the next one; what it was inside of as well, if that was left.
    let was_left = Rc::new(RefCell::new(None));
    let asked = was_left.clone();
    let outer = host.begin(passage(6), 0, move || asked.borrow().clone()).unwrap();
    let inside = begin(7);
    begin(8).end(Ok(()));
    assert!(outer.is_under_way() && inside.is_under_way());
    *was_left.borrow_mut() = Some(Err("the gate is stuck".to_owned()));
    begin(9).end(Ok(()));
    assert!(!outer.is_under_way() && !inside.is_under_way());
    // Inside of one that is emitted.
    let emitted = Event::of("frame.update").with("dt", 0.25);
    let forgotten = host.emit(emitted, || {
        let kept = begin(10);
        raise(&host, 11, Ok(()));
        kept.end(Ok(()));
        Ok::<_, String>(begin(12))
    });
    assert!(!forgotten.unwrap().is_under_way(), "it has ended with what it was inside of");

    let shown = |entry: &Json| {
        let text = |field: &str| entry[field].as_str().unwrap_or("-").to_owned();
        format!("{} {} in {}, {}: {}", entry["number"], text("subject"), entry["within"], text("outcome"), text("why"))
    };
    let all: Vec<_> = trail(&mut client, json!({})).iter().map(shown).collect();
    assert_eq!(
        all,
        [
            "1 - in null, done: -",
            "2 passage 1 in 1, done: -",
            "3 passage 2 in 1, failed: no water",
            "4 passage 3 in 1, done: -",
            "5 passage 4 in 1, done: -",
            "6 passage 5 in 1, failed: it was left without an end",
            "7 passage 6 in null, failed: the gate is stuck",
            "8 passage 7 in 7, failed: the gate is stuck",
            "9 passage 8 in 8, done: -",
            "10 passage 9 in null, done: -",
            "11 - in null, done: -",
            "12 passage 10 in 11, done: -",
            "13 passage 11 in 12, done: -",
            "14 passage 12 in 11, failed: it was left without an end",
        ]
    );
    assert_eq!(trail(&mut client, json!({"filter": "failed"}))[0]["payload"], json!({"boat": "Heron"}));
}

#[test]
fn what_happened_is_kept_with_what_came_of_it() {
    let host = builder().start(Listen::Off).unwrap();
    raise(&host, 1, Ok(()));
    let mut client = attached(&host);
    assert_eq!(trail(&mut client, json!({})), Vec::<Json>::new(), "nothing is kept while nobody is there");
    host.emit(Event::of("frame.update").with("dt", 0.5), || {
        raise(&host, 118, Ok(()));
        raise(&host, 119, Err("no water".to_owned()));
        let refused = Event::of("record.before_save").subject(("passage", 120));
        host.emit(refused, || {
            host.note_refused("there is no toll");
            Ok::<_, String>(())
        })
    })
    .unwrap();
    let all = trail(&mut client, json!({}));
    let shown = |entry: &Json| {
        let text = |field: &str| entry[field].as_str().unwrap_or("-").to_owned();
        format!(
            "{} {} {} {} {} {}",
            entry["number"],
            text("event"),
            text("subject"),
            entry["within"],
            text("outcome"),
            text("why")
        )
    };
    let all: Vec<_> = all.iter().map(shown).collect();
    assert_eq!(
        all,
        [
            "1 frame.update - null done -",
            "2 record.before_save passage 118 1 done -",
            "3 record.before_save passage 119 1 failed no water",
            "4 record.before_save passage 120 1 refused there is no toll",
        ]
    );
    let failed = trail(&mut client, json!({"filter": "failed"}));
    assert_eq!(failed[0]["payload"], json!({"boat": "Heron", "key": "(secret)"}), "secrets stay out");
    let picked = trail(&mut client, json!({"filter": "when event.dt >= 0.5 and event.cost < 10s"}));
    assert_eq!(picked.len(), 1, "{picked:?}");
    let around = trail(&mut client, json!({"number": 3, "count": 1}));
    assert_eq!(around.iter().map(|entry| entry["number"].as_u64().unwrap()).collect::<Vec<_>>(), [2, 3, 4]);
    let slowest = trail(&mut client, json!({"slowest": true, "count": 1}));
    assert_eq!(slowest[0]["number"], 1, "what is inside another one is no longer");
    let counts = client.ok("adzeman/trailCounts", json!({"filter": "record.before_save"}));
    assert_eq!((&counts["total"], counts["counts"].as_array().unwrap().len()), (&json!(3), 1), "{counts}");
    assert_eq!(counts["counts"][0]["refused"], 1);
    let why = client.refused("adzeman/trail", json!({"number": 99}));
    assert_eq!(why, "event 99 is not in the trail; it has those from 1 to 4");
    let why = client.refused("adzeman/trail", json!({"filter": "when event.cost > 5"}));
    assert!(why.contains("write 5ms"), "{why}");
}

#[test]
fn contexts_messages_monitors_and_runs_are_told() {
    let script = "total = 0\nfunction update(n)\n  total = n\n  if n == 3 then\n    error('no water')\n  end\nend\n";
    on_each(script, |host| {
        let mut client = host.attach();
        let said = json!([{"line": 3, "condition": "n < 4", "logMessage": "frame {n}"}]);
        client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": said}));
        client.ok("adzeman/monitor", json!({"expression": "total * 2", "event": "frame.update", "share": 1.0}));
        host.go();
        host.wait_frames(4);
        let all = trail(&mut client, json!({"filter": "frame.update for frame 2"}));
        assert_eq!(all[0]["contexts"], json!(["main"]));
        let said = json!([
            {"by": "breakpoint", "text": "frame 2"},
            {"by": "monitor", "of": "total * 2", "text": "4"},
        ]);
        assert_eq!(all[0]["said"], said, "{all:?}");
        let failed = trail(&mut client, json!({"filter": "failed"}));
        assert!(failed[0]["why"].as_str().unwrap().contains("toll.lua:5: no water"), "{failed:?}");
        // Delivered again, its handlers have run twice, and the time at the stop is none of theirs.
        client.ok("setExceptionBreakpoints", json!({"filters": ["frame.update"]}));
        client.stopped();
        let frame = client.frame(0);
        client.ok("restartFrame", json!({"frameId": frame["id"]}));
        client.stopped();
        client.ok("setExceptionBreakpoints", json!({"filters": []}));
        client.go_on("continue");
        host.wait_frames(1);
        let again: Vec<_> =
            trail(&mut client, json!({"count": 2000})).into_iter().filter(|one| one["runs"] == 2).collect();
        assert_eq!(again.len(), 1, "{again:?}");
        assert!(again[0]["milliseconds"].as_f64().unwrap() < 1000.0);
    });
}

#[test]
fn threads_without_scripts_panics_and_types_that_cannot_be_read_are_recorded_and_harm_nobody() {
    struct Panics;
    impl serde::Serialize for Panics {
        fn serialize<S: serde::Serializer>(&self, _: S) -> Result<S::Ok, S::Error> {
            panic!("it is not to be read")
        }
    }
    let host = builder().start(Listen::Off).unwrap();
    let mut client = attached(&host);
    thread::scope(|scope| {
        scope.spawn(|| raise(&host, 1, Ok(())));
    });
    let panicked = catch_unwind(AssertUnwindSafe(|| {
        host.emit(Event::of("frame.update"), || -> Result<(), String> { panic!("in the handler") })
    }));
    assert!(panicked.is_err());
    let lent = RefCell::new(1);
    let borrowed = lent.borrow_mut();
    host.emit(Event::of("frame.update").with("lent", &lent).with("dt", f64::NAN), || Ok::<_, String>(())).unwrap();
    drop(borrowed);
    assert_eq!(host.emit(Event::of("frame.update").with("odd", Panics), || Ok::<_, String>(7)), Ok(7));
    let all = trail(&mut client, json!({}));
    let outcomes: Vec<_> = all.iter().map(|entry| entry["outcome"].as_str().unwrap()).collect();
    assert_eq!(outcomes, ["done", "failed", "done", "done"]);
    assert_eq!(all[1]["why"], "its handler panicked");
    assert!(all[2]["payload"]["lent"].as_str().unwrap().starts_with("(cannot be shown: "), "{all:?}");
}

#[test]
fn a_handler_that_is_run_bit_by_bit_is_one_event_also_when_its_task_is_dropped() {
    let host = builder().start(Listen::Off).unwrap();
    let mut client = attached(&host);
    let (mut cx, mut turns) = (Context::from_waker(Waker::noop()), 0);
    let handler = poll_fn(move |_| {
        turns += 1;
        if turns < 3 { Poll::Pending } else { Poll::Ready(Ok::<_, String>(turns)) }
    });
    let mut saving = Box::pin(host.emit_async(Event::of("record.before_save").with("boat", "Heron"), handler));
    assert!(saving.as_mut().poll(&mut cx).is_pending());
    raise(&host, 2, Ok(()));
    assert!(saving.as_mut().poll(&mut cx).is_pending());
    assert_eq!(saving.as_mut().poll(&mut cx), Poll::Ready(Ok(3)));
    let mut dropped =
        Box::pin(host.emit_async(Event::of("record.before_save"), std::future::pending::<Result<(), String>>()));
    assert!(dropped.as_mut().poll(&mut cx).is_pending());
    drop(dropped);
    let all = trail(&mut client, json!({}));
    let shown: Vec<_> =
        all.iter().map(|entry| (entry["number"].as_u64(), entry["outcome"].as_str(), &entry["within"])).collect();
    let done = Some("done");
    assert_eq!(
        shown,
        [(Some(1), done, &Json::Null), (Some(2), done, &Json::Null), (Some(3), Some("failed"), &Json::Null)]
    );
    assert_eq!(all[0]["payload"], json!({"boat": "Heron"}));
    assert_eq!(all[2]["why"], "its task was dropped before it had ended");
}

#[test]
fn it_is_kept_within_its_bound_and_given_back_when_nobody_is_left() {
    let host = builder().start(Listen::Off).unwrap();
    let mut client = attached(&host);
    let text = "x".repeat(1500);
    for _ in 0..10_000 {
        host.emit(Event::of("frame.update").with("text", &text), || Ok::<_, String>(())).unwrap();
    }
    let body = client.ok("adzeman/trail", json!({"count": 2000, "after": 0}));
    let (bytes, most) = (body["bytes"].as_u64().unwrap(), body["mostBytes"].as_u64().unwrap());
    assert!(bytes <= most && most == 8 << 20, "{bytes}");
    assert_eq!(body["kept"].as_u64().unwrap() + body["dropped"].as_u64().unwrap(), 10_000);
    assert!(body.to_string().len() < 8 << 20, "an answer fits into a message");
    client.ok("disconnect", json!({}));
    while host.is_attached() {
        thread::yield_now();
    }
    let mut client = attached(&host);
    assert_eq!(client.ok("adzeman/trail", json!({}))["kept"], 0);
}

#[test]
fn a_host_that_is_told_to_writes_it_when_an_event_fails_and_when_it_ends() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("canal.trail");
    // Whoever reads along by a link gets nothing.
    let elsewhere = folder.path().join("elsewhere");
    std::fs::write(&elsewhere, "").unwrap();
    std::os::unix::fs::symlink(&elsewhere, &file).unwrap();
    let host = builder().keep_trail(KeepTrail::new().write_to(&file)).start(Listen::Off).unwrap();
    raise(&host, 1, Ok(()));
    raise(&host, 2, Err("no water".to_owned()));
    let lines = |part: &str| loop {
        let text = std::fs::read_to_string(&file).unwrap_or_default();
        if text.contains(part) {
            break text.lines().map(|line| serde_json::from_str(line).unwrap()).collect::<Vec<Json>>();
        }
        thread::yield_now();
    };
    let written = lines("no water");
    assert_eq!(written[0]["why"], "record.before_save failed: no water");
    assert_eq!((&written[0]["host"], &written[0]["trail"], written.len()), (&json!("canal"), &json!(1), 3));
    assert_eq!(written[1]["payload"]["key"], "(secret)");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&file).unwrap().permissions());
    assert_eq!((mode & 0o777, std::fs::read_to_string(&elsewhere).unwrap().len()), (0o600, 0));
    // Whoever attaches later sees what was before, and it stays when they leave.
    let mut client = attached(&host);
    assert_eq!(trail(&mut client, json!({})).len(), 2);
    client.ok("disconnect", json!({}));
    while host.is_attached() {
        thread::yield_now();
    }
    raise(&host, 3, Ok(()));
    drop(host);
    let written = lines("the host has ended");
    assert_eq!((written.len(), &written[3]["subject"]), (4, &json!("passage 3")));
}

#[test]
fn an_event_is_delivered_once_more_where_the_host_takes_it() {
    let host = builder().start(Listen::Off).unwrap();
    let mut client = attached(&host);
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(&host, &lua, "ledger").unwrap();
    context.load("ledger.lua", "function save(boat)\n  last = boat\nend\n").unwrap().call::<()>(()).unwrap();
    let save: mlua::Function = lua.globals().get("save").unwrap();
    let emit = {
        let (host, save) = (host.downgrade(), save.clone());
        move |boat: &str| {
            let event = Event::of("record.before_save").with("boat", boat);
            host.upgrade().unwrap().emit_repeatable(event, || save.call::<()>(boat))
        }
    };
    emit("Heron").unwrap();
    emit("Kingfisher").unwrap();
    let why = client.refused("adzeman/trailAgain", json!({"number": 1}));
    assert!(why.contains("the host takes no record.before_save again"), "{why}");
    let delivered = Rc::new(Mutex::new(Vec::new()));
    host.on_again("record.before_save", {
        let delivered = delivered.clone();
        move |recorded| {
            delivered.lock().unwrap().push(recorded.number);
            emit(recorded.payload["boat"].as_str().ok_or("no boat")?).map_err(|error| error.to_string())
        }
    });
    client.ok("adzeman/trailAgain", json!({"number": 1}));
    host.poll();
    assert_eq!(lua.globals().get::<String>("last").unwrap(), "Heron");
    assert_eq!(*delivered.lock().unwrap(), [1]);
    assert_eq!(trail(&mut client, json!({})).len(), 3, "it is an event of its own");
    // Between two events, too, and never inside one.
    client.ok("adzeman/trailAgain", json!({"number": 1}));
    host.emit(Event::of("frame.update"), || {
        host.poll();
        Ok::<_, String>(())
    })
    .unwrap();
    assert_eq!(*delivered.lock().unwrap(), [1, 1]);
    assert_eq!(trail(&mut client, json!({}))[3]["within"], Json::Null);
    let why = client.refused("adzeman/trailAgain", json!({"number": 77}));
    assert!(why.contains("event 77 is not in the trail"), "{why}");
}

#[test]
fn who_observes_may_look_at_it_and_not_deliver_anything_again() {
    let host = builder().start(Listen::Off).unwrap();
    let mut controls = attached(&host);
    raise(&host, 1, Ok(()));
    let mut observer = attached(&host);
    assert_eq!(trail(&mut observer, json!({})).len(), 1);
    let why = observer.refused("adzeman/trailAgain", json!({"number": 1}));
    assert!(why.contains("this client observes"), "{why}");
    assert_eq!(trail(&mut controls, json!({"filter": "record.before_save"})).len(), 1);
}
