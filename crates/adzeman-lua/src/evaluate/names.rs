//! Where the names of an evaluated text are, and giving them values.

use std::cell::Cell;
use std::ffi::c_int;

use adzeman_core::engine::{EngineError, NamesUsed};
use adzeman_core::path::{Path, Root, TreePath};

use super::Evaluator;
use crate::ffi::proxy;
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::watch::report;
use crate::look::Shown;
use crate::scope::{self, Place, Target};
use crate::text::expressions::{ENVIRONMENT, free_names};

/// Which names the evaluation under way sees.
#[derive(Default)]
pub(super) struct Names {
    pub(super) target: Cell<Option<Target>>,
    pub(super) environment: Cell<i64>,
    pub(super) last_environment: Cell<i64>,
    /// How many results can be named: `it`, `it2` and so on.
    results: Cell<i64>,
    /// Whether a script is stopped at an error.
    is_raised: Cell<bool>,
}

/// Where a name is.
enum Found {
    Local(Target, i32),
    Captured(Target, usize),
    Removed(Option<Target>, bool),
    /// What the function sees as `_ENV`.
    Environment(Option<Target>),
    Tree(Root),
    /// What was evaluated so many times ago, 1 for the last.
    Result(i64),
    /// The error that the script is stopped at.
    Raised,
    Global,
}

/// The name of the error that a script is stopped at.
const RAISED: &str = "raised";

/// Whether a name may stand for something where scripts have no global of it.
pub(super) fn may_mean_more(shown: &Shown, name: &str) -> bool {
    shown.tree_named(name).is_some() || result_number(name).is_some() || name == RAISED
}

/// Results of evaluations that can be named.
const MOST_RESULTS: i64 = 9;

/// Which result a name stands for.
fn result_number(name: &str) -> Option<i64> {
    match name.strip_prefix("it")? {
        "" => Some(1),
        number => number.parse().ok().filter(|number| (2..=MOST_RESULTS).contains(number)),
    }
}

impl Evaluator {
    /// The frame an environment looks into, while its own evaluation runs. A function that outlives the evaluation it was
    /// made in sees the globals only.
    fn target(&self, environment: i64) -> Option<Target> {
        (self.names.environment.get() == environment).then(|| self.names.target.get()).flatten()
    }

    fn find(&self, environment: i64, name: &str) -> Found {
        let target = self.target(environment);
        let is_environment = name == ENVIRONMENT;
        match scope::place_of(target, if is_environment { "_ENV" } else { name }) {
            Place::Global if is_environment => Found::Environment(target),
            Place::Local(target, number) => Found::Local(target, number),
            Place::Captured(target, number) => Found::Captured(target, number),
            Place::Removed(is_known) => Found::Removed(target, is_known),
            Place::Global => self.find_beyond(target, name),
        }
    }

    /// What a name stands for that is no variable of the function: names that scripts made come first.
    fn find_beyond(&self, target: Option<Target>, name: &str) -> Found {
        let found = match (self.shown.tree_named(name), result_number(name)) {
            (Some(root), _) => Found::Tree(root),
            (None, Some(number)) if number <= self.names.results.get() => Found::Result(number),
            (None, None) if name == RAISED && self.names.is_raised.get() => Found::Raised,
            _ => return Found::Global,
        };
        if scope::is_global(self.main, target, name) { Found::Global } else { found }
    }

    /// Where the names of an expression are; `is_out_of_reach` tells of one that is no variable of a function whether it is one of the code
    /// around that.
    pub(crate) fn names_used(
        &self,
        target: Option<Target>,
        text: &str,
        is_out_of_reach: impl Fn(Target, &str) -> bool,
    ) -> NamesUsed {
        let mut used = NamesUsed::default();
        for name in free_names(text).iter() {
            match scope::place_of(target, name) {
                _ if name == "..." => used.of_function |= target.is_some(),
                Place::Local(..) | Place::Captured(..) | Place::Removed(_) => used.of_function |= name != "_ENV",
                Place::Global if name == "_ENV" => {}
                Place::Global => {
                    let is_of_host = self.shown.tree_named(name).is_some();
                    if used.out_of_reach.is_none()
                        && target.is_some_and(|target| !is_of_host && is_out_of_reach(target, name))
                    {
                        used.out_of_reach = Some(name.clone());
                    }
                    let is_there =
                        !matches!(self.find_beyond(target, name), Found::Global) || self.may_be_global(target, name);
                    if !is_there && used.missing.is_none() {
                        used.missing = Some(name.clone());
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
        let made_up = scope::push_globals_at(state, target).is_ok() && state.push_metatable(-1);
        state.cut_to(top);
        made_up || scope::is_global(self.main, target, name)
    }

    /// The error on top of `state`, which is popped, is what the script is stopped at: expressions can name it. Answers what to end
    /// that with.
    pub(crate) fn begin_raised(&self, state: State) -> bool {
        // One in a call that was made at a stop at another one hides that.
        state.push_slot(Slot::Raised);
        state.swap();
        report(state.set_slot(Slot::Raised));
        self.names.is_raised.replace(true)
    }

    /// It goes on; what was named before, which lies on top, is again, if anything was.
    pub(crate) fn end_raised(&self, state: State, was_raised: bool) {
        report(state.set_slot(Slot::Raised));
        self.names.is_raised.set(was_raised);
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
        self.names.results.set((self.names.results.get() + 1).min(MOST_RESULTS));
        Ok(())
    }

    /// Forgets the results: they keep values of the script alive.
    pub(crate) fn forget_results(&self) -> Result<(), EngineError> {
        if self.names.results.replace(0) == 0 {
            return Ok(());
        }
        self.main.push_table()?;
        self.main.set_slot(Slot::Results)
    }

    /// Pushes the value of a name; false, and nothing pushed, when it is a global.
    pub(crate) fn push_name(&self, state: State, environment: i64, name: &str) -> Result<bool, EngineError> {
        match self.find(environment, name) {
            Found::Local(target, number) => scope::push_local(target, number, state),
            Found::Captured(target, number) => scope::push_captured(target, number, state),
            Found::Tree(root) => proxy::push_proxy(state, TreePath { root, path: Path::default() })?,
            Found::Raised => {
                state.push_slot(Slot::Raised);
            }
            Found::Result(number) => {
                state.push_slot(Slot::Results);
                state.raw_get_index(-1, number);
                state.swap();
                state.pop(1);
            }
            Found::Removed(target, true) => scope::push_removed(target, name, state),
            Found::Removed(_, false) => return Err(scope::unclear(name)),
            Found::Environment(target) => scope::push_globals_at(state, target)?,
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
                scope::push_function_of(target);
                target.state.swap();
                target.state.set_captured(-2, number);
                target.state.pop(1);
            }
            Found::Tree(root) => {
                let why = "it stands for the host's data; change a field inside it".to_owned();
                return Err(EngineError::NotAssignable { name: root.name().to_owned(), why });
            }
            Found::Removed(..) => return Err(scope::constant(name)),
            Found::Environment(_) => {
                let why = "the function sees no '_ENV' of its own".to_owned();
                return Err(EngineError::NotAssignable { name: "_ENV".to_owned(), why });
            }
            Found::Raised => {
                let why = "it stands for the error; change a field inside it, if it has any".to_owned();
                return Err(EngineError::NotAssignable { name: name.to_owned(), why });
            }
            Found::Result(_) => {
                let why = "it stands for what was evaluated before; give a variable that value instead".to_owned();
                return Err(EngineError::NotAssignable { name: name.to_owned(), why });
            }
            Found::Global => return Ok(false),
        }
        Ok(true)
    }

    /// Pushes the table that holds the globals as the target's function sees them, for one of this name.
    ///
    /// # Errors
    /// Where it sees none, or which ones is not known.
    pub(crate) fn push_globals_of_target(&self, state: State, environment: i64, name: &str) -> Result<(), EngineError> {
        let Some(target) = self.target(environment) else {
            state.push_globals();
            return Ok(());
        };
        scope::push_environment_of(target, state)?;
        if state.type_at(-1) == Type::Table {
            return Ok(());
        }
        let why = "is a global of the script, and this function sees none: its '_ENV' holds no table";
        Err(EngineError::Runtime(format!("'{name}' {why}")))
    }
}
