//! The host's objects and events, as scripts under evaluation and sessions see them: the one way by which host data reaches
//! anyone.

use std::collections::BTreeMap;

use adzeman_core::host::{About, Data, EventKind, HostError, HostObject, HostView, at};
use adzeman_core::path::{Notation, Path, PathError};
use adzeman_core::path::{Root, TreePath};
use serde_json::Value as Json;
use thiserror::Error;

use crate::context::LocalContext;
use crate::emit::{EventFrame, current_event};

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

    pub(crate) fn object(&self, name: &str) -> Option<&HostObject> {
        self.objects.iter().find(|object| object.name() == name)
    }

    fn kind(&self, name: &str) -> Option<&EventKind> {
        self.kinds.iter().find(|kind| kind.name == name)
    }

    /// The object that a path begins with, and the path from it on.
    pub(crate) fn object_at(&self, path: &Path) -> Option<(&HostObject, Path)> {
        let (name, rest) = path.split_name()?;
        Some((self.object(name)?, rest))
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

impl HostView for LocalContext {
    fn get(&self, place: &TreePath) -> Result<Data, HostError> {
        let notation = self.notation();
        match (place.root, self.host.opened.object_at(&place.path)) {
            (Root::Event, _) => self.event_at(place),
            (Root::Host, Some((object, rest))) => object.get(&rest, notation),
            (Root::Host, None) => at(&self.host.opened.all(notation), place, 0, notation).cloned(),
        }
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        let notation = self.notation();
        match (place.root, self.host.opened.object_at(&place.path)) {
            (Root::Host, Some((object, rest))) => object.change(&rest, value, notation),
            (Root::Host, None) if !place.path.is_empty() => {
                at(&self.host.opened.all(notation), place, 0, notation).map(|_| ())
            }
            _ => Err(HostError::ReadOnly { path: place.display(notation) }),
        }
    }

    fn has_event(&self) -> bool {
        current_event(|event| event.is_some())
    }
}

impl LocalContext {
    /// How paths are written in the language of this context.
    pub(crate) fn notation(&self) -> Notation {
        self.shared.syntax.notation()
    }

    /// What is at a path into the event being handled. Only the field that the path begins with is serialised.
    fn event_at(&self, place: &TreePath) -> Result<Data, HostError> {
        let notation = self.notation();
        current_event(|event| {
            let kind = event.and_then(|event| self.host.opened.kind(event.kind()));
            let is_secret = |field: &str| kind.is_some_and(|kind| kind.is_secret(field));
            if let (Some((name, _)), Some(event)) = (place.path.split_name(), event) {
                if is_secret(name) {
                    return Err(HostError::Secret { path: place.display(notation) });
                }
                if let Some(field) = event.field(name) {
                    return at(&Data::from(field), place, 1, notation).cloned();
                }
            }
            let mut data = Data::from(event.map_or(Json::Null, EventFrame::data));
            if let Data::Object(fields) = &mut data {
                let hidden = fields.iter_mut().filter(|(name, _)| is_secret(name));
                hidden.for_each(|(_, value)| *value = Data::Secret);
            }
            at(&data, place, 0, notation).cloned()
        })
    }
}
