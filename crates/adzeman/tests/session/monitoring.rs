//! Expressions that are sampled while the host runs.

use serde_json::json;

use crate::harness::Client;
use crate::inspecting::Canal;

#[test]
fn monitors_sample_while_the_host_runs_and_report_their_cost() {
    let canal = Canal::start();
    let mut client = canal.attach();
    let by_event = client.ok(
        "adzeman/monitor",
        json!({"expression": "turns + event.n - event.n", "event": "frame.update", "count": 3, "share": 1.0}),
    );
    let mut counts = Vec::new();
    for _ in 0..3 {
        let sample = client.event("adzeman/sample");
        assert_eq!(sample["success"], true, "{sample}");
        assert_eq!(sample["event"], "frame.update of lock.upper");
        assert!(sample["costMicroseconds"].as_f64().unwrap() > 0.0);
        assert!((0.0..=1.0).contains(&sample["share"].as_f64().unwrap()), "{sample}");
        counts.push(sample["count"].as_u64().unwrap());
    }
    assert_eq!(counts, [1, 2, 3]);
    client.ok("adzeman/endMonitor", by_event.clone());
    let why = client.refused("adzeman/sampleNow", by_event);
    assert!(why.contains("no monitor"), "{why}");

    // By the time, once a day; and when asked for.
    let by_time = client.ok("adzeman/monitor", json!({"expression": "nothing.here", "everyMilliseconds": 86_400_000}));
    let id = by_time["monitorId"].clone();
    let sample = |client: &mut Client| loop {
        let sample = client.event("adzeman/sample");
        if sample["monitorId"] == id {
            return sample;
        }
    };
    let first = sample(&mut client);
    assert_eq!(first["success"], false);
    assert!(first["value"].as_str().unwrap().contains("nil value"), "{first}");
    client.ok("adzeman/sampleNow", by_time);
    assert_eq!(sample(&mut client)["count"], 2);
    let why = client.refused("adzeman/monitor", json!({"expression": "turns +"}));
    assert!(why.contains("cannot read that"), "{why}");
}

#[test]
fn a_monitor_that_would_take_more_than_its_share_is_slowed_and_not_the_host() {
    let canal = Canal::start();
    let mut client = canal.attach();
    let costly = "(function() local s = 0 for i = 1, 200000 do s = s + i end return s end)()";
    client.ok("adzeman/monitor", json!({"expression": costly, "everyMilliseconds": 1, "share": 0.05}));
    let samples: Vec<_> = (0..4).map(|_| client.event("adzeman/sample")).collect();
    let last = samples.last().unwrap();
    assert_eq!(last["slowed"], true, "{last}");
    // Between the first sample and the last, at least as much time has passed as three samples may take.
    let spent: f64 = samples[..3].iter().map(|sample| sample["costMicroseconds"].as_f64().unwrap() / 1e6).sum();
    let passed = last["seconds"].as_f64().unwrap() - samples[0]["seconds"].as_f64().unwrap();
    assert!(spent <= 0.05 * passed * 1.001, "{spent} s of {passed} s");
}
