//! Host data as it is shown: plain data in which some parts may not be shown.

use std::collections::BTreeMap;
use std::fmt;

use serde_json::{Number, Value as Json};

use crate::path::{Segment, Tree, known};

/// A part of the host's data.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum Data {
    /// Nothing.
    #[default]
    Null,
    /// True or false.
    Boolean(bool),
    /// A number.
    Number(Number),
    /// A text.
    Text(String),
    /// Elements in order.
    List(Vec<Data>),
    /// Parts by name.
    Object(BTreeMap<String, Data>),
    /// Something that the host keeps to itself.
    Secret,
    /// Something that could not be read, and why.
    Unreadable(String),
}

impl From<Json> for Data {
    fn from(json: Json) -> Self {
        match json {
            Json::Null => Self::Null,
            Json::Bool(value) => Self::Boolean(value),
            Json::Number(number) => Self::Number(number),
            Json::String(text) => Self::Text(text),
            Json::Array(items) => Self::List(items.into_iter().map(Self::from).collect()),
            Json::Object(fields) => {
                Self::Object(fields.into_iter().map(|(name, data)| (name, Self::from(data))).collect())
            }
        }
    }
}

impl Data {
    fn to_json(&self) -> Json {
        match self {
            Self::Null => Json::Null,
            Self::Boolean(value) => Json::Bool(*value),
            Self::Number(number) => Json::Number(number.clone()),
            Self::Text(text) => Json::String(text.clone()),
            Self::List(items) => items.iter().map(Self::to_json).collect(),
            Self::Object(fields) => fields.iter().map(|(name, data)| (name.clone(), data.to_json())).collect(),
            Self::Secret => Json::String("(secret)".to_owned()),
            Self::Unreadable(why) => Json::String(format!("({why})")),
        }
    }

    /// The same as plain data; nothing where some part of it is not shown.
    #[must_use]
    pub fn to_plain(&self) -> Option<Json> {
        match self {
            Self::Secret | Self::Unreadable(_) => None,
            Self::List(items) => items.iter().map(Self::to_plain).collect(),
            Self::Object(fields) => fields
                .iter()
                .map(|(name, data)| Some((name.clone(), data.to_plain()?)))
                .collect::<Option<_>>()
                .map(Json::Object),
            plain => Some(plain.to_json()),
        }
    }

    /// The elements of a list.
    #[must_use]
    pub fn elements(&self) -> Option<&[Self]> {
        match self {
            Self::List(items) => Some(items),
            _ => None,
        }
    }

    /// The parts of an object.
    #[must_use]
    pub fn fields(&self) -> Option<&BTreeMap<String, Self>> {
        match self {
            Self::Object(fields) => Some(fields),
            _ => None,
        }
    }
}

/// As JSON, in one line, or with `{:#}` in many; a text stands in the place of what is not shown.
impl fmt::Display for Data {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let json = self.to_json();
        if f.alternate() { write!(f, "{json:#}") } else { write!(f, "{json}") }
    }
}

impl Tree for Data {
    fn step(&self, segment: &Segment) -> Option<&Self> {
        match (segment, self) {
            (Segment::Field(name), Self::Object(fields)) => fields.get(name),
            (Segment::Index(index), Self::List(items)) => items.get(usize::try_from(*index).ok()?),
            _ => None,
        }
    }

    fn step_mut(&mut self, segment: &Segment) -> Option<&mut Self> {
        match (segment, self) {
            (Segment::Field(name), Self::Object(fields)) => fields.get_mut(name),
            (Segment::Index(index), Self::List(items)) => items.get_mut(usize::try_from(*index).ok()?),
            _ => None,
        }
    }

    fn known(&self) -> String {
        known(self.fields().map(BTreeMap::keys), self.elements().map(<[Self]>::len))
    }
}
