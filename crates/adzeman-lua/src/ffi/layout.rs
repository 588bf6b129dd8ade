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
use crate::dialect::operations::Operation;
use crate::dialect::{Calls, Dialect as _, Tags, Version};

/// `CallInfo.func`, pointing to the value that holds the function.
const FUNCTION_OF_CALL: usize = Version::RECORDS.function_of_call;
/// The tag of that value, behind its eight bytes.
pub(super) const TAG_OF_VALUE: usize = 8;
pub(super) const SIZE_OF_VALUE: usize = 16;
const TAGS: &Tags = &Version::TAGS;
pub(super) const SHORT_STRING: u8 = TAGS.short_string;
/// The tag of a native function without captured variables (`LUA_VLCF`).
pub(super) const NATIVE_FUNCTION: u8 = TAGS.native;
/// The tag of a function written in Lua (`LUA_VLCL`, `BIT_ISCOLLECTABLE`); of another one as well, where [that is said elsewhere](is_script).
pub(super) const LUA_FUNCTION: u8 = TAGS.script;
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
pub(super) const NATIVE_CLOSURE: u8 = TAGS.native_closure;
pub(super) const CODE_OF_NATIVE_CLOSURE: usize = Version::RECORDS.code_of_native_closure;
/// `CClosure.nupvalues`, where a function says whether it is native.
const CAPTURED_OF_NATIVE: usize = 11;
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

/// The call below another one; null for the one at the bottom of a stack, which is of no function.
///
/// # Safety
/// [`is_known`] has answered true, and `call` belongs to the stack of `raw`, a thread of this OS thread.
#[inline]
pub(super) unsafe fn call_below(raw: *mut ffi::lua_State, call: *const c_void) -> *const c_void {
    // SAFETY: given by the caller; the offsets were checked.
    unsafe {
        match Version::RECORDS.calls {
            Calls::Linked { previous } => ptr::read(call.byte_add(previous).cast()),
            Calls::Numbered { first_of_thread, .. } if call == first_call(raw, first_of_thread) => ptr::null(),
            Calls::Numbered { size, .. } => call.byte_sub(size),
        }
    }
}

/// Where the calls of a thread begin that are in an array.
///
/// # Safety
/// `raw` is a live thread, and the member lies there.
unsafe fn first_call(raw: *mut ffi::lua_State, first_of_thread: usize) -> *const c_void {
    // SAFETY: given by the caller.
    unsafe { ptr::read(raw.cast::<c_void>().byte_add(first_of_thread).cast()) }
}

/// What tells a call from all others under way, whatever is called meanwhile; used again for a later one at the same depth.
///
/// # Safety
/// As [`call_below`].
#[inline]
pub(super) unsafe fn identity_of_call(raw: *mut ffi::lua_State, call: *const c_void) -> usize {
    match Version::RECORDS.calls {
        Calls::Linked { .. } => call as usize,
        Calls::Numbered { first_of_thread, size, .. } => {
            // SAFETY: given by the caller.
            let first = unsafe { first_call(raw, first_of_thread) };
            numbered(raw, (call as usize - first as usize) / size)
        }
    }
}

/// The same for the call that a record is of, whether the layout is known or not.
///
/// # Safety
/// `record` was filled in by Lua, for a call of `raw`.
#[inline]
pub(super) unsafe fn identity_of(raw: *mut ffi::lua_State, record: *const ffi::lua_Debug) -> usize {
    // SAFETY: given by the caller; the member lies within the record.
    unsafe {
        match Version::RECORDS.calls {
            Calls::Linked { .. } => ptr::read(record.byte_add(CALL_OF_DEBUG).cast()),
            Calls::Numbered { .. } => numbered(raw, number_of(record)),
        }
    }
}

/// No address of a program has the bits of the number, of which there are fewer than 32768 (`LUAI_MAXCALLS`).
fn numbered(raw: *mut ffi::lua_State, number: usize) -> usize {
    raw as usize | number << 48
}

/// # Safety
/// As [`identity_of`], where calls have numbers.
unsafe fn number_of(record: *const ffi::lua_Debug) -> usize {
    // SAFETY: given by the caller.
    usize::try_from(unsafe { ptr::read(record.byte_add(CALL_OF_DEBUG).cast::<c_int>()) }).unwrap_or(0)
}

/// `CallInfo.u.l.savedpc`: the instruction behind the one that runs.
const PLACE_OF_CALL: usize = Version::RECORDS.place_of_call;
pub(super) const SIZE_OF_INSTRUCTION: usize = 4;

/// The instruction that a call of a function written in Lua is at, in a hook.
///
/// # Safety
/// As [`call_below`] and [`definition_of`], for such a call.
pub(super) unsafe fn instruction_of_call(raw: *mut ffi::lua_State, call: *const c_void) -> u32 {
    // SAFETY: given by the caller; the engine is behind the instruction.
    unsafe { ptr::read((place_of_call(raw, call) as *const u32).sub(1)) }
}

/// The address of the instruction behind the one that a call of a function written in Lua is at.
///
/// # Safety
/// As [`call_below`] and [`definition_of`], for such a call.
pub(super) unsafe fn place_of_call(raw: *mut ffi::lua_State, call: *const c_void) -> usize {
    // SAFETY: given by the caller; the offsets were checked.
    unsafe {
        if let Calls::Numbered { place_of_thread, .. } = Version::RECORDS.calls
            && call == current_call(raw)
        {
            return ptr::read(raw.cast::<c_void>().byte_add(place_of_thread).cast());
        }
        ptr::read(call.byte_add(PLACE_OF_CALL).cast())
    }
}

/// Has the call that runs keep its place, at the beginning of a hook. Where calls are in an array it has that only once it has called
/// something, and what is raised without a call, as by a text that does not compile, goes back to the place it had before (`luaD_pcall` of
/// 5.1): in a hook that is one of another call.
///
/// # Safety
/// `raw` runs a hook for a call of a function.
#[inline]
pub(super) unsafe fn keep_place(raw: *mut ffi::lua_State) {
    if let Calls::Numbered { place_of_thread, .. } = Version::RECORDS.calls
        && is_known()
    {
        // SAFETY: given by the caller; the offsets were checked.
        unsafe {
            let place: usize = ptr::read(raw.cast::<c_void>().byte_add(place_of_thread).cast());
            current_call(raw).byte_add(PLACE_OF_CALL).cast_mut().cast::<usize>().write(place);
        }
    }
}

/// Where in a `lua_Debug` it is said which call it is of: the last member, which is private to the engine.
const CALL_OF_DEBUG: usize = mem::size_of::<ffi::lua_Debug>()
    - match Version::RECORDS.calls {
        Calls::Linked { .. } => mem::size_of::<*const c_void>(),
        Calls::Numbered { .. } => mem::size_of::<c_int>(),
    };

/// Makes a record that `lua_getstack` filled in one of another call of the same stack.
///
/// # Safety
/// As [`call_below`].
pub(super) unsafe fn set_call(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug, call: *const c_void) {
    // SAFETY: given by the caller; the member lies within the record.
    unsafe {
        let member = record.byte_add(CALL_OF_DEBUG);
        match Version::RECORDS.calls {
            Calls::Linked { .. } => member.cast::<*const c_void>().write(call),
            Calls::Numbered { first_of_thread, size, .. } => {
                let number = (call as usize - first_call(raw, first_of_thread) as usize) / size;
                member.cast::<c_int>().write(c_int::try_from(number).unwrap_or(0));
            }
        }
    }
}

/// The engine's record of the call that a hook was called for, or that a record is of; null where it is not known where that lies.
///
/// # Safety
/// `record` was filled in by Lua, for a call of `raw`.
#[inline]
pub(super) unsafe fn call_of(raw: *mut ffi::lua_State, record: *const ffi::lua_Debug) -> *const c_void {
    // SAFETY: given by the caller.
    if !Version::CALLS_ARE_NUMBERED || is_known() { unsafe { call_in(raw, record) } } else { ptr::null() }
}

/// The same while it is found out whether it is known.
///
/// # Safety
/// As [`call_of`]; the offsets are right, or what lies there is only compared.
unsafe fn call_in(raw: *mut ffi::lua_State, record: *const ffi::lua_Debug) -> *const c_void {
    // SAFETY: given by the caller; the member lies within the record.
    unsafe {
        match Version::RECORDS.calls {
            Calls::Linked { .. } => ptr::read(record.byte_add(CALL_OF_DEBUG).cast()),
            Calls::Numbered { first_of_thread, size, .. } => {
                first_call(raw, first_of_thread).wrapping_byte_add(number_of(record) * size)
            }
        }
    }
}

/// The main thread of the state that a thread is of, where the registry has none.
///
/// # Safety
/// As [`state_of`].
pub(super) unsafe fn main_thread(raw: *mut ffi::lua_State) -> Option<*mut ffi::lua_State> {
    let Calls::Numbered { main_thread, .. } = Version::RECORDS.calls else { return None };
    // SAFETY: given by the caller; the offset was checked.
    Some(unsafe { ptr::read((state_of(raw) as *const c_void).byte_add(main_thread).cast()) })
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

/// Where the value at an index lies, counted from the bottom of what runs on a thread: behind its function, or behind extra arguments.
///
/// # Safety
/// As [`state_of`].
pub(super) unsafe fn value_at(raw: *mut ffi::lua_State, index: c_int) -> *const c_void {
    let number = usize::try_from(index).unwrap_or(0);
    // SAFETY: given by the caller; the offsets were checked.
    unsafe {
        match Version::RECORDS.calls {
            Calls::Linked { .. } => function_of_call(current_call(raw)).wrapping_byte_add(number * SIZE_OF_VALUE),
            Calls::Numbered { values_of_thread, .. } => {
                let first: *const c_void = ptr::read(raw.cast::<c_void>().byte_add(values_of_thread).cast());
                first.wrapping_byte_add(number.wrapping_sub(1).wrapping_mul(SIZE_OF_VALUE))
            }
        }
    }
}

/// Where in the record of a call it is said where its function lies.
pub(super) fn function_in(call: *const c_void) -> *const c_void {
    call.wrapping_byte_add(FUNCTION_OF_CALL)
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
        if TAGS.is_native_of_closure.is_some() {
            let closure: *const c_void = ptr::read(value.cast());
            let captures_nothing = || ptr::read(closure.byte_add(CAPTURED_OF_NATIVE).cast::<u8>()) == 0;
            let is_it = ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) == NATIVE_CLOSURE
                && !is_script(value)
                && captures_nothing();
            return is_it.then(|| ptr::read(closure.byte_add(CODE_OF_NATIVE_CLOSURE).cast()));
        }
        let is_native = ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) == NATIVE_FUNCTION;
        is_native.then(|| ptr::read(value.cast()))
    }
}

/// Whether a value is a function written in Lua.
///
/// # Safety
/// It is a value, whose object is alive if it is one; the layout is known.
#[inline]
pub(super) unsafe fn is_script(value: *const c_void) -> bool {
    // SAFETY: given by the caller.
    unsafe {
        let has_tag = ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) == LUA_FUNCTION;
        let is_native = |at| ptr::read(ptr::read::<*const u8>(value.cast()).add(at)) != 0;
        has_tag && !TAGS.is_native_of_closure.is_some_and(is_native)
    }
}

/// The record of the captured variable `number`, counted from 1, of the function at an index, which functions share that share the variable;
/// null where there is none.
///
/// # Safety
/// There is a function at the index of a live thread.
#[cfg(feature = "lua51")]
pub(super) unsafe fn captured_of(raw: *mut ffi::lua_State, index: c_int, number: c_int) -> *const c_void {
    // SAFETY: given by the caller.
    unsafe { place_captured(raw, index, number).map_or(ptr::null(), |place| ptr::read(place)) }
}

/// Has a function share a captured variable of another one.
///
/// # Safety
/// As [`captured_of`], for both. The first one is white, as what is made is until a collection comes to it: nothing has to be told to the
/// collector.
#[cfg(feature = "lua51")]
pub(super) unsafe fn share_captured(raw: *mut ffi::lua_State, into: (c_int, c_int), from: (c_int, c_int)) {
    // SAFETY: given by the caller.
    unsafe {
        if let Some((place, from)) = place_captured(raw, into.0, into.1).zip(place_captured(raw, from.0, from.1)) {
            ptr::write(place, ptr::read(from));
        }
    }
}

/// Where a function written in Lua keeps a captured variable.
///
/// # Safety
/// As [`captured_of`].
#[cfg(feature = "lua51")]
unsafe fn place_captured(raw: *mut ffi::lua_State, index: c_int, number: c_int) -> Option<*mut *const c_void> {
    /// `ClosureHeader.nupvalues`, `LClosure.upvals`.
    const COUNT: usize = CAPTURED_OF_NATIVE;
    const CAPTURED: usize = 40;
    // SAFETY: given by the caller: a function is longer than the offset of its count, which says how many there are.
    unsafe {
        let closure = ffi::lua_topointer(raw, index);
        let count = c_int::from(ptr::read(closure.byte_add(COUNT).cast::<u8>()));
        let is_there = is_known() && (1..=count).contains(&number) && ffi::lua_iscfunction(raw, index) == 0;
        is_there.then(|| closure.byte_add(CAPTURED + 8 * (number as usize - 1)).cast_mut().cast())
    }
}

/// What a `lua_Debug` does not say where calls are in an array: whether a call of a function written in Lua was made in the place of another
/// one, how many parameters it names, and how many extra arguments it was given.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Details {
    pub(super) is_tail_call: bool,
    pub(super) parameters: c_int,
    pub(super) extra: c_int,
}

/// Those of a call; nothing for one that is not written in Lua.
///
/// # Safety
/// As [`definition_of`].
pub(super) unsafe fn details_of(call: *const c_void) -> Option<Details> {
    /// `Proto.numparams`, `Proto.is_vararg`.
    const PARAMETERS: usize = 113;
    let Calls::Numbered { tail_calls, base, .. } = Version::RECORDS.calls else { return None };
    // SAFETY: given by the caller; the offsets were checked.
    unsafe {
        let prototype = definition_of(call)?.prototype as *const c_void;
        let parameters = c_int::from(ptr::read(prototype.byte_add(PARAMETERS).cast::<u8>()));
        let base: usize = ptr::read(call.byte_add(base).cast());
        let given = base.wrapping_sub(function_of_call(call) as usize) / SIZE_OF_VALUE;
        let extra = c_int::try_from(given).unwrap_or(0) - 1 - parameters;
        let is_tail_call = ptr::read(call.byte_add(tail_calls).cast::<c_int>()) > 0;
        Some(Details { is_tail_call, parameters, extra: extra.max(0) })
    }
}

/// Pushes an extra argument of a call, counted from 1; false, and nothing pushed, where there is none.
///
/// # Safety
/// As [`details_of`], for a call of the thread `raw`, which has room for one value.
pub(super) unsafe fn push_extra(raw: *mut ffi::lua_State, call: *const c_void, number: c_int) -> bool {
    let Calls::Numbered { top_of_thread, .. } = Version::RECORDS.calls else { return false };
    // SAFETY: given by the caller; what is copied is a value on this stack, which the collector looks at as a whole.
    unsafe {
        let Some(value) = extra(call, number) else { return false };
        let top = raw.cast::<c_void>().byte_add(top_of_thread).cast::<*mut [u64; 2]>();
        (*top).write(*value);
        *top = (*top).add(1);
        true
    }
}

/// Gives an extra argument of a call the value on top, which is popped.
///
/// # Safety
/// As [`push_extra`], with a value on top.
pub(super) unsafe fn set_extra(raw: *mut ffi::lua_State, call: *const c_void, number: c_int) {
    let Calls::Numbered { top_of_thread, .. } = Version::RECORDS.calls else { return };
    // SAFETY: as in `push_extra`.
    unsafe {
        let top = raw.cast::<c_void>().byte_add(top_of_thread).cast::<*mut [u64; 2]>();
        *top = (*top).sub(1);
        if let Some(value) = extra(call, number) {
            value.write(**top);
        }
    }
}

/// Where the extra argument of a call lies, counted from 1.
///
/// # Safety
/// As [`details_of`].
unsafe fn extra(call: *const c_void, number: c_int) -> Option<*mut [u64; 2]> {
    // SAFETY: given by the caller; extra arguments lie between the parameters and the variables.
    unsafe {
        let details = details_of(call).filter(|held| (1..=held.extra).contains(&number))?;
        let at = usize::try_from(details.parameters + number).ok()?;
        Some(function_of_call(call).byte_add(at * SIZE_OF_VALUE).cast_mut().cast())
    }
}

/// Whether a call of a function written in Lua is at this instruction.
///
/// # Safety
/// As [`instruction_of_call`].
pub(super) unsafe fn is_at(raw: *mut ffi::lua_State, call: *const c_void, instruction: u32) -> bool {
    // SAFETY: given by the caller.
    Operation::of(unsafe { instruction_of_call(raw, call) }) == Operation::numbered(instruction)
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
        if !is_script(value) {
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
        let call = call_in(raw, record);
        if call.is_null() || !(call as usize).is_multiple_of(8) {
            return false;
        }
        // This is a hook.
        if current_call(raw) != call || !keeps_hooks_off(raw) {
            return false;
        }
        // The C API says which call is below, and whether there is one.
        let mut below = mem::zeroed::<ffi::lua_Debug>();
        let previous = call_below(raw, call);
        let has_below = ffi::lua_getstack(raw, 1, &raw mut below) != 0;
        let is_bottom = || call_below(raw, previous).is_null();
        if previous.is_null() || has_below && call_in(raw, &raw const below) != previous || has_below == is_bottom() {
            return false;
        }
        // The call at the bottom has the first value of the stack for its function.
        let mut bottom = previous;
        while !call_below(raw, bottom).is_null() {
            bottom = call_below(raw, bottom);
        }
        if ptr::read::<*const c_void>(raw.cast::<c_void>().byte_add(STACK_OF_THREAD).cast()) != function_of_call(bottom)
        {
            return false;
        }
        let value: *const c_void = ptr::read(call.byte_add(FUNCTION_OF_CALL).cast());
        if value.is_null() || !(value as usize).is_multiple_of(8) {
            return false;
        }
        let is_function = ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>()) == LUA_FUNCTION;
        if is_function && ptr::read(value.cast::<*const c_void>()) != closure {
            return false;
        }
        if is_native || !is_script(value) {
            return is_native != is_script(value);
        }
        let Some(found) = definition_of(call) else { return false };
        // A function that is called has come to its first instruction, or to the one behind that which prepares arguments.
        let code = ptr::read::<usize>((found.prototype as *const c_void).byte_add(CODE_OF_PROTOTYPE).cast());
        if ![1, 2].contains(&(place_of_call(raw, call).wrapping_sub(code) / SIZE_OF_INSTRUCTION)) {
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
        let is_main =
            [raw, sibling, other.raw()].map(|thread| main_thread(thread)) == [Some(raw), Some(raw), Some(other.raw())];
        let has_main = !Version::CALLS_ARE_NUMBERED || is_main;
        own != 0 && own % 8 == 0 && own == siblings && own != others && has_main
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
            && count(outer, CAPTURED_COUNT) == c_int::from(!Version::ENVIRONMENTS_BESIDE)
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
        let tag_of_native = native_tag(raw, 0).filter(|_| TAGS.is_native_of_closure.is_none());
        let closures_are_known = native_tag(raw, 1) == Some(NATIVE_CLOSURE) && {
            ffi::lua_pushnil(raw);
            ffi::lua_pushcclosure(raw, native, 1);
            ptr::eq(member(ffi::lua_topointer(raw, -1), CODE_OF_NATIVE_CLOSURE), native as *const c_void)
        };
        ffi::lua_settop(raw, top);
        has_constant
            && closures_are_known
            && tag_of_native.is_none_or(|tag| tag == NATIVE_FUNCTION)
            && !member(inner, CODE_OF_PROTOTYPE).is_null()
    }
}

/// The tag of a native function with this many captured variables, read off the call of one.
///
/// # Safety
/// As [`prototypes_are_as_dumped`], and calls are known to lie where this module reads them.
unsafe fn native_tag(raw: *mut ffi::lua_State, captured: c_int) -> Option<u8> {
    static SEEN: AtomicUsize = AtomicUsize::new(usize::MAX);
    unsafe extern "C-unwind" fn see(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
        // SAFETY: called by Lua as a hook.
        unsafe {
            let value: *const c_void = ptr::read(call_in(raw, record).byte_add(FUNCTION_OF_CALL).cast());
            SEEN.store(usize::from(ptr::read(value.byte_add(TAG_OF_VALUE).cast::<u8>())), Relaxed);
        }
    }
    // SAFETY: given by the caller; the hook is removed again.
    unsafe {
        ffi::lua_sethook(raw, Some(see), ffi::LUA_MASKCALL, 0);
        (0..captured).for_each(|_| ffi::lua_pushnil(raw));
        ffi::lua_pushcclosure(raw, native, captured);
        ffi::lua_pushnil(raw);
        ffi::lua_call(raw, 1, 0);
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
