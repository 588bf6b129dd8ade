//! An event while it is handled: what has to be looked at before its handlers run, and after.

use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::time::Duration;

use adzeman_core::breakpoint::{Armed, BreakpointId, ChangeKind, Site, Sited, Tracked, means};
use adzeman_core::decide::Change;
use adzeman_core::host::{Aspect, Data, HostView as _, Outline, describe};
use adzeman_core::path::TreePath;
use adzeman_core::sharing::Shared;

use super::budget::{Alarm, Budget, Spent};
use super::context::LocalContext;
use super::recording::Suspended;
use super::{HostState, Lane, OnComing};
use crate::event::EventFrame;
use crate::state::lock;

/// After which part of a budget it is kept when calls begin: a handler that keeps well within it pays nothing for that.
const TIMES_FROM_PART: u32 = 2;

/// Which contexts of a lane still have the first line of a handler ahead of them: all that did not reach a line since they were
/// told to await it. An event costs those only that did, however many there are.
#[derive(Default)]
pub(super) struct FirstLines {
    /// What the lane had taken notice of when all were told; nothing while some were not.
    told_at: Option<(u64, u64)>,
    /// Those that have reached a line since then.
    pub(super) reached: Vec<Shared<LocalContext>>,
}

/// How far a handler has come that is run bit by bit, as an asynchronous one is, between which others run.
#[derive(Default)]
pub(crate) struct Progress {
    /// What is recorded of its event, between two bits.
    pub(super) recorded: Suspended,
    /// Which of all outermost events its event is, once it has begun.
    pub(super) outermost: Option<u64>,
    /// Whether it has begun.
    pub(super) has_begun: bool,
    /// Whether the first line is still to be looked at.
    awaits_line: bool,
    /// How long it has run, by the host's clock.
    spent: Duration,
}

impl Progress {
    /// A part of it has run while nobody was there to see: its beginning is no business of anyone's any more.
    pub(crate) fn pass_unseen(&mut self) {
        self.has_begun = true;
        self.awaits_line = false;
    }
}

/// One run of an event's handlers, or of the next bit of one. Everything is put back when it is dropped, also when the handler panics; what may hold the
/// thread is done by [`end`](Self::end) alone.
pub(crate) struct Handling {
    lane: Rc<Lane>,
    armed: Arc<Armed>,
    /// While parts of host objects are watched: what other threads do meanwhile.
    shared: Option<Sharing>,
    /// The contexts that were told of this event alone, with how they were before; none where [`FirstLines`] will do.
    contexts: Vec<(Shared<LocalContext>, (bool, bool))>,
    expected: bool,
    /// What is restored with them.
    before: Option<FirstLines>,
    before_coming: OnComing,
    /// When this bit began, by the host's clock.
    began: Duration,
    /// The budget of the handler around this one.
    outer_budget: Option<Budget>,
    is_put_back: bool,
}

impl Handling {
    /// Before the handlers run, or go on. May hold the thread, at the host's boundary.
    pub(crate) fn begin(lane: &Rc<Lane>, frame: &EventFrame<'_>, progress: &Progress) -> Self {
        let contexts = lane.contexts();
        let armed = contexts.first().map_or_else(|| lane.host.breakpoints.armed(), |context| context.armed());
        let at_boundary = !progress.has_begun && armed.on_event(frame.kind()).any(wants_boundary);
        let shared = (frame.outer.get().is_none() && !armed.on_host_change().is_empty()).then(|| Sharing::begin(lane));
        if let Some(first) = contexts.first() {
            if shared.as_ref().is_none_or(|shared| !shared.is_amid_others) {
                lane.look_for_host_changes(first, &armed, None);
            }
            if at_boundary {
                first.decide_at_boundary(lane, |decider, moment, engine| decider.at_boundary(moment, engine));
            }
        }
        let expected = if progress.has_begun {
            progress.awaits_line && armed.has_events()
        } else {
            let of_lines = || armed.on_event(frame.kind()).any(|sited| sited.is_live() && !wants_boundary(sited));
            contexts.first().map_or_else(of_lines, |context| lane.expects_handler(context, &armed, frame))
        };
        let on_coming = OnComing { first_line: expected, boundary: at_boundary && contexts.is_empty() };
        let before_coming = lane.on_coming.replace(on_coming);
        let budget = shortest(armed.on_time(frame.kind()));
        let enter = |context: &Shared<LocalContext>| {
            let before = context.enter_event(expected);
            (context.clone(), before)
        };
        let is_watched = !armed.on_host_change().is_empty() || armed.has_script_changes();
        // What contexts were told of the first line of another handler is no business of one that is past its own.
        let is_past = progress.has_begun && armed.has_events();
        let concerns_all = is_past
            || budget.is_some()
            || is_watched
            || lane.host.contexts.any_occupied()
            || expected && frame.outer.get().is_some();
        // Where nothing is to be looked at, the event is no business of the contexts, however many there are.
        let before = concerns_all.then(|| lane.first_lines.take());
        let contexts: Vec<_> = if concerns_all { contexts.iter().map(enter).collect() } else { Vec::new() };
        if expected && !concerns_all {
            lane.await_first_lines();
        }
        let began = lane.host.clock.now();
        let budget = budget.map(|limit| lane.set_alarm(began, limit, progress.spent, &contexts));
        let outer_budget = lane.budget.replace(budget);
        let is_put_back = false;
        let lane = lane.clone();
        Self { lane, armed, shared, contexts, expected, before, before_coming, began, outer_budget, is_put_back }
    }

    /// When this bit began, by the host's clock.
    pub(super) fn began(&self) -> Duration {
        self.began
    }

    /// After a bit of the handler, which goes on later.
    pub(crate) fn suspend(mut self, frame: &EventFrame<'_>, progress: &mut Progress) {
        progress.spent += self.lane.host.clock.now().saturating_sub(self.began);
        progress.has_begun = true;
        progress.awaits_line = self.put_back();
        self.look_afterwards(frame, false);
    }

    /// After the handlers have run. May hold the thread, where they changed something.
    pub(crate) fn end(mut self, frame: &EventFrame<'_>) {
        let untouched = self.put_back();
        if self.lane.again.get() {
            // The script that was given up is; from here on lines are watched as always.
            self.lane.contexts().iter().for_each(|context| context.watch());
        } else {
            self.look_afterwards(frame, untouched);
        }
    }

    /// Has contexts and budgets as they were before. Answers whether a script line was expected and none ran.
    fn put_back(&mut self) -> bool {
        self.is_put_back = true;
        self.lane.on_coming.set(self.before_coming);
        let outer = self.outer_budget.take();
        // What the outer handler has to be told came while this one ran, which it was no business of.
        let is_pending = outer.as_ref().is_some_and(|outer| outer.spent.is_pending());
        if let Some(budget) = self.lane.budget.replace(outer) {
            budget.spent.is_done.store(true, SeqCst);
        }
        if is_pending {
            self.lane.contexts().iter().for_each(|context| context.link.look_at_budget());
        }
        let mut untouched =
            self.expected && (!self.contexts.is_empty() || self.lane.first_lines.borrow().reached.is_empty());
        if self.contexts.is_empty() && self.lane.host.contexts.any_occupied() {
            // A step has begun meanwhile.
            self.contexts = self.lane.contexts().iter().map(|context| (context.clone(), (false, false))).collect();
            self.before = Some(FirstLines::default());
        }
        for (context, before) in &self.contexts {
            untouched &= context.leave_event(*before);
        }
        if let Some(before) = self.before.take() {
            self.lane.first_lines.replace(before);
        }
        untouched
    }
}

impl Drop for Handling {
    fn drop(&mut self) {
        if !self.is_put_back {
            self.put_back();
        }
    }
}

impl Handling {
    /// What the last line of a script changed, what the handlers changed in the host, and events that no script handled.
    fn look_afterwards(&self, frame: &EventFrame<'_>, untouched: bool) {
        let first = self.lane.contexts().first().filter(|_| untouched).cloned();
        let told = self.contexts.iter().map(|(context, _)| context);
        for context in told.filter(|context| first.as_ref().is_none_or(|first| first.link.id != context.link.id)) {
            if self.armed.on_script_change(context.link.id).next().is_some() {
                context.decide_at_boundary(&self.lane, |decider, moment, engine| {
                    decider.after_event(moment, false, engine)
                });
            }
        }
        if let Some(first) = first {
            first.decide_at_boundary(&self.lane, |decider, moment, engine| decider.after_event(moment, true, engine));
        }
        if let Some((first, _)) = self.contexts.first().filter(|_| !self.armed.on_host_change().is_empty()) {
            let title = frame.title();
            let is_alone = self.shared.as_ref().is_none_or(|shared| shared.was_alone(&self.lane));
            let after = if is_alone { title } else { format!("{title}, or by what other threads did meanwhile") };
            self.lane.look_for_host_changes(first, &self.armed, Some(after));
        }
    }
}

fn wants_boundary(sited: &Sited) -> bool {
    matches!(sited.breakpoint.spec.site, Site::Event { at_boundary: true, .. })
}

fn shortest(sited: &[Sited]) -> Option<Duration> {
    let live = sited.iter().filter(|sited| sited.is_live());
    live.filter_map(|sited| match sited.breakpoint.spec.site {
        Site::Time { budget, .. } => Some(budget),
        _ => None,
    })
    .min()
}

impl Lane {
    /// Whether the first line of the event's handlers is to be looked at: unless every breakpoint on it is ruled out by
    /// what the host alone can tell.
    fn expects_handler(&self, context: &LocalContext, armed: &Armed, frame: &EventFrame<'_>) -> bool {
        let subject = frame.subject_text();
        let about = |sited: &&Sited| {
            let wanted = sited.breakpoint.spec.subject.as_deref();
            // One for a context can only be ruled out when its lines run.
            let Some(wanted) = wanted else { return true };
            let is_context = || self.contexts().iter().any(|held| means(wanted, &held.link.name));
            subject.as_deref().is_some_and(|subject| means(wanted, subject)) || is_context()
        };
        let mut candidates =
            armed.on_event(frame.kind()).filter(|sited| sited.is_live() && !wants_boundary(sited)).filter(about);
        candidates.any(|sited| {
            let Some(condition) = sited.breakpoint.spec.condition.as_deref() else { return true };
            let mut told = Ok(None);
            context.at_safe_point(&mut |engine| told = engine.condition_of_event(sited.breakpoint.id, condition));
            !matches!(told, Ok(Some(false)))
        })
    }

    /// Has every context look at the first line that it runs from now on.
    fn await_first_lines(&self) {
        let now = self.host.contexts.news();
        let FirstLines { told_at, reached } = self.first_lines.take();
        if told_at == Some(now) {
            reached.iter().for_each(|context| context.await_first_line());
        } else {
            self.contexts().iter().for_each(|context| context.await_first_line());
        }
        self.first_lines.replace(FirstLines { told_at: Some(now), reached: Vec::new() });
    }

    fn set_alarm(
        &self,
        began: Duration,
        limit: Duration,
        before: Duration,
        contexts: &[(Shared<LocalContext>, (bool, bool))],
    ) -> Budget {
        let left_of = |part: Duration| began + part.saturating_sub(before);
        let (times_from, at) = (Some(left_of(limit / TIMES_FROM_PART)), left_of(limit));
        let spent = Arc::<Spent>::default();
        let contexts = contexts.iter().map(|(context, _)| context.link.clone()).collect();
        self.host.timer().set(Alarm { contexts, times_from, at, spent: spent.clone() });
        Budget { limit, spent }
    }

    /// The time that the handler under way may take.
    pub(super) fn limit(&self) -> Option<Duration> {
        self.budget.borrow().as_ref().map(|budget| budget.limit)
    }

    /// Looks whether watched parts of host objects differ from the last time, and holds where that is asked for.
    /// `event` is the one that has just been handled; before one it is that which was handled last.
    fn look_for_host_changes(&self, context: &LocalContext, armed: &Armed, event: Option<String>) {
        let watched = armed.on_host_change();
        if watched.is_empty() {
            return;
        }
        let after = {
            let mut held = lock(&self.host.watched);
            held.values.retain(|id, _| watched.iter().any(|sited| sited.breakpoint.id == *id));
            if event.is_some() {
                held.last_event = event;
            }
            held.last_event.clone()
        };
        for sited in watched.iter().filter(|sited| sited.is_live()) {
            let Site::Change { target: Tracked::Host(place), how } = &sited.breakpoint.spec.site else { continue };
            let Some((before, now)) = self.changed(sited.breakpoint.id, || context.data.get(place).ok()) else {
                continue;
            };
            let change = Change {
                after: after.clone(),
                ..change(&place.display(context.data.notation()), place, &before, &now)
            };
            if *how == ChangeKind::Type && change.before.0 == change.now.0 {
                continue;
            }
            context.decide_at_boundary(self, |decider, moment, engine| {
                decider.at_host_change(sited, change.clone(), moment, engine)
            });
        }
    }

    /// What a watched value was and is, if it was looked at before, by whichever thread, and is another one now. What is in use at
    /// this moment is looked at the next time.
    fn changed(&self, id: BreakpointId, look: impl FnOnce() -> Option<Data>) -> Option<(Data, Data)> {
        // Of two threads that look at once, the one that saw more is to be the last.
        let mut held = lock(&self.host.watched);
        let now = look()?;
        match held.values.get_mut(&id) {
            Some(held) if *held == now => None,
            Some(held) => Some((std::mem::replace(held, now.clone()), now)),
            None => {
                held.values.insert(id, now);
                None
            }
        }
    }
}

/// An outermost handler among those of other threads, while parts of host objects are watched.
struct Sharing {
    host: Arc<HostState>,
    /// Whether others ran when it began.
    is_amid_others: bool,
    /// How many had begun by then, it included.
    begun: u64,
}

impl Sharing {
    fn begin(lane: &Lane) -> Self {
        let mut held = lock(&lane.host.watched);
        held.running += 1;
        held.begun += 1;
        Self { host: lane.host.clone(), is_amid_others: held.running > 1, begun: held.begun }
    }

    /// Whether no other one has run since it began.
    fn was_alone(&self, lane: &Lane) -> bool {
        !self.is_amid_others && lock(&lane.host.watched).begun == self.begun
    }
}

impl Drop for Sharing {
    fn drop(&mut self) {
        lock(&self.host.watched).running -= 1;
    }
}

fn change(target: &str, place: &TreePath, before: &Data, now: &Data) -> Change {
    let shown = |data: &Data| {
        let value = describe(&Outline::of_data(data, Aspect::Itself), place);
        (value.type_name, value.preview)
    };
    Change { target: target.to_owned(), before: shown(before), now: shown(now), place: None, after: None }
}
