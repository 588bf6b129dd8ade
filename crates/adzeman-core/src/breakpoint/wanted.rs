//! Which lines an engine is to report.

use std::collections::HashMap;
use std::sync::{Arc, Weak};

use super::Sited;
use crate::source::{Line, LineSet, SourceId, SourceLine};

/// Lines to be reported, by source. Made anew at each change and never changed; what is wanted of a source as before is shared
/// with the one before.
#[derive(Debug, Default)]
pub struct WantedLines {
    by_source: HashMap<SourceId, Arc<WantedIn>>,
    of_any: LineSet,
    has_entries: bool,
    /// The one before it, and the sources of which other lines are wanted than there.
    follows: Option<(Weak<Self>, Vec<SourceId>)>,
}

/// Lines to be reported in one source.
#[derive(Debug, Default, PartialEq)]
struct WantedIn {
    lines: LineSet,
    /// Of those lines that have some each time: the conditions.
    conditions: HashMap<Line, Vec<Arc<str>>>,
}

impl WantedLines {
    pub(super) fn of(lines: &HashMap<SourceLine, Vec<Sited>>) -> Self {
        let (mut wanted, mut by_source) = (Self::default(), HashMap::<SourceId, WantedIn>::new());
        for (place, sited) in lines {
            wanted.of_any.insert(place.line);
            wanted.has_entries |= sited.iter().any(|sited| sited.at_entry);
            let held = by_source.entry(place.source).or_default();
            held.lines.insert(place.line);
            let conditions = sited.iter().map(|sited| sited.breakpoint.spec.condition.as_deref().map(Arc::from));
            if let Some(conditions) = conditions.collect() {
                held.conditions.insert(place.line, conditions);
            }
        }
        wanted.by_source = by_source.into_iter().map(|(source, held)| (source, Arc::new(held))).collect();
        wanted
    }

    /// The same, sharing with `before` what is wanted as it was there.
    pub(super) fn sharing(mut self, before: &Arc<Self>) -> Self {
        for (source, held) in &mut self.by_source {
            if let Some(same) = before.by_source.get(source).filter(|before| *before == held) {
                *held = same.clone();
            }
        }
        self.follows = Some((Arc::downgrade(before), self.compare(before)));
        self
    }

    /// The sources of which other lines are wanted than `before`, or with other conditions, in their order.
    #[must_use]
    pub fn changed_from(&self, before: &Arc<Self>) -> Vec<SourceId> {
        match &self.follows {
            Some((last, changed)) if Weak::as_ptr(last) == Arc::as_ptr(before) => changed.clone(),
            _ => self.compare(before),
        }
    }

    fn compare(&self, before: &Self) -> Vec<SourceId> {
        let is_same = |source: &SourceId, held: &Arc<WantedIn>| {
            before.by_source.get(source).is_some_and(|before| Arc::ptr_eq(before, held) || before == held)
        };
        let new = self.by_source.iter().filter(|(source, held)| !is_same(source, held)).map(|(source, _)| *source);
        let gone = before.by_source.keys().filter(|source| !self.by_source.contains_key(source)).copied();
        let mut changed: Vec<_> = new.chain(gone).collect();
        changed.sort_unstable();
        changed
    }

    /// The sources with such lines, and these lines.
    pub fn sources(&self) -> impl Iterator<Item = (SourceId, &LineSet)> {
        self.by_source.iter().map(|(source, held)| (*source, &held.lines))
    }

    /// Those of one source.
    #[must_use]
    pub fn of_source(&self, source: SourceId) -> Option<&LineSet> {
        self.by_source.get(&source).map(|held| &held.lines)
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
        self.by_source.get(&place.source)?.conditions.get(&place.line).map(Vec::as_slice)
    }

    /// Whether some of the reports count only where a function has just been entered.
    #[must_use]
    pub fn has_entries(&self) -> bool {
        self.has_entries
    }
}
