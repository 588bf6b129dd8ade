//! The breakpoints in the form the decision needs: by place, ready to be asked on every line.

use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use rustc_hash::FxHashMap;

use super::{ANY_EVENT, Action, Breakpoint, ChangeKind, OwnerId, Resolved, Site, Status, Tracked, WantedLines};
use crate::source::{Mapped, NameUse, SourceId, SourceLine};

/// A breakpoint at a place.
#[derive(Debug, Clone)]
pub struct Sited {
    /// The breakpoint.
    pub breakpoint: Arc<Breakpoint>,
    /// The one whose first hit ends it.
    pub until: Option<Arc<Breakpoint>>,
    /// Counts only when a function has just been entered.
    pub at_entry: bool,
    /// On a use of a value: what the line uses; it counts only when one of these is that value.
    pub uses: Arc<[NameUse]>,
}

impl Sited {
    /// Whether it may still be hit.
    #[must_use]
    pub fn is_live(&self) -> bool {
        self.until.as_ref().is_none_or(|other| other.hits() == 0) && !self.breakpoint.is_spent()
    }
}

/// All breakpoints that are enabled and bound. Made anew at each change and never changed, so that script threads can
/// share it without a lock.
#[derive(Debug, Default)]
pub struct Armed {
    maps: Arc<HashMap<SourceId, Arc<Mapped>>>,
    lines: FxHashMap<SourceLine, Vec<Sited>>,
    wanted: Arc<WantedLines>,
    events: FxHashMap<String, Vec<Sited>>,
    times: FxHashMap<String, Vec<Sited>>,
    errors: Vec<Sited>,
    host_changes: Vec<Sited>,
    script_changes: Vec<Sited>,
    library: Arc<HashSet<SourceId>>,
    awaits_sources: bool,
    ending: Vec<Sited>,
}

impl Armed {
    /// The same, with the maps of compiled sources: a step is one of what they were written as then.
    #[must_use]
    pub fn with_maps(mut self, maps: Arc<HashMap<SourceId, Arc<Mapped>>>) -> Self {
        self.maps = maps;
        self
    }

    /// The same, sharing with the one before it what is wanted as it was.
    #[must_use]
    pub fn sharing(mut self, before: &Self) -> Self {
        if let Some(wanted) = Arc::into_inner(std::mem::take(&mut self.wanted)) {
            self.wanted = Arc::new(wanted.sharing(&before.wanted));
        }
        self
    }

    /// Where a line comes from that a script was compiled to; `None` for one of a script that was not compiled.
    #[must_use]
    pub fn origin(&self, place: SourceLine) -> Option<Option<SourceLine>> {
        self.maps.get(&place.source).map(|mapped| mapped.original(place.line))
    }

    /// Sorts the bound ones by place. `library` holds sources that steps pass over.
    #[must_use]
    pub fn new(resolved: &[Resolved], library: Arc<HashSet<SourceId>>) -> Self {
        let mut armed = Self { library, ..Self::default() };
        let enabled = resolved.iter().filter(|held| held.breakpoint.spec.enabled);
        for Resolved { breakpoint, status } in enabled {
            let Status::Bound(bindings) = status else {
                armed.awaits_sources |= matches!(breakpoint.spec.site, Site::Line { .. } | Site::Function { .. });
                continue;
            };
            let until = breakpoint.spec.until.as_deref();
            let until = until.and_then(|wanted| find(resolved, breakpoint.owner, wanted));
            let at_entry = matches!(breakpoint.spec.site, Site::Function { .. });
            let sited = Sited { breakpoint: breakpoint.clone(), until, at_entry, uses: Arc::default() };
            if !sited.is_live() {
                continue;
            }
            if breakpoint.spec.hits.once || sited.until.is_some() {
                armed.ending.push(sited.clone());
            }
            match &breakpoint.spec.site {
                Site::Event { kind, .. } => armed.events.entry(kind.clone()).or_default().push(sited),
                Site::Time { kind, .. } => armed.times.entry(kind.clone()).or_default().push(sited),
                Site::Error { .. } => armed.errors.push(sited),
                Site::Change { how: ChangeKind::Written | ChangeKind::Read, .. }
                | Site::Line { .. }
                | Site::Function { .. } => {
                    for binding in bindings.iter() {
                        let sited = Sited { uses: binding.uses.clone(), ..sited.clone() };
                        armed.lines.entry(binding.place).or_default().push(sited);
                    }
                }
                Site::Change { target: Tracked::Host(_), .. } => armed.host_changes.push(sited),
                Site::Change { target: Tracked::Script { .. }, .. } => armed.script_changes.push(sited),
            }
        }
        armed.wanted = Arc::new(WantedLines::of(&armed.lines));
        armed
    }

    /// The breakpoints on a line.
    #[must_use]
    pub fn at_line(&self, place: SourceLine) -> &[Sited] {
        self.lines.get(&place).map_or(&[], Vec::as_slice)
    }

    /// The breakpoints on an event.
    pub fn on_event<'a>(&'a self, kind: &str) -> impl Iterator<Item = &'a Sited> + use<'a> {
        let of = |kind: &str| self.events.get(kind).map_or(&[][..], Vec::as_slice);
        of(kind).iter().chain(of(ANY_EVENT))
    }

    /// Whether there is any breakpoint on an event.
    #[must_use]
    pub fn has_events(&self) -> bool {
        !self.events.is_empty()
    }

    /// The time budgets of an event's handlers.
    #[must_use]
    pub fn on_time(&self, kind: &str) -> &[Sited] {
        self.times.get(kind).map_or(&[], Vec::as_slice)
    }

    /// The breakpoints on errors.
    #[must_use]
    pub fn on_error(&self) -> &[Sited] {
        &self.errors
    }

    /// The breakpoints on changes of host objects.
    #[must_use]
    pub fn on_host_change(&self) -> &[Sited] {
        &self.host_changes
    }

    /// The breakpoints on changes of a context's values.
    pub fn on_script_change(&self, context: i64) -> impl Iterator<Item = &Sited> {
        self.script_changes.iter().filter(move |sited| match &sited.breakpoint.spec.site {
            Site::Change { target: Tracked::Script { context: held, .. }, .. } => *held == context,
            _ => false,
        })
    }

    /// Whether there is any on changes of some context's values.
    #[must_use]
    pub fn has_script_changes(&self) -> bool {
        !self.script_changes.is_empty()
    }

    /// The lines that an engine is to report.
    #[must_use]
    pub fn wanted(&self) -> &Arc<WantedLines> {
        &self.wanted
    }

    /// Whether a breakpoint that was live when this was made no longer is.
    #[must_use]
    pub fn is_settled(&self) -> bool {
        self.ending.iter().any(|sited| !sited.is_live())
    }

    /// Whether any breakpoint waits for a source that is not loaded.
    #[must_use]
    pub fn awaits_sources(&self) -> bool {
        self.awaits_sources
    }

    /// Whether steps pass over a source.
    #[must_use]
    pub fn is_library(&self, source: SourceId) -> bool {
        self.library.contains(&source)
    }
}

/// The breakpoint of an owner with this name or number.
fn find(resolved: &[Resolved], owner: OwnerId, wanted: &str) -> Option<Arc<Breakpoint>> {
    let of_owner = resolved.iter().map(|held| &held.breakpoint).filter(|held| held.owner == owner);
    let by_name = of_owner.clone().find(|held| held.spec.name.as_deref() == Some(wanted));
    by_name.or_else(|| of_owner.clone().find(|held| held.id.0.to_string() == wanted)).cloned()
}

impl Action {
    /// Whether the context is held.
    #[must_use]
    pub fn stops(&self) -> bool {
        *self == Self::Stop
    }
}
