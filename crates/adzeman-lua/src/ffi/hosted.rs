//! Coroutines that the host itself resumes. Each run of one has a number, from its first line to its last: the binding uses a
//! coroutine again whose run has ended.

use std::cell::{Cell, RefCell};

use adzeman_core::engine::EngineError;

use super::state::{Slot, State, Type};

/// What is known of the runs that the host resumes.
#[derive(Default)]
pub(crate) struct Hosted {
    /// The number of the last run that began; 0 before the first.
    last: Cell<usize>,
    /// The coroutines that the host has resumed at this moment, each with the thread on which it did.
    resumed: RefCell<Vec<(State, State)>>,
}

impl Hosted {
    /// The host resumes a coroutine, at a moment when `by` runs.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(super) fn begin(&self, coroutine: State, by: State) -> Result<(), EngineError> {
        self.resumed.borrow_mut().push((coroutine, by));
        if !coroutine.is_suspended() {
            self.last.set(self.last.get() + 1);
            note_run(by, coroutine, Some(self.last.get()))?;
        }
        Ok(())
    }

    /// A line of a coroutine is reached that nobody said is resumed. Unless a script of the thread that runs as far as is known has
    /// resumed it, the host has, in a way that leaves no trace. When such a run ends is not known.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn meet(
        &self,
        coroutine: State,
        is_resumed_by_script: impl FnOnce() -> bool,
    ) -> Result<(), EngineError> {
        let is_known = self.resumed.borrow().iter().any(|(held, _)| *held == coroutine);
        if is_known || self.run_of(coroutine, coroutine) != 0 || is_resumed_by_script() {
            return Ok(());
        }
        self.last.set(self.last.get() + 1);
        note_run(coroutine, coroutine, Some(self.last.get()))
    }

    /// The coroutine has yielded, returned or failed. Its run goes on if it has yielded.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(super) fn end(&self) -> Result<(), EngineError> {
        match self.resumed.borrow_mut().pop() {
            Some((coroutine, by)) if !coroutine.is_suspended() => note_run(by, coroutine, None),
            _ => Ok(()),
        }
    }

    /// The coroutine that the host has resumed on a thread.
    pub(crate) fn resumed_on(&self, by: State) -> Option<State> {
        self.resumed.borrow().iter().rev().find(|(_, held)| *held == by).map(|(coroutine, _)| *coroutine)
    }

    /// The run of a coroutine that the host resumes, while it lasts; 0 for any other. `state` is one on which values can be put.
    pub(crate) fn run_of(&self, state: State, coroutine: State) -> usize {
        let top = state.top();
        if self.last.get() == 0 || state.push_slot(Slot::Hosted) != Type::Table {
            state.cut_to(top);
            return 0;
        }
        coroutine.push_self();
        coroutine.move_to(state, 1);
        state.raw_get(top + 1);
        let run = state.integer_at(-1).and_then(|run| usize::try_from(run).ok());
        state.cut_to(top);
        run.unwrap_or(0)
    }

    /// A script resumes the coroutine: it is the script's from now on.
    pub(super) fn is_resumed_by_script(&self, state: State, coroutine: State) -> Result<(), EngineError> {
        if self.last.get() == 0 || self.run_of(state, coroutine) == 0 {
            Ok(())
        } else {
            note_run(state, coroutine, None)
        }
    }
}

/// Notes which run a coroutine is in, without keeping it alive.
fn note_run(state: State, coroutine: State, run: Option<usize>) -> Result<(), EngineError> {
    let top = state.top();
    state.push_table_in(Slot::Hosted, Some(b"k"))?;
    coroutine.push_self();
    coroutine.move_to(state, 1);
    match run.and_then(|run| i64::try_from(run).ok()) {
        Some(run) => state.push_integer(run),
        None => state.push_nil(),
    }
    let noted = state.raw_set(top + 1);
    state.cut_to(top);
    noted
}
