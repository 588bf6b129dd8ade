//! Which function runs, read from the engine's own records: three loads, where the C API would format names.
//!
//! Where the parts of those records lie is not part of the C API, so it is never assumed: [`is_known`] compares what is
//! read with what `lua_getinfo` says, for the very library this process runs, and everything here stays unused where the
//! two differ. The offsets are those of the version that this is built for ([`Records`](crate::dialect::Records)).

use std::ffi::{c_int, c_void};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::{mem, ptr};

use super::api as ffi;

use super::apart::in_new_state;
use crate::dialect::{Dialect as _, Version};

/// `CallInfo.func`, pointing to the value that holds the function.
const FUNCTION_OF_CALL: usize = Version::RECORDS.function_of_call;
/// The tag of that value, behind its eight bytes.
pub(super) const TAG_OF_VALUE: usize = 8;
pub(super) const SIZE_OF_VALUE: usize = 16;
/// The tag of a string that is interned (`LUA_VSHRSTR`, `BIT_ISCOLLECTABLE`).
pub(super) const SHORT_STRING: u8 = 4 | 64;
/// The tag of a native function without captured variables (`LUA_VLCF`).
pub(super) const NATIVE_FUNCTION: u8 = 6 | 1 << 4;
/// The tag of a function written in Lua: variant 0 of functions, collectable (`LUA_VLCL`, `BIT_ISCOLLECTABLE`).
pub(super) const LUA_FUNCTION: u8 = 6 | 64;
/// `LClosure.p`.
pub(super) const PROTOTYPE_OF_CLOSURE: usize = Version::RECORDS.prototype_of_closure;
/// Members of `Proto`: how many captured variables, constants, instructions, and functions inside; then the lines of its
/// definition, and where constants, instructions and the functions inside are.
pub(super) const CAPTURED_COUNT: usize = Version::RECORDS.captured_count;
pub(super) const CONSTANT_COUNT: usize = Version::RECORDS.constant_count;
pub(super) const CODE_COUNT: usize = Version::RECORDS.code_count;
pub(super) const INNER_COUNT: usize = Version::RECORDS.inner_count;
pub(super) const LAST_LINE_OF_PROTOTYPE: usize = Version::RECORDS.last_line;
pub(super) const CONSTANTS_OF_PROTOTYPE: usize = Version::RECORDS.constants;
pub(super) const CODE_OF_PROTOTYPE: usize = Version::RECORDS.code;
pub(super) const INNER_OF_PROTOTYPE: usize = Version::RECORDS.inner;
/// `Proto.linedefined`.
pub(super) const FIRST_LINE_OF_PROTOTYPE: usize = Version::RECORDS.first_line;
/// `Proto.source`.
const SOURCE_OF_PROTOTYPE: usize = Version::RECORDS.source;
/// `lua_State.l_G`, which all threads of a state share.
const SHARED_OF_THREAD: usize = Version::RECORDS.shared_of_thread;
/// `lua_State.allowhook`: 0 while a hook or a finalizer runs.
const HOOKS_OF_THREAD: usize = Version::RECORDS.hooks_of_thread;
/// `lua_State.stack`, where the stack begins, with the value that the call at the bottom has for its function.
const STACK_OF_THREAD: usize = Version::RECORDS.stack_of_thread;
/// `lua_State.ci`, the call under way.
const CALL_OF_THREAD: usize = Version::RECORDS.call_of_thread;
/// The tag of a native function with captured variables (`LUA_VCCL`, `BIT_ISCOLLECTABLE`), and `CClosure.f`.
pub(super) const NATIVE_CLOSURE: u8 = 6 | 2 << 4 | 64;
pub(super) const CODE_OF_NATIVE_CLOSURE: usize = Version::RECORDS.code_of_native_closure;
/// The text behind the header of a `TString`.
pub(super) const TEXT_OF_STRING: usize = Version::RECORDS.text_of_string;

/// A function written in Lua, as it is told from others: every instance of one definition has the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Definition {
    /// Address of what was compiled.
    pub(crate) prototype: usize,
    /// Line of the definition; 0 for a whole chunk.
    pub(crate) first_line: u32,
    /// Address of the chunk's name.
    pub(crate) source: usize,
}

/// `CallInfo.previous`, the call below.
const PREVIOUS_OF_CALL: usize = Version::RECORDS.previous_of_call;

/// The call below another one; null for the one at the bottom of a stack, which is of no function.
///
/// # Safety
/// [`is_known`] has answered true, and `call` belongs to a stack of this thread.
pub(super) unsafe fn call_below(call: *const c_void) -> *const c_void {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read(call.byte_add(PREVIOUS_OF_CALL).cast()) }
}

/// `CallInfo.u.l.savedpc`: the instruction behind the one that runs.
pub(super) const PLACE_OF_CALL: usize = Version::RECORDS.place_of_call;
pub(super) const SIZE_OF_INSTRUCTION: usize = 4;

/// The instruction that a call of a function written in Lua is at, in a hook.
///
/// # Safety
/// As [`definition_of`], for such a call.
pub(super) unsafe fn instruction_of_call(call: *const c_void) -> u32 {
    // SAFETY: given by the caller; the offset was checked, and the engine is behind the instruction.
    unsafe {
        let behind: *const u32 = ptr::read(call.byte_add(PLACE_OF_CALL).cast());
        ptr::read(behind.sub(1))
    }
}

/// The address of the instruction behind the one that a call of a function written in Lua is at.
///
/// # Safety
/// As [`definition_of`], for such a call.
pub(super) unsafe fn place_of_call(call: *const c_void) -> usize {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read(call.byte_add(PLACE_OF_CALL).cast()) }
}

/// Makes a record that `lua_getstack` filled in one of another call of the same stack.
///
/// # Safety
/// As [`call_below`].
pub(super) unsafe fn set_call(record: *mut ffi::lua_Debug, call: *const c_void) {
    let offset = mem::size_of::<ffi::lua_Debug>() - mem::size_of::<*const c_void>();
    // SAFETY: given by the caller; the member lies within the record (see `call_of`).
    unsafe { ptr::write(record.byte_add(offset).cast(), call) };
}

/// The engine's record of the call that a hook was called for.
///
/// # Safety
/// `record` was filled in by Lua.
pub(super) unsafe fn call_of(record: *const ffi::lua_Debug) -> *const c_void {
    // The last member, which is private to the engine and has no name in the binding.
    let offset = mem::size_of::<ffi::lua_Debug>() - mem::size_of::<*const c_void>();
    // SAFETY: given by the caller; the member lies within the record.
    unsafe { ptr::read(record.byte_add(offset).cast()) }
}

/// What tells the state of a thread from others, as long as it is open.
///
/// # Safety
/// [`is_known`] has answered true, and `raw` is a live thread.
#[inline]
pub(super) unsafe fn state_of(raw: *mut ffi::lua_State) -> usize {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read(raw.cast::<c_void>().byte_add(SHARED_OF_THREAD).cast()) }
}

/// The engine's record of the call under way on a thread.
///
/// # Safety
/// As [`state_of`].
pub(super) unsafe fn current_call(raw: *mut ffi::lua_State) -> *const c_void {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read(raw.cast::<c_void>().byte_add(CALL_OF_THREAD).cast()) }
}

/// Whether a thread runs a hook or a finalizer.
///
/// # Safety
/// As [`state_of`].
pub(super) unsafe fn keeps_hooks_off(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read(raw.cast::<u8>().byte_add(HOOKS_OF_THREAD)) == 0 }
}

/// Where the value of the function of a call lies; null for none.
///
/// # Safety
/// As [`call_below`].
pub(super) unsafe fn function_of_call(call: *const c_void) -> *const c_void {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read(call.byte_add(FUNCTION_OF_CALL).cast()) }
}

/// How far above the bottom of the stack the function of a call lies, in bytes: the same for as long as the call goes on.
///
/// # Safety
/// As [`call_below`], for a call of this thread.
#[inline]
pub(super) unsafe fn offset_of_call(raw: *mut ffi::lua_State, call: *const c_void) -> usize {
    // SAFETY: given by the caller; the offset was checked.
    unsafe {
        let stack: usize = ptr::read(raw.cast::<c_void>().byte_add(STACK_OF_THREAD).cast());
        function_of_call(call) as usize - stack
    }
}

/// Whether a thread has a stack: one that is being made has none yet, and one for which there was no memory never has.
///
/// # Safety
/// As [`state_of`].
pub(super) unsafe fn has_stack(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller; the offset was checked.
    unsafe { ptr::read::<usize>(raw.cast::<c_void>().byte_add(STACK_OF_THREAD).cast()) != 0 }
}

/// The address of the native function of a call, if it has no captured variables.
///
/// # Safety
/// As [`call_below`].
pub(super) unsafe fn native_of_call(call: *const c_void) -> Option<usize> {
    // SAFETY: given by the caller: the function of a call lies on the stack.
    unsafe {
        let value = function_of_call(call);
        let is_native = ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) == NATIVE_FUNCTION;
        is_native.then(|| ptr::read(value.cast()))
    }
}

/// The definition of the function of a call; `None` for one that is not written in Lua.
///
/// # Safety
/// [`is_known`] has answered true, and `call` belongs to a function on a stack of this thread.
#[inline]
pub(super) unsafe fn definition_of(call: *const c_void) -> Option<Definition> {
    // SAFETY: given by the caller: the call points to the value of its function, which is on the stack and thus alive
    // with its closure and prototype; the offsets were checked.
    unsafe {
        let value: *const c_void = ptr::read(call.byte_add(FUNCTION_OF_CALL).cast());
        if ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) != LUA_FUNCTION {
            return None;
        }
        let closure: *const c_void = ptr::read(value.cast());
        let prototype: *const c_void = ptr::read(closure.byte_add(PROTOTYPE_OF_CLOSURE).cast());
        Some(Definition {
            prototype: prototype as usize,
            first_line: ptr::read(prototype.byte_add(FIRST_LINE_OF_PROTOTYPE).cast()),
            source: ptr::read(prototype.byte_add(SOURCE_OF_PROTOTYPE).cast()),
        })
    }
}

/// Calls compared in the check, and those that agreed.
static COMPARED: [AtomicUsize; 3] = [const { AtomicUsize::new(0) }; 3];
const SCRIPT_AGREED: usize = 0;
const NATIVE_AGREED: usize = 1;
const DIFFERED: usize = 2;

unsafe extern "C-unwind" fn compare(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: called by Lua as a hook with the record of the running function; `lua_getinfo` fills in `S` and pushes the
    // function, for which a hook has room.
    let outcome = unsafe {
        ffi::lua_getinfo(raw, c"Sf".as_ptr(), record);
        let (closure, is_native) = (ffi::lua_topointer(raw, -1), ffi::lua_iscfunction(raw, -1) != 0);
        ffi::lua_settop(raw, -2);
        agrees(raw, record, closure, is_native)
    };
    COMPARED[if !outcome {
        DIFFERED
    } else if closure_is_native(record) {
        NATIVE_AGREED
    } else {
        SCRIPT_AGREED
    }]
    .fetch_add(1, Relaxed);
}

fn closure_is_native(record: *const ffi::lua_Debug) -> bool {
    // SAFETY: called by `compare`, after `S` was filled in: `what` is a text of static lifetime.
    unsafe { std::ffi::CStr::from_ptr((*record).what).to_bytes() == b"C" }
}

/// Whether the records say of a call what the C API says. Each pointer is followed only when the one before it agreed.
///
/// # Safety
/// `record` is that of the function running on `raw`, with `S` filled in; `closure` is its address.
unsafe fn agrees(
    raw: *mut ffi::lua_State,
    record: *const ffi::lua_Debug,
    closure: *const c_void,
    is_native: bool,
) -> bool {
    // SAFETY: given by the caller. The call's first member is compared with the closure's address, found by the C API,
    // before anything behind it is read; a Lua closure is longer than the offset of its prototype, and a prototype than
    // those of its members.
    unsafe {
        let call = call_of(record);
        if call.is_null() || !(call as usize).is_multiple_of(8) {
            return false;
        }
        // This is a hook.
        if current_call(raw) != call || !keeps_hooks_off(raw) {
            return false;
        }
        // The C API says which call is below, and whether there is one.
        let mut below = mem::zeroed::<ffi::lua_Debug>();
        let previous: *const c_void = ptr::read(call.byte_add(PREVIOUS_OF_CALL).cast());
        let has_below = ffi::lua_getstack(raw, 1, &raw mut below) != 0;
        let is_bottom = || ptr::read::<*const c_void>(previous.byte_add(PREVIOUS_OF_CALL).cast()).is_null();
        if previous.is_null() || has_below && call_of(&raw const below) != previous || has_below == is_bottom() {
            return false;
        }
        // The call at the bottom has the first value of the stack for its function.
        let mut bottom = previous;
        while !call_below(bottom).is_null() {
            bottom = call_below(bottom);
        }
        if ptr::read::<*const c_void>(raw.cast::<c_void>().byte_add(STACK_OF_THREAD).cast()) != function_of_call(bottom)
        {
            return false;
        }
        let value: *const c_void = ptr::read(call.byte_add(FUNCTION_OF_CALL).cast());
        if value.is_null() || !(value as usize).is_multiple_of(8) {
            return false;
        }
        let is_script = ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) == LUA_FUNCTION;
        if is_native || !is_script {
            return is_native != is_script;
        }
        if ptr::read(value.cast::<*const c_void>()) != closure {
            return false;
        }
        let Some(found) = definition_of(call) else { return false };
        // A function that is called has come to its first instruction, or to the one behind that which prepares arguments.
        let code = ptr::read::<usize>((found.prototype as *const c_void).byte_add(CODE_OF_PROTOTYPE).cast());
        if ![1, 2].contains(
            &(ptr::read::<usize>(call.byte_add(PLACE_OF_CALL).cast()).wrapping_sub(code) / SIZE_OF_INSTRUCTION),
        ) {
            return false;
        }
        let name = (*record).source as usize;
        // The name is the whole script here, which is long.
        let text = (found.source as *const c_void).byte_add(TEXT_OF_STRING);
        let text = if Version::POINTS_TO_LONG_TEXTS { ptr::read(text.cast::<usize>()) } else { text as usize };
        c_int::try_from(found.first_line) == Ok((*record).linedefined) && text == name
    }
}

/// Whether this library's records lie where this module reads them: found out once, on functions of a state of its own.
pub(crate) fn is_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| {
        if mem::size_of::<usize>() != 8 {
            return false;
        }
        let script = c"local function one(x)\n  return x\nend\n\n\nlocal function two(x, y, ...)\n  local z = one(x)\n  return z\nend\nlocal function three() return two(1, 2, 3) end\nthree() return (two(native(one(5)))) + three()";
        // SAFETY: the state is used here alone, on one thread; what is loaded runs under `lua_pcall`, and the hook only reads.
        let known = in_new_state(|state| unsafe {
            let raw = state.raw();
            ffi::lua_pushcfunction(raw, native);
            ffi::lua_setglobal(raw, c"native".as_ptr());
            ffi::lua_sethook(raw, Some(compare), ffi::LUA_MASKCALL, 0);
            let ran = ffi::luaL_loadstring(raw, script.as_ptr()) == ffi::LUA_OK
                && ffi::lua_pcall(raw, 0, 0, 0) == ffi::LUA_OK;
            let [script, native, differed] =
                [SCRIPT_AGREED, NATIVE_AGREED, DIFFERED].map(|at| COMPARED[at].load(Relaxed));
            ffi::lua_sethook(raw, None, 0, 0);
            // What lies behind a call is read only where every call was what it should be.
            let agreed = ran && script >= 8 && native >= 1 && differed == 0 && !keeps_hooks_off(raw);
            agreed && threads_share(raw) && prototypes_are_as_dumped(raw)
        });
        // Without memory for a state nothing is known, and nothing is said of the engine.
        let Some(known) = known else { return false };
        if !known {
            tracing::info!("the engine's records are not known: breakpoints are watched for in every function");
        }
        known
    })
}

/// Whether two threads of a state have the same in common, and another state something else.
///
/// # Safety
/// `raw` is a live thread of this OS thread.
unsafe fn threads_share(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller; a thread is far longer than the offset read.
    let shares = in_new_state(|other| unsafe {
        let sibling = ffi::lua_newthread(raw);
        let [own, siblings, others] = [raw, sibling, other.raw()].map(|thread| state_of(thread));
        own != 0 && own % 8 == 0 && own == siblings && own != others
    });
    shares == Some(true)
}

/// Whether a small function has the members that it must have: of one function inside, on line 2, that captures one
/// variable and holds the constant `seven letters`, and whose first instruction is the one that its dump has.
///
/// # Safety
/// `raw` is a live thread of this OS thread, with room for four values.
unsafe fn prototypes_are_as_dumped(raw: *mut ffi::lua_State) -> bool {
    let script = c"local x = 1\nlocal function f()\n  x = 'seven letters'\n  return x, 2.5\nend\nreturn f";
    // SAFETY: given by the caller; each count is compared with what it must be before an array is read by it.
    unsafe {
        let top = ffi::lua_gettop(raw);
        if ffi::luaL_loadstring(raw, script.as_ptr()) != ffi::LUA_OK {
            return false;
        }
        let member = |of: *const c_void, offset: usize| ptr::read::<*const c_void>(of.byte_add(offset).cast());
        let count = |of: *const c_void, offset: usize| ptr::read::<c_int>(of.byte_add(offset).cast());
        let outer = member(ffi::lua_topointer(raw, -1), PROTOTYPE_OF_CLOSURE);
        let is_outer = count(outer, INNER_COUNT) == 1
            && count(outer, CAPTURED_COUNT) == 1
            && (count(outer, FIRST_LINE_OF_PROTOTYPE), count(outer, LAST_LINE_OF_PROTOTYPE)) == (0, 0);
        if !is_outer || ffi::lua_pcall(raw, 0, 1, 0) != ffi::LUA_OK {
            ffi::lua_settop(raw, top);
            return false;
        }
        let inner = member(ffi::lua_topointer(raw, -1), PROTOTYPE_OF_CLOSURE);
        ffi::lua_pushstring(raw, c"seven letters".as_ptr());
        let text = ffi::lua_tolstring(raw, -1, ptr::null_mut()) as usize - TEXT_OF_STRING;
        let is_inner = ptr::read::<*const c_void>(member(outer, INNER_OF_PROTOTYPE).cast()) == inner
            && count(inner, CAPTURED_COUNT) == 1
            && (count(inner, FIRST_LINE_OF_PROTOTYPE), count(inner, LAST_LINE_OF_PROTOTYPE)) == (2, 5)
            && count(inner, CONSTANT_COUNT) >= 1
            && count(inner, CODE_COUNT) >= 4;
        let has_constant = is_inner && {
            let constants = member(inner, CONSTANTS_OF_PROTOTYPE);
            let tag = ptr::read(constants.byte_add(TAG_OF_VALUE).cast::<u8>());
            tag == SHORT_STRING && ptr::read(constants.cast::<usize>()) == text
        };
        let tag_of_native = native_tag(raw, 0);
        let closures_are_known = native_tag(raw, 1) == Some(NATIVE_CLOSURE) && {
            ffi::lua_pushnil(raw);
            ffi::lua_pushcclosure(raw, native, 1);
            ptr::eq(member(ffi::lua_topointer(raw, -1), CODE_OF_NATIVE_CLOSURE), native as *const c_void)
        };
        ffi::lua_settop(raw, top);
        has_constant
            && closures_are_known
            && tag_of_native == Some(NATIVE_FUNCTION)
            && !member(inner, CODE_OF_PROTOTYPE).is_null()
    }
}

/// The tag of a native function with this many captured variables, read off the call of one.
///
/// # Safety
/// As [`prototypes_are_as_dumped`], and calls are known to lie where this module reads them.
unsafe fn native_tag(raw: *mut ffi::lua_State, captured: c_int) -> Option<u8> {
    static SEEN: AtomicUsize = AtomicUsize::new(usize::MAX);
    unsafe extern "C-unwind" fn see(_: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
        // SAFETY: called by Lua as a hook.
        unsafe {
            let value: *const c_void = ptr::read(call_of(record).byte_add(FUNCTION_OF_CALL).cast());
            SEEN.store(usize::from(ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>())), Relaxed);
        }
    }
    // SAFETY: given by the caller; the hook is removed again.
    unsafe {
        ffi::lua_sethook(raw, Some(see), ffi::LUA_MASKCALL, 0);
        (0..captured).for_each(|_| ffi::lua_pushnil(raw));
        ffi::lua_pushcclosure(raw, native, captured);
        ffi::lua_pushnil(raw);
        ffi::lua_callk(raw, 1, 0, 0, None);
        ffi::lua_sethook(raw, None, 0, 0);
    }
    u8::try_from(SEEN.load(Relaxed)).ok()
}

unsafe extern "C-unwind" fn native(_: *mut ffi::lua_State) -> c_int {
    1
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_records_of_the_vendored_engine_are_known() {
        assert!(super::is_known());
    }
}
