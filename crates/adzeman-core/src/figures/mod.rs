//! Numbers of a host over time: their course in a bounded space, and when they jumped.

mod course;
mod sums;

use serde::{Deserialize, Serialize};

pub use course::{Cause, Course, Jump, Point};
pub use sums::{KindSum, Sums};

/// A number of a host, as it is now and as it was.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct FigureNow {
    /// What it is called: `ledger.memory`, `boats.waiting`.
    pub name: String,
    /// What it is, in a few words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub doc: String,
    /// What it is measured in.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub unit: String,
    /// What is usual: the least and the most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub usual: Option<(f64, f64)>,
    /// The last value; nothing where there is none yet.
    pub value: Option<f64>,
    /// The least one.
    pub least: Option<f64>,
    /// The most.
    pub most: Option<f64>,
    /// The mean of all that were taken.
    pub mean: Option<f64>,
    /// How many were taken.
    pub samples: u64,
    /// How often it jumped.
    pub jumps: u64,
    /// Why there is no value, where the system or the host does not tell.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

impl FigureNow {
    /// One without a value, and why.
    #[must_use]
    pub fn not_known(name: &str, unit: &str, why: &str) -> Self {
        let (name, unit, doc) = (name.to_owned(), unit.to_owned(), String::new());
        let (value, least, most, mean) = Default::default();
        Self { name, doc, unit, usual: None, value, least, most, mean, samples: 0, jumps: 0, why: Some(why.to_owned()) }
    }

    /// How far the value is from what is usual: above 0 where it is more; 0 where it is within, or nothing is said of it.
    #[must_use]
    pub fn from_usual(&self) -> f64 {
        match (self.value, self.usual) {
            (Some(value), Some((_, most))) if value > most => value - most,
            (Some(value), Some((least, _))) if value < least => value - least,
            _ => 0.0,
        }
    }
}
