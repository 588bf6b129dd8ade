//! Steps, going on, pausing.

use serde_json::json;

use crate::harness::{SCRIPT, on_each};

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

/// On the main Lua thread, where a signal can set the hook.
#[cfg(target_os = "linux")]
#[test]
fn pause_stops_an_endless_loop_that_calls_nothing() {
    let script = "spins = 0\nrunning = true\nfunction update(n)\n  print('spinning') while running do\n    spins = spins + 1\n  end\nend";
    on_each(script, |host| {
        let mut client = host.attach();
        host.go();
        client.event("output");
        client.ok("pause", json!({"threadId": 1}));
        let (body, line) = client.stopped();
        assert_eq!(body["reason"], "pause");
        assert!((4..=6).contains(&line), "{line}");
        client.evaluate("running = false");
        client.go_on("continue");
        host.wait_frames(2);
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
