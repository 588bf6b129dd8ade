//! States of their own, in which it is found out what the engine is like.

use std::ffi::c_int;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use super::api as ffi;

use super::state::State;

/// Does `work` in a new state without libraries, which is closed afterwards; `None` without memory for one.
pub(crate) fn in_new_state<T>(work: impl FnOnce(State) -> T) -> Option<T> {
    // SAFETY: the state is made, used and closed here, on one thread.
    unsafe {
        let raw = ffi::luaL_newstate();
        if raw.is_null() {
            return None;
        }
        let outcome = work(State::new(raw));
        ffi::lua_close(raw);
        Some(outcome)
    }
}

/// How often [`note`] was called.
static NOTED: AtomicUsize = AtomicUsize::new(0);

/// How often a note was made so far.
pub(crate) fn notes() -> usize {
    NOTED.load(Relaxed)
}

pub(super) unsafe extern "C-unwind" fn note(_: *mut ffi::lua_State) -> c_int {
    NOTED.fetch_add(1, Relaxed);
    0
}

impl State {
    /// Calls the function below `arguments` values; false when it raises, with the error in the place of the results.
    pub(crate) fn call_plainly(self, arguments: c_int, results: c_int) -> bool {
        self.check(-1 - arguments);
        self.room(results);
        // SAFETY: the function and its arguments are on top, and there is room for what it returns.
        unsafe { ffi::lua_pcall(self.raw(), arguments, results, 0) == ffi::LUA_OK }
    }
}
