//! One script thread of a host: its mailbox and its contexts.
//!
//! Contexts on the same thread share a mailbox, since only one of them can run at a time, and a stop in one holds all.

mod budget;
mod context;
mod emit;
mod handling;
mod hold;
mod host_state;
mod link;
mod mail;
pub(crate) mod monitors;
mod open;
pub(crate) mod watchdog;

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::time::Duration;

use adzeman_core::breakpoint::BreakpointId;
use adzeman_core::engine::Engine;
use adzeman_core::host::Data;
use crossbeam_channel::{Receiver, Sender, unbounded};

pub(crate) use context::LocalContext;
pub(crate) use emit::{emit, poll};
pub(crate) use hold::{Go, Hold};
pub(crate) use host_state::HostState;
pub(crate) use link::ContextLink;
pub(crate) use mail::{Mail, SafePoint, Ticket};
pub use open::AttachError;
pub(crate) use open::OpenContext;

use mail::Work;
use monitors::Monitor;

/// A script thread of a host.
pub(crate) struct Lane {
    pub(crate) host: Arc<HostState>,
    pub(crate) sender: Sender<Mail>,
    pub(crate) mailbox: Receiver<Mail>,
    pub(crate) contexts: RefCell<Vec<Rc<LocalContext>>>,
    /// Whether a context of this thread is held.
    pub(crate) holding: Cell<bool>,
    pub(crate) pump: RefCell<Option<Box<dyn FnMut()>>>,
    /// Whether the event being handled is to be delivered again.
    pub(crate) again: Cell<bool>,
    /// The time budget of the handler under way.
    pub(crate) budget: Cell<Option<Duration>>,
    /// The event that was handled last, while parts of host objects are watched.
    pub(crate) last_event: RefCell<Option<String>>,
    /// What watched parts of host objects held last, by breakpoint.
    pub(crate) host_values: RefCell<HashMap<BreakpointId, Data>>,
    /// When the jobs being done are done, in words; nothing between two events.
    pub(crate) when: RefCell<Option<String>>,
    /// What is sampled while the host runs.
    pub(crate) monitors: RefCell<Vec<Monitor>>,
}

thread_local! {
    static LANES: RefCell<Vec<Rc<Lane>>> = const { RefCell::new(Vec::new()) };
}

impl Lane {
    /// The lane of this thread for a host, if a context was ever made on it.
    pub(crate) fn find(host: &Arc<HostState>) -> Option<Rc<Self>> {
        LANES.with_borrow(|lanes| lanes.iter().find(|lane| Arc::ptr_eq(&lane.host, host)).cloned())
    }

    /// The lane of this thread for a host; lanes of hosts that are gone are forgotten.
    pub(crate) fn of(host: &Arc<HostState>) -> Rc<Self> {
        if let Some(lane) = Self::find(host) {
            return lane;
        }
        let (sender, mailbox) = unbounded();
        let lane = Rc::new(Self {
            host: host.clone(),
            sender,
            mailbox,
            contexts: RefCell::default(),
            holding: Cell::new(false),
            pump: RefCell::default(),
            again: Cell::new(false),
            budget: Cell::new(None),
            last_event: RefCell::default(),
            host_values: RefCell::default(),
            when: RefCell::default(),
            monitors: RefCell::default(),
        });
        LANES.with_borrow_mut(|lanes| {
            lanes.retain(|lane| !lane.host.closing.load(SeqCst) || !lane.contexts.borrow().is_empty());
            lanes.push(lane.clone());
        });
        lane
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

    /// Does the jobs that wait, at a moment when no script line runs.
    pub(crate) fn serve_waiting(&self) {
        while let Ok(mail) = self.mailbox.try_recv() {
            self.quietly(|| self.serve(mail, None));
        }
    }

    /// Does the jobs that wait, at a line of a script whose host comes to no safe point.
    fn serve_at_line(&self, context: &LocalContext, engine: &mut dyn Engine) {
        *self.when.borrow_mut() = Some("while a script runs".to_owned());
        while let Ok(mail) = self.mailbox.try_recv() {
            self.quietly(|| self.serve(mail, Some(AtLine { context, engine: &mut *engine, hold: None })));
        }
    }

    /// Does one job; `at` is the line of a script that this thread is at.
    pub(crate) fn serve(&self, mail: Mail, at: Option<AtLine<'_>>) {
        if !mail.ticket.start() {
            return;
        }
        // A person who looks at a stop waits for what they asked; while scripts run, the host does.
        let hold = at.as_ref().and_then(|at| at.hold);
        let (limits, cancel) = (self.host.limits(), mail.ticket.cancel.clone());
        let allowance = if hold.is_some() { limits.for_asked(cancel) } else { limits.for_aside(cancel) };
        if let Some(AtLine { context, engine, .. }) = at.filter(|at| at.context.link.id == mail.context) {
            engine.allow(Some(allowance));
            survive(mail.work, &mut SafePoint { engine: &mut *engine, context, hold });
            engine.allow(None);
            return;
        }
        let context = self.contexts.borrow().iter().find(|context| context.link.id == mail.context).cloned();
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
