//! Raising events, and the events being handled on this thread.

use std::borrow::Cow;
use std::fmt::Display;
use std::rc::Rc;
use std::sync::atomic::Ordering;

use adzeman_dap::events::OutputBody;
use scoped_tls_hkt::scoped_thread_local;
use serde_json::{Map, Value as Json};

use crate::context::LocalContext;
use crate::event::{Event, Payload, Subject};
use crate::host::Host;
use crate::lane::Lane;

/// An event being handled on this thread, with the one inside whose handler it was raised.
pub(crate) struct EventFrame<'a> {
    kind: &'a str,
    subject: Option<Subject<'a>>,
    payload: &'a dyn Payload,
    depth: usize,
}

scoped_thread_local!(static CURRENT: for<'a> &'a EventFrame<'a>);

impl EventFrame<'_> {
    pub(crate) fn kind(&self) -> &str {
        self.kind
    }

    pub(crate) fn subject_text(&self) -> Option<String> {
        self.subject.as_ref().map(|subject| subject.text().into_owned())
    }

    /// The payload's fields, after `name` and `subject`.
    pub(crate) fn data(&self) -> Json {
        let mut fields = Map::new();
        fields.insert("name".to_owned(), self.kind.into());
        fields.insert(
            "subject".to_owned(),
            self.subject.as_ref().map_or(Json::Null, |subject| Json::String(subject.text().into_owned())),
        );
        self.payload.write(&mut fields);
        Json::Object(fields)
    }
}

/// Lends the innermost event being handled on this thread.
pub(crate) fn current_event<T>(look: impl FnOnce(Option<&EventFrame<'_>>) -> T) -> T {
    if CURRENT.is_set() { CURRENT.with(|event| look(Some(event))) } else { look(None) }
}

/// How many events are being handled on this thread, one inside the other.
pub(crate) fn event_depth() -> usize {
    current_event(|event| event.map_or(0, |event| event.depth))
}

impl Host {
    /// Raises an event: runs `handler`, which calls the scripts that handle it, and lets whoever is attached stop there.
    /// With nobody attached, this costs one relaxed load more than calling `handler`.
    ///
    /// # Errors
    /// Those of `handler`, unchanged; they are shown to whoever is attached.
    #[inline]
    pub fn emit<P: Payload, T, E: Display>(
        &self,
        event: Event<'_, P>,
        handler: impl FnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        if self.shared().attached.load(Ordering::Relaxed) == 0 {
            return handler();
        }
        self.emit_attached(&event, handler)
    }

    #[cold]
    fn emit_attached<P: Payload, T, E: Display>(
        &self,
        event: &Event<'_, P>,
        handler: impl FnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        let lane = Lane::find(self.shared()).filter(|lane| !lane.holding.get());
        let Some(lane) = lane else { return handler() };
        lane.poll();
        let depth = event_depth() + 1;
        let frame = EventFrame { kind: event.kind, subject: event.subject, payload: &event.payload, depth };
        let outcome = CURRENT.set(&frame, || {
            let _entered = Entered::new(&lane, &frame);
            handler()
        });
        if let Err(error) = &outcome {
            let subject =
                frame.subject_text().map_or(Cow::Borrowed(""), |subject| Cow::Owned(format!(" of {subject}")));
            let output = format!("{}{subject} failed: {error}\n", frame.kind);
            lane.shared.tell("output", &OutputBody { category: "stderr".to_owned(), output, ..OutputBody::default() });
        }
        outcome
    }

    /// A safe point between events: does what sessions wait for. Call it in long pauses, such as a menu.
    pub fn poll(&self) {
        if self.shared().attached.load(Ordering::Relaxed) > 0
            && let Some(lane) = Lane::find(self.shared()).filter(|lane| !lane.holding.get())
        {
            lane.poll();
        }
    }
}

impl Lane {
    fn poll(&self) {
        self.serve_waiting();
        self.contexts.borrow().iter().for_each(|context| context.refresh());
    }
}

/// The contexts of a lane while an event is handled; put back when dropped, also when the handler panics.
struct Entered<'a> {
    contexts: Vec<(Rc<LocalContext>, Option<bool>)>,
    frame: &'a EventFrame<'a>,
}

impl<'a> Entered<'a> {
    fn new(lane: &Lane, frame: &'a EventFrame<'a>) -> Self {
        let contexts = lane.contexts.borrow().clone();
        let enter = |context: Rc<LocalContext>| {
            let before = context.enter_event(frame.kind);
            (context, before)
        };
        Self { contexts: contexts.into_iter().map(enter).collect(), frame }
    }
}

impl Drop for Entered<'_> {
    fn drop(&mut self) {
        for (context, before) in &self.contexts {
            context.leave_event(*before, self.frame.kind, self.frame.subject_text().as_deref());
        }
    }
}
