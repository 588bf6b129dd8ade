//! How an object of the host is looked at and changed, whoever keeps it: one that was opened for good, or one that is lent.

use serde::Serialize;
use serde_json::Value as Json;

use super::change::NotChanged;
use super::{About, Aspect, Data, Extent, HostError, Outline, at, describe, outline, pick, to_data};
use crate::path::{Notation, Path, Root, TreePath};

/// Some state, by what serde or a host's functions know of it. Paths are from the object on; nothing is answered while the state
/// is in use.
pub trait Access {
    /// All of it as data, or why it cannot be.
    fn read(&self) -> Option<Result<Json, String>>;

    /// The part at a path; also nothing where there is none.
    fn pick(&self, path: &Path, extent: Extent) -> Option<Json>;

    /// The same as far as it is shown.
    fn outline(&self, path: &Path, aspect: Aspect) -> Option<Outline>;

    /// Whether it can be changed.
    fn is_editable(&self) -> bool {
        false
    }

    /// Gives the part at a path another value.
    fn change(&self, path: &Path, value: Json) -> Option<Result<(), NotChanged>> {
        let _ = (path, value);
        None
    }
}

/// What is asked of some state when it is looked at.
pub(super) enum Look<'a> {
    Read,
    Pick(&'a Path, Extent),
    Outline(&'a Path, Aspect),
}

/// What comes of it.
pub(super) enum Seen {
    Read(Result<Json, String>),
    Picked(Option<Json>),
    Outlined(Option<Outline>),
}

impl Look<'_> {
    pub(super) fn at<S: Serialize + ?Sized>(&self, state: &S) -> Seen {
        match self {
            Self::Read => Seen::Read(to_data(state).map_err(|error| error.to_string())),
            Self::Pick(path, extent) => Seen::Picked(pick(state, path, *extent).ok().flatten()),
            Self::Outline(path, aspect) => Seen::Outlined(outline(state, path, *aspect).ok().flatten()),
        }
    }
}

/// Implements [`Access`] for a type with a method `look`, which takes a [`Look`] and answers what is [`Seen`], unless the state is
/// in use.
macro_rules! access_by_look {
    ({$($generic:tt)*} $type:ty where {$($bound:tt)*} {$($more:item)*}) => {
        impl<$($generic)*> Access for $type
        where
            $($bound)*
        {
            fn read(&self) -> Option<Result<Json, String>> {
                match self.look(&Look::Read)? {
                    Seen::Read(read) => Some(read),
                    _ => None,
                }
            }

            fn pick(&self, path: &Path, extent: Extent) -> Option<Json> {
                match self.look(&Look::Pick(path, extent))? {
                    Seen::Picked(part) => part,
                    _ => None,
                }
            }

            fn outline(&self, path: &Path, aspect: Aspect) -> Option<Outline> {
                match self.look(&Look::Outline(path, aspect))? {
                    Seen::Outlined(part) => part,
                    _ => None,
                }
            }

            $($more)*
        }
    };
}

pub(super) use access_by_look;

/// An object that is looked at or changed at this moment.
#[derive(Clone, Copy)]
pub struct ObjectRef<'a> {
    pub(super) name: &'a str,
    pub(super) about: &'a About,
    pub(super) access: &'a dyn Access,
}

impl<'a> ObjectRef<'a> {
    /// An object of this name, with what is said of its parts.
    #[must_use]
    pub fn new(name: &'a str, about: &'a About, access: &'a dyn Access) -> Self {
        Self { name, about, access }
    }

    /// Its name, the first part of every path into it.
    #[must_use]
    pub fn name(&self) -> &'a str {
        self.name
    }

    /// The part at a path from the object on, without what is secret. Only that part is turned into data.
    ///
    /// # Errors
    /// [`HostError::Secret`], [`HostError::NoField`], [`HostError::Busy`] while the host holds its lock, or
    /// [`HostError::Unreadable`] when serde fails.
    pub fn get(&self, path: &Path, notation: Notation) -> Result<Data, HostError> {
        self.part(path, Extent::Whole, notation)
    }

    /// The same, with nothing inside: a list or an object is empty. However large it is, only the path is visited.
    ///
    /// # Errors
    /// As [`get`](Self::get).
    pub fn bare(&self, path: &Path, notation: Notation) -> Result<Data, HostError> {
        self.part(path, Extent::Bare, notation)
    }

    /// The same as far as it is shown: however large it is, only the path is visited, and what is shown.
    ///
    /// # Errors
    /// As [`get`](Self::get).
    pub fn outline(&self, path: &Path, aspect: Aspect, notation: Notation) -> Result<Outline, HostError> {
        if self.about.is_secret(path) {
            return Err(HostError::Secret { path: self.place(path).display(notation) });
        }
        let outline = match self.access.outline(path, aspect) {
            Some(outline) => outline,
            None => Outline::of_data(&self.missing(path, notation)?.into(), aspect),
        };
        Ok(self.about.sealed_outline(path, outline))
    }

    fn part(&self, path: &Path, extent: Extent, notation: Notation) -> Result<Data, HostError> {
        if self.about.is_secret(path) {
            return Err(HostError::Secret { path: self.place(path).display(notation) });
        }
        let part = match self.access.pick(path, extent) {
            Some(part) => part,
            None => self.missing(path, notation)?,
        };
        Ok(self.about.sealed(path, part))
    }

    /// What is there instead of what a path names; the part itself, if it has come meanwhile.
    fn missing(&self, path: &Path, notation: Notation) -> Result<Json, HostError> {
        let segments = path.segments();
        for walked in (0..segments.len()).rev() {
            let (before, behind) = segments.split_at(walked);
            let before: Path = before.iter().cloned().collect();
            if let Some(names) = self.access.pick(&before, Extent::Names) {
                let next: Path = behind.iter().take(1).cloned().collect();
                let skipped = TreePath { root: Root::Host, path: before.under(self.name) };
                let place = TreePath {
                    path: skipped.path.segments().iter().chain(next.segments()).cloned().collect(),
                    ..skipped
                };
                at(&names, &place, walked + 1, notation)?;
                break;
            }
        }
        // It is in use, cannot be read, or has come meanwhile.
        at(&self.whole(notation)?, &self.place(path), 1, notation).cloned()
    }

    /// Gives the part at a path another value.
    ///
    /// # Errors
    /// [`HostError::ReadOnly`], [`HostError::Secret`], [`HostError::NoField`], [`HostError::Busy`], [`HostError::Refused`] with
    /// what was expected, or [`HostError::Vetoed`]. Nothing is changed then.
    pub fn change(&self, path: &Path, value: Json, notation: Notation) -> Result<(), HostError> {
        let place = self.place(path);
        let shown = || place.display(notation);
        if !self.access.is_editable() {
            return Err(HostError::ReadOnly { path: self.place(&Path::default()).display(notation) });
        }
        if self.about.is_secret(path) {
            return Err(HostError::Secret { path: shown() });
        }
        if self.about.hides_within(path) {
            let why = "parts of it are secret, and would be lost; change its other parts one by one".to_owned();
            return Err(HostError::Refused { path: shown(), why });
        }
        match self.access.change(path, value) {
            None => Err(HostError::Busy { path: shown() }),
            Some(Ok(())) => Ok(()),
            Some(Err(NotChanged::Unreadable(why))) => Err(HostError::Unreadable { path: shown(), why }),
            Some(Err(NotChanged::Vetoed(why))) => Err(HostError::Vetoed { path: shown(), why }),
            Some(Err(NotChanged::NotThere)) => self.get(path, notation).and(Err(HostError::Busy { path: shown() })),
            Some(Err(NotChanged::Refused(why))) => {
                let held = self.outline(path, Aspect::Itself, notation).map(|held| describe(&held, &place));
                let now = held.map(|held| format!("; it holds {} ({}) now", held.preview, held.type_name));
                Err(HostError::Refused { path: shown(), why: why + &now.unwrap_or_default() })
            }
        }
    }

    fn whole(&self, notation: Notation) -> Result<Json, HostError> {
        let path = || self.place(&Path::default()).display(notation);
        let read = self.access.read().ok_or_else(|| HostError::Busy { path: path() })?;
        read.map_err(|why| HostError::Unreadable { path: path(), why })
    }

    fn place(&self, path: &Path) -> TreePath {
        TreePath { root: Root::Host, path: path.under(self.name) }
    }
}
