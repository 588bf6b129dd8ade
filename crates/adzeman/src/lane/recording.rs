//! An event while it is recorded for the trail: from its beginning to its end, or until its handler panics.

use std::cell::{Cell, RefCell};
use std::fmt::Display;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_core::trail::{Carried, Happened, Outcome, PayloadCopy, Said};

use super::link::ContextLink;
use super::{HostState, Lane};
use crate::event::{Event, Payload};

thread_local! {
    /// The events that are recorded on this thread at this moment, one inside the other.
    static OPEN: RefCell<Vec<Open>> = const { RefCell::new(Vec::new()) };
    /// Where copies are made.
    static BUFFER: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

/// What comes to an event while it is handled.
#[derive(Default)]
struct Open {
    /// Which host's it is.
    host: usize,
    number: u64,
    contexts: Vec<Arc<ContextLink>>,
    said: Vec<Said>,
    refused: Option<String>,
}

/// What is known of an event so far; what is left of one that goes on later.
#[derive(Default)]
pub(super) struct Begun {
    number: u64,
    within: u64,
    at: Duration,
    carried: Carried,
    /// What the copy took.
    spent: Duration,
    /// What its handlers took, and may take.
    cost: Duration,
    budget: Option<Duration>,
    runs: u32,
    contexts: Vec<Arc<ContextLink>>,
    said: Vec<Said>,
    refused: Option<String>,
}

/// An event that is recorded on this thread.
pub(super) struct Recording<'a> {
    host: &'a Arc<HostState>,
    kind: &'a str,
    /// Nothing, where no trail is kept.
    begun: Option<Begun>,
    /// When the handler's run, or its bit, began.
    running_since: Option<Duration>,
}

impl<'a> Recording<'a> {
    /// Begins to record an event, or goes on.
    pub(super) fn begin<P: Payload>(
        host: &'a Arc<HostState>,
        event: &Event<'a, P>,
        before: &mut Option<Box<Begun>>,
    ) -> Self {
        let kind = event.kind;
        let is_kept = host.is_attached() || host.trail.is_always_kept();
        let begun = is_kept.then(|| match before.take() {
            Some(begun) => *begun,
            None => begin(host, event),
        });
        if let Some(begun) = &begun {
            let open = Open { host: id_of(host), number: begun.number, ..Open::default() };
            with_all(|all| all.push(open));
        }
        Self { host, kind, begun, running_since: None }
    }

    /// The handler runs from here on, for so long at most.
    pub(super) fn handler_begins(&mut self, budget: Option<Duration>) {
        if let Some(begun) = &mut self.begun {
            begun.budget = budget;
            self.running_since = Some(self.host.clock.now());
        }
    }

    /// It has run once more.
    pub(super) fn handler_ends(&mut self) {
        let since = self.running_since.take();
        if let (Some(begun), Some(since)) = (&mut self.begun, since) {
            begun.cost = self.host.clock.now().saturating_sub(since);
            begun.runs += 1;
        }
    }

    /// A bit of it has run.
    pub(super) fn bit_ends(&mut self) {
        let since = self.running_since.take();
        if let (Some(begun), Some(since)) = (&mut self.begun, since) {
            begun.cost += self.host.clock.now().saturating_sub(since);
            begun.runs = 1;
        }
    }

    /// It goes on later.
    pub(super) fn suspend(mut self) -> Option<Box<Begun>> {
        self.close();
        self.begun.take().map(Box::new)
    }

    /// It has ended.
    pub(super) fn end<T, E: Display>(mut self, lane: Option<&Lane>, outcome: &Result<T, E>) {
        self.close();
        let Some(mut begun) = self.begun.take() else { return };
        let (outcome, why) = match (outcome, begun.refused.take()) {
            (Err(error), _) => (Outcome::Failed, Some(error.to_string())),
            (Ok(_), Some(why)) => (Outcome::Refused, Some(why)),
            (Ok(_), None) => (Outcome::Done, None),
        };
        if begun.contexts.is_empty()
            && let Some(lane) = lane
        {
            begun.contexts.extend(the_one_meant(lane, &begun.carried));
        }
        let failed = (outcome == Outcome::Failed).then(|| why.clone().unwrap_or_default());
        self.record(begun, outcome, why);
        if let Some(why) = failed {
            HostState::write_trail_soon(self.host, format!("{} failed: {why}", self.kind));
        }
    }

    fn record(&self, begun: Begun, outcome: Outcome, why: Option<String>) {
        let contexts: Vec<_> = begun.contexts.iter().map(|context| (context.id, context.name.as_str())).collect();
        let happened = Happened {
            number: begun.number,
            within: begun.within,
            at: begun.at,
            kind: self.kind,
            contexts: &contexts,
            cost: begun.cost,
            budget: begun.budget,
            outcome,
            why,
            runs: begun.runs.max(1),
            said: begun.said,
            carried: begun.carried,
        };
        self.host.trail.add(happened, begun.spent);
    }

    /// Takes what came to it meanwhile.
    fn close(&mut self) {
        let Some(begun) = &mut self.begun else { return };
        let Some(open) = with_all(Vec::pop).flatten() else { return };
        for context in open.contexts {
            if begun.contexts.iter().all(|held| held.id != context.id) {
                begun.contexts.push(context);
            }
        }
        begun.said.extend(open.said);
        begun.refused = open.refused.or(begun.refused.take());
    }
}

impl Drop for Recording<'_> {
    fn drop(&mut self) {
        if self.begun.is_some() && thread::panicking() {
            self.handler_ends();
            self.close();
            if let Some(begun) = self.begun.take() {
                self.record(begun, Outcome::Failed, Some("its handler panicked".to_owned()));
            }
        }
    }
}

fn begin<P: Payload>(host: &HostState, event: &Event<'_, P>) -> Begun {
    let before = Instant::now();
    let subject = event.subject.as_ref().map(|subject| subject.text());
    let kind = host.opened.kind(event.kind);
    let write = |copy: &mut PayloadCopy<'_>| event.payload.copy_to(copy);
    let write: Option<&dyn Fn(&mut PayloadCopy<'_>)> = host.trail.may_copy(event.kind, before).then_some(&write);
    // What the host's own types do is none of the host's troubles with whoever looks.
    let copied = catch_unwind(AssertUnwindSafe(|| {
        // A payload may raise an event while it is read, and then has a buffer of its own.
        let mut buffer = BUFFER.try_with(Cell::take).unwrap_or_default();
        let carried = Carried::copy(subject.as_deref(), kind, &mut buffer, write);
        let _ = BUFFER.try_with(|kept| kept.set(buffer));
        carried
    }));
    let spent = before.elapsed();
    let within = with_all(|all| {
        let outer = all.iter().rev().find(|open| open.host == id_of(host));
        outer.map_or(0, |outer| outer.number)
    });
    let (number, at, carried) = (host.trail.next_number(), host.clock.now(), copied.unwrap_or_default());
    Begun { number, within: within.unwrap_or(0), at, carried, spent, ..Begun::default() }
}

/// The context that ran, where that is certain, or what the event is about.
fn the_one_meant(lane: &Lane, carried: &Carried) -> Option<Arc<ContextLink>> {
    let contexts = lane.contexts();
    match &contexts[..] {
        [one] => Some(one.link.clone()),
        all => {
            let subject = carried.subject()?;
            all.iter().find(|context| context.link.name == subject).map(|context| context.link.clone())
        }
    }
}

fn id_of(host: &HostState) -> usize {
    std::ptr::from_ref(host).addr()
}

/// A thread that ends may raise events to its last moment.
fn with_all<T>(work: impl FnOnce(&mut Vec<Open>) -> T) -> Option<T> {
    OPEN.try_with(|all| work(&mut all.borrow_mut())).ok()
}

fn with_open(host: &HostState, note: impl FnOnce(&mut Open)) {
    with_all(|all| {
        if let Some(open) = all.last_mut().filter(|open| open.host == id_of(host)) {
            note(open);
        }
    });
}

/// Something was said while an event is handled on this thread.
pub(crate) fn note_said(host: &HostState, said: impl FnOnce() -> Said) {
    with_open(host, |open| open.said.push(said()));
}

/// A context is entered while one is.
pub(super) fn note_entered(host: &HostState, context: &Arc<ContextLink>) {
    with_open(host, |open| {
        if open.contexts.iter().all(|held| held.id != context.id) {
            open.contexts.push(context.clone());
        }
    });
}

/// The event that is handled on this thread is refused.
pub(crate) fn note_refused(host: &HostState, why: &str) {
    with_open(host, |open| open.refused = Some(why.to_owned()));
}
