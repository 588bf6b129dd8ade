//! What scripts can ask for by themselves: the global `adzeman`, with `stop`, `wait` and `say`. It stays when nobody watches any
//! more, and does nothing then.

use std::ffi::{CStr, c_int};
use std::ptr;
use std::time::Duration;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::hook::{caught, watch_of};
use super::state::State;
use super::watch::Attendant;

/// The name of the global.
pub(crate) const OFFERED: &str = "adzeman";

/// Its functions, by their names.
const FUNCTIONS: [(&CStr, ffi::lua_CFunction); 3] = [(c"stop", stop), (c"wait", wait), (c"say", say)];

/// All of this, by the names that scripts know it by.
pub(super) fn own() -> impl Iterator<Item = (String, usize)> {
    FUNCTIONS.map(|(name, function)| (format!("{OFFERED}.{}", name.to_string_lossy()), function as usize)).into_iter()
}

/// How long `adzeman.wait()` waits without a number of seconds.
const WAIT_FOR: f64 = 60.0;

/// Makes the global, unless the state has one of that name.
pub(crate) fn offer(state: State) -> Result<(), EngineError> {
    state.push_bytes(OFFERED.as_bytes())?;
    state.protect(make_global, 1, 0)
}

/// Given the name. Past metamethods: a state may refuse its scripts to make globals, or to ask for some that are not there.
unsafe extern "C-unwind" fn make_global(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by `protect` with a text; nothing owned here.
    unsafe {
        ffi::lua_pushglobaltable(raw);
        ffi::lua_pushvalue(raw, 1);
        if ffi::lua_rawget(raw, 2) == ffi::LUA_TNIL {
            ffi::lua_pushvalue(raw, 1);
            ffi::lua_createtable(raw, 0, 3);
            for (name, function) in FUNCTIONS {
                ffi::lua_pushcfunction(raw, function);
                ffi::lua_setfield(raw, -2, name.as_ptr());
            }
            ffi::lua_rawset(raw, 2);
        }
    }
    0
}

/// Asks who watches; nothing where nobody does, or a fault was caught.
///
/// # Safety
/// As [`watch_of`]; nothing in the frames up to Lua owns anything.
pub(super) unsafe fn ask<T>(raw: *mut ffi::lua_State, ask: impl FnOnce(&dyn Attendant, State) -> T) -> Option<T> {
    // SAFETY: given by the caller.
    let (watch, state) = unsafe { (watch_of(raw)?, State::new(raw)) };
    caught(|| watch.told(|told| ask(told, state))).flatten()
}

unsafe extern "C-unwind" fn stop(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here.
    unsafe { ask(raw, |told, state| told.stop_asked(state)) };
    0
}

unsafe extern "C-unwind" fn wait(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises.
    unsafe {
        let seconds = ffi::luaL_optnumber(raw, 1, WAIT_FOR);
        let limit = Duration::try_from_secs_f64(seconds).unwrap_or(Duration::ZERO);
        let is_there = ask(raw, |told, _| told.wait_asked(limit)).unwrap_or(false);
        ffi::lua_pushboolean(raw, c_int::from(is_there));
    }
    1
}

unsafe extern "C-unwind" fn say(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises.
    unsafe {
        if ask(raw, |told, _| told.is_attached()) == Some(true) {
            let last = ffi::lua_gettop(raw);
            push_texts(raw);
            ask(raw, |told, state| told.said(state, &joined(state, last)));
        }
    }
    0
}

/// Pushes the texts of all arguments.
///
/// # Safety
/// `raw` is the running thread; nothing in the frames up to Lua owns anything.
pub(super) unsafe fn push_texts(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe {
        let last = ffi::lua_gettop(raw);
        ffi::luaL_checkstack(raw, last.saturating_add(2), ptr::null());
        for argument in 1..=last {
            ffi::luaL_tolstring(raw, argument, ptr::null_mut());
        }
    }
}

/// The texts behind position `last` as one line, as `print` writes it.
pub(super) fn joined(state: State, last: c_int) -> String {
    let texts: Vec<_> = (last + 1..=state.top()).map(|argument| state.text_at(argument).unwrap_or_default()).collect();
    texts.join("\t") + "\n"
}
