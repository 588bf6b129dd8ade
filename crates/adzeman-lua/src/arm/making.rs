//! Making the bodies that report some lines of a source.

use std::collections::BTreeSet;
use std::ffi::CString;

use adzeman_core::engine::EngineError;
use adzeman_core::source::LineSet;

use super::exchange::{Exchange, Filters};
use super::known;
use crate::dialect::chunk::prototypes;
use crate::dialect::jumps::{Jump, jumps};
use crate::ffi::body::{Tree, compile};
use crate::ffi::state::State;

const OTHER_TREE: &str = "the text does not give the functions that run";

/// The making of bodies for the lines of a source.
pub(super) struct Making<'a> {
    pub(super) state: State,
    pub(super) held: &'a Exchange,
    pub(super) text: &'a str,
    pub(super) chunk_name: CString,
    pub(super) placed: &'a LineSet,
    pub(super) last_anchor: &'a mut i64,
}

impl Making<'_> {
    /// Bodies that report on their lines, behind those of the filters that do.
    pub(super) fn bodies(&mut self, filters: &Filters) -> Result<Tree, &'static str> {
        let marker = unused_marker(self.text, filters);
        let calls = self.compile(&marker, &Filters::new()).map_err(|_| OTHER_TREE)?;
        if !calls.fits(&self.held.plain) {
            calls.release(self.state);
            return Err(OTHER_TREE);
        }
        let (tree, jumps) = match self.filtered(&calls, &marker, filters) {
            Some(filtered) => {
                calls.release(self.state);
                filtered
            }
            None => (calls, Vec::new()),
        };
        if tree.report(self.state, &marker, &jumps).is_err() {
            tree.release(self.state);
            return Err(OTHER_TREE);
        }
        Ok(tree)
    }

    fn compile(&mut self, marker: &str, filters: &Filters) -> Result<Tree, EngineError> {
        let text = self.held.statements.with_calls(self.text, self.placed, marker, filters);
        *self.last_anchor += 1;
        compile(self.state, &text, &self.chunk_name, *self.last_anchor)
    }

    /// The same with those of the filters that do, and the jumps that make them safe; `None` when none of them does.
    fn filtered(&mut self, calls: &Tree, marker: &str, filters: &Filters) -> Option<(Tree, Vec<Jump>)> {
        let mut left: Filters = filters.clone();
        left.retain(|line, _| self.placed.contains(*line));
        if left.is_empty() || !known::are_known() {
            return None;
        }
        let dumped = calls.dump(self.state);
        let plain = prototypes(&dumped)?;
        loop {
            let tree = self.compile(marker, &left).ok()?;
            let dumped = tree.dump(self.state);
            let found = prototypes(&dumped).map(|filtered| jumps(&plain, &filtered, marker));
            let refused = match found {
                Some(Ok(jumps)) if tree.fits(&self.held.plain) => return Some((tree, jumps)),
                Some(Err(refused)) => refused,
                _ => BTreeSet::new(),
            };
            tree.release(self.state);
            let mut is_changed = false;
            left.retain(|line, filter| {
                let is_refused = refused.contains(line);
                is_changed |= is_refused;
                !is_refused || filter.weaken()
            });
            if left.is_empty() || !is_changed {
                return None;
            }
        }
    }
}

/// A text that neither the script nor a filter holds, short enough to be the same object wherever it is.
fn unused_marker(text: &str, filters: &Filters) -> String {
    let is_used = |marker: &str| text.contains(marker) || filters.values().any(|filter| filter.text().contains(marker));
    let mut candidates = (0..).map(|number| format!("line reached {number}"));
    candidates.find(|marker| !is_used(marker)).unwrap_or_default()
}
