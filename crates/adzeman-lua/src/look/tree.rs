//! The host's data, as scripts have it.

use adzeman_core::engine::EngineError;
use adzeman_core::host::Data;
use adzeman_core::path::{Path, Root, TreePath};

use super::Shown;
use crate::ffi::proxy::push_proxy;
use crate::ffi::state::State;
use crate::scope::{Target, is_known_name};

impl Shown {
    /// The place in the host's data that a path stands for, if it does: names that scripts made come first.
    pub(crate) fn tree_place(&self, target: Option<Target>, path: &Path) -> Option<TreePath> {
        let (name, rest) = path.split_name()?;
        let root = self.tree_named(name)?;
        (!is_known_name(self.main, target, name)).then_some(TreePath { root, path: rest })
    }

    /// The tree of the host's data that a name stands for, unless scripts have another meaning for it.
    pub(crate) fn tree_named(&self, name: &str) -> Option<Root> {
        match name {
            "host" => Some(Root::Host),
            "event" if self.host().has_event() => Some(Root::Event),
            _ => None,
        }
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
