//! The host's objects and events, as scripts under evaluation see them.

use adzeman_core::host::{HostError, HostView, Root, Segment, TreePath, at, set_at};
use serde_json::Value as Json;

use crate::context::LocalContext;
use crate::emit::current_event;
use crate::shared::Shared;

impl HostView for LocalContext {
    fn get(&self, place: &TreePath) -> Result<Json, HostError> {
        match place.root {
            Root::Event => event_at(place),
            Root::Host => match place.path.split_first() {
                None => Ok(all_objects(&self.host)),
                Some((Segment::Field(name), rest)) if self.host.object(name).is_some() => {
                    let object = self.host.object(name);
                    if let Some(part) = object.and_then(|object| object.pick(&rest)) {
                        return Ok(part);
                    }
                    // Says what is wrong.
                    let data = object.map_or(Ok(Json::Null), adzeman_core::host::HostObject::read)?;
                    at(&data, &rest, &format!("host.{name}")).cloned()
                }
                Some(_) => at(&all_objects(&self.host), &place.path, "host").cloned(),
            },
        }
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        let shown = place.display(1);
        let first = place.path.split_first();
        let (Root::Host, Some((Segment::Field(name), rest))) = (place.root, first) else {
            return Err(HostError::ReadOnly { path: shown });
        };
        let Some(object) = self.host.object(name) else {
            return at(&all_objects(&self.host), &place.path, "host").map(|_| ());
        };
        let mut data = object.read()?;
        set_at(&mut data, &rest, value, &format!("host.{name}"))?;
        object.write(&shown, data)
    }

    fn has_event(&self) -> bool {
        current_event(|event| event.is_some())
    }
}

/// Every object as data; one that cannot be read says why in its place.
pub(crate) fn all_objects(host: &Shared) -> Json {
    let read = |object: &adzeman_core::host::HostObject| {
        let data = object.read().unwrap_or_else(|error| Json::String(format!("({error})")));
        (object.name.clone(), data)
    };
    Json::Object(host.objects.iter().map(read).collect())
}

/// What is at a path into the event being handled. Only the field that the path begins with is serialised.
fn event_at(place: &TreePath) -> Result<Json, HostError> {
    current_event(|event| {
        if let (Some((Segment::Field(name), rest)), Some(event)) = (place.path.split_first(), event)
            && let Some(field) = event.field(name)
        {
            return at(&field, &rest, &format!("event.{name}")).cloned();
        }
        let data = event.map_or(Json::Null, crate::emit::EventFrame::data);
        at(&data, &place.path, Root::Event.name()).cloned()
    })
}
