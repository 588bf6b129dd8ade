//! The host's side: its events, its objects, and what is said of them.

mod about;
mod change;
mod data;
mod error;
mod event;
mod object;
mod pick;
mod shared;
mod tree;

pub use about::{About, AboutPart};
pub use data::Data;
pub use error::HostError;
pub use event::{EventKind, FieldDoc};
pub use object::HostObject;
pub use pick::{Extent, MOST_LEVELS, pick, to_data};
pub use shared::SharedObject;
pub use tree::{HostView, at, describe, list, preview};
