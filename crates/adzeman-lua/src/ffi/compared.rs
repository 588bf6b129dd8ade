//! Whether watched values are what they were, asked on each line: by the plain C API, in the frame of the hook.

use std::ffi::c_int;
use std::{mem, ptr};

use super::api as ffi;

use super::layout;
use super::state::{Slot, State};

/// Entries of one watched value in [`Slot::Tracks`]: what holds it, its key, what it held last, and, for one that was set for now, what
/// was set.
pub(crate) const ENTRIES: i64 = 4;

/// The first entry of a watched value, by its number.
pub(crate) fn first_entry(track: i64) -> i64 {
    track.wrapping_mul(ENTRIES)
}

/// What holds a watched value; its entries in [`Slot::Tracks`] begin at a number: the table or function that holds it, its key, and
/// what it was.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Holder {
    /// A table.
    Table,
    /// A function that has captured it, as the variable of this number.
    Captured(usize),
    /// A call, as the local variable of this number.
    Call { thread: usize, call: usize, number: i32 },
}

/// Whether a watched value is raw equal to what it was. False also where that cannot be told here.
pub(crate) fn is_same(state: State, holder: Holder, entries: i64) -> bool {
    let raw = state.raw();
    // SAFETY: states are looked at on their threads. There is room for all that is pushed, which is popped. What lies in the slot was put
    // there with these entries: a table with a key that is not nil, or a function.
    unsafe {
        if ffi::lua_checkstack(raw, 5) == 0 {
            return false;
        }
        let top = ffi::lua_gettop(raw);
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Tracks.key());
        let is_there = match holder {
            Holder::Table => {
                ffi::lua_rawgeti(raw, -1, entries);
                ffi::lua_rawgeti(raw, -2, entries + 1);
                ffi::lua_rawget(raw, -2);
                true
            }
            Holder::Captured(number) => {
                ffi::lua_rawgeti(raw, -1, entries);
                c_int::try_from(number).is_ok_and(|number| !ffi::lua_getupvalue(raw, -1, number).is_null())
            }
            Holder::Call { thread, call, number } => thread == state.address() && push_local(raw, call, number),
        };
        let is_same = is_there && {
            ffi::lua_rawgeti(raw, top + 1, entries + 2);
            // What is no number is not equal to itself, and yet the same.
            ffi::lua_rawequal(raw, -1, -2) != 0
                || ffi::lua_rawequal(raw, -1, -1) == 0 && ffi::lua_rawequal(raw, -2, -2) == 0
        };
        ffi::lua_settop(raw, top);
        is_same
    }
}

/// Pushes a local of a call of this thread; false, and nothing pushed, where it is not under way.
///
/// # Safety
/// `raw` is the running thread, with room for a value.
unsafe fn push_local(raw: *mut ffi::lua_State, call: usize, number: i32) -> bool {
    if !layout::is_known() {
        return false;
    }
    // SAFETY: given by the caller; the layout is known, and the record is of a call that was found on this stack.
    unsafe {
        let mut here = layout::current_call(raw);
        while !here.is_null() && here as usize != call {
            here = layout::call_below(here);
        }
        if here.is_null() {
            return false;
        }
        let mut record = mem::zeroed::<ffi::lua_Debug>();
        layout::set_call(&raw mut record, here);
        !ptr::eq(ffi::lua_getlocal(raw, &raw const record, number), ptr::null())
    }
}
