//! The sources that contexts have loaded, and the maps of those that were compiled from something else.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};
use std::sync::{Arc, Condvar, Mutex, PoisonError};

use adzeman_core::breakpoint::OwnerId;
use adzeman_core::source::{Source, SourceFacts, SourceId, SourceLine, Sources, tail_agreement};

use super::lock;
use super::maps::{self, Given};

pub(crate) use super::maps::{MOST_GIVEN_BYTES, MOST_GIVEN_MAPS};

/// Sources that are kept though no context has them any more: someone may look at one.
const MOST_IDLE: usize = 1000;

/// Which contexts have which sources.
#[derive(Default)]
struct Holders {
    of: HashMap<SourceId, HashSet<i64>>,
    /// Those that none has, in the order in which that came to be; some may have been loaded again since.
    idle: VecDeque<SourceId>,
}

impl Holders {
    /// A context does not have a source any more.
    fn release(&mut self, source: SourceId, context: i64) {
        if let Some(held) = self.of.get_mut(&source)
            && held.remove(&context)
            && held.is_empty()
        {
            self.of.remove(&source);
            self.idle.push_back(source);
        }
    }
}

/// The sources of a host.
#[derive(Default)]
pub(crate) struct SourceBook {
    sources: Mutex<Arc<Sources>>,
    holders: Mutex<Holders>,
    /// Maps that clients gave, and what is wrong with maps.
    given: Mutex<Vec<Given>>,
    troubles: Mutex<BTreeMap<String, String>>,
    /// Sources to which breakpoints are being bound at this moment.
    unbound: Mutex<HashSet<SourceId>>,
    bound: Condvar,
}

/// A source that is new, until what waits for it is bound and every context is told. Whoever loads the same one meanwhile waits: its
/// first line is yet to run.
pub(crate) struct Unbound<'a> {
    book: &'a SourceBook,
    source: SourceId,
}

impl Drop for Unbound<'_> {
    fn drop(&mut self) {
        lock(&self.book.unbound).remove(&self.source);
        self.book.bound.notify_all();
    }
}

impl SourceBook {
    /// All of them as they are now. Who looks keeps nobody from changing them, however long it takes.
    pub(crate) fn look(&self) -> Arc<Sources> {
        lock(&self.sources).clone()
    }

    fn change<T>(&self, change: impl FnOnce(&mut Sources) -> T) -> T {
        change(Arc::make_mut(&mut lock(&self.sources)))
    }

    /// The source that a place is shown in, and the line there.
    pub(crate) fn shown(&self, place: SourceLine) -> (Option<Arc<Source>>, SourceLine) {
        let sources = self.look();
        let shown = sources.shown(place);
        (sources.get(shown.source).cloned(), shown)
    }

    /// Takes a source that the engine of a context loaded; answers what to hold until it is bound, too, if it is new.
    pub(crate) fn add(&self, facts: SourceFacts, context: i64) -> (SourceId, Option<Unbound<'_>>) {
        let mut unbound = lock(&self.unbound);
        let (id, is_new) = self.note(facts, context);
        if is_new {
            unbound.insert(id);
            return (id, Some(Unbound { book: self, source: id }));
        }
        while unbound.contains(&id) {
            unbound = self.bound.wait(unbound).unwrap_or_else(PoisonError::into_inner);
        }
        (id, None)
    }

    fn note(&self, facts: SourceFacts, context: i64) -> (SourceId, bool) {
        // First, so that it is not forgotten meanwhile.
        let mut holders = lock(&self.holders);
        let (id, is_new) = self.change(|sources| {
            let known = sources.named(&facts.name).map(|source| source.id);
            let id = sources.add(facts);
            (id, known != Some(id))
        });
        holders.of.entry(id).or_default().insert(context);
        (id, is_new)
    }

    /// Nothing of a source is left in a context; answers the sources that are forgotten for that.
    pub(crate) fn release(&self, source: SourceId, context: i64) -> Vec<SourceId> {
        let mut holders = lock(&self.holders);
        holders.release(source, context);
        self.forget_idle(&mut holders)
    }

    /// A context is closed; answers as [`release`](Self::release).
    pub(crate) fn release_all(&self, context: i64) -> Vec<SourceId> {
        let mut holders = lock(&self.holders);
        let held: Vec<_> =
            holders.of.iter().filter(|(_, held)| held.contains(&context)).map(|(source, _)| *source).collect();
        held.into_iter().for_each(|source| holders.release(source, context));
        self.forget_idle(&mut holders)
    }

    /// Forgets the sources that none has for the longest time, where there are too many.
    fn forget_idle(&self, holders: &mut Holders) -> Vec<SourceId> {
        let mut gone = Vec::new();
        while holders.idle.len() > MOST_IDLE
            && let Some(oldest) = holders.idle.pop_front()
        {
            let is_idle = !holders.of.contains_key(&oldest) && !holders.idle.contains(&oldest);
            gone.extend(is_idle.then_some(oldest));
        }
        if !gone.is_empty() {
            self.change(|sources| gone.iter().for_each(|id| sources.forget(*id)));
        }
        gone
    }

    /// Finds the map of a source that was compiled from something else. Answers what is wrong with a broken one, which is
    /// ignored.
    pub(crate) fn map(&self, id: SourceId) -> Option<String> {
        let source = self.look().get(id).cloned()?;
        let text = source.facts.text.clone()?;
        let name = &source.facts.name;
        let given = lock(&self.given).iter().find(|given| belongs_to(name, &given.path)).map(|given| given.of(name));
        match given.or_else(|| maps::find(name, &text, &source.facts.language))? {
            Ok(map) => {
                lock(&self.troubles).remove(name);
                self.change(|sources| sources.set_map(id, map));
                None
            }
            Err(why) => {
                let trouble = format!("the source map of {name} cannot be used: {why}; its own lines are shown\n");
                let mut troubles = lock(&self.troubles);
                if troubles.len() < MOST_GIVEN_MAPS {
                    troubles.insert(name.clone(), trouble.clone());
                }
                Some(trouble)
            }
        }
    }

    /// Takes the map of a script from a client; answers the sources that it is for, or `None` when there are too many maps.
    pub(crate) fn give_map(&self, owner: OwnerId, path: String, map: &str) -> Option<Vec<SourceId>> {
        let mut given = lock(&self.given);
        // The last one for a path is the one that counts.
        given.retain(|held| held.path != path);
        let bytes: usize = given.iter().map(|held| held.bytes).sum();
        if given.len() >= MOST_GIVEN_MAPS || bytes + map.len() > MOST_GIVEN_BYTES {
            return None;
        }
        given.push(Given::read(owner, path.clone(), map));
        drop(given);
        Some(self.named_by(&path))
    }

    /// Forgets the maps that a client gave; answers the sources that they were for, which may have maps of their own.
    pub(crate) fn forget_maps_of(&self, owner: OwnerId) -> Vec<SourceId> {
        let gone: Vec<Given> = lock(&self.given).extract_if(.., |held| held.owner == owner).collect();
        let ids: Vec<_> = gone.iter().flat_map(|held| self.named_by(&held.path)).collect();
        self.change(|sources| ids.iter().for_each(|id| sources.forget_map(*id)));
        ids
    }

    /// What is wrong with maps of sources that are loaded already.
    pub(crate) fn troubles(&self) -> Vec<String> {
        lock(&self.troubles).values().cloned().collect()
    }

    /// The newest sources that a path means.
    fn named_by(&self, path: &str) -> Vec<SourceId> {
        let sources = self.look();
        let newest = sources.newest();
        newest.iter().filter(|source| belongs_to(&source.facts.name, path)).map(|source| source.id).collect()
    }
}

/// Whether a source is named by `path`: the end of its name, or with a slash at the end, a folder that it is in.
pub(super) fn belongs_to(name: &str, path: &str) -> bool {
    match path.strip_suffix(['/', '\\']) {
        Some(folder) => {
            let name = name.replace('\\', "/");
            let folder = folder.replace('\\', "/");
            name.starts_with(&format!("{folder}/")) || name.contains(&format!("/{folder}/"))
        }
        None => tail_agreement(name, path).is_some(),
    }
}
