//! The host's side: its events, its objects, and what is said of them.

#[macro_use]
mod parts;

mod about;
mod access;
mod change;
mod data;
mod error;
mod event;
mod functions;
mod lent;
mod object;
mod outline;
mod pick;
mod placed;
mod shared;
mod tree;

pub use about::{ANY, About, AboutPart};
pub use access::{Access, ObjectRef};
pub use change::NotChanged;
pub use data::Data;
pub use error::HostError;
pub use event::{EventKind, FieldDoc};
pub use functions::{ByFunctions, Inside};
pub use lent::{Lending, Lent};
pub use object::HostObject;
pub use outline::{Aspect, Outline};
pub use pick::{Extent, MOST_LEVELS, outline, pick, to_data};
pub use placed::{Measure, Placed};
pub use shared::SharedObject;
pub use tree::{HostView, at, describe, has_part, list, preview};
