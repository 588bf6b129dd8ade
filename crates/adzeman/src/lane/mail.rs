//! Jobs that other threads have done on a context's own.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering::SeqCst};

use adzeman_core::engine::Engine;
use adzeman_core::evaluation::Cancel;

use super::context::LocalContext;
use super::hold::Hold;

/// What a job may touch: a context at a safe point.
pub(crate) struct SafePoint<'a> {
    pub(crate) engine: &'a mut dyn Engine,
    pub(crate) context: &'a LocalContext,
    /// The stop under way on this thread, if there is one.
    pub(crate) hold: Option<&'a Hold>,
}

pub(super) type Work = Box<dyn FnOnce(&mut SafePoint<'_>) + Send>;

/// Whether a job is still wanted: the one who posted it may have given up.
#[derive(Debug)]
pub(crate) struct Ticket {
    state: AtomicU8,
    /// Has what the job evaluates give up.
    pub(super) cancel: Cancel,
}

const WAITING: u8 = 0;
const STARTED: u8 = 1;
const WITHDRAWN: u8 = 2;

impl Ticket {
    pub(crate) fn new(cancel: Cancel) -> Self {
        Self { state: AtomicU8::new(WAITING), cancel }
    }

    /// Takes the job; false when it was given up.
    pub(super) fn start(&self) -> bool {
        self.state.compare_exchange(WAITING, STARTED, SeqCst, SeqCst).is_ok()
    }

    /// Takes the job back; false when it has begun.
    pub(crate) fn withdraw(&self) -> bool {
        self.state.compare_exchange(WAITING, WITHDRAWN, SeqCst, SeqCst).is_ok()
    }
}

/// A job for a context.
pub(crate) struct Mail {
    pub(crate) context: i64,
    pub(crate) ticket: Arc<Ticket>,
    pub(crate) work: Work,
}
