//! A client as the rest of the host sees it: what it is allowed, and messages to it.

use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use adzeman_core::breakpoint::OwnerId;
use adzeman_dap::{Event, Response};
use serde::Serialize;

use crate::inbox::Inbox;
use crate::outbox::Outbox;
use crate::shared::{Shared, lock};

/// Clients that are attached at one time, by each way in.
pub(crate) const MOST_ATTACHED: usize = 16;
/// Clients that have not attached yet, by each way in: those who come over TCP cannot take the places of the owner.
pub(crate) const MOST_AT_THE_DOOR: usize = 32;

/// Characters of a client's name that are kept.
const MOST_NAME: usize = 60;

/// How a client came, and what is known of it by that.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    /// By the local socket, which only the host's own user can connect to.
    Local,
    /// Within the process, or dialled by the host.
    Chosen,
    /// From wherever TCP reaches: it has to show the token.
    Tcp,
}

impl Way {
    /// Whether it is known that the client is of the host's own user.
    pub(crate) fn is_trusted(self) -> bool {
        self != Self::Tcp
    }

    /// For people.
    pub(crate) fn title(self) -> &'static str {
        match self {
            Self::Local => "by the local socket",
            Self::Chosen => "from within",
            Self::Tcp => "over TCP",
        }
    }
}

pub(crate) struct Client {
    pub(crate) owner: OwnerId,
    pub(crate) way: Way,
    pub(crate) inbox: Inbox,
    pub(crate) outbox: Outbox,
    attached: AtomicBool,
    line_base: AtomicI64,
    /// What it calls itself.
    name: Mutex<String>,
    /// How long its stop is kept when it vanishes, in milliseconds.
    keeps_stop_for: AtomicU64,
}

impl Client {
    fn new(owner: OwnerId, way: Way) -> Self {
        Self {
            owner,
            way,
            inbox: Inbox::default(),
            outbox: Outbox::default(),
            attached: AtomicBool::new(false),
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

    /// Sends an event, from any thread; never waits. The client is told afterwards how many it missed.
    pub(crate) fn event<T: Serialize>(&self, event: &str, body: &T) {
        let body = serde_json::to_value(body).ok();
        self.outbox.event(Event { seq: 0, event: event.to_owned(), body });
    }

    /// Sends a response, from the thread that carries out the client's requests, which may wait for the client to read.
    pub(crate) fn respond(&self, response: Response) -> bool {
        self.outbox.respond(response)
    }
}

/// A client's place in the host. However its session ends, dropping this gives back all that it had: control, the stop that
/// it held, breakpoints, monitors, and the place itself.
pub(crate) struct Seat {
    shared: Arc<Shared>,
    pub(crate) client: Arc<Client>,
    /// Whether it said that it leaves: its stop is not kept then.
    pub(crate) has_left: bool,
}

impl Seat {
    /// Takes a place at the door, if there is one.
    pub(crate) fn take(shared: &Arc<Shared>, way: Way) -> Option<Self> {
        let client = Arc::new(Client::new(shared.next_owner(), way));
        let is_taken = shared.add_client(client.clone(), MOST_AT_THE_DOOR);
        is_taken.then(|| Self { shared: shared.clone(), client, has_left: false })
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.client.inbox.abandon();
        self.shared.remove_client(&self.client, !self.has_left);
    }
}
