//! Events of the trail that are delivered once more, by the host.

use std::cell::{Cell, RefCell};
use std::panic::{AssertUnwindSafe, catch_unwind};

use crossbeam_channel::{Receiver, Sender, unbounded};
use serde_json::Value as Json;

use super::Lane;
use crate::event::event_depth;
use crate::state::notice::{Notice, Tone};

/// An event as it was recorded, for the host to raise it once more.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordedEvent {
    /// Its number in the trail.
    pub number: u64,
    /// Its kind.
    pub kind: String,
    /// What it was about.
    pub subject: Option<String>,
    /// What it carried: an object. What was too long to be kept, or is secret, is a text in parentheses.
    pub payload: Json,
}

type Deliver = Box<dyn FnMut(&RecordedEvent) -> Result<(), String>>;

/// Who delivers them on this thread.
pub(super) struct Again {
    by: RefCell<Vec<(String, Deliver)>>,
    sender: Sender<RecordedEvent>,
    wanted: Receiver<RecordedEvent>,
    is_delivering: Cell<bool>,
}

impl Default for Again {
    fn default() -> Self {
        let (sender, wanted) = unbounded();
        Self { by: RefCell::default(), sender, wanted, is_delivering: Cell::new(false) }
    }
}

impl Lane {
    /// Has events of a kind delivered once more by the host; the last one that says so does it.
    pub(crate) fn on_again(&self, kind: &str, deliver: Deliver) {
        let mut by = self.again_by.by.borrow_mut();
        by.retain(|(held, _)| held != kind);
        by.push((kind.to_owned(), deliver));
        self.host.take_again(kind, self.again_by.sender.clone());
    }

    /// Between two events: delivers one that a client has asked for. What it does may hold this thread, as any event may.
    pub(super) fn deliver_again(&self) {
        let again = &self.again_by;
        if again.by.borrow().is_empty() || again.wanted.is_empty() || again.is_delivering.get() || event_depth() > 0 {
            return;
        }
        let Ok(event) = again.wanted.try_recv() else { return };
        let at = again.by.borrow().iter().position(|(kind, _)| *kind == event.kind);
        let Some((kind, mut deliver)) = at.map(|at| again.by.borrow_mut().swap_remove(at)) else { return };
        again.is_delivering.set(true);
        let outcome = catch_unwind(AssertUnwindSafe(|| deliver(&event)));
        again.is_delivering.set(false);
        let mut by = again.by.borrow_mut();
        if by.iter().all(|(held, _)| *held != kind) {
            by.push((kind, deliver));
        }
        drop(by);
        let outcome = outcome.unwrap_or_else(|_| Err("the host's own function for it panicked".to_owned()));
        let (tone, what) = match outcome {
            Ok(()) => (Tone::Said, "was delivered again".to_owned()),
            Err(why) => (Tone::Failed, format!("was delivered again, and failed: {why}")),
        };
        let text = format!("event {}, {}, {what}\n", event.number, event.kind);
        self.host.clients.tell(Notice::text(tone, text));
    }
}
