//! What evaluated code sees: an environment in which names are looked up, and proxies for the host's objects and the event. What
//! they answer is decided by who watches ([`Attendant::called`](super::watch::Attendant::called)).

use std::ffi::c_int;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::ptr;

use super::api as ffi;
use adzeman_core::engine::EngineError;
use adzeman_core::path::TreePath;

use super::hook::watch_of;
use super::state::{Slot, State, Type};

/// Which function evaluated text calls.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Entry {
    /// A name is read, in the environment of this number.
    NameRead(i64),
    /// A name is written.
    NameWritten(i64),
    /// A part of the host's data is read.
    PartRead,
    /// It is written.
    PartWritten,
    /// Its length is asked for.
    Length,
    /// Its parts are gone through.
    Pairs,
    /// It is made a text.
    Text,
}

/// What is to be done after all that was owned is dropped.
pub(crate) enum Then {
    /// Return this many values.
    Return(c_int),
    /// Raise the value on top.
    Raise,
    /// Look the key, on top, up in the table below it, with metamethods.
    Get,
    /// Set the key below the top to the value on top, in the table below both, with metamethods.
    Set,
}

/// The functions of this file that evaluated text calls.
pub(super) fn own() -> [ffi::lua_CFunction; 8] {
    [name_read, name_written, part_read, part_written, length, pairs, next_pair, text]
}

/// Has who watches answer: panics and errors become Lua errors, raised only when nothing is owned here any more.
///
/// # Safety
/// Called by Lua as the body of a C function.
unsafe fn answer(raw: *mut ffi::lua_State, entry: impl FnOnce(State) -> Entry) -> c_int {
    // SAFETY: `raw` is the running thread, alive for the call, with the minimum of free stack.
    let (watch, state) = unsafe { (watch_of(raw), State::new(raw)) };
    let Some(watch) = watch else {
        // SAFETY: as above; nothing is owned here.
        unsafe {
            ffi::lua_pushstring(raw, c"nobody is attached any more".as_ptr());
            ffi::lua_error(raw)
        }
    };
    // The calls that this makes itself are not what an evaluation is limited in; what it answers with may be.
    let was_at_work = watch.bounds.is_at_work.replace(true);
    let outcome = catch_unwind(AssertUnwindSafe(|| watch.told(|told| told.called(entry(state), state))));
    let then = match outcome {
        Ok(Some(Ok(then))) => then,
        Ok(Some(Err(error))) => raise(state, &error),
        Ok(None) => raise(state, &EngineError::Raised("nobody is attached any more".to_owned())),
        Err(_) => raise(state, &EngineError::Raised("a fault inside the debugger".to_owned())),
    };
    watch.bounds.is_at_work.set(was_at_work);
    // SAFETY: `Then` owns nothing; a raise from here on unwinds no Rust value. The stack holds what `Then` says.
    unsafe {
        match then {
            Then::Return(count) => count,
            Then::Raise => ffi::lua_error(raw),
            Then::Get => {
                ffi::lua_gettable(raw, -2);
                1
            }
            Then::Set => {
                ffi::lua_settable(raw, -3);
                0
            }
        }
    }
}

fn raise(state: State, error: &EngineError) -> Then {
    if state.push_bytes(error.to_string().as_bytes()).is_err() {
        state.push_nil();
    }
    Then::Raise
}

/// The functions that ask who watches, each for its entry.
macro_rules! entries {
    ($($name:ident => $entry:expr;)*) => {$(
        unsafe extern "C-unwind" fn $name(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by Lua.
            unsafe { answer(raw, $entry) }
        }
    )*};
}
entries! {
    name_read => |state| Entry::NameRead(environment_id(state));
    name_written => |state| Entry::NameWritten(environment_id(state));
    part_read => |_| Entry::PartRead;
    part_written => |_| Entry::PartWritten;
    length => |_| Entry::Length;
    pairs => |_| Entry::Pairs;
    text => |_| Entry::Text;
}

fn environment_id(state: State) -> i64 {
    state.raw_get_index(1, 1);
    let id = state.integer_at(-1).unwrap_or(0);
    state.pop(1);
    id
}

/// Pushes a new environment for evaluated code; `id` is what the context knows it by.
pub(crate) fn push_environment(state: State, id: i64) -> Result<(), EngineError> {
    state.push_table()?;
    state.push_integer(1);
    state.push_integer(id);
    state.raw_set(-3)?;
    state.push_table()?;
    state.push_function(name_read)?;
    state.raw_set_field(-2, "__index")?;
    state.push_function(name_written)?;
    state.raw_set_field(-2, "__newindex")?;
    state.set_metatable(-2);
    Ok(())
}

/// Makes the metatable of proxies.
pub(crate) fn prepare(state: State) -> Result<(), EngineError> {
    let functions: [(&str, ffi::lua_CFunction); 6] = [
        ("__index", part_read),
        ("__newindex", part_written),
        ("__len", length),
        ("__pairs", pairs),
        ("__tostring", text),
        ("__gc", proxy_drop),
    ];
    state.push_table()?;
    // Hides the metatable from `getmetatable`.
    state.push_bool(false);
    state.raw_set_field(-2, "__metatable")?;
    for (name, function) in functions {
        state.push_function(function)?;
        state.raw_set_field(-2, name)?;
    }
    state.set_slot(Slot::ProxyMeta)
}

/// Pushes a proxy for a place in the host's objects or the event.
pub(crate) fn push_proxy(state: State, place: TreePath) -> Result<(), EngineError> {
    unsafe extern "C-unwind" fn new(raw: *mut ffi::lua_State) -> c_int {
        // SAFETY: called by `protect`; the block is large enough for a pointer and is made null before anything else,
        // so that the finalizer never sees it uninitialised.
        unsafe {
            let block = ffi::lua_newuserdatauv(raw, size_of::<*mut TreePath>(), 0).cast::<*mut TreePath>();
            block.write(ptr::null_mut());
        }
        1
    }
    state.protect(new, 0, 1)?;
    let block = state.userdata_at(-1).cast::<*mut TreePath>();
    // SAFETY: the block was made above for exactly this; the finalizer frees the box once.
    unsafe { block.write(Box::into_raw(Box::new(place))) };
    state.push_slot(Slot::ProxyMeta);
    state.set_metatable(-2);
    Ok(())
}

/// The block of the proxy at `index`; `None` when it is anything else.
fn block_at(state: State, index: c_int) -> Option<*mut *mut TreePath> {
    if state.top() == 0 || state.type_at(index) != Type::Userdata || !state.push_metatable(index) {
        return None;
    }
    state.push_slot(Slot::ProxyMeta);
    let is_proxy = state.address_at(-1) == state.address_at(-2);
    state.pop(2);
    is_proxy.then(|| state.userdata_at(index).cast())
}

/// The place that the value at `index` is a proxy for, if it is one.
pub(crate) fn place_at(state: State, index: c_int) -> Option<TreePath> {
    let block = block_at(state, index)?;
    // SAFETY: only `push_proxy` makes userdata with this metatable; the box lives until the finalizer ran, after which
    // the pointer is null.
    unsafe { (*block).as_ref().cloned() }
}

unsafe extern "C-unwind" fn proxy_drop(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: `raw` is the running thread, alive for the call.
    let state = unsafe { State::new(raw) };
    if let Some(block) = block_at(state, 1) {
        // SAFETY: the block is a proxy's; the pointer is taken out, so that the box is freed once, however often the
        // finalizer is called.
        unsafe {
            let place = ptr::replace(block, ptr::null_mut());
            if !place.is_null() {
                drop(Box::from_raw(place));
            }
        }
    }
    0
}

unsafe extern "C-unwind" fn next_pair(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by a `for` loop with the table made by `proxy_pairs` and a key; nothing owned here.
    unsafe {
        ffi::lua_settop(raw, 2);
        if ffi::lua_type(raw, 1) == ffi::LUA_TTABLE && ffi::lua_next(raw, 1) != 0 { 2 } else { 0 }
    }
}

/// Pushes what goes through a table made for it, pair by pair.
pub(crate) fn push_next_pair(state: State) -> Result<(), EngineError> {
    state.push_function(next_pair)
}
