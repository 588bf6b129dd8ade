//! The water: pounds, locks between them, and what flows.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// Metres: a gate moves only when the levels on both sides are this close.
pub(crate) const GATE_TOLERANCE: f64 = 0.03;
/// Square metres of a sluice that is fully open.
const SLUICE_AREA: f64 = 2.2;
/// Share of the ideal flow that passes a sluice.
const DISCHARGE: f64 = 0.6;
/// Square metres of a chamber.
const CHAMBER_AREA: f64 = 165.0;
const GRAVITY: f64 = 9.81;
/// Metres between two locks.
pub(crate) const STRETCH: f64 = 180.0;
/// Metres of a chamber, and of the water before the first lock and behind the last one.
pub(crate) const CHAMBER: f64 = 30.0;
const END: f64 = 100.0;

/// A side of a lock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Side {
    Below,
    Above,
}

impl Side {
    pub(crate) fn other(self) -> Self {
        match self {
            Self::Below => Self::Above,
            Self::Above => Self::Below,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Gate {
    Open,
    Shut,
}

/// One thing for each side of a lock.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Sides<T> {
    pub(crate) below: T,
    pub(crate) above: T,
}

impl<T: Copy> Sides<T> {
    pub(crate) fn at(&self, side: Side) -> T {
        match side {
            Side::Below => self.below,
            Side::Above => self.above,
        }
    }

    pub(crate) fn set(&mut self, side: Side, value: T) {
        match side {
            Side::Below => self.below = value,
            Side::Above => self.above = value,
        }
    }
}

/// A lock, as it is shown and changed from outside.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Lock {
    /// Metres above the basin's bed.
    pub(crate) level: f64,
    pub(crate) gates: Sides<Gate>,
    /// From 0, shut, to 1, fully open.
    pub(crate) sluices: Sides<f64>,
    /// Number of the boat in the chamber.
    pub(crate) boat: Option<u64>,
    /// Cubic metres that passed its sluices.
    pub(crate) water_used: f64,
    /// How often a gate was told to open against the water.
    pub(crate) gate_refusals: u32,
    /// Its middle, in metres along the canal.
    pub(crate) x: f64,
}

/// A stretch of water between two locks, or at an end.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Pound {
    pub(crate) level: f64,
    /// Square metres.
    pub(crate) area: f64,
    /// Its middle, in metres along the canal, and how far it reaches along it.
    pub(crate) x: f64,
    pub(crate) length: f64,
}

/// The names of the locks, from the lowest up; lock `n` is between the pounds `n` and `n + 1`.
pub(crate) const LOCKS: [&str; 3] = ["lower", "middle", "upper"];

/// The middle of the lock `number`, in metres along the canal.
pub(crate) fn middle_of_lock(number: usize) -> f64 {
    let locks_below = u32::try_from(number).map_or(0.0, f64::from);
    END + CHAMBER / 2.0 + locks_below * (CHAMBER + STRETCH)
}

/// The ends of the pound `number`, in metres along the canal.
pub(crate) fn ends_of_pound(number: usize) -> (f64, f64) {
    let half = CHAMBER / 2.0;
    let begin = number.checked_sub(1).map_or(0.0, |lock| middle_of_lock(lock) + half);
    let end = if number < LOCKS.len() { middle_of_lock(number) - half } else { begin + END };
    (begin, end)
}

pub(crate) type Locks = BTreeMap<String, Lock>;

/// The locks as they are at the start.
pub(crate) fn locks() -> Locks {
    let lock = |number, level| Lock {
        level,
        gates: Sides { below: Gate::Shut, above: Gate::Shut },
        sluices: Sides { below: 0.0, above: 0.0 },
        boat: None,
        water_used: 0.0,
        gate_refusals: 0,
        x: middle_of_lock(number),
    };
    let levels = [2.0, 5.6, 6.5].into_iter().enumerate();
    LOCKS.iter().zip(levels).map(|(name, (number, level))| ((*name).to_owned(), lock(number, level))).collect()
}

/// Metres above the basin's bed: the top of the walls.
const WALLS: f64 = 10.0;

/// Whether the water of all locks stays within the walls.
///
/// # Errors
/// Says which does not.
pub(crate) fn within_the_walls(locks: &Locks) -> Result<(), String> {
    let too_much = locks.iter().find(|(_, lock)| !(0.0..=WALLS).contains(&lock.level));
    too_much.map_or(Ok(()), |(name, _)| Err(format!("lock {name} holds from 0 to {WALLS} m of water")))
}

/// The pounds as they are at the start, from the lowest up.
pub(crate) fn pounds() -> Vec<Pound> {
    let pound = |(number, (level, area))| {
        let (begin, end) = ends_of_pound(number);
        Pound { level, area, x: f64::midpoint(begin, end), length: end - begin }
    };
    [(2.0, 9000.0), (4.4, 4200.0), (6.8, 3800.0), (9.2, 14000.0)].into_iter().enumerate().map(pound).collect()
}

/// Lets the water of a lock flow for `dt` seconds.
pub(crate) fn flow(lock: &mut Lock, below: &mut Pound, above: &mut Pound, dt: f64) {
    for (side, pound) in [(Side::Below, below), (Side::Above, above)] {
        let opening = if lock.gates.at(side) == Gate::Open { 4.0 } else { lock.sluices.at(side).clamp(0.0, 1.0) };
        let head = pound.level - lock.level;
        let rate = DISCHARGE * SLUICE_AREA * opening * (2.0 * GRAVITY * head.abs()).sqrt();
        // Never past the point at which both are level.
        let even = head.abs() * CHAMBER_AREA * pound.area / (CHAMBER_AREA + pound.area);
        let volume = (rate * dt).min(even) * if head < 0.0 { -1.0 } else { 1.0 };
        lock.level += volume / CHAMBER_AREA;
        pound.level -= volume / pound.area;
        lock.water_used += volume.abs();
    }
}

/// Moves a gate as a script orders it; the water keeps it shut while the levels differ.
pub(crate) fn order_gate(lock: &mut Lock, side: Side, gate: Gate, pound_level: f64) {
    let other_is_open = lock.gates.at(side.other()) == Gate::Open;
    let uneven = (pound_level - lock.level).abs() > GATE_TOLERANCE;
    if gate == Gate::Open && (uneven || other_is_open) {
        lock.gate_refusals += 1;
    } else {
        lock.gates.set(side, gate);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lower() -> (Lock, Pound, Pound) {
        let mut all = pounds().into_iter();
        (locks().remove("lower").unwrap(), all.next().unwrap(), all.next().unwrap())
    }

    #[test]
    fn an_open_sluice_levels_the_chamber_and_no_water_is_lost() {
        let (mut lock, mut below, mut above) = lower();
        let volume = |lock: &Lock, below: &Pound, above: &Pound| {
            lock.level * CHAMBER_AREA + below.level * below.area + above.level * above.area
        };
        let before = volume(&lock, &below, &above);
        lock.sluices.above = 1.0;
        for _ in 0..600 {
            flow(&mut lock, &mut below, &mut above, 1.0);
        }
        assert!((lock.level - above.level).abs() < 1e-6, "{} {}", lock.level, above.level);
        assert!((volume(&lock, &below, &above) - before).abs() < 1e-6);
        assert!(lock.water_used > 300.0);
    }

    #[test]
    fn a_gate_opens_only_at_equal_levels_and_never_both() {
        let (mut lock, below, above) = lower();
        order_gate(&mut lock, Side::Above, Gate::Open, above.level);
        assert_eq!((lock.gates.above, lock.gate_refusals), (Gate::Shut, 1));
        order_gate(&mut lock, Side::Below, Gate::Open, below.level);
        assert_eq!(lock.gates.below, Gate::Open);
        let level = lock.level;
        order_gate(&mut lock, Side::Above, Gate::Open, level);
        assert_eq!((lock.gates.above, lock.gate_refusals), (Gate::Shut, 2));
    }
}
