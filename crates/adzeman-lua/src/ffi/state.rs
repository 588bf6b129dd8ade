//! A Lua thread with the C API's rules kept.

use std::ffi::{c_int, c_void};
use std::{ptr, slice};

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::collector;
use super::layout;
use super::library::{Effect, native_at};
use crate::dialect::{Dialect as _, Version};

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
    /// What a walk over all objects is kept by.
    Sweep,
    /// The same of the walk that goes on in the background.
    Renewal,
    /// Functions that were on a stack when they should have got another body, weakly.
    Left,
    /// The runs of coroutines that the host resumes, weakly.
    Hosted,
    /// The host's function of the name `print` that was replaced.
    HostPrint,
    /// The error that a script is stopped at.
    Raised,
    /// What functions see as their globals that use none, by the names of their chunks.
    Environments,
    /// What the walk is kept by that finds those.
    EnvironmentSweep,
    /// The same of the walk that finds functions whose text is changed.
    Reload,
    /// Functions that ran when the text of their source was changed.
    KeptOn,
    /// What functions call since their text was changed that capture more by it, by those functions, which it keeps not alive.
    Forwards,
    /// Those of them that ran when their text was changed, weakly.
    Late,
    /// The thread on which values are looked at.
    Work,
    /// What the walks are kept by that count values: those without finalizers, and those with.
    Census,
    CensusFinalized,
    /// Native functions that exchanged bodies call, by their addresses, where they are objects.
    Callable,
}

/// Addresses that no one else uses as registry keys.
static SLOTS: [u8; 29] = [0; 29];

impl Slot {
    pub(super) fn key(self) -> *const c_void {
        (&raw const SLOTS[self as usize]).cast()
    }

    /// Whether the value on top is the key of one.
    pub(super) fn is_one(state: State) -> bool {
        let held = SLOTS.as_ptr_range();
        // SAFETY: there is a value on top, and nothing is converted.
        let key = unsafe {
            let is_light = ffi::lua_islightuserdata(state.raw(), -1) != 0;
            is_light.then(|| ffi::lua_touserdata(state.raw(), -1).cast_const().cast::<u8>())
        };
        key.is_some_and(|key| held.contains(&key))
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

    /// Whether a hook or a finalizer runs, as far as that is known.
    pub(crate) fn keeps_hooks_off(self) -> bool {
        // SAFETY: the layout is known, and the thread is live.
        layout::is_known() && unsafe { layout::keeps_hooks_off(self.raw()) }
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

    /// Pushes a native function without captured values: the one there is of it in this state, where it is an object.
    ///
    /// # Errors
    /// When the state has no memory left for that.
    pub(crate) fn push_function(self, function: ffi::lua_CFunction) -> Result<(), EngineError> {
        self.room(3);
        if Version::TAGS.is_native_of_closure.is_none() {
            // SAFETY: there is room, and nothing is allocated.
            unsafe { ffi::lua_pushcfunction(self.0, function) };
            return Ok(());
        }
        if !self.push_made(function) {
            self.make(function)?;
            self.push_made(function);
        }
        Ok(())
    }

    /// Pushes the object that a native function is in this state; false, and nothing pushed, where there is none yet.
    fn push_made(self, function: ffi::lua_CFunction) -> bool {
        if self.push_slot(Slot::Callable) == Type::Table {
            self.push_pointer(function as *mut c_void);
            self.raw_get(-2);
            self.remove(self.top() - 1);
            if self.type_at(-1) == Type::Function {
                return true;
            }
        }
        self.pop(1);
        false
    }

    /// Makes that object.
    #[cfg(feature = "lua51")]
    fn make(self, function: ffi::lua_CFunction) -> Result<(), EngineError> {
        unsafe extern "C-unwind" fn make(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `lua_cpcall` with the address of a native function; nothing owned here.
            unsafe {
                let function = ffi::lua_touserdata(raw, 1);
                if ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Callable.key()) != ffi::LUA_TTABLE {
                    ffi::lua_createtable(raw, 0, 8);
                    ffi::lua_pushvalue(raw, -1);
                    ffi::lua_rawsetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Callable.key());
                }
                ffi::lua_pushvalue(raw, 1);
                ffi::lua_pushcfunction(raw, std::mem::transmute::<*mut c_void, ffi::lua_CFunction>(function));
                ffi::lua_rawset(raw, -3);
            }
            0
        }
        // SAFETY: it may be called on any thread that is neither dead nor waits in a yield; what it raises is caught.
        unsafe {
            let live = self.live_instead().unwrap_or(self).0;
            if ffi::lua_cpcall(live, make, function as *mut c_void) == ffi::LUA_OK {
                return Ok(());
            }
            ffi::lua_settop(live, -2);
        }
        Err(EngineError::Runtime("not enough memory".to_owned()))
    }

    #[cfg(not(feature = "lua51"))]
    fn make(self, _: ffi::lua_CFunction) -> Result<(), EngineError> {
        Ok(())
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

    /// The address that a light userdata is; 0 for any other value.
    #[cfg(feature = "async")]
    pub(crate) fn light_address_at(self, index: c_int) -> usize {
        // SAFETY: the index is checked.
        unsafe {
            let index = self.check(index);
            if ffi::lua_islightuserdata(self.0, index) == 0 { 0 } else { ffi::lua_touserdata(self.0, index) as usize }
        }
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
        if self.push_slot(slot) != Type::Nil {
            self.pop(1);
            // SAFETY: the value is on top; the registry is a table, which needs no memory for a key that it has.
            unsafe { ffi::lua_rawsetp(self.0, ffi::LUA_REGISTRYINDEX, slot.key()) };
            return Ok(());
        }
        self.pop(1);
        self.push_pointer(slot.key().cast_mut());
        self.swap();
        self.raw_set(ffi::LUA_REGISTRYINDEX)
    }

    /// Forgets what is in a registry slot. Nothing is called for it, which a hook of the script's own would see.
    pub(crate) fn clear_slot(self, slot: Slot) {
        self.room(1);
        // SAFETY: there is room; the registry is a table, and to take out of it what it holds needs no memory.
        unsafe {
            ffi::lua_pushnil(self.0);
            ffi::lua_rawsetp(self.0, ffi::LUA_REGISTRYINDEX, slot.key());
        }
    }

    pub(crate) fn push_globals(self) {
        self.room(1);
        // SAFETY: there is room.
        unsafe { ffi::lua_pushglobaltable(self.0) };
    }

    /// The main thread, which lives as long as the whole state.
    pub(crate) fn main_thread(self) -> Self {
        if Version::CALLS_ARE_NUMBERED {
            // SAFETY: the thread is live. Where the layout is not known, the thread that is asked is as good.
            let main = layout::is_known().then(|| unsafe { layout::main_thread(self.0) }).flatten();
            return Self(main.unwrap_or(self.0));
        }
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

    /// Takes the value on top into the place of the one at a position.
    pub(crate) fn replace(self, position: c_int) {
        self.check(position);
        // SAFETY: the position is checked, and there is a value on top.
        unsafe {
            ffi::lua_copy(self.0, -1, position);
            ffi::lua_settop(self.0, -2);
        }
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

    /// Whether the thread is waiting in a yield.
    pub(crate) fn is_suspended(self) -> bool {
        // SAFETY: the thread is live.
        unsafe { ffi::lua_status(self.0) == ffi::LUA_YIELD }
    }

    /// Whether the thread is a coroutine that was not resumed yet.
    pub(crate) fn is_yet_to_begin(self) -> bool {
        // SAFETY: the thread is live.
        let is_at_rest = unsafe { ffi::lua_status(self.0) == ffi::LUA_OK };
        is_at_rest && self.level(0).is_none() && self.top() > 0
    }

    /// Whether the thread has ended by an error.
    pub(crate) fn has_failed(self) -> bool {
        // SAFETY: the thread is live.
        unsafe { ffi::lua_status(self.0) > ffi::LUA_YIELD }
    }

    /// Whether the thread has a hook of this crate.
    pub(crate) fn is_hooked_by_us(self) -> bool {
        // SAFETY: the thread is live.
        unsafe { ffi::lua_gethook(self.0).is_some_and(super::hook::is_ours) }
    }

    /// Sets or removes the hook of this thread.
    pub(crate) fn set_hook(self, hook: Option<ffi::lua_Hook>, mask: c_int, count: c_int) {
        // SAFETY: the thread is live; hooks of this crate keep the rules of callbacks.
        unsafe { ffi::lua_sethook(self.0, hook, mask, count) };
    }

    /// Stops the collector while someone looks, so that no finalizer of the script runs because of it. Answers whether
    /// it was running.
    pub(crate) fn hold_collector(self) -> bool {
        // SAFETY: the thread is live.
        unsafe { collector::pause_collector(self.0) }
    }

    pub(crate) fn release_collector(self) {
        // SAFETY: the thread is live, and its collector was paused.
        unsafe { collector::resume_collector(self.0) };
    }
}
