//! A Lua thread with the C API's rules kept.

use std::ffi::{CStr, c_int, c_void};
use std::{ptr, slice};

use adzeman_core::engine::EngineError;
use mlua::ffi;

use super::library::{Effect, native_at};

/// The type of a Lua value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Type {
    None,
    Nil,
    Boolean,
    LightUserdata,
    Integer,
    Float,
    String,
    Table,
    Function,
    Userdata,
    Thread,
}

/// Slots of the registry under which this crate keeps tables, one set in each Lua state.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Slot {
    /// Pointer to the engine that watches this state.
    Engine,
    /// Values that handles stand for.
    Anchors,
    /// The Lua threads met so far, weakly.
    Threads,
    /// Compiled conditions, by breakpoint.
    Conditions,
    /// The metatable of host proxies.
    ProxyMeta,
    /// What is needed to find watched values again.
    Tracks,
    /// Scripts compiled with calls put in, and plainly.
    Bodies,
    /// What a person evaluated last, the last first.
    Results,
    /// The host's function that tells what a userdata holds.
    Types,
    /// The names that stand for the host's data, as texts of the state.
    RootNames,
    /// The metatables of objects whose finalizers the evaluation under way has given.
    Finalized,
    /// The object that was the newest one when threads were looked for last.
    Newest,
    /// A thread that an evaluation has ended on, for the next one.
    Spare,
}

/// Addresses that no one else uses as registry keys.
static SLOTS: [u8; 13] = [0; 13];

impl Slot {
    pub(super) fn key(self) -> *const c_void {
        (&raw const SLOTS[self as usize]).cast()
    }
}

/// A Lua thread. Copies stand for the same thread.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(crate) struct State(*mut ffi::lua_State);

impl State {
    /// Wraps a Lua thread.
    ///
    /// # Safety
    /// `raw` is a live thread of a Lua state that belongs to the calling OS thread, and it stays alive (is running, the
    /// main thread, or anchored) for as long as the wrapper is used. The wrapper is not sent to other OS threads; being
    /// a raw pointer, it is not `Send`.
    pub(crate) unsafe fn new(raw: *mut ffi::lua_State) -> Self {
        Self(raw)
    }

    pub(crate) fn raw(self) -> *mut ffi::lua_State {
        self.0
    }

    /// The thread's address as a number, for telling threads apart.
    pub(crate) fn address(self) -> usize {
        self.0 as usize
    }

    /// Makes room for `count` more values.
    pub(super) fn room(self, count: c_int) {
        // SAFETY: the thread is live; `lua_checkstack` does not raise.
        let enough = unsafe { ffi::lua_checkstack(self.0, count) } != 0;
        assert!(enough, "the Lua stack cannot grow");
    }

    /// Checks an index before it reaches the API, for which a wrong one is undefined behaviour.
    pub(super) fn check(self, index: c_int) -> c_int {
        let top = self.top();
        let valid = index == ffi::LUA_REGISTRYINDEX || (index > 0 && index <= top) || (index < 0 && -index <= top);
        assert!(valid, "index {index} is outside the Lua stack of {top}");
        index
    }

    pub(crate) fn top(self) -> c_int {
        // SAFETY: the thread is live.
        unsafe { ffi::lua_gettop(self.0) }
    }

    /// Drops values above `top`.
    pub(crate) fn cut_to(self, top: c_int) {
        if self.top() > top {
            // SAFETY: `top` is not above the present top, and no to-be-closed value is ours.
            unsafe { ffi::lua_settop(self.0, top) };
        }
    }

    pub(crate) fn pop(self, count: c_int) {
        self.cut_to(self.top() - count);
    }

    pub(crate) fn absolute(self, index: c_int) -> c_int {
        // SAFETY: the index is checked.
        unsafe { ffi::lua_absindex(self.0, self.check(index)) }
    }

    pub(crate) fn push_copy(self, index: c_int) {
        self.room(1);
        // SAFETY: there is room, and the index is checked.
        unsafe { ffi::lua_pushvalue(self.0, self.check(index)) };
    }

    pub(crate) fn push_nil(self) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushnil(self.0) };
    }

    pub(crate) fn push_bool(self, value: bool) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushboolean(self.0, c_int::from(value)) };
    }

    pub(crate) fn push_integer(self, value: i64) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushinteger(self.0, value) };
    }

    pub(crate) fn push_float(self, value: f64) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushnumber(self.0, value) };
    }

    /// Pushes the thread itself.
    pub(crate) fn push_self(self) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushthread(self.0) };
    }

    pub(crate) fn push_function(self, function: ffi::lua_CFunction) {
        self.room(1);
        // SAFETY: there is room; a C function without captured values allocates nothing.
        unsafe { ffi::lua_pushcfunction(self.0, function) };
    }

    pub(super) fn push_pointer(self, pointer: *mut c_void) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushlightuserdata(self.0, pointer) };
    }

    pub(crate) fn type_at(self, index: c_int) -> Type {
        // SAFETY: the index is checked; neither call converts or raises.
        let (tag, is_integer) = unsafe {
            let index = self.check(index);
            (ffi::lua_type(self.0, index), ffi::lua_isinteger(self.0, index) != 0)
        };
        match tag {
            ffi::LUA_TNIL => Type::Nil,
            ffi::LUA_TBOOLEAN => Type::Boolean,
            ffi::LUA_TLIGHTUSERDATA => Type::LightUserdata,
            ffi::LUA_TNUMBER if is_integer => Type::Integer,
            ffi::LUA_TNUMBER => Type::Float,
            ffi::LUA_TSTRING => Type::String,
            ffi::LUA_TTABLE => Type::Table,
            ffi::LUA_TFUNCTION => Type::Function,
            ffi::LUA_TUSERDATA => Type::Userdata,
            ffi::LUA_TTHREAD => Type::Thread,
            _ => Type::None,
        }
    }

    pub(crate) fn bool_at(self, index: c_int) -> bool {
        // SAFETY: the index is checked.
        unsafe { ffi::lua_toboolean(self.0, self.check(index)) != 0 }
    }

    pub(crate) fn integer_at(self, index: c_int) -> Option<i64> {
        if self.type_at(index) != Type::Integer {
            return None;
        }
        // SAFETY: the index is checked and holds an integer.
        Some(unsafe { ffi::lua_tointegerx(self.0, index, ptr::null_mut()) })
    }

    pub(crate) fn float_at(self, index: c_int) -> Option<f64> {
        if self.type_at(index) != Type::Float {
            return None;
        }
        // SAFETY: the index is checked and holds a float.
        Some(unsafe { ffi::lua_tonumberx(self.0, index, ptr::null_mut()) })
    }

    /// Lends the bytes of a string to `look`, without copying them; `None` for anything else (nothing is converted).
    pub(crate) fn with_bytes<T>(self, index: c_int, look: impl FnOnce(&[u8]) -> T) -> Option<T> {
        if self.type_at(index) != Type::String {
            return None;
        }
        let mut length = 0;
        // SAFETY: the index is checked and holds a string, so nothing is converted; the string stays on the stack while
        // `look` runs, since `look` cannot reach this state through the slice.
        let bytes = unsafe {
            let start = ffi::lua_tolstring(self.0, index, &raw mut length);
            slice::from_raw_parts(start.cast::<u8>(), length)
        };
        Some(look(bytes))
    }

    /// A number as Lua prints it.
    pub(crate) fn number_text(self, index: c_int) -> Option<String> {
        if !matches!(self.type_at(index), Type::Integer | Type::Float) {
            return None;
        }
        unsafe extern "C-unwind" fn convert(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect` with a number, which becomes a string in place; nothing owned here.
            unsafe { ffi::lua_tolstring(raw, 1, ptr::null_mut()) };
            1
        }
        self.push_copy(index);
        self.protect(convert, 1, 1).ok()?;
        let text = self.text_at(-1);
        self.pop(1);
        text
    }

    pub(crate) fn text_at(self, index: c_int) -> Option<String> {
        self.with_bytes(index, |bytes| String::from_utf8_lossy(bytes).into_owned())
    }

    /// The address of a value that has one, for telling values apart.
    pub(crate) fn address_at(self, index: c_int) -> usize {
        // SAFETY: the index is checked; the pointer is only turned into a number.
        unsafe { ffi::lua_topointer(self.0, self.check(index)) as usize }
    }

    /// The thread at an index; it is alive as long as that slot holds it.
    pub(crate) fn thread_at(self, index: c_int) -> Option<Self> {
        if self.type_at(index) != Type::Thread {
            return None;
        }
        // SAFETY: the index is checked and holds a thread.
        Some(Self(unsafe { ffi::lua_tothread(self.0, index) }))
    }

    pub(crate) fn userdata_at(self, index: c_int) -> *mut c_void {
        // SAFETY: the index is checked; the pointer is null for anything else than userdata.
        unsafe { ffi::lua_touserdata(self.0, self.check(index)) }
    }

    pub(crate) fn is_native_function(self, index: c_int) -> bool {
        // SAFETY: the index is checked.
        unsafe { ffi::lua_iscfunction(self.0, self.check(index)) != 0 }
    }

    /// Pushes what a registry slot holds.
    pub(crate) fn push_slot(self, slot: Slot) -> Type {
        self.room(1);
        // SAFETY: there is room; the registry is a table.
        unsafe { ffi::lua_rawgetp(self.0, ffi::LUA_REGISTRYINDEX, slot.key()) };
        self.type_at(-1)
    }

    /// Takes the value on top into a registry slot.
    pub(crate) fn set_slot(self, slot: Slot) -> Result<(), EngineError> {
        self.push_pointer(slot.key().cast_mut());
        self.swap();
        self.raw_set(ffi::LUA_REGISTRYINDEX)
    }

    pub(crate) fn push_globals(self) {
        self.room(1);
        // SAFETY: there is room; the registry holds the globals at this index.
        unsafe { ffi::lua_rawgeti(self.0, ffi::LUA_REGISTRYINDEX, ffi::LUA_RIDX_GLOBALS) };
    }

    /// The main thread, which lives as long as the whole state.
    pub(crate) fn main_thread(self) -> Self {
        self.room(1);
        // SAFETY: there is room; the registry holds the main thread at this index.
        unsafe { ffi::lua_rawgeti(self.0, ffi::LUA_REGISTRYINDEX, ffi::LUA_RIDX_MAINTHREAD) };
        let main = self.thread_at(-1).unwrap_or(self);
        self.pop(1);
        main
    }

    /// Exchanges the two values on top.
    pub(crate) fn swap(self) {
        self.check(-2);
        // SAFETY: there are two values.
        unsafe { ffi::lua_rotate(self.0, -2, 1) };
    }

    /// Removes the value at a position counted from the bottom.
    pub(crate) fn remove(self, position: c_int) {
        self.check(position);
        // SAFETY: the position is checked; rotating by one brings the value to the top.
        unsafe { ffi::lua_rotate(self.0, position, -1) };
        self.pop(1);
    }

    /// Moves the value on top to a position counted from the bottom; those above it go up.
    pub(crate) fn insert(self, position: c_int) {
        self.check(position);
        // SAFETY: the position is checked.
        unsafe { ffi::lua_rotate(self.0, position, 1) };
    }

    /// The text of an object of the host whose `__tostring` is the host's own, such as its error values. Functions of the
    /// library, which scripts can put there, are not called: some of them run scripts.
    pub(crate) fn native_text_at(self, index: c_int) -> Option<String> {
        unsafe extern "C-unwind" fn text(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect` with one value; nothing owned here.
            unsafe { ffi::luaL_tolstring(raw, 1, ptr::null_mut()) };
            1
        }
        let top = self.top();
        let index = self.absolute(index);
        let is_hosts = self.type_at(index) == Type::Userdata
            && self.push_metatable(index)
            && self.raw_get_field(-1, "__tostring").is_ok()
            && self.is_native_function(-1)
            && native_at(self.native_address_at(-1)).is_none_or(|native| native.effect == Effect::Own);
        self.cut_to(top);
        if !is_hosts {
            return None;
        }
        self.push_copy(index);
        let found = self.protect(text, 1, 1).ok().and_then(|()| self.text_at(-1));
        self.cut_to(top);
        found
    }

    /// Moves `count` values from the top of this thread to the top of another one of the same state.
    pub(crate) fn move_to(self, other: Self, count: c_int) {
        if self == other || count == 0 {
            return;
        }
        self.check(-count);
        other.room(count);
        // SAFETY: the values are there, the other thread has room, and both belong to the same state.
        unsafe { ffi::lua_xmove(self.0, other.0, count) };
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
        self.push_function(function);
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
            ffi::lua_rotate(self.0, -1 - arguments, 1);
            ffi::lua_pcall(self.0, arguments, results, 0)
        };
        if status == ffi::LUA_OK {
            return Ok(());
        }
        let why = self.text_at(-1).unwrap_or_else(|| "an error without a text".to_owned());
        self.pop(1);
        Err(EngineError::Runtime(why))
    }

    /// The thread to call on instead of one that has died or waits in a yield, on which Lua forbids it.
    fn live_instead(self) -> Option<Self> {
        // SAFETY: the thread is live.
        let may_call = unsafe { ffi::lua_status(self.0) } == ffi::LUA_OK;
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
            ffi::luaL_loadbufferx(self.0, start, length, chunk_name.as_ptr(), c"t".as_ptr())
        };
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
            // SAFETY: `into` is the vector below, which nothing else touches during the dump; the bytes are valid for
            // the call. An allocation failure aborts and does not unwind.
            unsafe { (*into.cast::<Vec<u8>>()).extend_from_slice(slice::from_raw_parts(bytes.cast(), size)) };
            0
        }
        let mut chunk = Vec::new();
        self.push_copy(index);
        // SAFETY: a copy of the value is on top; the writer's target outlives the call.
        unsafe { ffi::lua_dump(self.0, write, (&raw mut chunk).cast(), c_int::from(strips)) };
        self.pop(1);
        chunk
    }

    /// Resumes a coroutine with the function and arguments on its stack. Answers whether it finished, and with how many
    /// values on its stack (one, the error, when it failed).
    pub(crate) fn resume(self, from: Self, arguments: c_int) -> (Resumed, c_int) {
        let mut results = 0;
        // SAFETY: a function and its arguments are on the coroutine's stack; `lua_resume` catches raises itself.
        let status = unsafe { ffi::lua_resume(self.0, from.0, arguments, &raw mut results) };
        match status {
            ffi::LUA_OK => (Resumed::Finished, results),
            ffi::LUA_YIELD => (Resumed::Yielded, results),
            _ => (Resumed::Failed, 1),
        }
    }

    /// Ends a coroutine, running what it left to be closed, as the hook that it has allows.
    pub(crate) fn close_thread(self, from: Self) {
        // SAFETY: the coroutine is not running; errors of closing are left on its own stack.
        unsafe { ffi::lua_closethread(self.0, from.0) };
    }

    /// Whether the thread is waiting in a yield.
    pub(crate) fn is_suspended(self) -> bool {
        // SAFETY: the thread is live.
        unsafe { ffi::lua_status(self.0) == ffi::LUA_YIELD }
    }

    /// Sets or removes the hook of this thread.
    pub(crate) fn set_hook(self, hook: Option<ffi::lua_Hook>, mask: c_int, count: c_int) {
        // SAFETY: the thread is live; hooks of this crate keep the rules of callbacks.
        unsafe { ffi::lua_sethook(self.0, hook, mask, count) };
    }

    /// Stops the collector while someone looks, so that no finalizer of the script runs because of it. Answers whether
    /// it was running.
    pub(crate) fn hold_collector(self) -> bool {
        // SAFETY: these calls take no further arguments and do not raise.
        unsafe {
            let was_running = ffi::lua_gc(self.0, ffi::LUA_GCISRUNNING) != 0;
            if was_running {
                ffi::lua_gc(self.0, ffi::LUA_GCSTOP);
            }
            was_running
        }
    }

    pub(crate) fn release_collector(self) {
        // SAFETY: the call takes no further arguments and does not raise.
        unsafe { ffi::lua_gc(self.0, ffi::LUA_GCRESTART) };
    }

    /// Pushes the captured variable `number` (counted from 1) of the function at `index` and answers its name.
    pub(crate) fn push_captured(self, index: c_int, number: usize) -> Option<String> {
        self.room(1);
        // SAFETY: the index is checked, there is room; the name lives as long as the function.
        unsafe {
            let name = ffi::lua_getupvalue(self.0, self.check(index), c_int::try_from(number).ok()?);
            (!name.is_null()).then(|| CStr::from_ptr(name).to_string_lossy().into_owned())
        }
    }

    /// The number of the captured variable of this name of the function at `index`.
    pub(crate) fn find_captured(self, index: c_int, name: &str) -> Option<usize> {
        self.room(1);
        let index = self.absolute(index);
        for number in 1.. {
            // SAFETY: as in `push_captured`; the value pushed is popped.
            let held = unsafe {
                let held = ffi::lua_getupvalue(self.0, index, number);
                if held.is_null() {
                    break;
                }
                ffi::lua_settop(self.0, -2);
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
        unsafe { ffi::lua_upvalueid(self.0, self.check(index), number) as usize }
    }

    /// Gives the captured variable `number` of the function at `index` the value on top, which is popped.
    pub(crate) fn set_captured(self, index: c_int, number: usize) {
        let index = self.absolute(index);
        // SAFETY: the index is checked and the value is on top; the number was read from the same function.
        unsafe { ffi::lua_setupvalue(self.0, index, c_int::try_from(number).unwrap_or(0)) };
    }
}

/// How a resume ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Resumed {
    Finished,
    Yielded,
    Failed,
}
