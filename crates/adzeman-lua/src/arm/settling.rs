//! Giving functions the bodies that they should have, wherever they are in the state.

use std::cell::Cell;
use std::collections::BTreeMap;

use adzeman_core::source::SourceId;
use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};

use super::exchange::{Exchanges, WHOLE};
use crate::ffi::body::Body;
use crate::ffi::objects::Object;
use crate::ffi::state::State;

/// A walk that gives functions the bodies that they should have.
#[derive(Default)]
pub(super) struct Settling {
    /// The sources in question, and their chunk names.
    pub(super) wanted: HashSet<SourceId>,
    names: HashMap<String, SourceId>,
    /// The functions on all stacks, once they were asked for since the script ran last.
    running: Option<HashSet<usize>>,
    /// What functions with these bodies are; bodies are not kept alive between two slices.
    places: HashMap<usize, Placed>,
    /// Sources with functions that must keep their bodies for now.
    pub(super) left: HashMap<SourceId, Left>,
    /// Sources with functions of no known body.
    pub(super) strangers: HashSet<SourceId>,
    /// The roots of the bodies that some function has to keep.
    pub(super) in_use: HashSet<usize>,
    /// The roots of the bodies that no function was to get any more when this began: others may have been given to some since.
    pub(super) retired: HashSet<usize>,
    /// Whether there was a function of which it could not be told what it is.
    is_unsure: Cell<bool>,
}

/// The functions of a source that must keep their bodies for now, as they are on a stack.
#[derive(Default)]
pub(super) struct Left {
    /// Whether one of these assigns a variable whose assignments are asked for, or makes one that does.
    pub(super) assigns: bool,
    /// Those of an earlier text, by their positions in this one: the bodies that they have.
    pub(super) lagging: BTreeMap<usize, HashSet<usize>>,
    /// The bodies of the others, but for that of the whole script, which is done when it has returned.
    pub(super) others: HashSet<usize>,
}

impl Settling {
    /// For these sources, by their chunk names.
    pub(super) fn of(wanted: HashSet<SourceId>, names: HashMap<String, SourceId>, retired: HashSet<usize>) -> Self {
        Self { wanted, names, retired, ..Self::default() }
    }

    /// Whether it is known of each function that was looked at what it is.
    pub(super) fn is_sure(&self) -> bool {
        !self.is_unsure.get()
    }

    /// The script has run: what was known of stacks and of bodies may be past.
    pub(super) fn begin_slice(&mut self) {
        self.running = None;
        self.places.clear();
    }

    /// Looks at a function; whether it must keep its body for now. `running` finds the functions on all stacks.
    pub(super) fn look(
        &mut self,
        exchanges: &Exchanges,
        state: State,
        function: Object<'_>,
        running: impl FnOnce() -> HashSet<usize>,
    ) -> bool {
        if exchanges.roots.contains(&function.address()) {
            return false;
        }
        let body = function.body();
        let (source, position, was) = match self.place(exchanges, state, function, body) {
            Placed::Elsewhere => return false,
            Placed::Stranger(source) => {
                self.strangers.insert(source);
                return false;
            }
            Placed::At { source, position, was } => (source, position, was),
        };
        let Some(target) = exchanges.target(source, position).filter(|target| *target != body) else { return false };
        if !self.running.get_or_insert_with(running).contains(&function.address()) {
            function.give(target);
            return false;
        }
        let left = self.left.entry(source).or_default();
        left.assigns |= exchanges.tells(source, position);
        if was != source {
            left.lagging.entry(position).or_default().insert(body.address());
        } else if position != WHOLE {
            left.others.insert(body.address());
        }
        self.in_use.extend(exchanges.positions.get(&body.address()).map(|held| held.root));
        true
    }

    /// Finds out what a function is.
    pub(super) fn place(
        &mut self,
        exchanges: &Exchanges,
        state: State,
        function: Object<'_>,
        body: Body<'_>,
    ) -> Placed {
        if let Some(held) = exchanges.positions.get(&body.address()) {
            return self.placed(exchanges, held.source, held.number);
        }
        if let Some(known) = self.places.get(&body.address()) {
            return *known;
        }
        let found = self.place_stranger(exchanges, state, function, body);
        self.places.insert(body.address(), found);
        found
    }

    fn place_stranger(&self, exchanges: &Exchanges, state: State, function: Object<'_>, body: Body<'_>) -> Placed {
        if !function.push(state) {
            self.is_unsure.set(true);
            return Placed::Elsewhere;
        }
        let chunk_name = state.function_info(-1).chunk_name;
        state.pop(1);
        let Some(source) = self.names.get(&chunk_name) else { return Placed::Elsewhere };
        if !exchanges.sources.contains_key(source) {
            return Placed::Elsewhere;
        }
        // One that was compiled from an earlier text may be the same, instruction by instruction, and capture other variables.
        for of_text in exchanges.line_of(*source) {
            let Some(held) = exchanges.sources.get(&of_text) else { continue };
            let mut same = held.plain.same_as(body);
            match (same.next(), same.next()) {
                (Some(position), None) => return self.placed(exchanges, of_text, position),
                (Some(_), Some(_)) => break,
                (None, _) => {}
            }
        }
        Placed::Stranger(*source)
    }

    /// Where a function is that is of a position of a source.
    fn placed(&self, exchanges: &Exchanges, source: SourceId, number: usize) -> Placed {
        match exchanges.now_at(source, number) {
            Some((now, number)) if self.wanted.contains(&now) || self.wanted.contains(&source) => {
                Placed::At { source: now, position: number, was: source }
            }
            // One that nothing has taken the place of stays what it is.
            None if self.wanted.contains(&source) => Placed::At { source, position: number, was: source },
            _ => Placed::Elsewhere,
        }
    }
}

/// What a function is.
#[derive(Debug, Clone, Copy)]
pub(super) enum Placed {
    /// Of none of the sources in question.
    Elsewhere,
    /// Of one, but of no body that was compiled from its text.
    Stranger(SourceId),
    /// Of one, at this position; `was` is the text that it was compiled from, which may be an earlier one.
    At { source: SourceId, position: usize, was: SourceId },
}
