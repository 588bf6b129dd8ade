//! What a context decides by, and what it remembers of the lines that ran.

use std::collections::{BTreeSet, VecDeque};

use adzeman_core::decide::{Decider, Reason};
use adzeman_core::source::{Line, SourceLine, Sources};

/// Lines that are remembered to have run.
const MOST_LINES_NOTED: usize = 1024;

/// What is decided by, and what is remembered of it.
pub(super) struct Deciding {
    pub(super) decider: Decider,
    /// Lines that were seen to run since the outermost event began, the last ones, and which event that is.
    pub(super) ran: VecDeque<SourceLine>,
    ran_in: u64,
}

/// What came of a decision.
pub(crate) struct Decided {
    pub(super) reason: Option<Reason>,
    /// Whether the engine watches for what is needed from here on.
    pub(super) is_watched_for: bool,
}

impl Deciding {
    /// For the context with this number.
    pub(super) fn of(context: i64) -> Self {
        Self { decider: Decider::of(context), ran: VecDeque::new(), ran_in: 0 }
    }

    /// Notes a line that runs.
    pub(super) fn note(&mut self, place: Option<SourceLine>, outermost: u64) {
        let ran = &mut self.ran;
        if std::mem::replace(&mut self.ran_in, outermost) != outermost {
            ran.clear();
        }
        if let Some(place) = place.filter(|place| ran.back() != Some(place)) {
            if ran.len() >= MOST_LINES_NOTED {
                ran.pop_front();
            }
            ran.push_back(place);
        }
    }

    /// The line that was noted last does not run after all.
    pub(super) fn pass_over(&mut self) {
        self.ran.pop_back();
    }

    /// The lines that were seen to run of the function that holds a line, in order.
    pub(super) fn lines_ran(&self, sources: &Sources, place: SourceLine) -> Vec<Line> {
        let function = sources.get(place.source).and_then(|source| source.function_at(place.line));
        let is_inside = |line: &Line| function.is_none_or(|function| function.first <= *line && *line <= function.last);
        let own = self.ran.iter().filter(|held| held.source == place.source && is_inside(&held.line));
        let shown = own.map(|held| sources.shown(*held));
        let shown_in = sources.shown(place).source;
        let lines: BTreeSet<_> = shown.filter(|held| held.source == shown_in).map(|held| held.line).collect();
        lines.into_iter().collect()
    }
}
