//! Values as plain data: what is shown of a script's or the host's value, and what can be asked for inside it.

mod bytes;
mod changes;
mod grid;
mod page;
mod preview;
mod shape;

use serde::{Deserialize, Serialize};

use crate::path::TreePath;

pub use bytes::{MOST_TEXT_BYTES, WholeText, hex_lines};
pub use changes::{MOST_REMEMBERED, Memory};
pub use grid::{Grid, GridRow};
pub use page::{Page, Paged, Part};
pub use preview::{PREVIEW_LIMIT, Preview, short_float};
pub use shape::{ShapeRow, shape_of};

/// The closed set of kinds a value can be of; an engine maps its types to these.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// No value.
    Nil,
    /// True or false.
    Boolean,
    /// A whole number, signed, of 64 bits.
    Integer,
    /// A whole number that is another one.
    Whole {
        /// How many bits it has, at most 128.
        bits: u8,
        /// Whether it may be below 0, in two's complement.
        signed: bool,
    },
    /// A floating-point number.
    Float,
    /// Text or bytes.
    String,
    /// What is a list and a map at once, where a language makes no difference.
    Table,
    /// A list: elements by their places.
    Array,
    /// A map: values by keys of any kind.
    Map,
    /// A record: fields that its type names.
    Struct,
    /// A function of the script or of the host.
    Function,
    /// A coroutine.
    Coroutine,
    /// A value of the host inside the script that has no other kind.
    Userdata,
    /// Part of a host object or of an event.
    Object,
    /// A part of the host that is secret, or could not be read.
    Withheld,
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

    /// The preview with a whole number in another base: two's complement of as many bits as it has, as `0xff`, `0o377`,
    /// `0b11111111`. Anything else, and any other base than 2, 8 and 16, as always.
    ///
    /// ```
    /// use adzeman_core::value::{Kind, Value};
    /// assert_eq!(Value::plain(Kind::Integer, "integer", "255").in_base(16), "0xff");
    /// assert_eq!(Value::plain(Kind::Integer, "integer", "-1").in_base(8), "0o1777777777777777777777");
    /// assert_eq!(Value::plain(Kind::Whole { bits: 8, signed: true }, "i8", "-1").in_base(16), "0xff");
    /// assert_eq!(Value::plain(Kind::Whole { bits: 64, signed: false }, "u64", "18446744073709551615").in_base(16), "0xffffffffffffffff");
    /// assert_eq!(Value::plain(Kind::Float, "float", "1.5").in_base(2), "1.5");
    /// ```
    #[must_use]
    pub fn in_base(&self, base: u32) -> String {
        let bits = match self.kind {
            Kind::Integer => 64,
            Kind::Whole { bits, .. } => u32::from(bits).clamp(1, 128),
            _ => return self.preview.clone(),
        };
        let in_complement =
            self.preview.parse::<i128>().ok().map(|number| number as u128 & (u128::MAX >> (128 - bits)));
        let whole = self.preview.parse::<u128>().ok().or(in_complement);
        match (whole, base) {
            (Some(number), 2) => format!("0b{number:b}"),
            (Some(number), 8) => format!("0o{number:o}"),
            (Some(number), 16) => format!("{number:#x}"),
            _ => self.preview.clone(),
        }
    }
}

/// What a variable is to whoever looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Nature {
    /// A value of the script or the host.
    #[default]
    Data,
    /// A function that belongs to the type of the value it is shown in.
    Method,
    /// Not for the script to see, such as a metatable.
    Internal,
    /// Only known by running code: its value is left out until it is evaluated.
    Computed,
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
    /// What it is.
    pub nature: Nature,
    /// When it is a value that is being looked into already: how many levels up, 1 for the one that it is listed in.
    pub cycle: Option<usize>,
}

impl Variable {
    /// Data that no expression names.
    #[must_use]
    pub fn new(name: impl Into<String>, value: Value) -> Self {
        let name = name.into();
        Self { name, value, evaluate_name: None, shadowed: false, nature: Nature::Data, cycle: None }
    }

    /// The same, with an expression that gives it.
    #[must_use]
    pub fn named_by(mut self, expression: impl Into<String>) -> Self {
        self.evaluate_name = Some(expression.into());
        self
    }
}
