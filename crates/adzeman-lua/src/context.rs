//! What is kept for one Lua state while it is watched.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::{Duration, Instant};

use adzeman_core::engine::Need;
use adzeman_core::engine::{EngineError, Supervisor};
use adzeman_core::host::HostView;
use adzeman_core::source::{Line, LineSet, SourceId};
use adzeman_core::stepping::StackId;
use adzeman_core::value::Value;
use mlua::{Lua, WeakLua};

use crate::chunk::prototypes;
use crate::evaluate::{Evaluation, is_evaluated};
use crate::exchange::{Exchanges, SourceText};
use crate::facts::facts;
use crate::ffi::activation::Activation;
use crate::ffi::gate::Gate;
use crate::ffi::hook::Watching;
use crate::ffi::layout::Definition;
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::{hook, interrupt, layout, natives, proxy, walk};
use crate::limits::Bounds;
use crate::track::Tracks;
use crate::values::{OnShow, ShownTypes};
use crate::view::View;

/// The largest file read to show the text of a source that was loaded from it.
const MOST_SOURCE_BYTES: u64 = 8 * 1024 * 1024;

/// Everything about one Lua state. Its address is known to the state's hooks, so it stays boxed.
pub(crate) struct Context {
    pub(crate) main: State,
    supervisor: Rc<dyn Supervisor>,
    host: Rc<dyn HostView>,
    registration: interrupt::Registration,
    /// The coroutine that runs now, if one does.
    running: Cell<Option<State>>,
    pub(crate) need: RefCell<Need>,
    attention: Arc<AtomicBool>,
    /// The parts of `need` that the hook asks for first.
    every_line: Cell<bool>,
    /// Whether some armed line needs the line hook.
    lines_hooked: Cell<bool>,
    mask: RefCell<LineSet>,
    gate: RefCell<Gate>,
    watching: Cell<Watching>,
    /// The body and line that the hook reported last, if the body might have reported it itself as well. Its call, if there is
    /// one, comes before the next line, so lines are watched until then.
    reported: Cell<Option<(usize, Line)>>,
    /// Nothing of the script is to be reported at this moment: what runs was started to look at it.
    busy: Cell<bool>,
    /// The handler under way is given up: see [`abandon`](Self::abandon).
    abandoning: Cell<bool>,
    /// The call that has begun and has not reached its first line.
    entered: Cell<usize>,
    /// An error on its way was reported already, by the coroutine that raised it.
    raise_goes_on: Cell<bool>,
    host_handler: Cell<usize>,
    call_times: RefCell<HashMap<usize, Instant>>,
    returned: RefCell<Option<Vec<Value>>>,
    by_chunk_name: RefCell<HashMap<Vec<u8>, SourceId>>,
    /// The source of the function that was looked at last.
    last_source: Cell<Option<(Definition, SourceId)>>,
    pub(crate) texts: RefCell<HashMap<SourceId, SourceText>>,
    pub(crate) exchanges: RefCell<Exchanges>,
    pub(crate) tracks: RefCell<Tracks>,
    pub(crate) on_show: OnShow,
    pub(crate) types: ShownTypes,
    pub(crate) evaluation: Evaluation,
    pub(crate) bounds: Bounds,
    /// How many calls that a person asked for are under way.
    openly: Cell<usize>,
    /// The binding, which knows what the state holds.
    lua: WeakLua,
}

impl Context {
    pub(crate) fn new(lua: &Lua, main: State, supervisor: Rc<dyn Supervisor>, host: Rc<dyn HostView>) -> Self {
        Self {
            main,
            lua: lua.weak(),
            bounds: Bounds::default(),
            openly: Cell::new(0),
            attention: supervisor.attention(),
            supervisor,
            host,
            registration: interrupt::register(main),
            running: Cell::new(None),
            need: RefCell::default(),
            every_line: Cell::new(false),
            lines_hooked: Cell::new(false),
            mask: RefCell::default(),
            gate: RefCell::default(),
            watching: Cell::default(),
            reported: Cell::new(None),
            busy: Cell::new(false),
            abandoning: Cell::new(false),
            entered: Cell::new(0),
            raise_goes_on: Cell::new(false),
            host_handler: Cell::new(0),
            call_times: RefCell::default(),
            returned: RefCell::default(),
            by_chunk_name: RefCell::default(),
            last_source: Cell::new(None),
            texts: RefCell::default(),
            exchanges: RefCell::default(),
            tracks: RefCell::default(),
            on_show: OnShow::default(),
            types: ShownTypes::default(),
            evaluation: Evaluation::default(),
        }
    }

    /// Makes the tables that the state keeps for this crate, and enters this context as the one that watches it.
    pub(crate) fn prepare(&self) -> Result<(), EngineError> {
        proxy::prepare(self.main)?;
        walk::prepare_threads(self.main)?;
        for slot in [Slot::Anchors, Slot::Conditions, Slot::Tracks, Slot::Bodies, Slot::Results] {
            self.main.push_table()?;
            self.main.set_slot(slot)?;
        }
        self.prepare_names()?;
        self.main.push_self();
        walk::note_thread(self.main)?;
        natives::take_over(self.main)?;
        hook::register(self.main, self)
    }

    /// What other threads interrupt this state by.
    pub(crate) fn remote(&self) -> interrupt::Remote {
        self.registration.remote()
    }

    pub(crate) fn host(&self) -> &dyn HostView {
        &*self.host
    }

    pub(crate) fn supervisor(&self) -> &dyn Supervisor {
        &*self.supervisor
    }

    /// Whether a line of any source is worth a closer look: the first question of the hook.
    #[inline]
    pub(crate) fn covers(&self, line: u32) -> bool {
        self.every_line.get()
            || self.reported.get().is_some()
            || Line::new(line).is_some_and(|line| self.mask.borrow().contains(line))
            || self.wants_attention()
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
        self.is_hooked() || self.runs_openly()
    }

    /// Whether a call that a person asked for is under way.
    #[inline]
    pub(crate) fn runs_openly(&self) -> bool {
        self.openly.get() > 0
    }

    /// Does `work`, a call that a person asked for: every thread looks up now and then whether it is still wanted.
    pub(crate) fn openly<T>(&self, work: impl FnOnce() -> T) -> T {
        self.openly.set(self.openly.get() + 1);
        self.find_threads();
        self.set_hooks(self.watching.get());
        let outcome = work();
        self.openly.set(self.openly.get() - 1);
        // What is given up ends with it, and so does the looking.
        self.set_hooks(if self.abandoning.replace(false) { Watching::Nothing } else { self.watching.get() });
        outcome
    }

    /// If something wants attention, has it looked at with the next line that runs.
    pub(crate) fn look_soon(&self) {
        if self.wants_attention() {
            for thread in [Some(self.main), self.running.get()].into_iter().flatten() {
                hook::look_soon(thread);
            }
        }
    }

    /// The binding, while the host has the state.
    pub(crate) fn lua(&self) -> Option<Lua> {
        self.lua.try_upgrade()
    }

    /// Whether functions of this chunk belong to a source of the script's.
    pub(crate) fn knows_chunk(&self, chunk_name: &[u8]) -> bool {
        !is_evaluated(chunk_name) && self.by_chunk_name.borrow().contains_key(chunk_name)
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

    pub(crate) fn set_running(&self, coroutine: Option<State>) -> Option<State> {
        self.running.set(coroutine);
        self.registration.set_running(coroutine)
    }

    /// The thread of the state that runs now.
    pub(crate) fn running(&self) -> State {
        self.running.get().unwrap_or(self.main)
    }

    #[inline]
    pub(crate) fn gate_holds(&self, definition: &Definition) -> Option<bool> {
        self.gate.borrow().holds(definition)
    }

    /// Finds out whether a function holds a breakpoint, and notes it.
    pub(crate) fn learn_gate(&self, state: State, function: &Activation, definition: Definition) -> bool {
        let info = function.info();
        let source = self.source_of(state, function);
        let holds = source.is_some_and(|source| {
            let need = self.need.borrow();
            let Some(armed) = need.armed.lines_of(source) else { return false };
            let exchanges = self.exchanges.borrow();
            let lines = exchanges.lines_of(&definition).map_or_else(|| armed.clone(), |own| armed.without(own));
            self.supervisor.holds_line(source, &lines, info.first_line, info.last_line)
        });
        self.gate.borrow_mut().note(definition, holds);
        holds
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

    /// Called by the hook on a line that is covered.
    pub(crate) fn line_reached(&self, state: State, activation: &Activation, line: u32) {
        if self.forget_reported().is_some() && !self.covers(line) {
            return;
        }
        let line = Line::new(line).unwrap_or(Line::FIRST);
        let mut view = View::new(self, state);
        if self.reports_itself(activation, line) {
            let Some(body) = self.held_back(activation, line) else { return };
            self.reported.set(Some((body, line)));
            view = View::instead_of_site(self, state);
        }
        let source = self.source_of(state, activation);
        self.supervisor.line_reached(&mut view, source, line);
        if self.reported.get().is_some() {
            self.set_hooks_again();
        }
        if !self.is_hooked() {
            hook::watch(self, state, Watching::Nothing);
        }
    }

    /// The body, where a line is of interest whatever the conditions there say, and a filter may hold its report back.
    fn held_back(&self, activation: &Activation, line: Line) -> Option<usize> {
        let definition = activation.definition().filter(|_| self.every_line.get() || self.wants_attention())?;
        self.exchanges.borrow().has_filter(&definition, line).then_some(definition.prototype)
    }

    /// Another line is reached, or the call of the one that was reported.
    fn forget_reported(&self) -> Option<(usize, Line)> {
        let reported = self.reported.take()?;
        if !self.every_line.get() {
            self.set_hooks_again();
        }
        Some(reported)
    }

    fn reports_itself(&self, activation: &Activation, line: Line) -> bool {
        activation.definition().is_some_and(|held| self.exchanges.borrow().reports(&held, line))
    }

    /// Called by an exchanged body where a line has a breakpoint. In a body that was replaced while it runs, the hook reports
    /// the lines.
    pub(crate) fn site_reached(&self, state: State, activation: &Activation, line: u32) {
        let line = Line::new(line).unwrap_or(Line::FIRST);
        let reported = self.forget_reported();
        let is_told = reported.is_some() && reported == activation.definition().map(|held| (held.prototype, line));
        if is_told || !self.reports_itself(activation, line) {
            return;
        }
        let source = self.source_of(state, activation);
        self.quietly(|| self.supervisor.line_reached(&mut View::at_site(self, state), source, line));
    }

    /// Between two handlers: functions that were on a stack before may get the bodies that they should have.
    pub(crate) fn safe_point(&self) {
        if self.exchanges.borrow_mut().wants_to_settle() {
            let need = self.need.borrow().clone();
            self.arm(&need);
        }
    }

    pub(crate) fn forget_gate(&self) {
        self.gate.borrow_mut().forget();
    }

    /// Whether each call is to be looked at, besides the gate.
    #[inline]
    pub(crate) fn looks_at_calls(&self) -> bool {
        match self.watching.get() {
            Watching::Events(mask) => mask & hook::CALLS != 0,
            Watching::Gated => {
                let need = self.need.borrow();
                need.raises || need.call_times || need.new_sources
            }
            _ => false,
        }
    }

    /// Whether each return is to be looked at, besides the gate.
    #[inline]
    pub(crate) fn looks_at_returns(&self) -> bool {
        matches!(self.watching.get(), Watching::Events(mask) if mask & hook::RETURNS != 0)
    }

    /// Called by the hook when a function is called.
    pub(crate) fn call_begun(&self, state: State, function: &Activation, call: usize) {
        self.entered.set(call);
        self.tracks.borrow_mut().call_begun(call);
        if self.need.borrow().call_times {
            self.call_times.borrow_mut().insert(call, Instant::now());
        }
        if self.need.borrow().new_sources {
            self.source_of(state, function);
        }
        if !self.watches_raises() || self.host_handler.get() == 0 {
            return;
        }
        function.push_function();
        let is_handler = state.native_address_at(-1) == self.host_handler.get();
        state.pop(1);
        if is_handler && function.push_local(1).is_some() {
            self.raised(state, 1, natives::is_caught(state));
            state.pop(1);
        }
    }

    /// Called by the hook when a function returns.
    pub(crate) fn call_ends(&self, state: State, function: &Activation, call: usize) {
        self.tracks.borrow_mut().call_ends(call);
        let wanted = self.need.borrow().returns_of;
        let Some(step) = wanted.filter(|step| step.is_at(StackId(state.address()), || state.depth())) else { return };
        debug_assert!(step.depth() > 0);
        let (first, count) = function.transferred();
        let top = state.top();
        let values = (first..first + count).map(|number| {
            function.push_local(number);
            self.describe(state, -1)
        });
        let values = values.collect::<Result<Vec<_>, _>>();
        state.cut_to(top);
        *self.returned.borrow_mut() = values.ok();
    }

    /// What was returned by the function that the last step came out of.
    pub(crate) fn take_returned(&self) -> Option<Vec<Value>> {
        self.returned.take()
    }

    /// How long ago a call began, if that is kept.
    pub(crate) fn running_for(&self, call: usize) -> Option<Duration> {
        self.call_times.borrow().get(&call).map(Instant::elapsed)
    }

    /// Whether errors are to be reported where they are raised.
    pub(crate) fn watches_raises(&self) -> bool {
        !self.busy.get() && !self.abandoning.get() && self.need.borrow().raises
    }

    /// The next raise is one that was reported already.
    pub(crate) fn raise_goes_on(&self) {
        self.raise_goes_on.set(true);
    }

    /// An error, on top of `state`, is being raised, `levels` below the innermost function.
    pub(crate) fn raised(&self, state: State, levels: usize, caught: bool) {
        if self.raise_goes_on.take() {
            return;
        }
        let text = state.error_text();
        let message = text.strip_suffix('\n').unwrap_or(&text).to_owned();
        let script = (levels..).map_while(|level| state.level(level)).find(|function| !function.info().is_native);
        let place = script.and_then(|function| {
            let line = function.info().current_line.and_then(Line::new)?;
            Some((self.source_of(state, &function)?, line))
        });
        self.quietly(|| {
            self.supervisor.raised(&mut View::below(self, state, levels), place, &message, caught);
        });
    }

    /// Gives the handler under way up: from its next instruction on it raises, and no `pcall` of the script can catch that,
    /// until [`watch`](Self::watch) is called again.
    pub(crate) fn abandon(&self) {
        // Calls that this makes itself are not what is given up.
        self.quietly(|| {
            self.find_threads();
            self.set_hooks(Watching::Abandoning);
        });
        self.abandoning.set(true);
    }

    fn set_hooks(&self, how: Watching) {
        self.watching.set(how);
        report(walk::for_each_thread(self.main, &mut |thread| hook::watch(self, thread, how)));
    }

    /// Takes what is to be watched, and sets or removes the hook on every thread known.
    pub(crate) fn watch(&self, need: &Need) {
        if !self.supervisor.is_attached() {
            report(self.forget_results());
        }
        let before = self.need.replace(need.clone());
        let rearmed = !Arc::ptr_eq(&before.armed, &need.armed);
        self.every_line.set(need.every_line);
        if rearmed {
            self.mask.borrow_mut().clone_from(need.mask());
            self.gate.borrow_mut().forget();
            self.forget_kept();
        }
        if !need.call_times {
            self.call_times.borrow_mut().clear();
        }
        if need.raises && self.host_handler.get() == 0 {
            self.host_handler.set(natives::host_handler());
        }
        if rearmed {
            self.arm_lines(need);
        }
        self.set_needed_hooks(need, rearmed || need.every_stack && !before.every_stack);
    }

    /// Arms the lines that are wanted, and sets the hooks that this needs.
    pub(crate) fn arm(&self, need: &Need) {
        self.arm_lines(need);
        self.set_needed_hooks(need, true);
    }

    /// Arms lines by exchanged bodies, as far as that can be.
    fn arm_lines(&self, need: &Need) {
        self.lines_hooked.set(self.exchange_bodies(&need.armed));
    }

    /// Sets the hooks for the same need as before, as what was reported has changed.
    fn set_hooks_again(&self) {
        let need = self.need.borrow().clone();
        self.set_needed_hooks(&need, false);
    }

    /// Sets the hooks that are needed now; with `anew` also where they are set already.
    fn set_needed_hooks(&self, need: &Need, anew: bool) {
        let how = self.how_to_watch(need);
        let was_abandoning = self.abandoning.replace(false);
        let find = anew && how != Watching::Nothing;
        if find {
            self.find_threads();
        }
        if find || was_abandoning || how != self.watching.get() {
            self.set_hooks(how);
        }
    }

    fn how_to_watch(&self, need: &Need) -> Watching {
        let is_reported = self.reported.get().is_some();
        if need.is_nothing() && !is_reported {
            return Watching::Nothing;
        }
        let hooked = self.lines_hooked.get();
        let tracks = self.tracks.borrow().watch_calls();
        let calls =
            need.raises || need.call_times || need.new_sources || tracks || hooked && need.armed.has_functions();
        let mut mask = if calls { hook::CALLS } else { 0 };
        if need.every_line || is_reported {
            mask |= hook::LINES;
            if tracks || need.returns_of.is_some() {
                mask |= hook::RETURNS;
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

    /// How threads are watched at this moment.
    pub(crate) fn watching(&self) -> Watching {
        self.watching.get()
    }

    /// The source of a running function; one met for the first time is learnt.
    pub(crate) fn source_of(&self, state: State, activation: &Activation) -> Option<SourceId> {
        let definition = activation.definition();
        if let Some((held, source)) = self.last_source.get()
            && definition == Some(held)
        {
            return Some(source);
        }
        let source = self.find_source(state, activation);
        self.last_source.set(definition.zip(source));
        source
    }

    fn find_source(&self, state: State, activation: &Activation) -> Option<SourceId> {
        let known = activation.with_chunk_name(|name| self.by_chunk_name.borrow().get(name).copied());
        if known.is_some() {
            return known;
        }
        let top = state.top();
        activation.push_function();
        if !state.is_native_function(-1) {
            self.learn(state);
        }
        state.cut_to(top);
        activation.with_chunk_name(|name| self.by_chunk_name.borrow().get(name).copied())
    }

    /// The source that functions of this chunk belong to.
    pub(crate) fn source_named(&self, chunk_name: &str) -> Option<SourceId> {
        self.by_chunk_name.borrow().get(chunk_name.as_bytes()).copied()
    }

    /// Notes that functions of this chunk belong to a source.
    pub(crate) fn note_source(&self, chunk_name: &str, text: Option<Arc<str>>, id: SourceId) {
        self.texts.borrow_mut().insert(id, SourceText { chunk_name: chunk_name.to_owned(), text });
        self.by_chunk_name.borrow_mut().insert(chunk_name.as_bytes().to_vec(), id);
        // What was compiled before may be found at the same addresses.
        self.last_source.set(None);
        self.gate.borrow_mut().forget();
        self.arm_anew(id);
    }

    /// Learns the source of the function on top, from its compiled form; the text is read from the file it names, or is
    /// the chunk name itself.
    fn learn(&self, state: State) {
        let chunk_name = state.function_info(-1).chunk_name;
        if is_evaluated(chunk_name.as_bytes()) || self.by_chunk_name.borrow().contains_key(chunk_name.as_bytes()) {
            return;
        }
        let chunk = state.dump(-1);
        let Some(prototypes) = prototypes(&chunk) else { return };
        let text = text_of(&chunk_name);
        let id = self.supervisor.source_loaded(facts(&display_name(&chunk_name), text.clone(), &prototypes));
        self.note_source(&chunk_name, text, id);
    }

    /// Looks for functions of sources that nobody reported, whole chunks and outer functions before inner ones.
    pub(crate) fn discover(&self) {
        let mut unknown: HashMap<String, (u32, Vec<u8>)> = HashMap::new();
        let mut show = |state: State, kind: Type| match kind {
            Type::Function => {
                let info = state.function_info(-1);
                let is_known = is_evaluated(info.chunk_name.as_bytes())
                    || self.by_chunk_name.borrow().contains_key(info.chunk_name.as_bytes());
                let is_better = unknown.get(&info.chunk_name).is_none_or(|(first, _)| info.first_line < *first);
                if !is_known && is_better {
                    unknown.insert(info.chunk_name, (info.first_line, state.dump(-1)));
                }
            }
            _ => note(state),
        };
        report(walk::walk(self.main, &mut show).map(|_| ()));
        for (chunk_name, (_, chunk)) in unknown {
            if let Some(prototypes) = prototypes(&chunk) {
                let text = text_of(&chunk_name);
                let facts = facts(&display_name(&chunk_name), text.clone(), &prototypes);
                let id = self.supervisor.source_loaded(facts);
                self.note_source(&chunk_name, text, id);
            }
        }
    }

    /// Notes the threads that were made since the last time: by the engine's own list where that is known, by walking
    /// everything elsewhere.
    pub(crate) fn find_threads(&self) {
        match walk::note_new_threads(self.main) {
            Ok(true) => return,
            Ok(false) => {}
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

fn note(state: State) {
    state.push_copy(-1);
    report(walk::note_thread(state));
}

/// Trouble while looking around is worth a line in the log, and no more.
fn report(outcome: Result<(), EngineError>) {
    if let Err(error) = outcome {
        tracing::warn!(%error, "the Lua state could not be walked whole");
    }
}

/// The name to show for a chunk (Lua reference manual, `lua_Debug.source`).
pub(crate) fn display_name(chunk_name: &str) -> String {
    match chunk_name.strip_prefix(['@', '=']) {
        Some(name) => name.to_owned(),
        None => {
            let line = chunk_name.lines().next().unwrap_or_default();
            format!("[string \"{}\"]", line.chars().take(40).collect::<String>())
        }
    }
}

fn text_of(chunk_name: &str) -> Option<Arc<str>> {
    match chunk_name.strip_prefix('@') {
        Some(path) => {
            let size = std::fs::metadata(path).ok()?.len();
            (size <= MOST_SOURCE_BYTES).then(|| std::fs::read_to_string(path).ok())?.map(Into::into)
        }
        None if chunk_name.starts_with('=') => None,
        None => Some(chunk_name.into()),
    }
}
