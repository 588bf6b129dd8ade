//! The hooks: one on lines, one that limits evaluations.

use std::cell::Cell;
use std::ffi::c_int;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::ptr;

use adzeman_core::engine::EngineError;
use mlua::ffi;

use super::activation::Activation;
use super::state::{Slot, State};
use crate::context::Context;

/// Instructions between two looks at the limit.
const LIMIT_STEP: u64 = 1000;

thread_local! {
    /// The main thread that a line hook last ran on, and its context. Only main threads are kept: they live as long as
    /// their context is registered, while a coroutine's address may come to mean another one.
    static LAST_MAIN: Cell<(*mut ffi::lua_State, *const Context)> = const { Cell::new((ptr::null_mut(), ptr::null())) };
}

/// Makes `context` the one that watches this state. It must be released by [`release`] before it is dropped.
pub(crate) fn register(state: State, context: &Context) -> Result<(), EngineError> {
    LAST_MAIN.set((ptr::null_mut(), ptr::null()));
    // SAFETY: pushing a pointer needs one slot, which every C API entry has; it is only read back by `context_of`.
    unsafe { ffi::lua_pushlightuserdata(state.raw(), ptr::from_ref(context).cast_mut().cast()) };
    state.set_slot(Slot::Engine)
}

/// Ends what [`register`] began; hooks still set on some thread remove themselves.
pub(crate) fn release(state: State) {
    LAST_MAIN.set((ptr::null_mut(), ptr::null()));
    state.push_nil();
    if let Err(error) = state.set_slot(Slot::Engine) {
        tracing::error!(%error, "the engine could not be taken out of the Lua state");
    }
}

/// The context that watches the state of `raw`.
///
/// # Safety
/// Called on the thread of the state, with room for one value; the answer is not kept beyond the call from Lua in which
/// it was asked for, so it cannot outlive the context, which is released before it is dropped.
pub(super) unsafe fn context_of<'a>(raw: *mut ffi::lua_State) -> Option<&'a Context> {
    // SAFETY: given by the caller; the slot holds nil or a pointer set by `register`.
    unsafe {
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Engine.key());
        let context = ffi::lua_touserdata(raw, -1).cast::<Context>();
        ffi::lua_settop(raw, -2);
        context.as_ref()
    }
}

/// As [`context_of`], without the look into the registry where that can be spared.
///
/// # Safety
/// As [`context_of`].
#[inline]
unsafe fn context_of_hook<'a>(raw: *mut ffi::lua_State) -> Option<&'a Context> {
    let (last, context) = LAST_MAIN.get();
    if last == raw {
        // SAFETY: the pair was noted on this thread, and is forgotten before its context is released.
        return unsafe { context.as_ref() };
    }
    // SAFETY: given by the caller.
    let context = unsafe { context_of(raw) };
    if let Some(context) = context.filter(|context| context.main.raw() == raw) {
        LAST_MAIN.set((raw, ptr::from_ref(context)));
    }
    context
}

unsafe extern "C-unwind" fn on_line(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: Lua calls hooks on the thread of the state, with the minimum of free stack, and with the record of the
    // running function, in which a line hook finds the line filled in.
    let (context, line) = unsafe { (context_of_hook(raw), (*record).currentline) };
    let line = u32::try_from(line).unwrap_or(0);
    let Some(context) = context else {
        // SAFETY: `raw` is the running thread.
        unsafe { ffi::lua_sethook(raw, None, 0, 0) };
        return;
    };
    if !context.covers(line) {
        if !context.is_hooked() {
            // Set by an interrupt whose reason is gone, or inherited by a coroutine from a time when it was needed.
            // SAFETY: `raw` is the running thread.
            unsafe { ffi::lua_sethook(raw, None, 0, 0) };
        }
        return;
    }
    let outcome = catch_unwind(AssertUnwindSafe(|| {
        // SAFETY: the thread runs for as long as the hook does, and the record is of its innermost function.
        let here = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
        context.line_reached(here.0, &here.1, line);
    }));
    if outcome.is_err() {
        tracing::error!("a fault inside the debugger was caught; the script goes on");
    }
}

/// Watches the lines of a thread, or stops watching them.
pub(crate) fn watch_lines(state: State, on: bool) {
    if on {
        state.set_hook(Some(on_line), ffi::LUA_MASKLINE, 0);
    } else {
        state.set_hook(None, 0, 0);
    }
}

/// From a signal handler on the script's own thread: watch lines from the next instruction on. Lua documents
/// `lua_sethook` as safe there (`ldebug.c`).
///
/// # Safety
/// `raw` is the main thread of a live state that belongs to the calling OS thread.
pub(super) unsafe fn watch_from_signal(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe { ffi::lua_sethook(raw, Some(on_line), ffi::LUA_MASKLINE, 0) };
}

unsafe extern "C-unwind" fn on_count(raw: *mut ffi::lua_State, _: *mut ffi::lua_Debug) {
    // SAFETY: as in `on_line`. Nothing in this frame owns anything when the error is raised.
    unsafe {
        let Some(context) = context_of(raw) else { return };
        if !context.spend(LIMIT_STEP) {
            // At every instruction from now on, so that no `pcall` in the evaluated code can swallow the error and go on.
            ffi::lua_sethook(raw, Some(on_count), ffi::LUA_MASKCOUNT, 1);
            ffi::lua_pushstring(raw, c"the evaluation took too long".as_ptr());
            ffi::lua_error(raw);
        }
    }
}

/// Limits what runs on a fresh thread; coroutines made there inherit the limit.
pub(crate) fn limit(state: State) {
    state.set_hook(Some(on_count), ffi::LUA_MASKCOUNT, c_int::try_from(LIMIT_STEP).unwrap_or(c_int::MAX));
}
