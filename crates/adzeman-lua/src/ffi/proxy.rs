//! What evaluated code sees: an environment that looks names up in a frame, and proxies for the host's objects and the
//! event.

use std::ffi::c_int;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::ptr;

use adzeman_core::engine::EngineError;
use adzeman_core::host::{Data, HostError};
use adzeman_core::path::Segment;
use adzeman_core::path::{Root, TreePath};
use mlua::ffi;

use super::hook::context_of;
use super::state::{Slot, State, Type};
use crate::context::Context;
use crate::json;
use crate::paths::{NOTATION, element, number_of};

/// What a callback wants done after it has dropped all it owned.
enum Then {
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
    [environment_get, environment_set, proxy_get, proxy_set, proxy_length, proxy_pairs, next_pair, proxy_text]
}

/// Runs a callback: panics and errors become Lua errors, raised only when nothing is owned here any more.
///
/// # Safety
/// Called by Lua as the body of a C function.
unsafe fn callback(raw: *mut ffi::lua_State, body: impl FnOnce(&Context, State) -> Result<Then, EngineError>) -> c_int {
    // SAFETY: `raw` is the running thread, alive for the call, with the minimum of free stack.
    let (context, state) = unsafe { (context_of(raw), State::new(raw)) };
    // The calls that this makes itself are not what an evaluation is limited in; what it answers with may be.
    let was_at_work = context.is_some_and(|context| context.bounds.is_at_work.replace(true));
    let outcome = match context {
        Some(context) => catch_unwind(AssertUnwindSafe(|| body(context, state)))
            .unwrap_or_else(|_| Err(EngineError::Raised("a fault inside the debugger".to_owned()))),
        None => Err(EngineError::Raised("nobody is attached any more".to_owned())),
    };
    let then = outcome.unwrap_or_else(|error| raise(state, &error));
    if let Some(context) = context {
        context.bounds.is_at_work.set(was_at_work);
    }
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

unsafe extern "C-unwind" fn environment_get(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with the environment and a key.
    unsafe {
        callback(raw, |context, state| {
            let id = environment_id(state);
            let name = state.text_at(2).unwrap_or_default();
            if context.push_name(state, id, &name)? {
                return Ok(Then::Return(1));
            }
            context.push_globals_of_target(state, id);
            state.push_copy(2);
            Ok(Then::Get)
        })
    }
}

unsafe extern "C-unwind" fn environment_set(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with the environment, a key and a value.
    unsafe {
        callback(raw, |context, state| {
            let id = environment_id(state);
            let name = state.text_at(2).unwrap_or_default();
            if context.set_name(state, id, &name)? {
                return Ok(Then::Return(0));
            }
            context.push_globals_of_target(state, id);
            state.push_copy(2);
            state.push_copy(3);
            Ok(Then::Set)
        })
    }
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
    state.push_function(environment_get);
    state.raw_set_field(-2, "__index")?;
    state.push_function(environment_set);
    state.raw_set_field(-2, "__newindex")?;
    state.set_metatable(-2);
    Ok(())
}

/// Makes the metatable of proxies.
pub(crate) fn prepare(state: State) -> Result<(), EngineError> {
    let functions: [(&str, ffi::lua_CFunction); 6] = [
        ("__index", proxy_get),
        ("__newindex", proxy_set),
        ("__len", proxy_length),
        ("__pairs", proxy_pairs),
        ("__tostring", proxy_text),
        ("__gc", proxy_drop),
    ];
    state.push_table()?;
    // Hides the metatable from `getmetatable`.
    state.push_bool(false);
    state.raw_set_field(-2, "__metatable")?;
    for (name, function) in functions {
        state.push_function(function);
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

fn receiver(state: State) -> Result<TreePath, EngineError> {
    place_at(state, 1).ok_or_else(|| EngineError::Raised("this is no host object".to_owned()))
}

/// One step further: a name, or a number.
fn step(state: State, place: &TreePath) -> Result<TreePath, EngineError> {
    match (state.type_at(2), state.integer_at(2)) {
        (Type::String, _) => Ok(place.join(Segment::Field(state.text_at(2).unwrap_or_default()))),
        (Type::Integer, Some(number)) => Ok(place.join(element(number))),
        _ => Err(EngineError::Raised(format!("'{}' has names and whole numbers only", place.display(NOTATION)))),
    }
}

unsafe extern "C-unwind" fn proxy_get(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with a proxy and a key.
    unsafe {
        callback(raw, |context, state| {
            let place = step(state, &receiver(state)?)?;
            let is_element = state.type_at(2) == Type::Integer;
            match context.host().get(&place) {
                Ok(data) => push_data(state, &data, place)?,
                // A script asks whether an event carries something by reading it, and reads lists until nil.
                Err(HostError::NoField { .. }) if place.root == Root::Event || is_element => state.push_nil(),
                Err(error) => return Err(error.into()),
            }
            Ok(Then::Return(1))
        })
    }
}

unsafe extern "C-unwind" fn proxy_set(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with a proxy, a key and a value.
    unsafe {
        callback(raw, |context, state| {
            let place = step(state, &receiver(state)?)?;
            let data = json::from_lua(state, 3)?;
            context.host().set(&place, data)?;
            Ok(Then::Return(0))
        })
    }
}

unsafe extern "C-unwind" fn proxy_length(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with a proxy.
    unsafe {
        callback(raw, |context, state| {
            let length = context.host().get(&receiver(state)?)?.elements().map_or(0, <[Data]>::len);
            state.push_integer(i64::try_from(length).unwrap_or(i64::MAX));
            Ok(Then::Return(1))
        })
    }
}

unsafe extern "C-unwind" fn proxy_pairs(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with a proxy.
    unsafe {
        callback(raw, |context, state| {
            let place = receiver(state)?;
            let data = context.host().get(&place)?;
            state.push_function(next_pair);
            state.push_table()?;
            match &data {
                Data::Object(fields) => fields.iter().try_for_each(|(name, data)| {
                    push_data(state, data, place.join(Segment::Field(name.clone())))?;
                    state.raw_set_field(-2, name)
                })?,
                Data::List(items) => (0..).zip(items).try_for_each(|(index, data)| {
                    state.push_integer(number_of(index));
                    push_data(state, data, place.join(Segment::Index(index)))?;
                    state.raw_set(-3)
                })?,
                _ => {}
            }
            state.push_nil();
            Ok(Then::Return(3))
        })
    }
}

unsafe extern "C-unwind" fn next_pair(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by a `for` loop with the table made by `proxy_pairs` and a key; nothing owned here.
    unsafe {
        ffi::lua_settop(raw, 2);
        if ffi::lua_type(raw, 1) == ffi::LUA_TTABLE && ffi::lua_next(raw, 1) != 0 { 2 } else { 0 }
    }
}

unsafe extern "C-unwind" fn proxy_text(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with a proxy.
    unsafe {
        callback(raw, |context, state| {
            let place = receiver(state)?;
            let data = match context.host().get(&place) {
                Err(HostError::Secret { .. }) => Data::Secret,
                found => found?,
            };
            state.push_bytes(adzeman_core::host::describe(&data, &place).preview.as_bytes())?;
            Ok(Then::Return(1))
        })
    }
}

/// Pushes plain data as itself, and what has an inside, or is not shown, as a proxy.
pub(crate) fn push_data(state: State, data: &Data, place: TreePath) -> Result<(), EngineError> {
    match data {
        Data::Null => state.push_nil(),
        Data::Boolean(value) => state.push_bool(*value),
        Data::Number(number) => match number.as_i64() {
            Some(integer) => state.push_integer(integer),
            None => state.push_float(number.as_f64().unwrap_or(f64::NAN)),
        },
        Data::Text(text) => state.push_bytes(text.as_bytes())?,
        Data::List(_) | Data::Object(_) | Data::Secret | Data::Unreadable(_) => push_proxy(state, place)?,
    }
    Ok(())
}
