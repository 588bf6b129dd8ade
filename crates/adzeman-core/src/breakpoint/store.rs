//! The store of all breakpoints of a host, and how they bind to the sources that are loaded.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use super::{ANY_EVENT, Breakpoint, BreakpointId, BreakpointSpec, ChangeKind, OwnerId, Site, Tracked};
use crate::source::{FunctionSpan, Language, Line, NameUse, Source, SourceId, SourceLine, Sources, tail_agreement};

/// Why a breakpoint is not on the line that was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moved {
    /// That line has no code.
    NoCode(Line),
    /// That line is inside a statement that begins above it.
    Inside(Line),
    /// The source was loaded anew, and the text of that line is elsewhere now.
    WithText(Line),
}

/// Where a line or function breakpoint is in one source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Binding {
    /// The place itself.
    pub place: SourceLine,
    /// Why it is not where it was asked for, if it is not.
    pub moved: Option<Moved>,
    /// On a use of a value: how the line writes what it uses.
    pub uses: Arc<[NameUse]>,
}

/// Whether a breakpoint can be hit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Status {
    /// It can, at these places (none for what has no place, such as an event).
    Bound(Arc<[Binding]>),
    /// It cannot yet; the text says why and what would help.
    Pending(Arc<str>),
}

impl Status {
    fn pending(why: String) -> Self {
        Self::Pending(why.into())
    }

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

/// The line that a breakpoint was first bound to in a source, to be found again when the source changes.
#[derive(Debug)]
struct FirstBound {
    source: SourceId,
    line: Line,
    text: String,
}

/// Which breakpoints may bind otherwise than the last time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rebound {
    /// Any.
    All,
    /// Those that are new.
    New,
    /// Those that are new, and those that a source concerns which is new.
    By(SourceId),
}

/// All breakpoints of a host, of all owners.
#[derive(Debug, Default)]
pub struct BreakpointStore {
    all: BTreeMap<BreakpointId, Arc<Breakpoint>>,
    first_bound: HashMap<(BreakpointId, String), FirstBound>,
    /// Uses found before, by source and name.
    uses: HashMap<(SourceId, String), Vec<NameUse>>,
    /// How each bound the last time.
    bound: HashMap<BreakpointId, Status>,
    last_id: u64,
}

impl BreakpointStore {
    /// Whether nobody has set any.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// Makes the breakpoints of `owner` that `covers` picks out be exactly `specs`, in that order. One that is asked for
    /// again as it was, enabled or not, keeps its number and its hits.
    pub fn replace(
        &mut self,
        owner: OwnerId,
        covers: impl Fn(&Site) -> bool,
        specs: Vec<BreakpointSpec>,
    ) -> Vec<Arc<Breakpoint>> {
        let is_covered = |held: &Breakpoint| held.owner == owner && covers(&held.spec.site) && !held.spec.temporary;
        let mut before: Vec<_> = self.all.values().filter(|held| is_covered(held)).cloned().collect();
        self.all.retain(|_, held| !is_covered(held));
        let mut kept = Vec::new();
        for spec in specs {
            let is_same =
                |held: &Arc<Breakpoint>| BreakpointSpec { enabled: spec.enabled, ..held.spec.clone() } == spec;
            kept.push(match before.iter().position(is_same).map(|at| before.swap_remove(at)) {
                Some(held) if held.spec.enabled == spec.enabled => held,
                Some(held) => Arc::new(held.with_enabled(spec.enabled)),
                None => self.make(owner, spec),
            });
        }
        self.all.extend(kept.iter().map(|held| (held.id, held.clone())));
        self.forget_bindings();
        kept
    }

    fn make(&mut self, owner: OwnerId, spec: BreakpointSpec) -> Arc<Breakpoint> {
        self.last_id += 1;
        Arc::new(Breakpoint::new(BreakpointId(self.last_id), owner, spec))
    }

    /// Adds one breakpoint.
    pub fn add(&mut self, owner: OwnerId, spec: BreakpointSpec) -> Arc<Breakpoint> {
        let made = self.make(owner, spec);
        self.all.insert(made.id, made.clone());
        made
    }

    /// Removes all breakpoints of an owner.
    pub fn remove_owner(&mut self, owner: OwnerId) {
        self.all.retain(|_, held| held.owner != owner);
        self.forget_bindings();
    }

    /// Removes the temporary ones, of all owners; whether there were any.
    pub fn remove_temporary(&mut self) -> bool {
        let before = self.all.len();
        self.all.retain(|_, held| !held.spec.temporary);
        self.forget_bindings();
        self.all.len() < before
    }

    /// Forgets what was found out of sources that are no more.
    pub fn forget_sources(&mut self, sources: &Sources) {
        self.uses.retain(|(source, _), _| sources.get(*source).is_some());
    }

    /// Whether some breakpoint is bound in one of these sources.
    #[must_use]
    pub fn is_bound_in(&self, gone: &[SourceId]) -> bool {
        let mut bindings = self.bound.values().flat_map(Status::bindings);
        bindings.any(|binding| gone.contains(&binding.place.source))
    }

    fn forget_bindings(&mut self) {
        self.first_bound.retain(|(id, _), _| self.all.contains_key(id));
        self.bound.retain(|id, _| self.all.contains_key(id));
    }

    /// The breakpoint with this number.
    #[must_use]
    pub fn get(&self, id: BreakpointId) -> Option<&Arc<Breakpoint>> {
        self.all.get(&id)
    }

    /// Whether some breakpoint may bind otherwise on account of a source that is new.
    #[must_use]
    pub fn is_concerned(&self, sources: &Sources, new: SourceId) -> bool {
        self.all.values().any(|held| self.concerns(sources, new, held))
    }

    fn concerns(&self, sources: &Sources, new: SourceId, breakpoint: &Breakpoint) -> bool {
        let Some(source) = sources.get(new) else { return false };
        let is_named = |path: &str| {
            let mut names = std::iter::once(source.facts.name.as_str()).chain(sources.originals(new));
            names.any(|name| tail_agreement(name, path).is_some())
        };
        match &breakpoint.spec.site {
            Site::Line { path, .. } => is_named(path),
            Site::Function { name } => {
                // Its functions are looked for where they can be there.
                let may_define = source.facts.text.as_ref().is_none_or(|text| text.contains(last_name(name)));
                let is_one = |held: &FunctionSpan| is_called(held, name, &source.facts.language);
                let defines = may_define && source.code().functions.iter().any(is_one);
                let is_in_it = name.match_indices(':').any(|(at, _)| is_named(&name[..at]));
                defines || is_in_it || self.is_replaced(sources, source, breakpoint.id)
            }
            Site::Change { target: Tracked::Script { shown, .. }, how: ChangeKind::Written | ChangeKind::Read } => {
                let text = source.facts.text.as_deref();
                text.is_some_and(|text| may_use(text, last_name(shown)))
                    || self.is_replaced(sources, source, breakpoint.id)
            }
            Site::Change { .. } | Site::Event { .. } | Site::Time { .. } | Site::Error { .. } => false,
        }
    }

    /// Whether a breakpoint is bound to an earlier source of the same name.
    fn is_replaced(&self, sources: &Sources, source: &Source, id: BreakpointId) -> bool {
        let bindings = self.bound.get(&id).map_or(&[][..], Status::bindings);
        let mut held = bindings.iter().filter_map(|binding| sources.get(binding.place.source));
        held.any(|held| held.facts.name == source.facts.name)
    }

    /// Binds every breakpoint to the sources and event kinds that are known now. A line breakpoint is found again by its
    /// text in a source that was loaded anew. `find_uses` finds where a script's text uses a name.
    #[must_use]
    pub fn resolve(&mut self, sources: &Sources, kinds: &[String], find_uses: &FindUses<'_>) -> Vec<Resolved> {
        self.resolve_anew(Rebound::All, sources, kinds, find_uses)
    }

    /// The same, of which only some may bind otherwise than the last time.
    #[must_use]
    pub fn resolve_anew(
        &mut self,
        which: Rebound,
        sources: &Sources,
        kinds: &[String],
        find_uses: &FindUses<'_>,
    ) -> Vec<Resolved> {
        let is_same = |held: &Breakpoint| match which {
            Rebound::All => false,
            Rebound::New => true,
            Rebound::By(source) => !self.concerns(sources, source, held),
        };
        let kept = |held: &Arc<Breakpoint>| self.bound.get(&held.id).filter(|_| is_same(held)).cloned();
        let kept: Vec<_> = self.all.values().map(kept).collect();
        let (first_bound, uses) = (&mut self.first_bound, &mut self.uses);
        let mut bind = |held: &Arc<Breakpoint>| match &held.spec.site {
            Site::Line { path, line } => bind_line(held.id, path, *line, sources, first_bound),
            Site::Function { name } => bind_function(name, sources),
            Site::Event { kind, .. } | Site::Time { kind, .. } => bind_event(kind, kinds),
            Site::Change {
                target: Tracked::Script { shown, .. },
                how: how @ (ChangeKind::Written | ChangeKind::Read),
            } => bind_uses(shown, *how == ChangeKind::Written, sources, find_uses, uses),
            Site::Error { .. } | Site::Change { .. } => Status::Bound(Arc::default()),
        };
        let resolve = |(held, kept): (&Arc<Breakpoint>, Option<Status>)| {
            let status = kept.unwrap_or_else(|| {
                let status = bind(held);
                self.bound.insert(held.id, status.clone());
                status
            });
            Resolved { breakpoint: held.clone(), status }
        };
        self.all.values().zip(kept).map(resolve).collect()
    }
}

/// The last name in what a value is called.
fn last_name(shown: &str) -> &str {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    shown.rsplit(|c| !is_part(c)).find(|part| !part.is_empty()).unwrap_or(shown)
}

/// Whether a text may use a field of this name, which may only show when it runs: `boats[name]`.
fn may_use(text: &str, name: &str) -> bool {
    text.contains(name) || text.contains('[')
}

/// Finds where the text of a source uses a name.
pub type FindUses<'a> = dyn Fn(&Source, &str) -> Vec<NameUse> + 'a;

/// The statements that may use a value, by the last name it is called by.
fn bind_uses(
    shown: &str,
    is_write: bool,
    sources: &Sources,
    find_uses: &FindUses<'_>,
    known: &mut HashMap<(SourceId, String), Vec<NameUse>>,
) -> Status {
    let name = last_name(shown);
    let mut used: Vec<(SourceLine, Vec<NameUse>)> = Vec::new();
    for source in sources.newest() {
        if source.facts.text.as_ref().is_none_or(|text| !may_use(text, name)) || source.text().is_none() {
            continue;
        }
        let uses = known.entry((source.id, name.to_owned())).or_insert_with(|| find_uses(source, name));
        for held in uses.iter().filter(|held| held.is_write == is_write) {
            let Some(line) = source.code().lines.next_from(held.line) else { continue };
            let place = SourceLine { source: source.id, line };
            match used.iter_mut().find(|(known, _)| *known == place) {
                Some((_, uses)) => uses.push(held.clone()),
                None => used.push((place, vec![held.clone()])),
            }
        }
    }
    if used.is_empty() {
        let how = if is_write { "assigns to" } else { "reads" };
        return Status::pending(format!("no statement of a loaded source {how} '{name}'; it binds when one does"));
    }
    Status::Bound(used.into_iter().map(|(place, uses)| Binding { place, moved: None, uses: uses.into() }).collect())
}

fn bind_event(kind: &str, kinds: &[String]) -> Status {
    if kind == ANY_EVENT || kinds.iter().any(|known| known == kind) {
        return Status::Bound(Arc::default());
    }
    let known = if kinds.is_empty() { "none".to_owned() } else { kinds.join(", ") };
    Status::pending(format!("the host has no event '{kind}'; it has {known}"))
}

/// Sources that are named where none is the one that is meant.
const MOST_NAMED: usize = 20;

fn bind_line(
    id: BreakpointId,
    path: &str,
    line: Line,
    sources: &Sources,
    first_bound: &mut HashMap<(BreakpointId, String), FirstBound>,
) -> Status {
    let matching = sources.matching(path);
    if matching.is_empty() {
        let all = sources.newest();
        let mut known: Vec<_> = all.iter().take(MOST_NAMED).map(|source| source.short_name().to_owned()).collect();
        match all.len().checked_sub(MOST_NAMED) {
            Some(more @ 1..) => known.push(format!("and {more} more")),
            _ if known.is_empty() => known.push("none".to_owned()),
            _ => {}
        }
        let known = known.join(", ");
        return Status::pending(format!(
            "no source '{path}' is loaded yet; it binds when one is (loaded when it was looked for: {known})"
        ));
    }
    let bindings: Vec<_> = matching
        .iter()
        .filter_map(|source| {
            let first = first_bound.get(&(id, source.facts.name.clone()));
            let binding = binding_at(source, line, first)?;
            first_bound.entry((id, source.facts.name.clone())).or_insert_with(|| FirstBound {
                source: source.id,
                line: binding.place.line,
                text: trimmed(source, binding.place.line),
            });
            Some(binding)
        })
        .flat_map(|binding| in_compiled(binding, sources))
        .collect();
    if bindings.is_empty() {
        if matching.iter().any(|source| source.code().is_part) {
            let why = "its text is not known, and no function there was seen yet";
            return Status::pending(format!("nothing is known of line {line} of {path}: {why}; it binds when one is"));
        }
        let last = matching.iter().filter_map(|source| source.code().lines.iter().last()).max();
        let last = last.map_or("it has none".to_owned(), |last| format!("its last one with code is {last}"));
        return Status::pending(format!("{path} has no code at line {line} or after it; {last}"));
    }
    Status::Bound(bindings.into())
}

/// The bindings in compiled scripts for one in what they were written as; others stay as they are.
fn in_compiled(binding: Binding, sources: &Sources) -> Vec<Binding> {
    let Some(places) = sources.compiled(binding.place) else { return vec![binding] };
    let begin = |place: SourceLine| {
        let start = sources.get(place.source).and_then(|source| source.code().inside.get(&place.line).copied());
        SourceLine { line: start.unwrap_or(place.line), ..place }
    };
    places.into_iter().map(|place| Binding { place: begin(place), ..binding.clone() }).collect()
}

fn trimmed(source: &Source, line: Line) -> String {
    source.text_of(line).unwrap_or_default().trim().to_owned()
}

fn binding_at(source: &Source, line: Line, first: Option<&FirstBound>) -> Option<Binding> {
    let place = |line| SourceLine { source: source.id, line };
    let first = first.filter(|first| first.source != source.id && !first.text.is_empty());
    if let Some(found) = first.and_then(|first| with_text(source, first)) {
        let moved = (found != line).then_some(Moved::WithText(line));
        return Some(Binding { place: place(found), moved, uses: Arc::default() });
    }
    if let Some(start) = source.code().inside.get(&line) {
        return Some(Binding { place: place(*start), moved: Some(Moved::Inside(line)), uses: Arc::default() });
    }
    let held = source.code().lines.next_from(line)?;
    // Of what nobody has seen nothing is known: the next line that is may be of another function.
    let is_known = |function: &FunctionSpan| function.first <= line && held <= function.last;
    if source.code().is_part && held != line && !source.function_at(line).is_some_and(is_known) {
        return None;
    }
    Some(Binding { place: place(held), moved: (held != line).then_some(Moved::NoCode(line)), uses: Arc::default() })
}

/// The line with the text that the breakpoint was first bound to, the nearest one to where it was.
fn with_text(source: &Source, first: &FirstBound) -> Option<Line> {
    let same = source.code().lines.iter().filter(|line| trimmed(source, *line) == first.text);
    same.min_by_key(|line| line.get().abs_diff(first.line.get()))
}

/// A name may be that of a method (`boat:length`) or begin with a file (`toll.lua:fare`): the first that is defined wins.
fn bind_function(name: &str, sources: &Sources) -> Status {
    let mut bindings = named_in(&sources.newest(), name);
    if let (true, Some((path, rest))) = (bindings.is_empty(), split_file(name, sources)) {
        let within = sources.matching(path);
        bindings = match rest.parse().ok().and_then(Line::new) {
            Some(line) => defined_at(&within, line),
            None => named_in(&within, rest),
        };
        if bindings.is_empty() {
            return Status::pending(format!("{path} defines no function '{rest}'; it binds when it does"));
        }
    }
    if bindings.is_empty() {
        return Status::pending(format!("no loaded source defines a function '{name}'; it binds when one does"));
    }
    Status::Bound(bindings.into())
}

/// Splits `toll.lua:boat:length` behind the part that is the path of a source.
fn split_file<'a>(name: &'a str, sources: &Sources) -> Option<(&'a str, &'a str)> {
    let colons = name.match_indices(':').map(|(at, _)| at);
    colons.map(|at| (&name[..at], &name[at + 1..])).find(|(path, _)| !sources.matching(path).is_empty())
}

fn binding_of(source: &Source, function: &FunctionSpan) -> Binding {
    Binding { place: SourceLine { source: source.id, line: function.body }, moved: None, uses: Arc::default() }
}

fn named_in(within: &[&Arc<Source>], wanted: &str) -> Vec<Binding> {
    let functions =
        within.iter().flat_map(|source| source.code().functions.iter().map(move |function| (source, function)));
    functions
        .filter(|(source, function)| is_called(function, wanted, &source.facts.language))
        .map(|(source, function)| binding_of(source, function))
        .collect()
}

/// The functions whose definition begins on a line.
fn defined_at(within: &[&Arc<Source>], line: Line) -> Vec<Binding> {
    let functions =
        within.iter().flat_map(|source| source.code().functions.iter().map(move |function| (source, function)));
    functions
        .filter(|(_, function)| function.first == line)
        .map(|(source, function)| binding_of(source, function))
        .collect()
}

/// `fare` finds `fare`, `tariff.fare` and, where methods are written so, `tariff:fare`; a longer name must match whole.
fn is_called(function: &FunctionSpan, wanted: &str, language: &Language) -> bool {
    function.name.as_deref().is_some_and(|name| name == wanted || language.last_name(name) == wanted)
}
