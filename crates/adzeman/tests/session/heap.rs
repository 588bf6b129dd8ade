//! Where memory goes: a leak is found by what came and stayed, and by what holds it, and nobody waits for that.

use serde_json::{Value as Json, json};

use crate::harness::{Client, TestHost, Transport, on_each};
use crate::versions::is_since;

/// A boat asks to be told when a gate opens, and never says that it no longer wants to be.
const LEAK: &str = "\
Boat = {}
Boat.__index = Boat
listeners = {}
local function on(what, call)
  listeners[what] = listeners[what] or {}
  table.insert(listeners[what], call)
end
local function arrive(n)
  local boat = setmetatable({ number = n }, Boat)
  on('gate', function() return boat.number end)
  return boat
end
local here
function update(n)
  here = arrive(n)
  return here.number
end
";

/// A line of a census, or of what grew, by its group.
fn line<'a>(lines: &'a Json, kind: &str, group: &str) -> &'a Json {
    let found = lines.as_array().unwrap().iter().find(|line| line["kind"] == kind && line["group"] == group);
    found.unwrap_or_else(|| panic!("no {kind} {group} in {lines:#}"))
}

fn census(client: &mut Client, arguments: Json) -> Json {
    client.ok("adzeman/census", arguments)
}

#[test]
fn a_leak_is_found_by_what_came_and_stayed_and_by_what_holds_it() {
    on_each(LEAK, |host| {
        let mut client = host.attach();
        client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 15}]}));
        host.go();
        client.stopped();
        let first = census(&mut client, json!({"threadId": 1}));
        assert_eq!(
            (&first["number"], &first["parts"], &first["census"]["running"]),
            (&json!(1), &json!(0), &json!(false))
        );
        for _ in 0..20 {
            client.go_on("continue");
            client.stopped();
        }
        let since = census(&mut client, json!({"since": 1}));
        // What grew most is the callback's list, the boats, the callbacks.
        let boats = line(&since["grown"], "table", "Boat");
        assert_eq!(boats["more"], 20, "{boats}");
        let calls = line(&since["grown"], "function", "scripts/toll.lua:10");
        assert_eq!(
            (&calls["more"], &calls["defined"]["text"]),
            (&json!(20), &json!("on('gate', function() return boat.number end)"))
        );
        let named: Vec<_> =
            since["grown"].as_array().unwrap().iter().take(3).map(|line| line["group"].clone()).collect();
        assert!(named.contains(&json!("Boat")) && named.contains(&json!("scripts/toll.lua:10")), "{named:?}");
        // One of them, that should be gone.
        let frame = client.frame(0)["id"].clone();
        let first = "(function() for _, v in ipairs(listeners.gate) do return v end end)()";
        let held = client.ok("adzeman/holders", json!({"expression": first, "frameId": frame}));
        assert_eq!(held["holders"]["holders"][0]["steps"][0]["text"], "listeners", "{held:#}");
        assert_eq!(held["description"], "one value holds it");
        assert!(client.refused("adzeman/holders", json!({"expression": "12", "frameId": frame})).contains("copied"));
        assert!(client.refused("adzeman/census", json!({"since": 9})).contains("the last one is 2"));
        let kept = client.ok("adzeman/holders", json!({"expression": "here", "frameId": frame, "count": 1}));
        let way: Vec<_> = kept["holders"]["holders"][0]["steps"]
            .as_array()
            .unwrap()
            .iter()
            .map(|step| step["text"].clone())
            .collect();
        assert_eq!((kept["holders"]["total"].clone(), way.len() > 1), (json!(2), true), "{kept:#}");
        client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": []}));
        client.go_on("continue");
        host.wait_frames(1);
        assert!(client.refused("adzeman/holders", json!({"expression": "Boat", "threadId": 1})).contains("is running"));
    });
}

#[test]
fn a_census_of_a_host_that_runs_is_taken_between_its_events() {
    let script = format!("many = {{}}\nfor i = 1, 60000 do many[i] = {{ at = i }} end\n{LEAK}");
    let host = TestHost::start(Transport::Socket, &script);
    let mut client = host.attach();
    host.go();
    let taken = census(&mut client, json!({"threadId": 1}));
    assert_eq!(taken["census"]["running"], true);
    assert!(taken["parts"].as_u64().unwrap() > 3, "{}", taken["parts"]);
    let lines = &taken["census"]["lines"];
    assert_eq!(line(lines, "table", "{at}")["count"], 60_000);
    let element = if is_since("5.5") { 9 } else { 16 };
    assert!(line(lines, "table", "global many")["bytes"].as_u64().unwrap() > element * 60_000);
    let later = census(&mut client, json!({"since": taken["number"]}));
    assert_eq!(later["sinceRunning"], true);
    assert!(line(&later["grown"], "table", "Boat")["more"].as_i64().unwrap() > 0);
    // Another client looks, and begins nothing that costs.
    let mut other = host.attach();
    for command in ["adzeman/census", "adzeman/holders"] {
        assert!(other.refused(command, json!({"expression": "Boat"})).contains("observes"));
    }
    host.end();
}
