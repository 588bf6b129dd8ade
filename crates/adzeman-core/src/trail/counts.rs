//! Events summed up.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Entry, Outcome};

/// Events of one kind and subject, in one context.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Count {
    /// The kind.
    pub event: String,
    /// What they were about; of subjects with a number (`passage 118`), all of a kind are counted together (`passage ...`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// The contexts that they belong to.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub contexts: Vec<String>,
    /// How many there were.
    pub events: u64,
    /// How many of them failed.
    pub failed: u64,
    /// How many of them were refused.
    pub refused: u64,
    /// How many took longer than they may.
    pub over_budget: u64,
    /// What they took altogether.
    pub milliseconds: f64,
    /// What the longest one took.
    pub worst_milliseconds: f64,
    /// Its number.
    pub worst: u64,
}

/// Sums events up, what took most first.
pub fn counts<'e>(entries: impl IntoIterator<Item = &'e Entry>) -> Vec<Count> {
    let mut by_kind: BTreeMap<(&str, Option<String>, &[String]), Count> = BTreeMap::new();
    for entry in entries {
        let subject = entry.subject.as_deref().map(without_number);
        let count = by_kind.entry((&entry.event, subject.clone(), &entry.contexts)).or_insert_with(|| Count {
            event: entry.event.clone(),
            subject,
            contexts: entry.contexts.clone(),
            events: 0,
            failed: 0,
            refused: 0,
            over_budget: 0,
            milliseconds: 0.0,
            worst_milliseconds: -1.0,
            worst: 0,
        });
        count.events += 1;
        count.failed += u64::from(entry.outcome == Outcome::Failed);
        count.refused += u64::from(entry.outcome == Outcome::Refused);
        count.over_budget += u64::from(entry.is_over_budget());
        count.milliseconds += entry.milliseconds;
        if entry.milliseconds > count.worst_milliseconds {
            (count.worst_milliseconds, count.worst) = (entry.milliseconds, entry.number);
        }
    }
    let mut all: Vec<_> = by_kind.into_values().collect();
    all.sort_by(|a, b| b.milliseconds.total_cmp(&a.milliseconds));
    all
}

fn without_number(subject: &str) -> String {
    match subject.rsplit_once(' ') {
        Some((kind, number)) if number.bytes().all(|byte| byte.is_ascii_digit()) && !number.is_empty() => {
            format!("{kind} ...")
        }
        _ => subject.to_owned(),
    }
}
