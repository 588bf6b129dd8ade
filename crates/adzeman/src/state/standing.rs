//! Whether a context runs or is held, and by which stop: known here only, and changed as a whole.

use std::sync::Mutex;

use super::lock;

/// Whether a context runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RunState {
    Running,
    Stopped,
    /// Held until someone attaches.
    Waiting,
}

/// Where a context stands at one moment.
#[derive(Debug, Clone, Copy)]
struct At {
    state: RunState,
    /// The number of the stop that holds it; 0 for none.
    stop: u64,
    /// Whether it was told to go on from that, and may have to hear of it.
    is_going: bool,
}

/// Where a context stands, as every thread sees it.
#[derive(Debug)]
pub(crate) struct Standing(Mutex<At>);

/// The stop that held a context when another one began; put back by [`Standing::leave`].
#[derive(Debug)]
pub(crate) struct Outer(u64);

impl Default for Standing {
    fn default() -> Self {
        Self(Mutex::new(At { state: RunState::Running, stop: 0, is_going: false }))
    }
}

impl Standing {
    pub(crate) fn state(&self) -> RunState {
        lock(&self.0).state
    }

    /// The number of the stop that holds it; 0 for none.
    pub(crate) fn stop(&self) -> u64 {
        lock(&self.0).stop
    }

    /// Whether it runs, or is about to: what waits for someone to attach goes on once they have.
    pub(crate) fn is_going(&self) -> bool {
        let at = lock(&self.0);
        at.state != RunState::Stopped || at.is_going
    }

    /// It waits for someone to attach, or does so no more.
    pub(crate) fn wait(&self, waits: bool) {
        lock(&self.0).state = if waits { RunState::Waiting } else { RunState::Running };
    }

    /// A stop holds it, which may be inside another one: of a call that a person asked for there.
    pub(crate) fn enter(&self, number: u64) -> Outer {
        let mut at = lock(&self.0);
        let outer = Outer(at.stop);
        *at = At { state: RunState::Stopped, stop: number, is_going: false };
        outer
    }

    /// The stop is over, and what it was inside of runs.
    pub(crate) fn leave(&self, outer: &Outer) {
        *lock(&self.0) = At { state: RunState::Running, stop: outer.0, is_going: false };
    }

    /// What ran inside a stop is done: that holds it again.
    pub(crate) fn is_back(&self) {
        lock(&self.0).state = RunState::Stopped;
    }

    /// It is told to go on from a stop.
    pub(crate) fn told_to_go(&self, number: u64) {
        let mut at = lock(&self.0);
        at.is_going = at.state == RunState::Stopped && at.stop == number;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stop_inside_another_gives_back_that_one() {
        let standing = Standing::default();
        let outermost = standing.enter(1);
        let outer = standing.enter(2);
        standing.told_to_go(1);
        assert!(!standing.is_going(), "of a stop that does not hold it");
        standing.told_to_go(2);
        assert!(standing.is_going() && standing.state() == RunState::Stopped);
        standing.leave(&outer);
        assert_eq!((standing.state(), standing.stop(), standing.is_going()), (RunState::Running, 1, true));
        standing.is_back();
        assert_eq!((standing.state(), standing.stop(), standing.is_going()), (RunState::Stopped, 1, false));
        standing.leave(&outermost);
        assert_eq!((standing.state(), standing.stop()), (RunState::Running, 0));
    }
}
