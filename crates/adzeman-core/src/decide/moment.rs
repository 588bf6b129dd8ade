//! Where a decision is made.

use std::fmt;

use crate::breakpoint::{Breakpoint, Occasion, means};
use crate::source::SourceLine;

/// The event being handled, as far as the decision needs it.
#[derive(Clone, Copy)]
pub struct EventInHand<'a> {
    /// The kind's name.
    pub kind: &'a str,
    /// What it is about; made a text only when a breakpoint asks for it.
    pub subject: Option<&'a dyn fmt::Display>,
}

impl fmt::Debug for EventInHand<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.kind)
    }
}

/// Where a decision is made.
#[derive(Debug, Clone, Copy, Default)]
pub struct Moment<'a> {
    /// The line reached; `None` at the host's boundary, and in a source without a number.
    pub place: Option<SourceLine>,
    /// The event being handled.
    pub event: Option<EventInHand<'a>>,
    /// The name of the context.
    pub context: &'a str,
}

impl Moment<'_> {
    pub(super) fn occasion(&self) -> Occasion {
        let event = self.event.map(|event| (event.kind.to_owned(), event.subject.map(ToString::to_string)));
        Occasion { place: self.place, event }
    }

    /// Whether a breakpoint for one subject or context is about this moment.
    pub(super) fn concerns(&self, breakpoint: &Breakpoint) -> bool {
        let Some(wanted) = breakpoint.spec.subject.as_deref() else { return true };
        let subject = self.event.and_then(|event| event.subject);
        means(wanted, self.context) || subject.is_some_and(|subject| means(wanted, &subject.to_string()))
    }
}
