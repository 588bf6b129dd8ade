//! A context as other threads see it: what it is told and asked, and whether it runs.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use adzeman_core::breakpoint::OwnerId;
use adzeman_core::engine::{Interrupt, Syntax};
use adzeman_core::evaluation::{Cancel, Inside, UnderWay};
use crossbeam_channel::{Receiver, Sender};

use super::hold::Go;
use super::mail::{Mail, SafePoint, Ticket};
use crate::state::lock;
use crate::state::standing::{RunState, Standing};

/// Both ends of where a lane's mail is put.
#[derive(Clone)]
pub(super) struct Mailbox {
    pub(super) sender: Sender<Mail>,
    pub(super) receiver: Receiver<Mail>,
}

/// What other threads know of a context's safe points.
#[derive(Default)]
pub(super) struct SafePoints {
    /// Whether the next one would have anything to do.
    pub(super) is_wanted: AtomicBool,
    /// Whether that is a body for functions that go on in an earlier text, which are to get it though nobody is attached any more.
    pub(super) is_lagging: AtomicBool,
    /// Whether there was one since the last look.
    pub(super) came: AtomicBool,
}

/// A context as other threads see it.
pub(crate) struct ContextLink {
    pub(crate) id: i64,
    pub(crate) name: String,
    pub(crate) syntax: Arc<dyn Syntax>,
    /// The lane of the thread that runs it, or ran it last.
    lane: AtomicU64,
    mailbox: Mutex<Mailbox>,
    pub(super) pause_wanted: AtomicBool,
    pub(super) first_stop_wanted: AtomicBool,
    /// Jobs have waited for so long that the next line serves them.
    pub(super) serving_wanted: AtomicBool,
    pub(super) safe_points: SafePoints,
    /// Set with anything that the script thread must take notice of.
    pub(super) attention: Arc<AtomicBool>,
    /// Counts how often any context of the host was to take notice of something.
    attention_count: Arc<AtomicU64>,
    pub(super) interrupt: Mutex<Option<Arc<dyn Interrupt>>>,
    pub(crate) standing: Standing,
}

impl ContextLink {
    pub(super) fn new(
        id: i64,
        name: &str,
        syntax: Arc<dyn Syntax>,
        attention_count: Arc<AtomicU64>,
        (lane, mailbox): (u64, Mailbox),
    ) -> Self {
        Self {
            id,
            name: name.to_owned(),
            syntax,
            lane: AtomicU64::new(lane),
            mailbox: Mutex::new(mailbox),
            pause_wanted: AtomicBool::new(false),
            first_stop_wanted: AtomicBool::new(false),
            serving_wanted: AtomicBool::new(false),
            safe_points: SafePoints::default(),
            // At the first look it catches up.
            attention: Arc::new(AtomicBool::new(true)),
            attention_count,
            interrupt: Mutex::new(None),
            standing: Standing::default(),
        }
    }

    /// Posts a job; false when the context is gone.
    pub(crate) fn post(&self, mail: Mail) -> bool {
        self.is_open() && lock(&self.mailbox).sender.send(mail).is_ok()
    }

    /// The lane of the thread that runs it, or ran it last.
    pub(super) fn lane(&self) -> u64 {
        self.lane.load(Ordering::SeqCst)
    }

    /// It is closed: it is on no lane.
    pub(super) fn leave(&self) {
        self.lane.store(0, Ordering::SeqCst);
    }

    /// From now on it is on another lane; answers where its mail was put up to now.
    pub(super) fn move_to(&self, lane: u64, mailbox: Mailbox) -> Mailbox {
        let mut held = lock(&self.mailbox);
        self.lane.store(lane, Ordering::SeqCst);
        std::mem::replace(&mut *held, mailbox)
    }

    /// Has the context take notice of what changed, and the engine report its next line, even in an endless loop, as far as the platform can.
    pub(crate) fn interrupt(&self) -> bool {
        self.call().is_some_and(|interrupt| interrupt.interrupt())
    }

    /// The same for many contexts: each thread that runs some of them is reached once, `told` being done before that.
    pub(super) fn interrupt_all(contexts: &[Arc<Self>], told: impl FnOnce()) {
        let called: Vec<_> = contexts.iter().filter_map(|context| context.call()).collect();
        told();
        called.iter().for_each(|interrupt| interrupt.prepare());
        let mut reached = BTreeSet::new();
        for interrupt in called {
            interrupt.reach(&mut reached);
        }
    }

    /// Has a sample of the stack taken of each of these contexts that runs: each thread is reached once.
    pub(crate) fn sample_all(contexts: &[Arc<Self>]) {
        let called: Vec<_> = contexts.iter().filter_map(|context| lock(&context.interrupt).clone()).collect();
        let mut reached = BTreeSet::new();
        let prepared: Vec<_> = called.into_iter().filter(|interrupt| interrupt.prepare_sample()).collect();
        for interrupt in prepared {
            interrupt.reach(&mut reached);
        }
    }

    /// About what it costs its thread to be reached for a sample.
    pub(crate) fn reach_costs(&self) -> Duration {
        lock(&self.interrupt).as_ref().map_or(Duration::ZERO, |interrupt| interrupt.reach_costs())
    }

    /// Has the context take notice of what changed, at its next safe point or the next line that it reports.
    pub(super) fn take_notice(&self) {
        self.attention.store(true, Ordering::SeqCst);
        self.attention_count.fetch_add(1, Ordering::SeqCst);
    }

    /// The same; answers what else interrupts it.
    fn call(&self) -> Option<Arc<dyn Interrupt>> {
        self.take_notice();
        lock(&self.interrupt).clone()
    }

    /// Has the context take notice of what changed, if it has not, where an interrupt may have found nothing to interrupt.
    pub(super) fn remind(&self) {
        if self.attention.load(Ordering::SeqCst)
            && let Some(interrupt) = lock(&self.interrupt).clone()
        {
            interrupt.remind();
        }
    }

    /// Whether jobs wait on its thread.
    pub(super) fn has_mail(&self) -> bool {
        !lock(&self.mailbox).receiver.is_empty()
    }

    /// Has the jobs done at its next line, wherever that is: its host comes to no safe point.
    pub(super) fn ask_to_serve(&self) {
        self.serving_wanted.store(true, Ordering::SeqCst);
        self.interrupt();
    }

    /// Asks the context to stop at its next line.
    pub(crate) fn ask_pause(&self) -> bool {
        self.pause_wanted.store(true, Ordering::SeqCst);
        self.interrupt()
    }

    /// Asks the context to stop at the first line of a source that is no library.
    pub(crate) fn ask_first_stop(&self) {
        self.first_stop_wanted.store(true, Ordering::SeqCst);
        self.interrupt();
    }

    /// The handler under way has used up its time, or so much that it is worth to know what takes it: its next line is looked at.
    pub(crate) fn look_at_budget(&self) {
        self.interrupt();
    }

    /// The evaluation that has begun and is not done.
    pub(crate) fn under_way(&self) -> Option<UnderWay> {
        lock(&self.interrupt).as_ref()?.under_way()
    }

    /// What the script itself is in at this moment, where that keeps it from coming to a safe point.
    pub(crate) fn inside(&self) -> Option<Inside> {
        let interrupt = lock(&self.interrupt).clone();
        interrupt.and_then(|interrupt| interrupt.inside())
    }

    /// Whether a stop of its own holds it.
    pub(super) fn is_stopped(&self) -> bool {
        self.standing.state() == RunState::Stopped
    }

    /// Whether it was asked to stop at its next line, and has come to none.
    pub(crate) fn is_to_pause(&self) -> bool {
        self.pause_wanted.load(Ordering::SeqCst)
    }

    /// Whether the host has it open still.
    pub(crate) fn is_open(&self) -> bool {
        lock(&self.interrupt).is_some()
    }

    /// Lets the context go on from a stop, if it is still held by that one: by the time that it hears of this, it may have
    /// gone on, and stopped again. `by` is the client that asked for it.
    pub(crate) fn let_go(&self, stop: u64, go: Go, by: Option<OwnerId>) {
        self.standing.told_to_go(stop);
        let work = Box::new(move |point: &mut SafePoint<'_>| {
            if let Some(hold) = point.hold.filter(|hold| hold.number == stop) {
                hold.let_go(go, by);
            }
        });
        self.post(Mail { context: self.id, ticket: Arc::new(Ticket::new(Cancel::default())), work });
    }
}
