//! Changing one part of some state by what serde knows of its type.

use std::collections::BTreeSet;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use super::to_data;
use crate::path::{Notation, Path, Segment};

/// Why a part was not changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotChanged {
    /// The object, as it is, cannot be turned into data.
    Unreadable(String),
    /// The path leads nowhere: this is known when the whole is read.
    NotThere,
    /// The type does not take the value.
    Refused(String),
    /// The host does not want it.
    Vetoed(String),
}

/// Gives a part of some state another value, unless `check` has a word against it, which is shown the state as it is and as it would
/// be.
pub(super) fn change_part<T: Serialize + DeserializeOwned>(
    state: &mut T,
    path: &Path,
    value: Json,
    check: impl FnOnce(&T, &T) -> Result<(), String>,
) -> Result<(), NotChanged> {
    let data = Changed::of(state, path, value)?;
    check(state, &data.state).map_err(NotChanged::Vetoed)?;
    data.put_into(state);
    Ok(())
}

/// Some state as it would be with another part, and the data that it was made from.
struct Changed<T> {
    state: T,
    data: Json,
}

impl<T: Serialize + DeserializeOwned> Changed<T> {
    fn of(state: &T, path: &Path, value: Json) -> Result<Self, NotChanged> {
        let before = to_data(state).map_err(|error| NotChanged::Unreadable(error.to_string()))?;
        let mut data = before.clone();
        path.replace(&mut data, value).map_err(|_| NotChanged::NotThere)?;
        let state = match T::deserialize(&data) {
            Ok(state) => state,
            Err(error) => {
                // What is there already may be what its type does not take back, such as a number that is none.
                let own = T::deserialize(&before).err();
                let why = own.map(|own| format!("it cannot be read back as it is: {own}"));
                return Err(NotChanged::Refused(why.unwrap_or_else(|| error.to_string())));
            }
        };
        let after = to_data(&state).map_err(|error| NotChanged::Unreadable(error.to_string()))?;
        match first_difference(&data, &after, Some(path.segments()), &Path::default()) {
            Some(other) => {
                let other = other.display(Notation::OF_DATA);
                Err(NotChanged::Refused(format!("its part '{other}' would become something else with it")))
            }
            None => Ok(Self { state, data }),
        }
    }

    /// Changes the state in place, as far as its type can, so that what serde skips stays.
    fn put_into(self, state: &mut T) {
        if T::deserialize_in_place(&self.data, state).is_err() {
            *state = self.state;
        }
    }
}

/// Where two pieces of data differ first, the part at `but` aside. Lists that hold the same in another order are the same: they
/// may be sets.
fn first_difference(one: &Json, other: &Json, but: Option<&[Segment]>, walked: &Path) -> Option<Path> {
    if one == other || but.is_some_and(<[Segment]>::is_empty) {
        return None;
    }
    let but = but.and_then(<[Segment]>::split_first);
    let below = |segment: &Segment| but.filter(|(step, _)| *step == segment).map(|(_, rest)| rest);
    let part = |segment: Segment, one, other| {
        let path = walked.join(segment.clone());
        first_difference(one, other, below(&segment), &path)
    };
    match (one, other) {
        (Json::Object(a), Json::Object(b)) => {
            let names: BTreeSet<_> = a.keys().chain(b.keys()).collect();
            let [a, b] = [a, b].map(|fields| |name| fields.get(name).unwrap_or(&Json::Null));
            names.into_iter().find_map(|name| part(Segment::Field(name.clone()), a(name), b(name)))
        }
        (Json::Array(a), Json::Array(b)) if a.len() == b.len() => {
            let sorted = |items: &[Json]| {
                let mut texts: Vec<_> = items.iter().map(Json::to_string).collect();
                texts.sort_unstable();
                texts
            };
            if sorted(a) == sorted(b) {
                return None;
            }
            (0..).zip(a.iter().zip(b)).find_map(|(index, (one, other))| part(Segment::Index(index), one, other))
        }
        _ => Some(walked.clone()),
    }
}
