//! The stacks of a state: which one waits for which, and what has become of one.

use adzeman_core::stepping::{Remaining, Stack, StackId, StackState, Step};

use super::view::View;
use crate::ffi::state::State;
use crate::ffi::walk;
use crate::ffi::watch::Watch;

/// Stacks that are looked through for one that waits for another, as many as Lua lets wait.
const MOST_STACKS: usize = 200;

/// The stacks that wait for each other, from `state` to the main one. What resumed a thread is known of those that scripts
/// resume by the library's functions. What is below those is found from the main thread on: the thread that a stack waits for is
/// among the arguments or captured values of its innermost function, the one that resumes.
pub(super) fn chain(watch: &Watch, state: State) -> Vec<State> {
    let resumers = std::iter::successors(Some(state), |held| watch.resumer_of(*held));
    let mut found: Vec<_> = resumers.take(MOST_STACKS).collect();
    let outermost = found.last().copied().unwrap_or(state);
    let mut below = vec![watch.main];
    while let Some(last) = below.last().copied().filter(|last| *last != outermost) {
        match resumed_by(last).or_else(|| watch.hosted.resumed_on(last)) {
            Some(next) if !below.contains(&next) => below.push(next),
            // Resumed by the host in a way that leaves no trace.
            _ => below.push(outermost),
        }
    }
    found.extend(below.into_iter().rev().skip(1));
    found
}

/// Whether a script has resumed a thread: the one that runs as far as is known, or one that this has resumed.
pub(super) fn is_resumed_by_script(watch: &Watch, thread: State) -> bool {
    let chain = std::iter::successors(resumed_by(watch.running()), |last| resumed_by(*last));
    chain.take(MOST_STACKS).any(|held| held == thread)
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

/// What a thread is called by steps.
pub(super) fn stack_id(watch: &Watch, thread: State) -> StackId {
    StackId { stack: thread.address(), run: watch.hosted.run_of(thread, thread) }
}

impl Stack for View<'_> {
    fn id(&self) -> StackId {
        self.state.push_self();
        if let Err(error) = walk::note_thread(self.state) {
            tracing::warn!(%error, "a step may end early");
        }
        stack_id(&self.context.watch, self.state)
    }

    fn depth(&self) -> usize {
        self.state.depth() - self.passed
    }

    fn state_of(&self, stack: StackId) -> StackState {
        let look = |other: State| match () {
            () if stack.run != self.context.watch.hosted.run_of(self.state, other) => StackState::Finished,
            () if other.is_suspended() && stack.run != 0 => StackState::Waiting,
            () if other.is_suspended() => StackState::Suspended,
            () if other.level(0).is_some() => StackState::Active,
            () => StackState::Finished,
        };
        walk::with_thread(self.state, stack.stack, look).unwrap_or(StackState::Finished)
    }

    fn remaining(&self, step: Step) -> Remaining {
        self.context.remaining(step)
    }
}
