//! The variables that functions have captured.

use std::ffi::{CStr, c_int};

use super::api as ffi;

use super::state::State;

impl State {
    /// Pushes the captured variable `number` (counted from 1) of the function at `index` and answers its name.
    pub(crate) fn push_captured(self, index: c_int, number: usize) -> Option<String> {
        self.room(1);
        // SAFETY: the index is checked, there is room; the name lives as long as the function.
        unsafe {
            let name = ffi::lua_getupvalue(self.raw(), self.check(index), c_int::try_from(number).ok()?);
            (!name.is_null()).then(|| CStr::from_ptr(name).to_string_lossy().into_owned())
        }
    }

    /// Whether the Lua function at `index` was made whole. One whose text turned out not to compile, or for which there was no
    /// memory, is none, until it is collected; nothing of the engine's interface but this may be asked of it.
    pub(crate) fn is_whole(self, index: c_int) -> bool {
        let index = self.absolute(index);
        self.push_copy(index);
        // SAFETY: an all-zero record is valid, and the function on top is popped by the call, which reads the count out of the
        // function. The identity of a captured variable is read without looking at it.
        unsafe {
            let mut record = std::mem::zeroed::<ffi::lua_Debug>();
            ffi::lua_getinfo(self.raw(), c">u".as_ptr(), &raw mut record);
            (1..=c_int::from(record.nups)).all(|number| !ffi::lua_upvalueid(self.raw(), index, number).is_null())
        }
    }

    /// The number of the captured variable of this name of the function at `index`.
    pub(crate) fn find_captured(self, index: c_int, name: &str) -> Option<usize> {
        self.room(1);
        let index = self.absolute(index);
        for number in 1.. {
            // SAFETY: as in `push_captured`; the value pushed is popped.
            let held = unsafe {
                let held = ffi::lua_getupvalue(self.raw(), index, number);
                if held.is_null() {
                    break;
                }
                ffi::lua_settop(self.raw(), -2);
                CStr::from_ptr(held)
            };
            if held.to_bytes() == name.as_bytes() {
                return usize::try_from(number).ok();
            }
        }
        None
    }

    /// What tells the captured variable `number` of the function at `index` from others: functions that share it have the
    /// same.
    pub(crate) fn captured_identity(self, index: c_int, number: usize) -> usize {
        let number = c_int::try_from(number).unwrap_or(0);
        // SAFETY: the index is checked; the call answers null for a number that is not there.
        unsafe { ffi::lua_upvalueid(self.raw(), self.check(index), number) as usize }
    }

    /// Has a function, which was made since the collector was stopped, share a captured variable of another one: each by the index of the
    /// function and the number of the variable.
    pub(crate) fn join_captured(self, (into, number): (c_int, usize), (from, other): (c_int, usize)) {
        let (into, from) = (self.check(into), self.check(from));
        let count = |number: usize| c_int::try_from(number).unwrap_or(0);
        // SAFETY: the indices are checked, and both functions have as many variables, by their bodies.
        unsafe { ffi::lua_upvaluejoin(self.raw(), into, count(number), from, count(other)) };
    }

    /// Gives the function at `index`, which uses globals, the table on top for these, which is popped.
    pub(crate) fn set_environment(self, index: c_int) {
        #[cfg(not(feature = "lua51"))]
        self.set_captured(index, 1);
        #[cfg(feature = "lua51")]
        // SAFETY: the index is checked, and there is a table on top.
        unsafe {
            ffi::lua_setfenv(self.raw(), self.absolute(index));
        }
    }

    /// Pushes the table that the function at `index` has for its globals, where that is [beside it](Dialect::ENVIRONMENTS_BESIDE); nil
    /// where it is not.
    pub(crate) fn push_environment(self, index: c_int) {
        self.room(1);
        #[cfg(not(feature = "lua51"))]
        {
            let _ = index;
            self.push_nil();
        }
        #[cfg(feature = "lua51")]
        // SAFETY: the index is checked, and there is room; what has none pushes nil.
        unsafe {
            ffi::lua_getfenv(self.raw(), self.check(index));
        }
    }

    /// Gives the captured variable `number` of the function at `index` the value on top, which is popped.
    pub(crate) fn set_captured(self, index: c_int, number: usize) {
        let index = self.absolute(index);
        // SAFETY: the index is checked and the value is on top; the number was read from the same function.
        unsafe { ffi::lua_setupvalue(self.raw(), index, c_int::try_from(number).unwrap_or(0)) };
    }
}
