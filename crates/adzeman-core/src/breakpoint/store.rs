//! The store of all breakpoints of a host, and how they bind to the sources that are loaded.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use super::{Breakpoint, BreakpointId, BreakpointSpec, OwnerId, Site, SourceLine};
use crate::source::{FunctionSpan, Line, LineSet, Source, Sources};

/// Where a line or function breakpoint is in one source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Binding {
    /// The place itself.
    pub place: SourceLine,
    /// The line that was asked for, when there is no code on it.
    pub moved_from: Option<Line>,
}

/// Whether a breakpoint can be hit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Status {
    /// It can, at these places (none for an event, which has no place).
    Bound(Vec<Binding>),
    /// It cannot yet; the text says why and what would help.
    Pending(String),
}

impl Status {
    /// The places, if it is bound.
    #[must_use]
    pub fn bindings(&self) -> &[Binding] {
        match self {
            Self::Bound(bindings) => bindings,
            Self::Pending(_) => &[],
        }
    }
}

/// A breakpoint and where it bound.
#[derive(Debug, Clone)]
pub struct Resolved {
    /// The breakpoint.
    pub breakpoint: Arc<Breakpoint>,
    /// Where it bound.
    pub status: Status,
}

/// All breakpoints of a host, of all owners.
#[derive(Debug, Default)]
pub struct BreakpointStore {
    all: BTreeMap<BreakpointId, Arc<Breakpoint>>,
    last_id: u64,
}

impl BreakpointStore {
    /// Makes the breakpoints of `owner` that `covers` picks out be exactly `specs`, in that order. One that is asked for
    /// again as it was keeps its number and its hits.
    pub fn replace(
        &mut self,
        owner: OwnerId,
        covers: impl Fn(&Site) -> bool,
        specs: Vec<BreakpointSpec>,
    ) -> Vec<Arc<Breakpoint>> {
        let mut before: Vec<_> =
            self.all.values().filter(|held| held.owner == owner && covers(&held.spec.site)).cloned().collect();
        self.all.retain(|_, held| held.owner != owner || !covers(&held.spec.site));
        let kept = specs.into_iter().map(|spec| match before.iter().position(|held| held.spec == spec) {
            Some(at) => before.swap_remove(at),
            None => {
                self.last_id += 1;
                Arc::new(Breakpoint::new(BreakpointId(self.last_id), owner, spec))
            }
        });
        let kept: Vec<_> = kept.collect();
        self.all.extend(kept.iter().map(|held| (held.id, held.clone())));
        kept
    }

    /// Removes all breakpoints of an owner.
    pub fn remove_owner(&mut self, owner: OwnerId) {
        self.all.retain(|_, held| held.owner != owner);
    }

    /// The breakpoint with this number.
    #[must_use]
    pub fn get(&self, id: BreakpointId) -> Option<&Arc<Breakpoint>> {
        self.all.get(&id)
    }

    /// Binds every breakpoint to the sources and event kinds that are known now.
    #[must_use]
    pub fn resolve(&self, sources: &Sources, kinds: &[String]) -> Vec<Resolved> {
        self.all
            .values()
            .map(|held| Resolved { breakpoint: held.clone(), status: bind(&held.spec.site, sources, kinds) })
            .collect()
    }
}

fn bind(site: &Site, sources: &Sources, kinds: &[String]) -> Status {
    match site {
        Site::Line { path, line } => bind_line(path, *line, sources),
        Site::Function { name } => bind_function(name, sources),
        Site::Event { kind } if kinds.contains(kind) => Status::Bound(Vec::new()),
        Site::Event { kind } => Status::Pending(format!(
            "the host has no event '{kind}'; it has {}",
            if kinds.is_empty() { "none".to_owned() } else { kinds.join(", ") }
        )),
    }
}

fn bind_line(path: &str, line: Line, sources: &Sources) -> Status {
    let matching = sources.matching(path);
    if matching.is_empty() {
        let known: Vec<_> = sources.newest().iter().map(|source| source.short_name().to_owned()).collect();
        return Status::Pending(format!(
            "no source '{path}' is loaded yet; it binds when one is (loaded: {})",
            if known.is_empty() { "none".to_owned() } else { known.join(", ") }
        ));
    }
    let bindings: Vec<_> = matching.iter().filter_map(|source| binding_at(source, line)).collect();
    if bindings.is_empty() {
        let last = matching.iter().filter_map(|source| source.facts.lines.iter().last()).max();
        let last = last.map_or("it has none".to_owned(), |last| format!("its last one with code is {last}"));
        return Status::Pending(format!("{path} has no code at line {line} or after it; {last}"));
    }
    Status::Bound(bindings)
}

fn binding_at(source: &Source, line: Line) -> Option<Binding> {
    let held = source.facts.lines.next_from(line)?;
    let moved_from = (held != line).then_some(line);
    Some(Binding { place: SourceLine { source: source.id, line: held }, moved_from })
}

fn bind_function(name: &str, sources: &Sources) -> Status {
    let (path, wanted) =
        name.rsplit_once(".lua:").map_or((None, name), |(path, function)| (Some(format!("{path}.lua")), function));
    let within = path.as_deref().map_or_else(|| sources.newest(), |path| sources.matching(path));
    let bindings: Vec<_> = within
        .iter()
        .flat_map(|source| source.facts.functions.iter().map(|function| (source.id, function)))
        .filter(|(_, function)| is_named(function, wanted))
        .map(|(source, function)| Binding { place: SourceLine { source, line: function.body }, moved_from: None })
        .collect();
    if bindings.is_empty() {
        return Status::Pending(format!("no loaded source defines a function '{wanted}'; it binds when one does"));
    }
    Status::Bound(bindings)
}

/// `fare` finds `fare`, `tariff.fare` and `tariff:fare`; a longer name must match whole.
fn is_named(function: &FunctionSpan, wanted: &str) -> bool {
    function
        .name
        .as_deref()
        .is_some_and(|name| name == wanted || name.rsplit(['.', ':']).next().is_some_and(|tail| tail == wanted))
}

/// The breakpoints in the form the decision needs: by place, ready to be asked on every line. Made anew at each change
/// and never changed, so that script threads can share it without a lock.
#[derive(Debug, Default)]
pub struct Armed {
    lines: HashMap<SourceLine, Vec<Arc<Breakpoint>>>,
    events: HashMap<String, Vec<Arc<Breakpoint>>>,
    mask: LineSet,
}

impl Armed {
    /// Sorts the bound ones by place.
    #[must_use]
    pub fn new(resolved: &[Resolved]) -> Self {
        let mut armed = Self::default();
        for Resolved { breakpoint, status } in resolved {
            if let (Site::Event { kind }, Status::Bound(_)) = (&breakpoint.spec.site, status) {
                armed.events.entry(kind.clone()).or_default().push(breakpoint.clone());
            }
            for binding in status.bindings() {
                armed.mask.insert(binding.place.line);
                armed.lines.entry(binding.place).or_default().push(breakpoint.clone());
            }
        }
        armed
    }

    /// The breakpoints on a line.
    #[must_use]
    pub fn at_line(&self, place: SourceLine) -> &[Arc<Breakpoint>] {
        self.lines.get(&place).map_or(&[], Vec::as_slice)
    }

    /// The breakpoints on an event.
    #[must_use]
    pub fn on_event(&self, kind: &str) -> &[Arc<Breakpoint>] {
        self.events.get(kind).map_or(&[], Vec::as_slice)
    }

    /// Lines on which some source has a breakpoint: the first and cheapest question on each line.
    #[must_use]
    pub fn line_mask(&self) -> &LineSet {
        &self.mask
    }
}
