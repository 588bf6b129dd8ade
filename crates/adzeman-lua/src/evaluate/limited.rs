//! What an evaluation may take, from its beginning to its end.

use std::time::Duration;

use adzeman_core::engine::EngineError;
use adzeman_core::evaluation::{Allowance, Cancel};
use mlua::Lua;

use super::Evaluator;
use crate::ffi::bounds::Outer;
use crate::ffi::limit;
use crate::ffi::state::State;

/// Time for a finalizer that an evaluation has given, in the middle of whatever the host does.
const FINALIZED_WITHIN: Duration = Duration::from_millis(20);
/// Such finalizers that are cut off in the life of a state; after them, none is run.
const MOST_CUT_OFF: usize = 10;

impl Evaluator {
    /// Limits what runs on a thread made for it.
    pub(super) fn limit<'a>(&'a self, state: State, coroutine: State, allowance: &Allowance) -> Limited<'a> {
        let before = self.limit_memory(allowance.memory_bytes);
        // A state that is not the binding's own is counted.
        let counted = before.is_none().then(|| limit::counted_bytes(state).saturating_add(allowance.memory_bytes));
        let outer = self.watch.bounds.begin(coroutine, allowance, counted, limit::begin(coroutine));
        Limited { evaluator: self, state, memory_before: before, outer: Some(outer) }
    }

    /// Limits only how much memory it takes, where the binding sees to that.
    pub(super) fn limit_openly<'a>(&'a self, state: State, coroutine: State, cancel: &Cancel) -> Limited<'a> {
        let memory_bytes = self.supervisor.allowance().memory_bytes;
        let before = self.limit_memory(memory_bytes);
        let outer = self.watch.bounds.begin_open(coroutine, cancel, memory_bytes, limit::Changed::default());
        Limited { evaluator: self, state, memory_before: before, outer: Some(outer) }
    }

    /// Has the binding refuse more memory than `bytes` beyond what is used; a stricter limit stays. Answers the one before.
    pub(super) fn limit_memory(&self, bytes: usize) -> Option<(Lua, usize)> {
        let lua = self.lua.try_upgrade()?;
        let most = lua.used_memory().saturating_add(bytes);
        let before = lua.set_memory_limit(most).ok()?;
        if before != 0 && before < most {
            let _ = lua.set_memory_limit(before);
        }
        Some((lua, before))
    }

    /// Runs a finalizer that an evaluation has given, with its object on top of `state`, for a moment at most. After some that
    /// had to be cut off, no more are run: there may be as many as there were evaluations.
    pub(crate) fn finalize(&self, state: State) {
        if self.finalizers_cut_off.get() >= MOST_CUT_OFF {
            return;
        }
        let allowance = Allowance { time: FINALIZED_WITHIN, ..self.supervisor.allowance() };
        let finalized = self.push_guarded(state, 1, false).and_then(|coroutine| {
            let limited = self.limit(state, coroutine, &allowance);
            let count = self.watch.quietly(|| self.resume(state, coroutine, 2));
            limited.end(count)
        });
        match finalized {
            Err(EngineError::OverTime { .. } | EngineError::OverLimit { .. } | EngineError::OverMemory { .. }) => {
                let count = self.finalizers_cut_off.get() + 1;
                self.finalizers_cut_off.set(count);
                tracing::warn!(count, most = MOST_CUT_OFF, "a finalizer that an evaluation has given was cut off");
            }
            Err(error) => tracing::warn!(%error, "a finalizer that an evaluation has given failed"),
            Ok(_) => {}
        }
    }
}

/// An evaluation that is limited, until this is dropped.
pub(super) struct Limited<'a> {
    evaluator: &'a Evaluator,
    state: State,
    /// The binding, with the limit on memory that it had.
    memory_before: Option<(Lua, usize)>,
    outer: Option<Outer>,
}

impl Limited<'_> {
    /// It is done, and came to `count` values on the state. What was cut off came to nothing.
    pub(super) fn end(mut self, count: Result<i32, EngineError>) -> Result<i32, EngineError> {
        match self.put_back() {
            Some(why) => {
                self.state.pop(count.unwrap_or(0));
                Err(why)
            }
            None => count,
        }
    }

    fn put_back(&mut self) -> Option<EngineError> {
        let (held, over) = self.evaluator.watch.bounds.end(self.outer.take()?);
        if let Some((lua, before)) = &self.memory_before
            && let Err(error) = lua.set_memory_limit(*before)
        {
            tracing::warn!(%error, "the limit on memory could not be put back");
        }
        limit::end(self.state, held);
        // An interrupt that came meanwhile left the limit where it was; what it was for is not forgotten.
        self.evaluator.watch.look_soon();
        over
    }
}

impl Drop for Limited<'_> {
    fn drop(&mut self) {
        self.put_back();
    }
}
