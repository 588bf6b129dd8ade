//! Going on from another line of the function that is stopped in.

use serde_json::{Value as Json, json};

use crate::harness::{Client, on_each};
use crate::versions::{NOT_ELSEWHERE, is_refused_before};

const SCRIPT: &str = "\
total, called = 0, 0

local function fare(length)
  called = called + 1
  return length * 2
end

function update(n)
  local length = n % 7
  local sum = fare(length)
  local tell = function() return sum end
  for i = 1, 3 do
    sum = sum + i
  end
  total = sum
  return tell()
end
";

fn targets(client: &mut Client, line: i64) -> Json {
    client.ok("gotoTargets", json!({"source": {"path": "scripts/toll.lua"}, "line": line}))["targets"].clone()
}

fn go_from(client: &mut Client, line: i64) {
    let id = targets(client, line)[0]["id"].clone();
    client.ok("goto", json!({"threadId": 1, "targetId": id}));
    let stopped = client.event("stopped");
    assert_eq!(stopped["reason"], "goto", "{stopped}");
    assert_eq!(client.frame(0)["line"], line);
}

#[test]
fn a_call_is_passed_over_and_a_line_is_run_once_more() {
    if is_refused_before("5.4", NOT_ELSEWHERE) {
        return;
    }
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(10, None)]);
        host.go();
        assert_eq!(client.stopped().1, 10);
        client.break_at(&[]);
        let called: i64 = client.evaluate("called").parse().unwrap();
        // The call of `fare` is passed over: `sum` comes into scope without it.
        let found = targets(&mut client, 12);
        assert_eq!(found[0]["label"], "line 12, where sum, tell are nil", "{found}");
        go_from(&mut client, 12);
        assert_eq!(client.evaluate("sum"), "nil");
        assert_eq!(client.evaluate("called").parse::<i64>().unwrap(), called, "it was not called");
        // Back again, and through it.
        go_from(&mut client, 10);
        for line in [11, 12] {
            client.go_on("next");
            assert_eq!(client.stopped().1, line);
        }
        assert_eq!(client.evaluate("called").parse::<i64>().unwrap(), called + 1);
        assert_eq!(client.evaluate("sum == length * 2"), "true");
        // The loop is over, and runs from its beginning again, with what it has added.
        client.break_at(&[(15, None)]);
        client.go_on("continue");
        assert_eq!(client.stopped().1, 15);
        client.break_at(&[]);
        assert_eq!(client.evaluate("sum - length * 2"), "6");
        go_from(&mut client, 12);
        client.break_at(&[(15, None)]);
        client.go_on("continue");
        assert_eq!(client.stopped().1, 15);
        assert_eq!(client.evaluate("sum - length * 2"), "12");
        client.go_on("next");
        assert_eq!(client.stopped().1, 16);
        // What a closure has captured is what it was when the variable left its scope.
        assert_eq!(client.evaluate("tell() - length * 2"), "12");
        go_from(&mut client, 9);
        client.break_at(&[]);
        client.go_on("continue");
        host.wait_frames(5);
    });
}

#[test]
fn where_it_cannot_go_on_it_says_why_and_where_it_can() {
    if is_refused_before("5.4", NOT_ELSEWHERE) {
        return;
    }
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(10, None)]);
        let wanted = |line: i64| json!({"source": {"path": "toll.lua"}, "line": line});
        let why = client.refused("gotoTargets", wanted(10));
        assert_eq!(why, "no context is stopped in a function of that source");
        host.go();
        assert_eq!(client.stopped().1, 10);
        let can = "; main can go on from lines 9, 11, 12, 15, 16";
        let why = client.refused("gotoTargets", wanted(13));
        assert_eq!(why, format!("line 13 is in a loop that has not begun{can}"));
        let why = client.refused("gotoTargets", wanted(5));
        assert_eq!(why, format!("line 5 does not begin with a statement of the function that is stopped in{can}"));
        let id = targets(&mut client, 12)[0]["id"].clone();
        client.go_on("next");
        client.stopped();
        let why = client.refused("goto", json!({"threadId": 1, "targetId": id}));
        assert!(why.contains("is none of this stop"), "{why}");
        // Where a script raises, or runs a call that a person asked for, the rule is the same.
        client.break_at(&[]);
        client.ok("setExceptionBreakpoints", json!({"filters": ["error.every"]}));
        let frame = client.frame(0);
        client.ok("adzeman/run", json!({"expression": "error('no')", "frameId": frame["id"]}));
        client.event("stopped");
        let why = client.refused("gotoTargets", wanted(10));
        assert!(why.contains("it is raising an error, returning, or in a call"), "{why}");
    });
}

#[test]
fn the_lines_of_an_event_are_told_while_the_host_runs() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        let running = |client: &mut Client| loop {
            let body = client.ok("adzeman/running", json!({"threadId": 1}));
            if body["source"].is_object() {
                return body;
            }
            host.wait_frames(1);
        };
        let body = running(&mut client);
        assert!(body["event"].as_str().unwrap().starts_with("frame.update of frame "), "{body}");
        assert_eq!((&body["lines"], &body["line"]), (&json!([4, 5, 9, 10, 11, 12, 13, 15, 16]), &json!(11)), "{body}");
        assert_eq!((&body["cut"], &body["now"]), (&json!(false), &json!(false)));
        // Once it is told, nothing is watched any more, until someone asks again.
        running(&mut client);
        host.wait_frames(20);
        client.break_at(&[(10, None)]);
        client.stopped();
        let why = client.refused("adzeman/running", json!({"threadId": 1}));
        assert_eq!(why, "main is stopped; let it go on to see what it runs");
    });
}

#[test]
fn a_long_event_is_looked_at_in_part_and_told_where_it_is() {
    let script = "total = 0\nfunction update(n)\n  local sum = 0\n  for i = 1, 60000 do\n    sum = sum + i\n  end\n  total = n\nend\n";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        let body = loop {
            let body = client.ok("adzeman/running", json!({"threadId": 1}));
            if body["cut"] == true {
                break body;
            }
            host.wait_frames(1);
        };
        assert!(body["line"] == 4 || body["line"] == 5, "{body}");
        host.wait_frames(3);
    });
}
