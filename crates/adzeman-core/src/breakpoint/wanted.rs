//! Which lines an engine is to report.

use std::collections::HashMap;
use std::hash::{Hash, Hasher};
use std::sync::{Arc, Weak};

use rustc_hash::FxHashMap;

use super::{Breakpoint, HitRule, Site, Sited, TrackId, Tracked};
use crate::source::{Line, LineSet, NameUse, SourceId, SourceLine};

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
    /// Of those lines of which not every report is wanted: when none is, all of these being so.
    idle: HashMap<Line, Vec<Idle>>,
}

/// When a breakpoint needs no report of its line.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Idle {
    /// When this condition does not hold.
    Unless(Arc<str>),
    /// When the time is one that does not count by its hit rule.
    Passing(Passing),
    /// When none of these, as the line is written, names this watched value.
    Unnamed(TrackId, Arc<[NameUse]>),
}

/// A breakpoint that nothing but a hit rule narrows: who reports its line may count the times that are no hits.
#[derive(Debug, Clone)]
pub struct Passing(Arc<Breakpoint>);

impl PartialEq for Passing {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Eq for Passing {}

impl Hash for Passing {
    fn hash<H: Hasher>(&self, state: &mut H) {
        Arc::as_ptr(&self.0).hash(state);
    }
}

impl Passing {
    /// Counts one time that the line is reached, if it is no hit; false, with nothing counted, if it is one and has to be
    /// reported.
    #[must_use]
    pub fn passes(&self) -> bool {
        self.0.pass()
    }
}

impl Idle {
    fn of(sited: &Sited) -> Option<Self> {
        let spec = &sited.breakpoint.spec;
        if let (false, Site::Change { target: Tracked::Script { track, .. }, .. }) = (sited.uses.is_empty(), &spec.site)
        {
            return Some(Self::Unnamed(*track, sited.uses.clone()));
        }
        if let Some(condition) = &spec.condition {
            return Some(Self::Unless(condition.as_str().into()));
        }
        let counts_all = spec.hits == HitRule::default();
        let is_narrowed = sited.until.is_some() || sited.at_entry || spec.subject.is_some();
        (!counts_all && !is_narrowed).then(|| Self::Passing(Passing(sited.breakpoint.clone())))
    }
}

impl WantedLines {
    pub(super) fn of(lines: &FxHashMap<SourceLine, Vec<Sited>>) -> Self {
        let (mut wanted, mut by_source) = (Self::default(), HashMap::<SourceId, WantedIn>::new());
        for (place, sited) in lines {
            wanted.of_any.insert(place.line);
            wanted.has_entries |= sited.iter().any(|sited| sited.at_entry);
            let held = by_source.entry(place.source).or_default();
            held.lines.insert(place.line);
            if let Some(idle) = sited.iter().map(Idle::of).collect() {
                held.idle.insert(place.line, idle);
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

    /// When a report of that line is for nothing: when all of these are so; `None` where it is wanted each time. An engine that can
    /// tell need not report; who reports all the same does no harm, as long as it has counted no time itself.
    #[must_use]
    pub fn idle_at(&self, place: SourceLine) -> Option<&[Idle]> {
        self.by_source.get(&place.source)?.idle.get(&place.line).map(Vec::as_slice)
    }

    /// Whether some of the reports count only where a function has just been entered.
    #[must_use]
    pub fn has_entries(&self) -> bool {
        self.has_entries
    }
}
