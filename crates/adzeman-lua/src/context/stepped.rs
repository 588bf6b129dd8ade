//! What a step has left behind: which of the functions that were on its stack when it began are there still, and what the one that
//! it began in has returned.
//!
//! A function is known by its depth. As long as a call goes on, no other can begin at its depth or below, so the first one that
//! does, or the first return there, says that it is over, by whatever: an error, a tail call, or its own return.

use adzeman_core::stepping::{Remaining, Step};
use adzeman_core::value::Value;

use super::Context;
use super::stacks::stack_id;
use crate::dialect::{Dialect as _, Version};
use crate::ffi::activation::Activation;
use crate::ffi::state::State;

/// What is known of a step.
struct Stepped {
    step: Step,
    remaining: Remaining,
    /// Whether the call that it began in may return still, itself or by what took its place.
    may_return: bool,
    returned: Option<Vec<Value>>,
}

impl Stepped {
    fn of(step: Step) -> Self {
        let remaining = Remaining { depth: step.depth(), any_of_script: true };
        Self { step, remaining, may_return: true, returned: None }
    }
}

/// What is known of the last step, if anything is but that it began.
#[derive(Default)]
pub(super) struct LastStep(Option<Stepped>);

impl LastStep {
    fn of(&mut self, step: Step) -> &mut Stepped {
        let held = self.0.take().filter(|held| held.step == step);
        self.0.insert(held.unwrap_or_else(|| Stepped::of(step)))
    }
}

impl Context {
    pub(super) fn remaining(&self, step: Step) -> Remaining {
        self.calls.last_step.borrow_mut().of(step).remaining
    }

    /// What was returned by the call that the last step came out of.
    pub(super) fn take_returned(&self) -> Option<Vec<Value>> {
        self.calls.last_step.borrow_mut().0.as_mut()?.returned.take()
    }

    /// A function is called, in the place of its caller if `is_tail`.
    pub(super) fn follow_call(&self, state: State, is_tail: bool) {
        let Some((step, depth)) = self.step_on(state) else { return };
        // Its caller may be there still.
        let depth = if is_tail && Version::TAIL_CALLS_MOVE { depth - 1 } else { depth };
        let is_in_place = is_tail && depth == step.depth();
        self.leave(state, step, depth, is_in_place, None);
    }

    /// A function returns.
    pub(super) fn follow_return(&self, state: State, function: &Activation) {
        let Some((step, depth)) = self.step_on(state) else { return };
        let is_it = depth == step.depth() && self.calls.last_step.borrow_mut().of(step).may_return;
        let returned = if is_it { self.transferred(state, function) } else { None };
        self.leave(state, step, depth, false, returned);
    }

    /// The step under way, if it is one of this stack, and how many functions are on that.
    fn step_on(&self, state: State) -> Option<(Step, usize)> {
        let step = self.need.borrow().returns_of?;
        (step.stack() == stack_id(&self.watch, state)).then(|| (step, state.depth()))
    }

    /// What was at this depth is over, if it was there when the step began.
    fn leave(&self, state: State, step: Step, depth: usize, may_return: bool, returned: Option<Vec<Value>>) {
        let mut last_step = self.calls.last_step.borrow_mut();
        let held = last_step.of(step);
        if depth <= step.depth() {
            held.may_return &= may_return;
        }
        held.returned = held.returned.take().or(returned);
        if depth <= held.remaining.depth {
            let below = state.depth() - depth + 1;
            let any_of_script =
                (below..).map_while(|level| state.level(level)).any(|function| !function.info().is_native);
            held.remaining = Remaining { depth: depth - 1, any_of_script };
        }
    }

    /// The values that a function is about to return.
    fn transferred(&self, state: State, function: &Activation) -> Option<Vec<Value>> {
        let (first, count) = function.transferred()?;
        let top = state.top();
        let values = (first..first + count).map(|number| {
            function.push_local(number);
            self.shown.describe(state, -1)
        });
        let values = values.collect::<Result<Vec<_>, _>>();
        state.cut_to(top);
        values.ok()
    }
}
