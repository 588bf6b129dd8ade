//! The passages in the database.

use std::path::Path;

use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};

/// A passage of a boat through a lock.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Passage {
    pub(crate) kind: String,
    pub(crate) number: u64,
    pub(crate) boat: String,
    /// Metres.
    pub(crate) length: f64,
    pub(crate) lock: String,
    /// Minutes waited.
    pub(crate) minutes: f64,
    pub(crate) frame: u64,
}

pub(crate) struct Books(Connection);

impl Books {
    /// Opens the file, or a database in memory.
    pub(crate) fn open(path: Option<&Path>) -> rusqlite::Result<Self> {
        let connection = path.map_or_else(Connection::open_in_memory, Connection::open)?;
        connection.execute_batch(
            "create table if not exists passage (
                number integer not null, boat text not null, length real not null, lock text not null,
                minutes real not null, frame integer not null, toll real not null
            )",
        )?;
        // The demo is no place to wait for a disk; each record is still written whole.
        connection.pragma_update(None, "synchronous", "off")?;
        Ok(Self(connection))
    }

    pub(crate) fn save(&self, passage: &Passage, toll: f64) -> rusqlite::Result<()> {
        let Passage { number, boat, length, lock, minutes, frame, .. } = passage;
        self.0.execute(
            "insert into passage values (?, ?, ?, ?, ?, ?, ?)",
            params![number, boat, length, lock, minutes, frame, toll],
        )?;
        Ok(())
    }

    /// How many passages there are, and their tolls together.
    pub(crate) fn totals(&self) -> rusqlite::Result<(u64, f64)> {
        self.0
            .query_row("select count(*), coalesce(sum(toll), 0) from passage", [], |row| Ok((row.get(0)?, row.get(1)?)))
    }
}
