//! What a host knows while it runs, part by part: plain data behind locks that are held for moments. No part knows another
//! room, and none knows how clients are spoken to.

pub(crate) mod breakpoints;
pub(crate) mod clients;
pub(crate) mod clock;
pub(crate) mod figures;
mod maps;
pub(crate) mod notice;
pub(crate) mod outbox;
pub(crate) mod process;
pub(crate) mod sources;
pub(crate) mod standing;
pub(crate) mod trail;

use std::sync::{Mutex, MutexGuard, PoisonError};

/// Locks, whatever happened to another holder: all data here is valid between two statements.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
