//! The events being handled on a thread.

use std::borrow::Cow;
use std::cell::RefCell;
use std::fmt::Display;
use std::ops::Deref;
use std::rc::Rc;

use adzeman_core::host::{Access, Lending};
use scoped_tls_hkt::scoped_thread_local;
use serde_json::{Map, Value as Json};

use super::{Payload, Subject};

/// An event being handled on this thread, with the one inside whose handler it was raised.
pub(crate) struct EventFrame<'a> {
    pub(crate) kind: Cow<'a, str>,
    pub(crate) subject: Option<About<'a>>,
    pub(crate) payload: Carries<'a>,
    /// How many events are being handled, this one included.
    pub(crate) depth: usize,
    /// Which of all outermost events it is inside of, or is.
    pub(crate) outermost: u64,
    /// Whether its handler can be run once more.
    pub(crate) repeatable: bool,
    /// The event inside whose handler it was raised.
    pub(crate) outer: Outer<'a>,
    /// What the host lends for the time of its handler.
    pub(crate) lent: Option<&'a dyn Lending>,
    /// For one inside another, or that was begun: how many frames each context of the thread had when it was raised.
    pub(crate) below: Vec<(i64, usize)>,
}

/// What an event is about: as it was raised, or its text, of one that is kept.
pub(crate) enum About<'a> {
    Lent(Subject<'a>),
    Kept(String),
}

impl About<'_> {
    fn text(&self) -> Cow<'_, str> {
        match self {
            Self::Lent(subject) => subject.text(),
            Self::Kept(text) => Cow::Borrowed(text),
        }
    }
}

impl Display for About<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text())
    }
}

/// What an event carries: what the host lends while its handler runs, or what was given away.
pub(crate) enum Carries<'a> {
    Lent(&'a dyn Payload),
    Kept(Box<dyn Payload>),
}

impl<'a> Deref for Carries<'a> {
    type Target = dyn Payload + 'a;

    fn deref(&self) -> &Self::Target {
        match self {
            Self::Lent(payload) => *payload,
            Self::Kept(payload) => &**payload,
        }
    }
}

/// The event inside whose handler another one was raised.
pub(crate) enum Outer<'a> {
    None,
    Raised(&'a EventFrame<'a>),
    Begun(Rc<EventFrame<'static>>),
}

impl Outer<'_> {
    pub(crate) fn get(&self) -> Option<&EventFrame<'_>> {
        match self {
            Self::None => None,
            Self::Raised(event) => Some(event),
            Self::Begun(event) => Some(event),
        }
    }
}

scoped_thread_local!(static CURRENT: for<'a> &'a EventFrame<'a>);

thread_local! {
    /// Events that were begun and have not ended, the innermost last.
    static BEGUN: RefCell<Vec<Rc<EventFrame<'static>>>> = const { RefCell::new(Vec::new()) };
}

impl EventFrame<'_> {
    pub(crate) fn kind(&self) -> &str {
        &self.kind
    }

    pub(crate) fn subject(&self) -> Option<&dyn Display> {
        self.subject.as_ref().map(|subject| subject as &dyn Display)
    }

    pub(crate) fn subject_text(&self) -> Option<String> {
        self.subject.as_ref().map(|subject| subject.text().into_owned())
    }

    /// The kind and the subject, for people.
    pub(crate) fn title(&self) -> String {
        let of = self.subject_text().map_or(String::new(), |subject| format!(" of {subject}"));
        format!("{}{of}", self.kind)
    }

    /// The events that are being handled, from this one outwards, and how many frames of a context are below each.
    pub(crate) fn outwards(&self, context: i64) -> Vec<(String, usize)> {
        let mut events = Vec::new();
        let mut next = Some(self);
        while let Some(event) = next {
            let below = event.below.iter().find(|(held, _)| *held == context).map_or(0, |(_, below)| *below);
            events.push((event.title(), below));
            next = event.outer.get();
        }
        events
    }

    /// Shows what is lent at this moment, what this event's handler is lent first.
    pub(crate) fn each_lent(&self, show: &mut dyn FnMut(&str, &dyn Access)) {
        let mut next = Some(self);
        while let Some(event) = next {
            if let Some(lent) = event.lent {
                lent.each(show);
            }
            next = event.outer.get();
        }
    }

    /// Whether the host can run its handler again.
    pub(crate) fn is_repeatable(&self) -> bool {
        self.repeatable
    }

    /// One field: the name, the subject, or one of the payload.
    pub(crate) fn field(&self, name: &str) -> Option<Json> {
        match name {
            "name" => Some(self.kind().into()),
            "subject" => Some(self.subject_text().map_or(Json::Null, Json::String)),
            name => self.payload.field(name),
        }
    }

    /// The payload's fields, after `name` and `subject`.
    pub(crate) fn data(&self) -> Json {
        let mut fields = Map::new();
        fields.insert("name".to_owned(), self.kind().into());
        fields.insert(
            "subject".to_owned(),
            self.subject.as_ref().map_or(Json::Null, |subject| Json::String(subject.text().into_owned())),
        );
        self.payload.write(&mut fields);
        Json::Object(fields)
    }
}

/// Lends the innermost event being handled on this thread: one that is raised, or was begun inside that.
pub(crate) fn current_event<T>(look: impl FnOnce(Option<&EventFrame<'_>>) -> T) -> T {
    let Some(begun) = begun_event() else { return raised_event(look) };
    let is_inner = raised_event(|raised| raised.is_none_or(|raised| raised.depth < begun.depth));
    if is_inner { look(Some(&begun)) } else { raised_event(look) }
}

fn raised_event<T>(look: impl FnOnce(Option<&EventFrame<'_>>) -> T) -> T {
    if CURRENT.is_set() { CURRENT.with(|event| look(Some(event))) } else { look(None) }
}

/// The innermost one of those that were begun.
pub(crate) fn begun_event() -> Option<Rc<EventFrame<'static>>> {
    BEGUN.try_with(|begun| begun.borrow().last().cloned()).ok().flatten()
}

/// Has an event be the innermost one from now on, until it is [ended](end_begun).
pub(crate) fn keep_begun(event: Rc<EventFrame<'static>>) {
    let _ = BEGUN.try_with(|begun| begun.borrow_mut().push(event));
}

/// An event that was begun, the innermost one, has ended.
pub(crate) fn end_begun(event: &Rc<EventFrame<'static>>) {
    let _ = BEGUN.try_with(|begun| begun.borrow_mut().retain(|held| !Rc::ptr_eq(held, event)));
}

/// How many events are being handled on this thread, one inside the other.
pub(crate) fn event_depth() -> usize {
    current_event(|event| event.map_or(0, |event| event.depth))
}

/// Does `work` while an event counts as the innermost one being handled on this thread.
pub(crate) fn handling<T>(event: &EventFrame<'_>, work: impl FnOnce() -> T) -> T {
    CURRENT.set(event, work)
}
