//! The host's side: its events, its objects, and paths into them.

mod event;
mod object;
mod path;
mod pick;
mod tree;

pub use event::{EventKind, FieldDoc};
pub use object::{HostError, HostObject, SharedObject};
pub use path::{Path, PathError, Segment};
pub use pick::pick;
pub use tree::{HostView, Root, TreePath, at, describe, list, set_at};
