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
    pub(crate) unsafe fn lua_setiuservalue(raw: *mut lua_State, index: c_int, _: c_int) {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_setuservalue(raw, index) };
    }
}

/// What Lua 5.2 and older have not.
#[cfg(feature = "lua52")]
mod before_53 {
    use std::ffi::c_int;
    use std::mem;
    use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};

    use mlua::ffi;
    use mlua::ffi::{lua_Hook, lua_State};

    #[expect(non_camel_case_types, reason = "it is the library's name")]
    pub(crate) type lua_KContext = isize;
    type Continuation = unsafe extern "C-unwind" fn(*mut lua_State, c_int, lua_KContext) -> c_int;

    /// All that were given so far: their number is the upper part of what the library keeps for each.
    static CONTINUATIONS: [AtomicUsize; 64] = [const { AtomicUsize::new(0) }; 64];
    const CONTEXT_BITS: c_int = 8;

    /// What the library is to keep, and to call; nothing for no function, and for one more than there are places: a call that yields raises
    /// then.
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
#[cfg(feature = "lua52")]
pub(crate) use before_53::{
    lua_KContext, lua_callk, lua_isyieldable, lua_pcallk, lua_rawgeti, lua_rawseti, lua_sethook,
};

#[cfg(not(any(feature = "lua54", feature = "lua55")))]
pub(crate) use older::{lua_gc, lua_getiuservalue, lua_newuserdatauv, lua_setiuservalue, lua_topointer};
