//! `debug.sethook` and `debug.gethook` as the library has them, but for one thing: a hook of the script's own does not see
//! the calls that exchanged bodies make, nor the hooks of this crate.

use std::ffi::{CStr, c_char, c_int};

use super::api as ffi;

use super::others::Other;
use super::{asked, hook, others};
use crate::dialect::{Dialect as _, Version};

/// Where the library keeps the functions of hooks, by their threads (`ldblib.c`, `HOOKKEY`).
const FUNCTIONS: &CStr = c"_HOOKKEY";
const EVENTS: [&CStr; 5] =
    [c"call", c"return", c"line", c"count", if Version::TAIL_CALL.is_some() { c"tail return" } else { c"tail call" }];
const MASKS: [(char, c_int); 3] = [('c', ffi::LUA_MASKCALL), ('r', ffi::LUA_MASKRET), ('l', ffi::LUA_MASKLINE)];

/// As `hookf` (`ldblib.c`), for all but calls of what was [put in](asked::is_put_in) and returns from it.
unsafe extern "C-unwind" fn on_own_hook(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: called by Lua as a hook, with room for the values pushed; nothing is owned here when the script raises.
    unsafe {
        let event = (*record).event;
        if event != ffi::LUA_HOOKLINE && event != ffi::LUA_HOOKCOUNT {
            ffi::lua_getinfo(raw, c"f".as_ptr(), record);
            let native = ffi::lua_tocfunction(raw, -1);
            ffi::lua_settop(raw, -2);
            if native.is_some_and(asked::is_put_in) {
                return;
            }
        }
        ffi::lua_getfield(raw, ffi::LUA_REGISTRYINDEX, FUNCTIONS.as_ptr());
        ffi::lua_pushthread(raw);
        if ffi::lua_rawget(raw, -2) != ffi::LUA_TFUNCTION {
            return;
        }
        let name = usize::try_from(event).ok().and_then(|event| EVENTS.get(event)).unwrap_or(&c"");
        ffi::lua_pushstring(raw, name.as_ptr());
        match (*record).currentline {
            line @ 0.. => ffi::lua_pushinteger(raw, line.into()),
            _ => ffi::lua_pushnil(raw),
        }
        ffi::lua_getinfo(raw, c"lS".as_ptr(), record);
        ffi::lua_callk(raw, 2, 0, 0, None);
    }
}

/// The thread that is spoken of, and how many arguments it takes, as `getthread` (`ldblib.c`).
///
/// # Safety
/// `raw` runs a native function.
unsafe fn thread(raw: *mut ffi::lua_State) -> (*mut ffi::lua_State, c_int) {
    // SAFETY: given by the caller.
    unsafe { if ffi::lua_isthread(raw, 1) != 0 { (ffi::lua_tothread(raw, 1), 1) } else { (raw, 0) } }
}

/// Pushes a thread onto `raw`.
///
/// # Safety
/// Both are threads of one state; nothing is owned by the callers when this raises.
unsafe fn push(raw: *mut ffi::lua_State, thread: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe {
        if raw != thread && ffi::lua_checkstack(thread, 1) == 0 {
            ffi::luaL_error(raw, c"stack overflow".as_ptr());
        }
        ffi::lua_pushthread(thread);
        ffi::lua_xmove(thread, raw, 1);
    }
}

/// As `db_sethook`.
pub(super) unsafe extern "C-unwind" fn set_hook(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing is owned here when it raises.
    unsafe {
        let (thread, skipped) = thread(raw);
        let is_off = ffi::lua_isnoneornil(raw, skipped + 1) != 0;
        let (mut mask, mut count) = (0, 0);
        if is_off {
            ffi::lua_settop(raw, skipped + 1);
        } else {
            let wanted: *const c_char = ffi::luaL_checklstring(raw, skipped + 2, std::ptr::null_mut());
            ffi::luaL_checktype(raw, skipped + 1, ffi::LUA_TFUNCTION);
            let given = ffi::luaL_optinteger(raw, skipped + 3, 0);
            // As the library does: the lowest bits.
            count = (given & 0xffff_ffff) as c_int;
            let wanted = CStr::from_ptr(wanted).to_bytes();
            let masks = MASKS.iter().filter(|(letter, _)| wanted.contains(&(*letter as u8)));
            mask = masks.fold(0, |mask, (_, bit)| mask | bit);
            if count > 0 {
                mask |= ffi::LUA_MASKCOUNT;
            }
        }
        if ffi::luaL_getsubtable(raw, ffi::LUA_REGISTRYINDEX, FUNCTIONS.as_ptr()) == 0 {
            ffi::lua_pushstring(raw, c"k".as_ptr());
            ffi::lua_setfield(raw, -2, c"__mode".as_ptr());
            ffi::lua_pushvalue(raw, -1);
            ffi::lua_setmetatable(raw, -2);
        }
        push(raw, thread);
        ffi::lua_pushvalue(raw, skipped + 1);
        ffi::lua_rawset(raw, -3);
        let own = (!is_off && mask != 0).then(|| Other::of(on_own_hook, mask, count));
        if !others::set_behind_ours(thread, own) {
            ffi::lua_sethook(thread, (!is_off).then_some(on_own_hook), mask, count);
        }
    }
    0
}

/// As `db_gethook`; a hook of this crate is none.
pub(super) unsafe extern "C-unwind" fn get_hook(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing is owned here when it raises. The letters end with a zero.
    unsafe {
        let (thread, _) = thread(raw);
        let (held, mask, count) = match others::behind_ours(thread) {
            Some(other) => other.map_or((None, 0, 0), |other| (Some(other.hook), other.mask, other.count)),
            None => {
                let held = ffi::lua_gethook(thread).filter(|held| !hook::is_ours(*held));
                (held, ffi::lua_gethookmask(thread), ffi::lua_gethookcount(thread))
            }
        };
        let Some(held) = held else {
            ffi::lua_pushnil(raw);
            if !Version::TELLS_MASK_OF_NO_HOOK {
                return 1;
            }
            ffi::lua_pushstring(raw, c"".as_ptr());
            ffi::lua_pushinteger(raw, 0);
            return 3;
        };
        if held as usize == on_own_hook as *const () as usize {
            ffi::lua_getfield(raw, ffi::LUA_REGISTRYINDEX, FUNCTIONS.as_ptr());
            push(raw, thread);
            ffi::lua_rawget(raw, -2);
            ffi::lua_rotate(raw, -2, -1);
            ffi::lua_settop(raw, -2);
        } else {
            ffi::lua_pushstring(raw, c"external hook".as_ptr());
        }
        let mut letters = [0; 4];
        for (into, (letter, _)) in letters.iter_mut().zip(MASKS.iter().filter(|(_, bit)| mask & bit != 0)) {
            *into = *letter as u8;
        }
        ffi::lua_pushstring(raw, letters.as_ptr().cast());
        ffi::lua_pushinteger(raw, count.into());
        3
    }
}
