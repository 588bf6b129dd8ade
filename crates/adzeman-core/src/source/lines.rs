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

/// A set of lines, held as a bitmap from its first line on, so that asking costs a shift and a mask, and the lines of a function
/// take no more room at the end of a long script than at its beginning.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LineSet {
    /// How many words, each for 64 lines, are left out before the first one. Neither the first nor the last one held is empty.
    before: usize,
    words: Vec<u64>,
}

impl LineSet {
    /// Adds a line.
    pub fn insert(&mut self, line: Line) {
        let word = line.index() / 64;
        self.make_room(word, word + 1);
        self.words[word - self.before] |= 1 << (line.index() % 64);
    }

    /// Makes room for the words from one up to another.
    fn make_room(&mut self, first: usize, end: usize) {
        if self.words.is_empty() {
            self.before = first;
        }
        if first < self.before {
            self.words.splice(0..0, std::iter::repeat_n(0, self.before - first));
            self.before = first;
        }
        if self.before + self.words.len() < end {
            self.words.resize(end - self.before, 0);
        }
    }

    /// Whether the line is in the set.
    #[inline]
    #[must_use]
    pub fn contains(&self, line: Line) -> bool {
        let word = (line.index() / 64).wrapping_sub(self.before);
        self.words.get(word).is_some_and(|word| word >> (line.index() % 64) & 1 == 1)
    }

    /// Whether the set holds no line.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.words.is_empty()
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
        let skipped = (first.index() / 64).saturating_sub(self.before);
        let words = self.words.iter().enumerate().skip(skipped);
        let lines = words.flat_map(|(at, word)| {
            let of_word = std::iter::successors(Some(*word), |left| Some(left & left.checked_sub(1)?));
            let base = (self.before + at) * 64 + 1;
            of_word.take_while(|left| *left != 0).map(move |left| base + left.trailing_zeros() as usize)
        });
        lines.filter_map(|number| Line::new(u32::try_from(number).ok()?)).skip_while(move |line| *line < first)
    }

    /// The lines of this set that are not in another one.
    #[must_use]
    pub fn without(&self, other: &Self) -> Self {
        self.iter().filter(|line| !other.contains(*line)).collect()
    }

    /// Adds all lines of another set.
    pub fn extend_with(&mut self, other: &Self) {
        if other.is_empty() {
            return;
        }
        self.make_room(other.before, other.before + other.words.len());
        let from = other.before - self.before;
        for (word, more) in self.words[from..].iter_mut().zip(&other.words) {
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
    use std::collections::BTreeSet;

    use proptest::prelude::*;

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

    proptest! {
        /// The set is what a set of numbers is, in whatever order its lines come.
        #[test]
        fn it_is_a_set(lines in prop::collection::vec(1_u32..1000, 0..40), more in prop::collection::vec(500_u32..5000, 0..40), from in 1_u32..2000) {
            let numbers = |set: &LineSet| set.iter().map(Line::get).collect::<Vec<_>>();
            let (one, other): (LineSet, LineSet) = (lines.iter().copied().collect(), more.iter().copied().collect());
            let expected: BTreeSet<u32> = lines.iter().copied().collect();
            prop_assert_eq!(numbers(&one), expected.iter().copied().collect::<Vec<_>>());
            let from = Line::new(from).unwrap();
            prop_assert_eq!(one.next_from(from).map(Line::get), expected.range(from.get()..).next().copied());
            prop_assert!((1..1100).filter_map(Line::new).all(|line| one.contains(line) == expected.contains(&line.get())));
            let mut both = one.clone();
            both.extend_with(&other);
            let all: LineSet = more.iter().chain(&lines).copied().collect();
            prop_assert_eq!(&both, &all);
            prop_assert_eq!(both.without(&other), one.without(&other));
            prop_assert_eq!(both.is_empty(), lines.is_empty() && more.is_empty());
        }
    }

    #[test]
    fn zero_is_no_line() {
        assert_eq!(Line::new(0), None);
        assert!([0].into_iter().collect::<LineSet>().is_empty());
    }
}
