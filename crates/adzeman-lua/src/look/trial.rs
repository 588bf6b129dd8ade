//! Values that a person sets for now: what was there is kept, and given back.

use adzeman_core::breakpoint::TrackId;
use adzeman_core::engine::{EngineError, GivenBack, Trial};

use super::describe::has_metatable;
use super::track::{Tracks, Where, both_no_number, entry, with_call};
use crate::ffi::state::{Slot, State, Type};
use crate::scope::{Target, cannot};

/// Registry entries, as those of every tracked value: what was there before, and what was set.
const BEFORE: i64 = 2;
const SET: i64 = 3;

impl Tracks {
    /// Gives what `text` names the value on top, without metamethods, and keeps what it held.
    ///
    /// # Errors
    /// When it names no place, or one that a function of the script is asked for; nothing is changed then.
    pub(crate) fn set_for_now(&self, state: State, target: Option<Target>, text: &str) -> Result<Trial, EngineError> {
        let value = state.top();
        let track = self.track(state, target, text)?;
        let outcome = self.set_tracked_for_now(state, track, text, value);
        state.cut_to(value);
        if outcome.is_err() {
            self.untrack(state, track)?;
        }
        outcome
    }

    fn set_tracked_for_now(&self, state: State, track: TrackId, text: &str, value: i32) -> Result<Trial, EngineError> {
        let Some(place) = self.held.borrow().all.get(&track.0).copied() else { return Err(EngineError::StaleHandle) };
        state.push_slot(Slot::Tracks);
        let slot = state.top();
        state.raw_get_index(slot, entry(track.0, BEFORE));
        let before = self.shown.preview(state, -1)?;
        if matches!(place, Where::Field) && state.type_at(-1) == Type::Nil {
            state.raw_get_index(slot, entry(track.0, 0));
            if has_metatable(state, -1) {
                return Err(cannot(text, "a function of the script may answer for it, and is not asked"));
            }
        }
        self.keep_at(state, slot, entry(track.0, SET), value)?;
        self.put(state, slot, track.0, place, value)?;
        if let Where::Local { .. } = place {
            self.held.borrow_mut().locals_for_now.push(track.0);
        }
        Ok(Trial { track, before, now: self.shown.preview(state, value)? })
    }

    /// Gives a tracked place the value at an index.
    fn put(&self, state: State, slot: i32, track: u64, place: Where, value: i32) -> Result<(), EngineError> {
        match place {
            Where::Field => {
                state.raw_get_index(slot, entry(track, 0));
                let table = state.top();
                state.raw_get_index(slot, entry(track, 1));
                state.push_copy(value);
                state.raw_set(table)?;
            }
            Where::Captured(number) => {
                state.raw_get_index(slot, entry(track, 0));
                state.push_copy(value);
                state.set_captured(-2, number);
            }
            Where::Local { thread, call, number, .. } => with_call(state, thread, call, |thread, function| {
                state.push_copy(value);
                state.move_to(thread, 1);
                function.set_local(number);
            }),
        }
        Ok(())
    }

    /// Gives back what was there before, unless it is another value than was set and not `anyway`.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn give_back(&self, state: State, track: TrackId, anyway: bool) -> Result<GivenBack, EngineError> {
        let Some(place) = self.held.borrow().all.get(&track.0).copied() else { return Ok(GivenBack::Gone) };
        state.push_slot(Slot::Tracks);
        let slot = state.top();
        if !self.push_tracked(state, slot, track.0, place)? {
            return Ok(GivenBack::Gone);
        }
        let (kind, now) = self.shown.preview(state, -1)?;
        state.raw_get_index(slot, entry(track.0, SET));
        let is_as_set = state.raw_equal(-1, -2) || both_no_number(state);
        if !is_as_set && !anyway {
            return Ok(GivenBack::ChangedSince(kind, now));
        }
        state.raw_get_index(slot, entry(track.0, BEFORE));
        let before = state.top();
        self.put(state, slot, track.0, place, before)?;
        let (kind, value) = self.shown.preview(state, before)?;
        self.untrack(state, track)?;
        Ok(GivenBack::Done(kind, value))
    }

    /// The stop is over: locals that were set for now are no longer known to be those.
    pub(crate) fn forget_locals_for_now(&self, state: State) {
        let forgotten = std::mem::take(&mut self.held.borrow_mut().locals_for_now);
        for track in forgotten {
            if let Err(error) = self.untrack(state, TrackId(track)) {
                tracing::warn!(%error, "a value that was set for now is kept alive");
            }
        }
    }
}
