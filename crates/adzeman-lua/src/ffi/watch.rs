//! What the hooks ask, and whom they tell: how one Lua state is watched at this moment.

use std::cell::{Cell, OnceCell, RefCell};
use std::rc::{Rc, Weak};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::Duration;

use adzeman_core::engine::EngineError;
use adzeman_core::source::{Line, LineSet};
use rustc_hash::{FxHashMap, FxHashSet};

use super::activation::Activation;
use super::asked::Counting;
use super::bounds::Bounds;
use super::by_definition::ByDefinition;
use super::hook::{self, Watching};
use super::hosted::Hosted;
use super::interrupt::{self, Registration};
use super::layout::Definition;
use super::leap::Leaping;
use super::newcomers::Newcomers;
use super::objects::LEAST;
use super::one_call::Confined;
use super::others::Others;
use super::places::Places;
use super::profile::{Profile, Samples};
use super::proxy::{Entry, Then};
use super::state::{State, Type};
use super::walk::{self, Met};
use crate::text::conditions::Scalar;

/// What watches a state: told by the hooks and by the functions that scripts call instead of the engine's own.
pub(crate) trait Attendant {
    /// A line is reached that is [covered](Watch::covers).
    fn line_reached(&self, state: State, activation: &Activation, line: u32);

    /// An exchanged body reports a line.
    fn site_reached(&self, state: State, activation: &Activation, line: u32);

    /// A variable may have been given another value by the script that runs on this thread: by the function that called the native one
    /// that runs, or by that itself.
    fn assigned(&self, state: State);

    /// Functions may share variables now that did not by the text.
    fn variables_joined(&self);

    /// A function written in Lua reads from the host's data, by the number of a path; nothing where that cannot be told.
    fn read_host(&self, number: usize) -> Option<Scalar>;

    /// Whether a line of the function that runs is no one's business, as only changes are looked for, and there is none.
    fn passes_line(&self, state: State, definition: Option<Definition>, line: u32) -> bool;

    /// Whether the stack of the one call that counts has been left by what runs now, on another one.
    fn has_left_call(&self, state: State) -> bool;

    /// Whether a variable of its own may stand for what a function sees as its globals.
    fn may_shadow_globals(&self, state: State, function: &Activation) -> bool;

    /// A function is called, in the place of its caller if `is_tail`, and [calls are looked at](Watch::looks_at_calls).
    fn call_begun(&self, state: State, function: &Activation, call: usize, is_tail: bool);

    /// A function returns, and [returns are looked at](Watch::looks_at_returns).
    fn call_ends(&self, state: State, function: &Activation, call: usize);

    /// A function returns whose body is one of those [waited for](Watch::await_returns).
    fn lagging_returns(&self, state: State, function: &Activation);

    /// Whether a function holds a breakpoint that its body does not report.
    fn holds_breakpoint(&self, state: State, function: &Activation, definition: &Definition) -> bool;

    /// An error, on top of `state`, is being raised, `levels` below the innermost function.
    fn raised(&self, state: State, levels: usize, caught: bool);

    /// The next raise is one that was reported already.
    fn raise_goes_on(&self);

    /// The handler of an `xpcall` has raised errors in turn, so many times on end; the first of them was reported.
    fn handler_raised(&self, times: usize);

    /// The function on top as compiled code, as it was loaded.
    fn dump(&self, state: State, strips: bool) -> Vec<u8>;

    /// A script has compiled the text at the bottom of `state`, or what is in a file; the function is on top.
    fn compiled(&self, state: State, is_of_text: bool);

    /// Whether it is known what a name stands for in the function at a level, if that is a variable that the compiler has removed.
    /// What it is, if so, is pushed.
    fn push_removed(&self, state: State, level: usize, name: &str) -> Option<bool>;

    /// Whether functions of this chunk belong to a source of the script's.
    fn knows_chunk(&self, chunk_name: &[u8]) -> bool;

    /// Whether anyone wants to know what scripts print and say.
    fn is_attached(&self) -> bool;

    /// The script, whose function called the native one that runs, asks to be stopped there.
    fn stop_asked(&self, state: State);

    /// The script asks to be held until someone is attached, for at most `limit`. Answers whether someone is.
    fn wait_asked(&self, limit: Duration) -> bool;

    /// The script, whose function called the native one that runs, has this to say, line break included.
    fn said(&self, state: State, text: &str);

    /// The same for what it prints.
    fn printed(&self, state: State, text: &str);

    /// Runs a finalizer that an evaluation has given, with its object on top of `state`.
    fn finalize(&self, state: State);

    /// The time of the host, without that for which anything was held, if it keeps one.
    fn now(&self) -> Option<Duration>;

    /// The kind of the event that is handled at this moment.
    fn during(&self) -> Option<String>;

    /// Evaluated text calls one of the functions that stand for names and for the host's data.
    ///
    /// # Errors
    /// What is raised then.
    fn called(&self, entry: Entry, state: State) -> Result<Then, EngineError>;
}

/// Which lines are watched.
#[derive(Default)]
struct Lines {
    every: Cell<bool>,
    /// Whether all lines but those of the mask are reported only if something has changed.
    compares: Cell<bool>,
    mask: RefCell<LineSet>,
    /// Which functions hold a breakpoint, for one set of them.
    gate: ByDefinition<bool, 512>,
    /// The body and line that the hook reported last, if the body might have reported it itself as well. Its call, if there is
    /// one, comes before the next line, so lines are watched until then.
    reported: Cell<Option<(usize, Line)>>,
}

/// What is wanted besides lines.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Wanted {
    /// Errors are reported where they are raised.
    pub(crate) raises: bool,
    /// Calls are looked at, whatever lines need.
    pub(crate) calls: bool,
}

/// Where functions of a definition find their globals.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Sees {
    /// In what they have captured as the variable of this number.
    Captured(usize),
    /// In what is kept under this number ([`environments`](crate::environments)), as they use none themselves.
    Kept(i64),
}

/// What calls are looked at for, where that is little.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct CallsFor {
    /// Calls of what the host has errors handled by, if errors are reported: its address.
    pub(crate) handler: Option<usize>,
    /// When each began.
    pub(crate) times: bool,
}

/// When a call began.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Began {
    /// By the time of the host.
    pub(crate) at: Duration,
    /// Whether it had begun by then.
    pub(crate) ran_before: bool,
}

/// How one state is watched. Its address is known to the state's hooks.
pub(crate) struct Watch {
    pub(crate) main: State,
    registration: Registration,
    /// Samples of the stack, while someone takes some.
    pub(crate) profile: Profile,
    attention: Arc<AtomicBool>,
    attendant: OnceCell<Weak<dyn Attendant>>,
    lines: Lines,
    wanted: Cell<Wanted>,
    watching: Cell<Watching>,
    /// Nothing of the script is to be reported at this moment: what runs was started to look at it.
    busy: Cell<bool>,
    /// The handler under way is given up: see [`abandon`](Self::abandon).
    abandoning: Cell<bool>,
    /// Where functions find their globals, as far as that was asked and is the same everywhere in them.
    pub(super) globals_of: ByDefinition<Sees, 64>,
    /// Where names are in exchanged bodies, at places that they reported.
    pub(super) places: Places,
    calls_for: Cell<Option<CallsFor>>,
    /// When calls under way began, if that is wanted.
    pub(crate) begun: RefCell<FxHashMap<usize, Began>>,
    /// The call that has begun and has not reached its first line.
    entered: Cell<usize>,
    /// How many calls that a person asked for are under way.
    openly: Cell<usize>,
    returning: Returning,
    /// The coroutine that runs now, if one does.
    running: Cell<Option<State>>,
    /// Whether all threads are known but those made since the last look.
    threads_known: Cell<bool>,
    pub(crate) bounds: Bounds,
    /// Hooks in whose place ours stand.
    pub(super) others: Others,
    /// Coroutines that the host makes, where it says nothing of them.
    newcomers: Cell<Option<&'static Newcomers>>,
    /// Coroutines that the host resumes.
    pub(crate) hosted: Hosted,
    /// Calls of a handler that raises.
    pub(crate) handlers: Handlers,
    /// The call of the step under way, where only its lines count.
    pub(crate) confined: Confined,
    /// What exchanged bodies count.
    pub(crate) counting: Rc<Counting>,
    /// The coroutines that scripts resume, each with the thread that does, the innermost last.
    resumed: RefCell<Vec<(State, State)>>,
    /// A function that goes on elsewhere.
    pub(crate) leaping: Leaping,
    /// Whether what is told of now is a line, before its first instruction: by a hook, or by a call that the body makes.
    at_line: Cell<Option<bool>>,
}

/// Calls of a handler that raises errors for which it is called again, if there is one: they are counted, not reported.
#[derive(Default)]
pub(crate) struct Handlers(Cell<Option<(usize, usize)>>);

impl Handlers {
    /// Counts the calls of the function at this address.
    pub(super) fn begin(&self, function: usize) {
        self.0.set(Some((function, 0)));
    }

    fn is_counting(&self) -> bool {
        self.0.get().is_some()
    }

    /// A function is called; `address` tells which.
    pub(crate) fn note_call(&self, address: impl FnOnce() -> usize) {
        if let Some((function, times)) = self.0.get().filter(|(function, _)| *function == address()) {
            self.0.set(Some((function, times + 1)));
        }
    }

    /// How often an error was raised in the handler, if any was.
    pub(super) fn end(&self) -> Option<usize> {
        self.0.take().map(|(_, times)| times)
    }
}

/// Functions that are waited for where they return.
#[derive(Default)]
struct Returning {
    bodies: RefCell<FxHashSet<usize>>,
    /// How many more returns are looked at.
    looks: Cell<u32>,
    /// Safe points that have found some of these on a stack.
    tried: Cell<u32>,
}

/// How many returns are looked at first, how often that is doubled, and how many safe points pass then between two times.
const FEW_RETURNS: u32 = 4096;
const MOST_DOUBLED: u32 = 8;
const REST: u32 = 64;

impl Watch {
    pub(crate) fn new(main: State, attention: Arc<AtomicBool>) -> Self {
        Self {
            main,
            registration: interrupt::register(main),
            profile: Profile::default(),
            attention,
            attendant: OnceCell::new(),
            lines: Lines::default(),
            wanted: Cell::default(),
            watching: Cell::default(),
            busy: Cell::new(false),
            abandoning: Cell::new(false),
            globals_of: ByDefinition::default(),
            places: Places::default(),
            calls_for: Cell::new(None),
            begun: RefCell::default(),
            entered: Cell::new(0),
            openly: Cell::new(0),
            returning: Returning::default(),
            running: Cell::new(None),
            threads_known: Cell::new(false),
            bounds: Bounds::default(),
            others: Others::default(),
            newcomers: Cell::new(None),
            hosted: Hosted::default(),
            handlers: Handlers::default(),
            confined: Confined::default(),
            counting: Rc::default(),
            resumed: RefCell::default(),
            leaping: Leaping::default(),
            at_line: Cell::new(None),
        }
    }

    /// Tells of a line, before its first instruction: in a hook, or in a call that the body makes.
    pub(super) fn tell_of_line(&self, in_hook: bool, tell: impl FnOnce(&dyn Attendant)) {
        self.with_line(Some(in_hook), || self.told(tell));
    }

    fn with_line<T>(&self, at_line: Option<bool>, work: impl FnOnce() -> T) -> T {
        struct PutBack<'a>(&'a Cell<Option<bool>>, Option<bool>);
        impl Drop for PutBack<'_> {
            fn drop(&mut self) {
                self.0.set(self.1);
            }
        }
        let _put_back = PutBack(&self.at_line, self.at_line.replace(at_line));
        work()
    }

    /// Whether a hook told of the line that the script is at; nothing where what is told of is no line.
    pub(crate) fn at_line(&self) -> Option<bool> {
        self.at_line.get()
    }

    /// Says who is told from now on.
    pub(crate) fn attend(&self, attendant: Weak<dyn Attendant>) {
        // It is said once.
        let _ = self.attendant.set(attendant);
    }

    /// Tells who watches; nothing once nobody does.
    pub(super) fn told<T>(&self, tell: impl FnOnce(&dyn Attendant) -> T) -> Option<T> {
        let attendant: Rc<dyn Attendant> = self.attendant.get()?.upgrade()?;
        Some(tell(&*attendant))
    }

    /// Begins to take samples of the stack.
    pub(crate) fn begin_profile(&self) {
        self.registration.begin_samples();
        self.profile.begin();
    }

    /// Ends that: what was sampled, how many samples found no script, and what the signal's handler took.
    pub(crate) fn end_profile(&self) -> (Samples, u64, Duration) {
        let samples = self.profile.end();
        let (idle, spent) = self.registration.sampled();
        (samples, idle, Duration::from_nanos(spent))
    }

    /// Takes the sample that is due, if one is.
    pub(super) fn take_sample(&self, state: State) -> bool {
        let Some(due) = self.registration.take_samples() else { return false };
        if !self.is_busy() {
            let event = self.told(|told| told.during()).flatten();
            self.profile.take(state, due, event);
        }
        true
    }

    /// What other threads interrupt this state by.
    pub(crate) fn remote(&self) -> interrupt::Remote {
        self.registration.remote()
    }

    /// Whether a line of any source is worth a closer look: the first question of the hook.
    #[inline]
    pub(crate) fn covers(&self, line: u32) -> bool {
        self.lines.every.get()
            || self.lines.reported.get().is_some()
            || Line::new(line).is_some_and(|line| self.lines.mask.borrow().contains(line))
            || self.wants_attention()
    }

    /// Whether every line is reported.
    pub(crate) fn covers_every_line(&self) -> bool {
        self.lines.every.get()
    }

    /// Reports every line from now on, or only those of the mask.
    pub(crate) fn cover_every_line(&self, every: bool) {
        self.lines.every.set(every);
    }

    /// Reports lines only where something has changed, but for those of the mask.
    pub(crate) fn compare(&self, compares: bool) {
        self.lines.compares.set(compares);
    }

    /// Whether a line is reported only where something has changed.
    #[inline]
    pub(super) fn compares_at(&self, line: u32) -> bool {
        self.lines.compares.get()
            && self.lines.reported.get().is_none()
            && !Line::new(line).is_some_and(|line| self.lines.mask.borrow().contains(line))
    }

    /// The lines on which some source has a breakpoint.
    pub(crate) fn cover(&self, mask: &LineSet) {
        self.lines.mask.borrow_mut().clone_from(mask);
        self.forget_bodies();
    }

    /// The hook has reported a line that its body may report as well.
    pub(crate) fn note_reported(&self, body: usize, line: Line) {
        self.lines.reported.set(Some((body, line)));
    }

    /// What [`note_reported`](Self::note_reported) noted last.
    pub(crate) fn reported(&self) -> Option<(usize, Line)> {
        self.lines.reported.get()
    }

    /// Forgets that; answers what it was.
    pub(crate) fn take_reported(&self) -> Option<(usize, Line)> {
        self.lines.reported.take()
    }

    /// Whether something changed since this context was told what to watch.
    #[inline]
    pub(crate) fn wants_attention(&self) -> bool {
        self.attention.load(Relaxed)
    }

    /// Whether a hook is wanted at all.
    #[inline]
    pub(crate) fn is_hooked(&self) -> bool {
        self.watching.get() != Watching::Nothing
    }

    /// Whether there is anything to do for a hook.
    #[inline]
    pub(crate) fn is_watching(&self) -> bool {
        self.is_hooked() || self.runs_openly() || self.awaits_returns()
    }

    /// Whether a call that a person asked for is under way.
    #[inline]
    pub(crate) fn runs_openly(&self) -> bool {
        self.openly.get() > 0
    }

    /// Does `work`, a call that a person asked for: every thread looks up now and then whether it is still wanted.
    pub(crate) fn openly<T>(&self, work: impl FnOnce() -> T) -> T {
        self.openly.set(self.openly.get() + 1);
        self.find_all_threads();
        self.set_hooks(self.watching.get());
        // What it stops at is another line, or none.
        let outcome = self.with_line(None, work);
        self.openly.set(self.openly.get() - 1);
        // What is given up ends with it, and so does the looking.
        self.set_hooks(if self.abandoning.replace(false) { Watching::Nothing } else { self.watching.get() });
        outcome
    }

    /// Has functions with these bodies [told of](Attendant::lagging_returns) when they return, for a while: looking at returns costs the
    /// script time, so each while is followed by a rest.
    pub(crate) fn await_returns(&self, bodies: FxHashSet<usize>) {
        let held = &self.returning;
        let was_awaiting = self.awaits_returns();
        if bodies.is_empty() {
            held.tried.set(0);
            held.looks.set(0);
        } else if !was_awaiting {
            let tried = held.tried.get() + 1;
            held.tried.set(tried);
            if tried.is_power_of_two() || tried.is_multiple_of(REST) {
                held.looks.set(FEW_RETURNS << tried.ilog2().min(MOST_DOUBLED));
            }
        }
        *held.bodies.borrow_mut() = bodies;
        if was_awaiting != self.awaits_returns() {
            self.find_all_threads();
            self.set_hooks(self.watching.get());
        }
    }

    /// The last function returns that was waited for. Its frame is not to be looked at any more, so hooks are set anew at the next return.
    pub(crate) fn end_awaiting(&self) {
        let held = &self.returning;
        held.bodies.borrow_mut().clear();
        held.tried.set(0);
        held.looks.set(held.looks.get().min(1));
    }

    /// Whether returns are looked at for that.
    #[inline]
    pub(super) fn awaits_returns(&self) -> bool {
        self.returning.looks.get() > 0
    }

    /// A function returns, with this body if it is written in Lua; whether that is waited for.
    pub(super) fn is_awaited(&self, body: Option<usize>) -> bool {
        let looks = self.returning.looks.get() - 1;
        self.returning.looks.set(looks);
        if looks == 0 {
            self.set_hooks(self.watching.get());
        }
        body.is_some_and(|body| self.returning.bodies.borrow().contains(&body))
    }

    /// If something wants attention, has it looked at with the next line that runs.
    pub(crate) fn look_soon(&self) {
        if self.wants_attention() {
            for thread in [Some(self.main), self.running.get()].into_iter().flatten() {
                hook::look_soon(self, thread);
            }
        }
    }

    /// Whether lines are watched only in functions that hold a breakpoint.
    #[inline]
    pub(crate) fn is_gated(&self) -> bool {
        self.watching.get() == Watching::Gated
    }

    #[inline]
    pub(crate) fn is_busy(&self) -> bool {
        self.busy.get()
    }

    /// Does `work`, during which nothing of the script is reported.
    pub(crate) fn quietly<T>(&self, work: impl FnOnce() -> T) -> T {
        let before = self.busy.replace(true);
        let outcome = work();
        self.busy.set(before);
        outcome
    }

    /// Does `work`, during which the script is reported as always.
    pub(crate) fn loudly<T>(&self, work: impl FnOnce() -> T) -> T {
        let before = self.busy.replace(false);
        let outcome = work();
        self.busy.set(before);
        outcome
    }

    #[inline]
    pub(crate) fn is_abandoning(&self) -> bool {
        self.abandoning.get()
    }

    /// Ends what [`abandon`](Self::abandon) began; whether it had.
    pub(crate) fn end_abandoning(&self) -> bool {
        self.abandoning.replace(false)
    }

    /// Gives the handler under way up: from its next instruction on it raises, and no `pcall` of the script can catch that,
    /// until other hooks are set.
    pub(crate) fn abandon(&self) {
        // Calls that this makes itself are not what is given up.
        self.quietly(|| {
            self.find_all_threads();
            self.set_hooks(Watching::Abandoning);
        });
        self.abandoning.set(true);
    }

    /// Does `work`, during which this thread, which has the state locked, runs its scripts.
    pub(crate) fn here<T>(&self, work: impl FnOnce() -> T) -> T {
        let _here = self.registration.here();
        work()
    }

    pub(crate) fn set_running(&self, coroutine: Option<State>) -> Option<State> {
        if let Some(thread) = coroutine {
            self.others.inherit(thread.raw(), self.running().raw());
        }
        if let Some(thread) = coroutine.filter(|_| self.is_hooked()) {
            let has_ours = thread.is_hooked_by_us();
            // One that nobody has met yet is watched from here on; the host may have put a hook of its own onto it.
            if !has_ours {
                thread.push_self();
                report(walk::note_thread(thread));
            }
            // What it has from the one that made it may be long past. Nothing is called for it, which a hook of the script's own would see.
            let is_watched = || hook::has_hook_of(self, thread, self.watching.get()) || self.is_met(thread);
            if !has_ours || !is_watched() {
                hook::set_hook_of(self, thread, self.watching.get());
            }
        }
        self.running.set(coroutine);
        self.registration.set_running(coroutine)
    }

    /// Whether a thread is among those that are known.
    fn is_met(&self, thread: State) -> bool {
        walk::with_thread(self.main, thread.address(), |_| ()).is_some()
    }

    /// Has the host resume a coroutine by `resume`, on this thread.
    pub(crate) fn host_resumes<T>(&self, coroutine: State, resume: impl FnOnce() -> T) -> T {
        struct PutBack<'a>(&'a Watch, Option<State>);
        impl Drop for PutBack<'_> {
            fn drop(&mut self) {
                self.0.set_running(self.1);
                report(self.0.hosted.end());
            }
        }
        report(self.hosted.begin(coroutine, self.running()));
        let _put_back = PutBack(self, self.set_running(Some(coroutine)));
        self.here(resume)
    }

    /// A script resumes a coroutine; answers which ran before.
    pub(super) fn script_resumes(&self, state: State, coroutine: State) -> Option<State> {
        report(self.hosted.is_resumed_by_script(state, coroutine));
        self.resumed.borrow_mut().push((coroutine, state));
        self.set_running(Some(coroutine))
    }

    /// The coroutine that a script has resumed last has yielded, or has ended; `before` ran before.
    pub(super) fn script_has_resumed(&self, before: Option<State>) {
        self.resumed.borrow_mut().pop();
        self.set_running(before);
    }

    /// The thread whose script has resumed this one.
    pub(crate) fn resumer_of(&self, coroutine: State) -> Option<State> {
        let resumed = self.resumed.borrow();
        resumed.iter().rev().find(|(held, _)| *held == coroutine).map(|(_, by)| *by)
    }

    /// The thread of the state that runs now.
    pub(crate) fn running(&self) -> State {
        self.running.get().unwrap_or(self.main)
    }

    #[inline]
    pub(super) fn gate_holds(&self, definition: &Definition) -> Option<bool> {
        self.lines.gate.get(definition)
    }

    /// Finds out whether a function holds a breakpoint, and notes it.
    pub(super) fn learn_gate(&self, state: State, function: &Activation, definition: Definition) -> bool {
        let holds = self.told(|told| told.holds_breakpoint(state, function, &definition)).unwrap_or(false);
        self.lines.gate.note(definition, holds);
        holds
    }

    /// Functions may have other bodies: which of them hold breakpoints, and where names are in them, is found out anew.
    pub(crate) fn forget_bodies(&self) {
        self.lines.gate.forget();
        self.places.forget();
    }

    /// A call has begun that may hold a breakpoint.
    #[inline]
    pub(crate) fn enter(&self, call: usize) {
        self.entered.set(call);
    }

    /// Its first line was reached.
    #[inline]
    pub(crate) fn leave_entry(&self) {
        self.entered.set(0);
    }

    /// Whether this is the call that has just begun.
    pub(crate) fn is_entry(&self, call: usize) -> bool {
        self.entered.get() == call
    }

    /// Says what is wanted besides lines.
    pub(crate) fn want(&self, wanted: Wanted) {
        self.wanted.set(wanted);
    }

    /// Where functions find their globals may be elsewhere now.
    pub(crate) fn forget_globals(&self) {
        self.globals_of.forget();
    }

    /// Says what alone calls are looked at for; nothing where they are for more.
    pub(crate) fn look_at_calls_for(&self, only: Option<CallsFor>) {
        self.calls_for.set(only);
    }

    /// A call has begun; `native` tells which function of the host it is, if it is one. Whether it need not be told of.
    #[inline]
    pub(super) fn passes_call(&self, call: usize, native: impl FnOnce() -> Option<usize>) -> bool {
        let Some(only) = self.calls_for.get() else { return false };
        if self.handlers.is_counting() || only.handler.is_some() && native() == only.handler {
            return false;
        }
        if only.times {
            self.note_begun(call);
        }
        self.enter(call);
        true
    }

    /// A call has begun.
    pub(crate) fn note_begun(&self, call: usize) {
        if let Some(at) = self.told(|told| told.now()).flatten() {
            self.begun.borrow_mut().insert(call, Began { at, ran_before: false });
        }
    }

    /// Whether each call is to be looked at, besides the gate.
    #[inline]
    pub(crate) fn looks_at_calls(&self) -> bool {
        match self.watching.get() {
            Watching::Events(mask) => mask & hook::CALLS != 0,
            Watching::Gated => self.wanted.get().calls,
            _ => false,
        }
    }

    /// Whether each return is to be looked at, besides the gate.
    #[inline]
    pub(crate) fn looks_at_returns(&self) -> bool {
        matches!(self.watching.get(), Watching::Events(mask) if mask & hook::RETURNS != 0)
    }

    /// Whether errors are to be reported where they are raised.
    pub(crate) fn watches_raises(&self) -> bool {
        !self.busy.get() && !self.abandoning.get() && self.wanted.get().raises
    }

    /// How threads are watched at this moment.
    pub(crate) fn watching(&self) -> Watching {
        self.watching.get()
    }

    /// Sets the hook of every thread that is known.
    pub(crate) fn set_hooks(&self, how: Watching) {
        self.watching.set(how);
        walk::for_each_thread(self.main, &mut |thread| hook::set_hook_of(self, thread, how));
        if let Some(running) = self.running.get().filter(|running| !self.is_met(*running)) {
            hook::set_hook_of(self, running, how);
        }
        self.see_to_newcomers();
    }

    /// Has coroutines met that the host makes, or has made, and says nothing of, or none any more.
    pub(crate) fn meet_newcomers(&self, meet: bool) {
        let before = self.newcomers.replace(None);
        self.registration.tell_newcomers(None);
        if let Some(before) = before {
            before.release();
        }
        if meet {
            let newcomers = Newcomers::of(self.main, self);
            self.newcomers.set(newcomers);
            self.registration.tell_newcomers(newcomers);
            self.see_to_newcomers();
        }
    }

    /// Whether they are met: then what runs may be one that nobody knows of.
    pub(crate) fn meets_newcomers(&self) -> bool {
        self.newcomers.get().is_some()
    }

    /// Whether some of these have run under a hook of the host's that was put in the place of ours.
    pub(crate) fn has_lost_newcomers(&self) -> bool {
        self.newcomers.get().is_some_and(Newcomers::were_lost)
    }

    /// They are met while a hook is wanted.
    fn see_to_newcomers(&self) {
        if let Some(newcomers) = self.newcomers.get() {
            let is_attached = || self.told(|told| told.is_attached()) == Some(true);
            newcomers.see_to(self.is_watching() || self.wants_attention() && is_attached());
        }
    }

    /// Takes note of the hooks in whose place an interrupt has put ours.
    pub(super) fn note_interrupted(&self) {
        self.see_to_newcomers();
        for (thread, other) in self.registration.take_others() {
            self.others.set(thread, Some(other));
        }
    }

    /// Takes the place of a hook that the host has put where ours was, or onto a coroutine that it has made since then. Answers
    /// whether any line may have run under that.
    pub(crate) fn renew(&self) -> bool {
        if !self.is_hooked() || self.bounds.is_limited() {
            return false;
        }
        let is_main_lost = !self.main.is_hooked_by_us();
        let mut is_blind = is_main_lost || self.newcomers.get().is_some_and(Newcomers::take_lost);
        if is_main_lost {
            self.others.set(self.main.raw(), None);
            hook::set_hook_of(self, self.main, self.watching.get());
        }
        if self.others.are_some() {
            let mut meet = |thread: State| {
                if !thread.is_hooked_by_us() {
                    is_blind |= !thread.is_yet_to_begin();
                    hook::set_hook_of(self, thread, self.watching.get());
                }
            };
            report(walk::note_new_threads(self.main, LEAST, &mut meet).map(|_| ()));
        }
        is_blind
    }

    /// Removes the hook of one thread, on which nothing is wanted.
    pub(crate) fn remove_hook(&self, state: State) {
        hook::set_hook_of(self, state, Watching::Nothing);
    }

    /// Whether all threads are known but those made since the last look.
    pub(crate) fn knows_threads(&self) -> bool {
        self.threads_known.get()
    }

    /// Takes whether all threads are known from now on.
    pub(crate) fn threads_are_known(&self, known: bool) {
        self.threads_known.set(known);
    }

    /// Notes the threads that were made since the last look. Where too much was made by then, they will be met with all the
    /// others, which are looked for ([`meet`](Self::meet)).
    pub(crate) fn find_threads(&self) {
        self.find_among(if self.threads_known.get() { usize::MAX } else { LEAST });
    }

    /// The thread on top of `state`, which is popped, may be a new one: it is watched like the others from now on.
    pub(crate) fn meet(&self, state: State) {
        if let Some(thread) = state.thread_at(-1).filter(|_| self.is_hooked()) {
            hook::set_hook_of(self, thread, self.watching.get());
        }
        report(walk::note_thread(state));
    }

    /// Notes all threads, however long that takes: by the engine's own list where that is known, by walking everything
    /// elsewhere.
    pub(crate) fn find_all_threads(&self) {
        self.find_among(usize::MAX);
    }

    fn find_among(&self, most: usize) {
        match walk::note_new_threads(self.main, most, &mut |_| ()) {
            Ok(Met::All) => return self.threads_known.set(true),
            Ok(Met::TooMany) => return,
            Ok(Met::NotKnown) => {}
            Err(error) => report(Err(error)),
        }
        let mut show = |state: State, kind: Type| {
            if kind == Type::Thread {
                note(state);
            }
        };
        report(walk::walk(self.main, &mut show).map(|_| ()));
    }
}

/// Notes the thread on top.
pub(crate) fn note(state: State) {
    state.push_copy(-1);
    report(walk::note_thread(state));
}

/// Trouble while looking around is worth a line in the log, and no more.
pub(crate) fn report(outcome: Result<(), EngineError>) {
    if let Err(error) = outcome {
        tracing::warn!(%error, "the Lua state could not be walked whole");
    }
}
