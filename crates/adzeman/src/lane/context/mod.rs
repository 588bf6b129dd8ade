//! A context on the thread that runs it: one independent script state, what it decides, and what it reports.

mod supervising;

use std::collections::HashSet;
use std::rc::Rc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::Armed;
use adzeman_core::decide::{Decider, Decision, EventInHand, Moment, Reason};
use adzeman_core::engine::{Blindness, Engine, EngineContext, EngineError};
use adzeman_core::evaluation::Cancel;
use adzeman_core::profile::Profile;
use adzeman_core::sharing::{Shared, SharedWeak};
use adzeman_core::source::SourceLine;
use adzeman_core::stepping::Step;
use adzeman_core::value::Value;

use super::deciding::{Decided, Deciding, Trace};
use super::hold::{Go, Hold};
use super::host_state::Changed;
use super::link::ContextLink;
use super::recording::note_entered;
use super::under_way::settle;
use super::{HostState, Lane, OnComing};
use crate::event::{EventFrame, current_event, event_depth};
use crate::object::HostData;
use crate::state::lock;
use crate::state::notice::{Notice, Stop};

/// Between two looks whether someone has attached.
const WAIT_GLANCE: Duration = Duration::from_millis(20);

/// A context on the thread that runs it. The engine is asked while none of the locks here is held, as it may have to wait for
/// another thread to leave the state.
pub(crate) struct LocalContext {
    me: SharedWeak<Self>,
    pub(crate) link: Arc<ContextLink>,
    pub(crate) host: Arc<HostState>,
    /// The host's data, as its scripts see it.
    pub(crate) data: Shared<HostData>,
    engine: Mutex<Option<Shared<dyn EngineContext>>>,
    deciding: Mutex<Deciding>,
    /// How many events were being handled when the step under way began.
    step_events: AtomicUsize,
    /// The version of what the engine was last told to watch.
    watched: AtomicU64,
    /// Whether the engine has something left to do.
    unsettled: AtomicBool,
    /// Whether there is something to do here at each event.
    occupied: AtomicBool,
    /// How many calls that a person asked for are under way.
    running_openly: AtomicUsize,
    /// How many sources were loaded.
    loaded: AtomicUsize,
    /// What was said of lines that were not watched for.
    blindness_told: Mutex<HashSet<Blindness>>,
    /// Whether its engine has to watch anything.
    is_watching: AtomicBool,
    memory: MemoryNoted,
}

/// What was noted last of the memory in use: what is about as much is noted now and then only, after each event.
#[derive(Default)]
struct MemoryNoted {
    bytes: AtomicU64,
    /// In which course.
    begun: AtomicU64,
    passed: AtomicU64,
}

/// Of what was noted last, the part by which it may differ without being noted: less than a jump does
/// ([`Course`](adzeman_core::figures::Course)).
const ABOUT_AS_MUCH: u64 = 128;
/// How often in a row it may not be noted.
const MOST_PASSED: u64 = 15;

impl MemoryNoted {
    fn is_worth_it(&self, bytes: u64, begun: u64) -> bool {
        let last = self.bytes.load(Ordering::Relaxed);
        let passed = self.passed.load(Ordering::Relaxed);
        let is_same = bytes.abs_diff(last) < last / ABOUT_AS_MUCH && self.begun.load(Ordering::Relaxed) == begun;
        if is_same && passed < MOST_PASSED {
            self.passed.store(passed + 1, Ordering::Relaxed);
            return false;
        }
        self.bytes.store(bytes, Ordering::Relaxed);
        self.begun.store(begun, Ordering::Relaxed);
        self.passed.store(0, Ordering::Relaxed);
        true
    }
}

impl LocalContext {
    pub(super) fn new(
        me: SharedWeak<Self>,
        link: Arc<ContextLink>,
        host: Arc<HostState>,
        data: Shared<HostData>,
    ) -> Self {
        Self {
            me,
            deciding: Mutex::new(Deciding::of(link.id)),
            link,
            host,
            data,
            engine: Mutex::new(None),
            step_events: AtomicUsize::new(0),
            watched: AtomicU64::new(u64::MAX),
            unsettled: AtomicBool::new(false),
            occupied: AtomicBool::new(false),
            running_openly: AtomicUsize::new(0),
            loaded: AtomicUsize::new(0),
            blindness_told: Mutex::default(),
            is_watching: AtomicBool::new(false),
            memory: MemoryNoted::default(),
        }
    }

    /// Its engine is there.
    pub(super) fn open(&self, engine: Shared<dyn EngineContext>) {
        *lock(&self.engine) = Some(engine);
    }

    /// Its engine goes.
    pub(super) fn close(&self) {
        let engine = lock(&self.engine).take();
        drop(engine);
        self.note_settled(true);
        self.note_occupied(false);
    }

    fn engine(&self) -> Option<Shared<dyn EngineContext>> {
        lock(&self.engine).clone()
    }

    /// The lane of this thread, which runs it now; nothing once it is closed.
    pub(crate) fn lane(&self) -> Option<Rc<Lane>> {
        if let Some(lane) = Lane::find(&self.host).filter(|lane| lane.has(&self.link)) {
            return Some(lane);
        }
        let me = self.me.upgrade().filter(|_| self.link.lane() != 0)?;
        let lane = Lane::of(&self.host);
        if lane.take_over(&me)
            && let Some(engine) = self.engine()
        {
            // From now on it is interrupted here.
            engine.enter(&mut || ());
            if lane.on_coming.get().first_line {
                self.await_first_line();
            }
        }
        Some(lane)
    }

    /// The same, where the lane is not held by a stop.
    fn free_lane(&self) -> Option<Rc<Lane>> {
        if !self.host.clients.are_here() {
            return None;
        }
        self.lane().filter(|lane| !lane.holding.get())
    }

    /// Does `work`, during which this thread runs the context; begins with a safe point while someone is attached.
    pub(super) fn enter<T>(&self, work: impl FnOnce() -> T) -> T {
        if self.host.wants_events() {
            note_entered(&self.host, &self.link);
        }
        if !cfg!(feature = "send") && !self.host.is_attached() {
            return work();
        }
        let Some(engine) = self.engine() else { return work() };
        let (mut work, mut outcome) = (Some(work), None);
        engine.enter(&mut || {
            if self.host.is_attached()
                && let Some(lane) = self.free_lane()
            {
                lane.serve_waiting(None);
                self.refresh();
                let on_coming = lane.on_coming.get();
                if on_coming.boundary {
                    lane.on_coming.set(OnComing { boundary: false, ..on_coming });
                    self.decide_at_boundary(&lane, |decider, moment, engine| decider.at_boundary(moment, engine));
                }
            }
            outcome = work.take().map(|work| work());
        });
        outcome.unwrap_or_else(|| unreachable!("an engine does the work that it is given"))
    }

    /// How many frames it has at this moment.
    pub(crate) fn depth(&self) -> usize {
        self.engine().map_or(0, |engine| engine.depth())
    }

    /// Begins to take samples of its stack.
    pub(crate) fn begin_profile(&self) -> Result<(), EngineError> {
        let gone = || EngineError::Runtime("the context is gone".to_owned());
        self.engine().ok_or_else(gone)?.begin_profile()
    }

    /// Ends that, and answers what was sampled.
    pub(crate) fn end_profile(&self) -> Profile {
        self.engine().map(|engine| engine.end_profile()).unwrap_or_default()
    }

    /// What its state has in use, in bytes, where its engine can tell, and where that is worth a note in the course that was begun so
    /// many times.
    pub(super) fn memory_to_note(&self, begun: u64) -> Option<u64> {
        let bytes = self.engine()?.memory_bytes()?;
        self.memory.is_worth_it(bytes, begun).then_some(bytes)
    }

    pub(crate) fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine)) {
        if let Some(engine) = self.engine() {
            engine.at_safe_point(work);
        }
    }

    pub(crate) fn discover(&self) {
        if let Some(engine) = self.engine() {
            engine.discover();
            self.note_settled(engine.is_settled());
            if self.note_waiting(&*engine) {
                self.note_occupied(true);
            }
        }
    }

    /// Has the engine look whether it still watches what it has to, if it has to watch anything.
    pub(super) fn keep_watch(&self) {
        if !self.is_watching.load(Ordering::Relaxed) {
            return;
        }
        if let Some(engine) = self.engine() {
            engine.keep_watch();
            if self.note_waiting(&*engine) {
                self.note_occupied(true);
            }
        }
    }

    pub(crate) fn begin_step(&self, step: Step) {
        self.step_events.store(event_depth(), Ordering::Relaxed);
        lock(&self.deciding).decider.begin_step(step);
        self.note_occupied(true);
    }

    /// The next line is one that the function goes on at, and is stopped at.
    pub(super) fn await_arrival(&self) {
        let mut deciding = lock(&self.deciding);
        deciding.pass_over();
        deciding.decider.ask_arrival();
        drop(deciding);
        self.note_occupied(true);
    }

    /// Whether a step is under way that began here.
    pub(super) fn is_stepping(&self) -> bool {
        lock(&self.deciding).decider.step().is_some()
    }

    /// Whether a step of another context of this thread, of which nothing runs any more, goes on here.
    fn takes_step_over(&self, lane: &Lane) -> bool {
        let contexts = lane.contexts();
        let is_over =
            |other: &&Shared<Self>| other.link.id != self.link.id && other.is_stepping() && other.depth() == 0;
        let Some(other) = contexts.iter().find(is_over) else { return false };
        lock(&other.deciding).decider.run_freely();
        other.watch();
        true
    }

    /// Takes notice of what sessions changed since the last time.
    fn catch_up(&self) {
        if self.link.attention.load(Ordering::SeqCst) && self.link.attention.swap(false, Ordering::SeqCst) {
            let armed = self.host.breakpoints.armed();
            let mut deciding = lock(&self.deciding);
            if !self.host.is_attached() {
                deciding.forget_traces();
            }
            let decider = &mut deciding.decider;
            let awaits = armed.has_events() && event_depth() == 0;
            decider.arm(armed);
            if awaits {
                // The first handler is yet to come; it is told now, as the engine is told anyway.
                decider.expect_handler(true);
            }
            if !self.host.is_attached() {
                // Who comes next is told anew.
                lock(&self.blindness_told).clear();
                decider.run_freely();
                self.link.pause_wanted.store(false, Ordering::SeqCst);
            }
        }
        if self.link.pause_wanted.swap(false, Ordering::SeqCst) {
            lock(&self.deciding).decider.ask_pause();
        }
        if self.link.first_stop_wanted.swap(false, Ordering::SeqCst) {
            lock(&self.deciding).decider.ask_first_stop();
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
        let version = lock(&self.deciding).decider.need_version();
        if version != self.watched.load(Ordering::Relaxed) {
            self.watch();
        }
    }

    /// Tells the engine what to watch now.
    pub(crate) fn watch(&self) {
        let (need, version, is_stepping) = {
            let deciding = lock(&self.deciding);
            let decider = &deciding.decider;
            (decider.need(), decider.need_version(), decider.step().is_some() || deciding.tracing.is_wanted())
        };
        self.watched.store(version, Ordering::Relaxed);
        self.is_watching.store(!need.is_nothing(), Ordering::Relaxed);
        if let Some(engine) = self.engine() {
            engine.watch(&need);
            self.note_settled(engine.is_settled());
            let is_wanted = self.note_waiting(&*engine);
            self.note_occupied(is_stepping || need.call_times || is_wanted);
        }
    }

    /// At a safe point: takes notice of changes and has the engine watch accordingly.
    /// Whether there was anything to do.
    pub(crate) fn refresh(&self) -> bool {
        let is_called = self.link.attention.load(Ordering::SeqCst);
        if !is_called && !self.occupied.load(Ordering::SeqCst) {
            return false;
        }
        let Some(engine) = self.engine() else { return false };
        engine.safe_point();
        self.link.safe_points.came.store(true, Ordering::SeqCst);
        if is_called {
            self.catch_up();
            self.watch();
        } else if !self.note_waiting(&*engine) {
            // What occupied it may be done.
            self.watch();
        }
        self.note_settled(engine.is_settled());
        true
    }

    /// Functions may have to get another body when they have returned.
    pub(crate) fn note_reloaded(&self) {
        if let Some(engine) = self.engine()
            && self.note_waiting(&*engine)
        {
            self.note_occupied(true);
        }
    }

    /// Does at a line what is done at safe points: the host comes to none.
    fn do_what_waits(&self) {
        let Some(engine) = self.engine().filter(|engine| engine.wants_safe_point()) else { return };
        engine.safe_point();
        self.note_settled(engine.is_settled());
        self.note_waiting(&*engine);
    }

    /// Notes whether the next safe point has anything to do, for whoever sees to it that there is one.
    fn note_waiting(&self, engine: &dyn EngineContext) -> bool {
        let is_wanted = engine.wants_safe_point();
        self.link.safe_points.is_wanted.store(is_wanted, Ordering::SeqCst);
        self.link.safe_points.is_lagging.store(is_wanted && engine.is_lagging(), Ordering::SeqCst);
        is_wanted
    }

    /// Has the lane come by at each event for as long as there is something to do here.
    fn note_occupied(&self, is_occupied: bool) {
        if self.occupied.swap(is_occupied, Ordering::SeqCst) != is_occupied {
            self.host.contexts.note_occupied(is_occupied);
        }
    }

    /// Has the host come by for as long as something is to be done here bit by bit.
    fn note_settled(&self, is_settled: bool) {
        if self.unsettled.swap(!is_settled, Ordering::SeqCst) == is_settled {
            self.host.clients.note_reason(!is_settled);
        }
    }

    /// A handler of an event begins on this thread. `expected` is whether its first line is to be looked at. Answers what to give back
    /// to [`leave_event`](Self::leave_event).
    pub(crate) fn enter_event(&self, expected: bool) -> (bool, bool) {
        let (before, differs) = {
            let mut deciding = lock(&self.deciding);
            let version = deciding.decider.need_version();
            let title = || current_event(|event| event.map(EventFrame::title)).unwrap_or_default();
            let is_over = deciding.begin_trace(title, event_depth());
            let decider = &mut deciding.decider;
            let before = (decider.expect_handler(expected), decider.time_calls(false));
            (before, is_over || version != decider.need_version())
        };
        if differs {
            self.watch();
        }
        before
    }

    /// Has the lines of the next event told of that runs anything here; answers those of the last one that was.
    pub(crate) fn trace_events(&self) -> Option<Trace> {
        let last = lock(&self.deciding).tracing.ask();
        self.note_occupied(true);
        last
    }

    /// A step of another context may go on to the next line here.
    pub(super) fn await_step(&self) {
        if !lock(&self.deciding).decider.await_step(true) {
            self.watch();
        }
    }

    /// The next line is to be looked at as the first one of a handler, unless it is already.
    pub(super) fn await_first_line(&self) {
        if !lock(&self.deciding).decider.expect_handler(true) {
            self.watch();
        }
    }

    /// The handler of the innermost event has ended; a step that began in it ends with it. Whether no line of this context was reached
    /// that was to be looked at.
    pub(crate) fn leave_event(&self, before: (bool, bool)) -> bool {
        let (untouched, step) = {
            let decider = &lock(&self.deciding).decider;
            (decider.awaits_handler(), decider.step())
        };
        let awaits_host = |step: &Step| self.engine().is_some_and(|engine| engine.awaits_host(step.stack()));
        let left =
            step.is_some_and(|step| !awaits_host(&step)) && self.step_events.load(Ordering::Relaxed) >= event_depth();
        if left {
            lock(&self.deciding).decider.run_freely();
            let mut returned = None;
            self.at_safe_point(&mut |engine| returned = engine.returned());
            let returned = returned.map(previews);
            let told = |event: &EventFrame<'_>| (event.kind().to_owned(), event.subject_text());
            if let Some((event, subject)) = current_event(|event| event.map(told)) {
                self.host.clients.tell(Notice::HandlerLeft { context: self.link.id, event, subject, returned });
            }
        }
        let (awaited, now) = {
            let mut deciding = lock(&self.deciding);
            deciding.end_trace(event_depth());
            let decider = &mut deciding.decider;
            // A step is one of its event.
            let awaited = decider.await_step(false);
            (awaited, (decider.expect_handler(before.0), decider.time_calls(before.1)))
        };
        if left || awaited || now != before {
            self.watch();
        } else {
            self.watch_anew();
        }
        untouched
    }

    /// The breakpoints as this context has taken notice of them.
    pub(crate) fn armed(&self) -> Arc<Armed> {
        lock(&self.deciding).decider.armed().clone()
    }

    /// Lends the moment at a line, or at the host's boundary, to `decide`, and tells what breakpoints said.
    pub(crate) fn decide(
        &self,
        place: Option<SourceLine>,
        decide: impl FnOnce(&mut Decider, Moment<'_>) -> Decision,
    ) -> Decided {
        settle();
        let mut deciding = lock(&self.deciding);
        let decision = current_event(|event| {
            deciding.note(place, event.map_or(0, |event| event.outermost));
            let event = event.map(|event| EventInHand { kind: event.kind(), subject: event.subject() });
            decide(&mut deciding.decider, Moment { place, event, context: &self.link.name })
        });
        let is_watched_for = deciding.decider.need_version() == self.watched.load(Ordering::Relaxed);
        drop(deciding);
        for said in &decision.said {
            self.host.tell_said(said);
        }
        if decision.is_settled {
            self.host.rebind(Changed::Temporary);
        }
        Decided { reason: decision.reason, is_watched_for }
    }

    /// Decides at the host's boundary, and holds this context there if that is what it comes to.
    pub(crate) fn decide_at_boundary(
        &self,
        lane: &Lane,
        mut decide: impl FnMut(&mut Decider, Moment<'_>, &mut dyn Engine) -> Decision,
    ) {
        self.at_safe_point(&mut |engine| {
            let decided = lane.quietly(|| self.decide(None, |decider, moment| decide(decider, moment, engine)));
            if let Some(reason) = decided.reason.filter(|_| self.host.clients.is_controlled()) {
                self.hold(lane, engine, &reason);
            }
        });
        self.refresh();
    }

    /// Holds this thread until someone is attached and ready, for at most `limit`; answers whether someone is. What sessions
    /// ask for meanwhile is done.
    pub(crate) fn wait_for_client(&self, limit: Duration) -> bool {
        let Some(lane) = self.lane().filter(|_| self.host.clients.are_here()) else { return false };
        let until = Instant::now().checked_add(limit);
        self.link.standing.wait(true);
        let before = self.host.clients.times_ready();
        let was_somebody_ready = || self.host.clients.is_ready() || self.host.clients.times_ready() != before;
        while !was_somebody_ready() && !self.host.closing.load(Ordering::SeqCst) {
            if until.is_some_and(|until| Instant::now() >= until) {
                break;
            }
            if let Ok(mail) = lane.mailbox.receiver.recv_timeout(WAIT_GLANCE) {
                lane.quietly(|| lane.serve(mail, None));
            }
        }
        self.link.standing.wait(false);
        self.host.clients.is_ready()
    }

    /// Where scripts would begin to run: holds them if the host was told to, until someone is there.
    pub(super) fn hold_out(&self) {
        let Some(holding) = self.host.opening.meet() else { return };
        let is_there = self.wait_for_client(holding.limit());
        if !is_there {
            self.host.let_scripts_begin();
            tracing::warn!("nobody attached in time; the scripts run");
        }
        if is_there && holding.stops {
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
        let Some(lane) = self.lane() else { return Ok(Vec::new()) };
        let was_holding = lane.holding.replace(false);
        self.running_openly.fetch_add(1, Ordering::Relaxed);
        let outcome = engine.run_openly(frame, text, cancel);
        self.running_openly.fetch_sub(1, Ordering::Relaxed);
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
            are_all: self.host.contexts.are_all_held(),
            lines_ran: place
                .map(|place| lock(&self.deciding).lines_ran(&self.host.sources.look(), place))
                .filter(|ran| ran.len() > 1),
        })));
        untold.into_iter().for_each(|client| client.outbox.notice(&stop));
    }
}

fn previews(values: Vec<Value>) -> Vec<String> {
    values.into_iter().map(|value| value.preview).collect()
}
