//! Steps over and out, and local variables that are watched for a change: of all lines only those of one call count until that is over,
//! so what it calls runs without the line hook.
//!
//! A step over, and a variable, watch the lines of their call, and calls from there; where one begins, only returns are watched until it
//! is back. A step out watches returns only. A call is known by where its function lies on the stack: whatever returns there or below says
//! that the call is over, by whatever: its own return, a tail call's, or an error that was caught below. From then on all lines are
//! watched.

use std::cell::Cell;
use std::ffi::{c_int, c_void};
use std::sync::OnceLock;

use super::activation::Activation;
use super::api as ffi;
use super::hook::{CALLS, RETURNS, caught, set_mask};
use super::layout;
use super::natives;
use super::state::State;
use super::watch::Watch;

/// A call whose lines count, or after which lines do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct OneCall {
    thread: State,
    /// Where its function lies, in bytes from the bottom of the stack.
    at: usize,
    purpose: Purpose,
}

/// What it is that one call counts for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// A step over, which ends on a line of it.
    StepOver,
    /// A step out, which ends behind it.
    StepOut,
    /// Local variables that are watched, which are gone with it.
    Locals,
}

/// What the host has errors handled by.
static HANDLER: OnceLock<usize> = OnceLock::new();

/// The call that counts, if only one does.
#[derive(Default)]
pub(crate) struct Confined {
    call: Cell<Option<OneCall>>,
    /// Whether it is over, though the step goes on, or its variables have not been looked at since.
    is_over: Cell<bool>,
}

impl OneCall {
    /// The call at a level of a thread, if there is one and the layout is known.
    pub(crate) fn at(thread: State, level: usize, purpose: Purpose) -> Option<Self> {
        Self::of(thread, &thread.level(level)?, purpose)
    }

    /// The same for a call of a thread.
    pub(crate) fn of(thread: State, function: &Activation, purpose: Purpose) -> Option<Self> {
        if !layout::is_known() {
            return None;
        }
        HANDLER.get_or_init(natives::host_handler);
        // SAFETY: the layout is known, and the call is one of this thread's stack.
        let at = unsafe { layout::offset_of_call(thread.raw(), function.record_of_call()) };
        Some(Self { thread, at, purpose })
    }

    /// Whether its own lines count.
    fn has_lines(self) -> bool {
        self.purpose != Purpose::StepOut
    }

    /// What a thread watches: `all` in the call itself where its lines count.
    fn mask(self, raw: *mut ffi::lua_State, all: c_int) -> c_int {
        if raw != self.thread.raw() {
            return CALLS | RETURNS;
        }
        // SAFETY: the thread is live, and the layout is known.
        let here = unsafe { layout::offset_of_call(raw, layout::current_call(raw)) };
        if self.has_lines() && here <= self.at { all } else { RETURNS }
    }
}

impl Confined {
    /// Another step begins, or none is under way any more; or other variables are watched.
    pub(crate) fn begin(&self) {
        self.is_over.set(false);
    }

    /// Takes the call that counts, unless that is over, or none; whether that is another one than before.
    pub(crate) fn set(&self, call: Option<OneCall>) -> bool {
        let call = call.filter(|_| !self.is_over.get());
        self.call.replace(call) != call
    }

    /// Whether there is one.
    pub(super) fn is_under_way(&self) -> bool {
        self.call.get().is_some()
    }

    /// Whether there is one for the sake of its local variables.
    pub(crate) fn is_for_locals(&self) -> bool {
        self.call.get().is_some_and(|held| held.purpose == Purpose::Locals)
    }

    /// What a thread watches, where all would be watched.
    pub(super) fn mask(&self, raw: *mut ffi::lua_State, all: c_int) -> c_int {
        self.call.get().map_or(all, |held| held.mask(raw, all))
    }
}

/// A function is called. Whether that is nobody's business.
///
/// # Safety
/// `raw` runs a hook, for the event of this call; `all` is what is watched where every line counts.
#[inline]
pub(super) unsafe fn called(watch: &Watch, raw: *mut ffi::lua_State, call: *const c_void) -> bool {
    let Some(held) = watch.confined.call.get() else { return false };
    if raw != held.thread.raw() {
        return !look_whether_over(watch, raw);
    }
    // SAFETY: given by the caller; a step is confined where the layout is known.
    let at = unsafe { layout::offset_of_call(raw, call) };
    if at > held.at {
        // SAFETY: given by the caller.
        unsafe { set_mask(watch, raw, RETURNS) };
        return true;
    }
    if at == held.at && held.purpose != Purpose::Locals {
        // A tail call has taken its place.
        watch.confined.call.set(Some(OneCall { purpose: Purpose::StepOut, ..held }));
        // SAFETY: given by the caller.
        unsafe { set_mask(watch, raw, RETURNS) };
    } else {
        end(watch);
    }
    false
}

/// A function returns. Whether that is nobody's business.
///
/// # Safety
/// As [`called`].
#[inline]
pub(super) unsafe fn returned(watch: &Watch, raw: *mut ffi::lua_State, call: *const c_void, all: c_int) -> bool {
    let Some(held) = watch.confined.call.get() else { return false };
    if raw != held.thread.raw() {
        return !look_whether_over(watch, raw);
    }
    // SAFETY: given by the caller; a step is confined where the layout is known; a call has one below it, as the one at the bottom never
    // returns.
    unsafe {
        if layout::offset_of_call(raw, call) <= held.at {
            end(watch);
            return false;
        }
        if held.has_lines() && layout::offset_of_call(raw, layout::call_below(raw, call)) <= held.at {
            set_mask(watch, raw, all);
        } else if layout::native_of_call(call).is_some_and(|native| HANDLER.get() == Some(&native)) {
            // The host has an error handled: what it calls next may be in the place of all that.
            end(watch);
        }
    }
    true
}

/// Ends it if its stack has been left by what runs now; whether it has.
fn look_whether_over(watch: &Watch, raw: *mut ffi::lua_State) -> bool {
    // SAFETY: a hook is called on the thread that runs.
    let state = unsafe { State::new(raw) };
    let is_over = caught(|| watch.told(|told| told.has_left_call(state))).flatten().unwrap_or(true);
    if is_over {
        end(watch);
    }
    is_over
}

/// From now on all lines count.
pub(crate) fn end(watch: &Watch) {
    watch.confined.call.set(None);
    watch.confined.is_over.set(true);
    caught(|| watch.set_hooks(watch.watching()));
}
