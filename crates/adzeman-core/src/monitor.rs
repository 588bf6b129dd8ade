//! When to take a sample of something while the host runs: as often as was asked for, and never for more than a share of the
//! time. No clock of its own: it is told what time it is.

use std::time::Duration;

/// The share of the time that the samples of one monitor may take, unless another one is asked for: 2%.
pub const USUAL_SHARE: f64 = 0.02;

/// How often a sample is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Every {
    /// Each time this long has passed.
    Time(Duration),
    /// At each `count`th event of a kind.
    Event {
        /// The kind.
        kind: String,
        /// At which: 1 for each of them.
        count: u64,
    },
}

/// The pace of one monitor.
///
/// ```
/// use adzeman_core::monitor::{Every, Pace};
/// use std::time::Duration;
///
/// let second = Duration::from_secs(1);
/// let mut pace = Pace::new(Every::Time(second), 0.02);
/// assert!(pace.is_due(Duration::ZERO), "the first at once");
/// pace.taken(Duration::ZERO, Duration::from_millis(1));
/// assert!(!pace.is_due(second / 2) && pace.is_due(second));
///
/// // A sample of 100 ms takes 2% of five seconds.
/// pace.taken(second, second / 10);
/// assert!(!pace.is_due(3 * second) && pace.is_due(6 * second));
/// assert!(pace.is_slowed());
/// ```
#[derive(Debug, Clone)]
pub struct Pace {
    every: Every,
    share: f64,
    /// When the next one is wanted.
    wanted: Duration,
    /// Before this, it would take more than its share.
    not_before: Duration,
    events: u64,
    slowed: bool,
}

impl Pace {
    /// One that was never taken. A share that is no share of anything is the usual one.
    #[must_use]
    pub fn new(every: Every, share: f64) -> Self {
        let share = if share > 0.0 && share <= 1.0 { share } else { USUAL_SHARE };
        Self { every, share, wanted: Duration::ZERO, not_before: Duration::ZERO, events: 0, slowed: false }
    }

    /// How often a sample is wanted.
    #[must_use]
    pub const fn every(&self) -> &Every {
        &self.every
    }

    /// Whether a sample is to be taken now, for one that goes by the time.
    pub fn is_due(&mut self, now: Duration) -> bool {
        matches!(self.every, Every::Time(_)) && now >= self.wanted && self.may_be_taken(now)
    }

    /// Whether a sample is to be taken at this event.
    pub fn is_due_at(&mut self, event: &str, now: Duration) -> bool {
        let Every::Event { kind, count } = &self.every else { return false };
        if kind != event && kind != "*" {
            return false;
        }
        self.events += 1;
        self.events.is_multiple_of((*count).max(1)) && self.may_be_taken(now)
    }

    fn may_be_taken(&mut self, now: Duration) -> bool {
        let may = now >= self.not_before;
        self.slowed |= !may;
        may
    }

    /// A sample was taken, which began at `now` and took `cost`.
    pub fn taken(&mut self, now: Duration, cost: Duration) {
        self.slowed = false;
        let pause = cost.div_f64(self.share).min(Duration::from_secs(3600));
        self.not_before = now.saturating_add(pause);
        if let Every::Time(time) = self.every {
            self.wanted = now.saturating_add(time);
            self.slowed = self.not_before > self.wanted;
        }
    }

    /// Whether samples are rarer than was asked for, so that they take no more than their share.
    #[must_use]
    pub const fn is_slowed(&self) -> bool {
        self.slowed
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const MILLISECOND: Duration = Duration::from_millis(1);

    #[test]
    fn events_are_counted_by_kind() {
        let mut pace = Pace::new(Every::Event { kind: "frame.update".to_owned(), count: 3 }, USUAL_SHARE);
        let due: Vec<_> = ["frame.update", "boat.arrived", "frame.update", "frame.update", "frame.update"]
            .map(|kind| pace.is_due_at(kind, MILLISECOND))
            .into();
        assert_eq!(due, [false, false, false, true, false]);
        assert!(!pace.is_due(MILLISECOND), "it does not go by the time");
    }

    #[test]
    fn samples_never_take_more_than_their_share() {
        for (every, share) in [
            (Every::Time(MILLISECOND), 0.02),
            (Every::Event { kind: "*".to_owned(), count: 1 }, 0.02),
            (Every::Time(MILLISECOND), 0.5),
        ] {
            let cost = 3 * MILLISECOND;
            let mut pace = Pace::new(every, share);
            let (mut now, mut spent) = (Duration::ZERO, Duration::ZERO);
            while now < Duration::from_secs(10) {
                if pace.is_due(now) || pace.is_due_at("frame.update", now) {
                    pace.taken(now, cost);
                    now += cost;
                    spent += cost;
                } else {
                    now += MILLISECOND;
                }
            }
            assert!(spent.as_secs_f64() <= 10.0 * share + 0.003, "{spent:?}");
            assert!(spent.as_secs_f64() > 10.0 * share * 0.9, "{spent:?}");
            assert!(pace.is_slowed() || share > 0.4);
        }
    }

    #[test]
    fn a_cheap_one_keeps_its_time() {
        let mut pace = Pace::new(Every::Time(100 * MILLISECOND), USUAL_SHARE);
        let mut taken = 0;
        for now in (0..10_000).map(|ms| ms * MILLISECOND) {
            if pace.is_due(now) {
                pace.taken(now, MILLISECOND / 10);
                taken += 1;
            }
        }
        assert_eq!(taken, 100);
        assert!(!pace.is_slowed());
    }
}
