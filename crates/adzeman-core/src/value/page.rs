//! Pages of long lists.

use serde::{Deserialize, Serialize};

/// Which children are wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Part {
    /// Elements counted from the first on.
    Indexed,
    /// Names and other keys.
    Named,
    /// The elements, then the names.
    All,
}

/// A window into a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Page {
    /// How many to pass over.
    pub start: usize,
    /// How many to give at most.
    pub count: usize,
}

impl Page {
    /// The most that one page gives, so that a reply stays small whatever is asked.
    pub const MOST: usize = 1000;

    /// The first `count`.
    #[must_use]
    pub const fn first(count: usize) -> Self {
        Self { start: 0, count }
    }

    /// Takes this page of `items`, of which there are `total`, without touching the rest.
    pub fn of<I: Iterator, T>(self, total: usize, items: I, make: impl FnMut(I::Item) -> T) -> Paged<T> {
        Paged::whole(items.skip(self.start).take(self.count.min(Self::MOST)).map(make).collect(), total)
    }
}

/// A page of a list that holds `total`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Paged<T> {
    /// What was asked for, as far as it is there.
    pub items: Vec<T>,
    /// How many there are in all.
    pub total: usize,
    /// False when there are too many to count; `total` is then the least there are.
    pub total_is_all: bool,
}

impl<T> Paged<T> {
    /// A page of a list that was counted.
    #[must_use]
    pub const fn whole(items: Vec<T>, total: usize) -> Self {
        Self { items, total, total_is_all: true }
    }

    /// The same page of what is made of each.
    pub fn map<U>(self, make: impl FnMut(T) -> U) -> Paged<U> {
        let Self { items, total, total_is_all } = self;
        Paged { items: items.into_iter().map(make).collect(), total, total_is_all }
    }
}
