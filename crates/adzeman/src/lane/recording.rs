//! An event while it is recorded for the trail: from its beginning to its end, or until its handler panics.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::fmt::Display;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_core::sharing::Shared;
use adzeman_core::trail::{Carried, Happened, Outcome, Said};

use super::context::LocalContext;
use super::link::ContextLink;
use super::{HostState, Lane};
use crate::event::{Event, Payload, PayloadCopy, Subject, copied};
use crate::state::figures::Ended;
use crate::state::trail::TrailBook;

thread_local! {
    /// The events that are recorded on this thread at this moment, one inside the other.
    static OPEN: RefCell<Vec<Open>> = const { RefCell::new(Vec::new()) };
    /// What was said between two events, and whose hosts' it is.
    static BETWEEN: RefCell<Vec<(usize, Said)>> = const { RefCell::new(Vec::new()) };
    /// Whether there is any of that.
    static HAS_BETWEEN: Cell<bool> = const { Cell::new(false) };
    /// Where copies are made.
    static BUFFER: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

/// What is said between two events and kept.
const MOST_BETWEEN: usize = 32;

/// What comes to an event while it is handled.
#[derive(Default)]
struct Open {
    /// Which host's it is.
    host: usize,
    number: u64,
    came: Option<Box<Came>>,
}

/// What few events have.
#[derive(Default)]
struct Came {
    contexts: Vec<Arc<ContextLink>>,
    said: Vec<Said>,
    refused: Option<String>,
}

/// What is known of an event so far; what is left of one that goes on later.
#[derive(Default)]
pub(super) struct Begun {
    number: u64,
    within: u64,
    /// When its handler began.
    at: Option<Duration>,
    carried: Carried,
    /// What its handlers took, and may take.
    cost: Duration,
    budget: Option<Duration>,
    runs: u32,
    came: Option<Box<Came>>,
}

/// An event whose handler goes on later; one that does not, as its task was dropped, has failed.
#[derive(Default)]
pub(super) struct Suspended(Option<(Box<Begun>, Arc<HostState>, String)>);

impl Drop for Suspended {
    fn drop(&mut self) {
        if let Some((mut begun, host, kind)) = self.0.take().filter(|(_, host, _)| is_kept(host)) {
            let recording = Recording { host, kind: kind.into(), begun: None, running_since: None };
            recording.fail(&mut begun, "its task was dropped before it had ended");
        }
    }
}

/// An event that is recorded on this thread.
pub(super) struct Recording<'a> {
    host: Arc<HostState>,
    kind: Cow<'a, str>,
    /// Nothing, where no trail is kept.
    begun: Option<Begun>,
    /// When the handler's run, or its bit, began.
    running_since: Option<Duration>,
}

impl<'a> Recording<'a> {
    /// Begins to record an event, or goes on.
    pub(super) fn begin<P: Payload>(host: &Arc<HostState>, event: &Event<'a, P>, before: &mut Suspended) -> Self {
        let kind = Cow::Borrowed(event.kind);
        let mut recording = Self { host: host.clone(), kind, begun: None, running_since: None };
        if is_kept(host) {
            let begun = match before.0.take() {
                Some((begun, ..)) => recording.begun.insert(*begun),
                None => begin(host, event, &mut recording.begun),
            };
            let open = Open { host: id_of(host), number: begun.number, ..Open::default() };
            with_all(|all| all.push(open));
        }
        recording
    }

    /// The same, for as long as it is wanted.
    pub(super) fn kept(mut self) -> Recording<'static> {
        let (host, kind) = (self.host.clone(), Cow::Owned(self.kind.clone().into_owned()));
        Recording { host, kind, begun: self.begun.take(), running_since: self.running_since.take() }
    }

    /// The handler runs from this moment of the host's clock on, for so long at most.
    pub(super) fn handler_begins(&mut self, now: Duration, budget: Option<Duration>) {
        if let Some(begun) = &mut self.begun {
            begun.budget = budget;
            begun.at.get_or_insert(now);
            self.running_since = Some(now);
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
    pub(super) fn suspend(mut self) -> Suspended {
        self.close();
        let begun = self.begun.take().map(|begun| (Box::new(begun), self.host.clone(), self.kind.clone().into_owned()));
        Suspended(begun)
    }

    /// It has ended.
    pub(super) fn end<T, E: Display>(mut self, lane: Option<&Lane>, outcome: &Result<T, E>) {
        self.close();
        let Some(begun) = &mut self.begun else { return };
        let came = begun.came.take().map(|came| *came).unwrap_or_default();
        let (outcome, why) = match (outcome, came.refused) {
            (Err(error), _) => (Outcome::Failed, Some(error.to_string())),
            (Ok(_), Some(why)) => (Outcome::Refused, Some(why)),
            (Ok(_), None) => (Outcome::Done, None),
        };
        let of_lane = lane.map(Lane::contexts);
        let one = of_lane.as_ref().filter(|_| came.contexts.is_empty());
        let one = one.and_then(|all| the_one_meant(all, &begun.carried));
        let failed = if outcome == Outcome::Failed { why.clone() } else { None };
        let contexts: Vec<_> = came.contexts.iter().map(|context| (context.id, context.name.as_str())).collect();
        let one = one.map(|context| (context.id, context.name.as_str()));
        let contexts = one.as_ref().map_or(&contexts[..], std::slice::from_ref);
        let (host, kind) = (&self.host, &*self.kind);
        if host.is_attached() {
            note_figures(host, kind, begun, contexts, of_lane.as_ref().map_or(&[], |all| &all[..]));
        }
        record(host, kind, begun, contexts, came.said, (outcome, why));
        self.begun = None;
        if let Some(why) = failed {
            HostState::write_trail_soon(host, format!("{kind} failed: {why}"));
        }
    }

    /// It has ended as no handler should.
    fn fail(&self, begun: &mut Begun, why: &str) {
        let came = begun.came.take().map(|came| *came).unwrap_or_default();
        let contexts: Vec<_> = came.contexts.iter().map(|context| (context.id, context.name.as_str())).collect();
        record(&self.host, &self.kind, begun, &contexts, came.said, (Outcome::Failed, Some(why.to_owned())));
    }

    /// Takes what came to it meanwhile.
    fn close(&mut self) {
        let Some(begun) = &mut self.begun else { return };
        let Some(open) = with_all(Vec::pop).flatten() else { return };
        let Some(came) = open.came else { return };
        let Some(before) = &mut begun.came else {
            begun.came = Some(came);
            return;
        };
        let Came { contexts, said, refused } = *came;
        contexts.iter().for_each(|context| before.enter(context));
        before.said.extend(said);
        before.refused = refused.or(before.refused.take());
    }
}

impl Came {
    fn enter(&mut self, context: &Arc<ContextLink>) {
        if self.contexts.iter().all(|held| held.id != context.id) {
            self.contexts.push(context.clone());
        }
    }
}

impl Drop for Recording<'_> {
    fn drop(&mut self) {
        if self.begun.is_some() && thread::panicking() {
            self.handler_ends();
            self.close();
            if let Some(mut begun) = self.begun.take() {
                self.fail(&mut begun, "its handler panicked");
            }
        }
    }
}

fn begin<'b, P: Payload>(host: &HostState, event: &Event<'_, P>, begun: &'b mut Option<Begun>) -> &'b mut Begun {
    let subject = event.subject.as_ref().map(Subject::text);
    let kind = host.opened.kind_with_secrets(event.kind);
    let write = |copy: &mut PayloadCopy<'_>| event.payload.copy_to(copy);
    let number = host.trail.next_number();
    let write: Option<&dyn Fn(&mut PayloadCopy<'_>)> = host.trail.may_copy(event.kind).then_some(&write);
    let before = (write.is_some() && TrailBook::is_measured(number)).then(Instant::now);
    // What the host's own types do is none of the host's troubles with whoever looks.
    let carried = catch_unwind(AssertUnwindSafe(|| {
        // Events inside others have buffers of their own.
        let buffer = BUFFER.try_with(Cell::take).unwrap_or_default();
        copied(subject.as_deref(), kind, buffer, write)
    }));
    if let Some(before) = before {
        host.trail.has_copied(event.kind, before.elapsed());
    }
    let within = with_all(|all| {
        let outer = all.iter().rev().find(|open| open.host == id_of(host));
        outer.map_or(0, |outer| outer.number)
    });
    let said = said_before(host);
    let came = (!said.is_empty()).then(|| Box::new(Came { said, ..Came::default() }));
    let carried = carried.unwrap_or_default();
    begun.insert(Begun { number, within: within.unwrap_or(0), carried, came, ..Begun::default() })
}

/// What the contexts that had a part in the event have in use now, and whatever else is followed. It costs next to nothing: it is
/// done after each event.
fn note_figures(
    host: &HostState,
    kind: &str,
    begun: &Begun,
    contexts: &[(i64, &str)],
    of_lane: &[Shared<LocalContext>],
) {
    let at = begun.at.map_or_else(|| host.clock.now(), |at| at + begun.cost);
    let ended = Ended { number: begun.number, kind, subject: begun.carried.subject(), at };
    let begun = host.figures.begun();
    let memory = contexts.iter().filter_map(|(id, name)| {
        let context = of_lane.iter().find(|context| context.link.id == *id)?;
        Some((*id, || (*name).to_owned(), context.memory_to_note(begun)?))
    });
    host.figures.note(&ended, !contexts.is_empty(), memory);
}

fn record(
    host: &HostState,
    kind: &str,
    begun: &mut Begun,
    contexts: &[(i64, &str)],
    said: Vec<Said>,
    (outcome, why): (Outcome, Option<String>),
) {
    let mut happened = Happened {
        number: begun.number,
        within: begun.within,
        at: begun.at.unwrap_or_else(|| host.clock.now()),
        kind,
        contexts,
        cost: begun.cost,
        budget: begun.budget,
        outcome,
        why,
        runs: begun.runs.max(1),
        said,
        carried: std::mem::take(&mut begun.carried),
    };
    host.trail.add(&mut happened);
    let buffer = happened.carried.into_buffer();
    let _ = BUFFER.try_with(|kept| kept.set(buffer));
}

/// The context that an event belongs to for which none was entered: the only one of its thread, or the one that it is about.
fn the_one_meant<'c>(contexts: &'c [Shared<LocalContext>], carried: &Carried) -> Option<&'c ContextLink> {
    match contexts {
        [one] => Some(&one.link),
        all => {
            let subject = carried.subject()?;
            all.iter().find(|context| context.link.name == subject).map(|context| &*context.link)
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

fn with_open(host: &HostState, note: impl FnOnce(&mut Came)) {
    with_all(|all| {
        if let Some(open) = all.last_mut().filter(|open| open.host == id_of(host)) {
            note(open.came.get_or_insert_default());
        }
    });
}

/// Something was said on this thread: it belongs to the event that is handled, or to the next one.
pub(crate) fn note_said(host: &HostState, said: impl FnOnce() -> Said) {
    let mut said = Some(said);
    with_open(host, |came| came.said.extend(said.take().map(|said| said())));
    if let Some(said) = said.filter(|_| is_kept(host)) {
        let _ = BETWEEN.try_with(|between| {
            let mut between = between.borrow_mut();
            between.retain(|(of, _)| *of == id_of(host));
            if between.len() < MOST_BETWEEN {
                between.push((id_of(host), said()));
                HAS_BETWEEN.set(true);
            }
        });
    }
}

/// What was said since the event before.
fn said_before(host: &HostState) -> Vec<Said> {
    if !HAS_BETWEEN.take() {
        return Vec::new();
    }
    let take = |between: &RefCell<Vec<(usize, Said)>>| {
        let mut between = between.borrow_mut();
        let said = between.extract_if(.., |(of, _)| *of == id_of(host)).map(|(_, said)| said).collect();
        HAS_BETWEEN.set(!between.is_empty());
        said
    };
    BETWEEN.try_with(take).unwrap_or_default()
}

/// Whether there is a trail.
fn is_kept(host: &HostState) -> bool {
    host.trail.is_always_kept() || host.is_attached() && !host.trail.is_never_kept()
}

/// A context is entered while one is.
pub(super) fn note_entered(host: &HostState, context: &Arc<ContextLink>) {
    with_open(host, |came| came.enter(context));
}

/// The event that is handled on this thread is refused.
pub(crate) fn note_refused(host: &HostState, why: &str) {
    with_open(host, |came| came.refused = Some(why.to_owned()));
}
