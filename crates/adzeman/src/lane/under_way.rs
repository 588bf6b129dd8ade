//! Events whose beginning and end are two calls.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::rc::Rc;
use std::sync::Arc;

use super::emit::lane_of;
use super::handling::{Handling, Progress};
use super::recording::{Recording, Suspended};
use super::{HostState, Lane};
use crate::event::{
    About, Carries, Event, EventFrame, Outer, Payload, begun_event, current_event, end_begun, keep_begun,
};

/// Says how an event was left whose end nobody tells of; nothing while it is under way.
pub(crate) type WasLeft = Box<dyn Fn() -> Option<Result<(), String>>>;

thread_local! {
    /// Those of this thread that have not ended, the innermost last.
    static ALL: RefCell<Vec<UnderWay>> = const { RefCell::new(Vec::new()) };
    /// The number of the last one.
    static LAST: Cell<u64> = const { Cell::new(0) };
    /// Whether it is looked at this moment which were left.
    static SETTLING: Cell<bool> = const { Cell::new(false) };
}

/// An event that has begun.
struct UnderWay {
    /// What tells it from others of its thread.
    number: u64,
    was_left: Rc<WasLeft>,
    recording: Recording<'static>,
    /// Nothing where nobody is to be told but the trail.
    seen: Option<Seen>,
}

struct Seen {
    lane: Rc<Lane>,
    frame: Rc<EventFrame<'static>>,
    handling: Handling,
}

/// Begins an event; answers what [`end`] takes. Nothing where it is nobody's business, as where a stop is under way.
#[cold]
pub(crate) fn begin<P: Payload + 'static>(
    host: &Arc<HostState>,
    event: Event<'_, P>,
    above: usize,
    was_left: WasLeft,
) -> Option<u64> {
    settle();
    let lane = lane_of(host);
    if lane.as_ref().is_some_and(|lane| lane.holding.get()) {
        return None;
    }
    if let Some(lane) = &lane {
        lane.deliver_again();
    }
    let mut recording = Recording::begin(host, &event, &mut Suspended::default());
    let mut seen = None;
    match lane.filter(|_| !host.only_keeps_trail()) {
        Some(lane) => {
            let frame = Rc::new(lane.frame_of(event, above));
            lane.poll(Some(&frame));
            keep_begun(frame.clone());
            let handling = Handling::begin(&lane, &frame, &Progress::default());
            recording.handler_begins(handling.began(), lane.limit());
            seen = Some(Seen { lane, frame, handling });
        }
        None => recording.handler_begins(host.clock.now(), None),
    }
    let recording = recording.kept();
    let number = LAST.try_with(|last| last.replace(last.get() + 1)).ok()? + 1;
    let was_left = Rc::new(was_left);
    ALL.try_with(|all| all.borrow_mut().push(UnderWay { number, was_left, recording, seen })).ok()?;
    Some(number)
}

/// Whether an event of this thread has not ended.
pub(crate) fn is_under_way(number: u64) -> bool {
    ALL.try_with(|all| all.borrow().iter().any(|held| held.number == number)) == Ok(true)
}

/// Ends those of this thread that were left, before anything is decided by them. It may be done in a hook: nothing is held here.
pub(crate) fn settle() {
    let any = ALL.try_with(|all| !all.borrow().is_empty()) == Ok(true);
    if !any || SETTLING.try_with(|settling| settling.replace(true)) != Ok(false) {
        return;
    }
    let _over = Settled;
    let all = ALL.try_with(|all| all.borrow().iter().map(|held| (held.number, held.was_left.clone())).collect());
    let all: Vec<_> = all.unwrap_or_default();
    let left = all.into_iter().find_map(|(number, was_left)| was_left().map(|outcome| (number, outcome)));
    if let Some((number, outcome)) = left {
        end_from(number, &outcome, UnderWay::leave);
    }
}

/// Has it be looked again, also where what the host asks has panicked.
struct Settled;

impl Drop for Settled {
    fn drop(&mut self) {
        let _ = SETTLING.try_with(|settling| settling.set(false));
    }
}

/// What [`end_since`] takes: those that begin from now on are meant.
pub(super) fn mark() -> u64 {
    LAST.try_with(Cell::get).unwrap_or(u64::MAX)
}

/// Ends those that have begun on this thread since then and have not ended, as what they are inside of has.
pub(super) fn end_since(mark: u64) {
    let first = || ALL.try_with(|all| all.borrow().iter().map(|held| held.number).find(|number| *number > mark));
    while let Ok(Some(number)) = first() {
        end(number, &inner(&Ok(())));
    }
}

/// How one has ended inside of which ended so.
fn inner(outer: &Result<(), String>) -> Result<(), String> {
    outer.clone().and(Err("it was left without an end".to_owned()))
}

/// Ends an event of this thread, and before it those that were begun inside it and have not ended: these have failed by the same reason,
/// or as they were left. Nothing happens where it has ended.
#[cold]
pub(crate) fn end(number: u64, outcome: &Result<(), String>) {
    end_from(number, outcome, UnderWay::end);
}

fn end_from(number: u64, outcome: &Result<(), String>, end: fn(UnderWay, &Result<(), String>)) {
    while is_under_way(number) {
        let Ok(Some(last)) = ALL.try_with(|all| all.borrow_mut().pop()) else { return };
        if last.number == number { end(last, outcome) } else { end(last, &inner(outcome)) }
    }
}

impl UnderWay {
    fn end(self, outcome: &Result<(), String>) {
        self.over(outcome, |lane, frame, handling| {
            handling.end(frame);
            // Nothing can be run again that has no beginning here.
            lane.again.set(false);
            lane.tell_done(frame, outcome);
        });
    }

    /// Ends it without a look at what it did.
    fn leave(self, outcome: &Result<(), String>) {
        self.over(outcome, |lane, frame, handling| {
            drop(handling);
            lane.tell_failed(frame, outcome);
        });
    }

    fn over(mut self, outcome: &Result<(), String>, end: impl FnOnce(&Lane, &EventFrame<'_>, Handling)) {
        self.recording.handler_ends();
        let lane = self.seen.map(|Seen { lane, frame, handling }| {
            end(&lane, &frame, handling);
            end_begun(&frame);
            lane
        });
        self.recording.end(lane.as_deref(), outcome);
    }
}

impl Lane {
    /// An event as it is handled until it ends, which is told of in the innermost frames, so many. Where it is raised in the handler of one
    /// that was [emitted](super::emit), that is not kept beyond how deep it is.
    fn frame_of<P: Payload + 'static>(&self, event: Event<'_, P>, above: usize) -> EventFrame<'static> {
        self.host.note_kind(event.kind);
        let (depth, outermost) = current_event(|outer| self.standing_of(outer, &mut None));
        let below = self.depths().into_iter().map(|(context, depth)| (context, depth.saturating_sub(above))).collect();
        EventFrame {
            kind: Cow::Owned(event.kind.to_owned()),
            subject: event.subject.map(|subject| About::Kept(subject.text().into_owned())),
            payload: Carries::Kept(Box::new(event.payload)),
            depth,
            outermost,
            repeatable: false,
            outer: begun_event().map_or(Outer::None, Outer::Begun),
            lent: None,
            below,
        }
    }
}
