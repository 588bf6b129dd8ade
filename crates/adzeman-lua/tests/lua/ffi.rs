//! What tests cannot have from a safe Lua state: the `debug` library, and whether it has a hook.

use mlua::{Lua, LuaOptions, StdLib};

/// A state with all standard libraries.
pub(crate) fn lua_with_debug() -> Lua {
    // SAFETY: the scripts of these tests only read by the `debug` library, or set hooks with it, and load no native module.
    unsafe { Lua::unsafe_new_with(StdLib::ALL, LuaOptions::default()) }
}

/// What the hook of the main thread is called for; 0 where it has none.
pub(crate) fn hook_mask(lua: &Lua) -> i32 {
    let mut mask = 0;
    // SAFETY: it only asks.
    let asked = unsafe { lua.exec_raw::<()>((), |state| mask = mlua::ffi::lua_gethookmask(state)) };
    asked.unwrap();
    mask
}
