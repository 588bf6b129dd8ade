//! The host's side: its events, its objects, and what is said of them.

mod about;
mod data;
mod event;
mod object;
mod pick;
mod tree;

pub use about::{About, AboutPart};
pub use data::Data;
pub use event::{EventKind, FieldDoc};
pub use object::{HostError, HostObject, SharedObject};
pub use pick::{MOST_LEVELS, pick, to_data};
pub use tree::{HostView, Root, TreePath, at, describe, list, preview};
