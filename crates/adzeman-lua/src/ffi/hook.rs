//! The hook on lines, calls and returns. The one that limits evaluations is in [`limit`].
//!
//! A breakpoint on a line needs the line hook in the functions that hold one. Everywhere else a call hook stands as a gate:
//! it compares the function's definition with the answers kept ([`by_definition`](super::by_definition)), and turns lines on for as long as
//! such a function runs itself. From the first of them on, returns are watched too, so that lines come on again when it
//! is returned to, until the stack is empty.

use std::cell::Cell;
use std::ffi::{c_int, c_void};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::ptr;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering::{Relaxed, SeqCst};

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::activation::Activation;
use super::others::{put, take_away};
use super::state::{Slot, State};
use super::watch::{Sees, Watch};
use super::{finalizers, layout, leap, limit, new_line, one_call};
use crate::dialect::{Dialect as _, Version};

thread_local! {
    /// The state that a hook last ran in on this thread, as [`layout::state_of`] tells it, and its watch, with how many watches
    /// had been released by then.
    static LAST: Cell<(usize, *const Watch, usize)> = const { Cell::new((0, ptr::null(), 0)) };
}

/// How many watches were registered or released so far, on whatever thread: what was noted before that may be gone.
static CHANGES: AtomicUsize = AtomicUsize::new(0);

/// Makes `watch` the one that watches this state. It must be released by [`release`] before it is dropped.
pub(crate) fn register(state: State, watch: &Watch) -> Result<(), EngineError> {
    CHANGES.fetch_add(1, SeqCst);
    // SAFETY: pushing a pointer needs one slot, which every C API entry has; it is only read back by `look_up_watch`.
    unsafe { ffi::lua_pushlightuserdata(state.raw(), ptr::from_ref(watch).cast_mut().cast()) };
    state.set_slot(Slot::Engine)
}

/// Ends what [`register`] began; hooks still set on some thread remove themselves.
pub(crate) fn release(state: State) {
    CHANGES.fetch_add(1, SeqCst);
    state.push_nil();
    if let Err(error) = state.set_slot(Slot::Engine) {
        tracing::error!(%error, "the engine could not be taken out of the Lua state");
    }
}

/// As [`watch_of`], by the registry.
///
/// # Safety
/// As [`watch_of`], with room for one value.
unsafe fn look_up_watch<'a>(raw: *mut ffi::lua_State) -> Option<&'a Watch> {
    // SAFETY: given by the caller; the slot holds nil or a pointer set by `register`.
    unsafe {
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Engine.key());
        let watch = ffi::lua_touserdata(raw, -1).cast::<Watch>();
        ffi::lua_settop(raw, -2);
        watch.as_ref()
    }
}

/// Whether it is known what a name stands for in the function at a level, if that is a variable that the compiler has removed. What
/// it is, if so, is pushed.
pub(crate) fn push_removed(state: State, level: usize, name: &str) -> Option<bool> {
    state.room(1);
    // SAFETY: states are looked at on their threads; the answer is used here alone, and there is room.
    unsafe { watch_of(state.raw()) }?.told(|told| told.push_removed(state, level, name))?
}

/// Where a function finds its globals, if that was noted.
pub(crate) fn sees(function: &Activation) -> Option<Sees> {
    let state = function.thread();
    state.room(1);
    // SAFETY: as in `push_removed`.
    let watch = unsafe { watch_of(state.raw()) }?;
    watch.globals_of.get(&function.definition()?)
}

/// Notes that, unless a variable of the function may stand for it somewhere.
pub(crate) fn note_sees(function: &Activation, sees: Sees) {
    let state = function.thread();
    state.room(1);
    // SAFETY: as in `push_removed`.
    let Some((watch, definition)) = unsafe { watch_of(state.raw()) }.zip(function.definition()) else { return };
    if watch.told(|told| told.may_shadow_globals(state, function)) == Some(false) {
        watch.globals_of.note(definition, sees);
    }
}

/// The watch that watches the state of `raw`.
///
/// # Safety
/// Called on the thread of the state, with room for one value; the answer is not kept beyond the call from Lua in which
/// it was asked for, so it cannot outlive the watch, which is released before it is dropped.
#[inline]
pub(super) unsafe fn watch_of<'a>(raw: *mut ffi::lua_State) -> Option<&'a Watch> {
    if !layout::is_known() {
        // SAFETY: given by the caller.
        return unsafe { look_up_watch(raw) };
    }
    // SAFETY: given by the caller.
    let state = unsafe { layout::state_of(raw) };
    let (last, watch, at) = LAST.get();
    // Who released the watch of a state, or made another state at its address, did so before this thread could run that.
    let changes = CHANGES.load(Relaxed);
    if last == state && at == changes {
        // SAFETY: the pair was noted on this thread, and no watch was released since.
        return unsafe { watch.as_ref() };
    }
    // SAFETY: given by the caller.
    let watch = unsafe { look_up_watch(raw) };
    if let Some(watch) = watch {
        LAST.set((state, ptr::from_ref(watch), changes));
    }
    watch
}

/// The one hook for lines, calls and returns.
pub(super) unsafe extern "C-unwind" fn on_hook(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: Lua calls hooks on the thread of the state, with the minimum of free stack, and with the record of the
    // running function, in which the kind of the event is filled in.
    unsafe {
        layout::keep_place(raw);
        let (watch, event) = (watch_of(raw), (*record).event);
        if event == ffi::LUA_HOOKLINE && new_line::is_old(raw, record) {
            return;
        }
        if let Some(watch) = watch.filter(|watch| watch.profile.is_on()) {
            sample(watch, raw, event);
        }
        if let Some(watch) = watch.filter(|watch| watch.leaping.is_under_way())
            && leap::take_on(watch, raw, event)
        {
            return;
        }
        on_event(watch, raw, record, event);
        // Where a stop is over, at which it was asked for.
        if let Some(watch) = watch.filter(|watch| watch.leaping.is_under_way())
            && leap::take_on(watch, raw, event)
        {
            return;
        }
        // What stood here before is called last, as it may raise, or yield; nothing is owned here.
        if let Some(other) = watch.filter(|watch| !watch.is_busy()).and_then(|watch| watch.others.concerned(raw, event))
        {
            (*record).event = event;
            other(raw, record);
            // It may have taken itself away, with what it takes for its own hook, or put another one there.
            if let Some(watch) = watch.filter(|_| !ffi::lua_gethook(raw).is_some_and(is_ours)) {
                watch.others.set(raw, None);
                caught(|| set_hook_of(watch, State::new(raw), watch.watching()));
            }
        } else if event == ffi::LUA_HOOKRET
            && let Some(watch) = watch.filter(|watch| watch.awaits_returns() && !watch.is_busy())
        {
            let mask = ffi::lua_gethookmask(raw);
            let_go(watch, raw, record);
            if ffi::lua_gethookmask(raw) != mask {
                // What is set for a thread is set for the function that runs, which this one is no more.
                watch_below(watch, raw, record);
            }
        }
    }
}

/// A function returns: if it is one that is waited for there, it may get another body. That is the last that is done in its frame, whose
/// place is one in the body before; where another hook is told of returns, nothing is done, as that may ask for it.
///
/// # Safety
/// As [`on_hook`], for the event of a return, with nothing left to do but to return.
unsafe fn let_go(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller; returns are waited for where the layout is known.
    let body = unsafe { layout::definition_of(layout::call_of(raw, record)) }.map(|held| held.prototype);
    caught(|| {
        if watch.is_awaited(body) {
            // SAFETY: as in `line`.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            watch.told(|told| told.lagging_returns(here.0, &here.1));
        }
    });
}

/// What is done for the watch at an event.
///
/// # Safety
/// As [`on_hook`], for an event of this kind.
#[inline]
unsafe fn on_event(watch: Option<&Watch>, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug, event: c_int) {
    if let Some(watch) = watch.filter(|watch| watch.bounds.is_limited()) {
        // This hook stands where the one of evaluations should: an interrupt has set it meanwhile, or the thread was there before.
        // SAFETY: `raw` is the running thread.
        caught(|| limit::reach(watch, unsafe { State::new(raw) }));
        return;
    }
    if let Some(watch) = watch
        && event == ffi::LUA_HOOKLINE
        && watch.is_gated()
    {
        // SAFETY: a line hook finds the line filled in.
        let line = u32::try_from(unsafe { (*record).currentline }).unwrap_or(0);
        // The most frequent case by far.
        if !watch.covers(line) {
            watch.leave_entry();
            return;
        }
    }
    // A hook set by an interrupt whose reason is gone, or inherited by a coroutine from a time when it was needed.
    if !watch.is_some_and(|watch| watch.is_watching() || watch.wants_attention()) {
        // SAFETY: `raw` is the running thread.
        unsafe {
            match watch {
                Some(watch) => take_away(watch, raw),
                None => ffi::lua_sethook(raw, None, 0, 0),
            }
            watch.inspect(|watch| look_again(watch, raw));
        }
        return;
    }
    let Some(watch) = watch else { return };
    if watch.is_busy() {
        return;
    }
    // SAFETY: as above.
    unsafe { tell(watch, raw, record, event) };
}

/// Tells of an event by its kind, and gives up what is to be given up.
///
/// # Safety
/// As [`on_hook`], for an event of this kind.
#[inline]
unsafe fn tell(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug, event: c_int) {
    // SAFETY: given by the caller; each is called for its own kind of event. Nothing is owned here when an error is raised.
    unsafe {
        if event == ffi::LUA_HOOKCALL && watch.bounds.is_open() {
            let mut refused = None;
            caught(|| refused = limit::called_openly(watch, raw, record));
            if let Some(why) = refused {
                ffi::lua_pushstring(raw, why.as_ptr());
                ffi::lua_error(raw);
            }
        }
        match event {
            ffi::LUA_HOOKLINE => line(watch, raw, record),
            ffi::LUA_HOOKRET => returned(watch, raw, record),
            ffi::LUA_HOOKCOUNT if !watch.runs_openly() && !watch.is_abandoning() => {}
            ffi::LUA_HOOKCOUNT => looked_up(watch, raw),
            // A return from where a tail call was made.
            ffi::LUA_HOOKTAILCALL if Version::TAIL_CALL.is_some() => {}
            _ => called(watch, raw, record),
        }
        if watch.is_abandoning() {
            let is_inner = watch.bounds.is_open() && !watch.bounds.is_base(State::new(raw));
            if is_inner && event == ffi::LUA_HOOKCOUNT && ffi::lua_isyieldable(raw) != 0 {
                // A coroutine of the script stays what it is: only the call that resumed it is given up.
                ffi::lua_yieldk(raw, 0, 0, None);
                return;
            }
            abandon(raw);
        }
    }
}

/// Runs `work`; a fault in it must not reach Lua, and comes to nothing.
pub(crate) fn caught<T>(work: impl FnOnce() -> T) -> Option<T> {
    let outcome = catch_unwind(AssertUnwindSafe(work));
    if outcome.is_err() {
        tracing::error!("a fault inside the debugger was caught; the script goes on");
    }
    outcome.ok()
}

/// # Safety
/// As [`on_hook`], for the event of a line.
#[inline]
unsafe fn line(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller: a line hook finds the line filled in.
    let line = u32::try_from(unsafe { (*record).currentline }).unwrap_or(0);
    let was_interrupted = watch.wants_attention();
    if was_interrupted {
        watch.note_interrupted();
    }
    if !was_interrupted && watch.compares_at(line) {
        // SAFETY: given by the caller: the record is of the function that runs on the thread.
        let (state, definition) = unsafe {
            let is_known = layout::is_known();
            (State::new(raw), is_known.then(|| layout::definition_of(layout::call_of(raw, record))).flatten())
        };
        if caught(|| watch.told(|told| told.passes_line(state, definition, line))).flatten() == Some(true) {
            watch.leave_entry();
            return;
        }
    }
    if watch.covers(line) {
        caught(|| {
            // SAFETY: the thread runs for as long as the hook does, and the record is of its innermost function.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            watch.tell_of_line(true, |told| told.line_reached(here.0, &here.1, line));
        });
    }
    watch.leave_entry();
    let is_narrow = watch.is_gated() || watch.confined.is_under_way();
    if was_interrupted && is_narrow && !watch.wants_attention() && !watch.is_abandoning() {
        // The interrupt has set what no gate needs, nor a call that is stepped over.
        // SAFETY: given by the caller.
        caught(|| set_hook_of(watch, unsafe { State::new(raw) }, watch.watching()));
    }
}

/// # Safety
/// As [`on_hook`], for the event of a call.
#[inline]
unsafe fn called(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller.
    let (call, is_tail) = unsafe { (layout::call_of(raw, record), is_tail_call(raw, record)) };
    let (place, identity) = if is_tail && Version::TAIL_CALLS_MOVE && layout::is_known() {
        // SAFETY: as above; its caller is below, and the function runs there in a moment.
        unsafe {
            let below = layout::call_below(raw, call);
            (below, layout::identity_of_call(raw, below))
        }
    } else {
        // SAFETY: as above.
        (call, unsafe { layout::identity_of(raw, record) })
    };
    // SAFETY: as above.
    if unsafe { one_call::called(watch, raw, place) } {
        return;
    }
    // SAFETY: as above; the layout is known where calls are looked at for little.
    if watch.looks_at_calls() && !watch.passes_call(identity, || unsafe { layout::native_of_call(call) }) {
        caught(|| {
            // SAFETY: as in `line`.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            watch.told(|told| told.call_begun(here.0, &here.1, identity, is_tail));
        });
    }
    if !watch.is_gated() {
        return;
    }
    // SAFETY: given by the caller; a gate is only used where the layout is known.
    unsafe {
        match holds(watch, raw, record, call) {
            Some(true) => {
                watch.enter(identity);
                set_mask(watch, raw, IN_WATCHED);
            }
            Some(false) if ffi::lua_gethookmask(raw) & ffi::LUA_MASKLINE != 0 => set_mask(watch, raw, BELOW_WATCHED),
            _ => {}
        }
    }
}

/// Whether a function is called in the place of its caller.
///
/// # Safety
/// As [`called`].
#[inline]
unsafe fn is_tail_call(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) -> bool {
    // SAFETY: given by the caller; a call has one below it, which is of a function on this stack unless it is the one at the bottom.
    unsafe {
        let Some(instruction) = Version::TAIL_CALL else { return (*record).event == ffi::LUA_HOOKTAILCALL };
        if !layout::is_known() {
            return false;
        }
        let call = layout::call_of(raw, record);
        let below = layout::call_below(raw, call);
        let calls = |below| layout::definition_of(below).is_some() && layout::is_at(raw, below, instruction);
        layout::definition_of(call).is_some() && !layout::call_below(raw, below).is_null() && calls(below)
    }
}

/// # Safety
/// As [`on_hook`], for the event of a return.
#[inline]
unsafe fn returned(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller.
    if unsafe { one_call::returned(watch, raw, layout::call_of(raw, record), EVERY) } {
        return;
    }
    if watch.looks_at_returns() {
        caught(|| {
            // SAFETY: as in `line`.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            // SAFETY: as above.
            watch.told(|told| told.call_ends(here.0, &here.1, unsafe { layout::identity_of(raw, record) }));
        });
    }
    if watch.is_gated() {
        // SAFETY: given by the caller.
        unsafe { watch_gate_below(watch, raw) };
    }
}

/// Watches what is to be watched in the function that is returned to.
///
/// # Safety
/// As [`returned`].
unsafe fn watch_below(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller.
    unsafe {
        if !one_call::returned(watch, raw, layout::call_of(raw, record), EVERY) && watch.is_gated() {
            watch_gate_below(watch, raw);
        }
    }
}

/// The same where a gate stands.
///
/// # Safety
/// As [`returned`], where the layout is known.
unsafe fn watch_gate_below(watch: &Watch, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller; what is below is a function on this stack.
    unsafe {
        let Some(mut below) = State::new(raw).level(1) else {
            set_mask(watch, raw, AT_GATE);
            return;
        };
        let call = below.record_of_call();
        let mask = match holds(watch, raw, below.record_mut(), call) {
            None => return,
            Some(true) => IN_WATCHED,
            Some(false) => BELOW_WATCHED,
        };
        set_mask(watch, raw, mask);
    }
}

/// Watches other events from here on. Setting a hook walks the whole stack, so that it is not done needlessly.
///
/// # Safety
/// `raw` is the running thread.
#[inline]
pub(super) unsafe fn set_mask(watch: &Watch, raw: *mut ffi::lua_State, mask: c_int) {
    let mask = mask | returns_awaited(watch);
    let (mask, count) = if watch.runs_openly() { (mask | LOOKING_UP, LOOK_UP_INSTRUCTIONS) } else { (mask, 0) };
    // SAFETY: given by the caller.
    unsafe {
        if ffi::lua_gethookmask(raw) != watch.others.joined(raw, mask, count).0 {
            put(watch, raw, mask, count);
            look_again(watch, raw);
        }
    }
}

/// Between instructions of a call that a person asked for: whether it is still wanted.
///
/// # Safety
/// As [`on_hook`].
unsafe fn looked_up(watch: &Watch, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    caught(|| finalizers::limit_finalizers(watch, unsafe { State::new(raw) }));
    if watch.bounds.spend(0) {
        caught(|| watch.abandon());
        return;
    }
    // SAFETY: `raw` is the running thread.
    unsafe {
        let mask = ffi::lua_gethookmask(raw);
        if watch.wants_attention() {
            put(watch, raw, ffi::LUA_MASKLINE | ffi::LUA_MASKCOUNT, LOOK_UP_INSTRUCTIONS);
        } else if ffi::lua_gethookcount(raw) == 1 {
            // An interrupt has asked for this one look.
            put(watch, raw, mask, LOOK_UP_INSTRUCTIONS);
            look_again(watch, raw);
        }
    }
}

/// No function with a breakpoint is on the stack.
const AT_GATE: c_int = ffi::LUA_MASKCALL;
/// One is, and another function runs, called from it.
const BELOW_WATCHED: c_int = ffi::LUA_MASKCALL | ffi::LUA_MASKRET;
/// Where every line counts.
const EVERY: c_int = LINES | CALLS | RETURNS;
/// A function with a breakpoint runs.
const IN_WATCHED: c_int = ffi::LUA_MASKCALL | ffi::LUA_MASKRET | ffi::LUA_MASKLINE;

/// Whether the function of a call holds a breakpoint; `None` for one that is not written in Lua.
///
/// # Safety
/// The layout is known, and `record` and `call` are those of a function on this thread's stack.
#[inline]
unsafe fn holds(
    watch: &Watch,
    raw: *mut ffi::lua_State,
    record: *mut ffi::lua_Debug,
    call: *const c_void,
) -> Option<bool> {
    // SAFETY: given by the caller.
    let definition = unsafe { layout::definition_of(call) }?;
    Some(watch.gate_holds(&definition).unwrap_or_else(|| {
        // SAFETY: as above.
        let (state, here) = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
        let answer = catch_unwind(AssertUnwindSafe(|| watch.learn_gate(state, &here, definition)));
        answer.unwrap_or(true)
    }))
}

/// Raises, at every instruction from here on, until the host is reached: no `pcall` of the script can swallow that.
///
/// # Safety
/// `raw` is the running thread; nothing in the frames up to Lua owns anything.
pub(super) unsafe fn abandon(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe {
        // Once is enough: setting a hook walks the whole stack.
        if ffi::lua_gethookcount(raw) != 1 || ffi::lua_gethookmask(raw) != ffi::LUA_MASKCOUNT {
            ffi::lua_sethook(raw, Some(on_hook), ffi::LUA_MASKCOUNT, 1);
        }
        limit::raise_through(raw, c"the handler was given up by the debugger");
    }
}

/// How lines, calls and returns are watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) enum Watching {
    #[default]
    Nothing,
    /// These events, in every function.
    Events(c_int),
    /// Lines only in functions that hold a breakpoint, which are found at their calls.
    Gated,
    /// Every instruction raises.
    Abandoning,
}

/// All that [`Watching::Events`] can hold.
pub(crate) const LINES: c_int = ffi::LUA_MASKLINE;
pub(crate) const CALLS: c_int = ffi::LUA_MASKCALL;
pub(crate) const RETURNS: c_int = ffi::LUA_MASKRET;

/// What threads watch besides, while functions are waited for where they return.
fn returns_awaited(watch: &Watch) -> c_int {
    if watch.awaits_returns() { RETURNS } else { 0 }
}

/// Whether a hook is one of this crate.
pub(super) fn is_ours(held: ffi::lua_Hook) -> bool {
    held as *const () == on_hook as *const () || limit::is_ours(held as *const ())
}

/// Sets or removes the hook of a thread. While a call that a person asked for runs, every thread looks up now and then.
pub(crate) fn set_hook_of(watch: &Watch, state: State, how: Watching) {
    let looks_up = watch.runs_openly();
    let returns = returns_awaited(watch);
    // SAFETY: the thread is live.
    let put = |mask, count| unsafe { put(watch, state.raw(), mask, count) };
    let set = |mask| match looks_up {
        true => put(mask | returns | LOOKING_UP, LOOK_UP_INSTRUCTIONS),
        false => put(mask | returns, 0),
    };
    match how {
        Watching::Nothing if looks_up || returns != 0 => set(0),
        // SAFETY: as above.
        Watching::Nothing => unsafe { take_away(watch, state.raw()) },
        Watching::Events(mask) => set(watch.confined.mask(state.raw(), mask)),
        Watching::Gated => set(gated_mask(watch, state)),
        Watching::Abandoning => return put(ffi::LUA_MASKCOUNT, 1),
    }
    // SAFETY: the thread is live.
    unsafe { look_again(watch, state.raw()) };
}

/// Whether a thread that has our hook watches by it what it would if it were [set](set_hook_of) now, as far as that is told at once.
pub(crate) fn has_hook_of(watch: &Watch, state: State, how: Watching) -> bool {
    let Watching::Events(mask) = how else { return false };
    let mask = watch.others.joined(state.raw(), watch.confined.mask(state.raw(), mask), 0).0;
    // SAFETY: the thread is live.
    !watch.runs_openly() && !watch.awaits_returns() && unsafe { ffi::lua_gethookmask(state.raw()) } == mask
}

/// A signal may have asked for a look while the hook was being set, and been overruled: what asks is looked at afterwards.
///
/// # Safety
/// `raw` is a live thread of a state that this OS thread runs.
#[inline]
unsafe fn look_again(watch: &Watch, raw: *mut ffi::lua_State) {
    if watch.wants_attention() {
        // SAFETY: given by the caller.
        look_soon(watch, unsafe { State::new(raw) });
    }
}

/// What a gated thread has to watch at this moment, by the functions on its stack.
fn gated_mask(watch: &Watch, state: State) -> c_int {
    let mut mask = AT_GATE;
    state.for_each_level(|level, function| {
        // SAFETY: a gate is only used where the layout is known; the record is of a function on this stack.
        let held = unsafe {
            holds(watch, state.raw(), function.record_mut(), layout::call_of(state.raw(), function.record_mut()))
        };
        if held == Some(true) {
            mask = if level == 0 { IN_WATCHED } else { BELOW_WATCHED };
        }
        held != Some(true)
    });
    mask
}

/// Instructions of a call that a person asked for between two looks whether it is still wanted.
const LOOK_UP_INSTRUCTIONS: c_int = 1000;
/// What a thread watches besides while such a call runs: that, and which functions it calls.
const LOOKING_UP: c_int = ffi::LUA_MASKCOUNT | ffi::LUA_MASKCALL;

/// Watches lines from the next instruction on.
pub(crate) fn look_soon(watch: &Watch, thread: State) {
    // SAFETY: the thread is live: the main one, or one that runs.
    unsafe {
        watch.others.note(thread.raw());
        watch_from_signal(thread.raw());
    }
}

/// A thread may have no hook of ours, as the host says nothing of it: has it watch what it should from the next instruction on. Nothing
/// is asked of the engine but what a thread's hook is, for this is done in the midst of an allocation.
pub(super) fn meet(watch: &Watch, thread: State) {
    if thread.is_hooked_by_us() {
        return;
    }
    let raw = thread.raw();
    let wanted = match watch.watching() {
        Watching::Nothing => 0,
        Watching::Events(mask) => watch.confined.mask(raw, mask),
        // Which functions are on its stack is seen at their lines and returns.
        Watching::Gated => IN_WATCHED,
        Watching::Abandoning => return,
    };
    let lines = if watch.wants_attention() { LINES } else { 0 };
    let (looks_up, count) = if watch.runs_openly() { (LOOKING_UP, LOOK_UP_INSTRUCTIONS) } else { (0, 0) };
    let mask = wanted | lines | looks_up | returns_awaited(watch);
    if mask != 0 {
        // SAFETY: the thread is live.
        unsafe { put(watch, raw, mask, count) };
    }
}

/// From a signal handler on the script's own thread: watch lines from the next instruction on. Lua documents
/// `lua_sethook` as safe there (`ldebug.c`).
///
/// # Safety
/// `raw` is a thread, of a live state that belongs to the calling OS thread, that is kept alive.
pub(super) unsafe fn watch_from_signal(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller. What is evaluated keeps its limit; the script is asked as soon as it goes on itself.
    unsafe {
        let held = ffi::lua_gethook(raw).map_or(ptr::null(), |held| held as *const ());
        if !limit::is_ours(held) {
            // What is watched besides is not missed meanwhile. A call that a person asked for looks up at once, too.
            let is_on = held == on_hook as *const ();
            let mask = if is_on { ffi::lua_gethookmask(raw) } else { 0 };
            let looks_up = c_int::from(mask & ffi::LUA_MASKCOUNT != 0);
            new_line::set_hook_from_signal(raw, on_hook, mask | ffi::LUA_MASKLINE, looks_up);
        }
    }
}

/// From a signal handler on the script's own thread: has the hook called at the next instruction. False where another's hook stands, or
/// that of an evaluation.
///
/// # Safety
/// As [`watch_from_signal`].
pub(super) unsafe fn sample_from_signal(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller.
    unsafe {
        let held = ffi::lua_gethook(raw).map_or(ptr::null(), |held| held as *const ());
        let is_on = held == on_hook as *const ();
        if !is_on && !held.is_null() {
            return false;
        }
        let mask = if is_on { ffi::lua_gethookmask(raw) } else { 0 };
        new_line::set_hook_from_signal(raw, on_hook, mask | ffi::LUA_MASKCOUNT, 1);
        true
    }
}

/// Takes a sample that is due, and has the hook be what it was.
///
/// # Safety
/// As [`on_hook`].
#[cold]
unsafe fn sample(watch: &Watch, raw: *mut ffi::lua_State, event: c_int) {
    caught(|| {
        // SAFETY: the thread runs for as long as the hook does.
        let state = unsafe { State::new(raw) };
        // One that was asked for on a thread that did not run then finds nothing due, and ends here.
        let is_odd = event == ffi::LUA_HOOKCOUNT && !watch.runs_openly() && !watch.is_abandoning();
        if (watch.take_sample(state) || is_odd) && watch.is_watching() {
            set_hook_of(watch, state, watch.watching());
        }
    });
}
