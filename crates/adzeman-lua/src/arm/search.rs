//! Looking through all that a state holds, a slice at a time: for threads, for sources that nobody reported, and for functions
//! that should have other bodies.

use std::cell::{Cell, RefCell};
use std::time::Instant;

use adzeman_core::engine::EngineError;
use adzeman_core::source::SourceId;
use rustc_hash::FxHashSet as HashSet;

use super::settling::Settling;
use super::{Arms, TOO_LARGE};
use crate::ffi::activation::Activation;
use crate::ffi::objects::{LEAST, Object, Progress, Sweep};
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::walk;
use crate::ffi::watch::{note, report};

const NOT_KEPT: &str = "a function that runs keeps a body for longer than it should";

/// What a walk is for.
enum Purpose {
    /// Threads, and sources that nobody reported if they are wanted.
    Threads { sources: bool },
    /// Functions that should have other bodies.
    Bodies(Box<Settling>),
}

/// What is looked for.
pub(super) struct Search {
    sweep: Sweep,
    purpose: RefCell<Option<Purpose>>,
    /// What is to be looked for next: threads, with sources or without.
    wanted: Cell<Option<bool>>,
    /// Bodies whose functions are of no new source, in this slice.
    passed: RefCell<HashSet<usize>>,
}

impl Default for Search {
    fn default() -> Self {
        Self {
            sweep: Sweep::kept_in(Slot::Sweep),
            purpose: RefCell::default(),
            wanted: Cell::default(),
            passed: RefCell::default(),
        }
    }
}

impl Search {
    /// Has threads looked for, and sources that nobody reported if `sources`.
    pub(super) fn want_threads(&self, sources: bool) {
        let under_way = matches!(*self.purpose.borrow(), Some(Purpose::Threads { .. }));
        if sources || !under_way {
            self.wanted.set(Some(sources || self.wanted.get() == Some(true)));
        }
    }

    /// Whether the state had few objects when it was looked through last.
    pub(super) fn is_small(&self) -> bool {
        self.sweep.size().is_some_and(|size| size < LEAST)
    }

    /// Whether there is anything that was not gone through yet.
    pub(super) fn is_going(&self) -> bool {
        self.purpose.borrow().is_some() || self.wanted.get().is_some()
    }
}

impl Arms {
    /// Goes on looking until the time is up; answers sources that nobody had reported.
    pub(crate) fn advance(&self, until: Instant) -> Vec<SourceId> {
        let mut found = Vec::new();
        self.take_made(until);
        while self.takes_purpose() {
            let progress = self.look(until).unwrap_or_else(|error| {
                report(Err(error));
                self.search.sweep.give_up();
                Progress::NotKnown
            });
            if progress == Progress::Going {
                break;
            }
            let mut purpose = self.search.purpose.take();
            let is_whole = progress == Progress::Done || self.look_by_graph(purpose.as_mut());
            found.extend(self.end(purpose, is_whole));
        }
        found
    }

    /// Whether a walk is under way; one that is wanted begins.
    fn takes_purpose(&self) -> bool {
        let mut purpose = self.search.purpose.borrow_mut();
        if purpose.is_none() {
            *purpose = match self.search.wanted.take() {
                Some(sources) => {
                    if sources {
                        self.scripts.begin_look();
                    }
                    Some(Purpose::Threads { sources })
                }
                None => self.begin_settling().map(|settling| Purpose::Bodies(Box::new(settling))),
            };
        }
        purpose.is_some()
    }

    fn look(&self, until: Instant) -> Result<Progress, EngineError> {
        let mut purpose = self.search.purpose.borrow_mut();
        self.search.passed.borrow_mut().clear();
        let is_function = |object: &Object<'_>| object.kind() == Type::Function;
        match &mut *purpose {
            None => Ok(Progress::Done),
            Some(Purpose::Threads { sources }) => {
                self.search.sweep.step(self.main, until, &mut |object| match is_function(&object) {
                    true if *sources => self.see(object),
                    true => {}
                    false => self.meet(object),
                })
            }
            Some(Purpose::Bodies(settling)) => {
                // No function on any stack may get another body: a thread that is yet to be met is no excuse.
                self.watch.find_all_threads();
                settling.begin_slice();
                self.search.sweep.step(self.main, until, &mut |object| match is_function(&object) {
                    true => self.settle(settling, object),
                    false => self.meet(object),
                })
            }
        }
    }

    /// The same where the engine's list of objects is not known; whether it came to everything.
    fn look_by_graph(&self, mut purpose: Option<&mut Purpose>) -> bool {
        let walked = walk::walk(self.main, &mut |state: State, kind: Type| match (kind, purpose.as_deref_mut()) {
            (Type::Thread, _) => note(state),
            (_, Some(Purpose::Threads { sources: true })) => self.scripts.see(state),
            (_, Some(Purpose::Bodies(settling))) => self.settle(settling, Object::on_top(&state, kind)),
            _ => {}
        });
        if !matches!(walked, Ok(true)) {
            tracing::warn!("{TOO_LARGE}: breakpoints are watched for by the line hook");
        }
        matches!(walked, Ok(true))
    }

    fn end(&self, purpose: Option<Purpose>, is_whole: bool) -> Vec<SourceId> {
        match purpose {
            Some(Purpose::Threads { sources }) => {
                report(self.search.sweep.note_newest(self.main));
                self.watch.threads_are_known(true);
                if !sources {
                    return Vec::new();
                }
                // Where something was not come to, it may be there.
                if is_whole {
                    self.are_gone(&self.scripts.end_look());
                }
                self.scripts.take_seen()
            }
            Some(Purpose::Bodies(settling)) => {
                report(self.search.sweep.note_newest(self.main));
                self.exchanges.borrow_mut().end_settling(*settling, is_whole, self.main);
                self.watch.forget_bodies();
                Vec::new()
            }
            None => Vec::new(),
        }
    }

    /// A function that may be of a source that nobody reported.
    fn see(&self, function: Object<'_>) {
        // What was made here keeps no source alive.
        if self.exchanges.borrow().roots.contains(&function.address()) {
            return;
        }
        if !self.search.passed.borrow_mut().insert(function.body().address()) {
            return;
        }
        if function.push(self.main) {
            self.scripts.see(self.main);
            self.main.pop(1);
        }
    }

    /// Nothing of these sources is left in the state.
    pub(crate) fn are_gone(&self, gone: &[SourceId]) {
        self.watch.forget_bodies();
        for source in gone {
            self.exchanges.borrow_mut().forget(*source, self.main);
            self.hooked.borrow_mut().remove(source);
            self.told.borrow_mut().remove(source);
            self.tell_lagging(*source);
            self.supervisor.source_gone(*source);
        }
    }

    /// A thread, which may be a new one.
    fn meet(&self, thread: Object<'_>) {
        if thread.push(self.main) {
            self.watch.meet(self.main);
        }
    }

    fn settle(&self, settling: &mut Settling, function: Object<'_>) {
        let exchanges = self.exchanges.borrow();
        if settling.look(&exchanges, self.main, function, || self.running_functions()) {
            self.keep_left(function);
        }
    }

    /// Notes a function that keeps its body for now, without keeping it alive.
    fn keep_left(&self, function: Object<'_>) {
        let state = self.main;
        let top = state.top();
        if state.push_slot(Slot::Left) == Type::Table {
            state.push_integer(i64::try_from(function.address()).unwrap_or(0));
            if function.push(state)
                && let Err(error) = state.raw_set(top + 1)
            {
                tracing::warn!(%error, NOT_KEPT);
            }
        }
        state.cut_to(top);
    }

    /// Looks whether functions that were on a stack have returned, and gives those what they should have.
    pub(crate) fn retry_left(&self) {
        let Some(mut settling) = self.begin_retry() else { return };
        self.watch.find_all_threads();
        let state = self.main;
        let top = state.top();
        if state.push_slot(Slot::Left) == Type::Table {
            let table = state.top();
            state.push_nil();
            while matches!(state.next(table), Ok(true)) {
                let is_left = {
                    let (exchanges, function) = (self.exchanges.borrow(), Object::on_top(&state, Type::Function));
                    settling.look(&exchanges, state, function, || self.running_functions())
                };
                state.pop(1);
                if !is_left {
                    state.push_copy(-1);
                    state.push_nil();
                    report(state.raw_set(table));
                }
            }
        }
        state.cut_to(top);
        self.exchanges.borrow_mut().end_retry(settling);
        self.watch.forget_bodies();
    }

    /// A function returns on this thread that goes on in an earlier text: it gets its new body, if it is on no stack besides.
    pub(crate) fn take_returning(&self, thread: State, function: &Activation) {
        let left = self.exchanges.borrow().all_left();
        let mut settling = self.settling(left);
        self.watch.find_all_threads();
        let top = thread.top();
        function.push_function();
        let is_left = {
            let (exchanges, held) = (self.exchanges.borrow(), Object::on_top(&thread, Type::Function));
            settling.look(&exchanges, thread, held, || self.functions_below(thread))
        };
        thread.cut_to(top);
        if !is_left {
            self.exchanges.borrow_mut().retry_soon();
            self.retry_left();
            self.tell_progress();
        }
    }
}

/// Makes the table of functions that are left as they are for now, weakly.
pub(crate) fn prepare(state: State) -> Result<(), EngineError> {
    state.push_table()?;
    state.make_weak(b"v")?;
    state.set_slot(Slot::Left)
}
