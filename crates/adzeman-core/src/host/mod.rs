//! The host's side: its events, its objects, and paths into them.

mod about;
mod event;
mod object;
mod path;
mod pick;
mod tree;

pub use about::{About, AboutPart, SECRET};
pub use event::{EventKind, FieldDoc};
pub use object::{HostError, HostObject, SharedObject};
pub use path::{Path, PathError, Segment};
pub use pick::{MOST_LEVELS, pick, to_data};
pub use tree::{HostView, Root, TreePath, at, describe, list, preview, set_at};
