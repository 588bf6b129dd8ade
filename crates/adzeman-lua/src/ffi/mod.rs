//! Everything that talks to the Lua library directly, and the only place with `unsafe`.
//!
//! [`state::State`] wraps a Lua thread in methods that keep the rules of the C API (room on the stack, valid indices, no
//! raise across Rust frames), so that the rest of the crate is safe code. Rules kept here:
//!
//! - A C function that may raise runs in protected mode ([`state::State::protect`]), called from a Rust frame; the raise
//!   unwinds only frames that own nothing.
//! - Callbacks from Lua catch panics: none crosses into C.
//! - All of it runs on the thread that runs the scripts, while it alone does ([`locked`]), but for [`interrupt`], which only sends
//!   a signal to it.
#![allow(unsafe_code)]

pub(crate) mod activation;
pub(crate) mod apart;
mod api;
pub(crate) mod asked;
pub(crate) mod body;
pub(crate) mod bounds;
pub(crate) mod by_definition;
pub(crate) mod calls;
mod captured;
mod collector;
pub(crate) mod compared;
mod fields;
mod finalizers;
pub(crate) mod forks;
pub(crate) mod graph;
pub(crate) mod guard;
pub(crate) mod hook;
pub(crate) mod hosted;
mod internals;
pub(crate) mod interrupt;
pub(crate) mod layout;
pub(crate) mod leap;
mod levels;
pub(crate) mod library;
pub(crate) mod limit;
pub(crate) mod locked;
pub(crate) mod natives;
mod new_line;
mod newcomers;
pub(crate) mod objects;
pub(crate) mod offered;
pub(crate) mod one_call;
mod others;
mod own_hooks;
pub(crate) mod places;
pub(crate) mod print;
pub(crate) mod profile;
pub(crate) mod proxy;
pub(crate) mod scalars;
pub(crate) mod sizes;
pub(crate) mod state;
pub(crate) mod tables;
pub(crate) mod walk;
pub(crate) mod watch;
#[cfg(target_os = "linux")]
pub(crate) mod whereabouts;

/// The binding's handle of a state that a host has made by the C API, for everything here that takes one.
///
/// ```no_run
/// # fn watch(raw: *mut mlua::ffi::lua_State) {
/// // SAFETY: the state is made and closed by this thread, and closed last.
/// let lua = unsafe { adzeman_lua::lua_of(raw) };
/// # let _ = lua;
/// # }
/// ```
///
/// # Safety
/// `raw` is a live thread of a state that was made by the Lua library which this program is linked with, that of `mlua::ffi`.
/// It is used on one OS thread at a time, with the feature `send` by the binding alone wherever several may want it, and lives for
/// longer than every copy of what is answered, and every engine made by one.
pub unsafe fn lua_of(raw: *mut mlua::ffi::lua_State) -> mlua::Lua {
    // SAFETY: given by the caller.
    unsafe { mlua::Lua::get_or_init_from_ptr(raw) }.clone()
}

/// The thread behind a handle of the binding; alive as long as that is.
pub(crate) fn thread_of(lua: &mlua::Lua, thread: &mlua::Thread) -> Result<state::State, mlua::Error> {
    let mut found = None;
    // SAFETY: the closure only reads the thread that was pushed for it, and leaves it to the binding to drop.
    unsafe {
        lua.exec_raw::<()>(thread, |raw| {
            found = state::State::new(raw).thread_at(-1);
            mlua::ffi::lua_settop(raw, 0);
        })?;
    }
    found.ok_or_else(|| mlua::Error::runtime("there is no thread behind the handle"))
}

/// A function of the binding as compiled code, as it was loaded.
pub(crate) fn dump(
    lua: &mlua::Lua,
    function: &mlua::Function,
    strips: bool,
    dump: impl Fn(state::State, bool) -> Vec<u8>,
) -> Result<Vec<u8>, mlua::Error> {
    let mut chunk = Vec::new();
    // SAFETY: the closure only reads the function that was pushed for it, and leaves it to the binding to drop.
    unsafe {
        lua.exec_raw::<()>(function.clone(), |raw| {
            let state = state::State::new(raw);
            if !state.is_native_function(-1) {
                chunk = dump(state, strips);
            }
            mlua::ffi::lua_settop(raw, 0);
        })?;
    }
    Ok(chunk)
}

/// Keeps a function of the binding under a slot of its state.
pub(crate) fn keep_function(lua: &mlua::Lua, function: &mlua::Function, slot: state::Slot) -> Result<(), mlua::Error> {
    let mut kept = Ok(());
    // SAFETY: the closure takes the function that was pushed for it; `set_slot` is protected itself.
    unsafe {
        lua.exec_raw::<()>(function.clone(), |raw| kept = state::State::new(raw).set_slot(slot))?;
    }
    kept.map_err(mlua::Error::external)
}

/// The main thread of a state.
pub(crate) fn main_thread_of(lua: &mlua::Lua) -> Result<state::State, mlua::Error> {
    let mut main = None;
    // SAFETY: the closure only reads a thread out of the registry and leaves the stack as it was. The main thread lives as
    // long as the state, which the caller keeps alive.
    unsafe {
        lua.exec_raw::<()>((), |raw| {
            main = Some(state::State::new(raw).main_thread());
        })?;
    }
    main.ok_or_else(|| mlua::Error::runtime("the state has no main thread"))
}
