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
        let place = TreePath::of(path).filter(|place| self.is_there(place.root))?;
        (!is_known_name(self.main, target, place.root.name())).then_some(place)
    }

    /// The tree of the host's data that a name stands for, unless scripts have another meaning for it.
    pub(crate) fn tree_named(&self, name: &str) -> Option<Root> {
        Root::named(name).filter(|root| self.is_there(*root))
    }

    fn is_there(&self, root: Root) -> bool {
        root == Root::Host || self.host().has_event()
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
