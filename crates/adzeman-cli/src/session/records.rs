//! Records that are in answers of the host.

use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use crate::error::CliError;

/// A record as the host has sent it.
///
/// # Errors
/// One that is not what this version knows of the answers to `command`.
pub(super) fn read_one<T: DeserializeOwned>(command: &str, record: Json) -> Result<T, CliError> {
    serde_json::from_value(record)
        .map_err(|why| CliError::BadAnswer { command: command.to_owned(), why: why.to_string() })
}

/// All of them.
pub(super) fn read_all<T: DeserializeOwned>(command: &str, all: Vec<Json>) -> Result<Vec<T>, CliError> {
    all.into_iter().map(|one| read_one(command, one)).collect()
}
