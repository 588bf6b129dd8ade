//! How many values of each kind a script state holds, and which of them became more.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::Written;

/// How values are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Counting {
    /// While the script stands still, all that can be reached. What nothing holds any more is not counted.
    Standing,
    /// A part at a time while it runs: the first one. What was not collected yet is counted too, and what comes or goes meanwhile may
    /// be or not.
    Begin,
    /// The same, a further part.
    GoOn,
}

/// The values of one kind and group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct CensusLine {
    /// What they are, in the words of the engine: `table`, `function`.
    pub kind: String,
    /// What they have in common: the name of their type or metatable, the fields that they have, what they are an instance of.
    pub group: String,
    /// Where they are defined, if anywhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub defined: Option<Written>,
    /// How many.
    pub count: u64,
    /// What they take, without what they lead to.
    pub bytes: u64,
    /// Whether the bytes of all of them were measured; estimated otherwise.
    pub measured: bool,
}

/// What a script state holds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Census {
    /// By kind and group, those that take most first.
    pub lines: Vec<CensusLine>,
    /// How many values were counted.
    pub values: u64,
    /// What they take.
    pub bytes: u64,
    /// What the engine says that it has in use altogether: code, stacks and what is not collected yet are in it, too.
    pub engine_bytes: u64,
    /// Whether it was counted a part at a time while scripts ran.
    pub running: bool,
    /// What counting took besides, at most, in bytes.
    pub own_bytes: u64,
}

/// How a group changed between two times.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Growth {
    /// As it is now.
    #[serde(flatten)]
    pub now: CensusLine,
    /// How many more there are; below 0 for fewer.
    pub more: i64,
    /// How many more bytes they take.
    pub more_bytes: i64,
}

/// Sums a census up.
///
/// ```
/// use adzeman_core::heap::Tally;
///
/// let census = |count: u64| {
///     let mut tally = Tally::default();
///     let boats = tally.group("table", "Boat".into(), None);
///     (0..count).for_each(|_| tally.more(boats, 80, true));
///     tally.finish(4096, false, 0)
/// };
/// let (before, now) = (census(2), census(5));
/// assert_eq!((now.values, now.bytes), (5, 400));
/// let grown = now.since(&before);
/// assert_eq!((grown[0].more, grown[0].more_bytes), (3, 240));
/// assert!(now.since(&now).is_empty());
/// ```
#[derive(Debug, Default)]
pub struct Tally {
    lines: Vec<CensusLine>,
    by_name: HashMap<(String, String, Option<Written>), usize>,
}

impl Tally {
    /// The number of a group, for [`more`](Self::more): looked for by its names once, and not for each value.
    pub fn group(&mut self, kind: &str, group: String, defined: Option<Written>) -> usize {
        let lines = &mut self.lines;
        let name = (kind.to_owned(), group, defined);
        *self.by_name.entry(name).or_insert_with_key(|(kind, group, defined)| {
            let (kind, group, defined) = (kind.clone(), group.clone(), defined.clone());
            lines.push(CensusLine { kind, group, defined, count: 0, bytes: 0, measured: true });
            lines.len() - 1
        })
    }

    /// One more of a group.
    pub fn more(&mut self, group: usize, bytes: u64, measured: bool) {
        if let Some(line) = self.lines.get_mut(group) {
            line.count += 1;
            line.bytes += bytes;
            line.measured &= measured;
        }
    }

    /// The whole, those that take most first.
    #[must_use]
    pub fn finish(mut self, engine_bytes: u64, running: bool, own_bytes: u64) -> Census {
        self.lines.retain(|line| line.count > 0);
        self.lines.sort_by(|a, b| (b.bytes, &a.kind, &a.group).cmp(&(a.bytes, &b.kind, &b.group)));
        let values = self.lines.iter().map(|line| line.count).sum();
        let bytes = self.lines.iter().map(|line| line.bytes).sum();
        Census { lines: self.lines, values, bytes, engine_bytes, running, own_bytes }
    }
}

impl Census {
    /// What is more or less than at an earlier time, what grew most first: by bytes, then by number. What did not change is left
    /// out.
    #[must_use]
    pub fn since(&self, earlier: &Self) -> Vec<Growth> {
        type Name<'a> = (&'a str, &'a str, &'a Option<Written>);
        fn name(line: &CensusLine) -> Name<'_> {
            (&line.kind, &line.group, &line.defined)
        }
        let signed = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
        let mut before: HashMap<Name<'_>, &CensusLine> = earlier.lines.iter().map(|line| (name(line), line)).collect();
        let mut changed: Vec<Growth> = Vec::new();
        for line in &self.lines {
            let (count, bytes) = before.remove(&name(line)).map_or((0, 0), |held| (held.count, held.bytes));
            let more = signed(line.count) - signed(count);
            let more_bytes = signed(line.bytes) - signed(bytes);
            if (more, more_bytes) != (0, 0) {
                changed.push(Growth { now: line.clone(), more, more_bytes });
            }
        }
        for gone in before.into_values() {
            let now = CensusLine { count: 0, bytes: 0, ..gone.clone() };
            changed.push(Growth { now, more: -signed(gone.count), more_bytes: -signed(gone.bytes) });
        }
        changed.sort_by(|a, b| {
            let key = |growth: &Growth| (growth.more_bytes, growth.more);
            key(b).cmp(&key(a)).then_with(|| name(&a.now).cmp(&name(&b.now)))
        });
        changed
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// So many values of each kind and group, which take so much each.
    fn census(values: &[(&str, &str, u64, u64)]) -> Census {
        let mut tally = Tally::default();
        for (kind, group, count, bytes) in values {
            let group = tally.group(kind, (*group).to_owned(), None);
            (0..*count).for_each(|_| tally.more(group, *bytes, true));
        }
        tally.finish(0, false, 0)
    }

    #[test]
    fn what_grew_most_comes_first_and_what_is_gone_last() {
        let before = census(&[("table", "Boat", 10, 80), ("table", "Gate", 4, 100), ("text", "", 7, 10)]);
        let now = census(&[("text", "", 9, 10), ("table", "Boat", 30, 80), ("function", "on", 2, 40)]);
        let changed = now.since(&before);
        let told: Vec<_> =
            changed.iter().map(|growth| (growth.now.group.as_str(), growth.more, growth.more_bytes)).collect();
        assert_eq!(told, [("Boat", 20, 1600), ("on", 2, 80), ("", 2, 20), ("Gate", -4, -400)]);
    }

    #[test]
    fn one_that_was_estimated_makes_its_line_estimated() {
        let mut tally = Tally::default();
        let group = tally.group("coroutine", "boat.lua:3".into(), None);
        tally.more(group, 1000, true);
        tally.more(group, 1000, false);
        let census = tally.finish(5000, true, 16);
        assert_eq!((census.lines[0].count, census.lines[0].measured), (2, false));
        assert!(census.running && census.engine_bytes == 5000 && census.own_bytes == 16);
    }
}
