//! The one thing that tests cannot have from a safe Lua state: the `debug` library.

use mlua::{Lua, LuaOptions, StdLib};

/// A state with all standard libraries.
pub(crate) fn lua_with_debug() -> Lua {
    // SAFETY: the scripts of these tests only read by the `debug` library, or set hooks with it, and load no native module.
    unsafe { Lua::unsafe_new_with(StdLib::ALL, LuaOptions::default()) }
}
