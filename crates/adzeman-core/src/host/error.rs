//! Why a host object could not be read or changed.

use thiserror::Error;

/// Why a host object could not be read or changed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HostError {
    /// No object or field there.
    #[error("'{path}' has no '{name}'; it has {known}")]
    NoField {
        /// What was looked into.
        path: String,
        /// What is not there.
        name: String,
        /// What is.
        known: String,
    },
    /// The object was opened for looking only.
    #[error("'{path}' cannot be changed: the host opened it for looking only")]
    ReadOnly {
        /// The object.
        path: String,
    },
    /// The host holds the object's lock at this moment.
    #[error("'{path}' is in use by the host at this moment; stop at another line, or go on and try again")]
    Busy {
        /// The object.
        path: String,
    },
    /// The host lends it for the time of a handler, and does not at this moment.
    #[error("'{path}' is there only while the host handles an event for which it lends it; stop in one")]
    NotLent {
        /// The object.
        path: String,
    },
    /// The new value does not fit.
    #[error("'{path}' does not take that value: {why}")]
    Refused {
        /// What was to be changed.
        path: String,
        /// What was expected.
        why: String,
    },
    /// The host does not want it changed.
    #[error("the host does not let '{path}' become that: {why}")]
    Vetoed {
        /// What was to be changed.
        path: String,
        /// What the host said.
        why: String,
    },
    /// The host keeps it to itself.
    #[error("'{path}' is kept secret by the host")]
    Secret {
        /// What was asked for.
        path: String,
    },
    /// The object could not be turned into data.
    #[error("'{path}' could not be read: {why}")]
    Unreadable {
        /// The object.
        path: String,
        /// What serde said.
        why: String,
    },
}
