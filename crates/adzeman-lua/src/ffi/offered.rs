//! What scripts can ask for by themselves: the global `adzeman`, with `stop`, `wait` and `say`; and a `print` that is reported.
//! All of it stays when nobody watches any more, and does nothing but what it did before then.

use std::ffi::{CStr, c_int};
use std::ptr;
use std::time::Duration;

use adzeman_core::engine::EngineError;
use mlua::ffi;

use super::hook::{caught, watch_of};
use super::state::State;
use super::watch::Attendant;

/// The name of the global.
pub(crate) const OFFERED: &str = "adzeman";

/// Its functions, by their names.
const FUNCTIONS: [(&CStr, ffi::lua_CFunction); 3] = [(c"stop", stop), (c"wait", wait), (c"say", say)];

/// All of this, by the names that scripts know it by. What `print` replaces is a call of its own.
pub(super) fn own() -> impl Iterator<Item = (String, usize)> {
    let functions =
        FUNCTIONS.map(|(name, function)| (format!("{OFFERED}.{}", name.to_string_lossy()), function as usize));
    functions.into_iter().chain([("print".to_owned(), print as *const () as usize)])
}

/// How long `adzeman.wait()` waits without a number of seconds.
const WAIT_FOR: f64 = 60.0;

/// Makes the global, unless the state has one of that name, and has `print` reported, if there is one.
pub(crate) fn offer(state: State) -> Result<(), EngineError> {
    state.push_bytes(OFFERED.as_bytes())?;
    state.protect(make_global, 1, 0)?;
    if state.protect(take_over_print, 0, 0).is_err() {
        tracing::info!("what scripts print is not reported: this state has no print that could be replaced");
    }
    Ok(())
}

/// Given the name. Past metamethods: a state may refuse its scripts to make globals, or to ask for some that are not there.
unsafe extern "C-unwind" fn make_global(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by `protect` with a text; nothing owned here.
    unsafe {
        ffi::lua_rawgeti(raw, ffi::LUA_REGISTRYINDEX, ffi::LUA_RIDX_GLOBALS);
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

unsafe extern "C-unwind" fn take_over_print(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by `protect`; nothing owned here.
    unsafe {
        ffi::lua_rawgeti(raw, ffi::LUA_REGISTRYINDEX, ffi::LUA_RIDX_GLOBALS);
        let is_function = ffi::lua_getfield(raw, 1, c"print".as_ptr()) == ffi::LUA_TFUNCTION;
        let is_ours = ffi::lua_tocfunction(raw, 2).is_some_and(|native| native as usize == print as *const () as usize);
        if is_function && !is_ours {
            ffi::lua_pushcclosure(raw, print, 1);
            ffi::lua_setfield(raw, 1, c"print".as_ptr());
        }
    }
    0
}

/// Asks who watches; nothing where nobody does, or a fault was caught.
///
/// # Safety
/// As [`watch_of`]; nothing in the frames up to Lua owns anything.
unsafe fn ask<T>(raw: *mut ffi::lua_State, ask: impl FnOnce(&dyn Attendant, State) -> T) -> Option<T> {
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
            make_texts(raw);
            ask(raw, |told, state| told.said(state, &joined(state)));
        }
    }
    0
}

/// With what it replaces as captured value. Arguments are made texts once, as the library's does.
unsafe extern "C-unwind" fn print(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises or yields.
    unsafe {
        if ask(raw, |told, _| told.is_attached()) == Some(true) {
            make_texts(raw);
            ask(raw, |told, state| told.printed(state, &joined(state)));
        }
        let arguments = ffi::lua_gettop(raw);
        ffi::luaL_checkstack(raw, 1, ptr::null());
        ffi::lua_pushvalue(raw, ffi::lua_upvalueindex(1));
        ffi::lua_rotate(raw, 1, 1);
        ffi::lua_callk(raw, arguments, 0, 0, Some(printed));
    }
    0
}

unsafe extern "C-unwind" fn printed(_: *mut ffi::lua_State, _: c_int, _: ffi::lua_KContext) -> c_int {
    0
}

/// Makes texts of all arguments.
///
/// # Safety
/// `raw` is the running thread; nothing in the frames up to Lua owns anything.
unsafe fn make_texts(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe {
        ffi::luaL_checkstack(raw, 1, ptr::null());
        for argument in 1..=ffi::lua_gettop(raw) {
            ffi::luaL_tolstring(raw, argument, ptr::null_mut());
            ffi::lua_copy(raw, -1, argument);
            ffi::lua_settop(raw, -2);
        }
    }
}

/// The texts on the stack as one line, as `print` writes it.
fn joined(state: State) -> String {
    let texts: Vec<_> = (1..=state.top()).map(|argument| state.text_at(argument).unwrap_or_default()).collect();
    texts.join("\t") + "\n"
}
