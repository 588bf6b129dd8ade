//! The functions below an evaluation on its thread, which catch whatever is raised.

use std::ffi::c_int;
use std::ptr;

use super::api as ffi;

use super::natives;

/// The function below an evaluation on its thread: whatever is raised is caught here, while hooks still fire, so that what is
/// left to be closed is closed under the limit. Answers the status of the call (`LUA_OK` and so on), and what it returned or
/// raised.
pub(crate) unsafe extern "C-unwind" fn guard(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by `lua_resume` with a function and its arguments; nothing owned here.
    unsafe {
        let arguments = ffi::lua_gettop(raw) - 1;
        let status = ffi::lua_pcallk(raw, arguments, ffi::LUA_MULTRET, 0, 0, Some(guarded));
        guarded(raw, status, 0)
    }
}

/// The same for a call that runs as the script would: what is raised is reported where it is raised.
pub(crate) unsafe extern "C-unwind" fn guard_and_report(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as in `guard`.
    unsafe {
        let arguments = ffi::lua_gettop(raw) - 1;
        ffi::lua_pushcfunction(raw, natives::on_uncaught);
        ffi::lua_rotate(raw, 1, 1);
        let status = ffi::lua_pcallk(raw, arguments, ffi::LUA_MULTRET, 1, 1, Some(guarded));
        guarded(raw, status, 1)
    }
}

/// `below` values on the stack are not what the call left.
unsafe extern "C-unwind" fn guarded(raw: *mut ffi::lua_State, status: c_int, below: ffi::lua_KContext) -> c_int {
    // SAFETY: called by Lua, or by the two functions above, with what the call left.
    unsafe {
        if below > 0 {
            ffi::lua_rotate(raw, 1, -1);
            ffi::lua_settop(raw, -2);
        }
        let status = if status == ffi::LUA_YIELD { ffi::LUA_OK } else { status };
        ffi::luaL_checkstack(raw, 1, ptr::null());
        ffi::lua_pushinteger(raw, status.into());
        ffi::lua_rotate(raw, 1, 1);
        ffi::lua_gettop(raw)
    }
}

/// What [`guard`] answered for a call that failed for want of memory.
pub(crate) const OUT_OF_MEMORY: i64 = ffi::LUA_ERRMEM as i64;

/// The same for one that did not fail.
pub(crate) const DONE: i64 = ffi::LUA_OK as i64;
