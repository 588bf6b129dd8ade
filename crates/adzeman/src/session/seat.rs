//! A client's place in the host.

use std::sync::Arc;

use super::inbox::Inbox;
use crate::lane::HostState;
use crate::state::clients::{Client, Way};

/// A client's place in the host. However its session ends, dropping this gives back all that it had: control, the stop that
/// it held, breakpoints, monitors, and the place itself.
pub(super) struct Seat {
    host: Arc<HostState>,
    pub(super) client: Arc<Client>,
    pub(super) inbox: Arc<Inbox>,
    /// Whether it said that it leaves: its stop is not kept then.
    pub(super) has_left: bool,
}

impl Seat {
    /// Takes a place at the door, if there is one.
    pub(super) fn take(host: &Arc<HostState>, way: Way) -> Option<Self> {
        let inbox = Arc::new(Inbox::default());
        let client = host.add_client(way, inbox.clone())?;
        Some(Self { host: host.clone(), client, inbox, has_left: false })
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        self.client.work.abandon();
        self.host.remove_client(&self.client, !self.has_left);
    }
}
