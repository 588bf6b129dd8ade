//! Breakpoints on lines, functions and events.

use serde_json::json;

use crate::harness::{SCRIPT, TestHost, Transport, on_each};

#[test]
fn a_line_stops_each_time_and_counts_its_hits() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let set = client.break_at(&[(11, None)]);
        assert_eq!(set[0]["verified"], true);
        assert_eq!(set[0]["source"]["path"], "scripts/toll.lua");
        host.go();
        for _ in 0..3 {
            let (body, line) = client.stopped();
            assert_eq!((body["reason"].as_str(), line), (Some("breakpoint"), 11));
            assert_eq!(body["hitBreakpointIds"], json!([set[0]["id"]]));
            client.go_on("continue");
        }
        client.stopped();
        let now = client.ok("adzeman/breakpoints", json!({}));
        assert_eq!(now["breakpoints"][0]["hits"], 4);
        assert_eq!(now["breakpoints"][0]["places"], json!(["scripts/toll.lua:11"]));
    });
}

#[test]
fn a_condition_narrows_a_line() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(5, Some("length == 3 and event.n > 5"))]);
        host.go();
        let (_, line) = client.stopped();
        assert_eq!(line, 5);
        assert_eq!(client.evaluate("length, event.n"), "3, 8");
    });
}

#[test]
fn a_line_without_code_moves_on_and_says_so() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let set = client.break_at(&[(8, None), (9, None)]);
        assert_eq!(set[0]["line"], 10);
        assert_eq!(set[0]["message"], "line 8 has no code to stop at; moved to line 10");
        assert_eq!(set[1]["line"], 10, "a definition means its body");
        let locations =
            client.ok("breakpointLocations", json!({"source": {"path": "toll.lua"}, "line": 1, "endLine": 99}));
        let lines: Vec<_> = locations["breakpoints"].as_array().unwrap().iter().map(|l| l["line"].clone()).collect();
        assert_eq!(json!(lines), json!([1, 2, 5, 6, 7, 10, 11, 12, 13, 14]));
    });
}

#[test]
fn a_line_inside_a_statement_means_the_statement_and_says_so() {
    let script = "function update(n)\n  local sum = math.max(\n    n,\n    0)\n  return sum\nend\ntotal = 0\n";
    on_each(script, |host| {
        let mut client = host.attach();
        let set = client.break_at(&[(4, Some("n > 2"))]);
        assert_eq!(set[0]["line"], 2);
        assert_eq!(set[0]["message"], "line 4 is inside the statement that begins on line 2; moved there");
        host.go();
        assert_eq!(client.stopped().1, 2);
        assert_eq!(client.scope("Locals"), "n = 3", "nothing of the statement has run");
    });
}

#[test]
fn what_is_not_there_says_so_and_waits() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let set = client.break_at(&[(99, None)]);
        assert_eq!(set[0]["verified"], false);
        assert_eq!(set[0]["message"], "toll.lua has no code at line 99 or after it; its last one with code is 14");
        let set = client.ok("setBreakpoints", json!({"source": {"path": "tol.lua"}, "breakpoints": [{"line": 1}]}));
        let message =
            "no source 'tol.lua' is loaded yet; it binds when one is (loaded when it was looked for: toll.lua)";
        assert_eq!(set["breakpoints"][0]["message"], message);
        let set = client.ok("setFunctionBreakpoints", json!({"breakpoints": [{"name": "fair"}]}));
        assert!(set["breakpoints"][0]["message"].as_str().unwrap().contains("no loaded source defines"));
        let set = client.ok("setExceptionBreakpoints", json!({"filters": ["frame.updat"]}));
        assert!(set["breakpoints"][0]["message"].as_str().unwrap().contains("it has frame.update, never, quiet"));
    });
}

#[test]
fn a_breakpoint_set_early_binds_when_its_source_comes() {
    let script = "function update(n)\n  if n == 5 then\n    late = load('local x = 1\\nreturn x', '@late.lua')\n  end\n  if late then late() end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        let set = client.ok("setBreakpoints", json!({"source": {"path": "late.lua"}, "breakpoints": [{"line": 2}]}));
        assert_eq!(set["breakpoints"][0]["verified"], false);
        host.go();
        let (body, line) = client.stopped();
        assert_eq!((body["reason"].as_str(), line), (Some("breakpoint"), 2));
        assert_eq!(client.event("breakpoint")["breakpoint"]["verified"], true);
        assert_eq!(client.evaluate("x"), "1");
    });
}

/// Scripts that the host loads by its own means are found when someone attaches.
#[test]
fn a_source_that_nobody_reported_is_found_and_its_breakpoints_bind() {
    let script =
        "load('local kept = 3\\nfunction update(n)\\n  local x = n + kept\\n  return x\\nend', '=inner.lua')()";
    on_each(script, |host| {
        let mut client = host.attach();
        let set = client.ok("setBreakpoints", json!({"source": {"path": "inner.lua"}, "breakpoints": [{"line": 4}]}));
        assert_eq!(set["breakpoints"][0]["verified"], false);
        host.go();
        assert_eq!(client.event("breakpoint")["breakpoint"]["verified"], true);
        let (_, line) = client.stopped();
        assert_eq!(line, 4);
        let x: i64 = client.evaluate("x - n").parse().unwrap();
        assert_eq!(x, 3);
        assert_eq!(client.ok("loadedSources", json!({}))["sources"][0]["path"], "inner.lua");
    });
}

#[test]
fn a_function_is_found_by_name_also_when_it_is_local() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let set =
            client.ok("setFunctionBreakpoints", json!({"breakpoints": [{"name": "fare", "condition": "length > 3"}]}));
        assert_eq!(set["breakpoints"][0]["line"], 5);
        host.go();
        client.stopped();
        assert_eq!(client.frame(0)["name"], "fare");
        assert_eq!(client.frame(1)["name"], "update");
        assert_eq!(client.evaluate("length"), "4");
    });
}

#[test]
fn an_event_stops_at_the_first_line_that_handles_it() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let options = json!([{"filterId": "frame.update", "condition": "event.n % 4 == 0"}]);
        let set = client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
        assert_eq!(set["breakpoints"][0]["verified"], true);
        host.go();
        for n in [4, 8] {
            let (body, line) = client.stopped();
            assert_eq!((body["reason"].as_str(), line), (Some("event"), 10));
            let expected = format!("main stopped at scripts/toll.lua:10, during frame.update of frame {n} (event)");
            assert_eq!(body["description"], expected);
            assert_eq!(client.scope("Event"), format!("n = {n}; name = \"frame.update\"; subject = \"frame {n}\""));
            client.go_on("continue");
        }
    });
}

#[test]
fn a_subject_narrows_an_event() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let options = json!([{"filterId": "frame.update", "adzeman": {"subject": "frame 7"}}]);
        client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
        host.go();
        client.stopped();
        assert_eq!(client.evaluate("event.n"), "7");
    });
}

#[test]
fn breakpoints_of_two_clients_do_not_touch_each_other() {
    let host = TestHost::start(Transport::Pipe, SCRIPT);
    let mut first = host.attach();
    first.break_at(&[(11, None)]);
    let mut second = host.attach_with(json!({"takeOver": true}));
    second.break_at(&[(12, None)]);
    host.go();
    assert_eq!(second.stopped().1, 11, "the first's is still there");
    second.go_on("continue");
    assert_eq!(second.stopped().1, 12);
    first.event("continued");
    assert_eq!(first.event("stopped")["hitBreakpointIds"], json!([1]), "both are told");
    second.ok("disconnect", json!({}));
    first.ok("adzeman/takeOver", json!({}));
    // Held still, unless the second was gone before the first took over.
    first.request("continue", json!({"threadId": 1}));
    for _ in 0..3 {
        while first.event("stopped")["hitBreakpointIds"] != json!([1]) {}
        first.request("continue", json!({"threadId": 1}));
    }
    let set = first.ok("adzeman/breakpoints", json!({}));
    assert_eq!(set["breakpoints"].as_array().unwrap().len(), 1, "the second's breakpoint went with it: {set}");
}

/// A local is looked at while other coroutines run, too, and it is that one which is compared.
#[test]
fn a_watched_local_stops_for_its_own_changes_only_whichever_coroutine_runs() {
    let script = "\
function update(n)
  local guard, sum = 1, 0
  local numbers = coroutine.wrap(function()
    for i = 1, 6 do
      if i == 5 then guard = 2 end
      coroutine.yield(i)
    end
  end)
  for i = 1, 6 do
    local step = numbers()
    sum = sum + step
  end
  return sum
end
";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(10, Some("i == 1")), (13, None)]);
        host.go();
        assert_eq!(client.stopped().1, 10);
        let frame = client.frame(0)["id"].clone();
        let info = client.ok("dataBreakpointInfo", json!({"name": "guard", "frameId": frame}));
        let watched = json!({"breakpoints": [{"dataId": info["dataId"], "accessType": "write"}]});
        let set = client.ok("setDataBreakpoints", watched);
        assert_eq!(set["breakpoints"][0]["verified"], true, "{info} {set}");
        client.go_on("continue");
        let (stop, line) = client.stopped();
        assert_eq!((stop["reason"].as_str(), line), (Some("data breakpoint"), 6), "{stop}");
        let text = stop["text"].as_str().or(stop["description"].as_str()).unwrap_or_default();
        assert!(text.contains("guard") && text.contains('1') && text.contains('2'), "{stop}");
        assert!(!text.contains('{'), "{stop}");
        client.go_on("continue");
        assert_eq!(client.stopped().1, 13, "it does not change again");
        assert_eq!(client.evaluate("guard * 100 + sum"), "221");
        client.ok("setDataBreakpoints", json!({"breakpoints": []}));
        client.break_at(&[]);
        client.go_on("continue");
        host.wait_frames(1);
    });
}
