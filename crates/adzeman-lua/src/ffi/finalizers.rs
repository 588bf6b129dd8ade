//! Finalizers that evaluated text gives to objects: limited when they run later.

use std::ffi::c_int;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::activation::Activation;
use super::hook::{caught, watch_of};
use super::state::{Slot, State, Type};
use super::watch::Watch;

/// Notes the metatable that is given to an object, if it has a finalizer and the text that gives it is no script of the host.
pub(super) fn note_finalizer(watch: &Watch, state: State, function: &Activation) {
    let giver = (1..).map_while(|level| state.level(level)).find(|held| !held.info().is_native);
    let is_scripts = giver
        .is_some_and(|giver| giver.with_chunk_name(|name| watch.told(|told| told.knows_chunk(name)) == Some(true)));
    let top = state.top();
    let has_finalizer = function.push_local(2).is_some()
        && state.type_at(-1) == Type::Table
        && state.raw_get_field(-1, "__gc").is_ok()
        && state.type_at(-1) != Type::Nil;
    if has_finalizer && !is_scripts {
        state.pop(1);
        let number = watch.bounds.with_held(|held| {
            held.finalized += 1;
            held.finalized
        });
        if let Err(error) = keep_finalized(state, number.unwrap_or(1)) {
            tracing::warn!(%error, "a finalizer has no limit");
        }
    }
    state.cut_to(top);
}

/// Keeps the metatable on top under a number.
fn keep_finalized(state: State, number: i64) -> Result<(), EngineError> {
    if number == 1 {
        state.push_table()?;
        state.set_slot(Slot::Finalized)?;
    }
    state.push_slot(Slot::Finalized);
    state.push_integer(number);
    state.push_copy(-3);
    state.raw_set(-3)
}

/// Puts a limit before the finalizers that a call without a limit has given to objects so far, as they are now.
pub(super) fn limit_finalizers(watch: &Watch, state: State) {
    wrap(state, watch.bounds.with_held(|held| std::mem::take(&mut held.finalized)).unwrap_or(0));
}

pub(super) fn wrap(state: State, count: i64) {
    if count > 0 {
        let top = state.top();
        if let Err(error) = wrap_finalizers(state, count) {
            tracing::warn!(%error, "a finalizer that an evaluation has given has no limit");
        }
        state.cut_to(top);
    }
}

fn wrap_finalizers(state: State, count: i64) -> Result<(), EngineError> {
    let top = state.top();
    state.push_slot(Slot::Finalized);
    for number in 1..=count {
        state.raw_get_index(top + 1, number);
        state.raw_get_field(-1, "__gc")?;
        if state.type_at(-1) == Type::Function && state.native_address_at(-1) != limited_finalizer as *const () as usize
        {
            state.protect(with_limit, 1, 1)?;
            state.raw_set_field(-2, "__gc")?;
        }
        state.cut_to(top + 1);
    }
    state.push_nil();
    state.set_slot(Slot::Finalized)
}

unsafe extern "C-unwind" fn with_limit(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by `protect` with a function; nothing owned here.
    unsafe { ffi::lua_pushcclosure(raw, limited_finalizer, 1) };
    1
}

/// Runs the finalizer that it holds within what is allowed beside the script; on a thread of its own, since no hook fires on one
/// that collects.
unsafe extern "C-unwind" fn limited_finalizer(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by the collector with an object; nothing is owned here when something raises.
    unsafe {
        ffi::lua_settop(raw, 1);
        ffi::lua_pushvalue(raw, ffi::lua_upvalueindex(1));
        ffi::lua_rotate(raw, 1, 1);
        // Without a watch there is nobody to cut it off: the engine has let go of this state.
        if let Some(watch) = watch_of(raw) {
            caught(|| {
                watch.told(|told| told.finalize(State::new(raw)));
            });
        }
    }
    0
}
