//! Values as plain data: what is shown of a script's or the host's value, and what can be asked for inside it.

mod page;
mod preview;

use serde::{Deserialize, Serialize};

use crate::host::TreePath;

pub use page::{Page, Paged, Part};
pub use preview::{PREVIEW_LIMIT, Preview, short_float};

/// The closed set of kinds a value can be of; an engine maps its types to these.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// No value.
    Nil,
    /// True or false.
    Boolean,
    /// A whole number.
    Integer,
    /// A floating-point number.
    Float,
    /// Text or bytes.
    String,
    /// A table, list or map of the script.
    Table,
    /// A function of the script or of the host.
    Function,
    /// A coroutine.
    Coroutine,
    /// A value of the host inside the script that has no other kind.
    Userdata,
    /// Part of a host object or of an event.
    Object,
}

/// What an engine is asked with for the inside of a value; valid until the context goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Handle(pub u64);

/// Who knows the inside of a value.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Expand {
    /// The engine.
    Engine(Handle),
    /// The host's objects or the event.
    Tree(TreePath),
}

/// That a value has an inside, and how much of it there is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Children {
    /// Whom to ask.
    pub expand: Expand,
    /// How many elements are counted from the first on.
    pub indexed: usize,
    /// How many have names or other keys.
    pub named: usize,
    /// False when there were too many names to count; `named` is then the least there are.
    pub named_is_all: bool,
}

/// A value, as shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Value {
    /// Its kind.
    pub kind: Kind,
    /// The type as the engine calls it.
    pub type_name: String,
    /// One line worth reading, at most about [`PREVIEW_LIMIT`] characters.
    pub preview: String,
    /// Its inside, if it has one.
    pub children: Option<Children>,
}

impl Value {
    /// A value without an inside.
    #[must_use]
    pub fn plain(kind: Kind, type_name: &str, preview: impl Into<String>) -> Self {
        Self { kind, type_name: type_name.to_owned(), preview: preview.into(), children: None }
    }
}

/// A named value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variable {
    /// The name, or a key in brackets.
    pub name: String,
    /// The value.
    pub value: Value,
    /// An expression that gives this value in the frame it was found in, if there is one.
    pub evaluate_name: Option<String>,
    /// Whether a later variable of the same name hides it from the script.
    pub shadowed: bool,
}
