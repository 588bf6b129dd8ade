//! Steps as a pure state machine: over, into, out.
//!
//! A step remembers where it began. At each line the engine reaches, [`Step::arrives`] says whether that is the step's
//! end. Nothing is counted while the script runs, so an error that unwinds ten frames, or a coroutine that is never
//! resumed, cannot throw the step off.

use serde::{Deserialize, Serialize};

/// Which step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StepKind {
    /// To the next line of this function, or of its caller when it returns.
    Over,
    /// To the next line, wherever it is.
    Into,
    /// To the next line of the caller.
    Out,
}

/// One stack of script frames: the main one of a context, or a coroutine. Opaque; equal for the same stack while it is
/// alive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct StackId {
    /// Where it is.
    pub stack: usize,
    /// Which run of it, where the host resumes it and may use it again; 0 otherwise.
    pub run: usize,
}

impl StackId {
    /// A stack that is never used again.
    #[must_use]
    pub fn of(stack: usize) -> Self {
        Self { stack, run: 0 }
    }
}

/// What became of the stack a step began on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StackState {
    /// It runs, or waits for a coroutine that it resumed.
    Active,
    /// It yielded to the script that resumed it, or may have.
    Suspended,
    /// It yielded to the host, which is to resume it: an asynchronous function, or a coroutine that the host schedules.
    Waiting,
    /// It returned or failed.
    Finished,
}

/// What is left of the functions that were on a stack when a step began.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Remaining {
    /// How many: a call that has ended is not among them, nor is another one in its place.
    pub depth: usize,
    /// Whether any of them is one of the script.
    pub any_of_script: bool,
}

/// What a step needs to know of the line just reached. Asked only when a step is under way, since counting frames
/// costs.
pub trait Stack {
    /// The stack this line runs on.
    fn id(&self) -> StackId;
    /// How many frames that stack holds, at least 1.
    fn depth(&self) -> usize;
    /// What became of another stack of this context.
    fn state_of(&self, stack: StackId) -> StackState;
    /// What is left of those that were there when a step began. An engine that cannot tell takes whatever is at the depth of a
    /// call as that call.
    fn remaining(&self, step: Step) -> Remaining {
        Remaining { depth: step.depth(), any_of_script: true }
    }
}

/// A step under way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    kind: StepKind,
    from: StackId,
    depth: usize,
    number: u64,
}

impl Step {
    /// A step that begins at the top of `stack`.
    #[must_use]
    pub fn begin(kind: StepKind, stack: &dyn Stack) -> Self {
        Self { kind, from: stack.id(), depth: stack.depth(), number: 0 }
    }

    /// The same step, told apart from others that begin at the same place.
    #[must_use]
    pub fn numbered(self, number: u64) -> Self {
        Self { number, ..self }
    }

    /// Which step it is.
    #[must_use]
    pub fn kind(self) -> StepKind {
        self.kind
    }

    /// The stack that it began on.
    #[must_use]
    pub fn stack(self) -> StackId {
        self.from
    }

    /// How deep the function is that the step began in.
    #[must_use]
    pub fn depth(self) -> usize {
        self.depth
    }

    /// Whether the line just reached, at the top of `stack`, ends the step.
    #[must_use]
    pub fn arrives(self, stack: &dyn Stack) -> bool {
        if stack.id() != self.from {
            // Another stack: either called from ours, or ours yielded or ended and this one goes on, or it has nothing to do
            // with ours, which waits for the host.
            return match stack.state_of(self.from) {
                StackState::Active => self.kind == StepKind::Into,
                StackState::Waiting => false,
                StackState::Suspended | StackState::Finished => true,
            };
        }
        let is_new = || {
            let remaining = stack.remaining(self);
            remaining.any_of_script && stack.depth() > remaining.depth
        };
        // Once all that the script has called is over, what the host calls next is in the place of that.
        match self.kind {
            StepKind::Into => true,
            StepKind::Over => stack.depth() <= self.depth && !is_new(),
            StepKind::Out => stack.depth() < self.depth && !is_new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct At(usize, usize, StackState);

    impl Stack for At {
        fn id(&self) -> StackId {
            StackId::of(self.0)
        }
        fn depth(&self) -> usize {
            self.1
        }
        fn state_of(&self, _: StackId) -> StackState {
            self.2
        }
    }

    #[track_caller]
    fn check(kind: StepKind, here: At, expected: bool) {
        let step = Step::begin(kind, &At(1, 3, StackState::Active));
        assert_eq!(step.arrives(&here), expected);
    }

    #[test]
    fn over_stays_at_its_depth_or_goes_up() {
        use StackState::Active;
        check(StepKind::Over, At(1, 4, Active), false);
        check(StepKind::Over, At(1, 3, Active), true);
        check(StepKind::Over, At(1, 2, Active), true);
    }

    #[test]
    fn out_goes_up_only() {
        use StackState::Active;
        check(StepKind::Out, At(1, 3, Active), false);
        check(StepKind::Out, At(1, 2, Active), true);
    }

    struct Behind(At, Remaining);

    impl Stack for Behind {
        fn id(&self) -> StackId {
            self.0.id()
        }
        fn depth(&self) -> usize {
            self.0.depth()
        }
        fn state_of(&self, stack: StackId) -> StackState {
            self.0.state_of(stack)
        }
        fn remaining(&self, _: Step) -> Remaining {
            self.1
        }
    }

    #[test]
    fn no_step_takes_another_call_for_the_one_it_has_left() {
        let check = |kind, depth, remaining, any_of_script, expected| {
            let step = Step::begin(kind, &At(1, 3, StackState::Active));
            let remaining = Remaining { depth: remaining, any_of_script };
            assert_eq!(step.arrives(&Behind(At(1, depth, StackState::Active), remaining)), expected);
        };
        check(StepKind::Over, 3, 3, true, true);
        check(StepKind::Over, 3, 2, true, false);
        check(StepKind::Over, 2, 2, true, true);
        check(StepKind::Out, 2, 1, true, false);
        check(StepKind::Out, 1, 1, true, true);
        check(StepKind::Over, 3, 2, false, true);
        check(StepKind::Out, 3, 2, false, false);
    }

    #[test]
    fn into_ends_anywhere() {
        check(StepKind::Into, At(2, 9, StackState::Active), true);
    }

    #[test]
    fn what_waits_for_the_host_is_waited_for() {
        for kind in [StepKind::Over, StepKind::Into, StepKind::Out] {
            check(kind, At(2, 1, StackState::Waiting), false);
        }
    }

    #[test]
    fn a_coroutine_called_from_the_stack_is_stepped_over_and_one_that_was_left_is_not_waited_for() {
        check(StepKind::Over, At(2, 1, StackState::Active), false);
        check(StepKind::Over, At(2, 1, StackState::Suspended), true);
        check(StepKind::Out, At(2, 9, StackState::Finished), true);
    }
}
