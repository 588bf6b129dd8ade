//! The stacks of a state: which one waits for which, and what has become of one.

use adzeman_core::stepping::{Stack, StackId, StackState};

use super::view::View;
use crate::ffi::state::State;
use crate::ffi::walk;

/// The stacks that wait for each other, from `state` to the main one. The thread that a stack waits for is found among
/// the arguments or captured values of its innermost function, the one that resumes.
pub(super) fn chain(state: State, main: State) -> Vec<State> {
    let mut found = vec![main];
    while let Some(last) = found.last().copied().filter(|last| *last != state) {
        match resumed_by(last) {
            Some(next) if !found.contains(&next) => found.push(next),
            // Resumed by the host itself, which leaves no trace.
            _ => found.push(state),
        }
    }
    found.reverse();
    found
}

fn resumed_by(waiting: State) -> Option<State> {
    let function = waiting.level(0)?;
    let top = waiting.top();
    let argument = function.push_local(1).and_then(|_| waiting.thread_at(-1));
    waiting.cut_to(top);
    let found = argument.or_else(|| {
        function.push_function();
        waiting.push_captured(-1, 1).and_then(|_| waiting.thread_at(-1))
    });
    waiting.cut_to(top);
    found
}

impl Stack for View<'_> {
    fn id(&self) -> StackId {
        self.state.push_self();
        if let Err(error) = walk::note_thread(self.state) {
            tracing::warn!(%error, "a step may end early");
        }
        StackId(self.state.address())
    }

    fn depth(&self) -> usize {
        self.state.depth() - self.passed
    }

    fn state_of(&self, stack: StackId) -> StackState {
        let look = |other: State| match () {
            () if other.is_suspended() => StackState::Suspended,
            () if other.level(0).is_some() => StackState::Active,
            () => StackState::Finished,
        };
        walk::with_thread(self.state, stack.0, look).unwrap_or(StackState::Finished)
    }
}
