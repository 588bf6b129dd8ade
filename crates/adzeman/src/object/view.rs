//! The host's data, as scripts under evaluation and sessions see it.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use adzeman_core::host::{About, Access, Aspect, Data, HostError, HostView, ObjectRef, Outline, at};
use adzeman_core::path::{Notation, Path, Root, TreePath};
use adzeman_core::value::Page;
use serde_json::Value as Json;

use super::Opened;
use crate::event::{EventFrame, current_event};

/// The host's data, as a context of some language sees it.
pub(crate) struct HostData {
    opened: Arc<Opened>,
    notation: Notation,
}

impl HostData {
    pub(crate) fn new(opened: Arc<Opened>, notation: Notation) -> Self {
        Self { opened, notation }
    }

    /// How paths are written in the language of the context.
    pub(crate) fn notation(&self) -> Notation {
        self.notation
    }
}

impl HostView for HostData {
    fn get(&self, place: &TreePath) -> Result<Data, HostError> {
        match place.root {
            Root::Event => self.event_at(place),
            Root::Host if place.path.is_empty() => {
                Ok(Data::Object(self.all(|object| object.get(&Path::default(), self.notation))))
            }
            Root::Host => self.in_object(place, |object, rest| object.get(rest, self.notation)),
        }
    }

    fn bare(&self, place: &TreePath) -> Result<Data, HostError> {
        match place.root {
            Root::Event => self.event_at(place),
            Root::Host if place.path.is_empty() => Ok(Data::Object(self.all(|_| Ok(Data::Null)))),
            Root::Host => self.in_object(place, |object, rest| object.bare(rest, self.notation)),
        }
    }

    fn outline(&self, place: &TreePath, aspect: Aspect) -> Result<Outline, HostError> {
        match place.root {
            Root::Host if place.path.is_empty() => Ok(self.outline_of_all(aspect)),
            Root::Host => self.in_object(place, |object, rest| object.outline(rest, aspect, self.notation)),
            Root::Event => self.get(place).map(|data| Outline::of_data(&data, aspect)),
        }
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        match place.root {
            Root::Host if !place.path.is_empty() => {
                self.in_object(place, |object, rest| object.change(rest, value, self.notation))
            }
            _ => Err(HostError::ReadOnly { path: place.display(self.notation) }),
        }
    }

    fn has_event(&self) -> bool {
        current_event(|event| event.is_some())
    }
}

impl HostData {
    /// Looks at the object that a path begins with, and the path from it on: at what is lent at this moment before what is open.
    fn in_object<T>(
        &self,
        place: &TreePath,
        look: impl FnOnce(ObjectRef<'_>, &Path) -> Result<T, HostError>,
    ) -> Result<T, HostError> {
        let Some((name, rest)) = place.path.split_name() else { return self.no_object(place) };
        let nothing = About::default();
        let about = self.opened.about(name).unwrap_or(&nothing);
        let (mut look, mut found) = (Some(look), None);
        current_event(|event| {
            let mut show = |held: &str, access: &dyn Access| {
                if held == name
                    && let Some(look) = look.take()
                {
                    found = Some(look(ObjectRef::new(name, about, access), &rest));
                }
            };
            event.into_iter().for_each(|event| event.each_lent(&mut show));
        });
        if let Some(found) = found {
            return found;
        }
        match (look, self.opened.object(name)) {
            (Some(look), Some(object)) => look(object.look(), &rest),
            _ if self.opened.lends(name) => Err(HostError::NotLent { path: place.display(self.notation) }),
            _ => self.no_object(place),
        }
    }

    fn no_object<T>(&self, place: &TreePath) -> Result<T, HostError> {
        let names = Data::Object(self.all(|_| Ok(Data::Null)));
        at(&names, place, 0, self.notation)?;
        // It has come meanwhile.
        Err(HostError::Busy { path: place.display(self.notation) })
    }

    /// Something of every object, by its name; what cannot be read says why in its place.
    fn all(&self, read: impl Fn(ObjectRef<'_>) -> Result<Data, HostError>) -> BTreeMap<String, Data> {
        let place = |name: &str| TreePath { root: Root::Host, path: Path::default().under(name) };
        let read = |name: String| {
            let data = self.in_object(&place(&name), |object, _| read(object));
            (name, data.unwrap_or_else(|error| Data::Unreadable(error.to_string())))
        };
        self.names().into_iter().map(read).collect()
    }

    /// Every object as far as it is shown; one that cannot be read says why in its place.
    fn outline_of_all(&self, aspect: Aspect) -> Outline {
        let names = self.names();
        let page = match aspect {
            Aspect::Inside(page) => page,
            Aspect::Itself => Page::first(names.len()),
        };
        let look = |name: &String| {
            let place = TreePath { root: Root::Host, path: Path::default().under(name) };
            let unreadable = |error: HostError| Outline::Plain(Data::Unreadable(error.to_string()));
            (name.clone(), self.outline(&place, Aspect::Itself).unwrap_or_else(unreadable))
        };
        Outline::Object(page.of(names.len(), names.iter(), look))
    }

    /// The names of what is open, and of what is lent at this moment.
    fn names(&self) -> BTreeSet<String> {
        let mut names: BTreeSet<_> = self.opened.objects.iter().map(|object| object.name().to_owned()).collect();
        current_event(|event| {
            let mut note = |name: &str, _: &dyn Access| names.extend([name.to_owned()]);
            event.into_iter().for_each(|event| event.each_lent(&mut note));
        });
        names
    }
}

impl HostData {
    /// What is at a path into the event being handled. Only the field that the path begins with is serialised.
    fn event_at(&self, place: &TreePath) -> Result<Data, HostError> {
        let notation = self.notation;
        current_event(|event| {
            let kind = event.and_then(|event| self.opened.kind(event.kind()));
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
