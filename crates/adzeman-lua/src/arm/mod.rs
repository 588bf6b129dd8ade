//! Arming lines: by exchanged bodies where that can be, by the line hook elsewhere.

mod exchange;
pub(crate) mod known;

pub(crate) use exchange::Arms;
