//! The functions of the engine's own library, told by their addresses: which they are, and which of them an evaluation must be
//! watched in, or kept from.

use std::collections::HashMap;
use std::ffi::{CStr, c_int};
use std::sync::OnceLock;

use super::api as ffi;

use super::apart::in_new_state;
use super::guard;

/// What calling a function may lead to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Effect {
    /// Nothing but what it is for.
    Plain,
    /// It is what evaluations are made of.
    Own,
    /// It runs the thread that it is given, or that it holds.
    RunsThread,
    /// It asks the collector something, or has it collect.
    Collector,
    /// It may give an object a finalizer.
    SetsMetatable,
    /// It sets hooks, the limit among them.
    SetsHook,
    /// It ends the host.
    Exits,
    /// It reads what is typed where the host was started.
    ReadsTerminal,
    /// It makes an object that may be given a finalizer without another call.
    MakesProxy,
}

/// A function of the library.
#[derive(Debug)]
pub(crate) struct Native {
    /// As scripts name it: `string.rep`.
    pub(crate) name: String,
    pub(super) effect: Effect,
}

/// The function at an address, if it is one of the library, or of this crate.
pub(crate) fn native_at(address: usize) -> Option<&'static Native> {
    natives().get(&address)
}

fn effect_of(name: &str) -> Effect {
    match name {
        "coroutine.resume" | "coroutine.wrap" | "coroutine.close" => Effect::RunsThread,
        "collectgarbage" => Effect::Collector,
        "setmetatable" | "debug.setmetatable" => Effect::SetsMetatable,
        "debug.sethook" => Effect::SetsHook,
        "os.exit" => Effect::Exits,
        "debug.debug" => Effect::ReadsTerminal,
        "newproxy" => Effect::MakesProxy,
        _ => Effect::Plain,
    }
}

fn natives() -> &'static HashMap<usize, Native> {
    static FOUND: OnceLock<HashMap<usize, Native>> = OnceLock::new();
    FOUND.get_or_init(|| {
        let mut found = HashMap::new();
        // SAFETY: the state is used here alone, on one thread.
        let opened = in_new_state(|state| unsafe {
            let raw = state.raw();
            // As `lua_pcall` of a native function, so that a want of memory raises nothing here.
            ffi::lua_pushcfunction(raw, open);
            if ffi::lua_pcall(raw, 0, 1, 0) == ffi::LUA_OK {
                add_table(raw, "", 2, &mut found);
            }
        });
        if opened.is_none() {
            return found;
        }
        let own = super::natives::own().chain(super::offered::own()).chain(super::print::own());
        found.extend(own.map(|(name, address)| {
            let is_wrapped = name.starts_with("a function of");
            (address, Native { effect: if is_wrapped { Effect::RunsThread } else { effect_of(&name) }, name })
        }));
        let own = super::proxy::own().into_iter().chain([guard::guard, guard::guard_and_report]);
        let own = own.chain(super::asked::put_in());
        found.extend(own.map(|function| (function as usize, Native { name: String::new(), effect: Effect::Own })));
        found
    })
}

unsafe extern "C-unwind" fn open(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by `lua_pcall` with an empty stack.
    unsafe {
        ffi::luaL_openlibs(raw);
        // What `coroutine.wrap` gives runs a thread, and has a name as much as any.
        let wrap = c"local names = {} for name, held in pairs(_G) do names[name] = held end \
                     names.wrapped = {wrap = coroutine.wrap(function() end)} return names";
        if ffi::luaL_loadstring(raw, wrap.as_ptr()) != ffi::LUA_OK {
            ffi::lua_error(raw);
        }
        ffi::lua_callk(raw, 0, 1, 0, None);
    }
    1
}

/// Adds the functions of the table on top, and of those inside it down to `levels`. Nothing raises: the tables are plain.
///
/// # Safety
/// `raw` is a live thread of this OS thread, with room for some values.
unsafe fn add_table(raw: *mut ffi::lua_State, path: &str, levels: usize, found: &mut HashMap<usize, Native>) {
    // SAFETY: given by the caller; keys are texts, which are not converted.
    unsafe {
        ffi::lua_pushnil(raw);
        while ffi::lua_next(raw, -2) != 0 {
            if ffi::lua_type(raw, -2) == ffi::LUA_TSTRING {
                let key = CStr::from_ptr(ffi::lua_tolstring(raw, -2, std::ptr::null_mut())).to_string_lossy();
                let name = if path.is_empty() { key.into_owned() } else { format!("{path}.{key}") };
                if let Some(function) = ffi::lua_tocfunction(raw, -1) {
                    let (name, effect) = match name.as_str() {
                        "wrapped.wrap" => ("a function of coroutine.wrap".to_owned(), Effect::RunsThread),
                        _ => (name.clone(), effect_of(&name)),
                    };
                    found.entry(function as usize).or_insert(Native { name, effect });
                } else if ffi::lua_type(raw, -1) == ffi::LUA_TTABLE && levels > 1 && key_is_library(&name) {
                    add_table(raw, &name, levels - 1, found);
                }
            }
            ffi::lua_settop(raw, -2);
        }
    }
}

fn key_is_library(name: &str) -> bool {
    !matches!(name, "_G" | "package")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::versions::is_since;

    #[test]
    fn the_library_is_known_by_its_addresses() {
        let of = |name: &str| natives().values().find(|native| native.name == name).map(|native| native.effect);
        assert_eq!(of("string.rep"), Some(Effect::Plain));
        assert_eq!(of("adzeman.wait"), Some(Effect::Plain));
        assert_eq!(of("os.exit"), Some(Effect::Exits));
        assert_eq!(of("collectgarbage"), Some(Effect::Collector));
        assert_eq!(of("setmetatable"), Some(Effect::SetsMetatable));
        assert_eq!(of("a function of coroutine.wrap"), Some(Effect::RunsThread));
        let running = natives().values().filter(|native| native.effect == Effect::RunsThread).count();
        // The library's, which has three since one closes coroutines, and what its wrap gives; this crate's two and what its wrap gives.
        let own = if is_since("5.4") { 3 } else { 2 };
        assert_eq!(running, own + 1 + 3);
        assert_eq!(of("newproxy"), (!is_since("5.2")).then_some(Effect::MakesProxy));
    }
}
