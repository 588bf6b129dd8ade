//! The sources that contexts have loaded, and the maps of those that were compiled from something else.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError, RwLock, RwLockReadGuard, RwLockWriteGuard};

use adzeman_core::breakpoint::OwnerId;
use adzeman_core::source::{Source, SourceFacts, SourceId, SourceLine, Sources, tail_agreement};

use super::lock;
use super::maps::{self, Given};

pub(crate) use super::maps::{MOST_GIVEN_BYTES, MOST_GIVEN_MAPS};

/// The sources of a host.
#[derive(Default)]
pub(crate) struct SourceBook {
    sources: RwLock<Sources>,
    /// Maps that clients gave, and what is wrong with maps.
    given: Mutex<Vec<Given>>,
    troubles: Mutex<BTreeMap<String, String>>,
}

impl SourceBook {
    /// Lends all of them. Who looks does not wait for others who do.
    pub(crate) fn look(&self) -> RwLockReadGuard<'_, Sources> {
        self.sources.read().unwrap_or_else(PoisonError::into_inner)
    }

    fn change(&self) -> RwLockWriteGuard<'_, Sources> {
        self.sources.write().unwrap_or_else(PoisonError::into_inner)
    }

    /// The source that a place is shown in, and the line there.
    pub(crate) fn shown(&self, place: SourceLine) -> (Option<Arc<Source>>, SourceLine) {
        let sources = self.look();
        let shown = sources.shown(place);
        (sources.get(shown.source).cloned(), shown)
    }

    /// Takes a source that an engine loaded; answers whether it is new, too.
    pub(crate) fn add(&self, facts: SourceFacts) -> (SourceId, bool) {
        let mut sources = self.change();
        let known = sources.named(&facts.name).map(|source| source.id);
        let id = sources.add(facts);
        (id, known != Some(id))
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
                self.change().set_map(id, map);
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
        ids.iter().for_each(|id| self.change().forget_map(*id));
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
