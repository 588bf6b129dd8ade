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
#[cfg(not(any(feature = "lua54", feature = "lua55")))]
pub(crate) use older::{lua_gc, lua_getiuservalue, lua_newuserdatauv, lua_setiuservalue, lua_topointer};
