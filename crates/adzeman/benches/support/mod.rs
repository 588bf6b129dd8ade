//! What the benchmarks share: a client, and the times of a run.

use std::fs;
use std::io::{Read, Write};
use std::path::Path;
use std::time::SystemTime;

use adzeman_dap::{Decoded, Message, Request, decode, encode};
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
