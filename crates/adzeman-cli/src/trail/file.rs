//! Trails in files: a line of JSON that says whose it is, and one for each event.

use std::io::{self, BufRead as _, BufReader};
use std::path::Path;

use adzeman::core::trail::{Entry, FORMAT};
use serde::Deserialize;

use crate::error::CliError;
use crate::own_file::write_own;
use crate::report::Kept;

/// The first line.
#[derive(Debug, Clone, Deserialize, Default)]
#[serde(rename_all = "camelCase")]
pub(super) struct Head {
    /// The version of the format.
    trail: u32,
    #[serde(default)]
    host: String,
    #[serde(default)]
    process_id: u32,
    #[serde(default)]
    why: String,
    #[serde(default)]
    dropped: u64,
}

/// Lines that are told of where they cannot be read.
const MOST_BROKEN: usize = 10;

impl Head {
    /// Whose it is.
    pub(super) fn host(&self) -> &str {
        if self.host.is_empty() { "another trail" } else { &self.host }
    }

    /// Whose it is, and why it was written.
    pub(super) fn told(&self) -> String {
        let Self { host, process_id, why, .. } = self;
        format!("the trail of {host} (process {process_id}); why it was written: {why}")
    }
}

/// What a file has.
pub(super) struct Held {
    pub(super) head: Head,
    pub(super) entries: Vec<Entry>,
    /// Lines that are none, and why.
    pub(super) broken: Vec<(usize, String)>,
}

impl Held {
    pub(super) fn kept(&self) -> Kept {
        Kept { events: self.entries.len(), dropped: self.head.dropped }
    }
}

pub(super) fn read(file: &Path) -> Result<Held, CliError> {
    let name = file.display().to_string();
    let unreadable = |why: io::Error| CliError::Unreadable { file: name.clone(), why };
    let mut lines = BufReader::new(std::fs::File::open(file).map_err(unreadable)?).split(b'\n');
    let first = lines.next().transpose().map_err(unreadable)?.unwrap_or_default();
    let no_trail = |why: String| unreadable(io::Error::other(why));
    let head: Head = serde_json::from_slice(&first)
        .map_err(|_| no_trail("it is no trail: its first line does not say so".to_owned()))?;
    if head.trail != FORMAT {
        return Err(no_trail(format!("it is a trail of format {}; this command understands {FORMAT}", head.trail)));
    }
    let (mut entries, mut broken) = (Vec::new(), Vec::new());
    for (number, line) in (2..).zip(lines) {
        let line = line.map_err(unreadable)?;
        if line.is_empty() {
            continue;
        }
        match serde_json::from_slice::<Entry>(&line) {
            Ok(entry) => entries.push(entry),
            Err(why) if broken.len() < MOST_BROKEN => broken.push((number, why.to_string())),
            Err(_) => {}
        }
    }
    entries.sort_by_key(|entry| entry.number);
    Ok(Held { head, entries, broken })
}

pub(super) fn write_lines(file: &Path, entries: &[Entry], head: Option<&serde_json::Value>) -> io::Result<()> {
    let own = serde_json::json!({"trail": FORMAT, "why": "it was picked from another trail"});
    write_own(file, |out| {
        writeln!(out, "{}", head.unwrap_or(&own))?;
        entries.iter().try_for_each(|entry| {
            serde_json::to_writer(&mut *out, entry)?;
            writeln!(out)
        })
    })
}
