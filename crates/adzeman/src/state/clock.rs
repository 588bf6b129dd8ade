//! A clock that leaves out the time spent at stops.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Runs from the start of the host, and stands still while any context is held.
#[derive(Debug)]
pub(crate) struct Clock {
    state: Mutex<State>,
}

#[derive(Debug)]
struct State {
    /// When it would have started, had it never stood still.
    started: Instant,
    holders: usize,
    held_since: Instant,
}

impl Clock {
    pub(crate) fn new() -> Self {
        let now = Instant::now();
        Self { state: Mutex::new(State { started: now, holders: 0, held_since: now }) }
    }

    fn with<T>(&self, work: impl FnOnce(&mut State) -> T) -> T {
        work(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }

    pub(crate) fn now(&self) -> Duration {
        self.with(|state| {
            let until = if state.holders > 0 { state.held_since } else { Instant::now() };
            until.saturating_duration_since(state.started)
        })
    }

    pub(crate) fn hold(&self) {
        self.with(|state| {
            state.holders += 1;
            if state.holders == 1 {
                state.held_since = Instant::now();
            }
        });
    }

    pub(crate) fn release(&self) {
        self.with(|state| {
            state.holders = state.holders.saturating_sub(1);
            if state.holders == 0 {
                state.started += state.held_since.elapsed();
            }
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stands_still_while_held() {
        let clock = Clock::new();
        clock.hold();
        clock.hold();
        let held = clock.now();
        clock.release();
        assert_eq!(clock.now(), held, "one holder is left");
        clock.release();
        assert!(clock.now() >= held);
    }
}
