//! A context: one independent script state, as its own thread and as the sessions see it.

use std::cell::{Cell, RefCell};
use std::rc::{Rc, Weak};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use adzeman_core::breakpoint::SourceLine;
use adzeman_core::decide::{Decider, EventInHand, Reason};
use adzeman_core::engine::{Engine, EngineContext, Interrupt, Supervisor, Syntax};
use adzeman_core::host::{HostError, HostView, Root, Segment, TreePath, at, set_at};
use adzeman_core::source::{Line, SourceFacts, SourceId};
use adzeman_core::stepping::Step;
use adzeman_dap::events::OutputBody;
use adzeman_dap::extra::{HANDLER_LEFT, HandlerLeftBody};
use crossbeam_channel::Sender;
use serde_json::Value as Json;
use thiserror::Error;

use crate::emit::{current_event, event_depth};
use crate::hold::Go;
use crate::host::Host;
use crate::lane::{Lane, Mail, Ticket};
use crate::session::convert;
use crate::shared::{Shared, lock};

/// Why a context could not be opened.
#[derive(Debug, Error)]
#[error("the context '{name}' could not be opened: {why}")]
pub struct AttachError {
    /// Its name.
    pub name: String,
    /// What the engine said.
    pub why: String,
}

/// Whether a context runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RunState {
    Running,
    Stopped,
}

/// A context as other threads see it.
pub(crate) struct ContextShared {
    pub(crate) id: i64,
    pub(crate) name: String,
    pub(crate) syntax: Arc<dyn Syntax>,
    mailbox: Sender<Mail>,
    pause_wanted: AtomicBool,
    interrupt: Mutex<Option<Arc<dyn Interrupt>>>,
    state: Mutex<RunState>,
}

impl ContextShared {
    pub(crate) fn state(&self) -> RunState {
        *lock(&self.state)
    }

    pub(crate) fn set_state(&self, state: RunState) {
        *lock(&self.state) = state;
    }

    /// Posts a job; false when the context is gone.
    pub(crate) fn post(&self, mail: Mail) -> bool {
        self.mailbox.send(mail).is_ok()
    }

    /// Has the engine report its next line, even in an endless loop, as far as the platform can.
    pub(crate) fn interrupt(&self) -> bool {
        let interrupt = lock(&self.interrupt).clone();
        interrupt.is_some_and(|interrupt| interrupt.interrupt())
    }

    /// Asks the context to stop at its next line.
    pub(crate) fn ask_pause(&self) -> bool {
        self.pause_wanted.store(true, Ordering::SeqCst);
        self.interrupt()
    }

    /// Lets the context go on, if it is the one that is held.
    pub(crate) fn let_go(&self, go: Go) {
        let work = Box::new(move |point: &mut crate::lane::SafePoint<'_>| {
            if let Some(hold) = point.hold.filter(|hold| hold.context == point.context.shared.id) {
                hold.let_go(go);
            }
        });
        self.post(Mail { context: self.id, ticket: Arc::new(Ticket::default()), work });
    }
}

/// A context on its own thread.
pub(crate) struct LocalContext {
    pub(crate) shared: Arc<ContextShared>,
    host: Arc<Shared>,
    lane: Weak<Lane>,
    engine: RefCell<Option<Rc<dyn EngineContext>>>,
    decider: RefCell<Decider>,
    /// The changes this context has taken notice of.
    seen_changes: Cell<u64>,
    /// How many events were being handled when the step under way began.
    step_events: Cell<usize>,
}

impl LocalContext {
    fn engine(&self) -> Option<Rc<dyn EngineContext>> {
        self.engine.borrow().clone()
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
        let changes = self.host.changes.load(Ordering::SeqCst);
        if self.seen_changes.replace(changes) != changes {
            let mut decider = self.decider.borrow_mut();
            decider.arm(self.host.armed());
            if !self.host.is_attached() {
                decider.run_freely();
                self.shared.pause_wanted.store(false, Ordering::SeqCst);
            }
        }
        if self.shared.pause_wanted.swap(false, Ordering::SeqCst) {
            self.decider.borrow_mut().ask_pause();
        }
    }

    /// Tells the engine what to watch now.
    fn watch(&self) {
        let need = self.decider.borrow().need();
        if let Some(engine) = self.engine() {
            engine.watch(&need);
        }
    }

    /// At a safe point: takes notice of changes and has the engine watch accordingly.
    pub(crate) fn refresh(&self) {
        if self.wants_attention() {
            self.catch_up();
            self.watch();
        }
    }

    /// An event begins on this thread; answers what to give back to [`leave_event`](Self::leave_event).
    pub(crate) fn enter_event(&self, kind: &str) -> Option<bool> {
        let mut decider = self.decider.borrow_mut();
        decider.waits_for(kind).then(|| {
            let before = decider.expect_handler(true);
            drop(decider);
            self.watch();
            before
        })
    }

    /// An event ends; a step that began in its handler ends with it.
    pub(crate) fn leave_event(&self, before: Option<bool>, kind: &str, subject: Option<&str>) {
        if let Some(before) = before {
            self.decider.borrow_mut().expect_handler(before);
        }
        let left = self.decider.borrow().step().is_some() && self.step_events.get() >= event_depth();
        if left {
            self.decider.borrow_mut().run_freely();
            let (event, subject) = (Some(kind.to_owned()), subject.map(str::to_owned));
            let body = HandlerLeftBody { thread_id: self.shared.id, event, subject };
            self.host.tell(HANDLER_LEFT, &body);
        }
        if before.is_some() || left {
            self.watch();
        }
    }

    fn decide(&self, engine: &mut dyn Engine, place: Option<SourceLine>) -> Option<Reason> {
        let mut decider = self.decider.borrow_mut();
        current_event(|event| {
            let subject = event.and_then(crate::emit::EventFrame::subject_text);
            let in_hand = event.map(|event| EventInHand { kind: event.kind(), subject: subject.as_deref() });
            decider.at_line(place, in_hand, engine)
        })
    }

    pub(crate) fn tell_stopped(&self, engine: &mut dyn Engine, reason: &Reason) {
        let place =
            engine.frames(adzeman_core::value::Page::first(1)).ok().and_then(|page| page.items[..].first()?.place);
        let event = current_event(|event| event.map(|event| (event.kind().to_owned(), event.subject_text())));
        let body = convert::stopped(self.shared.id, &self.shared.name, reason, place, event, &self.host.sources());
        self.host.tell("stopped", &body);
    }
}

impl Supervisor for LocalContext {
    fn source_loaded(&self, facts: SourceFacts) -> SourceId {
        self.host.add_source(facts)
    }

    #[inline]
    fn wants_attention(&self) -> bool {
        self.host.changes.load(Ordering::Relaxed) != self.seen_changes.get()
            || self.shared.pause_wanted.load(Ordering::Relaxed)
    }

    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line) {
        let Some(lane) = self.lane.upgrade().filter(|lane| !lane.holding.get()) else { return };
        self.catch_up();
        let place = source.map(|source| SourceLine { source, line });
        if let Some(reason) = lane.quietly(|| self.decide(engine, place))
            && self.host.is_attached()
        {
            self.hold(&lane, engine, reason);
            self.catch_up();
        }
        self.watch();
    }

    fn printed(&self, text: &str, place: Option<(SourceId, Line)>) {
        let sources = self.host.sources();
        let source = place.and_then(|(id, _)| sources.get(id)).map(|source| convert::source(source));
        drop(sources);
        for client in self.host.clients().iter().filter(|client| client.is_attached()) {
            let line = place.map(|(_, line)| i64::from(line.get()) - 1 + client.line_base());
            let (category, output) = ("stdout".to_owned(), text.to_owned());
            client.event("output", &OutputBody { category, output, source: source.clone(), line });
        }
    }

    fn is_attached(&self) -> bool {
        self.host.is_attached()
    }
}

/// The host's objects and events, as scripts under evaluation see them.
impl HostView for LocalContext {
    fn get(&self, place: &TreePath) -> Result<Json, HostError> {
        match place.root {
            Root::Event => {
                let data = current_event(|event| event.map_or(Json::Null, crate::emit::EventFrame::data));
                at(&data, &place.path, Root::Event.name()).cloned()
            }
            Root::Host => match place.path.split_first() {
                None => Ok(all_objects(&self.host)),
                Some((Segment::Field(name), rest)) if self.host.object(name).is_some() => {
                    let data = self.host.object(name).map(adzeman_core::host::HostObject::read);
                    let data = data.unwrap_or(Ok(Json::Null))?;
                    at(&data, &rest, &format!("host.{name}")).cloned()
                }
                Some(_) => at(&all_objects(&self.host), &place.path, "host").cloned(),
            },
        }
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        let shown = place.display(1);
        let first = place.path.split_first();
        let (Root::Host, Some((Segment::Field(name), rest))) = (place.root, first) else {
            return Err(HostError::ReadOnly { path: shown });
        };
        let Some(object) = self.host.object(name) else {
            return at(&all_objects(&self.host), &place.path, "host").map(|_| ());
        };
        let mut data = object.read()?;
        set_at(&mut data, &rest, value, &format!("host.{name}"))?;
        object.write(&shown, data)
    }

    fn has_event(&self) -> bool {
        current_event(|event| event.is_some())
    }
}

/// Every object as data; one that cannot be read says why in its place.
pub(crate) fn all_objects(host: &Shared) -> Json {
    let read = |object: &adzeman_core::host::HostObject| {
        let data = object.read().unwrap_or_else(|error| Json::String(format!("({error})")));
        (object.name.clone(), data)
    };
    Json::Object(host.objects.iter().map(read).collect())
}

/// Keeps a context open. Dropping it closes the context; the script state itself stays the host's.
pub struct ContextHandle {
    context: Rc<LocalContext>,
    lane: Rc<Lane>,
}

impl ContextHandle {
    /// Opens a context on this thread. `make` builds the engine's side, which reports to the supervisor it is given.
    /// Engines other than the ones shipped are opened by this.
    ///
    /// # Errors
    /// What `make` fails with.
    pub fn open<C, E>(
        host: &Host,
        name: &str,
        syntax: Arc<dyn Syntax>,
        make: impl FnOnce(Rc<dyn Supervisor>, Rc<dyn HostView>) -> Result<(Rc<C>, Arc<dyn Interrupt>), E>,
    ) -> Result<(Self, Rc<C>), AttachError>
    where
        C: EngineContext + 'static,
        E: std::fmt::Display,
    {
        let host = host.shared();
        let lane = Lane::of(host);
        let shared = Arc::new(ContextShared {
            id: host.next_context_id(),
            name: name.to_owned(),
            syntax,
            mailbox: lane.sender.clone(),
            pause_wanted: AtomicBool::new(false),
            interrupt: Mutex::new(None),
            state: Mutex::new(RunState::Running),
        });
        let context = Rc::new(LocalContext {
            shared: shared.clone(),
            host: host.clone(),
            lane: Rc::downgrade(&lane),
            engine: RefCell::new(None),
            decider: RefCell::default(),
            // Never a number of changes, so that the first look catches up.
            seen_changes: Cell::new(u64::MAX),
            step_events: Cell::new(0),
        });
        let (engine, interrupt) = make(context.clone(), context.clone())
            .map_err(|error| AttachError { name: name.to_owned(), why: error.to_string() })?;
        *context.engine.borrow_mut() = Some(engine.clone());
        *lock(&shared.interrupt) = Some(interrupt);
        lane.contexts.borrow_mut().push(context.clone());
        host.add_context(shared);
        Ok((Self { context, lane }, engine))
    }

    /// The context's name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.context.shared.name
    }
}

impl Drop for ContextHandle {
    fn drop(&mut self) {
        let id = self.context.shared.id;
        self.lane.contexts.borrow_mut().retain(|context| context.shared.id != id);
        *lock(&self.context.shared.interrupt) = None;
        *self.context.engine.borrow_mut() = None;
        self.context.host.remove_context(id);
    }
}
