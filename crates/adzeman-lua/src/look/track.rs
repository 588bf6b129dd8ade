//! Values that are watched for changes.
//!
//! A watched value is found again where it was found first: in the table that held it, in the captured variable of the
//! function that used it, or in the very call whose local it is. What it held last is kept, and compared without
//! metamethods.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::rc::Rc;

use adzeman_core::breakpoint::TrackId;
use adzeman_core::engine::{EngineError, Probe};
use adzeman_core::path::{Path, Segment};

use super::Shown;
use crate::dialect::chunk::prototypes;
use crate::dialect::{Dialect as _, Version};

use crate::ffi::activation::Activation;
use crate::ffi::compared::{Compared, ENTRIES, Holder, first_entry};
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::walk;
use crate::scope::{self, NOTATION, Place, Target, cannot, push_function_of, read};

#[derive(Debug, Clone, Copy)]
pub(super) enum Where {
    /// A field of the table kept.
    Field,
    /// A captured variable of the function kept, by its number.
    Captured(usize),
    /// A local of a call: the address of its thread, of the engine's record of the call, and its number; whether functions inside that of
    /// the call may capture it.
    Local { thread: usize, call: usize, number: i32, may_be_captured: bool, ended: bool },
}

/// All watched values of a state.
pub(crate) struct Tracks {
    pub(super) shown: Rc<Shown>,
    pub(super) held: RefCell<TrackedValues>,
    compared: Compared,
}

#[derive(Debug, Default)]
pub(super) struct TrackedValues {
    pub(super) all: BTreeMap<u64, Where>,
    last: u64,
    /// Those of locals that were set for now, at the stop under way.
    pub(super) locals_for_now: Vec<u64>,
}

impl Tracks {
    pub(crate) fn new(shown: Rc<Shown>) -> Self {
        Self { shown, held: RefCell::default(), compared: Compared::default() }
    }

    /// Whether calls and returns must be seen, to know when a local goes.
    pub(crate) fn watch_calls(&self) -> bool {
        self.held.borrow().all.values().any(|held| matches!(held, Where::Local { ended: false, .. }))
    }

    /// The call of which all values that are watched are locals that no other function has, where these are all that is watched: the
    /// address of its thread, and of the engine's record of it.
    pub(crate) fn call_of_all(&self, tracks: &[TrackId]) -> Option<(usize, usize)> {
        let held = self.held.borrow();
        let call_of = |place: &Where| match place {
            Where::Local { thread, call, may_be_captured: false, ended: false, .. } => Some((*thread, *call)),
            _ => None,
        };
        let first = held.all.get(&tracks.first()?.0).and_then(call_of)?;
        let are_its = tracks.len() == held.all.len() && held.all.values().all(|place| call_of(place) == Some(first));
        are_its.then_some(first)
    }

    /// A call uses the record of an earlier one, which must have ended without a return.
    pub(crate) fn call_begun(&self, begun: usize) {
        self.call_ends(begun);
    }

    /// A call has ended, and its locals with it.
    pub(crate) fn call_ends(&self, ends: usize) {
        for held in self.held.borrow_mut().all.values_mut() {
            if let Where::Local { call, ended, .. } = held
                && *call == ends
            {
                *ended = true;
            }
        }
    }
}

pub(super) fn entry(track: u64, part: i64) -> i64 {
    first_entry(i64::try_from(track).unwrap_or(0)) + part
}

impl Tracks {
    /// Begins to watch what `text` names.
    pub(crate) fn track(&self, state: State, target: Option<Target>, text: &str) -> Result<TrackId, EngineError> {
        let top = state.top();
        let outcome = self.find_track(state, target, text);
        state.cut_to(top);
        outcome
    }

    fn find_track(&self, state: State, target: Option<Target>, text: &str) -> Result<TrackId, EngineError> {
        let path = read(text)?;
        let (table, key) = path.split_last().ok_or_else(|| cannot(text, "there is nothing to watch"))?;
        let place = match name_of(&table, key) {
            None => {
                scope::push_raw_path(state, target, &table)?;
                if state.type_at(-1) != Type::Table {
                    let why = format!("'{}' holds no table, so it has no fields", table.display(NOTATION));
                    return Err(cannot(text, &why));
                }
                Where::Field
            }
            Some(name) => match scope::place_of(target, name) {
                Place::Local(at, number) => {
                    let Some(function) = at.state.level(at.level) else { return Err(cannot(text, "its call is over")) };
                    state.push_nil();
                    let (thread, call) = (at.state.address(), function.call());
                    let may_be_captured = captures(at.state, &function, number);
                    Where::Local { thread, call, number, may_be_captured, ended: false }
                }
                Place::Captured(at, number) => {
                    push_function_of(at);
                    at.state.move_to(state, 1);
                    Where::Captured(number)
                }
                Place::Removed(_) => return Err(cannot(name, "it is a constant, and never changes")),
                Place::Global => self.global_or_captured(state, target, name)?,
            },
        };
        let id = self.held.borrow().last + 1;
        // What holds it is on top.
        let holder = state.top();
        state.push_slot(Slot::Tracks);
        let slot = state.top();
        self.keep_at(state, slot, entry(id, 0), holder)?;
        scope::push_key(state, target, key)?;
        let key_at = state.top();
        self.keep_at(state, slot, entry(id, 1), key_at)?;
        {
            let mut tracks = self.held.borrow_mut();
            tracks.last = id;
            tracks.all.insert(id, place);
        }
        if !self.push_tracked(state, slot, id, place)? {
            return Err(cannot(text, "it is not there"));
        }
        let now = state.top();
        self.keep_at(state, slot, entry(id, 2), now)?;
        Ok(TrackId(id))
    }

    /// A global of this name; when there is none, and no function runs, a variable that some function of the script has
    /// captured. Pushes what holds it.
    fn global_or_captured(&self, state: State, target: Option<Target>, name: &str) -> Result<Where, EngineError> {
        scope::push_raw_name(state, target, name)?;
        let is_global = state.type_at(-1) != Type::Nil;
        state.pop(1);
        if !is_global && target.is_none() {
            let mut found = None;
            walk::walk(state, &mut |here, kind| {
                if let (Type::Function, None) = (kind, found) {
                    found = here.find_captured(-1, name);
                    if found.is_some() {
                        here.push_copy(-1);
                        // Kept for the moment where every watched value's first entry is written.
                        here.push_slot(Slot::Tracks);
                        here.swap();
                        let kept = here.raw_set_field(-2, "found");
                        here.pop(1);
                        if kept.is_err() {
                            found = None;
                        }
                    }
                }
            })?;
            if let Some(number) = found {
                state.push_slot(Slot::Tracks);
                state.raw_get_field(-1, "found")?;
                return Ok(Where::Captured(number));
            }
        }
        scope::push_globals_at(state, target)?;
        Ok(Where::Field)
    }

    pub(super) fn keep_at(&self, state: State, slot: i32, entry: i64, value: i32) -> Result<(), EngineError> {
        state.push_integer(entry);
        state.push_copy(value);
        state.raw_set(slot)
    }

    /// Pushes what a watched value holds; false, and nothing pushed, when it is gone.
    pub(super) fn push_tracked(&self, state: State, slot: i32, id: u64, place: Where) -> Result<bool, EngineError> {
        match place {
            Where::Field => {
                state.raw_get_index(slot, entry(id, 0));
                state.raw_get_index(slot, entry(id, 1));
                state.raw_get(-2);
                state.remove(state.top() - 1);
            }
            Where::Captured(number) => {
                state.raw_get_index(slot, entry(id, 0));
                if state.push_captured(-1, number).is_none() {
                    state.pop(1);
                    return Ok(false);
                }
                state.remove(state.top() - 1);
            }
            Where::Local { ended: true, .. } => return Ok(false),
            Where::Local { thread, call, number, .. } => return Ok(push_local_of(state, thread, call, number)),
        }
        Ok(true)
    }

    /// Whether a watched value differs from the last time.
    pub(crate) fn probe(&self, state: State, track: TrackId) -> Result<Probe, EngineError> {
        if self.are_same(state, &[track]) {
            return Ok(Probe::Same);
        }
        let Some(place) = self.held.borrow().all.get(&track.0).copied() else { return Ok(Probe::Gone) };
        state.push_slot(Slot::Tracks);
        let slot = state.top();
        if !self.push_tracked(state, slot, track.0, place)? {
            if let Some(Where::Local { ended, .. }) = self.held.borrow_mut().all.get_mut(&track.0) {
                *ended = true;
            }
            return Ok(Probe::Gone);
        }
        state.raw_get_index(slot, entry(track.0, 2));
        if state.raw_equal(-1, -2) || both_no_number(state) {
            return Ok(Probe::Same);
        }
        let (before, now) = (self.shown.preview(state, -1)?, self.shown.preview(state, -2)?);
        let current = state.top() - 1;
        self.compared.forget(entry(track.0, 0));
        self.keep_at(state, slot, entry(track.0, 2), current)?;
        Ok(Probe::Changed { before, now })
    }

    /// Whether all of these are what they were; false also where that is to be looked at more closely.
    pub(crate) fn are_same(&self, state: State, tracks: &[TrackId]) -> bool {
        tracks.iter().all(|track| self.compared.is_same(state, entry(track.0, 0), || self.holder_of(*track)))
    }

    fn holder_of(&self, track: TrackId) -> Option<Holder> {
        match self.held.borrow().all.get(&track.0)? {
            Where::Field => Some(Holder::Table),
            Where::Captured(number) => Some(Holder::Captured(*number)),
            Where::Local { thread, call, number, ended: false, .. } => {
                Some(Holder::Call { thread: *thread, call: *call, number: *number })
            }
            Where::Local { .. } => None,
        }
    }

    /// The captured variable that a watched value is: the name of the chunk of the function that it was found by, and its own; nothing
    /// for one that is none.
    pub(crate) fn captured(&self, state: State, track: TrackId) -> Option<(String, String)> {
        if !matches!(self.held.borrow().all.get(&track.0), Some(Where::Captured(_))) {
            return None;
        }
        let top = state.top();
        state.push_slot(Slot::Tracks);
        state.raw_get_index(-1, entry(track.0, 0));
        let chunk_name = state.function_info(-1).chunk_name;
        state.raw_get_index(top + 1, entry(track.0, 1));
        let name = state.text_at(-1);
        state.cut_to(top);
        Some((chunk_name, name?))
    }

    /// Whether `text`, as a function uses it, names a watched value: the same variable, or the same field of the same table.
    pub(crate) fn names(&self, state: State, track: TrackId, target: Target, text: &str) -> Result<bool, EngineError> {
        let Some(place) = self.held.borrow().all.get(&track.0).copied() else { return Ok(false) };
        state.push_slot(Slot::Tracks);
        let slot = state.top();
        let path = read(text)?;
        let Some((table, key)) = path.split_last() else { return Ok(false) };
        match (place, name_of(&table, key)) {
            (Where::Field, name) => {
                match name {
                    None => scope::push_raw_path(state, Some(target), &table)?,
                    Some(name) if matches!(scope::place_of(Some(target), name), Place::Global) => {
                        scope::push_globals_at(state, Some(target))?;
                    }
                    Some(_) => return Ok(false),
                }
                state.raw_get_index(slot, entry(track.0, 0));
                if !state.raw_equal(-1, -2) {
                    return Ok(false);
                }
                scope::push_key(state, Some(target), key)?;
                state.raw_get_index(slot, entry(track.0, 1));
                Ok(state.raw_equal(-1, -2))
            }
            (Where::Local { thread, call, number, ended: false, .. }, Some(name)) => {
                let Place::Local(at, held) = scope::place_of(Some(target), name) else { return Ok(false) };
                let is_call = at.state.level(at.level).is_some_and(|function| function.call() == call);
                Ok(at.state.address() == thread && is_call && held == number)
            }
            (Where::Captured(number), Some(name)) => {
                let Place::Captured(at, held) = scope::place_of(Some(target), name) else { return Ok(false) };
                push_function_of(at);
                at.state.move_to(state, 1);
                let here = state.captured_identity(-1, held);
                state.raw_get_index(slot, entry(track.0, 0));
                Ok(state.captured_identity(-1, number) == here)
            }
            _ => Ok(false),
        }
    }

    /// Forgets a watched value.
    pub(crate) fn untrack(&self, state: State, track: TrackId) -> Result<(), EngineError> {
        self.held.borrow_mut().all.remove(&track.0);
        self.compared.forget(entry(track.0, 0));
        state.push_slot(Slot::Tracks);
        let slot = state.top();
        for part in 0..ENTRIES {
            state.push_integer(entry(track.0, part));
            state.push_nil();
            state.raw_set(slot)?;
        }
        Ok(())
    }
}

/// Not equal to itself, and yet the same.
pub(super) fn both_no_number(state: State) -> bool {
    let is_nan = |index| state.float_at(index).is_some_and(f64::is_nan);
    is_nan(-1) && is_nan(-2)
}

/// Whether a function inside this one, however deep, may capture a local variable of it; true where that cannot be told. A variable
/// that had the register before, or has it later, counts as this one.
fn captures(state: State, function: &Activation, number: i32) -> bool {
    function.push_function();
    let dump = state.dump(-1);
    state.pop(1);
    let Some(functions) = prototypes(&dump) else { return true };
    let register = u8::try_from(number - 1).ok();
    let mut captured = functions.iter().skip(1).flat_map(|inner| inner.captured.chunks_exact(Version::CAPTURED));
    captured.any(|of| of[0] != 0 && Some(of[1]) == register)
}

/// Pushes a local of a call that may be on another thread; false when the call is over.
fn push_local_of(state: State, thread: usize, call: usize, number: i32) -> bool {
    let mut found = false;
    with_call(state, thread, call, |thread, function| {
        if function.push_local(number).is_some() {
            found = true;
            thread.move_to(state, 1);
        }
    });
    found
}

/// Does something with a call that is under way, on whichever thread.
pub(crate) fn with_call(state: State, thread: usize, call: usize, mut work: impl FnMut(State, &Activation)) {
    let mut look = |thread: State| {
        thread.for_each_level(|_, function| {
            let is_call = function.call() == call;
            if is_call {
                work(thread, function);
            }
            !is_call
        });
    };
    if state.address() == thread {
        look(state);
    } else {
        walk::with_thread(state, thread, look);
    }
}

/// The name that a path is, if it is one only.
fn name_of<'a>(table: &Path, key: &'a Segment) -> Option<&'a str> {
    match key {
        Segment::Field(name) if table.is_empty() => Some(name),
        _ => None,
    }
}
