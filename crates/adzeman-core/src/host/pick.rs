//! Picks one part out of host state by serde, without turning the rest into data: a path into a large object costs what the
//! path costs.

use std::cell::RefCell;
use std::fmt;

use serde::Serialize;
use serde::ser::{
    SerializeMap, SerializeSeq, SerializeStruct, SerializeStructVariant, SerializeTuple, SerializeTupleStruct,
    SerializeTupleVariant, Serializer,
};
use serde_json::Value as Json;
use thiserror::Error;

use super::outline::{Aspect, Outline};
use super::parts::{key_is, key_text};
use crate::path::{Path, Segment};

/// Why a walk ends.
#[derive(Debug, Error)]
pub enum Error {
    /// What is wanted was found.
    #[error("found")]
    Found,
    /// What serde says.
    #[error(transparent)]
    Failed(#[from] serde_json::Error),
}

impl serde::ser::Error for Error {
    fn custom<T: fmt::Display>(message: T) -> Self {
        Self::Failed(serde::ser::Error::custom(message))
    }
}

/// Levels of data that are shown: it is made on a script's own stack, which may be small.
pub const MOST_LEVELS: usize = 48;
/// What stands for what is deeper.
pub(super) const DEEPER: &str = "(nested too deep to be shown from here; look at a part of it)";

/// How much of a part is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Extent {
    /// All of it. What nests deeper than [`MOST_LEVELS`] is left out, with a remark in its place.
    Whole,
    /// What it is: a list or an object is empty. However large it is, nothing of it is looked at, and of what the path leads
    /// through only what stands before it.
    Bare,
    /// The names of what is inside, or as many elements, and nothing in those.
    Names,
}

/// What a path names within some state; `None` when there is nothing.
///
/// # Errors
/// What serde says of the part picked.
pub fn pick<T: Serialize + ?Sized>(state: &T, path: &Path, extent: Extent) -> Result<Option<Json>, Error> {
    let (left, then) = match extent {
        Extent::Whole => (MOST_LEVELS, Then::Remark),
        Extent::Bare => (0, Then::Nothing),
        Extent::Names => (1, Then::Nothing),
    };
    let found = RefCell::new(None);
    let depth = Depth { left, then, wrapped: MOST_LEVELS };
    let outcome = state.serialize(Picker { path: path.segments(), depth, found: Some(&found), shown: None });
    // What was found ends the walk, by an error.
    if let Some(part) = found.take() { Ok(Some(part)) } else { outcome }
}

/// What a path names within some state, as far as it is shown; `None` when there is nothing. Of what the path leads through,
/// only what stands before it is passed over.
///
/// # Errors
/// As [`pick`].
pub fn outline<T: Serialize + ?Sized>(state: &T, path: &Path, aspect: Aspect) -> Result<Option<Outline>, Error> {
    if path.is_empty() {
        return Ok(Some(Outline::of(state, aspect)));
    }
    let found = RefCell::new(None);
    let depth = Depth { left: 0, then: Then::Nothing, wrapped: MOST_LEVELS };
    let shown = Some((&found, aspect));
    let _ = state.serialize(Picker { path: path.segments(), depth, found: None, shown });
    match found.take() {
        Some(outline) => Ok(Some(outline)),
        // The name of an enum's variant of several parts is followed by no value of its own.
        None => Ok(pick(state, path, Extent::Whole)?.map(|part| Outline::of_data(&part.into(), aspect))),
    }
}

/// The whole of some state as data, for giving it back.
///
/// # Errors
/// What serde says, and for state that nests deeper than [`MOST_LEVELS`]: a part left out would be lost.
pub fn to_data<T: Serialize + ?Sized>(state: &T) -> Result<Json, Error> {
    let depth = Depth { left: MOST_LEVELS, then: Then::Error, wrapped: MOST_LEVELS };
    let whole = state.serialize(Picker { path: &[], depth, found: None, shown: None })?;
    Ok(whole.unwrap_or(Json::Null))
}

/// How much deeper data may nest.
#[derive(Clone, Copy)]
struct Depth {
    left: usize,
    then: Then,
    /// How many more types may stand around one value, where no level is counted for them.
    wrapped: usize,
}

/// What becomes of what nests deeper.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Then {
    /// A remark stands in its place.
    Remark,
    /// It is an error.
    Error,
    /// It is passed over.
    Nothing,
}

impl Depth {
    /// One level further down.
    fn below(self) -> Self {
        Self { left: self.left.saturating_sub(1), ..self }
    }

    /// What stands in the place of what is too deep.
    fn deeper(self) -> Result<Option<Json>, Error> {
        if self.then == Then::Error {
            let why = format!("it nests deeper than {MOST_LEVELS} levels; change a part of it in the host itself");
            return Err(serde::ser::Error::custom(why));
        }
        Ok(Some(Json::String(DEEPER.to_owned())))
    }
}

#[derive(Clone, Copy)]
struct Picker<'a> {
    path: &'a [Segment],
    depth: Depth,
    /// Where what is wanted is put as soon as it comes by.
    found: Option<&'a RefCell<Option<Json>>>,
    /// Where the outline of what is wanted is put instead, and which.
    shown: Option<(&'a RefCell<Option<Outline>>, Aspect)>,
}

impl<'a> Picker<'a> {
    /// What is wanted of a part, if anything is.
    fn below(self, path: &'a [Segment]) -> Self {
        // A step of the path is a level that is not shown.
        let is_inside = self.path.is_empty();
        let depth = if is_inside { self.depth.below() } else { self.depth };
        Self { path, depth, found: self.found.filter(|_| !is_inside), shown: self.shown }
    }

    /// What is wanted of the value behind a step of the path.
    fn go<T: Serialize + ?Sized>(self, path: &'a [Segment], value: &T) -> Result<Option<Json>, Error> {
        match self.shown {
            Some((found, aspect)) if path.is_empty() => {
                *found.borrow_mut() = Some(Outline::of(value, aspect));
                Err(Error::Found)
            }
            _ => value.serialize(self.below(path)),
        }
    }

    /// Something with nothing inside: wanted as it is, or not there.
    fn scalar(self, value: impl Serialize) -> Result<Option<Json>, Error> {
        if self.path.is_empty() { serde_json::to_value(value).map(Some).map_err(Error::from) } else { Ok(None) }
    }

    /// Ends the walk with what is wanted, as far as that is possible.
    fn end(self, part: Option<Json>) -> Result<Option<Json>, Error> {
        match (self.found, part) {
            (Some(found), Some(part)) => {
                *found.borrow_mut() = Some(part);
                Err(Error::Found)
            }
            (_, part) => Ok(part),
        }
    }

    /// Whether what is wanted is what it is, and nothing inside.
    fn is_bare(self) -> bool {
        self.path.is_empty() && self.depth.left == 0 && self.depth.then == Then::Nothing
    }

    /// Whether the names of what is inside are wanted, and nothing in those.
    fn is_of_names(self) -> bool {
        self.path.is_empty() && self.depth.left == 1 && self.depth.then == Then::Nothing
    }
}

/// What is picked from while its parts come by.
struct Parts<'a> {
    picker: Picker<'a>,
    /// The name of an enum's variant, which stands around the parts as a field.
    around: Option<&'static str>,
    /// The number of the next element.
    next: i64,
    /// The key of the next entry of a map.
    key: Option<String>,
    /// All parts, when everything is wanted, and otherwise the one that is.
    found: Found,
}

enum Found {
    /// The one part wanted, once it came by.
    One(Option<Json>),
    List(Vec<Json>),
    Object(serde_json::Map<String, Json>),
    /// Too deep: the parts pass by.
    TooDeep,
    /// Of another variant than the one that is wanted: likewise.
    Elsewhere,
}

impl Found {
    fn to_json(&self) -> Json {
        match self {
            Self::List(items) => Json::Array(items.clone()),
            Self::Object(fields) => Json::Object(fields.clone()),
            _ => Json::Null,
        }
    }
}

impl<'a> Parts<'a> {
    fn new(picker: Picker<'a>, whole: Found) -> Result<Self, Error> {
        let found = match picker.path {
            [] if picker.is_bare() => {
                picker.end(Some(whole.to_json()))?;
                whole
            }
            [] if picker.depth.left == 0 => Found::TooDeep,
            [] => whole,
            _ => Found::One(None),
        };
        Ok(Self { picker, around: None, next: 0, key: None, found })
    }

    /// The parts of an enum's variant of several.
    fn of_variant(picker: Picker<'a>, name: &'static str, whole: Found) -> Result<Self, Error> {
        if picker.path.is_empty() {
            // The name is a level of its own.
            if picker.is_bare() {
                return Self::new(picker, object());
            }
            if picker.is_of_names() {
                picker.end(Some(serde_json::json!({ name: null })))?;
            }
            return Ok(Self { around: Some(name), ..Self::new(picker, whole)? });
        }
        match variant(picker, name) {
            Some(inner) => Self::new(inner, whole),
            None => Ok(Self { picker, around: None, next: 0, key: None, found: Found::Elsewhere }),
        }
    }

    fn element<T: Serialize + ?Sized>(&mut self, value: &T) -> Result<(), Error> {
        let number = self.next;
        self.next += 1;
        let picker = self.picker;
        match (&mut self.found, picker.path.split_first()) {
            (Found::List(items), _) if picker.is_of_names() => items.push(Json::Null),
            (Found::List(items), _) => items.push(value.serialize(picker.below(&[]))?.unwrap_or(Json::Null)),
            (Found::One(found), Some((Segment::Index(wanted), rest))) if *wanted == number => {
                *found = picker.go(rest, value)?;
                picker.end(found.take())?;
            }
            _ => {}
        }
        Ok(())
    }

    fn field<T: Serialize + ?Sized>(&mut self, name: &str, value: &T) -> Result<(), Error> {
        let picker = self.picker;
        match (&mut self.found, picker.path.split_first()) {
            (Found::Object(fields), _) if picker.is_of_names() => {
                fields.insert(name.to_owned(), Json::Null);
            }
            (Found::Object(fields), _) => {
                fields.insert(name.to_owned(), value.serialize(picker.below(&[]))?.unwrap_or(Json::Null));
            }
            (Found::One(found), Some((Segment::Field(wanted), rest))) if wanted == name => {
                *found = picker.go(rest, value)?;
                picker.end(found.take())?;
            }
            _ => {}
        }
        Ok(())
    }

    /// The name of an entry, where it is wanted.
    fn name<T: Serialize + ?Sized>(&self, key: &T) -> Result<Option<String>, Error> {
        match (&self.found, self.picker.path.first()) {
            (Found::Object(_), _) => Ok(Some(key_text(key)?)),
            (Found::One(_), Some(Segment::Field(wanted))) if key_is(key, wanted) => Ok(Some(wanted.clone())),
            _ => Ok(None),
        }
    }

    fn passed(&mut self) -> Result<(), Error> {
        Ok(())
    }

    fn done(self) -> Result<Option<Json>, Error> {
        let found = match self.found {
            Found::One(found) => found,
            Found::List(items) => Some(Json::Array(items)),
            Found::Object(fields) => Some(Json::Object(fields)),
            Found::TooDeep => return self.picker.depth.deeper(),
            Found::Elsewhere => None,
        };
        Ok(match (self.around, found) {
            (Some(name), Some(found)) => Some(serde_json::json!({ name: found })),
            (_, found) => found,
        })
    }
}

fn object() -> Found {
    Found::Object(serde_json::Map::new())
}

fn list() -> Found {
    Found::List(Vec::new())
}

/// The part behind the name of an enum's variant, which stands around it as a field.
fn variant<'a>(picker: Picker<'a>, name: &str) -> Option<Picker<'a>> {
    match picker.path.split_first() {
        Some((Segment::Field(wanted), rest)) if wanted == name => Some(picker.below(rest)),
        _ => None,
    }
}

impl<'a> Serializer for Picker<'a> {
    type Ok = Option<Json>;
    type Error = Error;
    type SerializeSeq = Parts<'a>;
    type SerializeTuple = Parts<'a>;
    type SerializeTupleStruct = Parts<'a>;
    type SerializeTupleVariant = Parts<'a>;
    type SerializeMap = Parts<'a>;
    type SerializeStruct = Parts<'a>;
    type SerializeStructVariant = Parts<'a>;

    of_scalars!(Option<Json>);

    fn serialize_str(self, text: &str) -> Result<Option<Json>, Error> {
        self.scalar(text)
    }

    fn serialize_bytes(self, bytes: &[u8]) -> Result<Option<Json>, Error> {
        let mut parts = self.serialize_seq(None)?;
        bytes.iter().try_for_each(|byte| parts.element(byte))?;
        parts.done()
    }

    fn serialize_none(self) -> Result<Option<Json>, Error> {
        self.serialize_unit()
    }

    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> Result<Option<Json>, Error> {
        value.serialize(self)
    }

    fn serialize_unit(self) -> Result<Option<Json>, Error> {
        Ok(self.path.is_empty().then_some(Json::Null))
    }

    fn serialize_unit_struct(self, _: &'static str) -> Result<Option<Json>, Error> {
        self.serialize_unit()
    }

    fn serialize_unit_variant(self, _: &'static str, _: u32, name: &'static str) -> Result<Option<Json>, Error> {
        self.serialize_str(name)
    }

    fn serialize_newtype_struct<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        value: &T,
    ) -> Result<Option<Json>, Error> {
        // It is no level of the data, but one of the stack.
        if self.depth.then == Then::Nothing {
            let Some(wrapped) = self.depth.wrapped.checked_sub(1) else { return self.end(Some(Json::Null)) };
            return value.serialize(Self { depth: Depth { wrapped, ..self.depth }, ..self });
        }
        if self.depth.left == 0 {
            return self.depth.deeper();
        }
        value.serialize(Self { depth: self.depth.below(), ..self })
    }

    fn serialize_newtype_variant<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        value: &T,
    ) -> Result<Option<Json>, Error> {
        if self.path.is_empty() {
            if self.is_bare() {
                return self.end(Some(serde_json::json!({})));
            }
            if self.is_of_names() {
                return Ok(Some(serde_json::json!({ name: null })));
            }
            if self.depth.left == 0 {
                return self.depth.deeper();
            }
            return Ok(Some(serde_json::json!({ name: value.serialize(self.below(&[]))?.unwrap_or(Json::Null) })));
        }
        variant(self, name).map_or(Ok(None), |inner| value.serialize(inner))
    }

    fn serialize_seq(self, _: Option<usize>) -> Result<Parts<'a>, Error> {
        Parts::new(self, list())
    }

    fn serialize_tuple(self, length: usize) -> Result<Parts<'a>, Error> {
        self.serialize_seq(Some(length))
    }

    fn serialize_tuple_struct(self, _: &'static str, length: usize) -> Result<Parts<'a>, Error> {
        self.serialize_seq(Some(length))
    }

    fn serialize_tuple_variant(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        _: usize,
    ) -> Result<Parts<'a>, Error> {
        Parts::of_variant(self, name, list())
    }

    fn serialize_map(self, _: Option<usize>) -> Result<Parts<'a>, Error> {
        Parts::new(self, object())
    }

    fn serialize_struct(self, _: &'static str, _: usize) -> Result<Parts<'a>, Error> {
        Parts::new(self, object())
    }

    fn serialize_struct_variant(
        self,
        _: &'static str,
        _: u32,
        name: &'static str,
        _: usize,
    ) -> Result<Parts<'a>, Error> {
        Parts::of_variant(self, name, object())
    }
}

of_parts!(Option<Json>);

#[cfg(test)]
mod tests;
