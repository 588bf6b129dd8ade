//! Which globals the runtime itself brings along.

use std::collections::HashSet;
use std::ffi::c_int;
use std::sync::OnceLock;

use super::keys::Key;
use crate::ffi::offered::OFFERED;
use crate::ffi::state::{State, Type};

/// The names that a state has when nothing was loaded into it.
fn names() -> &'static HashSet<String> {
    static NAMES: OnceLock<HashSet<String>> = OnceLock::new();
    NAMES.get_or_init(|| {
        let lua = mlua::Lua::new();
        let globals = lua.globals();
        let names = globals.pairs::<String, mlua::Value>().filter_map(|pair| pair.ok().map(|(name, _)| name));
        // The one library that such a state is not given, and what this crate offers.
        names.chain(["debug".to_owned(), OFFERED.to_owned()]).collect()
    })
}

/// Whether an entry of the globals at `table`, whose key is in the list at `list`, is the runtime's: one of its names that no
/// script has given another meaning.
pub(super) fn is_built_in(state: State, table: c_int, list: c_int, key: &Key) -> bool {
    if !names().contains(&key.shown) {
        return false;
    }
    state.raw_get_index(list, key.position);
    state.raw_get(table);
    let is_own = state.type_at(-1) == Type::Function && !state.is_native_function(-1);
    state.pop(1);
    !is_own
}
