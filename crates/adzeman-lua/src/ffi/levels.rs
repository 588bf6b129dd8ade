//! The library's debug functions that are given a level of the stack: while errors are waited for, a handler given to `xpcall` is
//! called by one native function more, which is none of the script's, and which these pass over.

use std::ffi::{CStr, c_int};

use super::api as ffi;

use super::natives::{on_handling, original, reporting};
use super::offered::ask;

/// What stands in the place of the library's functions, by its table and name.
pub(super) const REPLACED: [(&CStr, &CStr, ffi::lua_CFunction); 4] = [
    (c"debug", c"traceback", traceback),
    (c"debug", c"getinfo", get_info),
    (c"debug", c"getlocal", get_local),
    (c"debug", c"setlocal", set_local),
];

/// The level, counted from the function that called the one that runs, of the native function that calls a handler, up to this one.
///
/// # Safety
/// `raw` runs, with room for one value.
unsafe fn handling_up_to(raw: *mut ffi::lua_State, level: ffi::lua_Integer) -> Option<ffi::lua_Integer> {
    // SAFETY: given by the caller; the function is pushed and popped.
    unsafe {
        reporting(raw)?;
        let mut record = std::mem::zeroed::<ffi::lua_Debug>();
        for at in 1..=level {
            let Ok(here) = c_int::try_from(at) else { return None };
            if ffi::lua_getstack(raw, here, &raw mut record) == 0 {
                return None;
            }
            ffi::lua_getinfo(raw, c"f".as_ptr(), &raw mut record);
            let is_it = ffi::lua_tocfunction(raw, -1).is_some_and(on_handling);
            ffi::lua_settop(raw, -2);
            if is_it {
                return Some(at);
            }
        }
        None
    }
}

/// Has the level at `argument`, if it is one of the thread that runs, pass over what calls a handler.
///
/// # Safety
/// As [`handling_up_to`].
unsafe fn pass_over(raw: *mut ffi::lua_State, argument: c_int) {
    // SAFETY: given by the caller.
    unsafe {
        if ffi::lua_type(raw, argument) == ffi::LUA_TNUMBER && ffi::lua_isinteger(raw, argument) != 0 {
            let level = ffi::lua_tointeger(raw, argument);
            if handling_up_to(raw, level).is_some() {
                ffi::lua_pushinteger(raw, level + 1);
                ffi::lua_replace(raw, argument);
            }
        }
    }
}

unsafe extern "C-unwind" fn get_info(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua, in the place of the library's, which runs in the same call; nothing owned here when it raises.
    unsafe {
        pass_over(raw, 1);
        original(get_info).map_or(0, |original| original(raw))
    }
}

unsafe extern "C-unwind" fn get_local(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `get_info`.
    unsafe {
        pass_over(raw, 1);
        original(get_local).map_or(0, |original| original(raw))
    }
}

unsafe extern "C-unwind" fn set_local(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `get_info`.
    unsafe {
        pass_over(raw, 1);
        let results = original(set_local).map_or(0, |original| original(raw));
        ask(raw, |told, state| told.assigned(state));
        results
    }
}

/// The levels that a traceback shows in full before it leaves some out (`LEVELS1`, `lauxlib.c`).
const SHOWN_IN_FULL: ffi::lua_Integer = 10;

/// Without the line of what calls a handler, where that would have one.
unsafe extern "C-unwind" fn traceback(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `get_info`; the text that is cut is on the stack, and nothing is owned here when something raises.
    unsafe {
        let Some(original) = original(traceback) else { return 0 };
        let is_other = ffi::lua_type(raw, 1) == ffi::LUA_TTHREAD;
        let is_text =
            matches!(ffi::lua_type(raw, 1), ffi::LUA_TSTRING | ffi::LUA_TNUMBER | ffi::LUA_TNIL | ffi::LUA_TNONE);
        if is_other || !is_text {
            return original(raw);
        }
        let level = if ffi::lua_isinteger(raw, 2) != 0 { ffi::lua_tointeger(raw, 2) } else { 1 };
        let Some(at) = handling_up_to(raw, level.saturating_add(SHOWN_IN_FULL)) else { return original(raw) };
        if at <= level {
            pass_over(raw, 2);
            if ffi::lua_type(raw, 2) != ffi::LUA_TNUMBER {
                ffi::lua_settop(raw, 1);
                ffi::lua_pushinteger(raw, level + 1);
            }
            return original(raw);
        }
        let results = original(raw);
        let mut length = 0;
        let text = ffi::lua_tolstring(raw, -1, &raw mut length);
        let bytes = std::slice::from_raw_parts(text.cast::<u8>(), length);
        if let Some((begin, end)) = line_of(bytes, usize::try_from(at - level).unwrap_or(0)) {
            ffi::lua_pushlstring(raw, text, begin);
            ffi::lua_pushlstring(raw, text.add(end), length - end);
            ffi::lua_concat(raw, 2);
        }
        results
    }
}

/// Where the line of a level begins and ends in a traceback, behind its title.
fn line_of(text: &[u8], level: usize) -> Option<(usize, usize)> {
    const TITLE: &[u8] = b"stack traceback:";
    let title = text.windows(TITLE.len()).rposition(|part| part == TITLE)?;
    let breaks = (title..text.len()).filter(|at| text[*at] == b'\n');
    // A function that was called in the place of another has a line more.
    let is_level = |at: &usize| !text[*at..].starts_with(b"\n\t(...tail calls...)");
    let mut levels = breaks.filter(is_level).skip(level);
    let begin = levels.next()?;
    let end = text[begin + 1..].iter().position(|byte| *byte == b'\n').map_or(text.len(), |at| begin + 1 + at);
    Some((begin, end))
}

#[cfg(test)]
mod tests {
    use super::line_of;

    #[test]
    fn the_line_of_a_level_is_found() {
        let text = b"m\nstack traceback:\n\ta\n\t(...tail calls...)\n\tb\n\tc";
        let line =
            |level| line_of(text, level).map(|(begin, end)| String::from_utf8_lossy(&text[begin..end]).into_owned());
        assert_eq!(line(0).unwrap(), "\n\ta");
        assert_eq!(line(1).unwrap(), "\n\tb");
        assert_eq!(line(2).unwrap(), "\n\tc");
        assert_eq!(line(3), None);
    }
}
