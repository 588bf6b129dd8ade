//! Raising events, and the events being handled on this thread.

use std::fmt::Display;
use std::sync::atomic::Ordering;

use adzeman_dap::events::OutputBody;
use scoped_tls_hkt::scoped_thread_local;
use serde_json::{Map, Value as Json};

use crate::event::{Event, Payload, Subject};
use crate::handling::Handling;
use crate::host::Host;
use crate::lane::Lane;

/// An event being handled on this thread, with the one inside whose handler it was raised.
pub(crate) struct EventFrame<'a> {
    kind: &'a str,
    subject: Option<Subject<'a>>,
    payload: &'a dyn Payload,
    depth: usize,
    /// Whether its handler can be run once more.
    repeatable: bool,
    /// The event inside whose handler it was raised.
    outer: Option<&'a EventFrame<'a>>,
    /// For one inside another: how many frames each context of the thread had when it was raised.
    below: Vec<(i64, usize)>,
}

scoped_thread_local!(static CURRENT: for<'a> &'a EventFrame<'a>);

impl EventFrame<'_> {
    pub(crate) fn kind(&self) -> &str {
        self.kind
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
            next = event.outer;
        }
        events
    }

    /// Whether the host can run its handler again.
    pub(crate) fn is_repeatable(&self) -> bool {
        self.repeatable
    }

    /// One field: the name, the subject, or one of the payload.
    pub(crate) fn field(&self, name: &str) -> Option<Json> {
        match name {
            "name" => Some(self.kind.into()),
            "subject" => Some(self.subject_text().map_or(Json::Null, Json::String)),
            name => self.payload.field(name),
        }
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
        let mut handler = Some(handler);
        self.emit_attached(&event, false, || handler.take().map(|handler| handler()))
    }

    /// The same for a handler that can be run more than once, so that a person may have the event delivered again while it
    /// is being handled. What the handler did up to then stays done, unless it undoes that itself when it begins.
    ///
    /// # Errors
    /// Those of the last run of `handler`, unchanged.
    #[inline]
    pub fn emit_repeatable<P: Payload, T, E: Display>(
        &self,
        event: Event<'_, P>,
        mut handler: impl FnMut() -> Result<T, E>,
    ) -> Result<T, E> {
        if self.shared().attached.load(Ordering::Relaxed) == 0 {
            return handler();
        }
        self.emit_attached(&event, true, || Some(handler()))
    }

    /// Runs `handler` as often as is asked for; it answers `None` once it cannot run any more.
    #[cold]
    fn emit_attached<P: Payload, T, E: Display>(
        &self,
        event: &Event<'_, P>,
        repeatable: bool,
        mut handler: impl FnMut() -> Option<Result<T, E>>,
    ) -> Result<T, E> {
        let lane = Lane::find(self.shared()).filter(|lane| !lane.holding.get());
        let Some(lane) = lane else { return first(handler()) };
        current_event(|outer| {
            let depth = outer.map_or(0, |outer| outer.depth) + 1;
            let below = if outer.is_some() { lane.depths() } else { Vec::new() };
            let (kind, subject, payload) = (event.kind, event.subject, &event.payload);
            let frame = EventFrame { kind, subject, payload, depth, repeatable, outer, below };
            lane.poll(Some(&frame));
            let outcome = CURRENT.set(&frame, || {
                loop {
                    let handled = Handling::begin(&lane, &frame);
                    let outcome = first(handler());
                    drop(handled);
                    if !lane.again.take() {
                        lane.sample_at(&frame);
                        return outcome;
                    }
                }
            });
            if let Err(error) = &outcome {
                let output = format!("{} failed: {error}\n", frame.title());
                let body = OutputBody { category: "stderr".to_owned(), output, ..OutputBody::default() };
                lane.shared.tell("output", &body);
            }
            outcome
        })
    }

    /// A safe point between events: does what sessions wait for. Call it in long pauses, such as a menu.
    pub fn poll(&self) {
        if self.shared().attached.load(Ordering::Relaxed) > 0
            && let Some(lane) = Lane::find(self.shared()).filter(|lane| !lane.holding.get())
        {
            lane.poll(None);
        }
    }
}

impl Lane {
    /// A safe point, before `next` if that is why there is one.
    fn poll(&self, next: Option<&EventFrame<'_>>) {
        if !self.mailbox.is_empty() {
            *self.before.borrow_mut() = next.map(EventFrame::title);
            self.serve_waiting();
        }
        self.sample_by_time();
        let contexts = self.contexts.borrow().clone();
        contexts.iter().for_each(|context| context.refresh());
    }

    /// How many frames each context has at this moment.
    fn depths(&self) -> Vec<(i64, usize)> {
        self.contexts.borrow().iter().map(|context| (context.shared.id, context.depth())).collect()
    }
}

/// The outcome of a handler's run. A handler that can run only once is not asked to run again: `go again` is refused.
fn first<T, E>(outcome: Option<Result<T, E>>) -> Result<T, E> {
    outcome.unwrap_or_else(|| unreachable!("a handler that runs once was asked to run again"))
}
