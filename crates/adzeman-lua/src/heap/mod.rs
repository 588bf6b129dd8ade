//! What the state holds: how many values of each kind, and what holds one of them.

mod census;
mod groups;
mod holders;

use std::cell::RefCell;

use adzeman_core::engine::EngineError;
use adzeman_core::heap::Written;

use crate::ffi::graph::Graph;
use crate::ffi::state::{State, Type};
use crate::scripts::Scripts;
use crate::text::display_name;

use census::UnderWay;

pub(crate) use groups::names_of_natives;

const NOT_KNOWN: &str = "what values lead to is not known for this build of Lua";

/// What is counted of one state.
#[derive(Default)]
pub(crate) struct Heap {
    /// A census that is taken a part at a time.
    under_way: RefCell<Option<UnderWay>>,
}

/// # Errors
/// Where it is not known how to come from one value to the next.
fn require_graph() -> Result<(), EngineError> {
    if Graph::is_possible() { Ok(()) } else { Err(EngineError::Runtime(NOT_KNOWN.to_owned())) }
}

/// Where the function at the top of `state` is defined, with what its first line says; nothing for a native one.
fn definition(state: State, scripts: &Scripts) -> Option<Written> {
    if state.type_at(-1) != Type::Function || state.is_native_function(-1) {
        return None;
    }
    let info = state.function_info(-1);
    let text = scripts.named(&info.chunk_name).and_then(|source| scripts.written(source));
    Some(written(&info.chunk_name, info.first_line, text.as_deref()))
}

/// A line of a chunk; the first one for a whole script.
pub(crate) fn written(chunk_name: &str, line: u32, text: Option<&str>) -> Written {
    /// Characters of a line.
    const MOST: usize = 80;
    let at = usize::try_from(line).unwrap_or(0).checked_sub(1);
    let said = at.and_then(|at| text?.lines().nth(at)).map(|line| line.trim().chars().take(MOST).collect());
    Written { source: display_name(chunk_name), line: line.max(1), text: said }
}
