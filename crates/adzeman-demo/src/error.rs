//! Why the company cannot work.

use std::io;

use adzeman::{ListenError, StartError};
use thiserror::Error;

/// Why the company cannot work.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum LocksideError {
    /// No address to listen on.
    #[error(transparent)]
    Listen(#[from] ListenError),
    /// What it opens does not go together.
    #[error(transparent)]
    Start(#[from] StartError),
    /// A script that does not load.
    #[error("a script does not load: {0}")]
    Script(#[from] mlua::Error),
    /// A script state that cannot be opened.
    #[error(transparent)]
    Context(#[from] adzeman::AttachError),
    /// A database that does not open.
    #[error("the database {path} cannot be used: {why}; choose another file with --db")]
    Database {
        /// The file.
        path: String,
        /// What the database said.
        why: rusqlite::Error,
    },
    /// A script that cannot be read.
    #[error("the script {path} cannot be read: {why}; choose another file with --lock-script")]
    LockScript {
        /// The file.
        path: String,
        /// What the system said.
        why: io::Error,
    },
    /// No way to be told to end.
    #[error("Ctrl-C cannot be listened for: {0}")]
    Signal(#[from] ctrlc::Error),
}
