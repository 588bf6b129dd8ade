//! The host's objects and events, as scripts under evaluation and sessions see them. What is secret is left out here, on
//! the one way by which host data reaches anyone.

use adzeman_core::host::{
    HostError, HostObject, HostView, Path, Root, SECRET, Segment, TreePath, at, describe, set_at,
};
use serde_json::Value as Json;

use crate::context::LocalContext;
use crate::emit::{EventFrame, current_event};
use crate::shared::Shared;

impl HostView for LocalContext {
    fn get(&self, place: &TreePath) -> Result<Json, HostError> {
        match place.root {
            Root::Event => self.event_at(place),
            Root::Host => match place.path.split_first() {
                None => Ok(all_objects(&self.host)),
                Some((Segment::Field(name), rest)) if self.host.object(name).is_some() => {
                    let object = self.host.object(name);
                    object.map_or(Ok(Json::Null), |object| part_of(object, &rest))
                }
                Some(_) => at(&all_objects(&self.host), &place.path, "host").cloned(),
            },
        }
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        let path = place.display(1);
        let first = place.path.split_first();
        let (Root::Host, Some((Segment::Field(name), rest))) = (place.root, first) else {
            return Err(HostError::ReadOnly { path });
        };
        let Some(object) = self.host.object(name) else {
            return at(&all_objects(&self.host), &place.path, "host").map(|_| ());
        };
        if object.about.is_secret(&rest) {
            return Err(HostError::Secret { path });
        }
        if object.about.hides_within(&rest) {
            let why = "parts of it are secret, and would be lost; change its other parts one by one".to_owned();
            return Err(HostError::Refused { path, why });
        }
        let mut data = object.read()?;
        let before = at(&data, &rest, &format!("host.{name}")).cloned();
        set_at(&mut data, &rest, value, &format!("host.{name}"))?;
        object.write(&path, data).map_err(|error| with_what_it_holds(error, before.ok(), place))
    }

    fn has_event(&self) -> bool {
        current_event(|event| event.is_some())
    }
}

impl LocalContext {
    /// What is at a path into the event being handled. Only the field that the path begins with is serialised.
    fn event_at(&self, place: &TreePath) -> Result<Json, HostError> {
        current_event(|event| {
            let kind = event.and_then(|event| self.host.kinds.iter().find(|kind| kind.name == event.kind()));
            let is_secret = |field: &str| kind.is_some_and(|kind| kind.is_secret(field));
            if let (Some((Segment::Field(name), rest)), Some(event)) = (place.path.split_first(), event) {
                if is_secret(name) {
                    return Err(HostError::Secret { path: place.display(1) });
                }
                if let Some(field) = event.field(name) {
                    return at(&field, &rest, &format!("event.{name}")).cloned();
                }
            }
            let mut data = event.map_or(Json::Null, EventFrame::data);
            if let Json::Object(fields) = &mut data {
                let hidden = fields.iter_mut().filter(|(name, _)| is_secret(name));
                hidden.for_each(|(_, value)| *value = Json::String(SECRET.to_owned()));
            }
            at(&data, &place.path, Root::Event.name()).cloned()
        })
    }
}

/// A part of an object, without what is secret.
fn part_of(object: &HostObject, path: &Path) -> Result<Json, HostError> {
    if object.about.is_secret(path) {
        let whole = TreePath { root: Root::Host, path: path.under(&object.name) };
        return Err(HostError::Secret { path: whole.display(1) });
    }
    let mut part = match object.pick(path) {
        Some(part) => part,
        // Says what is wrong.
        None => at(&object.read()?, path, &format!("host.{}", object.name)).cloned()?,
    };
    object.about.hide_secrets(path, &mut part);
    Ok(part)
}

/// Adds to a refusal what is there now, which tells what would fit.
fn with_what_it_holds(error: HostError, before: Option<Json>, place: &TreePath) -> HostError {
    match (error, before) {
        (HostError::Refused { path, why }, Some(before)) => {
            let held = describe(&before, place);
            HostError::Refused { path, why: format!("{why}; it holds {} ({}) now", held.preview, held.type_name) }
        }
        (error, _) => error,
    }
}

/// Every object as data; one that cannot be read says why in its place.
fn all_objects(host: &Shared) -> Json {
    let read = |object: &HostObject| {
        let data = part_of(object, &Path::default());
        (object.name.clone(), data.unwrap_or_else(|error| Json::String(format!("({error})"))))
    };
    Json::Object(host.objects.iter().map(read).collect())
}
