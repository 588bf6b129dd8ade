//! Hooks of the host's and the script's own. Lua has room for one hook a thread: where ours has to stand, it calls the one that
//! was there as Lua would have, and puts it back when it goes.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::ffi::c_int;

use super::api as ffi;

use super::hook;
use super::hook::watch_of;
use super::state::State;
use super::watch::Watch;

/// A hook in whose place ours stands.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Other {
    pub(super) hook: ffi::lua_Hook,
    pub(super) mask: c_int,
    pub(super) count: c_int,
    /// Instructions since it was told of some last.
    spent: c_int,
}

impl Other {
    pub(super) fn of(hook: ffi::lua_Hook, mask: c_int, count: c_int) -> Self {
        let counts = mask & ffi::LUA_MASKCOUNT != 0;
        Self { hook, mask, count: if counts { count } else { 0 }, spent: 0 }
    }
}

/// All of those of a state, by the addresses of their threads.
#[derive(Default)]
pub(crate) struct Others {
    by_thread: RefCell<HashMap<usize, Other>>,
    /// Whether there are any: asked at each event.
    some: Cell<bool>,
}

impl Others {
    /// Notes the hook that a thread has, if it is not one of this crate.
    ///
    /// # Safety
    /// `raw` is a live thread of the state.
    pub(super) unsafe fn note(&self, raw: *mut ffi::lua_State) {
        // SAFETY: given by the caller.
        let held = unsafe {
            let Some(hook) = ffi::lua_gethook(raw).filter(|held| !hook::is_ours(*held)) else { return };
            Other::of(hook, ffi::lua_gethookmask(raw), ffi::lua_gethookcount(raw))
        };
        self.set(raw, Some(held));
    }

    /// Has this be the other hook of a thread from now on, or none.
    pub(super) fn set(&self, raw: *mut ffi::lua_State, other: Option<Other>) -> Option<Other> {
        let mut by_thread = self.by_thread.borrow_mut();
        let before = match other {
            Some(other) => by_thread.insert(raw as usize, other),
            None => by_thread.remove(&(raw as usize)),
        };
        self.some.set(!by_thread.is_empty());
        before
    }

    /// What was at this address, if it was a thread, is gone.
    pub(super) fn forget(&self, address: usize) {
        if self.some.get() {
            self.set(address as *mut ffi::lua_State, None);
        }
    }

    /// Whether any thread has another hook.
    pub(super) fn are_some(&self) -> bool {
        self.some.get()
    }

    /// The other hook of a thread.
    pub(super) fn of(&self, raw: *mut ffi::lua_State) -> Option<Other> {
        if !self.some.get() {
            return None;
        }
        self.by_thread.borrow().get(&(raw as usize)).copied()
    }

    /// A thread that has our hook from the one that made it has the other one of that, too.
    pub(super) fn inherit(&self, raw: *mut ffi::lua_State, from: *mut ffi::lua_State) {
        if self.some.get() && self.of(raw).is_none() {
            self.set(raw, self.of(from).map(|other| Other { spent: 0, ..other }));
        }
    }

    /// What ours has to watch on a thread so that the other one misses nothing.
    pub(super) fn joined(&self, raw: *mut ffi::lua_State, mask: c_int, count: c_int) -> (c_int, c_int) {
        let Some(other) = self.of(raw) else { return (mask, count) };
        let count = match (count, other.count) {
            (0, theirs) => theirs,
            (ours, 0) => ours,
            (ours, theirs) => ours.min(theirs),
        };
        (mask | other.mask, count)
    }

    /// The other hook of a thread, if it is to be called for an event.
    ///
    /// # Safety
    /// `raw` is the running thread, at an event of this kind.
    pub(super) unsafe fn concerned(&self, raw: *mut ffi::lua_State, event: c_int) -> Option<ffi::lua_Hook> {
        let mut other = self.of(raw)?;
        // The events of tail calls are calls.
        let bit = if event == ffi::LUA_HOOKTAILCALL { ffi::LUA_MASKCALL } else { 1 << event };
        if other.mask & bit == 0 {
            return None;
        }
        if event == ffi::LUA_HOOKCOUNT {
            // SAFETY: given by the caller.
            other.spent = other.spent.saturating_add(unsafe { ffi::lua_gethookcount(raw) });
            let is_due = other.spent >= other.count;
            if is_due {
                other.spent = 0;
            }
            self.set(raw, Some(other));
            return is_due.then_some(other.hook);
        }
        Some(other.hook)
    }
}

/// Puts the hook onto a thread, in the place of another one if there is one.
///
/// # Safety
/// `raw` is a live thread of the state.
pub(super) unsafe fn put(watch: &Watch, raw: *mut ffi::lua_State, mask: c_int, count: c_int) {
    // SAFETY: given by the caller.
    unsafe {
        watch.note_interrupted();
        watch.others.note(raw);
        let (mask, count) = watch.others.joined(raw, mask, count);
        ffi::lua_sethook(raw, Some(hook::on_hook), mask, count);
    }
}

/// Takes the hook from a thread, which has the one again that was there before. One that is not ours stays.
///
/// # Safety
/// As [`put`].
pub(super) unsafe fn take_away(watch: &Watch, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe {
        watch.note_interrupted();
        watch.others.note(raw);
        match watch.others.set(raw, None) {
            Some(other) => ffi::lua_sethook(raw, Some(other.hook), other.mask, other.count),
            None => ffi::lua_sethook(raw, None, 0, 0),
        }
    }
}

/// What `debug.gethook` and `debug.sethook` speak of on a thread, where ours stands in its place; `None` where it does not.
///
/// # Safety
/// As [`put`].
pub(super) unsafe fn behind_ours(raw: *mut ffi::lua_State) -> Option<Option<Other>> {
    // SAFETY: given by the caller.
    unsafe {
        let is_ours = ffi::lua_gethook(raw).is_some_and(hook::is_ours);
        watch_of(raw).filter(|_| is_ours).map(|watch| watch.others.of(raw))
    }
}

/// Has a script set another hook on a thread where ours stands; false where it does not.
///
/// # Safety
/// As [`put`].
pub(super) unsafe fn set_behind_ours(raw: *mut ffi::lua_State, other: Option<Other>) -> bool {
    // SAFETY: given by the caller.
    unsafe {
        let is_ours = ffi::lua_gethook(raw).is_some_and(hook::is_ours);
        let Some(watch) = watch_of(raw).filter(|_| is_ours) else { return false };
        watch.others.set(raw, other);
        if !watch.bounds.is_limited() {
            hook::set_hook_of(watch, State::new(raw), watch.watching());
        }
        true
    }
}
