//! Whether a line is a new one, where a signal has set the hook, in the versions that tell by the place where the thread was before
//! (`luaG_traceexec`, `ldebug.c` of 5.2 and 5.3).
//!
//! They keep that place up to date only while there is a hook, and trust it: its line is looked up in the code of the function that runs.
//! A signal may come while a call is left. Then the place is one in the function that was left, or in none, and what is read for its line
//! lies outside of that code. So the place is marked when the hook is set from a signal: with the mark, it is behind every instruction, as
//! if the function had jumped back, and the engine calls the hook without a look at the line. Here it is decided, by the place without
//! its mark, what the engine should have. After that, and where a call returns, it is as ever.

use std::ffi::{c_int, c_void};
use std::ptr;
use std::sync::OnceLock;
use std::sync::atomic::AtomicUsize;
use std::sync::atomic::Ordering::Relaxed;

use super::apart::in_new_state;
use super::api as ffi;
use super::layout::{self, SIZE_OF_INSTRUCTION};
use super::state::State;
use crate::dialect::{Dialect as _, Version};

/// No address of a program has this bit.
const MARK: usize = 1 << 63;

/// Where these members lie, once that was found to be so.
static KNOWN: OnceLock<bool> = OnceLock::new();

/// Finds out whether the members lie where this version has them: a signal's handler cannot.
pub(super) fn prepare() {
    KNOWN.get_or_init(|| {
        if Version::PLACE_BEFORE.is_none() {
            return true;
        }
        let known = layout::is_known() && in_new_state(try_out) == Some(true);
        if !known {
            tracing::info!("how the engine tells new lines is not known: an interrupt may find a wrong one");
        }
        known
    });
}

/// Where a thread keeps the place where it was before, if this version does, and that is known.
///
/// # Safety
/// `raw` is a live thread.
unsafe fn place_before(raw: *mut ffi::lua_State) -> Option<*mut usize> {
    let held = Version::PLACE_BEFORE.filter(|_| KNOWN.get() == Some(&true))?;
    // SAFETY: given by the caller; the offset was tried out.
    Some(unsafe { raw.cast::<c_void>().byte_add(held.of_thread).cast() })
}

/// Sets the hook of a thread at any moment. Async-signal-safe, as `lua_sethook` is.
///
/// # Safety
/// `raw` is a live thread of a state that belongs to this OS thread.
pub(super) unsafe fn set_hook_from_signal(raw: *mut ffi::lua_State, hook: ffi::lua_Hook, mask: c_int, count: c_int) {
    // SAFETY: given by the caller.
    unsafe {
        let place = place_before(raw);
        if let Some(place) = place {
            // It is left as it is where no function written in Lua is the innermost one.
            place.write(0);
        }
        ffi::lua_sethook(raw, Some(hook), mask, count);
        if let Some(place) = place {
            place.write(place.read() | MARK);
        }
    }
}

/// Whether the line that the hook was called for is none that has just been come to, as only a signal had it called.
///
/// # Safety
/// Called in the hook, for the event of a line, with its record.
#[inline]
pub(super) unsafe fn is_old(raw: *mut ffi::lua_State, record: *const ffi::lua_Debug) -> bool {
    if Version::PLACE_BEFORE.is_none() {
        return false;
    }
    // SAFETY: given by the caller; a mark is there only where all this is known.
    unsafe {
        place_before(raw).is_some_and(|place| place.read() & MARK != 0 && !is_new(raw, place.read() & !MARK, record))
    }
}

/// As the engine tells, where the function that runs was last at `before`, or another one was that is left.
///
/// # Safety
/// As [`is_old`], where all is known.
unsafe fn is_new(raw: *mut ffi::lua_State, before: usize, record: *const ffi::lua_Debug) -> bool {
    // SAFETY: given by the caller: the call is that of a function written in Lua, which keeps its body alive; a place in that is followed
    // only where it is within its code, and lines are as many as instructions, or none.
    unsafe {
        let call = layout::call_of(raw, record);
        let Some((held, definition)) = Version::PLACE_BEFORE.zip(layout::definition_of(call)) else { return true };
        let body = definition.prototype as *const c_void;
        let code: usize = ptr::read(body.byte_add(layout::CODE_OF_PROTOTYPE).cast());
        let count: c_int = ptr::read(body.byte_add(layout::CODE_COUNT).cast());
        let behind = layout::place_of_call(raw, call);
        let now = (behind - code) / SIZE_OF_INSTRUCTION - 1;
        let lines: *const c_int = ptr::read(body.byte_add(held.lines_of_prototype).cast());
        let line_at = |at: usize| if lines.is_null() { 0 } else { ptr::read(lines.add(at)) };
        if now == 0 {
            return true;
        }
        let size = usize::try_from(count).unwrap_or(0) * SIZE_OF_INSTRUCTION;
        let is_within = before > code && before <= code + size && before != behind;
        let last = (before.wrapping_sub(code) / SIZE_OF_INSTRUCTION).wrapping_sub(1);
        // One that returned there is another call of the same function, and so is what has left no place: this one goes on behind its call.
        if !is_within || Version::results(ptr::read((code as *const u32).add(last))).is_some() {
            return line_at(now) != line_at(now - 1);
        }
        now < last || line_at(now) != line_at(last)
    }
}

/// Loops, calls and jumps, with no line that jumps back to itself.
const TRIED: &std::ffi::CStr = c"local t = {}\nlocal function one(x)\n  return x\nend\nfor i = 1, 3 do\n  if i == 2 then\n    t[i] = one(i) + one(i)\n  else\n    t[i] = one(one(i))\n  end\nend\nlocal i = 0\nrepeat\n  i = i + 1\nuntil i > 2 or one(i) == 9\nreturn i";

/// The lines that were told of: as the engine does, and where each instruction might have been interrupted. And what was not as it should be.
static TOLD: [AtomicUsize; 2] = [const { AtomicUsize::new(0) }; 2];
static WENT_WRONG: AtomicUsize = AtomicUsize::new(0);

unsafe extern "C-unwind" fn tell(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: called by Lua in the state of `try_out`, for the event of a line.
    unsafe { note(&TOLD[0], record, raw) };
}

unsafe extern "C-unwind" fn tell_interrupted(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: called by Lua in the state of `try_out`, whose functions are known.
    unsafe {
        let (Some(held), event) = (Version::PLACE_BEFORE, (*record).event) else { return };
        let place = raw.cast::<c_void>().byte_add(held.of_thread).cast::<usize>();
        if event == ffi::LUA_HOOKLINE {
            if place.read() & MARK == 0 || is_new(raw, place.read() & !MARK, record) {
                note(&TOLD[1], record, raw);
            }
            return;
        }
        let before = place.read();
        // This says where the function is.
        ffi::lua_sethook(raw, Some(tell_interrupted), ffi::lua_gethookmask(raw), 1);
        if place.read() != layout::place_of_call(raw, layout::call_of(raw, record)) {
            WENT_WRONG.fetch_add(1, Relaxed);
            return;
        }
        // As if it had been interrupted in the instruction before.
        place.write(before | MARK);
    }
}

/// Adds a line to what was told of.
///
/// # Safety
/// As [`tell`].
unsafe fn note(told: &AtomicUsize, record: *mut ffi::lua_Debug, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    let line = unsafe {
        ffi::lua_getinfo(raw, c"l".as_ptr(), record);
        usize::try_from((*record).currentline).unwrap_or(0)
    };
    told.store(told.load(Relaxed).wrapping_mul(31).wrapping_add(line), Relaxed);
}

fn try_out(state: State) -> bool {
    let raw = state.raw();
    for (hook, mask, count) in [
        (tell as ffi::lua_Hook, ffi::LUA_MASKLINE, 0),
        (tell_interrupted as ffi::lua_Hook, ffi::LUA_MASKLINE | ffi::LUA_MASKCOUNT, 1),
    ] {
        // SAFETY: the state is used here alone; the chunk runs under `lua_pcall`, and the second hook writes only where it has found what
        // has to be there.
        unsafe {
            if ffi::luaL_loadstring(raw, TRIED.as_ptr()) != ffi::LUA_OK {
                return false;
            }
            ffi::lua_sethook(raw, Some(hook), mask, count);
            let ran = ffi::lua_pcall(raw, 0, 0, 0) == ffi::LUA_OK;
            ffi::lua_sethook(raw, None, 0, 0);
            if !ran || WENT_WRONG.load(Relaxed) > 0 {
                return false;
            }
        }
    }
    let [usual, interrupted] = [0, 1].map(|at| TOLD[at].load(Relaxed));
    usual != 0 && usual == interrupted
}
