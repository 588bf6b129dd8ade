//! What differs between versions of the engine, and is known of this one: its compiled code. Nothing here touches a state.

pub(crate) mod chunk;
pub(crate) mod numbering;
pub(crate) mod operations;
pub(crate) mod patches;
