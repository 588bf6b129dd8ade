//! What the benchmarks share: a client, a meter of events, and the times of a run.

use std::fs;
use std::io::{Read, Write};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::thread;
use std::time::{Duration, SystemTime};

use adzeman::{Host, PipeReader, PipeWriter};
use adzeman_dap::{Decoded, Message, Request, decode, encode};
use rustix::time::{ClockId, clock_gettime};
use serde_json::{Value as Json, json};

/// Just enough of a client.
pub(crate) struct Client<R, W> {
    reader: R,
    writer: W,
    held: Vec<u8>,
    seq: i64,
}

impl<R: Read, W: Write> Client<R, W> {
    pub(crate) fn attach(reader: R, writer: W, token: &str) -> Self {
        let mut client = Self { reader, writer, held: Vec::new(), seq: 0 };
        client.request("initialize", json!({ "token": token }));
        client.request("attach", json!({}));
        client
    }

    fn message(&mut self) -> Message {
        let mut chunk = [0; 8192];
        loop {
            if let Decoded::Message { message, consumed } = decode(&self.held).expect("a message") {
                self.held.drain(..consumed);
                return message;
            }
            let count = self.reader.read(&mut chunk).expect("the host is there");
            assert!(count > 0, "the host has hung up");
            self.held.extend_from_slice(&chunk[..count]);
        }
    }

    pub(crate) fn request(&mut self, command: &str, arguments: Json) -> Json {
        self.seq += 1;
        let request = Request { seq: self.seq, command: command.into(), arguments: Some(arguments) };
        self.writer.write_all(&encode(&Message::Request(request)).expect("a request")).expect("the host is there");
        loop {
            if let Message::Response(response) = self.message()
                && response.request_seq == self.seq
            {
                assert!(response.success, "{command}: {:?}", response.message);
                return response.body.unwrap_or_default();
            }
        }
    }

    #[allow(dead_code, reason = "not every benchmark stops")]
    pub(crate) fn event(&mut self, name: &str) {
        loop {
            if matches!(self.message(), Message::Event(event) if event.event == name) {
                return;
            }
        }
    }
}

#[allow(dead_code, reason = "not every benchmark has means")]
/// The mean time of a benchmark of this run, which began at `begun`, in nanoseconds.
pub(crate) fn mean(begun: SystemTime, group: &str, name: &str) -> Option<f64> {
    let root = std::env::var_os("CARGO_TARGET_DIR")
        .map_or_else(|| Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target"), std::path::PathBuf::from);
    let file = root.join("criterion").join(group).join(name.replace(' ', "_")).join("new/estimates.json");
    let file =
        if file.exists() { file } else { root.join("criterion").join(group).join(name).join("new/estimates.json") };
    // Those of an earlier run are left out.
    if fs::metadata(&file).ok()?.modified().ok()? < begun {
        return None;
    }
    let estimates: Json = serde_json::from_str(&fs::read_to_string(file).ok()?).ok()?;
    estimates["mean"]["point_estimate"].as_f64()
}

/// Bytes of memory that this process has, as the system says; 0 where it does not.
#[allow(dead_code, reason = "not every benchmark asks")]
pub(crate) fn resident() -> f64 {
    let pages = fs::read_to_string("/proc/self/statm").ok();
    pages.and_then(|text| text.split(' ').nth(1)?.parse::<f64>().ok()).map_or(0.0, |pages| pages * 4096.0)
}

/// How long the processor has worked on this thread: what else is busy on the machine is not in it.
#[allow(dead_code, reason = "not every benchmark measures events")]
pub(crate) fn worked() -> Duration {
    clock_gettime(ClockId::ThreadCPUTime).try_into().expect("a time")
}

/// A client that attaches to a host, whose events are measured meanwhile, and so many behind that.
#[allow(dead_code, reason = "not every benchmark measures events")]
pub(crate) fn attach(host: &Host, meter: &Meter, events: u64) -> Client<PipeReader, PipeWriter> {
    let (reader, writer) = host.connect().expect("a session");
    meter.part("attaches", events, || {
        let mut client = Client::attach(reader, writer, "");
        client.request("configurationDone", json!({}));
        client
    })
}

/// Events of a host, as its own thread measures them.
#[allow(dead_code, reason = "not every benchmark measures events")]
#[derive(Default)]
pub(crate) struct Meter {
    longest: AtomicU64,
    longest_worked: AtomicU64,
    total: AtomicU64,
    events: AtomicU64,
    ends: AtomicBool,
}

#[allow(dead_code, reason = "not every benchmark measures events")]
impl Meter {
    /// Takes one event: how long it took by the clock, and how long the processor [worked] on it.
    pub(crate) fn take(&self, took: Duration, worked: Duration) {
        let nanoseconds = |time: Duration| u64::try_from(time.as_nanos()).unwrap_or(u64::MAX);
        self.longest.fetch_max(nanoseconds(took), SeqCst);
        self.longest_worked.fetch_max(nanoseconds(worked), SeqCst);
        self.total.fetch_add(nanoseconds(worked), SeqCst);
        self.events.fetch_add(1, SeqCst);
    }

    /// How many there were.
    pub(crate) fn count(&self) -> u64 {
        self.events.load(SeqCst)
    }

    /// Whether the host is to end.
    pub(crate) fn is_over(&self) -> bool {
        self.ends.load(SeqCst)
    }

    /// Has the host end.
    pub(crate) fn end(&self) {
        self.ends.store(true, SeqCst);
    }

    /// Prints the longest event, by the clock and by the processor, and the mean by the processor, of those while `work` is done, and of so many behind it: what is spread over
    /// events goes on for some.
    pub(crate) fn part<T>(&self, name: &str, events: u64, work: impl FnOnce() -> T) -> T {
        self.longest.store(0, SeqCst);
        self.longest_worked.store(0, SeqCst);
        let (total, before) = (self.total.load(SeqCst), self.events.load(SeqCst));
        let outcome = work();
        let until = self.events.load(SeqCst) + events;
        while self.events.load(SeqCst) < until {
            thread::sleep(Duration::from_millis(1));
        }
        let count = self.events.load(SeqCst) - before;
        let milliseconds = |time: &AtomicU64| time.load(SeqCst) as f64 / 1e6;
        let (longest, worked) = (milliseconds(&self.longest), milliseconds(&self.longest_worked));
        let mean = (self.total.load(SeqCst) - total) as f64 / count as f64 / 1e3;
        println!(
            "{name:<40} longest {longest:>9.3} ms, worked {worked:>8.3} ms; mean worked {mean:>9.3} us of {count}"
        );
        outcome
    }
}
