//! Keeping the collector from running, for a moment or as long as an evaluation takes.

use std::ffi::c_int;

use super::api as ffi;

use super::internals::{self, IN_COLLECTOR, read, shared_of, write};

/// What the collector was doing, to be put back.
#[derive(Debug, Clone, Copy)]
pub(super) struct Collector {
    /// The member as it was, where it is known.
    stop: Option<u8>,
    was_running: bool,
    /// Kilobytes in use.
    size: c_int,
}

/// Kilobytes made while the collector was held that it may find all at once.
const SMALL: c_int = 64;

/// Stops the collector in all ways: no finalizer runs until [`release_collector`], whoever asks for a collection. Where the
/// member is not known, only those who do not ask for one are kept from it.
///
/// # Safety
/// `raw` is a live thread of this OS thread.
pub(super) unsafe fn hold_collector(raw: *mut ffi::lua_State) -> Collector {
    // SAFETY: given by the caller; the member was found at this place.
    unsafe {
        let at = internals::collector_stop();
        let stop = at.map(|at| read::<u8>(shared_of(raw), at));
        let was_running = ffi::lua_gc(raw, ffi::LUA_GCISRUNNING) > 0;
        let size = ffi::lua_gc(raw, ffi::LUA_GCCOUNT);
        match at.zip(stop) {
            Some((at, stop)) => write(shared_of(raw), at, stop | IN_COLLECTOR | 1),
            None if was_running => drop(ffi::lua_gc(raw, ffi::LUA_GCSTOP)),
            None => {}
        }
        Collector { stop, was_running, size }
    }
}

/// # Safety
/// As [`hold_collector`], whose answer `before` is.
pub(super) unsafe fn release_collector(raw: *mut ffi::lua_State, before: Collector) {
    // SAFETY: given by the caller.
    unsafe {
        let known = internals::collector_stop().zip(before.stop);
        if let Some((at, stop)) = known {
            write(shared_of(raw), at, stop);
        }
        // To restart it begins a collection, wherever it was resting; so that is done only where it would find too much at once,
        // to have it found in small steps.
        let is_much = ffi::lua_gc(raw, ffi::LUA_GCCOUNT).saturating_sub(before.size) > SMALL;
        if before.was_running && (is_much || known.is_none()) {
            ffi::lua_gc(raw, ffi::LUA_GCRESTART);
        }
    }
}

/// Stops the collector for a moment, in which little is made; answers what to give back to [`resume_collector`].
///
/// # Safety
/// `raw` is a live thread of this OS thread.
pub(super) unsafe fn pause_collector(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller; the member was found at this place.
    unsafe {
        let was_running = ffi::lua_gc(raw, ffi::LUA_GCISRUNNING) > 0;
        match internals::collector_stop() {
            Some(at) if was_running => write(shared_of(raw), at, 1_u8),
            None if was_running => drop(ffi::lua_gc(raw, ffi::LUA_GCSTOP)),
            _ => {}
        }
        was_running
    }
}

/// # Safety
/// As [`pause_collector`], which has answered true.
pub(super) unsafe fn resume_collector(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    unsafe {
        match internals::collector_stop() {
            // It goes on as if it had not been stopped: to restart it would begin a collection.
            Some(at) => write(shared_of(raw), at, 0_u8),
            None => drop(ffi::lua_gc(raw, ffi::LUA_GCRESTART)),
        }
    }
}

/// Opens the collector's API for one call that only asks, as it was before it was held; true when it has to be closed again by
/// [`close_collector`]. `None` where what asks cannot be told from what collects.
///
/// # Safety
/// As [`release_collector`].
pub(super) unsafe fn open_collector(raw: *mut ffi::lua_State, before: Collector) -> bool {
    let Some((at, stop)) = internals::collector_stop().zip(before.stop) else { return false };
    // SAFETY: given by the caller.
    unsafe { write(shared_of(raw), at, if before.was_running { 0 } else { stop }) };
    true
}

/// # Safety
/// As [`release_collector`].
pub(super) unsafe fn close_collector(raw: *mut ffi::lua_State) {
    if let Some(at) = internals::collector_stop() {
        // SAFETY: given by the caller.
        unsafe { write(shared_of(raw), at, IN_COLLECTOR | 1) };
    }
}

/// Whether no collection can run while the collector is held.
pub(super) fn holds_all_collections() -> bool {
    internals::collector_stop().is_some()
}
