//! What evaluated text gets when it reads and writes names, the host's objects and the event.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::host::{Aspect, Data, HostError, Outline};
use adzeman_core::path::{Root, Segment, TreePath};
use adzeman_core::value::Page;

use super::{Evaluator, json};
use crate::ffi::proxy::{self, Entry, Then, place_at};
use crate::ffi::state::{State, Type};
use crate::look::push_data;
use crate::scope::NOTATION;
use crate::text::{element, number_of};

/// Where a call finds what it was given.
const KEY: c_int = 2;
const VALUE: c_int = 3;

impl Evaluator {
    /// Does what evaluated text calls for, with what it was given on the stack from 1 on.
    ///
    /// # Errors
    /// What is raised then.
    pub(crate) fn called(&self, entry: Entry, state: State) -> Result<Then, EngineError> {
        match entry {
            Entry::NameRead(environment) => {
                let name = state.text_at(KEY).unwrap_or_default();
                if self.push_name(state, environment, &name)? {
                    return Ok(Then::Return(1));
                }
                self.push_globals_of_target(state, environment, &name)?;
                state.push_copy(KEY);
                Ok(Then::Get)
            }
            Entry::NameWritten(environment) => {
                let name = state.text_at(KEY).unwrap_or_default();
                if self.set_name(state, environment, &name)? {
                    return Ok(Then::Return(0));
                }
                self.push_globals_of_target(state, environment, &name)?;
                state.push_copy(KEY);
                state.push_copy(VALUE);
                Ok(Then::Set)
            }
            Entry::PartRead => self.read_part(state),
            Entry::PartWritten => {
                let place = step(state, &receiver(state)?)?;
                self.shown.host().set(&place, json::from_lua(state, VALUE)?)?;
                Ok(Then::Return(0))
            }
            Entry::Length => {
                let length = self.length_of(&receiver(state)?)?;
                state.push_integer(i64::try_from(length).unwrap_or(i64::MAX));
                Ok(Then::Return(1))
            }
            Entry::Pairs => self.push_pairs(state),
            Entry::Text => {
                let place = receiver(state)?;
                let outline = match self.shown.host().outline(&place, Aspect::Itself) {
                    Err(HostError::Secret { .. }) => Outline::Plain(Data::Secret),
                    found => found?,
                };
                state.push_bytes(adzeman_core::host::preview(&outline).as_bytes())?;
                Ok(Then::Return(1))
            }
        }
    }

    fn read_part(&self, state: State) -> Result<Then, EngineError> {
        let place = step(state, &receiver(state)?)?;
        let is_element = state.type_at(KEY) == Type::Integer;
        match self.shown.host().bare(&place) {
            Ok(data) => push_data(state, &data, place)?,
            // A script asks whether an event carries something by reading it, and reads lists until nil.
            Err(HostError::NoField { .. }) if place.root == Root::Event || is_element => state.push_nil(),
            Err(error) => return Err(error.into()),
        }
        Ok(Then::Return(1))
    }

    /// How many elements a list has; 0 for anything else.
    fn length_of(&self, place: &TreePath) -> Result<usize, EngineError> {
        match self.shown.host().outline(place, Aspect::Inside(Page::first(0)))? {
            Outline::List { items, .. } if items.total_is_all => Ok(items.total),
            Outline::List { .. } => Ok(self.shown.host().get(place)?.elements().map_or(0, <[Data]>::len)),
            _ => Ok(0),
        }
    }

    /// What a `for` loop goes through a part with: a table made for it.
    fn push_pairs(&self, state: State) -> Result<Then, EngineError> {
        let place = receiver(state)?;
        let data = self.shown.host().get(&place)?;
        proxy::push_next_pair(state)?;
        state.push_table()?;
        match &data {
            Data::Object(fields) => fields.iter().try_for_each(|(name, data)| {
                push_data(state, data, place.join(Segment::Field(name.clone())))?;
                state.raw_set_field(-2, name)
            })?,
            Data::List(items) => (0..).zip(items).try_for_each(|(index, data)| {
                state.push_integer(number_of(index));
                push_data(state, data, place.join(Segment::Index(index)))?;
                state.raw_set(-3)
            })?,
            _ => {}
        }
        state.push_nil();
        Ok(Then::Return(3))
    }
}

fn receiver(state: State) -> Result<TreePath, EngineError> {
    place_at(state, 1).ok_or_else(|| EngineError::Raised("this is no host object".to_owned()))
}

/// One step further: a name, or a number.
fn step(state: State, place: &TreePath) -> Result<TreePath, EngineError> {
    match (state.type_at(KEY), state.integer_at(KEY)) {
        (Type::String, _) => Ok(place.join(Segment::Field(state.text_at(KEY).unwrap_or_default()))),
        (Type::Integer, Some(number)) => Ok(place.join(element(number))),
        _ => Err(EngineError::Raised(format!("'{}' has names and whole numbers only", place.display(NOTATION)))),
    }
}
