//! The call that a step began in: whether it goes on, and what it has returned.
//!
//! A call is known by its stack and its depth there. As long as it goes on, no other can begin at that depth, so the first one that
//! does, or the first return at it or below, says that it is over.

use adzeman_core::stepping::{CallState, Step};
use adzeman_core::value::Value;

use super::Context;
use super::stacks::stack_id;
use crate::ffi::activation::Activation;
use crate::ffi::state::State;

/// What became of the call that a step began in.
#[derive(Default)]
pub(super) struct Stepped {
    step: Option<Step>,
    state: Option<CallState>,
    returned: Option<Vec<Value>>,
}

impl Stepped {
    fn state_for(&self, step: Step) -> CallState {
        self.state.filter(|_| self.step == Some(step)).unwrap_or(CallState::UnderWay)
    }
}

impl Context {
    /// What became of the call that a step began in.
    pub(super) fn call_of(&self, step: Step) -> CallState {
        self.calls.stepped.borrow().state_for(step)
    }

    /// What was returned by the call that the last step came out of.
    pub(super) fn take_returned(&self) -> Option<Vec<Value>> {
        self.calls.stepped.borrow_mut().returned.take()
    }

    /// A function is called.
    pub(super) fn follow_call(&self, state: State, is_tail: bool) {
        let Some((step, depth)) = self.step_in_question(state) else { return };
        if depth == step.depth() && is_tail {
            self.becomes(step, CallState::Replaced, None);
        } else if depth <= step.depth() {
            // An error has ended the call, and what caught it calls another one.
            self.becomes(step, self.left(state), None);
        }
    }

    /// A function returns.
    pub(super) fn follow_return(&self, state: State, function: &Activation) {
        let Some((step, depth)) = self.step_in_question(state).filter(|(step, depth)| *depth <= step.depth()) else {
            return;
        };
        let returned = if depth == step.depth() { self.transferred(state, function) } else { None };
        self.becomes(step, self.left(state), returned);
    }

    /// The step under way, if its call may go on on this stack, and how many functions are on that.
    fn step_in_question(&self, state: State) -> Option<(Step, usize)> {
        let step = self.need.borrow().returns_of?;
        let is_over = matches!(self.call_of(step), CallState::Left { .. });
        (!is_over && step.stack() == stack_id(&self.watch, state)).then(|| (step, state.depth()))
    }

    fn left(&self, state: State) -> CallState {
        let has_caller = (1..).map_while(|level| state.level(level)).any(|function| !function.info().is_native);
        CallState::Left { has_caller }
    }

    fn becomes(&self, step: Step, state: CallState, returned: Option<Vec<Value>>) {
        *self.calls.stepped.borrow_mut() = Stepped { step: Some(step), state: Some(state), returned };
    }

    /// The values that a function is about to return.
    fn transferred(&self, state: State, function: &Activation) -> Option<Vec<Value>> {
        let (first, count) = function.transferred();
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
