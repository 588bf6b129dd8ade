//! Line numbers and sets of them.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A line of a source, counted from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Line(u32);

impl Line {
    /// The first line.
    pub const FIRST: Self = Self(1);

    /// `None` for 0: lines count from 1.
    #[must_use]
    pub const fn new(number: u32) -> Option<Self> {
        if number == 0 { None } else { Some(Self(number)) }
    }

    /// The number, counted from 1.
    #[must_use]
    pub const fn get(self) -> u32 {
        self.0
    }

    /// The number, counted from 0, for looking into a list of lines.
    #[must_use]
    pub const fn index(self) -> usize {
        self.0 as usize - 1
    }
}

impl fmt::Display for Line {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// A set of lines, held as a bitmap so that asking costs a shift and a mask.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LineSet {
    words: Vec<u64>,
}

impl LineSet {
    /// Adds a line.
    pub fn insert(&mut self, line: Line) {
        let word = line.index() / 64;
        if self.words.len() <= word {
            self.words.resize(word + 1, 0);
        }
        self.words[word] |= 1 << (line.index() % 64);
    }

    /// Whether the line is in the set.
    #[inline]
    #[must_use]
    pub fn contains(&self, line: Line) -> bool {
        self.words.get(line.index() / 64).is_some_and(|word| word >> (line.index() % 64) & 1 == 1)
    }

    /// Whether the set holds no line.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.words.iter().all(|word| *word == 0)
    }

    /// The first line of the set at or after `line`.
    #[must_use]
    pub fn next_from(&self, line: Line) -> Option<Line> {
        self.iter_from(line).next()
    }

    /// The lines in rising order.
    pub fn iter(&self) -> impl Iterator<Item = Line> + '_ {
        self.iter_from(Line::FIRST)
    }

    fn iter_from(&self, first: Line) -> impl Iterator<Item = Line> + '_ {
        let last = u32::try_from(self.words.len() * 64).unwrap_or(u32::MAX);
        (first.get()..=last).filter_map(Line::new).filter(|line| self.contains(*line))
    }

    /// The lines of this set that are not in another one.
    #[must_use]
    pub fn without(&self, other: &Self) -> Self {
        self.iter().filter(|line| !other.contains(*line)).collect()
    }

    /// Adds all lines of another set.
    pub fn extend_with(&mut self, other: &Self) {
        if self.words.len() < other.words.len() {
            self.words.resize(other.words.len(), 0);
        }
        for (word, more) in self.words.iter_mut().zip(&other.words) {
            *word |= more;
        }
    }
}

impl FromIterator<Line> for LineSet {
    fn from_iter<I: IntoIterator<Item = Line>>(lines: I) -> Self {
        let mut set = Self::default();
        lines.into_iter().for_each(|line| set.insert(line));
        set
    }
}

/// From line numbers counted from 1; zeros are passed over.
impl FromIterator<u32> for LineSet {
    fn from_iter<I: IntoIterator<Item = u32>>(lines: I) -> Self {
        lines.into_iter().filter_map(Line::new).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn next_from_moves_to_the_next_held_line() {
        let set: LineSet = [3, 64, 65, 200].into_iter().collect();
        let next = |from| set.next_from(Line::new(from).unwrap()).map(Line::get);
        assert_eq!(
            [next(1), next(3), next(4), next(65), next(66), next(201)],
            [Some(3), Some(3), Some(64), Some(65), Some(200), None]
        );
    }

    #[test]
    fn zero_is_no_line() {
        assert_eq!(Line::new(0), None);
        assert!([0].into_iter().collect::<LineSet>().is_empty());
    }
}
