//! A client as the rest of the host sees it: a queue of messages to it.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering::SeqCst};
use std::time::Duration;

use adzeman_core::breakpoint::OwnerId;
use adzeman_dap::extra::{DROPPED, DroppedBody};
use adzeman_dap::{Event, Message, Response};
use crossbeam_channel::Sender;
use serde::Serialize;

use crate::shared::lock;

/// Messages queued for a client that reads slowly; beyond it, events are dropped and counted.
pub(crate) const MOST_QUEUED: usize = 4096;

/// Characters of a client's name that are kept.
const MOST_NAME: usize = 60;

pub(crate) struct Client {
    pub(crate) owner: OwnerId,
    queue: Sender<Message>,
    attached: AtomicBool,
    dropped: AtomicU64,
    line_base: AtomicI64,
    /// What it calls itself.
    name: Mutex<String>,
    /// How long its stop is kept when it vanishes, in milliseconds.
    keeps_stop_for: AtomicU64,
}

impl Client {
    pub(crate) fn new(owner: OwnerId, queue: Sender<Message>) -> Self {
        Self {
            owner,
            queue,
            attached: AtomicBool::new(false),
            dropped: AtomicU64::new(0),
            line_base: AtomicI64::new(1),
            name: Mutex::default(),
            keeps_stop_for: AtomicU64::new(0),
        }
    }

    pub(crate) fn name(&self) -> String {
        let name = lock(&self.name).clone();
        if name.is_empty() { "a client without a name".to_owned() } else { name }
    }

    /// Takes the beginning of what a client calls itself.
    pub(crate) fn set_name(&self, name: &str) {
        *lock(&self.name) = name.chars().filter(|c| !c.is_control()).take(MOST_NAME).collect();
    }

    pub(crate) fn keeps_stop_for(&self) -> Duration {
        Duration::from_millis(self.keeps_stop_for.load(SeqCst))
    }

    pub(crate) fn keep_stop_for(&self, time: Duration) {
        self.keeps_stop_for.store(u64::try_from(time.as_millis()).unwrap_or(u64::MAX), SeqCst);
    }

    pub(crate) fn is_attached(&self) -> bool {
        self.attached.load(SeqCst)
    }

    pub(crate) fn set_attached(&self, attached: bool) {
        self.attached.store(attached, SeqCst);
    }

    /// The number that the client gives to the first line: 0 or 1.
    pub(crate) fn line_base(&self) -> i64 {
        self.line_base.load(SeqCst)
    }

    pub(crate) fn set_line_base(&self, base: i64) {
        self.line_base.store(base, SeqCst);
    }

    /// Sends an event, from any thread; never waits. Says afterwards how many it had to drop.
    pub(crate) fn event<T: Serialize>(&self, event: &str, body: &T) {
        let missed = self.dropped.swap(0, SeqCst);
        if missed > 0 && !self.try_event(DROPPED, &DroppedBody { messages: missed }) {
            self.dropped.fetch_add(missed, SeqCst);
        }
        if !self.try_event(event, body) {
            self.dropped.fetch_add(1, SeqCst);
        }
    }

    fn try_event<T: Serialize>(&self, event: &str, body: &T) -> bool {
        // The writer numbers messages in the order they leave.
        let body = serde_json::to_value(body).ok();
        self.queue.try_send(Message::Event(Event { seq: 0, event: event.to_owned(), body })).is_ok()
    }

    /// Sends a response, from the client's own session thread, which may wait for the client to read.
    pub(crate) fn respond(&self, response: Response) -> bool {
        self.queue.send(Message::Response(response)).is_ok()
    }
}
