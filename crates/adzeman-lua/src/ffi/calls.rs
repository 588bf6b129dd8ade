//! Calls into Lua that may raise, each in protected mode, and threads run to an end.

use std::ffi::{CStr, c_int, c_void};
use std::slice;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::state::State;

/// How a resume ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Resumed {
    Finished,
    Yielded,
    Failed,
}

impl State {
    /// Moves `count` values from the top of this thread to the top of another one of the same state.
    pub(crate) fn move_to(self, other: Self, count: c_int) {
        if self == other || count == 0 {
            return;
        }
        self.check(-count);
        other.room(count);
        // SAFETY: the values are there, the other thread has room, and both belong to the same state.
        unsafe { ffi::lua_xmove(self.raw(), other.raw(), count) };
    }

    /// Calls `function` in protected mode with the `arguments` values on top; leaves `results`.
    ///
    /// # Errors
    /// [`EngineError::Runtime`] with what was raised.
    pub(crate) fn protect(
        self,
        function: ffi::lua_CFunction,
        arguments: c_int,
        results: c_int,
    ) -> Result<(), EngineError> {
        self.push_function(function)?;
        self.call_below(arguments, results)
    }

    /// Calls the function on top in protected mode with the `arguments` values below it; leaves `results`. The only way in
    /// which this crate lets Lua raise.
    ///
    /// # Errors
    /// [`EngineError::Runtime`] with what was raised.
    pub(crate) fn call_below(self, arguments: c_int, results: c_int) -> Result<(), EngineError> {
        self.check(-1 - arguments);
        if let Some(live) = self.live_instead() {
            self.move_to(live, 1 + arguments);
            live.call_below(arguments, results)?;
            live.move_to(self, results);
            return Ok(());
        }
        // SAFETY: the function is on top of its arguments; rotating puts it below them. A raise is caught by
        // `lua_pcall`, which leaves one error value. The thread is one that may be called on.
        let status = unsafe {
            ffi::lua_rotate(self.raw(), -1 - arguments, 1);
            ffi::lua_pcall(self.raw(), arguments, results, 0)
        };
        if status == ffi::LUA_OK {
            return Ok(());
        }
        let why = self.text_at(-1).unwrap_or_else(|| "an error without a text".to_owned());
        self.pop(1);
        Err(EngineError::Runtime(why))
    }

    /// The thread to call on instead of one that has died or waits in a yield, on which Lua forbids it.
    pub(super) fn live_instead(self) -> Option<Self> {
        // SAFETY: the thread is live.
        let may_call = unsafe { ffi::lua_status(self.raw()) } == ffi::LUA_OK;
        (!may_call).then(|| self.main_thread())
    }

    pub(crate) fn push_bytes(self, bytes: &[u8]) -> Result<(), EngineError> {
        unsafe extern "C-unwind" fn push(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect` with a pointer to a slice that outlives the call; nothing owned here.
            unsafe {
                let bytes = &*ffi::lua_touserdata(raw, 1).cast::<&[u8]>();
                ffi::lua_pushlstring(raw, bytes.as_ptr().cast(), bytes.len());
            }
            1
        }
        let mut bytes = bytes;
        self.push_pointer((&raw mut bytes).cast());
        self.protect(push, 1, 1)
    }

    /// Pushes a new thread and answers it; it lives as long as its slot.
    pub(crate) fn push_thread(self) -> Result<Self, EngineError> {
        unsafe extern "C-unwind" fn new(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect`; nothing owned here.
            unsafe { ffi::lua_newthread(raw) };
            1
        }
        self.protect(new, 0, 1)?;
        self.thread_at(-1).ok_or_else(|| EngineError::Runtime("no new thread could be made".to_owned()))
    }

    /// Pushes the compiled form of `text`.
    ///
    /// # Errors
    /// [`EngineError::Syntax`] with the compiler's message.
    pub(crate) fn load(self, text: &str, chunk_name: &CStr) -> Result<(), EngineError> {
        if let Some(live) = self.live_instead() {
            live.load(text, chunk_name)?;
            live.move_to(self, 1);
            return Ok(());
        }
        self.room(1);
        // SAFETY: there is room; the buffer outlives the call; loading is protected by the library itself and does not
        // raise. Only text is accepted.
        let status = unsafe {
            let (start, length) = (text.as_ptr().cast(), text.len());
            ffi::luaL_loadbufferx(self.raw(), start, length, chunk_name.as_ptr(), c"t".as_ptr())
        };
        self.loaded(status)
    }

    /// Loads compiled code, which this process has made of a text by the same library, as a function on top.
    ///
    /// # Errors
    /// When it is damaged, or the state has no memory left.
    pub(crate) fn load_compiled(self, chunk: &[u8]) -> Result<(), EngineError> {
        if let Some(live) = self.live_instead() {
            live.load_compiled(chunk)?;
            live.move_to(self, 1);
            return Ok(());
        }
        self.room(1);
        // SAFETY: there is room; the buffer outlives the call; loading is protected by the library itself and does not raise.
        // The code is as the library's own compiler made it.
        let status = unsafe {
            ffi::luaL_loadbufferx(self.raw(), chunk.as_ptr().cast(), chunk.len(), c"compiled".as_ptr(), c"b".as_ptr())
        };
        self.loaded(status)
    }

    /// What came of loading: the function stays on top, and an error is popped.
    fn loaded(self, status: c_int) -> Result<(), EngineError> {
        if status == ffi::LUA_OK {
            return Ok(());
        }
        let why = self.text_at(-1).unwrap_or_default();
        self.pop(1);
        Err(EngineError::Syntax(why))
    }

    /// The function at `index` as compiled code; empty when it is not a Lua function.
    pub(crate) fn dump(self, index: c_int) -> Vec<u8> {
        self.dump_as(index, false)
    }

    /// The same, without what is there for debugging if `strips`.
    pub(crate) fn dump_as(self, index: c_int, strips: bool) -> Vec<u8> {
        unsafe extern "C-unwind" fn write(
            _: *mut ffi::lua_State,
            bytes: *const c_void,
            size: usize,
            into: *mut c_void,
        ) -> c_int {
            // Lua 5.5 says by no bytes at all that it has ended.
            if size > 0 {
                // SAFETY: `into` is the vector below, which nothing else touches during the dump; the bytes are valid for
                // the call. An allocation failure aborts and does not unwind.
                unsafe { (*into.cast::<Vec<u8>>()).extend_from_slice(slice::from_raw_parts(bytes.cast(), size)) };
            }
            0
        }
        let mut chunk = Vec::new();
        self.push_copy(index);
        // SAFETY: a copy of the value is on top; the writer's target outlives the call.
        unsafe { ffi::lua_dump(self.raw(), write, (&raw mut chunk).cast(), c_int::from(strips)) };
        self.pop(1);
        chunk
    }

    /// Resumes a coroutine with the function and arguments on its stack. Answers whether it finished, and with how many
    /// values on its stack (one, the error, when it failed).
    pub(crate) fn resume(self, from: Self, arguments: c_int) -> (Resumed, c_int) {
        let mut results = 0;
        // SAFETY: a function and its arguments are on the coroutine's stack; `lua_resume` catches raises itself.
        let status = unsafe { ffi::lua_resume(self.raw(), from.raw(), arguments, &raw mut results) };
        match status {
            ffi::LUA_OK => (Resumed::Finished, results),
            ffi::LUA_YIELD => (Resumed::Yielded, results),
            _ => (Resumed::Failed, 1),
        }
    }

    /// Ends a coroutine, running what it left to be closed, as the hook that it has allows.
    pub(crate) fn close_thread(self, from: Self) {
        // SAFETY: the coroutine is not running; errors of closing are left on its own stack.
        unsafe { close(self.raw(), from.raw()) };
    }
}

/// Ends a coroutine that is not running, from a thread that is; answers how, with an error on top of the coroutine. What it closes
/// counts to the calls of that thread, where the library has a way for it: before 5.4.6 it did so by itself. Before 5.4 there is nothing
/// to be closed.
///
/// # Safety
/// Both are live threads of one state, and `from` runs.
pub(super) unsafe fn close(coroutine: *mut ffi::lua_State, from: *mut ffi::lua_State) -> c_int {
    // SAFETY: given by the caller.
    #[cfg(any(all(feature = "lua54", feature = "vendored"), feature = "lua55"))]
    return unsafe { ffi::lua_closethread(coroutine, from) };
    #[cfg(all(feature = "lua54", not(feature = "vendored")))]
    {
        let _ = from;
        // SAFETY: given by the caller.
        unsafe { ffi::lua_resetthread(coroutine) }
    }
    #[cfg(not(any(feature = "lua54", feature = "lua55")))]
    {
        let _ = (coroutine, from);
        ffi::LUA_OK
    }
}
