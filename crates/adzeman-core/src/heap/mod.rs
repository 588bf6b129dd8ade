//! What a script state holds: how many values of each kind there are, and what keeps one of them alive. The records here are those
//! of the protocol and of lines of files, too.

mod census;
mod holders;

use serde::{Deserialize, Serialize};

pub use census::{Census, CensusLine, Counting, Growth, Tally};
pub use holders::{Holder, HolderStep, Holders, Root};

/// Where something stands in a script.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Written {
    /// The name of the source, as it is shown.
    pub source: String,
    /// The line, from 1.
    pub line: u32,
    /// What the line says, without what it is indented by, if the text is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

impl std::fmt::Display for Written {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.source, self.line)
    }
}
