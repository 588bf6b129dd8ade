//! What a client was shown: what its references stand for, and what to compare with at the next stop.

use std::collections::HashMap;

use adzeman_core::value::{Memory, Value};

use super::SessionError;
use super::values::Reference;

/// References that are kept at one time; beyond it, those given so far become stale.
const MOST_REFERENCES: usize = 200_000;

/// What a client was shown.
#[derive(Default)]
pub(super) struct Shown {
    references: HashMap<i64, Reference>,
    last_reference: i64,
    memory: Memory,
    /// The stop that was noticed last.
    seen_stop: u64,
    /// What tells the function of a frame from others at later stops, by the frame's number at this stop.
    frame_keys: HashMap<i64, String>,
}

impl Shown {
    /// A number for what is inside a value.
    pub(super) fn refer(&mut self, reference: Reference) -> i64 {
        if self.references.len() >= MOST_REFERENCES {
            self.references.clear();
        }
        self.last_reference += 1;
        self.references.insert(self.last_reference, reference);
        self.last_reference
    }

    /// What a number stands for.
    pub(super) fn reference(&self, number: i64) -> Result<Reference, SessionError> {
        self.references.get(&number).cloned().ok_or(SessionError::StaleReference(number))
    }

    /// The context goes on, and what was shown of it is gone.
    pub(super) fn forget_references(&mut self) {
        self.references.clear();
    }

    /// Takes notice of how many stops there were: at a new one, values are compared with what was shown before it.
    pub(super) fn notice_stop(&mut self, stop: u64) {
        if stop != self.seen_stop {
            self.seen_stop = stop;
            self.memory.next_stop();
            self.frame_keys.clear();
        }
    }

    /// What was shown under this key at an earlier stop, if it is another value now.
    pub(super) fn compare(&mut self, key: &str, now: &Value) -> Option<String> {
        self.memory.compare(key, now)
    }

    /// Notes what tells a frame's function from others at later stops.
    pub(super) fn note_frame(&mut self, frame: i64, key: String) {
        self.frame_keys.insert(frame, key);
    }

    /// What tells a frame's function from others at later stops.
    pub(super) fn frame_key(&self, frame: i64) -> String {
        self.frame_keys.get(&frame).cloned().unwrap_or_else(|| format!("frame {frame}"))
    }
}
