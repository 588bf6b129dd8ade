//! Which lines an engine is to report.

use std::collections::HashMap;
use std::sync::Arc;

use super::Sited;
use crate::source::{LineSet, SourceId, SourceLine};

/// Lines to be reported, by source. Made anew at each change and never changed.
#[derive(Debug, Default)]
pub struct WantedLines {
    by_source: HashMap<SourceId, LineSet>,
    of_any: LineSet,
    conditions: HashMap<SourceLine, Vec<Arc<str>>>,
    has_entries: bool,
}

impl WantedLines {
    pub(super) fn of(lines: &HashMap<SourceLine, Vec<Sited>>) -> Self {
        let mut wanted = Self::default();
        for (place, sited) in lines {
            wanted.of_any.insert(place.line);
            wanted.by_source.entry(place.source).or_default().insert(place.line);
            wanted.has_entries |= sited.iter().any(|sited| sited.at_entry);
            let conditions = sited.iter().map(|sited| sited.breakpoint.spec.condition.as_deref().map(Arc::from));
            if let Some(conditions) = conditions.collect() {
                wanted.conditions.insert(*place, conditions);
            }
        }
        wanted
    }

    /// The sources with such lines, and these lines.
    pub fn sources(&self) -> impl Iterator<Item = (SourceId, &LineSet)> {
        self.by_source.iter().map(|(source, lines)| (*source, lines))
    }

    /// Those of one source.
    #[must_use]
    pub fn of_source(&self, source: SourceId) -> Option<&LineSet> {
        self.by_source.get(&source)
    }

    /// Lines that some source has among them: the first and cheapest question on each line.
    #[must_use]
    pub fn of_any_source(&self) -> &LineSet {
        &self.of_any
    }

    /// Conditions without one of which a report of that line is for nothing; `None` where it is wanted each time. An engine that
    /// can tell that they are all false need not report; who reports all the same does no harm.
    #[must_use]
    pub fn conditions_at(&self, place: SourceLine) -> Option<&[Arc<str>]> {
        self.conditions.get(&place).map(Vec::as_slice)
    }

    /// Whether some of the reports count only where a function has just been entered.
    #[must_use]
    pub fn has_entries(&self) -> bool {
        self.has_entries
    }
}
