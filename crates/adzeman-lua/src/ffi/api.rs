//! The C API as Lua 5.4 and 5.5 have it. What an older version has not is made here of what it has.

use std::ffi::c_int;

pub(crate) use mlua::ffi::*;

/// The name of the chunk of a function whose `S` was filled in.
///
/// # Safety
/// `record` was filled in by Lua with `S`, and its function lives for as long as the name is looked at.
pub(crate) unsafe fn chunk_name<'a>(record: *const lua_Debug) -> &'a [u8] {
    // SAFETY: given by the caller.
    unsafe {
        #[cfg(any(feature = "lua54", feature = "lua55"))]
        return std::slice::from_raw_parts((*record).source.cast(), (*record).srclen);
        // It ends at the first zero for whoever asks.
        #[cfg(not(any(feature = "lua54", feature = "lua55")))]
        std::ffi::CStr::from_ptr((*record).source).to_bytes()
    }
}

/// What a function, at its return, hands back, where `r` was filled in: the numbers of the first of these values, as of a local, and how
/// many; nothing where the version does not tell.
pub(crate) fn transferred(record: &lua_Debug) -> Option<(c_int, c_int)> {
    #[cfg(any(feature = "lua54", feature = "lua55"))]
    return Some((c_int::from(record.ftransfer), c_int::from(record.ntransfer)));
    #[cfg(not(any(feature = "lua54", feature = "lua55")))]
    {
        let _ = record;
        None
    }
}

/// Whether a function was called in the place of another one, where `t` was filled in and that is told by it.
pub(crate) fn is_tail_call(record: &lua_Debug) -> bool {
    #[cfg(not(feature = "lua51"))]
    return record.istailcall != 0;
    #[cfg(feature = "lua51")]
    {
        let _ = record;
        false
    }
}

/// How many parameters a function names, where `u` was filled in and that is told by it.
pub(crate) fn parameters(record: &lua_Debug) -> c_int {
    #[cfg(not(feature = "lua51"))]
    return c_int::from(record.nparams);
    #[cfg(feature = "lua51")]
    {
        let _ = record;
        0
    }
}

/// What Lua 5.3 and older have not.
#[cfg(not(any(feature = "lua54", feature = "lua55")))]
mod older {
    use std::ffi::{c_int, c_void};
    use std::ptr;

    use mlua::ffi;
    use mlua::ffi::lua_State;

    use crate::dialect::{Dialect as _, Version};

    /// # Safety
    /// As the function of the library.
    #[cfg(not(feature = "lua51"))]
    pub(crate) unsafe fn lua_gc(raw: *mut lua_State, what: c_int) -> c_int {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_gc(raw, what, 0) }
    }

    /// Also of texts.
    ///
    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_topointer(raw: *mut lua_State, index: c_int) -> *const c_void {
        // SAFETY: given by the caller; what is a text is not converted.
        unsafe {
            if ffi::lua_type(raw, index) == ffi::LUA_TSTRING {
                return ffi::lua_tolstring(raw, index, ptr::null_mut())
                    .byte_sub(Version::RECORDS.text_of_string)
                    .cast();
            }
            ffi::lua_topointer(raw, index)
        }
    }

    /// One value can be attached, whether it is wanted or not.
    ///
    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_newuserdatauv(raw: *mut lua_State, size: usize, _: c_int) -> *mut c_void {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_newuserdata(raw, size) }
    }

    /// # Safety
    /// As the function of the library.
    #[cfg(not(feature = "lua51"))]
    pub(crate) unsafe fn lua_getiuservalue(raw: *mut lua_State, index: c_int, number: c_int) -> c_int {
        // SAFETY: given by the caller.
        unsafe {
            if number == 1 {
                return ffi::lua_getuservalue(raw, index);
            }
            ffi::lua_pushnil(raw);
        }
        ffi::LUA_TNONE
    }

    /// # Safety
    /// As the function of the library, with 1 for the number, and a table on top.
    #[cfg(not(feature = "lua51"))]
    pub(crate) unsafe fn lua_setiuservalue(raw: *mut lua_State, index: c_int, _: c_int) {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_setuservalue(raw, index) };
    }
}

/// What Lua 5.1 has not.
#[cfg(feature = "lua51")]
mod before_52 {
    use std::ffi::{c_char, c_int, c_void};

    use mlua::ffi;
    use mlua::ffi::lua_State;

    use super::lua_KContext;
    use crate::ffi::internals;
    use crate::ffi::layout;

    type Continuation = unsafe extern "C-unwind" fn(*mut lua_State, c_int, lua_KContext) -> c_int;

    /// The registry holds no main thread.
    pub(crate) const LUA_RIDX_MAINTHREAD: ffi::lua_Integer = 0;
    /// No number of the library's own.
    pub(crate) const LUA_GCISRUNNING: c_int = 9;

    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_gc(raw: *mut lua_State, what: c_int) -> c_int {
        // SAFETY: given by the caller.
        unsafe {
            if what == LUA_GCISRUNNING {
                return c_int::from(!internals::is_collector_stopped(raw));
            }
            ffi::lua_gc(raw, what, 0)
        }
    }

    /// What is called cannot yield, as it cannot in a call that the library's own functions make.
    ///
    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_callk(
        raw: *mut lua_State,
        arguments: c_int,
        results: c_int,
        _: lua_KContext,
        _: Option<Continuation>,
    ) {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_call(raw, arguments, results) };
    }

    /// # Safety
    /// As [`lua_callk`].
    pub(crate) unsafe fn lua_pcallk(
        raw: *mut lua_State,
        arguments: c_int,
        results: c_int,
        handler: c_int,
        _: lua_KContext,
        _: Option<Continuation>,
    ) -> c_int {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_pcall(raw, arguments, results, handler) }
    }

    /// # Safety
    /// As the function of the library, without a continuation.
    pub(crate) unsafe fn lua_yieldk(
        raw: *mut lua_State,
        results: c_int,
        _: lua_KContext,
        _: Option<Continuation>,
    ) -> c_int {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_yield(raw, results) }
    }

    unsafe extern "C-unwind" {
        /// Has calls on the second thread count from where the first one is (`lua.h`).
        fn lua_setlevel(from: *mut lua_State, to: *mut lua_State);
    }

    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_resume(
        raw: *mut lua_State,
        from: *mut lua_State,
        arguments: c_int,
        results: *mut c_int,
    ) -> c_int {
        // SAFETY: given by the caller.
        unsafe {
            if !from.is_null() {
                lua_setlevel(from, raw);
            }
            ffi::lua_resume(raw, from, arguments, results)
        }
    }

    /// The table that a userdata has beside it is the one value attached to it.
    ///
    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_getiuservalue(raw: *mut lua_State, index: c_int, number: c_int) -> c_int {
        // SAFETY: given by the caller.
        unsafe {
            if number == 1 && ffi::lua_type(raw, index) == ffi::LUA_TUSERDATA {
                ffi::lua_getfenv(raw, index);
                return ffi::lua_type(raw, -1);
            }
            ffi::lua_pushnil(raw);
        }
        ffi::LUA_TNONE
    }

    /// # Safety
    /// As the function of the library, with 1 for the number, and a table on top.
    pub(crate) unsafe fn lua_setiuservalue(raw: *mut lua_State, index: c_int, _: c_int) {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_setfenv(raw, index) };
    }

    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_upvalueid(raw: *mut lua_State, index: c_int, number: c_int) -> *mut c_void {
        // SAFETY: given by the caller.
        unsafe { layout::captured_of(raw, index, number).cast_mut() }
    }

    /// # Safety
    /// As the function of the library, for a function at `into` that was made since the collector was stopped.
    pub(crate) unsafe fn lua_upvaluejoin(raw: *mut lua_State, into: c_int, number: c_int, from: c_int, other: c_int) {
        // SAFETY: given by the caller.
        unsafe { layout::share_captured(raw, (into, number), (from, other)) };
    }

    /// # Safety
    /// As the function of the library, for whatever is in the file.
    #[expect(non_snake_case, reason = "it is the library's name")]
    pub(crate) unsafe fn luaL_loadfilex(raw: *mut lua_State, file: *const c_char, _: *const c_char) -> c_int {
        // SAFETY: given by the caller.
        unsafe { ffi::luaL_loadfile(raw, file) }
    }
}

/// What Lua 5.2 and older have not.
#[cfg(any(feature = "lua51", feature = "lua52"))]
mod before_53 {
    use std::ffi::c_int;
    #[cfg(feature = "lua52")]
    use std::mem;
    #[cfg(feature = "lua52")]
    use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};

    use mlua::ffi;
    use mlua::ffi::{lua_Hook, lua_State};

    #[expect(non_camel_case_types, reason = "it is the library's name")]
    pub(crate) type lua_KContext = isize;
    #[cfg(feature = "lua52")]
    type Continuation = unsafe extern "C-unwind" fn(*mut lua_State, c_int, lua_KContext) -> c_int;

    /// All that were given so far: their number is the upper part of what the library keeps for each.
    #[cfg(feature = "lua52")]
    static CONTINUATIONS: [AtomicUsize; 64] = [const { AtomicUsize::new(0) }; 64];
    #[cfg(feature = "lua52")]
    const CONTEXT_BITS: c_int = 8;

    /// What the library is to keep, and to call; nothing for no function, and for one more than there are places: a call that yields raises
    /// then.
    #[cfg(feature = "lua52")]
    fn kept(continuation: Option<Continuation>, context: lua_KContext) -> (c_int, Option<ffi::lua_CFunction>) {
        let Some(address) = continuation.map(|continuation| continuation as usize) else { return (0, None) };
        let place = CONTINUATIONS
            .iter()
            .position(|held| held.compare_exchange(0, address, SeqCst, SeqCst).is_ok() || held.load(SeqCst) == address);
        match place {
            Some(number) => ((number as c_int) << CONTEXT_BITS | context as c_int, Some(go_on)),
            None => (0, None),
        }
    }

    #[cfg(feature = "lua52")]
    unsafe extern "C-unwind" fn go_on(raw: *mut lua_State) -> c_int {
        // SAFETY: called by Lua behind a call that yielded, with what `kept` answered for it; only functions of this type are kept.
        unsafe {
            let mut context = 0;
            let status = ffi::lua_getctx(raw, &raw mut context);
            let address = CONTINUATIONS[(context >> CONTEXT_BITS) as usize].load(SeqCst);
            let continuation: Continuation = mem::transmute(address);
            continuation(raw, status, (context & ((1 << CONTEXT_BITS) - 1)) as lua_KContext)
        }
    }

    /// # Safety
    /// As the function of the library; the context is below 256.
    #[cfg(feature = "lua52")]
    pub(crate) unsafe fn lua_callk(
        raw: *mut lua_State,
        arguments: c_int,
        results: c_int,
        context: lua_KContext,
        continuation: Option<Continuation>,
    ) {
        let (context, go_on) = kept(continuation, context);
        // SAFETY: given by the caller.
        unsafe { ffi::lua_callk(raw, arguments, results, context, go_on) };
    }

    /// # Safety
    /// As [`lua_callk`].
    #[cfg(feature = "lua52")]
    pub(crate) unsafe fn lua_pcallk(
        raw: *mut lua_State,
        arguments: c_int,
        results: c_int,
        handler: c_int,
        context: lua_KContext,
        continuation: Option<Continuation>,
    ) -> c_int {
        let (context, go_on) = kept(continuation, context);
        // SAFETY: given by the caller.
        unsafe { ffi::lua_pcallk(raw, arguments, results, handler, context, go_on) }
    }

    /// Also for numbers beyond 32 bits.
    ///
    /// # Safety
    /// As the function of the library, with room for a value.
    pub(crate) unsafe fn lua_rawgeti(raw: *mut lua_State, index: c_int, number: ffi::lua_Integer) -> c_int {
        // SAFETY: given by the caller.
        unsafe {
            if c_int::try_from(number).is_ok() {
                return ffi::lua_rawgeti(raw, index, number);
            }
            let index = ffi::lua_absindex(raw, index);
            ffi::lua_pushinteger(raw, number);
            ffi::lua_rawget(raw, index)
        }
    }

    /// Also for numbers beyond 32 bits.
    ///
    /// # Safety
    /// As the function of the library, with room for a value.
    pub(crate) unsafe fn lua_rawseti(raw: *mut lua_State, index: c_int, number: ffi::lua_Integer) {
        // SAFETY: given by the caller.
        unsafe {
            if c_int::try_from(number).is_ok() {
                return ffi::lua_rawseti(raw, index, number);
            }
            let index = ffi::lua_absindex(raw, index);
            ffi::lua_pushinteger(raw, number);
            ffi::lua_rotate(raw, -2, 1);
            ffi::lua_rawset(raw, index);
        }
    }

    /// It cannot be told, and nothing is done about it.
    ///
    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_isyieldable(_: *mut lua_State) -> c_int {
        0
    }

    /// # Safety
    /// As the function of the library.
    pub(crate) unsafe fn lua_sethook(raw: *mut lua_State, hook: Option<lua_Hook>, mask: c_int, count: c_int) {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_sethook(raw, hook, mask, count) };
    }
}
#[cfg(feature = "lua51")]
pub(crate) use before_52::{
    LUA_GCISRUNNING, LUA_RIDX_MAINTHREAD, lua_callk, lua_gc, lua_getiuservalue, lua_pcallk, lua_resume,
    lua_setiuservalue, lua_upvalueid, lua_upvaluejoin, lua_yieldk, luaL_loadfilex,
};
#[cfg(any(feature = "lua51", feature = "lua52"))]
pub(crate) use before_53::{lua_KContext, lua_isyieldable, lua_rawgeti, lua_rawseti, lua_sethook};
#[cfg(feature = "lua52")]
pub(crate) use before_53::{lua_callk, lua_pcallk};

#[cfg(any(feature = "lua52", feature = "lua53"))]
pub(crate) use older::{lua_gc, lua_getiuservalue, lua_setiuservalue};
#[cfg(not(any(feature = "lua54", feature = "lua55")))]
pub(crate) use older::{lua_newuserdatauv, lua_topointer};
