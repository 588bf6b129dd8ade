//! Has a function that runs go on at another instruction than the one that comes next.
//!
//! The interpreter keeps its place in a variable that nobody else can write. So the instruction that comes next becomes a jump for
//! one moment: from within the hook, before it is read; and is put back by the hook that comes before the one behind it. Where
//! variables leave their scope, an instruction that closes them stands there first, and the jump in the place behind it.
//!
//! Nothing but those instructions runs meanwhile: neither of them calls anything, and no collector. The body may be another
//! function's too, which cannot run before it is as it was. Where the place of a call lies in the engine's records is found out
//! for the library that runs ([`is_known`]), by going on elsewhere in a state of its own.
//!
//! Where one may go on to is decided elsewhere ([`context::going`](crate::context)).

use std::cell::Cell;
use std::ffi::{c_int, c_void};
use std::ptr;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};

use super::api as ffi;

use super::activation::Activation;
use super::apart::in_new_state;
use super::hook::{caught, set_hook_of};
use super::layout;
use super::others::put;
use super::state::State;
use super::watch::Watch;
use crate::dialect::{Dialect as _, Version};

/// Going on elsewhere, from when it is asked for until it is done.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Leap {
    /// The thread and the call on it, by their addresses, and the body that it runs.
    pub(crate) thread: usize,
    pub(crate) call: usize,
    pub(crate) body: usize,
    /// The instruction to go on at.
    pub(crate) to: usize,
    /// The register from which on variables leave their scope, if any do.
    pub(crate) closes_from: Option<u8>,
    /// The first of the local variables that come into scope, counted from 1, and how many do: they are nil there.
    pub(crate) entering: (c_int, c_int),
}

/// How far a leap has come.
#[derive(Debug, Clone, Copy)]
enum Phase {
    /// The next instruction is yet to be exchanged.
    Waiting,
    /// It closes variables; which one, and what stood there.
    Closing(usize, u32),
    /// It jumps.
    Jumping(usize, u32),
}

/// The leap of a state, if one is under way.
#[derive(Debug, Default)]
pub(crate) struct Leaping(Cell<Option<(Leap, Phase)>>);

impl Leaping {
    /// Has a call go on elsewhere as soon as it goes on.
    pub(crate) fn begin(&self, leap: Leap) {
        self.0.set(Some((leap, Phase::Waiting)));
    }

    /// Forgets one that has not begun.
    pub(crate) fn forget(&self) {
        if let Some((_, Phase::Waiting)) = self.0.get() {
            self.0.set(None);
        }
    }

    pub(super) fn is_under_way(&self) -> bool {
        self.0.get().is_some()
    }
}

/// The instruction that an interrupted call of a Lua function goes on at, counted from 0: in a hook, the one that it was called before.
///
/// # Safety
/// [`is_known`](layout::is_known) has answered true, `call` is that of a Lua function on a stack of this thread, and `body` its body.
unsafe fn behind(raw: *mut ffi::lua_State, call: *const c_void, body: usize) -> Option<usize> {
    // SAFETY: given by the caller; the offset is only trusted where `is_known` has tried it.
    unsafe {
        let code: usize = ptr::read((body as *const c_void).byte_add(layout::CODE_OF_PROTOTYPE).cast());
        let count: c_int = ptr::read((body as *const c_void).byte_add(layout::CODE_COUNT).cast());
        let place = layout::place_of_call(raw, call);
        let at = place.checked_sub(code)?;
        (at.is_multiple_of(4) && at / 4 <= usize::try_from(count).ok()?).then_some(at / 4)
    }
}

/// Exchanges an instruction of a body; answers the one that was there.
///
/// # Safety
/// `body` is a live prototype with so many instructions, of which none but the one that comes next on this thread runs meanwhile.
unsafe fn exchange(body: usize, at: usize, instruction: u32) -> u32 {
    // SAFETY: given by the caller.
    unsafe {
        let code: *mut u32 = ptr::read((body as *const c_void).byte_add(layout::CODE_OF_PROTOTYPE).cast());
        ptr::replace(code.add(at), instruction)
    }
}

/// How many instructions a body has.
///
/// # Safety
/// `body` is a live prototype.
unsafe fn count_of(body: usize) -> usize {
    // SAFETY: given by the caller.
    let count: c_int = unsafe { ptr::read((body as *const c_void).byte_add(layout::CODE_COUNT).cast()) };
    usize::try_from(count).unwrap_or(0)
}

/// The instruction that comes next in the function that `activation` is of: `in_hook` is whether a hook was called for it, which is
/// before that one runs; otherwise it is in a call.
pub(crate) fn next_instruction(activation: &Activation, in_hook: bool) -> Option<usize> {
    if !is_known() {
        return None;
    }
    let definition = activation.definition()?;
    // SAFETY: the layout is known, and the activation is of a Lua function on this thread's stack.
    let behind = unsafe { behind(activation.thread().raw(), activation.record_of_call(), definition.prototype) }?;
    if in_hook { behind.checked_sub(1) } else { Some(behind) }
}

/// Takes the leap of a state on, in the hook for an event of `raw`. Whether the event is none of anyone else's.
///
/// # Safety
/// Called in the hook, for an event of the thread `raw`, which runs.
pub(super) unsafe fn take_on(watch: &Watch, raw: *mut ffi::lua_State, event: c_int) -> bool {
    let Some((leap, phase)) = watch.leaping.0.get() else { return false };
    // SAFETY: given by the caller; leaps only begin where the layout is known. What the record says is looked at before the body is,
    // which the call keeps alive.
    unsafe {
        let call = layout::current_call(raw);
        let is_its_call = raw as usize == leap.thread && layout::identity_of_call(raw, call) == leap.call;
        let is_its_body = || layout::definition_of(call).is_some_and(|definition| definition.prototype == leap.body);
        if !is_its_call || !is_its_body() {
            watch.leaping.forget();
            return false;
        }
        let Some(next) = behind(raw, call, leap.body).and_then(|behind| behind.checked_sub(1)) else { return false };
        match phase {
            Phase::Waiting => begin(watch, raw, leap, next),
            Phase::Closing(at, _) | Phase::Jumping(at, _) if at == next => {}
            Phase::Closing(at, held) => {
                exchange(leap.body, at, held);
                jump(watch, State::new(raw), leap, next);
            }
            Phase::Jumping(at, held) => {
                exchange(leap.body, at, held);
                watch.leaping.0.set(None);
                caught(|| arrive(watch, State::new(raw), leap));
                // The line is told of as any other.
                return event != ffi::LUA_HOOKLINE;
            }
        }
        true
    }
}

/// The call goes on now, and a hook comes before its next instruction.
///
/// # Safety
/// `raw` is the running thread.
pub(super) unsafe fn go_on(watch: &Watch, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe { put(watch, raw, ffi::LUA_MASKLINE | ffi::LUA_MASKCOUNT, 1) };
}

/// In the hook before an instruction, which is exchanged.
///
/// # Safety
/// As [`take_on`], for the call of the leap, of which `next` comes next.
unsafe fn begin(watch: &Watch, raw: *mut ffi::lua_State, leap: Leap, next: usize) {
    // What the line reports by itself is passed over.
    watch.take_reported();
    // SAFETY: given by the caller.
    unsafe {
        go_on(watch, raw);
        let closes_from = leap.closes_from.filter(|_| next + 1 < count_of(leap.body));
        match closes_from.and_then(Version::close_from) {
            Some(instruction) => {
                let held = exchange(leap.body, next, instruction);
                watch.leaping.0.set(Some((leap, Phase::Closing(next, held))));
            }
            None => jump(watch, State::new(raw), leap, next),
        }
    }
}

/// # Safety
/// As [`begin`].
unsafe fn jump(watch: &Watch, state: State, leap: Leap, next: usize) {
    // A jump to itself would never end; one is not asked for.
    match Version::jump_to(next, leap.to).filter(|_| next != leap.to) {
        Some(instruction) => {
            // SAFETY: given by the caller; where to was read from the body's own code.
            let held = unsafe { exchange(leap.body, next, instruction) };
            watch.leaping.0.set(Some((leap, Phase::Jumping(next, held))));
        }
        None => {
            watch.leaping.0.set(None);
            caught(|| set_hook_of(watch, state, watch.watching()));
        }
    }
}

/// The call is where it was to go on: variables that have come into scope are nil.
fn arrive(watch: &Watch, state: State, leap: Leap) {
    if let Some(function) = state.level(0) {
        let (first, count) = leap.entering;
        for number in first..first + count {
            state.push_nil();
            function.set_local(number);
        }
    }
    set_hook_of(watch, state, watch.watching());
}

/// Whether the place of a call lies where this module reads it, and a function goes on elsewhere as is said above: tried once, in a
/// state of its own, over a line and back to one, with a captured variable that is closed on the way.
pub(crate) fn is_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| {
        if !layout::is_known() || Version::READS_AHEAD {
            return false;
        }
        let known = in_new_state(try_out) == Some(true);
        if !known {
            tracing::info!("how the engine keeps its place is not known: functions go on where they are");
        }
        known
    })
}

/// Lines 3 and 4 are passed over once, and line 2 runs once more.
const TRIED: &std::ffi::CStr = c"local a, n = 1, 0\na = a + 1\na = a * 100\na = a + 50\nn = n + 1\nreturn a * 10 + n";

thread_local! {
    /// The leaps that are tried: lines from where to where; and the one under way.
    static TRYING: Cell<(usize, Option<(usize, u32)>)> = const { Cell::new((0, None)) };
}
static WENT_WRONG: AtomicBool = AtomicBool::new(false);

fn try_out(state: State) -> bool {
    let raw = state.raw();
    TRYING.set((0, None));
    // SAFETY: the state is used here alone; the chunk runs under `lua_pcall`, and the hook changes its code alone, which is put back.
    unsafe {
        if ffi::luaL_loadstring(raw, TRIED.as_ptr()) != ffi::LUA_OK {
            return false;
        }
        ffi::lua_sethook(raw, Some(on_trial), ffi::LUA_MASKLINE | ffi::LUA_MASKCOUNT, 1);
        let ran = ffi::lua_pcall(raw, 0, 1, 0) == ffi::LUA_OK;
        ffi::lua_sethook(raw, None, 0, 0);
        // 1 + 1, twice + 1, and two turns of line 5.
        ran && !WENT_WRONG.load(Relaxed) && ffi::lua_tointeger(raw, -1) == 32
    }
}

/// From line 3 on to line 5, the first time; from line 6 back to line 2; and from line 3 to line 5 again.
unsafe extern "C-unwind" fn on_trial(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: called by Lua in the state of `try_out`, for its one function, whose layout was checked.
    unsafe {
        ffi::lua_getinfo(raw, c"l".as_ptr(), record);
        let (line, call) = ((*record).currentline, layout::call_of(raw, record));
        let Some(definition) = layout::definition_of(call) else { return };
        let Some(next) = behind(raw, call, definition.prototype).and_then(|behind| behind.checked_sub(1)) else {
            WENT_WRONG.store(true, Relaxed);
            return;
        };
        let (done, under_way) = TRYING.get();
        if let Some((at, held)) = under_way {
            if at != next {
                exchange(definition.prototype, at, held);
                TRYING.set((done + 1, None));
            }
            return;
        }
        if (*record).event != ffi::LUA_HOOKLINE {
            return;
        }
        let Some(to) = [(3, 5), (6, 2), (3, 5)].get(done).filter(|(from, _)| *from == line).map(|(_, to)| *to) else {
            return;
        };
        match first_of_line(raw, record, to).and_then(|to| Version::jump_to(next, to)) {
            Some(instruction) => {
                let held = exchange(definition.prototype, next, instruction);
                TRYING.set((done, Some((next, held))));
            }
            None => WENT_WRONG.store(true, Relaxed),
        }
    }
}

/// The first instruction of a line of the function that runs, by its dump.
///
/// # Safety
/// As [`on_trial`].
unsafe fn first_of_line(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug, line: u32) -> Option<usize> {
    // SAFETY: given by the caller; the function is pushed and popped.
    unsafe {
        let state = State::new(raw);
        let function = Activation::of_hook(state, record);
        function.push_function();
        let dump = state.dump(-1);
        state.pop(1);
        let held = crate::dialect::chunk::prototypes(&dump)?;
        held.first()?.line_of.iter().position(|held| *held == line)
    }
}

#[cfg(test)]
mod tests {
    use crate::versions::{NOT_ELSEWHERE, is_refused_before};

    #[test]
    fn the_place_of_a_call_is_known_in_the_vendored_engine() {
        assert!(is_refused_before("5.4", NOT_ELSEWHERE) != super::is_known());
    }
}
