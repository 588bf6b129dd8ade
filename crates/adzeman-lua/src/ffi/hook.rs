//! The hook on lines, calls and returns. The one that limits evaluations is in [`limit`](super::limit).
//!
//! A breakpoint on a line needs the line hook in the functions that hold one. Everywhere else a call hook stands as a gate:
//! it compares the function's definition with the answers kept ([`gate`](super::gate)), and turns lines on for as long as
//! such a function runs itself. From the first of them on, returns are watched too, so that lines come on again when it
//! is returned to, until the stack is empty.

use std::cell::Cell;
use std::ffi::{c_int, c_void};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::ptr;

use adzeman_core::engine::EngineError;
use mlua::ffi;

use super::activation::Activation;
use super::state::{Slot, State};
use super::{layout, limit};
use crate::context::Context;

thread_local! {
    /// The state that a hook last ran in, as [`layout::state_of`] tells it, and its context; kept only while the context is
    /// registered.
    static LAST: Cell<(usize, *const Context)> = const { Cell::new((0, ptr::null())) };
}

/// Makes `context` the one that watches this state. It must be released by [`release`] before it is dropped.
pub(crate) fn register(state: State, context: &Context) -> Result<(), EngineError> {
    LAST.set((0, ptr::null()));
    // SAFETY: pushing a pointer needs one slot, which every C API entry has; it is only read back by `look_up_context`.
    unsafe { ffi::lua_pushlightuserdata(state.raw(), ptr::from_ref(context).cast_mut().cast()) };
    state.set_slot(Slot::Engine)
}

/// Ends what [`register`] began; hooks still set on some thread remove themselves.
pub(crate) fn release(state: State) {
    LAST.set((0, ptr::null()));
    state.push_nil();
    if let Err(error) = state.set_slot(Slot::Engine) {
        tracing::error!(%error, "the engine could not be taken out of the Lua state");
    }
}

/// As [`context_of`], by the registry.
///
/// # Safety
/// As [`context_of`], with room for one value.
unsafe fn look_up_context<'a>(raw: *mut ffi::lua_State) -> Option<&'a Context> {
    // SAFETY: given by the caller; the slot holds nil or a pointer set by `register`.
    unsafe {
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Engine.key());
        let context = ffi::lua_touserdata(raw, -1).cast::<Context>();
        ffi::lua_settop(raw, -2);
        context.as_ref()
    }
}

/// The context that watches the state of `raw`.
///
/// # Safety
/// Called on the thread of the state, with room for one value; the answer is not kept beyond the call from Lua in which
/// it was asked for, so it cannot outlive the context, which is released before it is dropped.
#[inline]
pub(super) unsafe fn context_of<'a>(raw: *mut ffi::lua_State) -> Option<&'a Context> {
    if !layout::is_known() {
        // SAFETY: given by the caller.
        return unsafe { look_up_context(raw) };
    }
    // SAFETY: given by the caller.
    let state = unsafe { layout::state_of(raw) };
    let (last, context) = LAST.get();
    if last == state {
        // SAFETY: the pair was noted on this thread, and is forgotten before its context is released.
        return unsafe { context.as_ref() };
    }
    // SAFETY: given by the caller.
    let context = unsafe { look_up_context(raw) };
    if let Some(context) = context {
        LAST.set((state, ptr::from_ref(context)));
    }
    context
}

/// The one hook for lines, calls and returns.
unsafe extern "C-unwind" fn on_hook(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: Lua calls hooks on the thread of the state, with the minimum of free stack, and with the record of the
    // running function, in which the kind of the event is filled in.
    let (context, event) = unsafe { (context_of(raw), (*record).event) };
    if let Some(context) = context.filter(|context| context.bounds.is_limited()) {
        // This hook stands where the one of evaluations should: an interrupt has set it meanwhile, or the thread was there before.
        // SAFETY: `raw` is the running thread.
        caught(|| limit::reach(context, unsafe { State::new(raw) }));
        return;
    }
    if let Some(context) = context
        && event == ffi::LUA_HOOKLINE
        && context.is_gated()
    {
        // SAFETY: a line hook finds the line filled in.
        let line = u32::try_from(unsafe { (*record).currentline }).unwrap_or(0);
        // The most frequent case by far.
        if !context.covers(line) {
            context.leave_entry();
            return;
        }
    }
    // A hook set by an interrupt whose reason is gone, or inherited by a coroutine from a time when it was needed.
    let Some(context) = context.filter(|context| context.is_watching() || context.wants_attention()) else {
        // SAFETY: `raw` is the running thread.
        unsafe { ffi::lua_sethook(raw, None, 0, 0) };
        return;
    };
    if context.is_busy() {
        return;
    }
    // SAFETY: as above; each is called for its own kind of event. Nothing is owned here when an error is raised.
    unsafe {
        if event == ffi::LUA_HOOKCALL && context.bounds.is_open() {
            let mut refused = None;
            caught(|| refused = limit::called_openly(context, raw, record));
            if let Some(why) = refused {
                ffi::lua_pushstring(raw, why.as_ptr());
                ffi::lua_error(raw);
            }
        }
        match event {
            ffi::LUA_HOOKLINE => line(context, raw, record),
            ffi::LUA_HOOKRET => returned(context, raw, record),
            ffi::LUA_HOOKCOUNT => looked_up(context, raw),
            _ => called(context, raw, record),
        }
        if context.is_abandoning() {
            let is_inner = context.bounds.is_open() && !context.bounds.is_base(State::new(raw));
            if is_inner && event == ffi::LUA_HOOKCOUNT && ffi::lua_isyieldable(raw) != 0 {
                // A coroutine of the script stays what it is: only the call that resumed it is given up.
                ffi::lua_yieldk(raw, 0, 0, None);
                return;
            }
            abandon(raw);
        }
    }
}

/// Runs `work`; a fault in it must not reach Lua.
pub(super) fn caught(work: impl FnOnce()) {
    if catch_unwind(AssertUnwindSafe(work)).is_err() {
        tracing::error!("a fault inside the debugger was caught; the script goes on");
    }
}

/// # Safety
/// As [`on_hook`], for the event of a line.
#[inline]
unsafe fn line(context: &Context, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller: a line hook finds the line filled in.
    let line = u32::try_from(unsafe { (*record).currentline }).unwrap_or(0);
    if context.covers(line) {
        caught(|| {
            // SAFETY: the thread runs for as long as the hook does, and the record is of its innermost function.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            context.line_reached(here.0, &here.1, line);
        });
    }
    context.leave_entry();
}

/// # Safety
/// As [`on_hook`], for the event of a call.
#[inline]
unsafe fn called(context: &Context, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: given by the caller.
    let call = unsafe { layout::call_of(record) };
    if context.looks_at_calls() {
        caught(|| {
            // SAFETY: as in `line`.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            context.call_begun(here.0, &here.1, call as usize);
        });
    }
    if !context.is_gated() {
        return;
    }
    // SAFETY: given by the caller; a gate is only used where the layout is known.
    unsafe {
        match holds(context, raw, record, call) {
            Some(true) => {
                context.enter(call as usize);
                set_mask(context, raw, IN_WATCHED);
            }
            Some(false) if ffi::lua_gethookmask(raw) & ffi::LUA_MASKLINE != 0 => set_mask(context, raw, BELOW_WATCHED),
            _ => {}
        }
    }
}

/// # Safety
/// As [`on_hook`], for the event of a return.
#[inline]
unsafe fn returned(context: &Context, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    if context.looks_at_returns() {
        caught(|| {
            // SAFETY: as in `line`.
            let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
            // SAFETY: as above.
            context.call_ends(here.0, &here.1, unsafe { layout::call_of(record) } as usize);
        });
    }
    if !context.is_gated() {
        return;
    }
    // SAFETY: given by the caller; the record below is filled in for a level that is there.
    unsafe {
        let mut below = std::mem::zeroed::<ffi::lua_Debug>();
        if ffi::lua_getstack(raw, 1, &raw mut below) == 0 {
            set_mask(context, raw, AT_GATE);
            return;
        }
        let mask = match holds(context, raw, &raw mut below, layout::call_of(&raw const below)) {
            None => return,
            Some(true) => IN_WATCHED,
            Some(false) => BELOW_WATCHED,
        };
        set_mask(context, raw, mask);
    }
}

/// Watches other events from here on. Setting a hook walks the whole stack, so that it is not done needlessly.
///
/// # Safety
/// `raw` is the running thread.
#[inline]
unsafe fn set_mask(context: &Context, raw: *mut ffi::lua_State, mask: c_int) {
    let (mask, count) = if context.runs_openly() { (mask | LOOKING_UP, LOOK_UP_INSTRUCTIONS) } else { (mask, 0) };
    // SAFETY: given by the caller.
    unsafe {
        if ffi::lua_gethookmask(raw) != mask {
            ffi::lua_sethook(raw, Some(on_hook), mask, count);
        }
    }
}

/// Between instructions of a call that a person asked for: whether it is still wanted.
///
/// # Safety
/// As [`on_hook`].
unsafe fn looked_up(context: &Context, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    caught(|| limit::limit_finalizers(context, unsafe { State::new(raw) }));
    if context.bounds.spend(0) {
        caught(|| context.abandon());
        return;
    }
    // SAFETY: `raw` is the running thread.
    unsafe {
        let mask = ffi::lua_gethookmask(raw);
        if context.wants_attention() {
            ffi::lua_sethook(raw, Some(on_hook), ffi::LUA_MASKLINE | ffi::LUA_MASKCOUNT, LOOK_UP_INSTRUCTIONS);
        } else if ffi::lua_gethookcount(raw) == 1 {
            // An interrupt has asked for this one look.
            ffi::lua_sethook(raw, Some(on_hook), mask, LOOK_UP_INSTRUCTIONS);
        }
    }
}

/// No function with a breakpoint is on the stack.
const AT_GATE: c_int = ffi::LUA_MASKCALL;
/// One is, and another function runs, called from it.
const BELOW_WATCHED: c_int = ffi::LUA_MASKCALL | ffi::LUA_MASKRET;
/// A function with a breakpoint runs.
const IN_WATCHED: c_int = ffi::LUA_MASKCALL | ffi::LUA_MASKRET | ffi::LUA_MASKLINE;

/// Whether the function of a call holds a breakpoint; `None` for one that is not written in Lua.
///
/// # Safety
/// The layout is known, and `record` and `call` are those of a function on this thread's stack.
#[inline]
unsafe fn holds(
    context: &Context,
    raw: *mut ffi::lua_State,
    record: *mut ffi::lua_Debug,
    call: *const c_void,
) -> Option<bool> {
    // SAFETY: given by the caller.
    let definition = unsafe { layout::definition_of(call) }?;
    Some(context.gate_holds(&definition).unwrap_or_else(|| {
        // SAFETY: as above.
        let (state, here) = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
        let answer = catch_unwind(AssertUnwindSafe(|| context.learn_gate(state, &here, definition)));
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

/// Whether a hook is one of this crate.
pub(super) fn is_ours(held: ffi::lua_Hook) -> bool {
    held as *const () == on_hook as *const () || limit::is_ours(held as *const ())
}

/// Sets or removes the hook of a thread. While a call that a person asked for runs, every thread looks up now and then.
pub(crate) fn watch(context: &Context, state: State, how: Watching) {
    let looks_up = context.runs_openly();
    let set = |mask| match looks_up {
        true => state.set_hook(Some(on_hook), mask | LOOKING_UP, LOOK_UP_INSTRUCTIONS),
        false => state.set_hook(Some(on_hook), mask, 0),
    };
    match how {
        Watching::Nothing if looks_up => set(0),
        Watching::Nothing => state.set_hook(None, 0, 0),
        Watching::Events(mask) => set(mask),
        Watching::Gated => set(gated_mask(context, state)),
        Watching::Abandoning => state.set_hook(Some(on_hook), ffi::LUA_MASKCOUNT, 1),
    }
}

/// What a gated thread has to watch at this moment, by the functions on its stack.
fn gated_mask(context: &Context, state: State) -> c_int {
    let mut mask = AT_GATE;
    state.for_each_level(|level, function| {
        // SAFETY: a gate is only used where the layout is known; the record is of a function on this stack.
        let held =
            unsafe { holds(context, state.raw(), function.record_mut(), layout::call_of(function.record_mut())) };
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
pub(crate) fn look_soon(thread: State) {
    // SAFETY: the thread is live: the main one, or one that runs.
    unsafe { watch_from_signal(thread.raw()) };
}

/// From a signal handler on the script's own thread: watch lines from the next instruction on. Lua documents
/// `lua_sethook` as safe there (`ldebug.c`).
///
/// # Safety
/// `raw` is a thread, of a live state that belongs to the calling OS thread, that is kept alive.
pub(super) unsafe fn watch_from_signal(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller. What is evaluated keeps its limit; the script is asked as soon as it goes on itself.
    unsafe {
        if !ffi::lua_gethook(raw).is_some_and(|held| limit::is_ours(held as *const ())) {
            // A call that a person asked for looks up at once, too.
            let looks_up = ffi::lua_gethookmask(raw) & ffi::LUA_MASKCOUNT;
            ffi::lua_sethook(raw, Some(on_hook), ffi::LUA_MASKLINE | looks_up, c_int::from(looks_up != 0));
        }
    }
}
