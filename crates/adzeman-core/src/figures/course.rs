//! The course of one number: points that are merged as they become many, and the jumps.

use serde::{Deserialize, Serialize};

use super::FigureNow;

/// Points that are kept, at most.
const MOST_POINTS: usize = 512;
/// Jumps that are kept: the largest.
const MOST_JUMPS: usize = 20;
/// Samples before the first jump can be told from what is usual.
const SETTLES: u64 = 8;
/// A jump is so many times what the number changes by as a rule, and such a part of all that it has moved in, and of itself.
const UNUSUAL: f64 = 8.0;
const OF_RANGE: f64 = 0.1;
const OF_ITSELF: f64 = 0.01;
/// How fast it is forgotten what was usual.
const FADES: f64 = 1.0 / 32.0;

/// Samples of a while, as one.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Point {
    /// When they began, by the host's clock.
    pub seconds: f64,
    /// Their mean.
    pub mean: f64,
    /// The least.
    pub least: f64,
    /// The most.
    pub most: f64,
    /// How many.
    pub samples: u64,
}

/// What a change came with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Cause {
    /// The event that had ended just before, with its subject.
    pub event: String,
    /// Its number, by which the trail has it.
    pub number: u64,
    /// How many events there were since the sample before: it is this one for sure where it is 1.
    pub events: u64,
}

/// A change that is far larger than most.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Jump {
    /// When, by the host's clock.
    pub seconds: f64,
    /// What it was before.
    pub from: f64,
    /// What it was then.
    pub to: f64,
    /// What it came with, if any event.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<Cause>,
}

impl Jump {
    fn size(&self) -> f64 {
        (self.to - self.from).abs()
    }
}

/// The course of a number.
///
/// ```
/// use adzeman_core::figures::{Cause, Course};
///
/// let mut course = Course::default();
/// for frame in 0..100_u32 {
///     let bytes = if frame < 60 { 4096.0 + f64::from(frame) } else { 20_000.0 };
///     let cause = || Some(Cause { event: "frame.update".into(), number: frame.into(), events: 1 });
///     course.note(f64::from(frame), bytes, cause);
/// }
/// let jump = &course.jumps()[0];
/// assert_eq!((jump.from, jump.to, jump.cause.as_ref().unwrap().number), (4155.0, 20_000.0, 60));
/// ```
#[derive(Debug, Clone, Default)]
pub struct Course {
    points: Vec<Point>,
    /// Samples that make a point.
    stride: u64,
    samples: u64,
    sum: f64,
    range: Option<(f64, f64)>,
    last: Option<f64>,
    /// What it changes by as a rule, when it does.
    usual_change: f64,
    jumps: Vec<Jump>,
    jumped: u64,
    /// Whether only what goes up can be a jump.
    only_up: bool,
}

impl Course {
    /// That of a number which falls by itself, as memory does when it is collected: only what goes up is a jump.
    #[must_use]
    pub fn that_falls() -> Self {
        Self { only_up: true, ..Self::default() }
    }

    /// A sample. `cause` is asked where it is a jump.
    pub fn note(&mut self, seconds: f64, value: f64, cause: impl FnOnce() -> Option<Cause>) {
        if !value.is_finite() {
            return;
        }
        if let Some(last) = self.last {
            self.note_change(seconds, (last, value), cause);
        }
        self.last = Some(value);
        self.samples += 1;
        self.sum += value;
        let (least, most) = self.range.unwrap_or((value, value));
        self.range = Some((least.min(value), most.max(value)));
        self.add_point(seconds, value);
    }

    fn note_change(&mut self, seconds: f64, (from, to): (f64, f64), cause: impl FnOnce() -> Option<Cause>) {
        if self.only_up && to < from {
            return;
        }
        let change = (to - from).abs();
        let (least, most) = self.range.unwrap_or((from, from));
        let range = most.max(to) - least.min(to);
        let is_jump = self.samples >= SETTLES
            && change > UNUSUAL * self.usual_change
            && change >= OF_RANGE * range
            && change >= OF_ITSELF * from.abs().max(to.abs());
        if is_jump {
            self.jumped += 1;
            self.jumps.push(Jump { seconds, from, to, cause: cause() });
            if self.jumps.len() > MOST_JUMPS {
                let smallest =
                    (0..self.jumps.len()).min_by(|a, b| self.jumps[*a].size().total_cmp(&self.jumps[*b].size()));
                self.jumps.remove(smallest.unwrap_or(0));
            }
        }
        // What is usual is how much it changes by when it does; one jump does not make jumps usual.
        let is_first = self.usual_change == 0.0;
        if change > 0.0 {
            let counted = if is_jump && !is_first { self.usual_change.max(change * FADES) } else { change };
            self.usual_change += (counted - self.usual_change) * if is_first { 1.0 } else { FADES };
        }
    }

    fn add_point(&mut self, seconds: f64, value: f64) {
        let stride = self.stride.max(1);
        if let Some(last) = self.points.last_mut().filter(|last| last.samples < stride) {
            merge(last, &Point { seconds, mean: value, least: value, most: value, samples: 1 });
            return;
        }
        if self.points.len() >= MOST_POINTS {
            let pairs = self.points.chunks(2).map(|pair| {
                let mut one = pair[0];
                pair.iter().skip(1).for_each(|other| merge(&mut one, other));
                one
            });
            self.points = pairs.collect();
            self.stride = stride * 2;
        }
        self.points.push(Point { seconds, mean: value, least: value, most: value, samples: 1 });
    }

    /// The points, from the first on.
    #[must_use]
    pub fn points(&self) -> &[Point] {
        &self.points
    }

    /// The jumps that are kept, in their order.
    #[must_use]
    pub fn jumps(&self) -> &[Jump] {
        &self.jumps
    }

    /// The last value.
    #[must_use]
    pub fn last(&self) -> Option<f64> {
        self.last
    }

    /// As it is now.
    #[must_use]
    pub fn now(&self, name: &str, doc: &str, unit: &str, usual: Option<(f64, f64)>) -> FigureNow {
        FigureNow {
            name: name.to_owned(),
            doc: doc.to_owned(),
            unit: unit.to_owned(),
            usual,
            value: self.last,
            least: self.range.map(|(least, _)| least),
            most: self.range.map(|(_, most)| most),
            mean: (self.samples > 0).then(|| self.sum / self.samples as f64),
            samples: self.samples,
            jumps: self.jumped,
            why: None,
        }
    }
}

/// Takes what comes after into a point.
fn merge(into: &mut Point, other: &Point) {
    let (a, b) = (into.samples as f64, other.samples as f64);
    into.mean = (into.mean * a + other.mean * b) / (a + b);
    into.least = into.least.min(other.least);
    into.most = into.most.max(other.most);
    into.samples += other.samples;
}

#[cfg(test)]
mod tests {
    use super::*;

    fn course(values: impl IntoIterator<Item = f64>) -> Course {
        let mut course = Course::default();
        for (at, value) in values.into_iter().enumerate() {
            course.note(at as f64, value, || Some(Cause { event: "e".into(), number: at as u64, events: 1 }));
        }
        course
    }

    #[test]
    fn a_long_course_takes_no_more_room_and_loses_no_extreme() {
        let all = course((0..100_000).map(|at| if at == 77_777 { 900.0 } else { f64::from(at % 10) }));
        assert!(all.points().len() <= MOST_POINTS, "{}", all.points().len());
        let samples: u64 = all.points().iter().map(|point| point.samples).sum();
        assert_eq!(samples, 100_000);
        assert!(all.points().iter().any(|point| (point.most - 900.0).abs() < 1e-9));
        let now = all.now("x", "", "", Some((0.0, 5.0)));
        assert_eq!((now.least, now.most, now.samples), (Some(0.0), Some(900.0), 100_000));
        assert_eq!(now.from_usual(), 4.0);
    }

    #[test]
    fn a_jump_is_told_with_what_it_came_with_and_noise_is_none() {
        let noisy = course((0..2000).map(|at| 100.0 + f64::from((at * 7919) % 13)));
        assert!(noisy.jumps().is_empty(), "{:?}", noisy.jumps());
        let steps = course((0..300).map(|at| f64::from(at) + if at >= 200 { 5000.0 } else { 0.0 }));
        let told: Vec<_> = steps.jumps().iter().map(|jump| jump.cause.as_ref().unwrap().number).collect();
        assert_eq!(told, [200]);
        // One that goes up and comes down by steps as a rule jumps at neither.
        let saw = course((0..3000).map(|at| f64::from(at % 50)));
        assert!(saw.jumps().len() <= MOST_JUMPS);
        let mut memory = Course::that_falls();
        (0..3000).for_each(|at| {
            let leak = if at >= 1234 { 400.0 } else { 0.0 };
            memory.note(f64::from(at), 500.0 + f64::from(at % 50) + leak, || None);
        });
        let told: Vec<_> = memory.jumps().iter().map(|jump| jump.seconds).collect();
        assert_eq!(told, [1234.0], "that it was collected is none");
        assert!(course([1.0, f64::NAN, 2.0]).last() == Some(2.0));
        let flat = course((0..50).map(|at| if at < 30 { 3.0 } else { 4.0 }));
        assert_eq!(flat.jumps().len(), 1, "a number that never changes jumps by whatever it does");
        let counted = course((0..4000).map(|at| f64::from(at / 100 % 7)));
        assert_eq!(counted.jumps().len(), 1, "one that counts jumps only when it begins to: {:?}", counted.jumps());
    }

    #[test]
    fn the_largest_jumps_are_kept() {
        let mut value = 0.0;
        let many = course((0..4000).map(|at| {
            if at % 100 == 99 {
                value = if value > 0.0 { 0.0 } else { 1000.0 + f64::from(at) };
            }
            value + f64::from(at % 2)
        }));
        assert_eq!(many.jumps().len(), MOST_JUMPS);
        assert!(many.now("", "", "", None).jumps >= MOST_JUMPS as u64);
    }
}
