//! One script thread of a host: its mailbox and its contexts.
//!
//! Contexts on the same thread share a mailbox, since only one of them can run at a time, and a stop in one holds all. A context
//! is on the lane of the thread that runs it now, or ran it last: where states may move (the feature `send`), it comes to
//! another lane when that thread [takes it over](Lane::take_over), in a hook or because the host says so.

mod again;
mod budget;
mod context;
mod deciding;
mod emit;
mod handling;
mod hold;
mod host_state;
mod link;
mod mail;
pub(crate) mod monitors;
mod open;
mod recording;
mod under_way;
pub(crate) mod watchdog;

use std::cell::{Cell, RefCell};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::SeqCst};
use std::time::Instant;

use adzeman_core::engine::Engine;
use adzeman_core::sharing::Shared;
use crossbeam_channel::unbounded;

pub use again::RecordedEvent;
pub(crate) use context::LocalContext;
pub(crate) use emit::{emit, emit_bit, poll};
pub(crate) use handling::Progress;
pub(crate) use hold::{Go, Hold};
pub(crate) use host_state::HostState;
pub(crate) use link::ContextLink;
pub(crate) use mail::{Mail, SafePoint, Ticket};
pub use open::AttachError;
pub(crate) use open::OpenContext;
pub(crate) use recording::note_refused;
pub(crate) use under_way::{begin, end, is_under_way};

use again::Again;
use budget::Budget;
use handling::FirstLines;
use link::Mailbox;
use mail::Work;

/// What a context that comes to a lane during an event has to do there: the lane may have had none when the event was raised.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct OnComing {
    /// Its first line is to be looked at.
    first_line: bool,
    /// It decides whether to stop at the boundary.
    boundary: bool,
}

/// A script thread of a host.
pub(crate) struct Lane {
    pub(crate) host: Arc<HostState>,
    /// No other lane of the process has it.
    number: u64,
    mailbox: Mailbox,
    /// Those that came here; some may have gone to another lane since then.
    came: RefCell<Rc<Vec<Shared<LocalContext>>>>,
    /// The changes among the host's contexts that were taken notice of.
    seen_changes: Cell<u64>,
    /// What all contexts here have taken notice of: how often attention was called for, and contexts came and went, by then.
    refreshed: Cell<(u64, u64)>,
    /// Where to go on, where the time was up before all had.
    next: Cell<usize>,
    /// The context that looks next whether it still watches what it has to.
    looked_after: Cell<usize>,
    /// Whether a context of this thread is held.
    pub(crate) holding: Cell<bool>,
    pub(crate) pump: RefCell<Option<Box<dyn FnMut()>>>,
    /// Which contexts have the first line of a handler ahead of them.
    first_lines: RefCell<FirstLines>,
    /// What a context that comes to this lane during the event being handled has to do.
    pub(super) on_coming: Cell<OnComing>,
    /// Whether the event being handled is to be delivered again.
    pub(crate) again: Cell<bool>,
    /// The time budget of the handler under way.
    pub(crate) budget: RefCell<Option<Budget>>,
    /// When the jobs being done are done, in words; nothing between two events.
    pub(crate) when: RefCell<Option<String>>,
    /// Delivers events of the trail once more.
    again_by: Again,
}

thread_local! {
    static LANES: RefCell<Vec<Rc<Lane>>> = const { RefCell::new(Vec::new()) };
}

impl Lane {
    /// The lane of this thread for a host, if a context was ever on it.
    pub(crate) fn find(host: &Arc<HostState>) -> Option<Rc<Self>> {
        let find =
            |lanes: &RefCell<Vec<Rc<Self>>>| lanes.borrow().iter().find(|lane| Arc::ptr_eq(&lane.host, host)).cloned();
        // A thread that ends may run scripts to its last moment.
        LANES.try_with(find).ok().flatten()
    }

    /// The lane of this thread for a host; lanes of hosts that are gone are forgotten.
    pub(crate) fn of(host: &Arc<HostState>) -> Rc<Self> {
        static LAST: AtomicU64 = AtomicU64::new(0);
        if let Some(lane) = Self::find(host) {
            return lane;
        }
        let (sender, receiver) = unbounded();
        let lane = Rc::new(Self {
            host: host.clone(),
            number: LAST.fetch_add(1, SeqCst) + 1,
            mailbox: Mailbox { sender, receiver },
            came: RefCell::default(),
            seen_changes: Cell::new(0),
            refreshed: Cell::new((0, 0)),
            next: Cell::new(0),
            looked_after: Cell::new(0),
            holding: Cell::new(false),
            pump: RefCell::default(),
            first_lines: RefCell::default(),
            on_coming: Cell::default(),
            again: Cell::new(false),
            budget: RefCell::default(),
            when: RefCell::default(),
            again_by: Again::default(),
        });
        // Where a thread is about to end, the lane lives for as long as it is asked for.
        let _ = LANES.try_with(|lanes| {
            let mut lanes = lanes.borrow_mut();
            lanes.retain(|lane| !lane.host.closing.load(SeqCst) || !lane.contexts().is_empty());
            lanes.push(lane.clone());
        });
        lane
    }

    /// The contexts on this lane.
    pub(crate) fn contexts(&self) -> Rc<Vec<Shared<LocalContext>>> {
        let changes = self.host.contexts.changes();
        if self.seen_changes.replace(changes) != changes {
            let mut came = self.came.borrow_mut();
            if !came.iter().all(|context| self.has(&context.link)) {
                Rc::make_mut(&mut came).retain(|context| self.has(&context.link));
            }
        }
        self.came.borrow().clone()
    }

    /// Whether a context is on this lane.
    pub(crate) fn has(&self, context: &ContextLink) -> bool {
        context.lane() == self.number
    }

    /// The context with this number, if it is on this lane.
    pub(crate) fn context(&self, id: i64) -> Option<Shared<LocalContext>> {
        self.contexts().iter().find(|context| context.link.id == id).cloned()
    }

    /// This thread runs a context now; whether another one did before. Jobs that wait for it come along.
    fn take_over(&self, context: &Shared<LocalContext>) -> bool {
        if self.has(&context.link) {
            return false;
        }
        let before = context.link.move_to(self.number, self.mailbox.clone());
        self.host.contexts.note_change();
        self.add(context.clone());
        for mail in before.receiver.try_iter().take(before.receiver.len()) {
            self.host.forward(mail);
        }
        true
    }

    /// A context that comes here.
    fn add(&self, context: Shared<LocalContext>) {
        // Those that have gone are forgotten first.
        drop(self.contexts());
        Rc::make_mut(&mut self.came.borrow_mut()).push(context);
    }

    /// Does `work` as if a context were held: scripts that run meanwhile, because someone evaluates, stop nowhere, and
    /// events they cause are not reported.
    pub(crate) fn quietly<T>(&self, work: impl FnOnce() -> T) -> T {
        struct PutBack<'a>(&'a Cell<bool>, bool);
        impl Drop for PutBack<'_> {
            fn drop(&mut self) {
                self.0.set(self.1);
            }
        }
        let _put_back = PutBack(&self.holding, self.holding.replace(true));
        work()
    }

    /// The jobs that wait by now: one that posts itself again has its next turn at the next safe point.
    fn waiting(&self) -> impl Iterator<Item = Mail> {
        self.mailbox.receiver.try_iter().take(self.mailbox.receiver.len())
    }

    /// Does the jobs that wait, at a moment when no script line runs, until the time is up.
    pub(crate) fn serve_waiting(&self, until: Option<Instant>) {
        for mail in self.waiting() {
            self.quietly(|| self.serve(mail, None));
            if until.is_some_and(|until| Instant::now() >= until) {
                return;
            }
        }
    }

    /// Does the jobs that wait, at a line of a script whose host comes to no safe point.
    fn serve_at_line(&self, context: &LocalContext, engine: &mut dyn Engine) {
        *self.when.borrow_mut() = Some("while a script runs".to_owned());
        for mail in self.waiting() {
            self.quietly(|| self.serve(mail, Some(AtLine { context, engine: &mut *engine, hold: None })));
        }
    }

    /// Does one job; `at` is the line of a script that this thread is at.
    pub(crate) fn serve(&self, mail: Mail, at: Option<AtLine<'_>>) {
        let at_its_line = at.as_ref().is_some_and(|at| at.context.link.id == mail.context);
        let context = if at_its_line { None } else { self.context(mail.context) };
        if !at_its_line && context.is_none() {
            self.host.forward(mail);
            return;
        }
        if !mail.ticket.start() {
            return;
        }
        // A person who looks at a stop waits for what they asked; while scripts run, the host does.
        let hold = at.as_ref().and_then(|at| at.hold);
        let (limits, cancel) = (self.host.limits(), mail.ticket.cancel.clone());
        let allowance = if hold.is_some() { limits.for_asked(cancel) } else { limits.for_aside(cancel) };
        if let Some(AtLine { context, engine, .. }) = at.filter(|_| at_its_line) {
            engine.allow(Some(allowance));
            survive(mail.work, &mut SafePoint { engine: &mut *engine, context, hold });
            engine.allow(None);
            return;
        }
        let Some(context) = context else { return };
        let mut work = Some(mail.work);
        context.at_safe_point(&mut |engine| {
            if let Some(work) = work.take() {
                engine.allow(Some(allowance.clone()));
                survive(work, &mut SafePoint { engine, context: &context, hold });
            }
        });
    }
}

/// A line of a script, while the thread of its context is at it.
pub(crate) struct AtLine<'a> {
    pub(crate) context: &'a LocalContext,
    pub(crate) engine: &'a mut dyn Engine,
    /// The stop that holds it there, if one does.
    pub(crate) hold: Option<&'a Hold>,
}

/// Does a job; a fault in it ends the job and not the stop, or the host.
fn survive(work: Work, point: &mut SafePoint<'_>) {
    if catch_unwind(AssertUnwindSafe(|| work(point))).is_err() {
        tracing::error!("a job of a session had panicked; its asker is told that there is no answer");
    }
}
