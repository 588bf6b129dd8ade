//! What values take, in bytes, without what they lead to: read from the engine's own records where it is known how they are, which is
//! found out by comparing with what the engine says that it has in use, for the very library that runs. Estimated elsewhere.
//!
//! The names are the engine's (`lobject.h`, `lstring.h`).

use std::ffi::{c_int, c_void};
use std::sync::OnceLock;

use super::api as ffi;

use super::apart::in_new_state;
use super::internals::read;
use super::layout;
use super::state::{State, Type};
use crate::dialect::{Dialect as _, Version};

/// An element of a table, about.
const ELEMENT: usize = 16;
/// `LClosure` and `CClosure` without what they capture, and one variable of each.
const FUNCTION: usize = Version::FUNCTION;
const CAPTURED: usize = 8;
const CAPTURED_BY_NATIVE: usize = 16;
/// `Udata` without user values, and with them.
const USERDATA: usize = Version::USERDATA;
const USERDATA_WITH_VALUES: usize = Version::USERDATA_WITH_VALUES;
const USER_VALUE: usize = Version::ATTACHED;
/// A coroutine that has just been made, and each value on its stack.
const COROUTINE: usize = 1024;
const STACK_VALUE: usize = 16;

/// Bytes, and whether they were measured.
pub(crate) type Size = (u64, bool);

/// The size of the value at `index`; 0 for what has none of its own.
pub(crate) fn size_of(state: State, index: c_int) -> Size {
    let known = are_known();
    let (bytes, measured) = match state.type_at(index) {
        Type::Table if known => (table(state, index), true),
        Type::Table => (Version::TABLE + ELEMENT * state.raw_len(index), false),
        Type::String => (Version::size_of_text(state.raw_len(index)), known),
        Type::Function => (function(state, index), known),
        Type::Userdata => (before_data(state, index) + state.raw_len(index), known),
        Type::Thread => (COROUTINE + STACK_VALUE * stacked(state, index), false),
        _ => (0, true),
    };
    (u64::try_from(bytes).unwrap_or(u64::MAX), measured)
}

fn table(state: State, index: c_int) -> usize {
    let table = state.address_at(index) as *const c_void;
    // SAFETY: the value is an alive table, whose record is this long where sizes are known.
    Version::size_of_table(&unsafe { read::<[u8; Version::TABLE]>(table, 0) })
}

fn function(state: State, index: c_int) -> usize {
    let mut captured = 0_usize;
    while state.push_captured(index, captured + 1).is_some() {
        state.pop(1);
        captured += 1;
    }
    match (state.is_native_function(index), captured) {
        // One that captures nothing is no object.
        (true, 0) if Version::TAGS.is_native_of_closure.is_none() => 0,
        (true, captured) => FUNCTION + CAPTURED_BY_NATIVE * captured,
        (false, captured) => FUNCTION + CAPTURED * captured,
    }
}

/// Bytes of the userdata at `index` before those of the host.
fn before_data(state: State, index: c_int) -> usize {
    match user_values(state, index) {
        0 => USERDATA,
        count => USERDATA_WITH_VALUES + USER_VALUE * count,
    }
}

/// The address of the object at `index` as the engine has it, which for a userdata is not that of the host's bytes.
pub(crate) fn object_address(state: State, index: c_int) -> usize {
    let address = state.address_at(index);
    if state.type_at(index) == Type::Userdata { address - before_data(state, index) } else { address }
}

/// How many values the host has attached to the userdata at `index`.
pub(super) fn user_values(state: State, index: c_int) -> usize {
    let index = state.absolute(index);
    let mut count = 0;
    loop {
        state.room(1);
        // SAFETY: the value at the index is a full userdata; what is pushed is popped.
        let kind = unsafe {
            let kind = ffi::lua_getiuservalue(state.raw(), index, count + 1);
            ffi::lua_settop(state.raw(), -2);
            kind
        };
        if kind == ffi::LUA_TNONE {
            return usize::try_from(count).unwrap_or(0);
        }
        count += 1;
    }
}

fn stacked(state: State, index: c_int) -> usize {
    state.thread_at(index).map_or(0, |thread| usize::try_from(thread.top()).unwrap_or(0))
}

/// Whether sizes are those of the library that runs.
pub(super) fn are_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| {
        let known = layout::is_known() && in_new_state(are_as_counted) == Some(true);
        if !known {
            tracing::info!("the sizes of the engine's values are not known: they are estimated");
        }
        known
    })
}

/// What the engine has in use, in bytes.
fn in_use(state: State) -> usize {
    // SAFETY: the thread is live; both only ask.
    let (kilobytes, rest) =
        unsafe { (ffi::lua_gc(state.raw(), ffi::LUA_GCCOUNT), ffi::lua_gc(state.raw(), ffi::LUA_GCCOUNTB)) };
    usize::try_from(kilobytes).unwrap_or(0) * 1024 + usize::try_from(rest).unwrap_or(0)
}

/// The same, asked for at each event: read where the engine keeps it, if that is where it is thought to be.
pub(crate) fn bytes_in_use(state: State) -> u64 {
    // SAFETY: the state is live, and it was found out that its record is as it is read.
    let bytes = if is_count_known() { unsafe { count_kept(state) } } else { in_use(state) };
    u64::try_from(bytes).unwrap_or(0)
}

/// # Safety
/// The state is live, and its record is known.
unsafe fn count_kept(state: State) -> usize {
    // SAFETY: given by the caller; both members lie within the record.
    unsafe {
        let shared = layout::state_of(state.raw()) as *const c_void;
        let (total, debt) = Version::IN_USE;
        let total = read::<usize>(shared, total);
        let Some(debt) = debt.map(|at| read::<isize>(shared, at)) else { return total };
        if Version::DEBT_IS_BESIDE { total.wrapping_add_signed(debt) } else { total.wrapping_add_signed(-debt) }
    }
}

/// Whether what is read is what the engine says, however much there is and whatever the collector does.
fn is_count_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| layout::is_known() && in_new_state(is_count_as_told) == Some(true))
}

fn is_count_as_told(state: State) -> bool {
    let raw = state.raw();
    // SAFETY: the state is new and used here alone; its record was found to be where it is read, and is longer than that.
    let is_told = || unsafe { count_kept(state) } == in_use(state);
    (1..200).all(|number| {
        // SAFETY: as above; what is pushed is popped.
        unsafe {
            ffi::lua_createtable(raw, number % 30, number % 7);
            ffi::lua_settop(raw, 0);
            if number % 50 == 0 {
                ffi::lua_gc(raw, ffi::LUA_GCCOLLECT);
            }
        }
        is_told()
    })
}

/// Whether each of some values takes as much more as its size is.
fn are_as_counted(state: State) -> bool {
    unsafe extern "C-unwind" fn native(_: *mut ffi::lua_State) -> c_int {
        0
    }
    let raw = state.raw();
    // SAFETY: the state is new and used here alone; a state of its own has room for some values and memory for them.
    let is_counted = |make: &dyn Fn()| unsafe {
        let (top, before) = (state.top(), in_use(state));
        make();
        let grown = in_use(state) - before;
        let size = match state.type_at(-1) {
            Type::Table => table(state, -1),
            Type::String => Version::size_of_text(state.raw_len(-1)),
            Type::Function => function(state, -1),
            _ => before_data(state, -1) + state.raw_len(-1),
        };
        ffi::lua_settop(raw, top);
        grown == size
    };
    // SAFETY: as above; what is given to each call is what it takes, and is pushed by it.
    unsafe {
        ffi::lua_gc(raw, ffi::LUA_GCSTOP);
        let tables = [(0, 0), (1, 0), (0, 1), (3, 0), (5, 5), (100, 1), (0, 33)];
        let are_tables =
            tables.iter().all(|(elements, fields)| is_counted(&|| ffi::lua_createtable(raw, *elements, *fields)));
        let grows = is_counted(&|| {
            ffi::lua_createtable(raw, 0, 0);
            for number in 1..=5 {
                ffi::lua_pushinteger(raw, number);
                ffi::lua_rawseti(raw, -2, number);
                ffi::lua_rawlen(raw, -1);
            }
        });
        let text = [b'x'; 100];
        let are_texts = [3, 40, 41, 100]
            .iter()
            .all(|length| is_counted(&|| _ = ffi::lua_pushlstring(raw, text.as_ptr().cast(), *length)));
        let are_functions = [1, 3].iter().all(|captured| {
            is_counted(&|| {
                (0..*captured).for_each(|_| ffi::lua_pushnil(raw));
                ffi::lua_pushcclosure(raw, native, *captured);
            })
        });
        let are_userdata = [(16, 0), (100, 1), (8, 2)]
            .iter()
            .all(|(bytes, values)| is_counted(&|| _ = ffi::lua_newuserdatauv(raw, *bytes, *values)));
        are_tables && grows && are_texts && are_functions && are_userdata
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_sizes_of_the_vendored_engine_are_known() {
        assert!(super::are_known() && super::is_count_known());
    }
}
