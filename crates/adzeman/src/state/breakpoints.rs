//! The breakpoints of all clients: what is set, where it binds, and what of that is armed.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex};

use adzeman_core::breakpoint::{
    Armed, Breakpoint, BreakpointId, BreakpointSpec, BreakpointStore, FindUses, HitRule, OwnerId, Rebound, Resolved,
    Site, Status,
};
use adzeman_core::source::{LineSet, Source, SourceId, SourceLine, Sources};

use super::lock;
use super::sources::{SourceBook, belongs_to};

/// The breakpoints of a host.
#[derive(Default)]
pub(crate) struct Breakpoints {
    store: Mutex<BreakpointStore>,
    resolved: Mutex<Arc<[Resolved]>>,
    armed: Mutex<Arc<Armed>>,
    /// What was armed before, until no context has it any more.
    gone: Mutex<Vec<Arc<Armed>>>,
    /// Clients whose breakpoints are disarmed, all of them.
    disarmed: Mutex<HashSet<OwnerId>>,
    /// What each client calls a library.
    libraries: Mutex<HashMap<OwnerId, Library>>,
    /// The sources that are in one.
    library: Mutex<Arc<HashSet<SourceId>>>,
    /// Lines with breakpoints that are armed by watching lines, and why.
    watched: Mutex<HashMap<SourceLine, Arc<str>>>,
    /// Functions that go on in an earlier text, by their sources and contexts: the first and last lines of their definitions.
    lagging: Mutex<HashMap<(SourceId, i64), Definitions>>,
}

/// The first and last lines of the definitions of functions.
type Definitions = Vec<(u32, u32)>;

/// What is said of a line of a function that goes on in an earlier text.
const LAGGING: &str =
    "a call of its function goes on in the text from before, and is not stopped here until it has returned";

impl Breakpoints {
    /// What is armed now.
    pub(crate) fn armed(&self) -> Arc<Armed> {
        lock(&self.armed).clone()
    }

    /// How breakpoints bind now.
    pub(crate) fn resolved(&self) -> Arc<[Resolved]> {
        lock(&self.resolved).clone()
    }

    /// Whether anything has to be bound anew on account of a source that is new: where it is in a library, steps pass over it.
    pub(crate) fn is_concerned(&self, book: &SourceBook, new: SourceId) -> bool {
        let sources = book.look();
        let is_library = sources.get(new).is_some_and(|source| self.is_library(&sources, source));
        is_library || sources.maps().contains_key(&new) || lock(&self.store).is_concerned(&sources, new)
    }

    /// Forgets what is known of sources that are no more; whether some breakpoint is bound in one of them.
    pub(crate) fn forget_sources(&self, book: &SourceBook, gone: &[SourceId]) -> bool {
        let mut store = lock(&self.store);
        store.forget_sources(&book.look());
        lock(&self.watched).retain(|place, _| !gone.contains(&place.source));
        lock(&self.lagging).retain(|(source, _), _| !gone.contains(source));
        store.is_bound_in(gone)
    }

    /// Forgets all that a client has set.
    pub(crate) fn forget_client(&self, owner: OwnerId) {
        self.remove_of(owner);
        lock(&self.disarmed).remove(&owner);
        lock(&self.libraries).remove(&owner);
    }

    /// Removes all breakpoints of a client.
    pub(crate) fn remove_of(&self, owner: OwnerId) {
        lock(&self.store).remove_owner(owner);
    }

    /// Replaces the breakpoints of a client that `covers` picks out.
    pub(crate) fn replace(
        &self,
        owner: OwnerId,
        covers: impl Fn(&Site) -> bool,
        specs: Vec<BreakpointSpec>,
    ) -> Vec<Arc<Breakpoint>> {
        lock(&self.store).replace(owner, covers, specs)
    }

    /// Adds a breakpoint that goes at the next stop.
    pub(crate) fn add_temporary(&self, owner: OwnerId, site: Site, hits: HitRule) -> BreakpointId {
        let spec = BreakpointSpec { hits, temporary: true, ..BreakpointSpec::at(site) };
        lock(&self.store).add(owner, spec).id
    }

    /// Removes the breakpoints that were set for one run only; whether there were any.
    pub(crate) fn remove_temporary(&self) -> bool {
        lock(&self.store).remove_temporary()
    }

    /// Where a breakpoint binds.
    pub(crate) fn status_of(&self, id: BreakpointId) -> Status {
        let resolved = self.resolved();
        let found = resolved.iter().find(|now| now.breakpoint.id == id);
        found.map_or(Status::Bound(Arc::default()), |now| now.status.clone())
    }

    /// Arms the breakpoints of a client, or disarms all of them; whether that changes anything.
    pub(crate) fn set_armed(&self, owner: OwnerId, armed: bool) -> bool {
        let mut disarmed = lock(&self.disarmed);
        if armed { disarmed.remove(&owner) } else { disarmed.insert(owner) }
    }

    /// Takes what a client calls a library.
    pub(crate) fn set_library(&self, owner: OwnerId, library: Library) {
        lock(&self.libraries).insert(owner, library);
    }

    /// Binds the breakpoints anew that may bind otherwise, and arms all; answers those that bind elsewhere now.
    pub(crate) fn bind(
        &self,
        which: Rebound,
        book: &SourceBook,
        kinds: &[String],
        find_uses: &FindUses<'_>,
    ) -> Vec<Resolved> {
        let sources = book.look();
        // Held throughout: of two who arm at once, the one who saw more sources or breakpoints must come last.
        let mut last = lock(&self.resolved);
        let library = self.library(which, &sources);
        let resolved: Arc<[_]> = lock(&self.store).resolve_anew(which, &sources, kinds, find_uses).into();
        let maps = sources.maps().clone();
        drop(sources);
        let armed = {
            let disarmed = lock(&self.disarmed);
            let is_armed = |held: &&Resolved| !disarmed.contains(&held.breakpoint.owner);
            let armed: Vec<_> = resolved.iter().filter(is_armed).cloned().collect();
            Armed::new(&armed, library).with_maps(maps).sharing(&self.armed())
        };
        let was_armed = std::mem::replace(&mut *lock(&self.armed), Arc::new(armed));
        // Contexts let go of it soon. It is not they who take it apart, however much it is.
        let mut gone = lock(&self.gone);
        gone.retain(|held| Arc::strong_count(held) > 1);
        gone.push(was_armed);
        drop(gone);
        let before = std::mem::replace(&mut *last, resolved.clone());
        drop(last);
        let before: HashMap<_, _> = before.iter().map(|held| (held.breakpoint.id, &held.status)).collect();
        let has_changed = |now: &&Resolved| before.get(&now.breakpoint.id).is_some_and(|status| **status != now.status);
        resolved.iter().filter(has_changed).cloned().collect()
    }

    /// The sources that steps pass over.
    fn library(&self, which: Rebound, sources: &Sources) -> Arc<HashSet<SourceId>> {
        let mut held = lock(&self.library);
        match which {
            Rebound::All => {
                let newest = sources.newest();
                let is_held = |source: &&&Arc<Source>| self.is_library(sources, source);
                *held = Arc::new(newest.iter().filter(is_held).map(|source| source.id).collect());
            }
            Rebound::By(new) => {
                if sources.get(new).is_some_and(|source| self.is_library(sources, source)) {
                    Arc::make_mut(&mut held).insert(new);
                }
            }
            Rebound::New => {}
        }
        held.clone()
    }

    fn is_library(&self, sources: &Sources, source: &Source) -> bool {
        let libraries = lock(&self.libraries);
        let mut said = libraries.values().filter(|library| !library.is_none()).peekable();
        if said.peek().is_none() {
            return false;
        }
        let originals: Vec<_> = sources.originals(source.id).collect();
        said.any(|library| library.holds(&source.facts.name, &originals))
    }

    /// Notes how a line is armed.
    pub(crate) fn note_armed(&self, place: SourceLine, watched_because: Option<&str>) {
        let mut watched = lock(&self.watched);
        match watched_because {
            Some(why) => watched.insert(place, why.into()),
            None => watched.remove(&place),
        };
    }

    /// Notes which functions of a source go on in an earlier text in a context; answers the breakpoints of which that says something
    /// else.
    pub(crate) fn note_lagging(
        &self,
        (source, context): (SourceId, i64),
        functions: &[(u32, u32)],
        sources: &Sources,
    ) -> Vec<Resolved> {
        let places = |now: &Resolved| now.status.bindings().iter().map(|binding| binding.place).collect::<Vec<_>>();
        let resolved = self.resolved();
        let concerned = resolved.iter().filter(|now| places(now).iter().any(|place| place.source == source));
        let lags = |now: &Resolved| places(now).into_iter().any(|place| self.is_lagging(sources, place));
        let before: Vec<_> = concerned.map(|now| (now, lags(now))).collect();
        match functions.is_empty() {
            true => lock(&self.lagging).remove(&(source, context)),
            false => lock(&self.lagging).insert((source, context), functions.to_vec()),
        };
        before.into_iter().filter(|(now, lagged)| lags(now) != *lagged).map(|(now, _)| now.clone()).collect()
    }

    /// Whether a function that holds the line goes on in an earlier text somewhere.
    fn is_lagging(&self, sources: &Sources, place: SourceLine) -> bool {
        let line = LineSet::from_iter([place.line]);
        let holds = |(first, last): &(u32, u32)| {
            sources.get(place.source).is_some_and(|source| source.function_holds(&line, *first, *last))
        };
        let lagging = lock(&self.lagging);
        lagging.iter().any(|((source, _), functions)| *source == place.source && functions.iter().any(holds))
    }

    /// What is worth knowing of how a line is armed, if anything is.
    pub(crate) fn noted_of(&self, sources: &Sources, place: SourceLine) -> Option<String> {
        let because = lock(&self.watched).get(&place).cloned();
        let slower = because.map(|why| format!("its function runs slower, under the line hook: {why}"));
        let lags = self.is_lagging(sources, place).then(|| LAGGING.to_owned());
        let noted: Vec<_> = lags.into_iter().chain(slower).collect();
        (!noted.is_empty()).then(|| noted.join("; "))
    }
}

/// What a client calls a library: some sources, or all but its own.
#[derive(Debug, Default)]
pub(crate) struct Library {
    pub(crate) paths: Vec<String>,
    pub(crate) own: Vec<String>,
}

impl Library {
    fn is_none(&self) -> bool {
        self.paths.is_empty() && self.own.is_empty()
    }

    /// Whether a source, with what it was written as, is in it. A compiled one is one's own if some of it is.
    fn holds(&self, name: &str, originals: &[&str]) -> bool {
        let is_in = |paths: &[String], name: &str| paths.iter().any(|path| belongs_to(name, path));
        let is_own = is_in(&self.own, name) || originals.iter().any(|name| is_in(&self.own, name));
        let is_passed =
            is_in(&self.paths, name) || !originals.is_empty() && originals.iter().all(|name| is_in(&self.paths, name));
        is_passed || !self.own.is_empty() && !is_own
    }
}
