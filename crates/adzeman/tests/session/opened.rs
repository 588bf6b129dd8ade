//! What a host opens: what is secret, what is put together when it starts, what scripts hold of it.

use std::sync::{Arc, Mutex};

use adzeman::{About, Host, HostBuilder, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, Level, on_each};
use crate::inspecting::{Canal, evaluate_as, named, scope, stop_at, variables};
use crate::versions::whole_float;

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
        whole_float("5.0"),
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

#[test]
fn an_object_by_functions_is_looked_at_and_changed_like_any_other() {
    use std::sync::{Arc, Mutex};

    use adzeman::core::path::{Path, Segment};
    use adzeman::{ByFunctions, Inside};

    // An entity store of the host's own: names, and what each has.
    let store = Arc::new(Mutex::new(vec![("heron".to_owned(), 12.5), ("otter".to_owned(), 30.0)]));
    let (seen, kept) = (store.clone(), store.clone());
    let look = move |path: &Path| {
        let boats = seen.lock().unwrap();
        match path.segments() {
            [] => Some(Inside::Fields(boats.iter().map(|(name, _)| name.clone()).collect())),
            [Segment::Field(name)] if boats.iter().any(|(held, _)| held == name) => {
                Some(Inside::Fields(vec!["length".to_owned()]))
            }
            [Segment::Field(name), Segment::Field(part)] if part == "length" => {
                boats.iter().find(|(held, _)| held == name).map(|(_, length)| Inside::Value((*length).into()))
            }
            _ => None,
        }
    };
    let set = move |path: &Path, value: serde_json::Value| {
        let [Segment::Field(name), Segment::Field(_)] = path.segments() else { return Err("only a length".to_owned()) };
        let length = value.as_f64().filter(|length| *length > 0.0).ok_or("it is a number of metres")?;
        let mut boats = kept.lock().unwrap();
        boats.iter_mut().find(|(held, _)| held == name).ok_or("no such boat")?.1 = length;
        Ok(())
    };
    let host = adzeman::Host::builder("yard")
        .event(adzeman::EventKind::new("shift"))
        .object_by("boats", ByFunctions::new(look).with_set(set))
        .start(adzeman::Listen::ANY_PORT)
        .unwrap();
    let running = std::thread::spawn({
        let host = host.clone();
        move || {
            let lua = mlua::Lua::new();
            let context = adzeman::LuaContext::attach(&host, &lua, "main").unwrap();
            while !host.is_attached() {
                std::thread::yield_now();
            }
            while host.is_attached() {
                host.poll();
            }
            drop(context);
        }
    });
    let mut client = crate::harness::Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok("attach", json!({}));
    let look = |client: &mut crate::harness::Client, expression: &str| {
        client.ok("evaluate", json!({"expression": expression, "threadId": 1}))["result"].as_str().unwrap().to_owned()
    };
    assert_eq!(look(&mut client, "host.boats"), "{heron: {length: 12.5}, otter: {length: 30.0}}");
    assert_eq!(look(&mut client, "host.boats.otter.length * 2"), whole_float("60.0"));
    client.ok("setExpression", json!({"expression": "host.boats.heron.length", "value": "13", "threadId": 1}));
    assert_eq!(store.lock().unwrap()[0].1, 13.0);
    let why =
        client.refused("setExpression", json!({"expression": "host.boats.heron.length", "value": "-1", "threadId": 1}));
    assert!(why.contains("it is a number of metres"), "{why}");
    client.ok("disconnect", json!({}));
    running.join().unwrap();
}
