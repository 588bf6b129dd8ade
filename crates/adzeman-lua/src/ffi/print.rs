//! A `print` that is reported while someone is attached, and otherwise the one that it replaces: the library's, or one that the host
//! has put in its place.
//!
//! What is written, what conversions run, in which order and with which errors is as without it: they are left to what it replaces.

use std::ffi::c_int;
use std::ptr;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::natives::library_print;
use super::offered::{ask, joined, push_texts};
use super::state::{Slot, State};

/// Both, by the name that scripts know them by.
pub(super) fn own() -> [(String, usize); 2] {
    [print as *const () as usize, print_of_host as *const () as usize].map(|address| ("print".to_owned(), address))
}

/// Puts it in place, for as long as the state lives.
///
/// # Errors
/// When the state has no memory left.
pub(crate) fn take_over(state: State) -> Result<(), EngineError> {
    unsafe extern "C-unwind" fn replace(raw: *mut ffi::lua_State) -> c_int {
        // SAFETY: called by `protect`; nothing owned here. Past metamethods: a state may refuse its scripts to ask for globals.
        unsafe {
            ffi::lua_pushglobaltable(raw);
            ffi::lua_pushstring(raw, c"print".as_ptr());
            ffi::lua_rawget(raw, 1);
            let address = ffi::lua_tocfunction(raw, 2).map_or(0, |native| native as usize);
            if ffi::lua_type(raw, 2) != ffi::LUA_TFUNCTION || own().iter().any(|(_, own)| *own == address) {
                return 0;
            }
            ffi::lua_pushstring(raw, c"print".as_ptr());
            if address != 0 && address == library_print() {
                ffi::lua_pushcfunction(raw, print);
            } else {
                ffi::lua_pushvalue(raw, 2);
                ffi::lua_rawsetp(raw, ffi::LUA_REGISTRYINDEX, Slot::HostPrint.key());
                ffi::lua_pushcfunction(raw, print_of_host);
            }
            ffi::lua_rawset(raw, 1);
        }
        0
    }
    state.protect(replace, 0, 0)
}

/// In the place of the library's, which runs in the same call.
unsafe extern "C-unwind" fn print(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises. The address is that of the library's function.
    unsafe {
        let Some(original) = super::natives::native(library_print()) else { return 0 };
        if ask(raw, |told, _| told.is_attached()) != Some(true) {
            return original(raw);
        }
        let last = ffi::lua_gettop(raw);
        let converts = (1..=last).any(|argument| has_conversion(raw, argument));
        if !converts {
            push_texts(raw);
            ask(raw, |told, state| told.printed(state, &joined(state, last)));
            ffi::lua_settop(raw, last);
            return original(raw);
        }
        ffi::luaL_checkstack(raw, last.saturating_add(4), ptr::null());
        for argument in 1..=last {
            if has_conversion(raw, argument) {
                listen_to(raw, argument);
            }
        }
        let results = original(raw);
        ffi::lua_settop(raw, last);
        for argument in 1..=last {
            // No other has a conversion any more.
            if has_conversion(raw, argument) {
                ffi::lua_getiuservalue(raw, argument, 1);
                ffi::lua_rawgeti(raw, -1, CONVERTED);
                ffi::lua_remove(raw, -2);
            } else {
                ffi::luaL_tolstring(raw, argument, ptr::null_mut());
            }
        }
        ask(raw, |told, state| told.printed(state, &joined(state, last)));
        ffi::lua_settop(raw, last);
        results
    }
}

/// What is kept in an object that stands for one with a conversion of its own, in a table.
const STANDS_FOR: ffi::lua_Integer = 1;
const CONVERTED: ffi::lua_Integer = 2;

/// Puts an object in the place of an argument that has a conversion of its own. It converts as that does, and keeps the text.
///
/// # Safety
/// `raw` runs, with room for four values; nothing in the frames up to Lua owns anything.
unsafe fn listen_to(raw: *mut ffi::lua_State, argument: c_int) {
    unsafe extern "C-unwind" fn convert(raw: *mut ffi::lua_State) -> c_int {
        // SAFETY: called by Lua with such an object; nothing owned here when it raises.
        unsafe {
            ffi::lua_getiuservalue(raw, 1, 1);
            ffi::lua_rawgeti(raw, -1, STANDS_FOR);
            ffi::luaL_tolstring(raw, -1, ptr::null_mut());
            ffi::lua_pushvalue(raw, -1);
            ffi::lua_rawseti(raw, -4, CONVERTED);
        }
        1
    }
    // SAFETY: given by the caller.
    unsafe {
        ffi::lua_newuserdatauv(raw, 0, 1);
        ffi::lua_createtable(raw, 2, 0);
        ffi::lua_pushvalue(raw, argument);
        ffi::lua_rawseti(raw, -2, STANDS_FOR);
        ffi::lua_setiuservalue(raw, -2, 1);
        ffi::lua_createtable(raw, 0, 1);
        ffi::lua_pushcfunction(raw, convert);
        ffi::lua_setfield(raw, -2, c"__tostring".as_ptr());
        ffi::lua_setmetatable(raw, -2);
        ffi::lua_copy(raw, -1, argument);
        ffi::lua_settop(raw, -2);
    }
}

/// Whether a value has a conversion of its own to a text.
///
/// # Safety
/// `raw` runs, with room for three values.
unsafe fn has_conversion(raw: *mut ffi::lua_State, argument: c_int) -> bool {
    // SAFETY: given by the caller; past metamethods, as `luaL_tolstring` looks it up.
    unsafe {
        let has = ffi::luaL_getmetafield(raw, argument, c"__tostring".as_ptr()) != ffi::LUA_TNIL;
        if has {
            ffi::lua_settop(raw, -2);
        }
        has
    }
}

/// In the place of one of the host's: given the same values. What converts itself is named by its type, so that it does so once.
unsafe extern "C-unwind" fn print_of_host(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises or yields.
    unsafe {
        let last = ffi::lua_gettop(raw);
        ffi::luaL_checkstack(raw, last.saturating_add(4), ptr::null());
        if ask(raw, |told, _| told.is_attached()) == Some(true) {
            for argument in 1..=last {
                if has_conversion(raw, argument) {
                    ffi::lua_pushfstring(raw, c"(%s)".as_ptr(), ffi::lua_typename(raw, ffi::lua_type(raw, argument)));
                } else {
                    ffi::luaL_tolstring(raw, argument, ptr::null_mut());
                }
            }
            ask(raw, |told, state| told.printed(state, &joined(state, last)));
            ffi::lua_settop(raw, last);
        }
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::HostPrint.key());
        ffi::lua_rotate(raw, 1, 1);
        ffi::lua_callk(raw, last, ffi::LUA_MULTRET, 0, Some(printed));
        ffi::lua_gettop(raw)
    }
}

unsafe extern "C-unwind" fn printed(raw: *mut ffi::lua_State, _: c_int, _: ffi::lua_KContext) -> c_int {
    // SAFETY: called by Lua with the results of the host's function.
    unsafe { ffi::lua_gettop(raw) }
}
