//! Where things lie: rectangles on a plane, which of them overlap, and which lie outside.

use serde::{Deserialize, Serialize};

/// Two that share less than this are beside each other.
const TOUCHING: f64 = 1e-9;

/// A thing with a place: a rectangle about its middle.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Thing {
    /// The part of the host that it is, as a person would look at it: `host.boats[1]`.
    pub path: String,
    /// What it is called; the path where it has no name.
    pub name: String,
    /// Its middle.
    pub x: f64,
    /// Its middle.
    pub y: f64,
    /// Its size along its direction.
    pub length: f64,
    /// Its size across.
    pub width: f64,
    /// Which way it points, in degrees from the x axis towards the y axis; nothing where it points nowhere.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub degrees: Option<f64>,
    /// Whether other things lie on it: it overlaps with none.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ground: bool,
    /// What is shown beside its name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// Two things that overlap.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Overlap {
    /// The path of one.
    pub first: String,
    /// The path of the other.
    pub second: String,
    /// How far one of them would have to move, at least, to lie beside the other.
    pub by: f64,
}

/// A part of the plane: from the least x and y to the most.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Area {
    /// The least x.
    pub left: f64,
    /// The least y.
    pub low: f64,
    /// The most x.
    pub right: f64,
    /// The most y.
    pub high: f64,
}

/// A thing that lies outside, at least in part.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Outside {
    /// Its path.
    pub path: String,
    /// How far it reaches out.
    pub by: f64,
}

impl Thing {
    /// Its corners, in turn: behind on the right, in front on the right, in front on the left, behind on the left.
    ///
    /// ```
    /// use adzeman_core::plan::Thing;
    ///
    /// let boat = Thing {
    ///     path: "host.boats[1]".into(), name: "Heron".into(), x: 10.0, y: 0.0, length: 20.0, width: 4.0,
    ///     degrees: Some(90.0), ground: false, note: None,
    /// };
    /// let [x, y] = boat.corners()[1];
    /// assert!((x - 12.0).abs() < 1e-9 && (y - 10.0).abs() < 1e-9, "{x} {y}");
    /// ```
    #[must_use]
    pub fn corners(&self) -> [[f64; 2]; 4] {
        let ([along, across], (long, wide)) = (self.axes(), (self.length / 2.0, self.width / 2.0));
        let corner = |a: f64, b: f64| [0, 1].map(|at| [self.x, self.y][at] + along[at] * a + across[at] * b);
        [corner(-long, -wide), corner(long, -wide), corner(long, wide), corner(-long, wide)]
    }

    /// Along it and across it, each of length 1.
    fn axes(&self) -> [[f64; 2]; 2] {
        let (sin, cos) = self.degrees.unwrap_or(0.0).to_radians().sin_cos();
        [[cos, sin], [-sin, cos]]
    }

    /// The least area that it lies in, along the axes.
    #[must_use]
    pub fn bounds(&self) -> Area {
        let corners = self.corners();
        let least = |at: usize| corners.iter().map(|corner| corner[at]).fold(f64::INFINITY, f64::min);
        let most = |at: usize| corners.iter().map(|corner| corner[at]).fold(f64::NEG_INFINITY, f64::max);
        Area { left: least(0), low: least(1), right: most(0), high: most(1) }
    }

    /// How far one would have to move to lie beside the other; 0 where it does. Of all the lines that may part two rectangles, one is
    /// along a side of one of them (the separating axis theorem).
    #[must_use]
    pub fn overlap(&self, other: &Self) -> f64 {
        let project = |corners: [[f64; 2]; 4], axis: [f64; 2]| {
            let along = corners.map(|corner| corner[0] * axis[0] + corner[1] * axis[1]);
            let least = along.into_iter().fold(f64::INFINITY, f64::min);
            (least, along.into_iter().fold(f64::NEG_INFINITY, f64::max))
        };
        let shared = |axis: [f64; 2]| {
            let ((low, high), (other_low, other_high)) =
                (project(self.corners(), axis), project(other.corners(), axis));
            (high - other_low).min(other_high - low)
        };
        let least = self.axes().into_iter().chain(other.axes()).map(shared).fold(f64::INFINITY, f64::min);
        if least > TOUCHING { least } else { 0.0 }
    }

    /// How far it reaches out of an area; 0 where it lies in it.
    #[must_use]
    pub fn outside(&self, area: &Area) -> f64 {
        let bounds = self.bounds();
        let out = [area.left - bounds.left, area.low - bounds.low, bounds.right - area.right, bounds.high - area.high];
        let most = out.into_iter().fold(0.0, f64::max);
        if most > TOUCHING { most } else { 0.0 }
    }
}

/// Which of the things overlap, those that do most first, and how many there are; `most` are answered. What is ground overlaps with
/// nothing.
#[must_use]
pub fn overlaps(things: &[Thing], most: usize) -> (Vec<Overlap>, usize) {
    let mut sorted: Vec<(Area, &Thing)> =
        things.iter().filter(|thing| !thing.ground).map(|thing| (thing.bounds(), thing)).collect();
    sorted.sort_by(|a, b| a.0.left.total_cmp(&b.0.left));
    let mut found = Vec::new();
    let mut total = 0;
    for (at, (bounds, thing)) in sorted.iter().enumerate() {
        // What begins behind its end is beside it, and so is all that follows.
        let near = sorted[at + 1..].iter().take_while(|(other, _)| other.left < bounds.right);
        for (other_bounds, other) in near {
            let is_level = other_bounds.low < bounds.high && bounds.low < other_bounds.high;
            let by = if is_level { thing.overlap(other) } else { 0.0 };
            if by > 0.0 {
                total += 1;
                found.push(Overlap { first: thing.path.clone(), second: other.path.clone(), by });
                if found.len() > most.saturating_mul(2).saturating_add(64) {
                    keep_most(&mut found, most);
                }
            }
        }
    }
    keep_most(&mut found, most);
    (found, total)
}

fn keep_most(found: &mut Vec<Overlap>, most: usize) {
    found.sort_by(|a, b| b.by.total_cmp(&a.by).then_with(|| (&a.first, &a.second).cmp(&(&b.first, &b.second))));
    found.truncate(most);
}

#[cfg(test)]
mod tests {
    use super::*;

    fn thing(name: &str, (x, y): (f64, f64), (length, width): (f64, f64), degrees: f64) -> Thing {
        let (path, name) = (name.to_owned(), name.to_owned());
        Thing { path, name, x, y, length, width, degrees: Some(degrees), ground: false, note: None }
    }

    #[test]
    fn what_touches_does_not_overlap_and_what_overlaps_says_by_how_much() {
        let heron = thing("heron", (0.0, 0.0), (10.0, 2.0), 0.0);
        let beside = thing("otter", (10.0, 0.0), (10.0, 2.0), 0.0);
        let into = thing("teasel", (9.0, 0.5), (10.0, 2.0), 180.0);
        assert_eq!((heron.overlap(&beside), heron.overlap(&into)), (0.0, 1.0));
        // One that is turned passes between two corners, though the areas around them overlap.
        let turned = thing("alder", (6.5, 2.5), (10.0, 0.5), 45.0);
        assert_eq!(heron.overlap(&thing("alder", (7.0, 2.0), (10.0, 0.5), 135.0)), 0.0);
        assert!(heron.bounds().right > turned.bounds().left && heron.overlap(&turned) > 0.0);
    }

    #[test]
    fn every_pair_is_found_once_and_ground_is_none_of_them() {
        let mut things: Vec<_> = (0..60)
            .map(|n| {
                let at = f64::from(n);
                thing(&format!("b{n}"), ((at * 37.0) % 50.0, (at * 17.0) % 20.0), (8.0, 3.0), (at * 41.0) % 360.0)
            })
            .collect();
        things[7].ground = true;
        let plain: usize = (0..60)
            .flat_map(|a| (a + 1..60).map(move |b| (a, b)))
            .filter(|(a, b)| *a != 7 && *b != 7 && things[*a].overlap(&things[*b]) > 0.0)
            .count();
        let (found, total) = overlaps(&things, 10);
        assert_eq!((found.len(), total), (10, plain));
        assert!(found.windows(2).all(|two| two[0].by >= two[1].by));
        assert!(found.iter().all(|pair| pair.first != "b7" && pair.second != "b7"));
        let all = overlaps(&things, usize::MAX).0;
        assert_eq!((all.len(), &all[..10]), (plain, &found[..]));
    }

    #[test]
    fn what_reaches_out_says_how_far() {
        let area = Area { left: 0.0, low: -5.0, right: 100.0, high: 5.0 };
        assert_eq!(thing("in", (50.0, 0.0), (20.0, 4.0), 0.0).outside(&area), 0.0);
        assert_eq!(thing("out", (95.0, 0.0), (20.0, 4.0), 180.0).outside(&area), 5.0);
        assert_eq!(thing("up", (50.0, 0.0), (20.0, 4.0), 90.0).outside(&area), 5.0);
    }
}
