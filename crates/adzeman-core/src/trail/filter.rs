//! Which events of a trail are meant: `record.before_save for passage 118 when event.cost > 5ms`.

use std::time::Duration;

use serde_json::Value as Json;
use thiserror::Error;

use super::{Entry, Outcome};
use crate::breakpoint::means;

/// What a filter is not.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum FilterError {
    /// A word that is not understood.
    #[error(
        "'{0}' is not understood; events are picked like this: [EVENT] [failed | refused] [for SUBJECT] [when CONDITION]"
    )]
    Word(String),
    /// A condition that is none.
    #[error(
        "'{0}' is not understood; a condition of the trail compares, like event.cost > 5ms, event.dt >= 0.1 or \
         event.record.boat == \"Heron\"; several are joined by 'and'"
    )]
    Condition(String),
    /// A time without a unit.
    #[error("'{0}' is a time: write 5ms, 200us or 1.5s")]
    Unit(String),
}

/// Which events are meant; by default all.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Filter {
    kind: Option<String>,
    outcome: Option<Outcome>,
    subject: Option<String>,
    conditions: Vec<Condition>,
}

#[derive(Debug, Clone, PartialEq)]
struct Condition {
    /// Behind `event`.
    path: Vec<String>,
    operator: Operator,
    value: Json,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Operator {
    Equal,
    Other,
    Less,
    AtMost,
    More,
    AtLeast,
}

/// Longer ones stand before those that they begin with.
const OPERATORS: [(&str, Operator); 7] = [
    ("==", Operator::Equal),
    ("~=", Operator::Other),
    ("!=", Operator::Other),
    ("<=", Operator::AtMost),
    (">=", Operator::AtLeast),
    ("<", Operator::Less),
    (">", Operator::More),
];

impl Filter {
    /// Reads one: `[EVENT] [failed | refused] [for SUBJECT] [when CONDITION [and CONDITION]...]`.
    ///
    /// # Errors
    /// What of it is not understood.
    pub fn parse(text: &str) -> Result<Self, FilterError> {
        let (text, conditions) = split(text, "when");
        let (text, subject) = split(text, "for");
        let mut filter = Self { subject: subject.map(str::to_owned), ..Self::default() };
        for word in text.split_whitespace() {
            match word {
                "failed" if filter.outcome.is_none() => filter.outcome = Some(Outcome::Failed),
                "refused" if filter.outcome.is_none() => filter.outcome = Some(Outcome::Refused),
                kind if filter.kind.is_none() && filter.outcome.is_none() => filter.kind = Some(kind.to_owned()),
                other => return Err(FilterError::Word(other.to_owned())),
            }
        }
        if let Some(conditions) = conditions {
            filter.conditions = joined(conditions).into_iter().map(condition).collect::<Result<_, _>>()?;
        }
        Ok(filter)
    }

    /// Whether an event is meant.
    #[must_use]
    pub fn is_met(&self, entry: &Entry) -> bool {
        let is_kind = self.kind.as_ref().is_none_or(|kind| kind == "*" || *kind == entry.event);
        let is_outcome = self.outcome.is_none_or(|outcome| outcome == entry.outcome);
        let is_subject = |wanted: &String| {
            let of_entry = entry.subject.iter().chain(&entry.contexts);
            of_entry.into_iter().any(|subject| means(wanted, subject))
        };
        is_kind
            && is_outcome
            && self.subject.as_ref().is_none_or(is_subject)
            && self.conditions.iter().all(|condition| condition.is_met(entry))
    }
}

/// The text before a word, and what stands behind it.
fn split<'t>(text: &'t str, word: &str) -> (&'t str, Option<&'t str>) {
    let padded = format!(" {word} ");
    match text.strip_prefix(&padded[1..]) {
        Some(behind) => ("", Some(behind.trim())),
        None => text.split_once(&padded).map_or((text, None), |(before, behind)| (before, Some(behind.trim()))),
    }
}

/// The parts between `and`, as far as that is not within a text.
fn joined(text: &str) -> Vec<&str> {
    let (mut parts, mut begin, mut quote) = (Vec::new(), 0, None);
    for (at, letter) in text.char_indices() {
        match (quote, letter) {
            (Some(open), letter) if open == letter => quote = None,
            (None, '"' | '\'') => quote = Some(letter),
            (None, ' ') if text[at..].starts_with(" and ") => {
                parts.push(text[begin..at].trim());
                begin = at + " and ".len();
            }
            _ => {}
        }
    }
    // Behind the last one; a text that ends in `and ` has nothing there.
    parts.push(text.get(begin..).unwrap_or_default().trim());
    parts
}

fn condition(text: &str) -> Result<Condition, FilterError> {
    let wrong = || FilterError::Condition(text.to_owned());
    let end = text.find(['=', '~', '!', '<', '>']).ok_or_else(wrong)?;
    let (path, rest) = (text[..end].trim(), &text[end..]);
    let (sign, operator) = OPERATORS.into_iter().find(|(sign, _)| rest.starts_with(sign)).ok_or_else(wrong)?;
    let path: Vec<_> = path.strip_prefix("event.").ok_or_else(wrong)?.split('.').map(str::to_owned).collect();
    let is_name =
        |name: &String| !name.is_empty() && name.chars().all(|letter| letter.is_alphanumeric() || letter == '_');
    if !path.iter().all(is_name) {
        return Err(wrong());
    }
    let value = rest[sign.len()..].trim();
    let value = if is_cost(&path) {
        time(value).ok_or_else(|| FilterError::Unit(value.to_owned()))?.as_secs_f64().into()
    } else {
        read(value).ok_or_else(wrong)?
    };
    Ok(Condition { path, operator, value })
}

fn is_cost(path: &[String]) -> bool {
    matches!(path, [name] if name == "cost")
}

/// `5ms`, `200us`, `1.5s`.
fn time(text: &str) -> Option<Duration> {
    let end = text.find(|letter: char| letter.is_alphabetic())?;
    let factor = match &text[end..] {
        "ns" => 1e-9,
        "us" | "µs" => 1e-6,
        "ms" => 1e-3,
        "s" => 1.0,
        _ => return None,
    };
    Duration::try_from_secs_f64(text[..end].trim().parse::<f64>().ok()? * factor).ok()
}

/// A number, a text in quotes, `true`, `false` or `nil`.
fn read(text: &str) -> Option<Json> {
    match text {
        "nil" | "null" => return Some(Json::Null),
        "true" => return Some(Json::Bool(true)),
        "false" => return Some(Json::Bool(false)),
        _ => {}
    }
    let quoted = ['"', '\''].into_iter().find_map(|quote| text.strip_prefix(quote)?.strip_suffix(quote));
    match quoted {
        Some(quoted) => Some(Json::String(quoted.to_owned())),
        None => text.parse::<f64>().ok().filter(|number| number.is_finite()).map(Json::from),
    }
}

impl Condition {
    fn is_met(&self, entry: &Entry) -> bool {
        let value = self.found(entry);
        let is_equal = match (value.as_f64(), self.value.as_f64()) {
            (Some(found), Some(wanted)) => found == wanted,
            _ => value == self.value,
        };
        let order = match (&value, &self.value) {
            (Json::String(found), Json::String(wanted)) => Some(found.cmp(wanted)),
            (found, wanted) => {
                found.as_f64().zip(wanted.as_f64()).and_then(|(found, wanted)| found.partial_cmp(&wanted))
            }
        };
        match self.operator {
            Operator::Equal => is_equal,
            Operator::Other => !is_equal,
            Operator::Less => order.is_some_and(std::cmp::Ordering::is_lt),
            Operator::AtMost => order.is_some_and(std::cmp::Ordering::is_le),
            Operator::More => order.is_some_and(std::cmp::Ordering::is_gt),
            Operator::AtLeast => order.is_some_and(std::cmp::Ordering::is_ge),
        }
    }

    /// What the event has there; nothing where it has no such field.
    fn found(&self, entry: &Entry) -> Json {
        let text = |text: &Option<String>| text.clone().map_or(Json::Null, Json::String);
        match &self.path[..] {
            path if is_cost(path) => (entry.milliseconds / 1000.0).into(),
            [name] if name == "name" => entry.event.clone().into(),
            [name] if name == "subject" => text(&entry.subject),
            path => {
                let mut found = &entry.payload;
                for name in path {
                    let next = match name.parse::<usize>() {
                        // Lists count from 1, as scripts do.
                        Ok(index) if found.is_array() => index.checked_sub(1).and_then(|index| found.get(index)),
                        _ => found.get(name),
                    };
                    match next {
                        Some(next) => found = next,
                        None => return Json::Null,
                    }
                }
                found.clone()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::trail::Said;

    fn entry() -> Entry {
        Entry {
            number: 812,
            seconds: 61.5,
            event: "record.before_save".into(),
            subject: Some("passage 118".into()),
            within: None,
            contexts: vec!["ledger".into()],
            milliseconds: 6.25,
            budget_milliseconds: None,
            outcome: Outcome::Failed,
            why: Some("no toll".into()),
            runs: 1,
            payload: serde_json::json!({"record": {"boat": "Heron and Co", "length": 24.5, "stops": ["upper", "lower"]}}),
            payload_left_out: None,
            said: Vec::<Said>::new(),
        }
    }

    #[test]
    fn events_are_picked_by_kind_outcome_subject_and_what_they_carry() {
        for (text, is_met) in [
            ("", true),
            ("failed", true),
            ("refused", false),
            ("record.before_save for passage 118", true),
            ("record.before_save for passage 11", false),
            ("for passage *", true),
            ("for ledger", true),
            ("* failed when event.cost > 5ms", true),
            ("when event.cost > 6250us", false),
            ("when event.cost >= 6250us and event.record.length < 25", true),
            ("when event.record.boat == 'Heron and Co' and event.record.stops.1 == \"upper\"", true),
            ("when event.record.boat ~= 'Heron and Co'", false),
            ("when event.record.boat < 'Kingfisher'", true),
            ("when event.nothing == nil", true),
            ("when event.nothing > 1", false),
            ("when event.subject == 'passage 118'", true),
        ] {
            assert_eq!(Filter::parse(text).unwrap().is_met(&entry()), is_met, "{text}");
        }
    }

    #[test]
    fn what_is_no_filter_says_how_one_is_written() {
        for (text, why) in [
            ("failed refused", "'refused' is not understood"),
            ("a b", "'b' is not understood"),
            ("when cost > 5ms", "'cost > 5ms' is not understood"),
            ("when event.cost > 5", "write 5ms"),
            ("when event.dt", "compares"),
            ("when event.dt > ", "compares"),
            ("when event..dt > 1", "compares"),
            ("when event.dt > 1 and ", "compares"),
        ] {
            let told = Filter::parse(text).unwrap_err().to_string();
            assert!(told.contains(why), "{text}: {told}");
        }
    }
}
