//! Kinds of events.

use serde::{Deserialize, Serialize};

/// A field of an event's payload, for people.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FieldDoc {
    /// The field's name.
    pub name: String,
    /// What it holds.
    pub doc: String,
    /// Whether it never leaves the host.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub secret: bool,
}

/// Something the host does by name, during which scripts may run.
///
/// ```
/// use adzeman_core::host::EventKind;
/// let kind = EventKind::new("frame.update").doc("one simulation frame").field("dt", "seconds since the last frame");
/// assert_eq!(kind.fields[0].name, "dt");
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EventKind {
    /// The name, such as `record.before_save`.
    pub name: String,
    /// One sentence.
    pub doc: String,
    /// What its payload holds.
    pub fields: Vec<FieldDoc>,
}

impl EventKind {
    /// A kind with this name.
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self { name: name.to_owned(), doc: String::new(), fields: Vec::new() }
    }

    /// Says what it is, in one sentence.
    #[must_use]
    pub fn doc(mut self, doc: &str) -> Self {
        doc.clone_into(&mut self.doc);
        self
    }

    /// Says what a field of the payload holds.
    #[must_use]
    pub fn field(mut self, name: &str, doc: &str) -> Self {
        self.fields.push(FieldDoc { name: name.to_owned(), doc: doc.to_owned(), secret: false });
        self
    }

    /// Whether a field of the payload never leaves the host.
    #[must_use]
    pub fn is_secret(&self, field: &str) -> bool {
        self.fields.iter().any(|held| held.secret && held.name == field)
    }

    /// Says what a field of the payload holds that nobody who attaches may see.
    #[must_use]
    pub fn secret_field(mut self, name: &str, doc: &str) -> Self {
        self.fields.push(FieldDoc { name: name.to_owned(), doc: doc.to_owned(), secret: true });
        self
    }
}
