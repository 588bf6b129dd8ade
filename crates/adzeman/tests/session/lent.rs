//! State that the host lends for the time of a handler, and has for itself at any other.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;

use adzeman::{About, Event, EventKind, Host, Inside, Lent, Listen, LuaContext};
use mlua::{Function, Lua};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};

use crate::harness::Client;

const SCRIPT: &str = "\
function update(n)
  local before = n
  water(0.5)
  return before
end
function idle(n)
  return n
end
";

/// What the host has by itself: no lock, no counted reference.
#[derive(Debug, Serialize, Deserialize)]
struct Flight {
    level: f64,
    key: u32,
    boats: Vec<String>,
}

/// What serde knows nothing of.
struct Store(BTreeMap<u32, f64>);

fn run(host: &Host, ending: &AtomicBool) -> (Flight, Store) {
    let lua = Lua::new();
    let context = LuaContext::attach(host, &lua, "main").unwrap();
    context.load("flight.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
    let [update, idle] = ["update", "idle"].map(|name| lua.globals().get::<Function>(name).unwrap());
    let mut flight = Flight { level: 1.0, key: 1234, boats: vec!["Heron".into()] };
    let store = RefCell::new(Store(BTreeMap::from([(7, 1.5), (9, 2.5)])));
    let mut n = 0;
    // Of an event that begins before anybody came nothing is known.
    while !host.is_attached() && !ending.load(SeqCst) {
        thread::yield_now();
    }
    while !ending.load(SeqCst) {
        n += 1;
        let lent = RefCell::new(&mut flight);
        let look = |path: &adzeman_core::path::Path| {
            let store = store.try_borrow().ok()?;
            match path.display(adzeman_core::path::Notation::OF_DATA).as_str() {
                "" => Some(Inside::Fields(store.0.keys().map(|id| format!("e{id}")).collect())),
                entity => store.0.get(&entity.strip_prefix('e')?.parse().ok()?).map(|x| Inside::Value(json!(x))),
            }
        };
        let set = |path: &adzeman_core::path::Path, value: Json| {
            let entity = path.display(adzeman_core::path::Notation::OF_DATA);
            let id = entity.strip_prefix('e').and_then(|id| id.parse().ok()).ok_or("only an entity")?;
            let x = value.as_f64().ok_or("it is a number of metres")?;
            store.borrow_mut().0.insert(id, x);
            Ok(())
        };
        let all = (Lent::of_mut("flight", &lent), Lent::by("store", &look).with_set(&set));
        lua.scope(|scope| {
            let water = scope.create_function_mut(|_, more: f64| {
                lent.borrow_mut().level += more;
                Ok(())
            })?;
            lua.globals().set("water", water)?;
            host.emit_with(Event::of("update").with("n", n), &all, || update.call::<i64>(n)).map(drop)
        })
        .unwrap();
        let held = lent.borrow_mut();
        let _ = host.emit_with(Event::of("held"), &Lent::of_mut("flight", &lent), || idle.call::<i64>(n));
        drop(held);
        let _ = host.emit(Event::of("idle").with("n", n), || idle.call::<i64>(n));
    }
    host.poll();
    (flight, store.into_inner())
}

#[test]
fn what_is_lent_is_looked_at_and_changed_in_place_and_is_gone_afterwards() {
    let host = Host::builder("works")
        .event(EventKind::new("update").field("n", "its number"))
        .event(EventKind::new("idle"))
        .event(EventKind::new("held"))
        .lends("flight")
        .lends("store")
        .about("flight", About::new("the flight").measured("level", "water above the sill", "m").secret("key"))
        .start(Listen::ANY_PORT)
        .unwrap();
    let ending = Arc::new(AtomicBool::new(false));
    let running = thread::spawn({
        let (host, ending) = (host.clone(), ending.clone());
        move || run(&host, &ending)
    });
    let mut client = Client::attached(&host);
    let source = json!({"path": "flight.lua"});
    let lines = json!([{"line": 4, "condition": "host.flight.level > 3 and host.store.e9 == 2.5"}]);
    client.ok("setBreakpoints", json!({"source": source, "breakpoints": lines}));
    client.ok("configurationDone", json!({}));
    let (body, line) = client.stopped();
    assert_eq!(line, 4, "{body}");
    assert_eq!(client.evaluate("host.flight.level == 1 + n / 2"), "true", "what the script did to it is seen at once");
    let frame = client.frame(0)["id"].clone();
    let set = |client: &mut Client, expression: &str, value: &str| {
        client.request("setExpression", json!({"expression": expression, "value": value, "frameId": frame}))
    };
    let refused = |client: &mut Client, expression: &str| {
        let frame = client.frame(0)["id"].clone();
        client.refused("evaluate", json!({"expression": expression, "frameId": frame}))
    };
    assert!(set(&mut client, "host.flight.level", "100").success);
    assert!(set(&mut client, "host.flight.boats[1]", "'Swan'").success);
    assert!(set(&mut client, "host.store.e7", "40").success);
    let why = set(&mut client, "host.flight.level", "'high'").message.unwrap();
    assert!(why.contains("expected f64; it holds 100.0"), "{why}");
    let why = set(&mut client, "host.flight.key", "1").message.unwrap();
    assert!(why.contains("kept secret"), "{why}");
    let scope = client.scope("Host");
    assert!(scope.contains("flight = {boats: [\"Swan\"], key: (secret), level: 100.0}"), "{scope}");
    assert!(scope.contains("store = {e7: 40.0, e9: 2.5}"), "{scope}");

    // Elsewhere it is the host's own.
    client.ok(
        "setBreakpoints",
        json!({"source": source, "breakpoints": [{"line": 7, "condition": "event.name == 'idle'"}]}),
    );
    client.go_on("continue");
    client.stopped();
    let why = refused(&mut client, "host.flight.level");
    assert!(why.contains("is there only while the host handles an event for which it lends it"), "{why}");
    assert!(!client.scope("Host").contains("flight"));
    client.ok(
        "setBreakpoints",
        json!({"source": source, "breakpoints": [{"line": 7, "condition": "event.name == 'held'"}]}),
    );
    client.go_on("continue");
    client.stopped();
    let why = refused(&mut client, "host.flight.level");
    assert!(why.contains("in use by the host at this moment"), "{why}");
    ending.store(true, SeqCst);
    client.ok("disconnect", json!({}));
    let (flight, store) = running.join().unwrap();
    assert!(flight.level >= 100.0 && flight.boats == ["Swan"], "{flight:?}");
    assert_eq!(store.0[&7], 40.0);
}
