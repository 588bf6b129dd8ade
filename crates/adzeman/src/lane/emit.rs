//! Raising events while someone is attached.

use std::fmt::Display;
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;
use std::task::Poll;
use std::time::{Duration, Instant};

use adzeman_core::host::Lending;

use super::handling::{Handling, Progress};
use super::recording::{Recording, Suspended};
use super::under_way::{end_since, mark};
use super::{HostState, Lane};
use crate::event::{About, Carries, Event, EventFrame, Outer, Payload, current_event, handling};
use crate::state::notice::{Notice, Tone};

/// How long an event waits for what sessions ask for, and for contexts to take notice, beyond what each of these takes by itself:
/// the rest is for the next one.
const HELD_FOR: Duration = Duration::from_millis(1);

/// Contexts that look after what they watch by, at each event.
const LOOKED_AFTER: usize = 2;

/// Raises an event, `lent` being lent meanwhile: runs `handler` as often as is asked for; it answers `None` once it cannot run any more.
#[cold]
pub(crate) fn emit<P: Payload, T, E: Display>(
    host: &Arc<HostState>,
    event: &Event<'_, P>,
    (repeatable, lent): (bool, Option<&dyn Lending>),
    mut handler: impl FnMut() -> Option<Result<T, E>>,
) -> Result<T, E> {
    let lane = lane_of(host);
    if lane.as_ref().is_some_and(|lane| lane.holding.get()) {
        return first(handler());
    }
    if let Some(lane) = &lane {
        lane.deliver_again();
    }
    let mut recording = Recording::begin(host, event, &mut Suspended::default());
    let Some(lane) = lane.filter(|_| !host.only_keeps_trail()) else {
        recording.handler_begins(host.clock.now(), None);
        let mark = mark();
        let outcome = first(handler());
        end_since(mark);
        recording.handler_ends();
        recording.end(Lane::find(host).as_deref(), &outcome);
        return outcome;
    };
    let mut progress = Progress::default();
    let outcome = lane.within(event, (repeatable, lent), &mut progress, |frame, progress| {
        lane.poll(Some(frame));
        let outcome = handling(frame, || {
            loop {
                let handled = Handling::begin(&lane, frame, progress);
                recording.handler_begins(handled.began(), lane.limit());
                let mark = mark();
                let outcome = first(handler());
                end_since(mark);
                recording.handler_ends();
                handled.end(frame);
                if !lane.again.take() {
                    return outcome;
                }
            }
        });
        lane.tell_done(frame, &outcome);
        outcome
    });
    recording.end(Some(&lane), &outcome);
    outcome
}

/// Runs the next bit of a handler, as far as it comes.
#[cold]
pub(crate) fn emit_bit<P: Payload, T, E: Display>(
    host: &Arc<HostState>,
    event: &Event<'_, P>,
    progress: &mut Progress,
    handler: impl FnOnce() -> Poll<Result<T, E>>,
) -> Poll<Result<T, E>> {
    let lane = lane_of(host);
    if lane.as_ref().is_some_and(|lane| lane.holding.get()) {
        progress.pass_unseen();
        return handler();
    }
    let mut recording = Recording::begin(host, event, &mut progress.recorded);
    let Some(lane) = lane.filter(|_| !host.only_keeps_trail()) else {
        progress.pass_unseen();
        recording.handler_begins(host.clock.now(), None);
        let outcome = handler();
        recording.bit_ends();
        return ended(recording, Lane::find(host).as_deref(), progress, outcome);
    };
    let outcome = lane.within(event, (false, None), progress, |frame, progress| {
        lane.poll(Some(frame));
        let outcome = handling(frame, || {
            let handled = Handling::begin(&lane, frame, progress);
            recording.handler_begins(handled.began(), lane.limit());
            let outcome = handler();
            recording.bit_ends();
            match outcome {
                Poll::Ready(_) => handled.end(frame),
                Poll::Pending => handled.suspend(frame, progress),
            }
            outcome
        });
        if let Poll::Ready(outcome) = &outcome {
            lane.tell_done(frame, outcome);
        }
        outcome
    });
    ended(recording, Some(&lane), progress, outcome)
}

/// A bit of a handler has ended, and its event with it, or it goes on later.
fn ended<T, E: Display>(
    recording: Recording<'_>,
    lane: Option<&Lane>,
    progress: &mut Progress,
    outcome: Poll<Result<T, E>>,
) -> Poll<Result<T, E>> {
    match &outcome {
        Poll::Ready(outcome) => recording.end(lane, outcome),
        Poll::Pending => progress.recorded = recording.suspend(),
    }
    outcome
}

/// The lane of this thread. Where contexts may move between threads, one may come to it during the event.
pub(super) fn lane_of(host: &Arc<HostState>) -> Option<Rc<Lane>> {
    if cfg!(feature = "send") { Some(Lane::of(host)) } else { Lane::find(host) }
}

/// A safe point between events.
pub(crate) fn poll(host: &Arc<HostState>) {
    if let Some(lane) = Lane::find(host).filter(|lane| !lane.holding.get()) {
        lane.deliver_again();
        lane.poll(None);
    }
}

impl Lane {
    /// Does `work` with the event as it is handled at this moment.
    fn within<P: Payload, T>(
        &self,
        event: &Event<'_, P>,
        (repeatable, lent): (bool, Option<&dyn Lending>),
        progress: &mut Progress,
        work: impl FnOnce(&EventFrame<'_>, &mut Progress) -> T,
    ) -> T {
        self.host.note_kind(event.kind);
        current_event(|outer| {
            let (depth, outermost) = self.standing_of(outer, &mut progress.outermost);
            let below = if outer.is_some() { self.depths() } else { Vec::new() };
            let (kind, subject) = (event.kind.into(), event.subject.map(About::Lent));
            let payload = Carries::Lent(&event.payload);
            let outer = outer.map_or(Outer::None, Outer::Raised);
            let frame = EventFrame { kind, subject, payload, depth, outermost, repeatable, outer, lent, below };
            work(&frame, progress)
        })
    }

    /// Of an event inside this one: how many are being handled, and which of all outermost events it is inside of.
    pub(super) fn standing_of(&self, outer: Option<&EventFrame<'_>>, outermost: &mut Option<u64>) -> (usize, u64) {
        let depth = outer.map_or(0, |outer| outer.depth) + 1;
        let number = || outer.map_or_else(|| self.host.events.fetch_add(1, Relaxed) + 1, |outer| outer.outermost);
        (depth, *outermost.get_or_insert_with(number))
    }

    /// An event has been handled.
    pub(super) fn tell_done<T, E: Display>(&self, frame: &EventFrame<'_>, outcome: &Result<T, E>) {
        handling(frame, || self.sample_at(frame));
        self.tell_failed(frame, outcome);
    }

    /// Tells those who are attached, if it has failed.
    pub(super) fn tell_failed<T, E: Display>(&self, frame: &EventFrame<'_>, outcome: &Result<T, E>) {
        if let Err(error) = outcome {
            let failed = Notice::text(Tone::Failed, format!("{} failed: {error}\n", frame.title()));
            self.host.clients.tell(failed);
        }
    }

    /// A safe point, before `next` if that is why there is one.
    pub(super) fn poll(&self, next: Option<&EventFrame<'_>>) {
        let has_mail = !self.mailbox.receiver.is_empty();
        let seen = self.host.contexts.news();
        let has_news = self.refreshed.get() != seen || self.host.contexts.any_occupied();
        let until = (has_mail || has_news).then(|| Instant::now() + HELD_FOR);
        if has_mail {
            *self.when.borrow_mut() = next.map(|next| format!("before {}", next.title()));
            self.serve_waiting(until);
        }
        self.sample_by_time();
        self.keep_watch();
        if has_news && self.refresh_contexts(until) {
            self.refreshed.set(seen);
        }
    }

    /// Has some contexts look whether they still watch what they have to: others at the next events.
    fn keep_watch(&self) {
        let contexts = self.contexts();
        for _ in 0..LOOKED_AFTER.min(contexts.len()) {
            let at = self.looked_after.get() % contexts.len();
            contexts[at].keep_watch();
            self.looked_after.set(at + 1);
        }
    }

    /// Has contexts take notice of what changed until the time is up, beginning where it was up the last time; whether all have.
    /// One that has not does at its next line.
    fn refresh_contexts(&self, until: Option<Instant>) -> bool {
        let contexts = self.contexts();
        let first = self.next.take();
        let (before, behind) = contexts.split_at(first.min(contexts.len()));
        for (number, context) in behind.iter().chain(before).enumerate() {
            let is_over = context.refresh() && until.is_some_and(|until| Instant::now() >= until);
            if is_over && number + 1 < contexts.len() {
                self.next.set((first + number + 1) % contexts.len());
                return false;
            }
        }
        true
    }

    /// How many frames each context has at this moment.
    pub(super) fn depths(&self) -> Vec<(i64, usize)> {
        self.contexts().iter().map(|context| (context.link.id, context.depth())).collect()
    }
}

/// The outcome of a handler's run. A handler that can run only once is not asked to run again: `go again` is refused.
fn first<T, E>(outcome: Option<Result<T, E>>) -> Result<T, E> {
    outcome.unwrap_or_else(|| unreachable!("a handler that runs once was asked to run again"))
}
