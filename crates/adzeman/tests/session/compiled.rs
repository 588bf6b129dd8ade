//! Scripts that were compiled: places are those of the original, by a map that a client gives.

use serde_json::{Value as Json, json};

use crate::harness::{Client, SCRIPT, on_each};

/// The map of [`SCRIPT`]: `update`, lines 9 to 14, was written on lines 1 to 4 of `toll.src`; lines 10 and 11 are both its line
/// 2, line 12 comes from nowhere, line 13 is line 3; the end of the function maps to its beginning. `fare` was not mapped.
const MAP: &str = r#"{"version": 3, "sources": ["toll.src"], "names": [], "sourcesContent": ["one\ntwo\nthree\nfour\n"],
    "mappings": ";;;;;;;;AAAA;AACA;AAAA;A;AACA;AAFA"}"#;

fn give(client: &mut Client, map: &str) {
    client.ok("adzeman/sourceMap", json!({"path": "toll.lua", "map": map}));
}

fn break_in_original(client: &mut Client, line: i64) -> Json {
    let asked = json!({"source": {"path": "toll.src"}, "breakpoints": [{"line": line}]});
    client.ok("setBreakpoints", asked)["breakpoints"][0].clone()
}

fn place(client: &mut Client) -> (String, i64) {
    let (body, line) = client.stopped();
    let frames = client.ok("stackTrace", json!({"threadId": body["threadId"]}));
    (frames["stackFrames"][0]["source"]["path"].as_str().unwrap().to_owned(), line)
}

#[test]
fn a_step_is_one_of_the_original() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        give(&mut client, MAP);
        assert_eq!(break_in_original(&mut client, 2)["line"], 2);
        host.go();
        assert_eq!(place(&mut client), ("scripts/toll.src".to_owned(), 2));
        let frame = client.frame(0);
        assert_eq!(
            (&frame["compiled"]["line"], &frame["compiled"]["source"]["name"]),
            (&json!(10), &json!("toll.lua"))
        );
        let text = client.ok("source", json!({"source": frame["source"]}));
        assert_eq!(text["content"], "one\ntwo\nthree\nfour\n");
        // Over line 11, which is line 2 too, and line 12, which is none.
        client.go_on("next");
        assert_eq!(place(&mut client).1, 3);
        // The end of the function is none either: the handler is done.
        client.go_on("next");
        client.event("adzeman/handlerLeft");
        assert_eq!(place(&mut client).1, 2, "the breakpoint, in the next frame");
        // Into a function that the map leaves out, and out of it: there is nothing to stop at until line 3.
        client.go_on("stepIn");
        assert_eq!(place(&mut client).1, 3);
    });
}

#[test]
fn breakpoints_set_before_the_map_came_are_bound_by_it() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let waits = break_in_original(&mut client, 3);
        assert_eq!(waits["verified"], false);
        give(&mut client, MAP);
        let bound = loop {
            let body = client.event("breakpoint");
            if body["breakpoint"]["verified"] == true {
                break body;
            }
        };
        assert_eq!((&bound["breakpoint"]["id"], &bound["breakpoint"]["line"]), (&waits["id"], &json!(3)));
        host.go();
        assert_eq!(place(&mut client).1, 3);
    });
}

#[test]
fn an_index_map_is_one_map() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let section = MAP.replacen(";;;;;;;;", "", 1);
        give(
            &mut client,
            &format!(r#"{{"version": 3, "sections": [{{"offset": {{"line": 8, "column": 0}}, "map": {section}}}]}}"#),
        );
        break_in_original(&mut client, 3);
        host.go();
        assert_eq!(place(&mut client), ("scripts/toll.src".to_owned(), 3));
    });
}

#[test]
fn a_map_that_is_none_is_told_of_and_ignored() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        give(&mut client, "{\"version\": 3, \"sources\": 5}");
        let told = client.event("output");
        assert!(
            told["output"].as_str().unwrap().starts_with("the source map of scripts/toll.lua cannot be used"),
            "{told}"
        );
        client.break_at(&[(11, None)]);
        host.go();
        assert_eq!(place(&mut client), ("scripts/toll.lua".to_owned(), 11));
        // Whoever attaches later is told as well; an observer gives no maps.
        let mut other = host.attach_with(json!({"role": "observe"}));
        assert!(other.event("output")["output"].as_str().unwrap().contains("its own lines are shown"));
        let why = other.refused("adzeman/sourceMap", json!({"path": "toll.lua", "map": MAP}));
        assert!(why.contains("this client observes"), "{why}");
    });
}

#[test]
fn maps_are_bounded() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        for number in 0..1000 {
            client.ok("adzeman/sourceMap", json!({"path": format!("{number}.lua"), "map": ""}));
        }
        let why = client.refused("adzeman/sourceMap", json!({"path": "toll.lua", "map": MAP}));
        assert_eq!(why, "1000 source maps, of 67108864 bytes in all, are as many as a host takes from its clients");
        client.ok("adzeman/sourceMap", json!({"path": "7.lua", "map": MAP}));
        // All of them go with the client, and so does what they take.
        client.vanish();
        while host.host.is_attached() {
            std::thread::yield_now();
        }
        let mut next = host.attach();
        let large = "x".repeat(7_000_000);
        for number in 0..9 {
            next.ok("adzeman/sourceMap", json!({"path": format!("{number}.lua"), "map": large}));
        }
        let why = next.refused("adzeman/sourceMap", json!({"path": "toll.lua", "map": large}));
        assert!(why.contains("67108864 bytes"), "{why}");
        next.ok("adzeman/sourceMap", json!({"path": "toll.lua", "map": MAP}));
    });
}
