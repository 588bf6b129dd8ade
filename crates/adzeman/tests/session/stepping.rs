//! Steps, going on, pausing.

use adzeman::{Host, Listen, LuaContext};
use serde_json::{Value as Json, json};

use crate::harness::{Client, SCRIPT, on_each};
use crate::versions::is_since;

#[test]
fn over_into_out() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(10, Some("n == 2"))]);
        host.go();
        client.stopped();
        for (step, line) in [("next", 11), ("stepIn", 5), ("next", 6), ("stepOut", 12), ("next", 13)] {
            client.go_on(step);
            let (body, stopped_at) = client.stopped();
            assert_eq!((body["reason"].as_str(), stopped_at), (Some("step"), line), "{step}");
        }
    });
}

#[test]
fn a_step_that_leaves_its_handler_says_so() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(13, Some("n == 2"))]);
        host.go();
        client.stopped();
        client.go_on("stepOut");
        let left = client.event("adzeman/handlerLeft");
        assert_eq!(left["event"], "frame.update");
        assert_eq!(left["subject"], "frame 2");
        host.wait_frames(3);
    });
}

#[test]
fn going_on_when_nothing_is_stopped_is_refused() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        let why = client.refused("continue", json!({"threadId": 1}));
        assert!(why.contains("main is not stopped"), "{why}");
        let why = client.refused("stackTrace", json!({"threadId": 1}));
        assert_eq!(why, "main is running; pause it first, or wait until it stops");
        let why = client.refused("next", json!({"threadId": 9}));
        assert!(why.contains("there is no context 9"), "{why}");
    });
}

#[test]
fn the_answer_comes_before_the_next_stop() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        for command in ["continue", "next", "continue", "stepIn"].repeat(10) {
            client.go_on(command);
            assert!(!client.has_event("stopped"), "a stop was told before the answer to {command}");
            client.stopped();
        }
    });
}

#[test]
fn pause_stops_at_the_next_line() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        host.wait_frames(2);
        client.ok("pause", json!({"threadId": 1}));
        let (body, _) = client.stopped();
        assert_eq!(body["reason"], "pause");
        client.go_on("continue");
        host.wait_frames(2);
    });
}

/// Pauses a script that prints and then spins while `running`, on `lines`.
#[cfg(target_os = "linux")]
#[track_caller]
fn pause_while_it_spins(script: &str, lines: std::ops::RangeInclusive<i64>) {
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        client.event("output");
        client.ok("pause", json!({"threadId": 1}));
        let (body, line) = client.stopped();
        assert_eq!(body["reason"], "pause");
        assert!(lines.contains(&line), "{line}");
        client.evaluate("running = false");
        client.go_on("continue");
        host.wait_frames(2);
    });
}

/// On the main Lua thread, where a signal can set the hook.
#[cfg(target_os = "linux")]
#[test]
fn pause_stops_an_endless_loop_that_calls_nothing() {
    let script = "spins = 0\nrunning = true\nfunction update(n)\n  print('spinning') while running do\n    spins = spins + 1\n  end\nend";
    pause_while_it_spins(script, 4..=6);
}

/// Does `work` at a stop of a script that spins in lines 3 and 4, and has it go on.
#[cfg(target_os = "linux")]
fn in_a_spinning_script(work: impl Fn(&mut Client)) {
    let script = "running = true\nfunction update()\n  while running do\n    local x = 1\n  end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        client.ok("pause", json!({"threadId": 1}));
        client.stopped();
        work(&mut client);
        client.evaluate("running = false");
        client.go_on("continue");
        host.wait_frames(2);
    });
}

/// The context may have to hear of the one when the other comes.
#[cfg(target_os = "linux")]
#[test]
fn a_pause_right_behind_a_continue_is_not_lost() {
    in_a_spinning_script(|client| {
        for _ in 0..200 {
            let both = ["continue", "pause"].map(|command| client.send(command, json!({"threadId": 1})));
            assert!(both.into_iter().all(|seq| client.answer_to(seq).success));
            client.stopped();
        }
    });
}

/// What asks for a look may come while the hooks of a stop are being taken away.
#[cfg(target_os = "linux")]
#[test]
fn a_breakpoint_right_behind_a_continue_is_not_missed() {
    in_a_spinning_script(|client| {
        for _ in 0..100 {
            client.break_at(&[]);
            let going = client.send("continue", json!({"threadId": 1}));
            client.break_at(&[(4, None)]);
            assert!(client.answer_to(going).success);
            assert_eq!(client.stopped().1, 4);
        }
        client.break_at(&[]);
    });
}

/// A breakpoint set while the script spins is hit: setting it interrupts.
#[cfg(target_os = "linux")]
#[test]
fn a_breakpoint_set_during_an_endless_loop_is_hit() {
    let script = "spins = 0\nfunction update(n)\n  while spins >= 0 do\n    spins = spins + 1\n  end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        client.break_at(&[(4, None)]);
        let (body, line) = client.stopped();
        assert_eq!((body["reason"].as_str(), line), (Some("breakpoint"), 4));
        client.evaluate("spins = -100");
        client.break_at(&[]);
        client.go_on("continue");
        host.wait_frames(2);
    });
}

#[test]
fn a_step_out_shows_what_was_returned() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(5, Some("length == 3"))]);
        host.go();
        client.stopped();
        client.go_on("stepOut");
        let (body, line) = client.stopped();
        assert_eq!((&body["returned"], line), (&json!(["13"]), 12));
        client.go_on("next");
        assert_eq!(client.stopped().0["returned"], json!(null), "nothing was returned meanwhile");
        client.break_at(&[]);
        client.go_on("stepOut");
        let left = client.event("adzeman/handlerLeft");
        assert!(left["returned"][0].as_str().unwrap().parse::<i64>().is_ok(), "{left}");
    });
}

#[test]
fn going_on_to_a_line_and_to_events() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(10, Some("n == 2"))]);
        host.go();
        client.stopped();
        client.ok("adzeman/goTo", json!({"threadId": 1, "path": "toll.lua", "line": 13}));
        let (body, line) = client.stopped();
        assert_eq!((body["reason"].as_str(), line), (Some("goto"), 13));
        client.ok("adzeman/goTo", json!({"threadId": 1, "event": "frame.update", "count": 5}));
        let (body, line) = client.stopped();
        assert_eq!((body["reason"].as_str(), line), (Some("goto"), 10));
        assert_eq!(client.evaluate("event.n"), "7");
        // No script handles it, so the stop is at the host's boundary.
        client.ok("adzeman/goTo", json!({"threadId": 1, "event": "quiet"}));
        let body = client.event("stopped");
        assert_eq!(body["reason"], "goto");
        let frames = client.ok("stackTrace", json!({"threadId": 1}));
        assert_eq!(frames["stackFrames"][0]["name"], "quiet, raised by test");
        client.ok("adzeman/goTo", json!({"threadId": 1, "event": "*"}));
        client.stopped();
        assert_eq!(client.evaluate("event.name, event.n"), "\"frame.update\", 8");
        let held = client.ok("adzeman/breakpoints", json!({}));
        assert_eq!(held["breakpoints"].as_array().unwrap().len(), 1, "what was for one run is gone");
        let why = client.refused("adzeman/goTo", json!({"threadId": 1, "event": "frame.updat"}));
        assert!(why.contains("the host has no event 'frame.updat'"), "{why}");
        let why = client.refused("adzeman/goTo", json!({"threadId": 1}));
        assert!(why.contains("it was not said where to go on to"), "{why}");
        client.go_on("continue");
        host.wait_frames(5);
    });
}

#[test]
fn a_pause_comes_through_a_line_whose_condition_never_holds() {
    let script =
        "running = true\nfunction update(n)\n  while running do\n    n = n + 1\n  end\n  return n\nend\ntotal = 0\n";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(4, Some("n < 0"))]);
        host.go();
        client.ok("pause", json!({"threadId": 1}));
        let (body, _) = client.stopped();
        assert_eq!(body["reason"], "pause");
        client.go_on("next");
        assert_eq!(client.stopped().0["reason"], "step");
        let frame = client.frame(0)["id"].clone();
        client.ok("setExpression", json!({"expression": "running", "value": "false", "frameId": frame}));
        client.go_on("continue");
        host.wait_frames(2);
    });
}

#[test]
fn an_event_is_delivered_again() {
    let script = "\
ran = 0
function update(n)
  ran = ran + 1
  local ok = pcall(function()
    local inner = coroutine.wrap(function()
      local here = n
    end)
    inner()
  end)
  return ok
end";
    on_each(script, |host| {
        let mut client = host.attach();
        client.break_at(&[(6, Some("n == 3"))]);
        host.go();
        for ran in ["3", "4", "5"] {
            client.stopped();
            assert_eq!(client.evaluate("n, ran"), format!("3, {ran}"), "the same event, and what it did stays done");
            let frame = client.frame(0)["id"].clone();
            client.ok("restartFrame", json!({ "frameId": frame }));
        }
        client.stopped();
        client.go_on("continue");
        host.wait_frames(3);
        let answer = client.ok("evaluate", json!({"expression": "ran > 6", "threadId": 1}));
        assert_eq!(answer["result"], "true", "the handlers after it run as always");
    });
}

#[test]
fn an_event_that_cannot_be_repeated_says_so() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let options = json!([{"filterId": "quiet", "condition": "event.n == 2"}]);
        client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
        host.go();
        client.event("stopped");
        let frame = client.frame(0)["id"].clone();
        let why = client.refused("restartFrame", json!({ "frameId": frame }));
        assert_eq!(why, "the host says that quiet cannot be delivered again: what handles it can run only once");
    });
}

#[test]
fn a_call_runs_with_breakpoints_in_it() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        client.break_at(&[(5, None), (12, Some("n == 2"))]);
        host.go();
        while client.stopped().1 != 12 {
            client.go_on("continue");
        }
        let frame = client.frame(0)["id"].clone();
        client.ok("adzeman/run", json!({"expression": "update(100), fare(1)", "frameId": frame}));
        for length in ["0", "1"] {
            let (body, line) = client.stopped();
            assert_eq!((body["reason"].as_str(), line), (Some("breakpoint"), 5));
            assert_eq!(client.evaluate("length"), length);
            client.go_on("continue");
        }
        let ran = client.event("adzeman/ran");
        assert_eq!(
            (&ran["success"], &ran["stopped"], ran["type"].as_str()),
            (&json!(true), &json!(true), Some(if is_since("5.3") { "integer" } else { "number" }))
        );
        assert!(ran["result"].as_str().unwrap().ends_with(", 11"), "{ran}");
        assert_eq!(client.frame(0)["line"], 12, "where it was before");
        client.ok("adzeman/run", json!({"expression": "error('no')", "threadId": 1}));
        let ran = client.event("adzeman/ran");
        assert_eq!((&ran["success"], ran["result"].as_str()), (&json!(false), Some("no")));
        client.break_at(&[]);
        client.go_on("continue");
        host.wait_frames(3);
        client.ok("adzeman/run", json!({"expression": "update(7)", "threadId": 1}));
        assert_eq!(client.event("adzeman/ran")["stopped"], false, "it works while the host runs too");
    });
}

#[test]
fn an_endless_call_ends_when_its_client_goes() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        host.go();
        host.wait_frames(2);
        client.ok(
            "adzeman/run",
            json!({"expression": "(function() while true do pcall(function() end) end end)()", "threadId": 1}),
        );
        client.vanish();
        host.wait_frames(3);
    });
}

#[test]
fn a_step_into_passes_over_a_library() {
    let script = "\
load('function lib(f)\\n  local x = 1\\n  return f(x)\\nend', '@lib/tools.lua')()
function update(n)
  local double = function(x)
    return x + n
  end
  local y = lib(double)
  return y
end";
    on_each(script, |host| {
        let mut client = host.attach();
        client.ok("adzeman/library", json!({"paths": ["lib/"]}));
        client.break_at(&[(6, Some("n == 2"))]);
        host.go();
        client.stopped();
        client.go_on("stepIn");
        assert_eq!(client.stopped().1, 4, "past the library, in the function that it calls");
        client.ok("adzeman/library", json!({"paths": []}));
        client.break_at(&[(6, None)]);
        client.go_on("continue");
        client.stopped();
        client.go_on("stepIn");
        client.stopped();
        assert_eq!(client.frame(0)["source"]["path"], "lib/tools.lua");
    });
}

/// A coroutine that was never watched, and calls nothing.
#[cfg(target_os = "linux")]
#[test]
fn pause_stops_an_endless_loop_in_a_coroutine() {
    let script = "spins, running = 0, true\nlocal co = coroutine.wrap(function()\n  print('spinning') while running do\n    spins = spins + 1\n  end\nend)\nfunction update(n)\n  if co then co() end\n  co = nil\nend";
    pause_while_it_spins(script, 3..=5);
}

#[test]
fn the_master_switch_disarms_without_forgetting() {
    on_each(SCRIPT, |host| {
        let mut client = host.connect();
        client.ok("initialize", json!({}));
        client.ok("adzeman/armed", json!({"armed": false}));
        client.break_at(&[(11, None)]);
        client.ok("attach", json!({}));
        host.go();
        host.wait_frames(5);
        assert!(!client.has_event("stopped"));
        client.ok("adzeman/armed", json!({"armed": true}));
        assert_eq!(client.stopped().1, 11);
    });
}

#[test]
fn enabling_and_disabling_keeps_number_and_hits() {
    on_each(SCRIPT, |host| {
        let mut client = host.attach();
        let set = client.break_at(&[(11, None)]);
        host.go();
        client.stopped();
        let mut with = |disabled: bool| {
            let wanted = json!([{"line": 11, "adzeman": {"disabled": disabled}}]);
            client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": wanted}));
            client.ok("adzeman/breakpoints", json!({}))["breakpoints"][0].clone()
        };
        for disabled in [true, false] {
            let now = with(disabled);
            assert_eq!((&now["id"], &now["hits"], &now["enabled"]), (&set[0]["id"], &json!(1), &json!(!disabled)));
            assert_eq!(now["last"], "scripts/toll.lua:11, during frame.update of frame 1");
        }
    });
}

/// However many contexts there are: each is interrupted, whichever spins.
#[cfg(target_os = "linux")]
#[test]
fn the_last_of_many_contexts_is_paused_in_an_endless_loop() {
    let host = Host::builder("many").start(Listen::ANY_PORT).unwrap();
    let (opened, all_opened) = std::sync::mpsc::channel();
    let running = std::thread::spawn({
        let host = host.clone();
        move || {
            let states: Vec<_> = (0..300)
                .map(|number| {
                    let lua = mlua::Lua::new();
                    let context = LuaContext::attach(&host, &lua, &format!("context {number}")).unwrap();
                    (context, lua)
                })
                .collect();
            let (context, lua) = states.last().unwrap();
            let spin = context.load("spin.lua", "while not stopped do\n  turns = (turns or 0) + 1\nend").unwrap();
            let waits = lua.load("adzeman.wait(20)").into_function().unwrap();
            opened.send(()).unwrap();
            waits.call::<()>(()).unwrap();
            spin.call::<()>(()).unwrap();
        }
    });
    all_opened.recv().unwrap();
    let mut client = Client::attached(&host);
    client.ok("configurationDone", json!({}));
    // It may be waiting yet, and is paused all the same.
    client.ok("pause", json!({"threadId": 300}));
    let (stop, _) = client.stopped();
    assert_eq!((stop["threadId"].as_i64(), stop["reason"].as_str()), (Some(300), Some("pause")));
    let frames = client.ok("stackTrace", json!({"threadId": 300}));
    let frame = frames["stackFrames"][0]["id"].clone();
    client.ok("evaluate", json!({"expression": "stopped = true", "frameId": frame, "context": "repl"}));
    client.ok("continue", json!({"threadId": 300}));
    running.join().unwrap();
}

#[test]
fn a_pause_leaves_what_is_watched_by_the_hook_as_it_was() {
    // A loop begins on the first line of `spin`, so that its entry is watched by the hook: on the main thread, or in a coroutine.
    let spin = "local function spin(n)\n  for i = 1, 3 do n = n + i end\n  return n\nend\n";
    let plain = "function update(n)\n  return spin(n)\nend";
    let resumed = "local turn = coroutine.wrap(function(n)\n  while true do n = coroutine.yield(spin(n)) end\nend)\nfunction update(n)\n  return turn(n)\nend";
    for update in [plain, resumed] {
        on_each(&format!("{spin}{update}"), |host| {
            let mut client = host.attach();
            let function = json!({"name": "spin", "adzeman": {"say": "{event.n}"}});
            client.ok("setFunctionBreakpoints", json!({"breakpoints": [function]}));
            host.go();
            for _ in 0..5 {
                client.event("output");
                client.ok("pause", json!({"threadId": 1}));
                client.stopped();
                client.go_on("continue");
            }
            let mut last = None;
            for _ in 0..50 {
                let said: i64 = client.event("output")["output"].as_str().unwrap().trim().parse().unwrap();
                assert_eq!(said, last.map_or(said, |last| last + 1), "each entry is told of");
                last = Some(said);
            }
        });
    }
}

/// Two contexts that handle each event, one after the other.
#[test]
fn a_step_goes_on_from_the_host_s_boundary_and_to_the_next_context_s_handler() {
    use adzeman::{Event, EventKind, Host, Listen, LuaContext};
    let host = Host::builder("works").event(EventKind::new("shift")).start(Listen::ANY_PORT).unwrap();
    let running = std::thread::spawn({
        let host = host.clone();
        move || {
            let states = ["one", "two", "three"].map(|name| {
                let lua = mlua::Lua::new();
                let context = LuaContext::attach(&host, &lua, name).unwrap();
                let script = "function update(n)\n  local x = n\n  return x\nend";
                context.load(&format!("{name}.lua"), script).unwrap().call::<()>(()).unwrap();
                let update: mlua::Function = lua.globals().get("update").unwrap();
                (context, update, lua)
            });
            while !host.is_attached() {
                std::thread::yield_now();
            }
            let mut n = 0;
            while host.is_attached() {
                n += 1;
                // The first one has nothing to do with this event.
                let handle = || states[1..].iter().try_for_each(|(_, update, _)| update.call::<i64>(n).map(|_| ()));
                host.emit(Event::of("shift").with("n", n), handle).unwrap();
            }
        }
    });
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.event("initialized");
    client.ok("attach", json!({}));
    let filters = json!({"filters": [], "filterOptions": [{"filterId": "shift", "adzeman": {"atBoundary": true}}]});
    client.ok("setExceptionBreakpoints", filters);
    client.ok("configurationDone", json!({}));
    let place = |client: &mut Client, thread: &Json| {
        let frames = client.ok("stackTrace", json!({"threadId": thread}))["stackFrames"].clone();
        let own = frames.as_array().unwrap().iter().find(|frame| frame["line"] != 0).cloned().unwrap_or_default();
        format!("{}:{}", own["source"]["name"].as_str().unwrap_or_default(), own["line"])
    };
    let mut thread = client.event("stopped")["threadId"].clone();
    assert_eq!(place(&mut client, &thread), ":null", "at the boundary");
    client.ok("setExceptionBreakpoints", json!({"filters": []}));
    let mut seen = Vec::new();
    for step in ["stepIn", "next", "next", "stepIn", "stepOut"] {
        client.ok(step, json!({"threadId": thread}));
        if step == "stepOut" {
            assert_eq!(client.event("adzeman/handlerLeft")["event"], "shift");
            break;
        }
        thread = client.event("stopped")["threadId"].clone();
        seen.push(place(&mut client, &thread));
    }
    assert_eq!(seen, ["two.lua:2", "two.lua:3", "three.lua:2", "three.lua:3"]);
    client.ok("disconnect", json!({}));
    running.join().unwrap();
}

const FINALIZER: &str = "\
local count = 0
local function finalize(held)
  local x = count
  count = x + 1
end
function update(n)
  setmetatable({}, { __gc = finalize })
  collectgarbage()
  return count
end
";

#[test]
fn a_finalizer_stops_at_its_breakpoints_and_no_step_is_made_in_it() {
    on_each(FINALIZER, |host| {
        let mut client = host.attach();
        client.break_at(&[(4, None)]);
        host.go();
        for _ in 0..3 {
            assert_eq!(client.stopped().1, 4);
            let count: i64 = client.evaluate("count").parse().unwrap();
            assert_eq!(client.evaluate("x"), count.to_string());
            for step in ["next", "stepIn", "stepOut"] {
                let why = client.refused(step, json!({"threadId": 1}));
                assert!(why.contains("in a finalizer"), "{why}");
            }
            client.go_on("continue");
        }
        client.break_at(&[(9, None)]);
        while client.stopped().1 != 9 {
            client.go_on("continue");
        }
        client.go_on("next");
        client.stopped();
    });
}

#[test]
fn where_only_the_hook_sees_a_line_its_breakpoint_says_that_finalizers_are_out_of_reach() {
    // What was loaded before anybody was there has no text that is known.
    let script = "\
local text = 'local count = 0\\nreturn function()\\n  count = count + 1\\nend'
local finalize = load(text, '=bare')()
function update(n)
  finalize()
  setmetatable({}, { __gc = finalize })
  collectgarbage()
end
";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        host.wait_frames(2);
        let set = json!({"source": {"path": "bare"}, "breakpoints": [{"line": 3}]});
        let mut held = client.ok("setBreakpoints", set)["breakpoints"][0].clone();
        while held["verified"] != true {
            held = client.event("breakpoint")["breakpoint"].clone();
        }
        client.stopped();
        let held = client.ok("adzeman/breakpoints", json!({}))["breakpoints"][0].clone();
        assert!(
            held.to_string().contains("Lua switches hooks off in finalizers, so it is not stopped at in one"),
            "{held}"
        );
        client.go_on("continue");
        for _ in 0..4 {
            client.stopped();
            let frames = client.ok("stackTrace", json!({"threadId": 1}))["stackFrames"].clone();
            assert_eq!((&frames[0]["line"], &frames[1]["line"]), (&json!(3), &json!(4)), "as it says: {frames}");
            client.go_on("continue");
        }
    });
}
