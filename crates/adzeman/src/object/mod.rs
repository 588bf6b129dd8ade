//! What a host opens: kinds of events, and objects; and the one way by which their data reaches anyone.

use std::collections::BTreeMap;

use adzeman_core::host::{About, EventKind, HostObject};
use adzeman_core::path::{Path, PathError};
use thiserror::Error;

mod view;

pub(crate) use view::HostData;

/// Why what a host opens does not go together.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum OpenError {
    /// Something was said of an object that is not there: what was to be secret would not be.
    #[error("the host says what '{name}' is, and opens no object of that name; it has {known}")]
    NoObject {
        /// The name.
        name: String,
        /// The objects that there are.
        known: String,
    },
    /// Two objects of one name.
    #[error("the host opens two objects by the name '{0}'; give one of them another")]
    TwoObjects(String),
    /// Two kinds of events of one name.
    #[error("the host declares two kinds of events by the name '{0}'; give one of them another")]
    TwoEvents(String),
    /// A part is named by what is no path.
    #[error("what the host says of '{object}' names no part: {why}")]
    BadPath {
        /// The object.
        object: String,
        /// What is wrong.
        why: PathError,
    },
}

/// What a host opens, as it was described; nothing of it changes.
pub(crate) struct Opened {
    /// The kinds of events.
    pub(crate) kinds: Vec<EventKind>,
    /// Whether any of them has a secret field.
    has_secrets: bool,
    /// The objects, in the order in which they were opened.
    pub(crate) objects: Vec<HostObject>,
    /// What is lent for the time of handlers, and what is said of it.
    lent: Vec<(String, About)>,
}

impl Opened {
    /// Puts together what was said in whatever order; of what was said twice of one object, the last holds.
    pub(crate) fn new(
        kinds: Vec<EventKind>,
        objects: Vec<HostObject>,
        lent: Vec<String>,
        said: Vec<(String, About)>,
    ) -> Result<Self, OpenError> {
        let is_again = |(at, kind): &(usize, &EventKind)| kinds[..*at].iter().any(|held| held.name == kind.name);
        if let Some((_, kind)) = kinds.iter().enumerate().find(is_again) {
            return Err(OpenError::TwoEvents(kind.name.clone()));
        }
        let has_secrets = kinds.iter().any(|kind| kind.fields.iter().any(|field| field.secret));
        let mut opened = Self { kinds, has_secrets, objects: Vec::new(), lent: Vec::new() };
        let mut said: BTreeMap<String, About> = said.into_iter().collect();
        let check = |name: &str, about: &About| {
            about.check().map_err(|why| OpenError::BadPath { object: name.to_owned(), why })
        };
        for object in objects {
            let name = object.name().to_owned();
            if opened.about(&name).is_some() {
                return Err(OpenError::TwoObjects(name));
            }
            let object = match said.remove(&name) {
                Some(about) => object.with_about(about),
                None => object,
            };
            check(&name, object.about())?;
            opened.objects.push(object);
        }
        for name in lent {
            if opened.about(&name).is_some() {
                return Err(OpenError::TwoObjects(name));
            }
            let about = said.remove(&name).unwrap_or_default();
            check(&name, &about)?;
            opened.lent.push((name, about));
        }
        match said.into_keys().next() {
            None => Ok(opened),
            Some(name) => {
                let lent = opened.lent.iter().map(|(name, _)| name.as_str());
                let known: Vec<_> = opened.objects.iter().map(HostObject::name).chain(lent).collect();
                let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
                Err(OpenError::NoObject { name, known })
            }
        }
    }

    fn object(&self, name: &str) -> Option<&HostObject> {
        self.objects.iter().find(|object| object.name() == name)
    }

    /// What is said of an object, opened or lent.
    fn about(&self, name: &str) -> Option<&About> {
        let lent = self.lent.iter().find(|(held, _)| held == name).map(|(_, about)| about);
        self.object(name).map(HostObject::about).or(lent)
    }

    /// Whether state of this name is lent for the time of handlers.
    fn lends(&self, name: &str) -> bool {
        self.lent.iter().any(|(held, _)| held == name)
    }

    /// What is lent for the time of handlers, by its names, and what is said of it.
    pub(crate) fn lent(&self) -> impl Iterator<Item = (&str, &About)> {
        self.lent.iter().map(|(name, about)| (name.as_str(), about))
    }

    pub(crate) fn kind(&self, name: &str) -> Option<&EventKind> {
        self.kinds.iter().find(|kind| kind.name == name)
    }

    /// The kind of this name, if it may have secret fields.
    pub(crate) fn kind_with_secrets(&self, name: &str) -> Option<&EventKind> {
        self.has_secrets.then(|| self.kind(name)).flatten()
    }

    /// The names of the kinds of events.
    pub(crate) fn kind_names(&self) -> Vec<String> {
        self.kinds.iter().map(|kind| kind.name.clone()).collect()
    }

    /// What is said of the object that a path begins with, whether it cannot be changed as far as is known, and the path from it
    /// on.
    pub(crate) fn said_of(&self, path: &Path) -> Option<(&About, bool, Path)> {
        let (name, rest) = path.split_name()?;
        let is_read_only = self.object(name).is_some_and(|object| !object.is_editable());
        Some((self.about(name)?, is_read_only, rest))
    }
}
