//! Tables of a Lua state, without metamethods.

use std::ffi::c_int;
use std::ptr;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::state::{Slot, State, Type};

impl State {
    pub(crate) fn raw_len(self, index: c_int) -> usize {
        // SAFETY: the index is checked; no metamethod runs.
        unsafe { ffi::lua_rawlen(self.raw(), self.check(index)) }
    }

    /// Pushes the element `number` of the table at `index`, without metamethods.
    pub(crate) fn raw_get_index(self, index: c_int, number: i64) {
        debug_assert_eq!(self.type_at(index), Type::Table);
        let index = self.absolute(index);
        self.room(1);
        // SAFETY: the index holds a table, there is room, and no metamethod runs.
        unsafe { ffi::lua_rawgeti(self.raw(), index, number) };
    }

    /// Replaces the key on top by its value in the table at `index`, without metamethods.
    pub(crate) fn raw_get(self, index: c_int) {
        debug_assert_eq!(self.type_at(index), Type::Table);
        // SAFETY: the index is checked and holds a table; the key is on top.
        unsafe { ffi::lua_rawget(self.raw(), self.check(index)) };
    }

    /// Whether there is a global whose name is the element `number` of [`Slot::RootNames`]: asked at each event by conditions on it.
    pub(crate) fn has_root_as_global(self, number: i64) -> bool {
        let raw = self.raw();
        self.room(4);
        // SAFETY: there is room for what is pushed, which is popped; the registry holds the globals, and the slot a list of texts.
        unsafe {
            let top = ffi::lua_gettop(raw);
            ffi::lua_pushglobaltable(raw);
            ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::RootNames.key());
            ffi::lua_rawgeti(raw, top + 2, number);
            ffi::lua_rawget(raw, top + 1);
            let found = ffi::lua_type(raw, -1) != ffi::LUA_TNIL;
            ffi::lua_settop(raw, top);
            found
        }
    }

    /// Replaces the key on top by the next key and its value; false, and the key dropped, at the end.
    ///
    /// # Errors
    /// When the key is not in the table (any more).
    pub(crate) fn next(self, table: c_int) -> Result<bool, EngineError> {
        unsafe extern "C-unwind" fn next(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect` with a table and a key; this frame owns nothing that a raise would skip.
            unsafe { if ffi::lua_next(raw, 1) != 0 { 2 } else { 0 } }
        }
        let table = self.absolute(table);
        self.push_copy(table);
        // SAFETY: key and table are on top; rotating swaps them.
        unsafe { ffi::lua_rotate(self.raw(), -2, 1) };
        let before = self.top() - 2;
        self.protect(next, 2, ffi::LUA_MULTRET)?;
        Ok(self.top() > before)
    }

    /// The same without a protected call, for a table that nothing has changed since the walk of it began: its keys are all there. A
    /// walk may begin at any of them.
    pub(crate) fn next_of_unchanged(self, table: c_int) -> bool {
        debug_assert_eq!(self.type_at(table), Type::Table);
        let table = self.absolute(table);
        self.room(1);
        // SAFETY: the index holds a table, a key of it or nil is on top, and there is room for the value. The call raises for a key
        // that the table does not have, and for nothing else.
        unsafe { ffi::lua_next(self.raw(), table) != 0 }
    }

    /// Walks a table on from the key on top, which is popped (nil for the beginning), and adds keys that are not among the
    /// elements 1 to `scan.length`, and not keys of the table at `known`, to the list at `list`.
    ///
    /// # Errors
    /// When the key is not in the table any more.
    pub(crate) fn scan_keys(
        self,
        table: c_int,
        list: c_int,
        known: Option<c_int>,
        scan: &mut KeyScan,
    ) -> Result<(), EngineError> {
        unsafe extern "C-unwind" fn run(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect` with the key to begin behind, the table, the list, a table or nil, and a pointer
            // to the scan, which outlives the call; nothing owned here.
            unsafe {
                let scan = &mut *ffi::lua_touserdata(raw, 5).cast::<KeyScan>();
                ffi::lua_pushvalue(raw, 1);
                scan.finished = true;
                while ffi::lua_next(raw, 2) != 0 {
                    ffi::lua_settop(raw, 6);
                    // Only whole numbers are read: a text would be tried as one.
                    let is_element = ffi::lua_isinteger(raw, 6) != 0 && {
                        let number = ffi::lua_tointegerx(raw, 6, ptr::null_mut());
                        number >= 1 && number.unsigned_abs() <= scan.length as u64
                    };
                    if is_element || is_key_of(raw, 4) {
                        continue;
                    }
                    scan.found += 1;
                    if scan.kept < scan.keep {
                        scan.kept += 1;
                        ffi::lua_pushvalue(raw, 6);
                        ffi::lua_rawseti(raw, 3, scan.kept as ffi::lua_Integer);
                    }
                    if scan.found >= scan.most {
                        scan.finished = false;
                        break;
                    }
                }
            }
            0
        }
        let (table, list, known) = (self.absolute(table), self.absolute(list), known.map(|index| self.absolute(index)));
        self.push_copy(table);
        self.push_copy(list);
        match known {
            Some(index) => self.push_copy(index),
            None => self.push_nil(),
        }
        self.push_pointer(ptr::from_mut(scan).cast());
        self.protect(run, 5, 0)
    }

    /// Pushes the metatable of the value at `index`, if it has one.
    pub(crate) fn push_metatable(self, index: c_int) -> bool {
        self.room(1);
        // SAFETY: there is room, and the index is checked.
        unsafe { ffi::lua_getmetatable(self.raw(), self.check(index)) != 0 }
    }

    pub(crate) fn set_metatable(self, index: c_int) {
        // SAFETY: the index is checked; a table or nil is on top.
        unsafe { ffi::lua_setmetatable(self.raw(), self.check(index)) };
    }

    pub(crate) fn push_table(self) -> Result<(), EngineError> {
        unsafe extern "C-unwind" fn new(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect`; nothing owned here.
            unsafe { ffi::lua_newtable(raw) };
            1
        }
        self.protect(new, 0, 1)
    }

    /// Sets a field of the table at `index` from a key and a value on top, without metamethods.
    pub(crate) fn raw_set(self, index: c_int) -> Result<(), EngineError> {
        unsafe extern "C-unwind" fn set(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect` with key, value, table; nothing owned here.
            unsafe {
                ffi::lua_rotate(raw, 1, 1);
                ffi::lua_rawset(raw, 1);
            }
            0
        }
        let index = self.absolute(index);
        self.push_copy(index);
        self.protect(set, 3, 0)
    }

    /// Sets the field `name` of the table at `index` from the value on top, without metamethods.
    pub(crate) fn raw_set_field(self, index: c_int, name: &str) -> Result<(), EngineError> {
        let index = self.absolute(index);
        self.push_bytes(name.as_bytes())?;
        self.swap();
        self.raw_set(index)
    }

    /// Has the table on top keep none of its values (`v`) or keys (`k`) alive.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn make_weak(self, mode: &[u8]) -> Result<(), EngineError> {
        self.push_table()?;
        self.push_bytes(mode)?;
        self.raw_set_field(-2, "__mode")?;
        self.set_metatable(-2);
        Ok(())
    }

    /// Pushes the table in a registry slot, which is made if there is none: one that keeps none of its values (`v`) or keys (`k`)
    /// alive, if `mode` says so.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn push_table_in(self, slot: Slot, mode: Option<&[u8]>) -> Result<(), EngineError> {
        if self.push_slot(slot) == Type::Table {
            return Ok(());
        }
        self.pop(1);
        self.push_table()?;
        if let Some(mode) = mode {
            self.make_weak(mode)?;
        }
        self.push_copy(-1);
        self.set_slot(slot)
    }

    /// Pushes the field `name` of the table at `index`, without metamethods.
    pub(crate) fn raw_get_field(self, index: c_int, name: &str) -> Result<(), EngineError> {
        let index = self.absolute(index);
        self.push_bytes(name.as_bytes())?;
        self.raw_get(index);
        Ok(())
    }
}

/// Whether the key on top is one of the table at `index`; false for anything that is no table.
///
/// # Safety
/// `raw` runs, with a key on top and room for one value.
unsafe fn is_key_of(raw: *mut ffi::lua_State, index: c_int) -> bool {
    // SAFETY: given by the caller; a raw look does not raise.
    unsafe {
        if ffi::lua_type(raw, index) != ffi::LUA_TTABLE {
            return false;
        }
        ffi::lua_pushvalue(raw, -1);
        let is_there = ffi::lua_rawget(raw, index) != ffi::LUA_TNIL;
        ffi::lua_settop(raw, -2);
        is_there
    }
}

/// A walk through the keys of a table: see [`State::scan_keys`].
#[derive(Debug, Clone, Copy)]
pub(crate) struct KeyScan {
    /// Elements of the sequence, which are passed over.
    pub(crate) length: usize,
    /// The walk ends when this many were found.
    pub(crate) most: usize,
    /// As many are put into the list at most.
    pub(crate) keep: usize,
    /// Keys found so far.
    pub(crate) found: usize,
    /// Keys in the list.
    pub(crate) kept: usize,
    /// Whether the end of the table was reached.
    pub(crate) finished: bool,
}

impl KeyScan {
    pub(crate) fn new(length: usize, most: usize, keep: usize) -> Self {
        Self { length, most, keep, found: 0, kept: 0, finished: false }
    }
}
