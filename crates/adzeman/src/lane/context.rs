//! A context on its own thread: one independent script state, what it decides, and what it reports.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeSet, VecDeque};
use std::rc::{Rc, Weak};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::Armed;
use adzeman_core::decide::{Decider, Decision, EventInHand, Moment, Reason};
use adzeman_core::engine::{Engine, EngineContext, EngineError, Supervisor};
use adzeman_core::evaluation::{Allowance, Cancel};
use adzeman_core::source::{Line, LineSet, SourceFacts, SourceId, SourceLine};
use adzeman_core::stepping::Step;
use adzeman_core::value::Value;

use super::hold::{Go, Hold};
use super::host_state::Changed;
use super::link::ContextLink;
use super::{HostState, Lane};
use crate::event::{current_event, event_depth};
use crate::object::HostData;
use crate::state::notice::{Notice, Stop, Text, Tone};

/// Between two looks whether someone has attached.
const WAIT_GLANCE: Duration = Duration::from_millis(20);
/// Lines that are remembered to have run.
const MOST_LINES_NOTED: usize = 1024;

/// A context on its own thread.
pub(crate) struct LocalContext {
    pub(crate) link: Arc<ContextLink>,
    pub(crate) host: Arc<HostState>,
    lane: Weak<Lane>,
    /// The host's data, as its scripts see it.
    pub(crate) data: Rc<HostData>,
    engine: RefCell<Option<Rc<dyn EngineContext>>>,
    decider: RefCell<Decider>,
    /// How many events were being handled when the step under way began.
    step_events: Cell<usize>,
    /// The version of what the engine was last told to watch.
    watched: Cell<u64>,
    /// How many calls that a person asked for are under way.
    running_openly: Cell<usize>,
    /// Lines that were seen to run since the outermost event began, the last ones.
    ran: RefCell<VecDeque<SourceLine>>,
}

impl LocalContext {
    pub(super) fn new(link: Arc<ContextLink>, lane: &Rc<Lane>, data: Rc<HostData>) -> Self {
        Self {
            decider: RefCell::new(Decider::of(link.id)),
            link,
            host: lane.host.clone(),
            lane: Rc::downgrade(lane),
            data,
            engine: RefCell::new(None),
            step_events: Cell::new(0),
            watched: Cell::new(u64::MAX),
            running_openly: Cell::new(0),
            ran: RefCell::default(),
        }
    }

    /// Its engine is there.
    pub(super) fn open(&self, engine: Rc<dyn EngineContext>) {
        *self.engine.borrow_mut() = Some(engine);
    }

    /// Its engine goes.
    pub(super) fn close(&self) {
        *self.engine.borrow_mut() = None;
    }

    fn engine(&self) -> Option<Rc<dyn EngineContext>> {
        self.engine.borrow().clone()
    }

    /// The lane of its thread.
    pub(crate) fn lane(&self) -> Option<Rc<Lane>> {
        self.lane.upgrade()
    }

    /// How many frames it has at this moment.
    pub(crate) fn depth(&self) -> usize {
        self.engine().map_or(0, |engine| engine.depth())
    }

    pub(crate) fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine)) {
        if let Some(engine) = self.engine() {
            engine.at_safe_point(work);
        }
    }

    pub(crate) fn discover(&self) {
        if let Some(engine) = self.engine() {
            engine.discover();
        }
    }

    pub(crate) fn begin_step(&self, step: Step) {
        self.step_events.set(event_depth());
        self.decider.borrow_mut().begin_step(step);
    }

    /// Takes notice of what sessions changed since the last time.
    fn catch_up(&self) {
        if self.link.attention.swap(false, Ordering::SeqCst) {
            let mut decider = self.decider.borrow_mut();
            decider.arm(self.host.breakpoints.armed());
            if !self.host.is_attached() {
                decider.run_freely();
                self.link.pause_wanted.store(false, Ordering::SeqCst);
            }
        }
        if self.link.pause_wanted.swap(false, Ordering::SeqCst) {
            self.decider.borrow_mut().ask_pause();
        }
        if self.link.first_stop_wanted.swap(false, Ordering::SeqCst) {
            self.decider.borrow_mut().ask_first_stop();
        }
    }

    /// Holds this context if there is a reason; whether its handler is given up then.
    fn hold_for(&self, lane: &Lane, engine: &mut dyn Engine, reason: Option<Reason>) -> bool {
        let Some(reason) = reason.filter(|_| self.host.clients.is_controlled()) else { return false };
        let go = self.hold(lane, engine, &reason);
        self.catch_up();
        go == Go::Again && self.abandon()
    }

    /// Gives up what runs, as far as the engine can.
    fn abandon(&self) -> bool {
        self.engine().is_some_and(|engine| engine.abandon())
    }

    /// Tells the engine what to watch now, if that may have changed.
    fn watch_anew(&self) {
        if self.decider.borrow().need_version() != self.watched.get() {
            self.watch();
        }
    }

    /// Tells the engine what to watch now.
    pub(crate) fn watch(&self) {
        let (need, version) = {
            let decider = self.decider.borrow();
            (decider.need(), decider.need_version())
        };
        self.watched.set(version);
        if let Some(engine) = self.engine() {
            engine.watch(&need);
        }
    }

    /// At a safe point: takes notice of changes and has the engine watch accordingly.
    pub(crate) fn refresh(&self) {
        if let Some(engine) = self.engine() {
            engine.safe_point();
        }
        if self.link.attention.load(Ordering::SeqCst) {
            self.catch_up();
            self.watch();
        }
    }

    /// A handler of an event begins on this thread. `expected` is whether its first line is to be looked at, `timed`
    /// whether the times of its calls are to be kept. Answers what to give back to [`leave_event`](Self::leave_event).
    pub(crate) fn enter_event(&self, expected: bool, timed: bool) -> (bool, bool) {
        if event_depth() <= 1 {
            self.ran.borrow_mut().clear();
        }
        let mut decider = self.decider.borrow_mut();
        let before = (decider.expect_handler(expected), decider.time_calls(timed));
        drop(decider);
        if before != (expected, timed) {
            self.watch();
        }
        before
    }

    /// The handler has ended; a step that began in it ends with it. Whether no line of this context was reached that was
    /// to be looked at.
    pub(crate) fn leave_event(&self, before: (bool, bool), kind: &str, subject: Option<&str>) -> bool {
        let untouched = self.decider.borrow().awaits_handler();
        let left = self.decider.borrow().step().is_some() && self.step_events.get() >= event_depth();
        if left {
            self.decider.borrow_mut().run_freely();
            let (event, subject) = (kind.to_owned(), subject.map(str::to_owned));
            let mut returned = None;
            self.at_safe_point(&mut |engine| returned = engine.returned());
            let returned = returned.map(previews);
            self.host.clients.tell(Notice::HandlerLeft { context: self.link.id, event, subject, returned });
        }
        let mut decider = self.decider.borrow_mut();
        let now = (decider.expect_handler(before.0), decider.time_calls(before.1));
        drop(decider);
        if left || now != before {
            self.watch();
        }
        untouched
    }

    /// The breakpoints as this context has taken notice of them.
    pub(crate) fn armed(&self) -> Arc<Armed> {
        self.decider.borrow().armed().clone()
    }

    /// Lends the moment at a line, or at the host's boundary, to `decide`, and tells what breakpoints said.
    pub(crate) fn decide(
        &self,
        place: Option<SourceLine>,
        decide: impl FnOnce(&mut Decider, Moment<'_>) -> Decision,
    ) -> Option<Reason> {
        let decision = current_event(|event| {
            let event = event.map(|event| EventInHand { kind: event.kind(), subject: event.subject() });
            let moment = Moment { place, event, context: &self.link.name };
            decide(&mut self.decider.borrow_mut(), moment)
        });
        for said in &decision.said {
            self.host.tell_said(said);
        }
        if decision.is_settled {
            self.host.rebind(Changed::Temporary);
        }
        decision.reason
    }

    /// Decides at the host's boundary, and holds this context there if that is what it comes to.
    pub(crate) fn decide_at_boundary(
        &self,
        lane: &Lane,
        mut decide: impl FnMut(&mut Decider, Moment<'_>, &mut dyn Engine) -> Decision,
    ) {
        self.at_safe_point(&mut |engine| {
            let reason = lane.quietly(|| self.decide(None, |decider, moment| decide(decider, moment, engine)));
            if let Some(reason) = reason.filter(|_| self.host.clients.is_controlled()) {
                self.hold(lane, engine, &reason);
            }
        });
        self.refresh();
    }

    /// Holds this thread until someone is attached and ready, for at most `limit`; answers whether someone is. What sessions
    /// ask for meanwhile is done.
    pub(crate) fn wait_for_client(&self, limit: Duration) -> bool {
        let Some(lane) = self.lane.upgrade() else { return false };
        let until = Instant::now().checked_add(limit);
        self.link.standing.wait(true);
        while !self.host.clients.is_ready() && !self.host.closing.load(Ordering::SeqCst) {
            if until.is_some_and(|until| Instant::now() >= until) {
                break;
            }
            if let Ok(mail) = lane.mailbox.recv_timeout(WAIT_GLANCE) {
                lane.quietly(|| lane.serve(mail, None));
            }
        }
        self.link.standing.wait(false);
        self.host.clients.is_ready()
    }

    /// Where scripts would begin to run: holds them if the host was told to, until someone is there.
    pub(super) fn hold_out(&self) {
        let Some((until, stops)) = self.host.opening.holds_out() else { return };
        let limit = until.saturating_duration_since(Instant::now());
        let is_there = self.wait_for_client(limit);
        if !is_there {
            self.host.let_scripts_begin();
            tracing::warn!("nobody attached in time; the scripts run");
        }
        if is_there && stops {
            self.link.ask_first_stop();
        }
        self.refresh();
    }

    /// Evaluates a text as the script would, so that breakpoints in it stop.
    pub(crate) fn run_openly(
        &self,
        engine: &mut dyn Engine,
        frame: Option<usize>,
        text: &str,
        cancel: &Cancel,
    ) -> Result<Vec<Value>, EngineError> {
        let Some(lane) = self.lane.upgrade() else { return Ok(Vec::new()) };
        let was_holding = lane.holding.replace(false);
        self.running_openly.set(self.running_openly.get() + 1);
        let outcome = engine.run_openly(frame, text, cancel);
        self.running_openly.set(self.running_openly.get() - 1);
        lane.holding.set(was_holding);
        self.watch();
        outcome
    }

    /// Tells every attached client of a stop that was not told of it yet.
    pub(crate) fn tell_stopped(&self, hold: &Hold, engine: &mut dyn Engine) {
        let clients = self.host.clients.attached();
        let untold: Vec<_> = clients.iter().filter(|client| hold.is_news_to(client)).collect();
        if untold.is_empty() {
            return;
        }
        let frames = engine.frames(adzeman_core::value::Page::first(8)).map(|page| page.items).unwrap_or_default();
        let place = frames.iter().find_map(|frame| frame.place);
        let stop = Arc::new(Notice::Stopped(Box::new(Stop {
            context: self.link.id,
            name: self.link.name.clone(),
            reason: hold.reason.clone(),
            place,
            event: current_event(|event| event.map(|event| (event.kind().to_owned(), event.subject_text()))),
            returned: engine.returned().map(previews),
            lines_ran: place.map(|place| self.lines_ran(place)).filter(|ran| ran.len() > 1),
        })));
        untold.into_iter().for_each(|client| client.outbox.notice(&stop));
    }

    /// Notes a line that runs.
    fn note_line(&self, place: Option<SourceLine>) {
        let mut ran = self.ran.borrow_mut();
        if let Some(place) = place.filter(|place| ran.back() != Some(place)) {
            if ran.len() >= MOST_LINES_NOTED {
                ran.pop_front();
            }
            ran.push_back(place);
        }
    }

    /// The lines that were seen to run of the function that holds a line, in order.
    fn lines_ran(&self, place: SourceLine) -> Vec<Line> {
        let sources = self.host.sources.look();
        let function = sources.get(place.source).and_then(|source| source.function_at(place.line));
        let is_inside = |line: &Line| function.is_none_or(|function| function.first <= *line && *line <= function.last);
        let ran = self.ran.borrow();
        let own = ran.iter().filter(|held| held.source == place.source && is_inside(&held.line));
        let shown = own.map(|held| sources.shown(*held));
        let shown_in = sources.shown(place).source;
        let lines: BTreeSet<_> = shown.filter(|held| held.source == shown_in).map(|held| held.line).collect();
        lines.into_iter().collect()
    }
}

fn previews(values: Vec<Value>) -> Vec<String> {
    values.into_iter().map(|value| value.preview).collect()
}

impl Supervisor for LocalContext {
    fn source_loaded(&self, facts: SourceFacts) -> SourceId {
        self.host.add_source(facts)
    }

    fn attention(&self) -> Arc<AtomicBool> {
        self.link.attention.clone()
    }

    fn allowance(&self) -> Allowance {
        self.host.limits().for_aside(Cancel::default())
    }

    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line) {
        let Some(lane) = self.lane.upgrade().filter(|lane| !lane.holding.get()) else { return };
        self.catch_up();
        if self.running_openly.get() > 0 && !self.host.is_attached() {
            self.abandon();
            return;
        }
        if self.link.serving_wanted.swap(false, Ordering::SeqCst) {
            lane.serve_at_line(self, engine);
            self.catch_up();
        }
        let place = source.map(|source| SourceLine { source, line });
        self.note_line(place);
        let over_budget = self.link.budget_over.swap(false, Ordering::SeqCst).then(|| lane.budget.get()).flatten();
        let mut reason = lane.quietly(|| self.decide(place, |decider, moment| decider.at_line(moment, engine)));
        if let (None, Some(budget)) = (&reason, over_budget) {
            reason = lane.quietly(|| self.decide(place, |decider, moment| decider.at_budget(budget, moment, engine)));
        }
        if !self.hold_for(&lane, engine, reason) {
            self.watch_anew();
        }
    }

    fn holds_line(&self, source: SourceId, lines: &LineSet, first: u32, last: u32) -> bool {
        self.host.sources.look().get(source).is_some_and(|source| source.function_holds(lines, first, last))
    }

    fn armed_as(&self, place: SourceLine, watched_because: Option<&'static str>) {
        self.host.breakpoints.note_armed(place, watched_because);
    }

    fn raised(&self, engine: &mut dyn Engine, place: Option<(SourceId, Line)>, message: &str, caught: bool) {
        let Some(lane) = self.lane.upgrade().filter(|lane| !lane.holding.get()) else { return };
        self.catch_up();
        let place = place.map(|(source, line)| SourceLine { source, line });
        let reason =
            lane.quietly(|| self.decide(place, |decider, moment| decider.at_raise(moment, message, caught, engine)));
        if !self.hold_for(&lane, engine, reason) {
            self.watch();
        }
    }

    fn stop_asked(&self, engine: &mut dyn Engine) {
        let Some(lane) = self.lane.upgrade().filter(|lane| !lane.holding.get()) else { return };
        self.catch_up();
        if !self.hold_for(&lane, engine, Some(Reason::ByScript)) {
            self.watch_anew();
        }
    }

    fn wait_asked(&self, limit: Duration) -> bool {
        // Where nothing is open, nobody can come.
        let can_come = self.host.opening.is_open.load(Ordering::Relaxed);
        let waited = self.host.clients.is_ready() || can_come && self.wait_for_client(limit);
        self.refresh();
        waited
    }

    fn said(&self, text: &str, place: Option<(SourceId, Line)>) {
        self.output(Tone::Said, text, place);
    }

    fn printed(&self, text: &str, place: Option<(SourceId, Line)>) {
        self.output(Tone::Printed, text, place);
    }

    fn is_attached(&self) -> bool {
        self.host.is_attached()
    }
}

impl LocalContext {
    /// Sends what a script prints or says to every client, with the line that did.
    fn output(&self, tone: Tone, text: &str, place: Option<(SourceId, Line)>) {
        let place = place.map(|(source, line)| SourceLine { source, line });
        self.host.clients.tell(Notice::Text(Box::new(Text { tone, text: text.to_owned(), place, rings: false })));
    }
}
