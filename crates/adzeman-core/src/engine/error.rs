//! What can go wrong in an engine.

use std::time::Duration;

use thiserror::Error;

use crate::host::HostError;

/// What can go wrong when an engine is asked something.
#[derive(Debug, Clone, PartialEq, Error)]
#[non_exhaustive]
pub enum EngineError {
    /// A frame index beyond the stack.
    #[error("there is no frame {index}; the stack has {depth}")]
    NoFrame {
        /// The index asked for.
        index: usize,
        /// How many frames there are.
        depth: usize,
    },
    /// A handle of an earlier stop.
    #[error("this value was shown at an earlier stop and is gone; look again from the stack or the scopes")]
    StaleHandle,
    /// A name that is not there.
    #[error("there is no '{name}' here; {hint}")]
    NoName {
        /// The name.
        name: String,
        /// What to do instead.
        hint: String,
    },
    /// A text that does not parse.
    #[error("cannot read that: {0}")]
    Syntax(String),
    /// An evaluation that raised.
    #[error("{0}")]
    Raised(String),
    /// An evaluation that did more than it may.
    #[error("gave up after {} million instructions; nothing was returned (is there an endless loop in it? 'limit' allows more)",
        instructions / 1_000_000)]
    OverLimit {
        /// How many were allowed.
        instructions: u64,
    },
    /// An evaluation that took longer than it may.
    #[error("gave up after {} s; nothing was returned (is there an endless loop in it? 'limit' allows more time)", time.as_secs_f64())]
    OverTime {
        /// How long it could take.
        time: Duration,
    },
    /// An evaluation that made more than it may.
    #[error("gave up: it took more than {} MiB of memory; nothing was returned ('limit' allows more)", bytes / (1024 * 1024))]
    OverMemory {
        /// How much more than before there could be.
        bytes: usize,
    },
    /// An evaluation that nobody waits for any more.
    #[error("it was cancelled; nothing was returned")]
    Cancelled,
    /// Something that cannot be changed.
    #[error("'{name}' cannot be changed: {why}")]
    NotAssignable {
        /// What was to be changed.
        name: String,
        /// Why it cannot.
        why: String,
    },
    /// The host said no.
    #[error(transparent)]
    Host(#[from] HostError),
    /// The runtime itself failed, for want of memory for instance.
    #[error("the script engine could not do that: {0}")]
    Runtime(String),
}
