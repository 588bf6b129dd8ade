//! Evaluating text in a frame: names, the limit, and what came of it.
//!
//! The text is compiled with an environment of its own that looks names up where they are (locals, captured, `event` and
//! `host`, globals), and runs on a fresh coroutine under a limit of instructions. Names are looked up when they are used,
//! so an expression that reads one local costs one look.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::ffi::{CStr, c_int};
use std::rc::Rc;
use std::time::Duration;

use adzeman_core::breakpoint::Breakpoint;
use adzeman_core::engine::{EngineError, NamesUsed};
use adzeman_core::evaluation::{Allowance, Cancel};
use adzeman_core::path::Path;
use adzeman_core::path::{Root, TreePath};

use mlua::Lua;

use crate::context::Context;
use crate::expressions::{column_of_mistake, free_names};
use crate::ffi::state::{Resumed, Slot, State, Type};
use crate::ffi::{limit, proxy, walk};
use crate::limits::Outer;
use crate::nesting;
use crate::quick::{Quick, Scope};

/// A function on a stack whose names an evaluation sees.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Target {
    pub(crate) state: State,
    pub(crate) level: usize,
}

/// The evaluation under way.
#[derive(Default)]
pub(crate) struct Evaluation {
    target: Cell<Option<Target>>,
    environment: Cell<i64>,
    last_environment: Cell<i64>,
    /// The conditions of breakpoints, as far as they were understood.
    quick: RefCell<HashMap<u64, Option<Rc<Quick>>>>,
    /// Texts of breakpoints that are kept compiled.
    kept: Cell<usize>,
    /// How many results can be named: `it`, `it2` and so on.
    results: Cell<i64>,
    /// Finalizers given by evaluations that had to be cut off.
    finalizers_cut_off: Cell<usize>,
}

/// Where a name of the script is.
pub(crate) enum Place {
    /// A local variable, by its number.
    Local(Target, i32),
    /// A captured variable, by its number.
    Captured(Target, usize),
    /// Nowhere nearer.
    Global,
}

/// Where a name is.
enum Found {
    Local(Target, i32),
    Captured(Target, usize),
    Tree(Root),
    /// What was evaluated so many times ago, 1 for the last.
    Result(i64),
    Global,
}

/// The trees of the host's data, which have names of their own.
const ROOTS: [Root; 2] = [Root::Host, Root::Event];
/// Results of evaluations that can be named.
const MOST_RESULTS: i64 = 9;

/// Which result a name stands for.
fn result_number(name: &str) -> Option<i64> {
    match name.strip_prefix("it")? {
        "" => Some(1),
        number => number.parse().ok().filter(|number| (2..=MOST_RESULTS).contains(number)),
    }
}

impl Context {
    /// The frame an environment looks into, while its own evaluation runs. A function that outlives the evaluation it was
    /// made in sees the globals only.
    fn target(&self, environment: i64) -> Option<Target> {
        (self.evaluation.environment.get() == environment).then(|| self.evaluation.target.get()).flatten()
    }

    /// Where a name is that a script uses in a frame.
    pub(crate) fn place_of(&self, target: Option<Target>, name: &str) -> Place {
        let in_frame = target.and_then(|target| {
            local_number(target, name)
                .map(|number| Place::Local(target, number))
                .or_else(|| captured_number(target, name).map(|number| Place::Captured(target, number)))
        });
        in_frame.unwrap_or(Place::Global)
    }

    fn find(&self, environment: i64, name: &str) -> Found {
        let target = self.target(environment);
        match self.place_of(target, name) {
            Place::Local(target, number) => Found::Local(target, number),
            Place::Captured(target, number) => Found::Captured(target, number),
            Place::Global => self.find_beyond(target, name),
        }
    }

    /// What a name stands for that is no variable of the function: names that scripts made come first.
    fn find_beyond(&self, target: Option<Target>, name: &str) -> Found {
        let found = match (self.tree_named(name), result_number(name)) {
            (Some(root), _) => Found::Tree(root),
            (None, Some(number)) if number <= self.evaluation.results.get() => Found::Result(number),
            _ => return Found::Global,
        };
        if self.is_global(target, name) { Found::Global } else { found }
    }

    /// The place in the host's data that a path stands for, if it does: names that scripts made come first.
    pub(crate) fn tree_place(&self, target: Option<Target>, path: &Path) -> Option<TreePath> {
        let (name, rest) = path.split_name()?;
        let root = self.tree_named(name)?;
        let is_variable = !matches!(self.place_of(target, name), Place::Global) || self.is_global(target, name);
        (!is_variable).then_some(TreePath { root, path: rest })
    }

    fn tree_named(&self, name: &str) -> Option<Root> {
        match name {
            "host" => Some(Root::Host),
            "event" if self.host().has_event() => Some(Root::Event),
            _ => None,
        }
    }

    /// Whether scripts have made a global of this name.
    pub(crate) fn is_global(&self, target: Option<Target>, name: &str) -> bool {
        let state = self.main;
        let top = state.top();
        self.push_globals_at(state, target);
        let pushed = match ROOTS.iter().position(|root| root.name() == name) {
            Some(number) => {
                // Asked for by every condition on an event: its text is at hand.
                state.push_slot(Slot::RootNames);
                state.raw_get_index(-1, i64::try_from(number).unwrap_or(0) + 1);
                state.remove(state.top() - 1);
                true
            }
            None => state.push_bytes(name.as_bytes()).is_ok(),
        };
        let found = pushed && {
            state.raw_get(-2);
            state.type_at(-1) != Type::Nil
        };
        state.cut_to(top);
        found
    }

    /// Makes the texts of the names that stand for the host's data.
    pub(crate) fn prepare_names(&self) -> Result<(), EngineError> {
        self.main.push_table()?;
        for (number, root) in (1..).zip(ROOTS) {
            self.main.push_integer(number);
            self.main.push_bytes(root.name().as_bytes())?;
            self.main.raw_set(-3)?;
        }
        self.main.set_slot(Slot::RootNames)
    }

    /// Where the names of an expression are.
    pub(crate) fn names_used(&self, target: Option<Target>, text: &str) -> NamesUsed {
        let mut used = NamesUsed::default();
        for name in free_names(text) {
            match self.place_of(target, &name) {
                _ if name == "..." => used.of_function |= target.is_some(),
                Place::Local(..) | Place::Captured(..) => used.of_function |= name != "_ENV",
                Place::Global => {
                    let is_there =
                        !matches!(self.find_beyond(target, &name), Found::Global) || self.may_be_global(target, &name);
                    if !is_there && used.missing.is_none() {
                        used.missing = Some(name);
                    }
                }
            }
        }
        used
    }

    /// Whether a global of this name is there, or a metatable of the globals could make one up.
    fn may_be_global(&self, target: Option<Target>, name: &str) -> bool {
        let state = self.main;
        let top = state.top();
        self.push_globals_at(state, target);
        let made_up = state.push_metatable(-1);
        state.cut_to(top);
        made_up || self.is_global(target, name)
    }

    /// Keeps the value at `index`, so that later expressions can name it.
    pub(crate) fn keep_result(&self, state: State, index: c_int) -> Result<(), EngineError> {
        let index = state.absolute(index);
        state.push_slot(Slot::Results);
        for number in (1..MOST_RESULTS).rev() {
            state.push_integer(number + 1);
            state.raw_get_index(-2, number);
            state.raw_set(-3)?;
        }
        state.push_integer(1);
        state.push_copy(index);
        state.raw_set(-3)?;
        state.pop(1);
        self.evaluation.results.set((self.evaluation.results.get() + 1).min(MOST_RESULTS));
        Ok(())
    }

    /// Forgets the results: they keep values of the script alive.
    pub(crate) fn forget_results(&self) -> Result<(), EngineError> {
        if self.evaluation.results.replace(0) == 0 {
            return Ok(());
        }
        self.main.push_table()?;
        self.main.set_slot(Slot::Results)
    }

    /// Pushes the value of a name that a script uses in a frame, without metamethods.
    pub(crate) fn push_raw_name(&self, state: State, target: Option<Target>, name: &str) -> Result<(), EngineError> {
        match self.place_of(target, name) {
            Place::Local(at, number) => push_local(at, number, state),
            Place::Captured(at, number) => push_captured(at, number, state),
            Place::Global => {
                self.push_globals_at(state, target);
                state.raw_get_field(-1, name)?;
                state.remove(state.top() - 1);
            }
        }
        Ok(())
    }

    /// Pushes the table that holds the globals as a frame sees them.
    pub(crate) fn push_globals_at(&self, state: State, target: Option<Target>) {
        match target {
            Some(target) => push_globals_of(target, state),
            None => state.push_globals(),
        }
    }

    /// Pushes the value of a name; false, and nothing pushed, when it is a global.
    pub(crate) fn push_name(&self, state: State, environment: i64, name: &str) -> Result<bool, EngineError> {
        match self.find(environment, name) {
            Found::Local(target, number) => push_local(target, number, state),
            Found::Captured(target, number) => push_captured(target, number, state),
            Found::Tree(root) => proxy::push_proxy(state, TreePath { root, path: Path::default() })?,
            Found::Result(number) => {
                state.push_slot(Slot::Results);
                state.raw_get_index(-1, number);
                state.swap();
                state.pop(1);
            }
            Found::Global => return Ok(false),
        }
        Ok(true)
    }

    /// Gives a name the value on top, which stays; false when it is a global.
    pub(crate) fn set_name(&self, state: State, environment: i64, name: &str) -> Result<bool, EngineError> {
        match self.find(environment, name) {
            Found::Local(target, number) => {
                if let Some(function) = target.state.level(target.level) {
                    state.push_copy(-1);
                    state.move_to(target.state, 1);
                    function.set_local(number);
                }
            }
            Found::Captured(target, number) => {
                state.push_copy(-1);
                state.move_to(target.state, 1);
                push_function_of(target);
                target.state.swap();
                target.state.set_captured(-2, number);
                target.state.pop(1);
            }
            Found::Tree(root) => {
                let why = "it stands for the host's data; change a field inside it".to_owned();
                return Err(EngineError::NotAssignable { name: root.name().to_owned(), why });
            }
            Found::Result(_) => {
                let why = "it stands for what was evaluated before; give a variable that value instead".to_owned();
                return Err(EngineError::NotAssignable { name: name.to_owned(), why });
            }
            Found::Global => return Ok(false),
        }
        Ok(true)
    }

    /// Pushes the table that holds the globals as the target's function sees them.
    pub(crate) fn push_globals_of_target(&self, state: State, environment: i64) {
        self.push_globals_at(state, self.target(environment));
    }

    /// Whether a name can be assigned to without making a new global.
    pub(crate) fn is_known_name(&self, target: Option<Target>, name: &str) -> Result<bool, EngineError> {
        let in_frame = target.is_some_and(|t| local_number(t, name).is_some() || captured_number(t, name).is_some());
        if in_frame {
            return Ok(true);
        }
        Ok(self.is_global(target, name))
    }

    /// Compiles `text` as an expression, or else as statements, with an environment of its own; pushes the function and
    /// answers the number of the environment.
    pub(crate) fn compile(&self, state: State, text: &str) -> Result<i64, EngineError> {
        nesting::check_typed(text).map_err(EngineError::Syntax)?;
        let as_expression = state.load(&format!("return {text}"), EXPRESSION);
        if let Err(expression_error) = as_expression {
            let statement = state.load(text, EXPRESSION);
            statement
                .map_err(|error| if looks_like_statement(text) { error } else { expression_error })
                .map_err(|error| with_column(tidy(error), text))?;
        }
        let id = self.evaluation.last_environment.get() + 1;
        self.evaluation.last_environment.set(id);
        proxy::push_environment(state, id)?;
        state.set_captured(-2, 1);
        Ok(id)
    }

    /// Runs the function on top of `state`, which is popped, within what it may take, and leaves its results; answers how many.
    pub(crate) fn run(
        &self,
        state: State,
        environment: i64,
        target: Option<Target>,
        allowance: &Allowance,
    ) -> Result<i32, EngineError> {
        let coroutine = self.push_guarded(state, 0, false)?;
        let arguments = target.map_or(0, |target| push_varargs(target, coroutine));
        let limited = self.limit(state, coroutine, allowance);
        let count = self.within(environment, target, || self.resume(state, coroutine, 1 + arguments));
        limited.end(count)
    }

    /// Pushes a thread in the place of the function with `arguments` arguments on top of `state`, with them, and below them what
    /// catches all that they raise; what is raised is reported to whoever waits for errors if `reports`.
    fn push_guarded(&self, state: State, arguments: i32, reports: bool) -> Result<State, EngineError> {
        let coroutine = if reports { state.push_thread()? } else { push_spare_thread(state)? };
        let position = state.top() - 1 - arguments;
        coroutine.push_function(if reports { limit::guard_and_report } else { limit::guard });
        state.insert(position);
        state.move_to(coroutine, 1 + arguments);
        Ok(coroutine)
    }

    /// Does `work`, an evaluation in which names are looked up in a frame.
    fn within<T>(&self, environment: i64, target: Option<Target>, work: impl FnOnce() -> T) -> T {
        let before = (self.evaluation.target.replace(target), self.evaluation.environment.replace(environment));
        let outcome = work();
        self.evaluation.target.set(before.0);
        self.evaluation.environment.set(before.1);
        outcome
    }

    /// Resumes a thread of [`push_guarded`](Self::push_guarded), which lies on top of `state`, and puts what it returned in its
    /// place; answers how many values.
    fn resume(&self, state: State, coroutine: State, arguments: i32) -> Result<i32, EngineError> {
        let (outcome, count) = coroutine.resume(state, arguments);
        let position = state.top();
        let result = match outcome {
            Resumed::Finished => self.guarded(state, coroutine, count),
            Resumed::Yielded => Err(EngineError::Raised(
                "the text yields, and nobody would resume it; call what it needs in a coroutine of its own".to_owned(),
            )),
            Resumed::Failed => {
                coroutine.move_to(state, 1);
                Err(EngineError::Raised(error_text(state)))
            }
        };
        if outcome != Resumed::Finished {
            coroutine.close_thread(state);
        } else if !self.bounds.is_open() && !self.bounds.is_over() {
            keep_spare_thread(state, position, coroutine);
        }
        match result {
            Ok(_) => state.remove(position),
            Err(_) => state.cut_to(position - 1),
        }
        result
    }

    /// Takes what [`limit::guard`] answered.
    fn guarded(&self, state: State, coroutine: State, count: i32) -> Result<i32, EngineError> {
        let status = coroutine.integer_at(-count);
        coroutine.move_to(state, count - 1);
        match status {
            Some(limit::DONE) => Ok(count - 1),
            Some(limit::OUT_OF_MEMORY) => {
                self.bounds.is_over_memory();
                Err(EngineError::Runtime("not enough memory".to_owned()))
            }
            _ => Err(EngineError::Raised(error_text(state))),
        }
    }

    /// Limits what runs on a thread made for it.
    fn limit<'a>(&'a self, state: State, coroutine: State, allowance: &Allowance) -> Limited<'a> {
        let before = self.limit_memory(allowance.memory_bytes);
        // A state that is not the binding's own is counted.
        let counted = before.is_none().then(|| limit::counted_bytes(state).saturating_add(allowance.memory_bytes));
        let outer = self.bounds.begin(coroutine, allowance, counted, limit::begin(coroutine));
        Limited { context: self, state, memory_before: before, outer: Some(outer) }
    }

    /// Limits only how much memory it takes, where the binding sees to that.
    fn limit_openly<'a>(&'a self, state: State, coroutine: State, cancel: &Cancel) -> Limited<'a> {
        let memory_bytes = self.supervisor().allowance().memory_bytes;
        let before = self.limit_memory(memory_bytes);
        let outer = self.bounds.begin_open(coroutine, cancel, memory_bytes, limit::Held::default());
        Limited { context: self, state, memory_before: before, outer: Some(outer) }
    }

    /// Has the binding refuse more memory than `bytes` beyond what is used; a stricter limit stays. Answers the one before.
    fn limit_memory(&self, bytes: usize) -> Option<(Lua, usize)> {
        let lua = self.lua()?;
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
        if self.evaluation.finalizers_cut_off.get() >= MOST_CUT_OFF {
            return;
        }
        let allowance = Allowance { time: FINALIZED_WITHIN, ..self.supervisor().allowance() };
        let finalized = self.push_guarded(state, 1, false).and_then(|coroutine| {
            let limited = self.limit(state, coroutine, &allowance);
            let count = self.quietly(|| self.resume(state, coroutine, 2));
            limited.end(count)
        });
        match finalized {
            Err(EngineError::OverTime { .. } | EngineError::OverLimit { .. } | EngineError::OverMemory { .. }) => {
                let count = self.evaluation.finalizers_cut_off.get() + 1;
                self.evaluation.finalizers_cut_off.set(count);
                tracing::warn!(count, most = MOST_CUT_OFF, "a finalizer that an evaluation has given was cut off");
            }
            Err(error) => tracing::warn!(%error, "a finalizer that an evaluation has given failed"),
            Ok(_) => {}
        }
    }

    /// Whether a breakpoint's condition holds in a function. Understood, or else compiled, once.
    pub(crate) fn condition(&self, target: Target, owner: &Breakpoint, text: &str) -> Result<bool, EngineError> {
        let state = target.state;
        if let Some(held) = self.quick(owner, text).and_then(|quick| quick.holds(self, state, Scope::Function(target)))
        {
            return Ok(held);
        }
        let top = state.top();
        let outcome = self.quietly(|| self.run_kept(target, owner, Slots::CONDITION, text));
        let holds = outcome.map(|count| count > 0 && state.bool_at(-count));
        state.cut_to(top);
        holds
    }

    /// Whether the condition of an event breakpoint holds, as far as the host alone can tell.
    pub(crate) fn condition_of_event(&self, state: State, owner: &Breakpoint, text: &str) -> Option<bool> {
        self.quick(owner, text)?.holds(self, state, Scope::Boundary)
    }

    fn quick(&self, owner: &Breakpoint, text: &str) -> Option<Rc<Quick>> {
        let mut known = self.evaluation.quick.borrow_mut();
        if known.len() > MOST_KEPT {
            known.clear();
        }
        known.entry(owner.id.0).or_insert_with(|| Quick::parse(text).map(Rc::new)).clone()
    }

    /// The text of an expression, evaluated in a function: a string as itself, anything else as its preview.
    pub(crate) fn text_of(
        &self,
        target: Target,
        owner: &Breakpoint,
        slot: usize,
        text: &str,
    ) -> Result<String, EngineError> {
        let state = target.state;
        let top = state.top();
        let outcome = self.quietly(|| {
            let count = self.run_kept(target, owner, Slots::FIRST_TEXT + slot, text)?;
            let values = (-count..0).map(|index| match state.type_at(index) {
                Type::String => Ok(state.with_bytes(index, |bytes| String::from_utf8_lossy(bytes).into_owned())),
                _ => self.preview(state, index).map(|(_, preview)| Some(preview)),
            });
            values.map(|value| value.map(Option::unwrap_or_default)).collect::<Result<Vec<_>, _>>()
        });
        state.cut_to(top);
        outcome.map(|values| values.join(", "))
    }

    /// Runs a statement in a function.
    pub(crate) fn run_statement(&self, target: Target, owner: &Breakpoint, text: &str) -> Result<(), EngineError> {
        let top = target.state.top();
        let outcome = self.quietly(|| self.run_kept(target, owner, Slots::STATEMENT, text));
        target.state.cut_to(top);
        outcome.map(|_| ())
    }

    /// Runs a text of a breakpoint, compiled once.
    fn run_kept(&self, target: Target, owner: &Breakpoint, slot: usize, text: &str) -> Result<i32, EngineError> {
        let state = target.state;
        let key = i64::try_from(owner.id.0).unwrap_or(0) * Slots::COUNT + i64::try_from(slot).unwrap_or(0);
        // An environment numbered by its text, below all numbers of single evaluations.
        let environment = -key;
        self.make_room_for_kept(state)?;
        state.push_slot(Slot::Conditions);
        state.raw_get_index(-1, key);
        if state.type_at(-1) != Type::Function {
            state.pop(1);
            nesting::check_typed(text).map_err(EngineError::Syntax)?;
            if slot == Slots::STATEMENT {
                state.load(text, STATEMENT).map_err(tidy)?;
            } else {
                state.load(&format!("return {text}"), CONDITION).map_err(tidy)?;
            }
            proxy::push_environment(state, environment)?;
            state.set_captured(-2, 1);
            state.push_integer(key);
            state.push_copy(-2);
            state.raw_set(-4)?;
            self.evaluation.kept.set(self.evaluation.kept.get() + 1);
        }
        self.run(state, environment, Some(target), &self.supervisor().allowance())
    }

    /// Forgets what was compiled for breakpoints: which of them are armed has changed.
    pub(crate) fn forget_kept(&self) {
        self.evaluation.quick.borrow_mut().clear();
        if self.evaluation.kept.replace(0) > 0 {
            let forgotten = self.main.push_table().and_then(|()| self.main.set_slot(Slot::Conditions));
            if let Err(error) = forgotten {
                tracing::warn!(%error, "texts of breakpoints that are gone are kept");
            }
        }
    }

    /// Forgets what was compiled for breakpoints that are long gone.
    fn make_room_for_kept(&self, state: State) -> Result<(), EngineError> {
        if self.evaluation.kept.get() > MOST_KEPT {
            self.evaluation.kept.set(0);
            state.push_table()?;
            state.set_slot(Slot::Conditions)?;
        }
        Ok(())
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
        let running = self.set_running(Some(coroutine));
        let outcome =
            self.openly(|| self.within(environment, target, || self.loudly(|| self.resume(state, coroutine, 1))));
        self.set_running(running);
        limited.end(outcome)
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
    state.push_nil();
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

/// An evaluation that is limited, until this is dropped.
struct Limited<'a> {
    context: &'a Context,
    state: State,
    /// The binding, with the limit on memory that it had.
    memory_before: Option<(Lua, usize)>,
    outer: Option<Outer>,
}

impl Limited<'_> {
    /// It is done, and came to `count` values on the state. What was cut off came to nothing.
    fn end(mut self, count: Result<i32, EngineError>) -> Result<i32, EngineError> {
        match self.put_back() {
            Some(why) => {
                self.state.pop(count.unwrap_or(0));
                Err(why)
            }
            None => count,
        }
    }

    fn put_back(&mut self) -> Option<EngineError> {
        let (held, over) = self.context.bounds.end(self.outer.take()?);
        if let Some((lua, before)) = &self.memory_before
            && let Err(error) = lua.set_memory_limit(*before)
        {
            tracing::warn!(%error, "the limit on memory could not be put back");
        }
        limit::end(self.state, held);
        // An interrupt that came meanwhile left the limit where it was; what it was for is not forgotten.
        self.context.look_soon();
        over
    }
}

impl Drop for Limited<'_> {
    fn drop(&mut self) {
        self.put_back();
    }
}

/// Time for a finalizer that an evaluation has given, in the middle of whatever the host does.
const FINALIZED_WITHIN: Duration = Duration::from_millis(20);
/// Such finalizers that are cut off in the life of a state; after them, none is run.
const MOST_CUT_OFF: usize = 10;

/// Which text of a breakpoint is compiled.
struct Slots;

impl Slots {
    const CONDITION: usize = 0;
    const STATEMENT: usize = 1;
    const FIRST_TEXT: usize = 2;
    /// More than a text has parts.
    const COUNT: i64 = 4096;
}

const _: () = assert!(Slots::COUNT > adzeman_core::breakpoint::MOST_PIECES as i64 + Slots::FIRST_TEXT as i64);

/// Texts of breakpoints kept compiled at one time.
const MOST_KEPT: usize = 1024;

/// The number of a local variable; of several with one name, that of the innermost.
fn local_number(target: Target, name: &str) -> Option<i32> {
    target.state.level(target.level)?.find_local(name)
}

fn captured_number(target: Target, name: &str) -> Option<usize> {
    push_function_of(target);
    let found = target.state.find_captured(-1, name);
    target.state.pop(1);
    found
}

/// Pushes a local variable onto `state`.
pub(crate) fn push_local(target: Target, number: i32, state: State) {
    if let Some(function) = target.state.level(target.level) {
        function.push_local(number);
        target.state.move_to(state, 1);
    }
}

/// Pushes a captured variable onto `state`.
pub(crate) fn push_captured(target: Target, number: usize, state: State) {
    push_function_of(target);
    target.state.push_captured(-1, number);
    target.state.swap();
    target.state.pop(1);
    target.state.move_to(state, 1);
}

pub(crate) fn push_function_of(target: Target) {
    match target.state.level(target.level) {
        Some(function) => function.push_function(),
        None => target.state.push_nil(),
    }
}

/// Pushes the globals as a function sees them, its `_ENV`, onto `state`.
pub(crate) fn push_globals_of(target: Target, state: State) {
    match captured_number(target, "_ENV") {
        Some(number) => push_captured(target, number, state),
        None => state.push_globals(),
    }
    if state.type_at(-1) != Type::Table {
        state.pop(1);
        state.push_globals();
    }
}

fn push_varargs(target: Target, onto: State) -> i32 {
    let Some(function) = target.state.level(target.level) else { return 0 };
    let mut count = 0;
    while count < 200 && function.push_local(-count - 1).is_some() {
        target.state.move_to(onto, 1);
        count += 1;
    }
    count
}

/// What was raised and lies on top, as text. A script's own conversions do not run; those of the host's error values do.
fn error_text(state: State) -> String {
    if let Some(text) = state.text_at(-1) {
        return strip_position(&text).to_owned();
    }
    state.native_text_at(-1).unwrap_or_else(|| {
        format!("it raised a value that is no text (a {})", format!("{:?}", state.type_at(-1)).to_lowercase())
    })
}

/// Adds where in the text the mistake is, as far as that can be told.
fn with_column(error: EngineError, text: &str) -> EngineError {
    match error {
        EngineError::Syntax(why) => match column_of_mistake(text, &why) {
            Some(column) => EngineError::Syntax(format!("{why}, at column {column}")),
            None => EngineError::Syntax(why),
        },
        other => other,
    }
}

fn tidy(error: EngineError) -> EngineError {
    match error {
        EngineError::Syntax(text) => EngineError::Syntax(strip_position(&text).to_owned()),
        other => other,
    }
}

/// What texts that are evaluated are called, as chunks: functions that they make are of no source.
const EXPRESSION: &CStr = c"=expression";
const CONDITION: &CStr = c"=condition";
const STATEMENT: &CStr = c"=statement";

/// Whether a chunk of this name was evaluated.
pub(crate) fn is_evaluated(chunk_name: &[u8]) -> bool {
    [EXPRESSION, CONDITION, STATEMENT].iter().any(|name| name.to_bytes() == chunk_name)
}

/// Drops `expression:1: ` from the front of a message: which line of a text it is that was typed as one says nothing.
fn strip_position(text: &str) -> &str {
    let prefixes = ["expression:", "condition:", "statement:"];
    let behind = prefixes.iter().find_map(|prefix| text.strip_prefix(prefix));
    let split = behind.and_then(|behind| behind.split_once(": "));
    split.filter(|(line, _)| line.parse::<u32>().is_ok()).map_or(text, |(_, message)| message)
}

fn looks_like_statement(text: &str) -> bool {
    let first = text.split(|c: char| !c.is_alphanumeric()).find(|word| !word.is_empty()).unwrap_or_default();
    let keywords = ["local", "if", "for", "while", "do", "repeat", "return", "goto", "function", "break"];
    let bytes = text.as_bytes();
    let assigns = (1..bytes.len())
        .any(|at| bytes[at] == b'=' && !b"=~<>".contains(&bytes[at - 1]) && bytes.get(at + 1) != Some(&b'='));
    keywords.contains(&first) || assigns
}

#[cfg(test)]
mod tests {
    use super::looks_like_statement;

    #[test]
    fn statements_are_told_from_expressions() {
        for text in ["x = 1", "local y", "t.a.b=2", "for i = 1, 2 do end"] {
            assert!(looks_like_statement(text), "{text}");
        }
        for text in ["x == 1", "a ~= b", "x <= 2", "f(1)", ""] {
            assert!(!looks_like_statement(text), "{text}");
        }
    }
}
