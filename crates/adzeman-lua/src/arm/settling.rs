//! Giving functions the bodies that they should have, wherever they are in the state.

use std::collections::{HashMap, HashSet};

use adzeman_core::source::SourceId;

use super::exchange::Exchanges;
use crate::ffi::body::{Body, with_body};
use crate::ffi::state::State;

/// A walk that gives functions the bodies that they should have.
#[derive(Default)]
pub(super) struct Settling {
    /// The sources in question, and their chunk names.
    pub(super) wanted: HashSet<SourceId>,
    pub(super) names: HashMap<String, SourceId>,
    /// The functions on all stacks.
    pub(super) running: HashSet<usize>,
    /// Sources with functions that must keep their bodies for now.
    pub(super) left: HashSet<SourceId>,
    /// Sources with functions of no known body.
    pub(super) strangers: HashSet<SourceId>,
    /// The roots of the bodies that some function has to keep.
    pub(super) in_use: HashSet<usize>,
}

impl Settling {
    /// Looks at the function on top.
    pub(super) fn look(&mut self, exchanges: &Exchanges, state: State) {
        if exchanges.roots.contains(&state.address_at(-1)) {
            return;
        }
        let (source, position, body) = match self.place(exchanges, state) {
            Placed::Elsewhere => return,
            Placed::Stranger(source) => {
                self.strangers.insert(source);
                return;
            }
            Placed::At(source, position, body) => (source, position, body),
        };
        match exchanges.target(source, position).filter(|target| target.address() != body) {
            Some(_) if self.running.contains(&state.address_at(-1)) => {
                self.left.insert(source);
                self.in_use.extend(exchanges.positions.get(&body).map(|held| held.root));
            }
            Some(target) => target.give_to(state, -1),
            None => {}
        }
    }

    /// Finds out what the function on top is.
    fn place(&self, exchanges: &Exchanges, state: State) -> Placed {
        with_body(state, -1, |body| self.place_body(exchanges, state, body)).unwrap_or(Placed::Elsewhere)
    }

    fn place_body(&self, exchanges: &Exchanges, state: State, body: Body<'_>) -> Placed {
        if let Some(held) = exchanges.positions.get(&body.address()) {
            let is_wanted = self.wanted.contains(&held.source);
            return if is_wanted { Placed::At(held.source, held.number, body.address()) } else { Placed::Elsewhere };
        }
        let Some(source) = self.names.get(&state.function_info(-1).chunk_name) else { return Placed::Elsewhere };
        let Some(held) = exchanges.sources.get(source) else { return Placed::Elsewhere };
        let mut same = held.plain.bodies().enumerate().filter(|(_, plain)| plain.is_same(body));
        match (same.next(), same.next()) {
            (Some((position, _)), None) => Placed::At(*source, position, body.address()),
            _ => Placed::Stranger(*source),
        }
    }
}

/// What a function is.
enum Placed {
    /// Of none of the sources in question.
    Elsewhere,
    /// Of one, but of no body that was compiled from its text.
    Stranger(SourceId),
    /// Of one, at this position, with the body at this address.
    At(SourceId, usize, usize),
}
