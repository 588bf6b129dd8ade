//! Everything about one Lua state that is watched, put together.

mod attend;
mod changes;
mod going;
mod profile;
mod reload;
mod stacks;
mod stepped;
mod view;

use std::cell::{Cell, RefCell};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::engine::{Blindness, EngineError, Need, Supervisor};
use adzeman_core::host::HostView;
use adzeman_core::sharing::Shared;
use adzeman_core::source::{SourceFacts, SourceId, SourceLine};
use adzeman_core::stepping::{Step, StepKind};
use mlua::Lua;
use rustc_hash::FxHashSet;

use crate::arm::{self, Arms, Renewed};
use crate::environments;
use crate::evaluate::Evaluator;
use crate::ffi::activation::Activation;
use crate::ffi::hook::{self, Watching};
use crate::ffi::layout::Definition;
use crate::ffi::one_call::{OneCall, Purpose};
use crate::ffi::state::{Slot, State};
use crate::ffi::watch::{Attendant, Began, CallsFor, Wanted, Watch, report};
use crate::ffi::{layout, natives, proxy, walk};
use crate::heap::Heap;
use crate::look::Shown;
use crate::look::track::{Tracks, with_call};
use crate::scope;
use crate::scripts::{Scripts, text_of};

use changes::Changes;
use stacks::chain;
use stepped::LastStep;

pub(crate) use view::View;

/// How long a state is looked through at a time: the host's event waits for it.
const SLICE: Duration = Duration::from_micros(1500);
/// How long it is not, after that, in a host that comes to no safe point.
const REST: Duration = Duration::from_millis(15);

/// What is kept of calls under way.
#[derive(Default)]
struct Calls {
    last_step: RefCell<LastStep>,
    /// The message handler with which the host calls scripts; 0 when it is not known.
    host_handler: Cell<usize>,
    /// An error on its way was reported already, by the coroutine that raised it.
    raise_goes_on: Cell<bool>,
}

/// Everything about one Lua state.
pub(crate) struct Context {
    pub(crate) main: State,
    supervisor: Shared<dyn Supervisor>,
    pub(crate) watch: Rc<Watch>,
    pub(crate) scripts: Rc<Scripts>,
    pub(crate) shown: Rc<Shown>,
    tracks: Tracks,
    evaluator: Evaluator,
    arms: Arms,
    heap: Heap,
    need: RefCell<Need>,
    /// Whether some armed line needs the line hook.
    lines_hooked: Cell<bool>,
    calls: Calls,
    /// Whether a loader of the host's own has loaded a chunk again whose lines were armed.
    loads_itself: Cell<bool>,
    /// The last line that was passed, as nothing that is watched had changed.
    passed: Cell<Option<SourceLine>>,
    changes: Changes,
    /// When the state was looked through last, since the last safe point.
    looked: Cell<Option<Instant>>,
}

impl Context {
    /// Makes the tables that the state keeps for this crate, and what watches it from now on.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn open(
        lua: &Lua,
        main: State,
        supervisor: Shared<dyn Supervisor>,
        host: Shared<dyn HostView>,
    ) -> Result<Rc<Self>, EngineError> {
        let watch = Rc::new(Watch::new(main, supervisor.attention()));
        let scripts = Rc::new(Scripts::new(supervisor.clone()));
        let shown = Rc::new(Shown::new(main, host));
        let context = Rc::new(Self {
            main,
            tracks: Tracks::new(shown.clone()),
            evaluator: Evaluator::new(lua, watch.clone(), shown.clone(), supervisor.clone()),
            arms: Arms::new(watch.clone(), scripts.clone(), supervisor.clone()),
            heap: Heap::default(),
            watch,
            scripts,
            shown,
            supervisor,
            need: RefCell::default(),
            lines_hooked: Cell::new(false),
            calls: Calls::default(),
            loads_itself: Cell::new(false),
            passed: Cell::new(None),
            changes: Changes::default(),
            looked: Cell::new(None),
        });
        let attendant: Rc<dyn Attendant> = context.clone();
        context.watch.attend(Rc::downgrade(&attendant));
        prepare(main)?;
        hook::register(main, &context.watch)?;
        Ok(context)
    }

    /// Leaves the state as if it had never been watched.
    pub(crate) fn close(&self) {
        self.watch(&Need::default());
        self.watch.meet_newcomers(false);
        self.arms.undo();
        hook::release(self.main);
    }

    pub(crate) fn supervisor(&self) -> &dyn Supervisor {
        &*self.supervisor
    }

    /// Between two handlers: what is looked for is looked for further, and functions that were on a stack before may get the
    /// bodies that they should have.
    pub(crate) fn safe_point(&self) {
        self.renew();
        self.looked.set(None);
        self.look_for_what_is_gone();
        self.arms.retry_left();
        self.arms.forward_late();
        if self.arms.is_looking() {
            self.look_on();
        }
        let hooked = self.arms.needs_hook();
        if hooked != self.lines_hooked.replace(hooked) {
            self.set_hooks_again();
        }
        self.watch_changes();
        self.await_returns();
    }

    /// Has functions that are to get another body met where they return, in hosts that come to safe points only while they run.
    fn await_returns(&self) {
        let runs = self.watch.running().level(0).is_some() || self.watch.meets_newcomers();
        self.watch.await_returns(if runs { self.arms.returning() } else { FxHashSet::default() });
    }

    /// Whether functions that can be called again go on in an earlier text.
    pub(crate) fn is_lagging(&self) -> bool {
        self.arms.is_lagging()
    }

    /// Looks whether it still watches what it has to: by a hook, and in every function.
    pub(crate) fn keep_watch(&self) {
        self.renew();
        if !self.arms.is_looking() {
            self.arms.look_for_renewed().into_iter().for_each(|renewed| self.take_renewed(renewed));
        }
    }

    /// Has the hook stand again that was wanted, if the host has put one of its own in its place.
    pub(crate) fn renew(&self) {
        if self.watch.renew() {
            self.supervisor.was_blind(Blindness::OtherHook);
        }
    }

    /// A chunk whose lines are armed was loaded again, and nobody has told of it: functions of it may have run already. From now on
    /// calls are looked at, so that those of the next time are met before their first line.
    fn take_renewed(&self, renewed: Renewed) {
        let Renewed { chunk_name, compiled } = renewed;
        if let Some(source) = self.scripts.named(&chunk_name) {
            self.supervisor.was_blind(Blindness::LoadedAgain(source));
        }
        self.loads_itself.set(true);
        self.note_compiled(&chunk_name, None, || compiled);
        self.want_events(&self.need.borrow());
        self.set_hooks_again();
    }

    /// Whether a function is that of a whole chunk which was loaded again without a word, and whose lines are armed.
    fn is_loaded_again(&self, function: &Activation) -> bool {
        let is_new = |held: &Definition| held.first_line == 0 && !self.arms.has_body(held.prototype);
        if !self.loads_itself.get() || !function.definition().is_some_and(|held| is_new(&held)) {
            return false;
        }
        let source = function.with_chunk_name(|name| self.scripts.named(std::str::from_utf8(name).ok()?));
        source.is_some_and(|source| self.need.borrow().lines.of_source(source).is_some())
    }

    /// Says what is wanted besides lines.
    fn want_events(&self, need: &Need) {
        self.watch.want(Wanted { raises: need.raises, calls: self.wants_calls(need) });
    }

    /// Whether each call is to be looked at, whatever lines need.
    fn wants_calls(&self, need: &Need) -> bool {
        let may_load = self.loads_itself.get() && !need.mask().is_empty();
        need.raises || need.call_times || need.new_sources || may_load
    }

    /// Has it looked which sources are gone, when it is time to.
    fn look_for_what_is_gone(&self) {
        if self.scripts.wants_look() {
            self.arms.want_threads(true);
        }
    }

    /// Whether a safe point has anything to do.
    pub(crate) fn wants_safe_point(&self) -> bool {
        self.arms.is_looking() || self.arms.has_left() || self.arms.has_late() || self.scripts.wants_look()
    }

    /// Whether there is nothing left to look for.
    pub(crate) fn is_settled(&self) -> bool {
        !self.arms.is_looking()
    }

    /// Looks for what is to be found, for a moment; not again for the same event, unless that is soon done.
    fn look_on(&self) {
        let now = Instant::now();
        let rests = self.looked.get().is_some_and(|last| now.duration_since(last) < REST);
        if !self.arms.is_looking() || rests && !self.arms.is_soon_looked_through() {
            return self.arms.tell_progress();
        }
        let found = self.arms.advance(now + SLICE);
        self.looked.set(Some(Instant::now()));
        found.into_iter().for_each(|id| self.arm_anew(id));
        self.arms.tell_progress();
    }

    /// How long ago a call began, if that is kept; and whether it was longer ago.
    fn running_for(&self, call: usize) -> (Option<Duration>, bool) {
        let began = self.watch.begun.borrow().get(&call).copied();
        let time = began.and_then(|began| Some(self.supervisor.now()?.saturating_sub(began.at)));
        (time, began.is_some_and(|began| began.ran_before))
    }

    /// Notes the calls that are under way when it begins to be kept when calls begin.
    fn note_under_way(&self) {
        let Some(at) = self.supervisor.now() else { return };
        let began = Began { at, ran_before: true };
        for thread in chain(&self.watch, self.watch.running()) {
            thread.for_each_level(|_, function| {
                self.watch.begun.borrow_mut().insert(function.call(), began);
                true
            });
        }
    }

    /// Takes what is to be watched, and sets or removes the hook on every thread known.
    pub(crate) fn watch(&self, need: &Need) {
        if !self.supervisor.is_attached() {
            report(self.evaluator.forget_results());
        }
        self.look_for_what_is_gone();
        let before = self.need.replace(need.clone());
        let rearmed = !Arc::ptr_eq(&before.lines, &need.lines);
        self.watch.compare(!need.changes_of.is_empty());
        if need.changes_of.is_empty() {
            self.passed.set(None);
        }
        self.want_events(need);
        if rearmed {
            self.watch.cover(need.mask());
            self.evaluator.forget_kept();
            environments::forget(self.main);
            self.watch.forget_globals();
        }
        match (before.call_times, need.call_times) {
            (false, true) => self.note_under_way(),
            (_, false) => self.watch.begun.borrow_mut().clear(),
            _ => {}
        }
        if !need.is_nothing() && !self.watch.knows_threads() {
            self.arms.want_threads(false);
        }
        if need.raises && self.calls.host_handler.get() == 0 {
            self.calls.host_handler.set(natives::host_handler());
        }
        self.tell_assignments(need);
        if rearmed {
            self.arm_lines(need);
        } else if self.arms.is_looking() {
            self.look_on();
        }
        if before.lines_of != need.lines_of || before.changes_of != need.changes_of {
            self.watch.confined.begin();
        }
        self.set_needed_hooks(need, rearmed || need.every_stack && !before.every_stack);
    }

    /// The call whose lines alone count, if all lines are wanted only for a step over or out of one, or for local variables of one.
    fn one_call(&self, need: &Need) -> Option<OneCall> {
        if self.lines_hooked.get() || self.wants_calls(need) {
            return None;
        }
        match need.lines_of {
            Some(step) => self.call_of_step(step),
            None => self.call_of_locals(need),
        }
    }

    fn call_of_step(&self, step: Step) -> Option<OneCall> {
        if self.tracks.watch_calls() || self.remaining(step).depth < step.depth() {
            return None;
        }
        let purpose = if step.kind() == StepKind::Over { Purpose::StepOver } else { Purpose::StepOut };
        let call = |thread: State| OneCall::at(thread, thread.depth().checked_sub(step.depth())?, purpose);
        walk::with_thread(self.main, step.stack().stack, call).flatten()
    }

    fn call_of_locals(&self, need: &Need) -> Option<OneCall> {
        let (thread, call) = self.tracks.call_of_all(&need.changes_of)?;
        let mut found = None;
        with_call(self.main, thread, call, |thread, function| found = OneCall::of(thread, function, Purpose::Locals));
        found
    }

    /// Whether a thread runs, or waits for one that does, at least.
    fn is_under_way(&self, thread: usize) -> bool {
        let is_active = |thread: State| !thread.is_suspended() && thread.level(0).is_some();
        match thread == self.main.address() {
            true => is_active(self.main),
            false => walk::with_thread(self.main, thread, is_active).unwrap_or(false),
        }
    }

    /// Arms the lines that are wanted once more, and sets the hooks that this needs.
    fn arm_again(&self) {
        let need = self.need.borrow().clone();
        self.arm_lines(&need);
        self.set_needed_hooks(&need, true);
    }

    /// Arms lines by exchanged bodies, as far as that can be.
    fn arm_lines(&self, need: &Need) {
        self.arms.exchange_bodies(&need.lines);
        self.look_on();
        self.lines_hooked.set(self.arms.needs_hook());
    }

    /// Sets the hooks for the same need as before, as what was reported has changed.
    fn set_hooks_again(&self) {
        let need = self.need.borrow().clone();
        self.set_needed_hooks(&need, false);
    }

    /// Sets the hooks that are needed now; with `anew` also where they are set already.
    fn set_needed_hooks(&self, need: &Need, anew: bool) {
        self.watch.cover_every_line(self.wants_every_line(need));
        let how = self.how_to_watch(need);
        let is_other_call = self.watch.confined.set(self.one_call(need));
        let was_abandoning = self.watch.end_abandoning();
        let find = anew && how != Watching::Nothing;
        if find {
            self.watch.find_threads();
        }
        if find || was_abandoning || is_other_call || how != self.watch.watching() {
            self.watch.set_hooks(how);
        }
    }

    fn how_to_watch(&self, need: &Need) -> Watching {
        let is_reported = self.watch.reported().is_some();
        if need.is_nothing() && !is_reported {
            return Watching::Nothing;
        }
        let hooked = self.lines_hooked.get();
        let tracks = self.tracks.watch_calls();
        let calls = self.wants_calls(need) || tracks || hooked && need.lines.has_entries();
        let is_for_more = need.new_sources || need.returns_of.is_some() || tracks || self.loads_itself.get();
        let handler = Some(self.calls.host_handler.get()).filter(|_| need.raises);
        let only = (!is_for_more && layout::is_known()).then_some(CallsFor { handler, times: need.call_times });
        self.watch.look_at_calls_for(only);
        let mut mask = if calls { hook::CALLS } else { 0 };
        if self.watch.covers_every_line() || is_reported {
            mask |= hook::LINES;
            if tracks || need.returns_of.is_some() || !need.changes_of.is_empty() {
                mask |= hook::RETURNS;
            }
            if need.returns_of.is_some() {
                mask |= hook::CALLS;
            }
            return Watching::Events(mask);
        }
        match hooked {
            false if mask == 0 => Watching::Nothing,
            false => Watching::Events(mask),
            true if layout::is_known() => Watching::Gated,
            true => Watching::Events(mask | hook::LINES),
        }
    }

    /// The source of a running function; one met for the first time is learnt.
    fn source_of(&self, state: State, activation: &Activation) -> Option<SourceId> {
        self.scripts.of(state, activation, |id| self.arm_anew(id))
    }

    /// Reports a source, to which functions of this chunk belong from now on.
    pub(crate) fn report_source(&self, chunk_name: &str, facts: SourceFacts) {
        let text = facts.text.clone();
        let id = self.supervisor.source_loaded(facts);
        self.scripts.note(chunk_name, text, id);
        self.arm_anew(id);
        if !self.supervisor.is_attached() {
            let passed_over = self.scripts.pass_over(|source| self.arms.has_bodies(source));
            self.arms.are_gone(&passed_over);
        }
    }

    /// Takes a source that had no text as one with the text that its functions were compiled from.
    fn take_text(&self, facts: SourceFacts) {
        if let Some(chunk_name) = self.scripts.without_text(&facts.name) {
            self.report_source(&chunk_name, facts);
        }
    }

    /// A text, or what is in the file that the chunk is named after, was compiled to a function of this code.
    fn note_compiled(&self, chunk_name: &str, text: Option<&str>, compiled: impl FnOnce() -> Vec<u8>) {
        let in_file = if text.is_none() { text_of(chunk_name) } else { None };
        let text = text.or(in_file.as_deref()).unwrap_or_default();
        if let Some(facts) = self.scripts.compiled(chunk_name, text, compiled) {
            self.report_source(chunk_name, facts);
            self.watch.look_soon();
        } else if let Some(known) = self.scripts.named(chunk_name) {
            // Its functions are new ones.
            self.arm_anew(known);
        }
    }

    /// Arms the lines of a source whose functions have just been compiled, once more or for the first time.
    fn arm_anew(&self, source: SourceId) {
        self.watch.forget_bodies();
        let is_armed = self.need.borrow().lines.of_source(source).is_some() || self.arms.asks_for_assignments(source);
        if is_armed {
            self.arms.is_compiled(source);
            self.arms.exchange_again(source);
            self.arm_again();
        }
    }

    /// Looks for functions of sources that nobody reported, and for threads: what was known of them may be long past.
    pub(crate) fn discover(&self) {
        self.watch.threads_are_known(false);
        self.arms.want_threads(true);
        self.look_on();
    }
}

/// Makes the tables that a state keeps for this crate.
fn prepare(main: State) -> Result<(), EngineError> {
    proxy::prepare(main)?;
    walk::prepare_threads(main)?;
    arm::prepare(main)?;
    for slot in [Slot::Anchors, Slot::Conditions, Slot::Tracks, Slot::Bodies, Slot::Results] {
        main.push_table()?;
        main.set_slot(slot)?;
    }
    scope::prepare(main)?;
    main.push_self();
    walk::note_thread(main)?;
    natives::take_over(main)
}
