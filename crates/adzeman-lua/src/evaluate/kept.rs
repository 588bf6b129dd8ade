//! Texts of breakpoints, which are understood or compiled once, and asked often.

use std::cell::{Cell, RefCell};
use std::ffi::CStr;
use std::rc::Rc;

use adzeman_core::breakpoint::BreakpointId;
use adzeman_core::engine::EngineError;
use rustc_hash::FxHashMap;

use super::Evaluator;
use super::names::may_mean_more;
use super::quick::{Scope, holds, push, push_name};
use super::words::{CONDITION, STATEMENT, tidy};
use crate::ffi::proxy;
use crate::ffi::state::{Slot, State, Type};
use crate::scope::{Place, Target, place_of};
use crate::text::conditions::{Condition, Operand};
use crate::text::early::early_names;
use crate::text::expressions::with_environment;
use crate::text::nesting;

/// What was understood of texts; nothing of those that only Lua can tell.
type Understood<K, T> = RefCell<FxHashMap<K, Option<Rc<T>>>>;

/// What is kept for breakpoints.
#[derive(Default)]
pub(super) struct Kept {
    /// The conditions of breakpoints, as far as they were understood.
    understood: Understood<u64, Condition>,
    /// The values that their texts name, by their places there.
    understood_texts: Understood<(u64, usize), Operand>,
    /// Texts of breakpoints that are kept compiled.
    count: Cell<usize>,
    /// The names that can be looked up before a text is evaluated, by its number.
    early: RefCell<FxHashMap<i64, Rc<[String]>>>,
}

/// Which text of a breakpoint is compiled.
struct Purpose;

impl Purpose {
    const CONDITION: usize = 0;
    const STATEMENT: usize = 1;
    const FIRST_TEXT: usize = 2;
    /// More than a text has parts.
    const COUNT: i64 = 4096;
}

const _: () = assert!(Purpose::COUNT > adzeman_core::breakpoint::MOST_PIECES as i64 + Purpose::FIRST_TEXT as i64);

/// Texts of breakpoints kept compiled at one time.
const MOST_KEPT: usize = 1024;

impl Evaluator {
    /// Whether a breakpoint's condition holds in a function. Understood, or else compiled, once.
    pub(crate) fn condition(&self, target: Target, owner: BreakpointId, text: &str) -> Result<bool, EngineError> {
        let state = target.state;
        if let Some(held) =
            self.understood(owner, text).and_then(|held| holds(&held, &self.shown, state, Scope::Function(target)))
        {
            return Ok(held);
        }
        let top = state.top();
        let outcome = self.watch.quietly(|| self.run_kept(target, owner, Purpose::CONDITION, text));
        let holds = outcome.map(|count| count > 0 && state.bool_at(-count));
        state.cut_to(top);
        holds
    }

    /// Whether the condition of an event breakpoint holds, as far as the host alone can tell.
    pub(crate) fn condition_of_event(&self, state: State, owner: BreakpointId, text: &str) -> Option<bool> {
        holds(&*self.understood(owner, text)?, &self.shown, state, Scope::Boundary)
    }

    fn understood(&self, owner: BreakpointId, text: &str) -> Option<Rc<Condition>> {
        let mut known = self.kept.understood.borrow_mut();
        if known.len() > MOST_KEPT {
            known.clear();
        }
        known.entry(owner.0).or_insert_with(|| Condition::parse(text).map(Rc::new)).clone()
    }

    /// A part of a text that names a value, or is one.
    fn understood_text(&self, owner: BreakpointId, slot: usize, text: &str) -> Option<Rc<Operand>> {
        let mut known = self.kept.understood_texts.borrow_mut();
        if known.len() > MOST_KEPT {
            known.clear();
        }
        let parse = || match Condition::parse(text)? {
            Condition::Value(operand) => Some(Rc::new(operand)),
            _ => None,
        };
        known.entry((owner.0, slot)).or_insert_with(parse).clone()
    }

    /// The text of an expression, evaluated in a function: a string as itself, anything else as its preview.
    pub(crate) fn text_of(
        &self,
        target: Target,
        owner: BreakpointId,
        slot: usize,
        text: &str,
    ) -> Result<String, EngineError> {
        let state = target.state;
        let top = state.top();
        let outcome = self.watch.quietly(|| {
            let understood = self.understood_text(owner, slot, text);
            let is_known =
                understood.is_some_and(|held| push(&held, &self.shown, state, Scope::Function(target)).is_some());
            if is_known {
                // What is below it is what led to it.
                state.push_copy(-1);
            } else {
                state.cut_to(top);
            }
            let count = if is_known { 1 } else { self.run_kept(target, owner, Purpose::FIRST_TEXT + slot, text)? };
            let values = (-count..0).map(|index| match state.type_at(index) {
                Type::String => Ok(state.with_bytes(index, |bytes| String::from_utf8_lossy(bytes).into_owned())),
                _ => self.shown.preview(state, index).map(|(_, preview)| Some(preview)),
            });
            values.map(|value| value.map(Option::unwrap_or_default)).collect::<Result<Vec<_>, _>>()
        });
        state.cut_to(top);
        outcome.map(|values| values.join(", "))
    }

    /// Runs a statement in a function.
    pub(crate) fn run_statement(&self, target: Target, owner: BreakpointId, text: &str) -> Result<(), EngineError> {
        let top = target.state.top();
        let outcome = self.watch.quietly(|| self.run_kept(target, owner, Purpose::STATEMENT, text));
        target.state.cut_to(top);
        outcome.map(|_| ())
    }

    /// Runs a text of a breakpoint, compiled once.
    fn run_kept(&self, target: Target, owner: BreakpointId, slot: usize, text: &str) -> Result<i32, EngineError> {
        let state = target.state;
        let key = i64::try_from(owner.0).unwrap_or(0) * Purpose::COUNT + i64::try_from(slot).unwrap_or(0);
        // An environment numbered by its text, below all numbers of single evaluations.
        let environment = -key;
        self.make_room_for_kept(state)?;
        state.push_slot(Slot::Conditions);
        let early = self.early_names(key, slot, text);
        if !early.is_empty() {
            let top = state.top();
            let compiled = || format!("local {} = ... return {text}", early.join(", "));
            self.push_kept(state, -key, environment, CONDITION, compiled)?;
            if early.iter().all(|name| push_name(name, &self.shown, target).is_some()) {
                let (count, allowance) = (state.top() - top - 1, self.supervisor.allowance());
                let outcome = self.run_with(state, count, environment, target, &allowance);
                return outcome.map_err(|error| as_named(error, &early, target));
            }
            state.cut_to(top);
        }
        let (chunk_name, before) = if slot == Purpose::STATEMENT { (STATEMENT, "") } else { (CONDITION, "return ") };
        self.push_kept(state, key, environment, chunk_name, || format!("{before}{}", with_environment(text)))?;
        self.run(state, environment, Some(target), &self.supervisor.allowance())
    }

    /// The names of a text that can be looked up before it is evaluated.
    fn early_names(&self, key: i64, slot: usize, text: &str) -> Rc<[String]> {
        let read = || {
            let mut names = if slot == Purpose::STATEMENT { Vec::new() } else { early_names(text) };
            names.retain(|name| !may_mean_more(&self.shown, name));
            names.into()
        };
        self.kept.early.borrow_mut().entry(key).or_insert_with(read).clone()
    }

    /// Pushes a text of a breakpoint compiled, which is kept under a number in the table on top.
    fn push_kept(
        &self,
        state: State,
        number: i64,
        environment: i64,
        chunk_name: &CStr,
        text: impl FnOnce() -> String,
    ) -> Result<(), EngineError> {
        state.raw_get_index(-1, number);
        if state.type_at(-1) == Type::Function {
            return Ok(());
        }
        state.pop(1);
        let text = text();
        nesting::check_typed(&text).map_err(EngineError::Syntax)?;
        state.load(&text, chunk_name).map_err(tidy)?;
        proxy::push_environment(state, environment)?;
        state.set_environment(-2);
        state.push_integer(number);
        state.push_copy(-2);
        state.raw_set(-4)?;
        self.kept.count.set(self.kept.count.get() + 1);
        Ok(())
    }

    /// Forgets what was compiled for breakpoints: which of them are armed has changed.
    pub(crate) fn forget_kept(&self) {
        self.kept.understood.borrow_mut().clear();
        self.kept.understood_texts.borrow_mut().clear();
        self.kept.early.borrow_mut().clear();
        if self.kept.count.replace(0) > 0 {
            let forgotten = self.main.push_table().and_then(|()| self.main.set_slot(Slot::Conditions));
            if let Err(error) = forgotten {
                tracing::warn!(%error, "texts of breakpoints that are gone are kept");
            }
        }
    }

    /// Forgets what was compiled for breakpoints that are long gone.
    fn make_room_for_kept(&self, state: State) -> Result<(), EngineError> {
        if self.kept.count.get() > MOST_KEPT {
            self.kept.count.set(0);
            self.kept.early.borrow_mut().clear();
            state.push_table()?;
            state.set_slot(Slot::Conditions)?;
        }
        Ok(())
    }
}

/// An error that speaks of names as of local variables, as they were looked up before, says what they are.
fn as_named(error: EngineError, names: &[String], target: Target) -> EngineError {
    let EngineError::Raised(mut text) = error else { return error };
    for name in names {
        let kind = match place_of(Some(target), name) {
            Place::Local(..) => continue,
            Place::Captured(..) => "upvalue",
            Place::Removed(_) => "constant",
            Place::Global => "global",
        };
        // Lua 5.2 says which variable first, and then what it holds.
        for (before, behind) in [("(", ")"), ("", " (a ")] {
            let [said, meant] = ["local", kind].map(|kind| format!("{before}{kind} '{name}'{behind}"));
            text = text.replace(&said, &meant);
        }
    }
    EngineError::Raised(text)
}
