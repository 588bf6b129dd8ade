//! The host's data, as scripts under evaluation and sessions see it.

use std::sync::Arc;

use adzeman_core::host::{Aspect, Data, HostError, HostView, Outline, at};
use adzeman_core::path::{Notation, Root, TreePath};
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
        let notation = self.notation;
        match (place.root, self.opened.object_at(&place.path)) {
            (Root::Event, _) => self.event_at(place),
            (Root::Host, Some((object, rest))) => object.get(&rest, notation),
            (Root::Host, None) if place.path.is_empty() => Ok(self.opened.all(notation)),
            (Root::Host, None) => at(&self.opened.names(), place, 0, notation).cloned(),
        }
    }

    fn bare(&self, place: &TreePath) -> Result<Data, HostError> {
        match place.root {
            Root::Event => self.event_at(place),
            Root::Host => match self.opened.object_at(&place.path) {
                Some((object, rest)) => object.bare(&rest, self.notation),
                None => at(&self.opened.names(), place, 0, self.notation).cloned(),
            },
        }
    }

    fn outline(&self, place: &TreePath, aspect: Aspect) -> Result<Outline, HostError> {
        let notation = self.notation;
        match (place.root, self.opened.object_at(&place.path)) {
            (Root::Host, Some((object, rest))) => object.outline(&rest, aspect, notation),
            (Root::Host, None) if place.path.is_empty() => Ok(self.opened.outline(aspect, notation)),
            _ => self.get(place).map(|data| Outline::of_data(&data, aspect)),
        }
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        let notation = self.notation;
        match (place.root, self.opened.object_at(&place.path)) {
            (Root::Host, Some((object, rest))) => object.change(&rest, value, notation),
            (Root::Host, None) if !place.path.is_empty() => at(&self.opened.names(), place, 0, notation).map(|_| ()),
            _ => Err(HostError::ReadOnly { path: place.display(notation) }),
        }
    }

    fn has_event(&self) -> bool {
        current_event(|event| event.is_some())
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
