//! What events and contexts took, summed up as they end.

use std::time::Duration;

use rustc_hash::FxHashMap;
use serde::{Deserialize, Serialize};

/// Kinds that are told apart.
const MOST_KINDS: usize = 1000;
/// Contexts that are told apart.
const MOST_CONTEXTS: usize = 100_000;
/// What stands for one too many.
const ANOTHER: &str = "(another one)";

/// The events of one kind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct KindSum {
    /// The kind.
    pub event: String,
    /// How many.
    pub events: u64,
    /// What they took altogether.
    pub milliseconds: f64,
    /// What the longest one took.
    pub worst_milliseconds: f64,
    /// Its number, by which the trail has it.
    pub worst: u64,
    /// How many took longer than they may.
    pub over_budget: u64,
}

#[derive(Debug, Clone)]
struct Kind {
    name: Box<str>,
    events: u64,
    took: Duration,
    worst: Duration,
    worst_number: u64,
    over: u64,
}

/// Sums of events by kind, and of time by context.
#[derive(Debug, Clone, Default)]
pub struct Sums {
    kinds: Vec<Kind>,
    /// The one that was added to last: mostly the next one, too.
    last: usize,
    contexts: FxHashMap<i64, Duration>,
    /// What the context that was added to last has besides.
    last_context: Option<(i64, Duration)>,
}

impl Sums {
    /// An event has ended, of which these contexts had a part: one outside of all others, if `is_outermost`.
    pub fn add(
        &mut self,
        kind: &str,
        number: u64,
        (cost, budget): (Duration, Option<Duration>),
        contexts: &[(i64, &str)],
        is_outermost: bool,
    ) {
        let is_last = self.kinds.get(self.last).is_some_and(|held| *held.name == *kind);
        if !is_last {
            let known = self.kinds.iter().position(|held| *held.name == *kind);
            self.last = known.unwrap_or_else(|| self.add_kind(kind));
        }
        let at = self.last;
        let held = &mut self.kinds[at];
        held.events += 1;
        held.took += cost;
        held.over += u64::from(budget.is_some_and(|budget| cost > budget));
        if cost >= held.worst {
            (held.worst, held.worst_number) = (cost, number);
        }
        // What is inside another event is in its time already.
        if !is_outermost {
            return;
        }
        if let ([(id, _)], Some((last, took))) = (contexts, &mut self.last_context)
            && id == last
        {
            *took += cost;
            return;
        }
        self.add_time(contexts, cost);
    }

    fn add_time(&mut self, contexts: &[(i64, &str)], cost: Duration) {
        if let Some((id, took)) = self.last_context.take() {
            *self.contexts.entry(id).or_default() += took;
        }
        let each = cost / u32::try_from(contexts.len().max(1)).unwrap_or(1);
        for (id, _) in contexts {
            // One that was closed during its own event is never forgotten.
            if self.contexts.len() < MOST_CONTEXTS || self.contexts.contains_key(id) {
                *self.contexts.entry(*id).or_default() += each;
                self.last_context = Some((*id, Duration::ZERO));
            }
        }
    }

    /// A context is gone.
    pub fn forget_context(&mut self, id: i64) {
        self.contexts.remove(&id);
        self.last_context.take_if(|(last, _)| *last == id);
    }

    #[cold]
    fn add_kind(&mut self, kind: &str) -> usize {
        let name = if self.kinds.len() < MOST_KINDS { kind } else { ANOTHER };
        if let Some(at) = self.kinds.iter().position(|held| *held.name == *name) {
            return at;
        }
        let (took, worst) = Default::default();
        self.kinds.push(Kind { name: name.into(), events: 0, took, worst, worst_number: 0, over: 0 });
        self.kinds.len() - 1
    }

    /// The kinds, those that took most first.
    #[must_use]
    pub fn kinds(&self) -> Vec<KindSum> {
        let milliseconds = |time: Duration| time.as_secs_f64() * 1000.0;
        let sum = |kind: &Kind| KindSum {
            event: kind.name.to_string(),
            events: kind.events,
            milliseconds: milliseconds(kind.took),
            worst_milliseconds: milliseconds(kind.worst),
            worst: kind.worst_number,
            over_budget: kind.over,
        };
        let mut all: Vec<_> = self.kinds.iter().map(sum).collect();
        all.sort_by(|a, b| b.milliseconds.total_cmp(&a.milliseconds));
        all
    }

    /// What the events of a context took. Of one that several had a part in, each has its share.
    #[must_use]
    pub fn of_context(&self, id: i64) -> Duration {
        let besides = self.last_context.filter(|(last, _)| *last == id).map_or(Duration::ZERO, |(_, took)| took);
        self.contexts.get(&id).copied().unwrap_or_default() + besides
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_and_contexts_are_summed_up_and_time_is_counted_once() {
        let mut sums = Sums::default();
        let ms = Duration::from_millis;
        sums.add("frame", 1, (ms(4), Some(ms(3))), &[(1, "a")], true);
        sums.add("frame", 2, (ms(2), Some(ms(3))), &[(1, "a"), (2, "b")], true);
        sums.add("save", 3, (ms(1), None), &[(2, "b")], false);
        let kinds = sums.kinds();
        assert_eq!(
            (kinds[0].event.as_str(), kinds[0].events, kinds[0].over_budget, kinds[0].worst),
            ("frame", 2, 1, 1)
        );
        assert!((kinds[0].milliseconds - 6.0).abs() < 1e-9 && (kinds[1].worst_milliseconds - 1.0).abs() < 1e-9);
        assert_eq!((sums.of_context(1), sums.of_context(2), sums.of_context(9)), (ms(5), ms(1), Duration::ZERO));
        sums.forget_context(1);
        assert_eq!((sums.of_context(1), sums.of_context(2)), (Duration::ZERO, ms(1)));
        (0..2000).for_each(|n| sums.add(&format!("k{n}"), n, (ms(1), None), &[], true));
        assert_eq!(sums.kinds().len(), MOST_KINDS + 1);
    }
}
