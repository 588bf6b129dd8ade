//! Values that are watched for a change, where the statements that can change them tell of it: no line is looked at then.
//!
//! A variable that functions have captured is assigned by statements of the text in which it is declared, and by nothing else but what
//! is told of here: what a person sets, what an evaluation runs, and the library's `debug`. Where all functions of that text have bodies
//! that tell of these statements, the value is compared behind them. Where it differs, every line is looked at from there on, so that
//! the change is found where it would be if that had been so all along; and so they are whenever the value may be another one without
//! that a statement has told of it.

use std::cell::Cell;

use adzeman_core::breakpoint::TrackId;
use adzeman_core::engine::Need;
use adzeman_core::source::SourceId;

use super::Context;
use crate::arm::Variables;
use crate::ffi::state::State;

/// What is known of the watched values.
#[derive(Default)]
pub(super) struct Changes {
    /// Whether every one of them is what it was when it was compared last, or a statement will tell.
    is_compared: Cell<bool>,
    /// Whether functions share variables that do not by the text.
    are_joined: Cell<bool>,
    /// Whether hooks were set last as for values whose changes are told of.
    is_told: Cell<bool>,
}

impl Changes {
    pub(super) fn are_joined(&self) {
        self.are_joined.set(true);
    }

    pub(super) fn is_told(&self) -> bool {
        self.is_told.get()
    }
}

impl Context {
    /// Has the statements tell that assign what is watched, if that is nothing but captured variables; asks for none otherwise.
    pub(super) fn tell_assignments(&self, need: &Need) {
        if need.changes_of.is_empty() && need.every_line {
            // For a while, for another reason.
            return;
        }
        let found: Option<Vec<_>> = need.changes_of.iter().map(|track| self.variable(*track)).collect();
        let mut variables = Variables::new();
        for (source, name) in found.unwrap_or_default() {
            variables.entry(source).or_default().insert(name);
        }
        self.arms.tell_assignments(variables);
    }

    /// The source in which a watched variable is declared, and its name.
    fn variable(&self, track: TrackId) -> Option<(SourceId, String)> {
        let (chunk_name, name) = self.tracks.captured(self.main, track)?;
        Some((self.scripts.named(&chunk_name)?, name))
    }

    /// Whether every change of what is watched is told of by a statement.
    pub(super) fn is_told_of_changes(&self) -> bool {
        self.changes.is_compared.get()
            && !self.changes.are_joined.get()
            && !self.need.borrow().changes_of.is_empty()
            && self.arms.tells_of_assignments()
    }

    /// Whether every line is to be reported.
    pub(super) fn wants_every_line(&self, need: &Need) -> bool {
        let is_told = need.every_line && self.is_told_of_changes();
        self.changes.is_told.set(is_told);
        need.every_line && !is_told
    }

    /// What is watched may have another value, and no statement tells of that: it is compared at the next line that is reached.
    pub(super) fn compare_at_next_line(&self) {
        self.changes.is_compared.set(false);
        // An evaluation gives every thread the hook back that it had: it is for what comes behind that.
        if !self.watch.is_busy() {
            self.watch_changes();
        }
    }

    /// Everything that is watched was compared with what it was.
    pub(super) fn has_compared(&self, is_same: bool) {
        self.changes.is_compared.set(is_same);
        self.watch_changes();
    }

    /// Has lines looked at, or no more, if that has changed.
    pub(super) fn watch_changes(&self) {
        if self.changes.is_told() != self.is_told_of_changes() {
            self.set_hooks_again();
        }
    }

    /// Something was decided about a line, which may have changed what is watched, or compared it.
    pub(super) fn look_at_changes(&self, state: State) {
        let is_same = {
            let changes_of = &self.need.borrow().changes_of;
            if changes_of.is_empty() {
                return;
            }
            self.changes.is_compared.get() || self.tracks.are_same(state, changes_of)
        };
        self.has_compared(is_same);
    }
}
