//! Boats: where they are and how they move.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::canal::{CHAMBER, Gate, LOCKS, Lock, Locks, STRETCH, Side, middle_of_lock};
use crate::weather::{Chance, Weather};

/// Metres: how wide the canal, a chamber and a boat are, and how far boats keep from the middle.
pub(crate) const CANAL_WIDTH: f64 = 14.0;
pub(crate) const CHAMBER_WIDTH: f64 = 5.5;
pub(crate) const BOAT_WIDTH: f64 = 3.4;
const LANE: f64 = 3.0;
/// Metres between two boats that wait one behind the other.
const GAP: f64 = 2.0;
const NAMES: [&str; 12] = [
    "Heron",
    "Otter",
    "Kingfisher",
    "Teasel",
    "Marigold",
    "Plover",
    "Rosehip",
    "Swallow",
    "Bulrush",
    "Moorhen",
    "Alder",
    "Sedge",
];

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Heading {
    Up,
    Down,
}

impl Heading {
    /// The side of a lock on which a boat that goes this way waits.
    pub(crate) fn waits_on(self) -> Side {
        match self {
            Self::Up => Side::Below,
            Self::Down => Side::Above,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Place {
    /// Metres left to the lock.
    Sailing(f64),
    /// Seconds waited.
    Waiting(f64),
    /// Seconds until it lies still in the chamber.
    Chamber(f64),
}

/// Where a boat lies: its middle, in metres along the canal from its lower end and across it, and where it points. Worked out anew
/// each frame.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Spot {
    pub(crate) x: f64,
    pub(crate) y: f64,
    pub(crate) degrees: f64,
}

/// Works out where every boat lies. Those that wait for a lock lie one behind the other, and who comes keeps behind them.
pub(crate) fn place_boats(boats: &mut [Boat]) {
    let mut tails: BTreeMap<(String, bool), f64> = BTreeMap::new();
    let mut order: Vec<usize> = (0..boats.len()).collect();
    let left = |boat: &Boat| match boat.place {
        Place::Sailing(left) => left,
        Place::Waiting(seconds) => -seconds,
        Place::Chamber(_) => f64::NEG_INFINITY,
    };
    order.sort_by(|a, b| left(&boats[*a]).total_cmp(&left(&boats[*b])));
    for number in order {
        let boat = &mut boats[number];
        let Some(lock) = LOCKS.iter().position(|lock| *lock == boat.lock) else { continue };
        let goes_up = boat.heading == Heading::Up;
        let sign = if goes_up { 1.0 } else { -1.0 };
        let degrees = if goes_up { 0.0 } else { 180.0 };
        let middle = middle_of_lock(lock);
        if matches!(boat.place, Place::Chamber(_)) {
            boat.spot = Spot { x: middle, y: 0.0, degrees };
            continue;
        }
        // Metres between its bow and the lock.
        let tail = tails.entry((boat.lock.clone(), goes_up)).or_insert(0.0);
        let bow = left(boat).max(*tail);
        *tail = bow + boat.length + GAP;
        let x = middle - sign * (CHAMBER / 2.0 + bow + boat.length / 2.0);
        boat.spot = Spot { x, y: sign * LANE, degrees };
    }
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Boat {
    pub(crate) number: u64,
    pub(crate) name: String,
    /// Metres.
    pub(crate) length: f64,
    /// Metres a second in still air.
    pub(crate) speed: f64,
    pub(crate) heading: Heading,
    /// The lock it is at or sails to.
    pub(crate) lock: String,
    pub(crate) place: Place,
    /// Seconds it waited for this lock.
    pub(crate) waited: f64,
    #[serde(default)]
    pub(crate) spot: Spot,
}

/// What a boat did in a frame that others want to know.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Happening {
    /// It came to a lock and waits.
    Arrived(Boat),
    /// It left a lock.
    Cleared(Boat),
}

pub(crate) fn new_boat(number: u64, chance: &mut Chance) -> Boat {
    let heading = if chance.below(2) == 0 { Heading::Up } else { Heading::Down };
    let lock = if heading == Heading::Up { LOCKS[0] } else { LOCKS[LOCKS.len() - 1] };
    let name = NAMES[usize::try_from(chance.below(NAMES.len() as u64)).unwrap_or(0)];
    Boat {
        number,
        name: name.to_owned(),
        length: (chance.between(6.0, 28.0) * 10.0).round() / 10.0,
        speed: (chance.between(1.2, 2.4) * 100.0).round() / 100.0,
        heading,
        lock: lock.to_owned(),
        place: Place::Sailing(40.0),
        waited: 0.0,
        spot: Spot::default(),
    }
}

/// Moves every boat by `dt` seconds; boats that leave the canal go.
pub(crate) fn move_boats(boats: &mut Vec<Boat>, locks: &mut Locks, weather: &Weather, dt: f64) -> Vec<Happening> {
    let mut happenings = Vec::new();
    for boat in boats.iter_mut() {
        let Some(lock) = locks.get_mut(&boat.lock) else { continue };
        let speed = boat.speed * (1.0 - weather.wind / 40.0);
        match boat.place {
            Place::Sailing(left) if left > speed * dt => boat.place = Place::Sailing(left - speed * dt),
            Place::Sailing(_) => {
                boat.place = Place::Waiting(0.0);
                happenings.push(Happening::Arrived(boat.clone()));
            }
            Place::Waiting(_) if can_enter(lock, boat) => {
                lock.boat = Some(boat.number);
                boat.place = Place::Chamber(boat.length / speed + 10.0);
            }
            Place::Waiting(seconds) => {
                boat.place = Place::Waiting(seconds + dt);
                boat.waited += dt;
            }
            Place::Chamber(left) if left > dt => boat.place = Place::Chamber(left - dt),
            Place::Chamber(_) if lock.gates.at(boat.heading.waits_on().other()) == Gate::Open => {
                lock.boat = None;
                happenings.push(Happening::Cleared(boat.clone()));
                sail_on(boat);
            }
            Place::Chamber(_) => boat.place = Place::Chamber(0.0),
        }
    }
    boats.retain(|boat| !boat.lock.is_empty());
    place_boats(boats);
    happenings
}

fn can_enter(lock: &Lock, boat: &Boat) -> bool {
    lock.boat.is_none() && lock.gates.at(boat.heading.waits_on()) == Gate::Open
}

fn sail_on(boat: &mut Boat) {
    let position = LOCKS.iter().position(|lock| *lock == boat.lock);
    let next = match boat.heading {
        Heading::Up => position.and_then(|at| LOCKS.get(at + 1)),
        Heading::Down => position.and_then(|at| LOCKS.get(at.checked_sub(1)?)),
    };
    boat.lock = next.map(|lock| (*lock).to_owned()).unwrap_or_default();
    boat.place = Place::Sailing(STRETCH);
    boat.waited = 0.0;
}
