//! What a client was shown: what its references stand for, and what to compare with at the next stop.

use std::collections::HashMap;

use adzeman_core::value::{Memory, Value};

use super::SessionError;
use super::values::Reference;

/// References, and frames, that are kept at one time; beyond it, those given so far become stale.
const MOST_REFERENCES: usize = 200_000;

/// What a client was shown.
#[derive(Default)]
pub(super) struct Shown {
    references: HashMap<i64, Reference>,
    last_reference: i64,
    memory: Memory,
    /// The stop that was noticed last.
    seen_stop: u64,
    /// What the numbers of frames stand for, and those numbers.
    frames: HashMap<i64, FrameAt>,
    frame_numbers: HashMap<(i64, u64, usize), i64>,
    last_frame: i64,
}

/// What the number of a frame stands for.
#[derive(Debug, Clone)]
pub(super) struct FrameAt {
    pub(super) context: i64,
    /// The number of the stop that it was shown at.
    pub(super) stop: u64,
    /// Its place on the stack, the innermost being 0; or that of an event.
    pub(super) index: usize,
    /// What tells its function from others at later stops.
    key: String,
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
        }
    }

    /// What was shown under this key at an earlier stop, if it is another value now.
    pub(super) fn compare(&mut self, key: &str, now: &Value) -> Option<String> {
        self.memory.compare(key, now)
    }

    /// A number for a frame, the same whenever it is shown at one stop, and for no other one ever after. `key` tells its function
    /// from others at later stops.
    pub(super) fn number_frame(&mut self, context: i64, stop: u64, index: usize, key: String) -> i64 {
        if self.frames.len() >= MOST_REFERENCES {
            self.frames.clear();
            self.frame_numbers.clear();
        }
        let last = &mut self.last_frame;
        let number = *self.frame_numbers.entry((context, stop, index)).or_insert_with(|| {
            *last += 1;
            *last
        });
        self.frames.insert(number, FrameAt { context, stop, index, key });
        number
    }

    /// What the number of a frame stands for.
    pub(super) fn frame(&self, number: i64) -> Result<FrameAt, SessionError> {
        self.frames.get(&number).cloned().ok_or(SessionError::StaleFrame(number))
    }

    /// What tells a frame's function from others at later stops.
    pub(super) fn frame_key(&self, number: i64) -> String {
        self.frames.get(&number).map_or_else(|| format!("frame {number}"), |frame| frame.key.clone())
    }
}
