//! The trail: the last events of a host, with what they cost, what came of them, and what was said meanwhile.
//!
//! The [`Ring`] keeps them as they end, within a bound of bytes. An [`Entry`] is one of them for those who look, and a line of a
//! trail that was written to a file; a [`Filter`] picks some, [`counts`] sums them up.

mod counts;
mod filter;
mod ring;

use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

pub use counts::{Count, counts};
pub use filter::{Filter, FilterError};
pub use ring::{Carried, Happened, Ring, Trail};

/// The version of what a file of a trail looks like, which its first line names as `trail`.
pub const FORMAT: u32 = 1;

/// What came of an event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// Its handlers ran to their end.
    Done,
    /// They refused it, as the host says.
    Refused,
    /// They failed.
    Failed,
}

/// What was said while an event was handled.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Said {
    /// Who said it.
    pub by: Speaker,
    /// What a monitor samples; nothing for others.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// The text, or the sample.
    pub text: String,
}

/// Who says something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Speaker {
    /// The log message of a breakpoint.
    Breakpoint,
    /// A monitor.
    Monitor,
}

/// An event that has happened: how it is shown, and a line of a file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Entry {
    /// Its number, in the order in which events began; from 1 on.
    pub number: u64,
    /// When it began, in seconds of the host's clock, which stands still at stops.
    pub seconds: f64,
    /// Its kind.
    pub event: String,
    /// What it was about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// The event inside whose handler it was raised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<u64>,
    /// The contexts that it belongs to: those that the host entered for it; otherwise the only one of its thread, or the one that has the
    /// name of the subject. Whether a script ran there is not told.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub contexts: Vec<String>,
    /// What its handlers took, without the time at stops.
    pub milliseconds: f64,
    /// How much they may take, where a breakpoint says so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub budget_milliseconds: Option<f64>,
    /// What came of it.
    pub outcome: Outcome,
    /// Why it was refused, or with what it failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
    /// How often its handlers ran, where that is more than once.
    #[serde(default = "once", skip_serializing_if = "is_once")]
    pub runs: u32,
    /// What it carried, as far as that was copied: an object.
    #[serde(default, skip_serializing_if = "Json::is_null")]
    pub payload: Json,
    /// Why that was not copied.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub payload_left_out: Option<String>,
    /// What was said meanwhile, in order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub said: Vec<Said>,
}

fn once() -> u32 {
    1
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks by reference")]
fn is_once(runs: &u32) -> bool {
    *runs == 1
}

impl Entry {
    /// Whether its handlers took longer than they may.
    #[must_use]
    pub fn is_over_budget(&self) -> bool {
        self.budget_milliseconds.is_some_and(|budget| self.milliseconds > budget)
    }

    /// The kind and the subject, for people.
    #[must_use]
    pub fn title(&self) -> String {
        let of = self.subject.as_ref().map_or(String::new(), |subject| format!(" of {subject}"));
        format!("{}{of}", self.event)
    }
}
