//! Handles to shared host state.

use std::sync::{Arc, Mutex, RwLock, TryLockError};

/// A handle to shared host state. Implemented for `Arc<Mutex<T>>` and `Arc<RwLock<T>>`.
///
/// The state is locked only for the moment of the access, and never waited for: a host that calls a script while it
/// holds the lock gets no deadlock, the person at the prompt gets [`HostError::Busy`](super::HostError::Busy).
pub trait SharedObject: Send + Sync + 'static {
    /// The state.
    type State;
    /// Lends the state, unless someone has it.
    fn with<R>(&self, look: impl FnOnce(&Self::State) -> R) -> Option<R>;
    /// Lends the state for changing, unless someone has it.
    fn with_mut<R>(&self, change: impl FnOnce(&mut Self::State) -> R) -> Option<R>;
}

impl<T: Send + 'static> SharedObject for Arc<Mutex<T>> {
    type State = T;

    fn with<R>(&self, look: impl FnOnce(&T) -> R) -> Option<R> {
        self.with_mut(|state| look(state))
    }

    fn with_mut<R>(&self, change: impl FnOnce(&mut T) -> R) -> Option<R> {
        match self.try_lock() {
            Ok(mut state) => Some(change(&mut state)),
            Err(TryLockError::Poisoned(poisoned)) => Some(change(&mut poisoned.into_inner())),
            Err(TryLockError::WouldBlock) => None,
        }
    }
}

impl<T: Send + Sync + 'static> SharedObject for Arc<RwLock<T>> {
    type State = T;

    fn with<R>(&self, look: impl FnOnce(&T) -> R) -> Option<R> {
        match self.try_read() {
            Ok(state) => Some(look(&state)),
            Err(TryLockError::Poisoned(poisoned)) => Some(look(&poisoned.into_inner())),
            Err(TryLockError::WouldBlock) => None,
        }
    }

    fn with_mut<R>(&self, change: impl FnOnce(&mut T) -> R) -> Option<R> {
        match self.try_write() {
            Ok(mut state) => Some(change(&mut state)),
            Err(TryLockError::Poisoned(poisoned)) => Some(change(&mut poisoned.into_inner())),
            Err(TryLockError::WouldBlock) => None,
        }
    }
}
