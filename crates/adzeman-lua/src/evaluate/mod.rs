//! Evaluating text in a frame: names, the limit, and what came of it.
//!
//! The text is compiled with an environment of its own that looks names up where they are (locals, captured, `event` and
//! `host`, globals), and runs on a fresh coroutine under a limit of instructions. Names are looked up when they are used,
//! so an expression that reads one local costs one look.

mod host_values;
mod json;
mod kept;
mod limited;
mod names;
mod quick;
mod words;

use std::cell::Cell;
use std::rc::Rc;

use adzeman_core::engine::{EngineError, Supervisor};
use adzeman_core::evaluation::{Allowance, Cancel};
use adzeman_core::sharing::Shared;
use mlua::{Lua, WeakLua};

use crate::dialect::{Dialect as _, Version};
use crate::ffi::calls::Resumed;
use crate::ffi::guard;
use crate::ffi::state::{Slot, State};
use crate::ffi::watch::Watch;
use crate::ffi::{proxy, walk};
use crate::look::Shown;
use crate::scope::{self, Target};
use crate::text::expressions::with_environment;
use crate::text::nesting;

pub(crate) use json::from_lua;
pub(crate) use quick::{Scope, holds, of_tree};
pub(crate) use words::{FORWARDING, is_evaluated, is_of_binding};

use kept::Kept;
use names::Names;
use words::{EXPRESSION, error_text, looks_like_statement, tidy, with_column};

const YIELDS: &str = "the text yields, and nobody would resume it; call what it needs in a coroutine of its own";
const WAITS: &str = "the text calls an asynchronous function of the host, which waits; nothing can come while the script is held, so \
                     the call was given up where it was; let the script make it, and stop behind it";

/// Evaluates texts in one state.
pub(crate) struct Evaluator {
    main: State,
    watch: Rc<Watch>,
    shown: Rc<Shown>,
    supervisor: Shared<dyn Supervisor>,
    /// The binding, which knows what the state holds.
    lua: WeakLua,
    names: Names,
    kept: Kept,
    /// Finalizers given by evaluations that had to be cut off.
    finalizers_cut_off: Cell<usize>,
}

impl Evaluator {
    pub(crate) fn new(lua: &Lua, watch: Rc<Watch>, shown: Rc<Shown>, supervisor: Shared<dyn Supervisor>) -> Self {
        Self {
            main: watch.main,
            watch,
            shown,
            supervisor,
            lua: lua.weak(),
            names: Names::default(),
            kept: Kept::default(),
            finalizers_cut_off: Cell::new(0),
        }
    }

    /// Compiles `text` as an expression, or else as statements, with an environment of its own; pushes the function and
    /// answers the number of the environment.
    pub(crate) fn compile(&self, state: State, text: &str) -> Result<i64, EngineError> {
        nesting::check_typed(text).map_err(EngineError::Syntax)?;
        let text = &*with_environment(text);
        let as_expression = state.load(&format!("return {text}"), EXPRESSION);
        if let Err(expression_error) = as_expression {
            let statement = state.load(text, EXPRESSION);
            statement
                .map_err(|error| if looks_like_statement(text) { error } else { expression_error })
                .map_err(|error| with_column(tidy(error), text))?;
        }
        let id = self.names.last_environment.get() + 1;
        self.names.last_environment.set(id);
        proxy::push_environment(state, id)?;
        state.set_environment(-2);
        Ok(id)
    }

    /// Runs the function on top of `state`, which is popped, within what it may take, with the extra arguments of the frame, and leaves
    /// its results; answers how many.
    pub(crate) fn run(
        &self,
        state: State,
        environment: i64,
        target: Option<Target>,
        allowance: &Allowance,
    ) -> Result<i32, EngineError> {
        let coroutine = self.push_guarded(state, 0, false)?;
        let arguments = target.map_or(0, |target| scope::push_varargs(target, coroutine));
        self.run_guarded(state, (coroutine, arguments), environment, target, allowance)
    }

    /// The same with the `arguments` values on top as arguments, and the function below them.
    fn run_with(
        &self,
        state: State,
        arguments: i32,
        environment: i64,
        target: Target,
        allowance: &Allowance,
    ) -> Result<i32, EngineError> {
        let coroutine = self.push_guarded(state, arguments, false)?;
        self.run_guarded(state, (coroutine, arguments), environment, Some(target), allowance)
    }

    fn run_guarded(
        &self,
        state: State,
        (coroutine, arguments): (State, i32),
        environment: i64,
        target: Option<Target>,
        allowance: &Allowance,
    ) -> Result<i32, EngineError> {
        let limited = self.limit(state, coroutine, allowance);
        let count = self.within(environment, target, || self.resume(state, coroutine, 1 + arguments));
        limited.end(count)
    }

    /// Pushes a thread in the place of the function with `arguments` arguments on top of `state`, with them, and below them what
    /// catches all that they raise; what is raised is reported to whoever waits for errors if `reports`.
    fn push_guarded(&self, state: State, arguments: i32, reports: bool) -> Result<State, EngineError> {
        let coroutine = if reports { state.push_thread()? } else { push_spare_thread(state)? };
        let position = state.top() - 1 - arguments;
        coroutine.push_function(if reports { guard::guard_and_report } else { guard::guard })?;
        state.insert(position);
        state.move_to(coroutine, 1 + arguments);
        Ok(coroutine)
    }

    /// Does `work`, an evaluation in which names are looked up in a frame.
    fn within<T>(&self, environment: i64, target: Option<Target>, work: impl FnOnce() -> T) -> T {
        let before = (self.names.target.replace(target), self.names.environment.replace(environment));
        let outcome = work();
        self.names.target.set(before.0);
        self.names.environment.set(before.1);
        outcome
    }

    /// Resumes a thread of [`push_guarded`](Self::push_guarded), which lies on top of `state`, and puts what it returned in its
    /// place; answers how many values.
    fn resume(&self, state: State, coroutine: State, arguments: i32) -> Result<i32, EngineError> {
        let (outcome, count) = coroutine.resume(state, arguments);
        let position = state.top();
        let result = match outcome {
            Resumed::Finished => self.guarded(state, coroutine, count),
            Resumed::Yielded if is_pending(coroutine) => Err(EngineError::Raised(WAITS.to_owned())),
            Resumed::Yielded => Err(EngineError::Raised(YIELDS.to_owned())),
            Resumed::Failed => {
                coroutine.move_to(state, 1);
                Err(EngineError::Raised(error_text(state)))
            }
        };
        if outcome != Resumed::Finished {
            coroutine.close_thread(state);
        } else if !self.watch.bounds.is_open() && !self.watch.bounds.is_over() {
            keep_spare_thread(state, position, coroutine);
        }
        match result {
            Ok(_) => state.remove(position),
            Err(_) => state.cut_to(position - 1),
        }
        result
    }

    /// Takes what [`guard::guard`] answered.
    fn guarded(&self, state: State, coroutine: State, count: i32) -> Result<i32, EngineError> {
        let status = coroutine.integer_at(-count);
        coroutine.move_to(state, count - 1);
        match status {
            Some(guard::DONE) => Ok(count - 1),
            Some(guard::OUT_OF_MEMORY) => {
                self.watch.bounds.is_over_memory();
                Err(EngineError::Runtime("not enough memory".to_owned()))
            }
            _ => {
                let text = error_text(state);
                if Version::REFUSES_TO_YIELD == Some(text.as_str()) {
                    return Err(EngineError::Raised(YIELDS.to_owned()));
                }
                if Version::NO_MEMORY_FOR_BUFFER == Some(text.as_str()) {
                    self.watch.bounds.is_over_memory();
                }
                Err(EngineError::Raised(text))
            }
        }
    }

    /// Runs the function on top of `state` as the script itself would: without a limit but that on memory, until it is
    /// cancelled, and with breakpoints honoured. Answers how many results it leaves.
    pub(crate) fn run_openly(
        &self,
        state: State,
        environment: i64,
        target: Option<Target>,
        cancel: &Cancel,
    ) -> Result<i32, EngineError> {
        let coroutine = self.push_guarded(state, 0, true)?;
        state.push_copy(-1);
        walk::note_thread(state)?;
        let limited = self.limit_openly(state, coroutine, cancel);
        let running = self.watch.set_running(Some(coroutine));
        let outcome = self
            .watch
            .openly(|| self.within(environment, target, || self.watch.loudly(|| self.resume(state, coroutine, 1))));
        self.watch.set_running(running);
        limited.end(outcome)
    }
}

/// Whether an asynchronous function of the host has yielded, because it waits for something.
fn is_pending(coroutine: State) -> bool {
    #[cfg(feature = "async")]
    return coroutine.top() > 0 && coroutine.light_address_at(-1) == Lua::poll_pending().0 as usize;
    #[cfg(not(feature = "async"))]
    {
        let _ = coroutine;
        false
    }
}

/// Pushes a thread to evaluate on: that of the last evaluation, or a new one. Scripts that hold it can do nothing with it: while
/// nothing runs on it, it is a coroutine that has ended.
fn push_spare_thread(state: State) -> Result<State, EngineError> {
    state.push_slot(Slot::Spare);
    let Some(spare) = state.thread_at(-1) else {
        state.pop(1);
        return state.push_thread();
    };
    // Its place stays.
    state.push_bool(false);
    state.set_slot(Slot::Spare)?;
    Ok(spare)
}

/// Keeps the thread at `position`, which has ended without being cut off, for the next evaluation.
fn keep_spare_thread(state: State, position: i32, thread: State) {
    let top = state.top();
    thread.cut_to(0);
    state.push_copy(position);
    if let Err(error) = state.set_slot(Slot::Spare) {
        tracing::debug!(%error, "the next evaluation makes its own thread");
    }
    state.cut_to(top);
}
