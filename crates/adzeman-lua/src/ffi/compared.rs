//! Whether watched values are what they were, asked on each line: by where they lie, or by the plain C API, in the frame of the hook.

use std::cell::RefCell;
use std::ffi::c_int;
use std::{mem, ptr};

use super::api as ffi;

use super::fields::{self, Field, Nowhere};
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

/// Where the fields of tables lie that are watched, in the order of their first entries in [`Slot::Tracks`], or that they are not to be
/// found.
#[derive(Default)]
pub(crate) struct Compared(RefCell<Vec<(i64, Result<Field, Nowhere>)>>);

impl Compared {
    /// Whether a watched value, whose entries in [`Slot::Tracks`] begin at a number, is raw equal to what it was. False also where that cannot
    /// be told here. `holder` says what holds it, if it is still there.
    pub(crate) fn is_same(&self, state: State, entries: i64, holder: impl FnOnce() -> Option<Holder>) -> bool {
        {
            let fields = self.0.borrow();
            if let Ok(at) = fields.binary_search_by_key(&entries, |(held, _)| *held)
                && let Ok(field) = &fields[at].1
                // SAFETY: the table, and what it held, are in the slot for as long as the field is in this list: see `forget`.
                && unsafe { field.is_as_it_was() }
            {
                return true;
            }
        }
        let Some(holder) = holder() else { return false };
        let is_same = is_same(state, holder, entries);
        if is_same && matches!(holder, Holder::Table) && fields::are_known() {
            self.find(state, entries);
        }
        is_same
    }

    /// What a watched value held last is kept anew, or it is watched no longer: to be told before its entries change.
    pub(crate) fn forget(&self, entries: i64) {
        self.0.borrow_mut().retain(|(held, _)| *held != entries);
    }

    /// Finds out where a field lies that holds what it held.
    fn find(&self, state: State, entries: i64) {
        let raw = state.raw();
        // SAFETY: as in `is_same`; there is room for what is pushed here and by the search, and it is popped.
        unsafe {
            if ffi::lua_checkstack(raw, 10) == 0 {
                return;
            }
            let top = ffi::lua_gettop(raw);
            ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Tracks.key());
            for entry in entries..entries + 3 {
                ffi::lua_rawgeti(raw, top + 1, entry);
            }
            let (table, key, held) = (top + 2, top + 3, top + 4);
            let mut fields = self.0.borrow_mut();
            match fields.binary_search_by_key(&entries, |(held, _)| *held) {
                Ok(at) if fields[at].1.is_err_and(|nowhere| nowhere.is_still_so(state, table)) => {}
                Ok(at) => fields[at].1 = Field::find(state, table, key, held),
                Err(at) => fields.insert(at, (entries, Field::find(state, table, key, held))),
            }
            ffi::lua_settop(raw, top);
        }
    }
}

/// Whether a watched value is raw equal to what it was. False also where that cannot be told here.
fn is_same(state: State, holder: Holder, entries: i64) -> bool {
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
        while !here.is_null() && layout::identity_of_call(raw, here) != call {
            here = layout::call_below(raw, here);
        }
        if here.is_null() {
            return false;
        }
        let mut record = mem::zeroed::<ffi::lua_Debug>();
        layout::set_call(raw, &raw mut record, here);
        !ptr::eq(ffi::lua_getlocal(raw, &raw const record, number), ptr::null())
    }
}
