//! Events as the host raises them.

mod copy;
mod current;

use std::borrow::Cow;
use std::fmt::Debug;

use serde::Serialize;
use serde_json::{Map, Value as Json};

pub use copy::PayloadCopy;
pub(crate) use copy::copied;
pub(crate) use current::{
    About, Carries, EventFrame, Outer, begun_event, current_event, end_begun, event_depth, handling, keep_begun,
};

/// What an event is about. Made a text only when someone looks.
#[derive(Debug, Clone, Copy)]
pub enum Subject<'a> {
    /// A name, such as `lock.upper`.
    Named(&'a str),
    /// A kind and a number, such as `passage 118`.
    Numbered(&'a str, u64),
}

impl<'a> Subject<'a> {
    /// The text that people see and breakpoints compare with.
    #[must_use]
    pub fn text(&self) -> Cow<'a, str> {
        match self {
            Self::Named(name) => Cow::Borrowed(name),
            Self::Numbered(kind, number) => Cow::Owned(format!("{kind} {number}")),
        }
    }
}

impl std::fmt::Display for Subject<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text())
    }
}

impl<'a> From<&'a str> for Subject<'a> {
    fn from(name: &'a str) -> Self {
        Self::Named(name)
    }
}

impl<'a> From<(&'a str, u64)> for Subject<'a> {
    fn from((kind, number): (&'a str, u64)) -> Self {
        Self::Numbered(kind, number)
    }
}

/// What an event carries; serialised only when someone looks, and for the trail while one is kept: 2 KiB at most.
pub trait Payload {
    /// Adds the fields.
    fn write(&self, fields: &mut Map<String, Json>);

    /// Adds the fields to a copy that is bounded: what does not fit costs no more than what is kept.
    fn copy_to(&self, copy: &mut PayloadCopy<'_>) {
        let mut fields = Map::new();
        self.write(&mut fields);
        fields.iter().for_each(|(name, value)| copy.add(name, value));
    }

    /// One field, without the others.
    fn field(&self, name: &str) -> Option<Json> {
        let mut fields = Map::new();
        self.write(&mut fields);
        fields.remove(name)
    }
}

impl Payload for () {
    fn write(&self, _: &mut Map<String, Json>) {}

    fn copy_to(&self, _: &mut PayloadCopy<'_>) {}

    fn field(&self, _: &str) -> Option<Json> {
        None
    }
}

/// A field of a payload, after the fields `P`.
#[derive(Debug, Clone, Copy)]
pub struct Field<P, V> {
    before: P,
    name: &'static str,
    value: V,
}

impl<P: Payload, V: Serialize> Payload for Field<P, V> {
    fn write(&self, fields: &mut Map<String, Json>) {
        self.before.write(fields);
        fields.insert(self.name.to_owned(), self.data());
    }

    fn copy_to(&self, copy: &mut PayloadCopy<'_>) {
        self.before.copy_to(copy);
        copy.add(self.name, &self.value);
    }

    fn field(&self, name: &str) -> Option<Json> {
        if name == self.name { Some(self.data()) } else { self.before.field(name) }
    }
}

impl<P, V: Serialize> Field<P, V> {
    fn data(&self) -> Json {
        let value = adzeman_core::host::to_data(&self.value);
        value.unwrap_or_else(|error| Json::String(format!("(cannot be shown: {error})")))
    }
}

/// An event about to be raised with [`Host::emit`](crate::Host::emit). Making one allocates nothing.
///
/// ```
/// use adzeman::Event;
/// let event = Event::of("record.before_save").subject(("passage", 118)).with("length", 24.5).with("lock", "upper");
/// assert_eq!(event.kind(), "record.before_save");
/// ```
#[derive(Debug, Clone, Copy)]
pub struct Event<'a, P = ()> {
    pub(crate) kind: &'a str,
    pub(crate) subject: Option<Subject<'a>>,
    pub(crate) payload: P,
}

impl<'a> Event<'a> {
    /// An event of this kind, which the host has described with [`HostBuilder::event`](crate::HostBuilder::event).
    #[must_use]
    pub const fn of(kind: &'a str) -> Self {
        Self { kind, subject: None, payload: () }
    }
}

impl<'a, P> Event<'a, P> {
    /// Says what it is about.
    #[must_use]
    pub fn subject(mut self, subject: impl Into<Subject<'a>>) -> Self {
        self.subject = Some(subject.into());
        self
    }

    /// Adds a field to the payload. Pass large values by reference: they are serialised only when someone looks, and
    /// as far as 2 KiB for the trail while one is kept, which is while someone is attached. What serialising would wait for, such as
    /// a mutex, must not be held here.
    #[must_use]
    pub fn with<V: Serialize>(self, name: &'static str, value: V) -> Event<'a, Field<P, V>> {
        Event { kind: self.kind, subject: self.subject, payload: Field { before: self.payload, name, value } }
    }

    /// Has it carry this in the place of what it carries, for payloads whose fields the host does not know when it is written.
    #[must_use]
    pub fn carrying<Q: Payload>(self, payload: Q) -> Event<'a, Q> {
        Event { kind: self.kind, subject: self.subject, payload }
    }

    /// The kind's name.
    #[must_use]
    pub const fn kind(&self) -> &'a str {
        self.kind
    }
}
