//! What a host opens: kinds of events, and objects; and the one way by which their data reaches anyone.

use std::collections::BTreeMap;

use adzeman_core::host::{About, Aspect, Data, EventKind, HostError, HostObject, Outline};
use adzeman_core::path::{Notation, Path, PathError};
use adzeman_core::value::Page;
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
    /// The objects, in the order in which they were opened.
    pub(crate) objects: Vec<HostObject>,
}

impl Opened {
    /// Puts together what was said in whatever order; of what was said twice of one object, the last holds.
    pub(crate) fn new(
        kinds: Vec<EventKind>,
        objects: Vec<HostObject>,
        said: Vec<(String, About)>,
    ) -> Result<Self, OpenError> {
        let mut opened = Self { kinds, objects: Vec::new() };
        let mut said: BTreeMap<String, About> = said.into_iter().collect();
        for object in objects {
            let name = object.name().to_owned();
            if opened.object(&name).is_some() {
                return Err(OpenError::TwoObjects(name));
            }
            let object = match said.remove(&name) {
                Some(about) => object.with_about(about),
                None => object,
            };
            object.about().check().map_err(|why| OpenError::BadPath { object: name, why })?;
            opened.objects.push(object);
        }
        match said.into_keys().next() {
            None => Ok(opened),
            Some(name) => {
                let known: Vec<_> = opened.objects.iter().map(HostObject::name).collect();
                let known = if known.is_empty() { "none".to_owned() } else { known.join(", ") };
                Err(OpenError::NoObject { name, known })
            }
        }
    }

    /// The names of all objects, with nothing in them.
    pub(crate) fn names(&self) -> Data {
        Data::Object(self.objects.iter().map(|object| (object.name().to_owned(), Data::Null)).collect())
    }

    pub(crate) fn object(&self, name: &str) -> Option<&HostObject> {
        self.objects.iter().find(|object| object.name() == name)
    }

    fn kind(&self, name: &str) -> Option<&EventKind> {
        self.kinds.iter().find(|kind| kind.name == name)
    }

    /// The names of the kinds of events.
    pub(crate) fn kind_names(&self) -> Vec<String> {
        self.kinds.iter().map(|kind| kind.name.clone()).collect()
    }

    /// The object that a path begins with, and the path from it on.
    pub(crate) fn object_at(&self, path: &Path) -> Option<(&HostObject, Path)> {
        let (name, rest) = path.split_name()?;
        Some((self.object(name)?, rest))
    }

    /// Every object as far as it is shown; one that cannot be read says why in its place.
    fn outline(&self, aspect: Aspect, notation: Notation) -> Outline {
        let mut objects: Vec<_> = self.objects.iter().collect();
        objects.sort_by_key(|object| object.name());
        let look = |object: &HostObject| {
            let outline = object.outline(&Path::default(), Aspect::Itself, notation);
            let unreadable = |error: HostError| Outline::Plain(Data::Unreadable(error.to_string()));
            (object.name().to_owned(), outline.unwrap_or_else(unreadable))
        };
        let page = match aspect {
            Aspect::Inside(page) => page,
            Aspect::Itself => Page::first(objects.len()),
        };
        Outline::Object(page.of(objects.len(), objects.into_iter(), look))
    }

    /// Every object as data; one that cannot be read says why in its place.
    fn all(&self, notation: Notation) -> Data {
        let read = |object: &HostObject| {
            let data = object.get(&Path::default(), notation);
            (object.name().to_owned(), data.unwrap_or_else(|error| Data::Unreadable(error.to_string())))
        };
        Data::Object(self.objects.iter().map(read).collect())
    }
}
