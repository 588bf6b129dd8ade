//! The keys of a table that are not part of its sequence, in pages.
//!
//! A table of up to [`MOST_SORTED`] such keys is walked whole, once for a stop, and its keys are sorted. A larger one is walked
//! only as far as someone has paged, in its own order, and on from there for the next page.

use std::ffi::c_int;
use std::ops::RangeInclusive;

use adzeman_core::engine::EngineError;
use adzeman_core::value::{Page, Preview};

use super::Shown;
use super::built_in::is_built_in;
use super::preview::full_float;
use crate::ffi::state::{State, Type};
use crate::ffi::tables::KeyScan;

/// A table with more keys than this beside its sequence is not sorted.
const MOST_SORTED: usize = 2_500;
/// A sequence longer than this is passed over as a whole when names are looked for.
const LONG_SEQUENCE: usize = 4096;
/// A sequence up to this length is walked through as well, at once, for names that lie before its end.
const QUICKLY_WALKED: usize = 50_000;
/// The same, when someone pages to the end of the names; a longer one is not.
const MOST_WALKED: usize = 5_000_000;

/// A key of a table that is not part of its sequence.
#[derive(Debug, Clone)]
pub(super) struct Key {
    /// As a name, or in brackets as it is written in a script.
    pub(super) shown: String,
    /// Whether an expression can name it.
    pub(super) is_plain: bool,
    order: Order,
    /// Where it stands in the list of keys, from 1.
    pub(super) position: i64,
}

#[derive(Debug, Clone, PartialEq, PartialOrd)]
enum Order {
    Number(f64),
    Text(Vec<u8>),
    Other(String),
}

/// Which keys are wanted: all, or of the globals those of one kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(super) enum Which {
    All,
    Own,
    BuiltIn,
}

/// The keys of one table, as far as they were found.
pub(super) struct KeyList {
    /// What the list of keys is kept alive under.
    anchor: i64,
    scan: KeyScan,
    /// Whether the walk began behind the sequence, and what lies before its end is still to be looked for.
    passed: bool,
    /// The keys in order, when they are few enough. What is found before the end of a long sequence is put behind the rest.
    sorted: Option<Vec<Key>>,
    /// How many keys were put in order.
    taken: usize,
}

/// A page of keys.
pub(super) struct KeyPage {
    pub(super) keys: Vec<Key>,
    /// Where the list is on the stack that the keys' positions are of.
    pub(super) list: c_int,
    pub(super) total: usize,
    pub(super) total_is_all: bool,
    /// Whether they are sorted, or come in the table's own order.
    pub(super) is_ordered: bool,
}

/// Pushes the key to begin a walk behind; true when that is the end of the sequence.
pub(super) fn begin_of_walk(state: State, length: usize) -> bool {
    let passes = length > LONG_SEQUENCE;
    if passes {
        state.push_integer(i64::try_from(length).unwrap_or(i64::MAX));
    } else {
        state.push_nil();
    }
    passes
}

impl Shown {
    /// A page of the keys of the table at `table`, and on top of the stack the list that they are in.
    pub(super) fn page_of_keys(
        &self,
        state: State,
        table: c_int,
        which: Which,
        page: Page,
    ) -> Result<KeyPage, EngineError> {
        let name = (state.address_at(table), which);
        let known = self.on_show.key_lists.borrow_mut().remove(&name);
        let known = known.filter(|known| known.scan.length == state.raw_len(table));
        let mut list = match known {
            Some(known) => known,
            None => self.begin_keys(state, table)?,
        };
        Self::push_kept(state, list.anchor);
        let at = state.top();
        list.walk_on(state, table, at, page.start.saturating_add(page.count))?;
        list.sort(state, table, at, which);
        let total = list.sorted.as_ref().map_or(list.scan.kept, Vec::len);
        let (total_is_all, is_ordered) = (list.is_whole(), list.sorted.is_some());
        let keys = list.page(state, at, page);
        self.on_show.key_lists.borrow_mut().insert(name, list);
        Ok(KeyPage { keys, list: at, total, total_is_all, is_ordered })
    }

    fn begin_keys(&self, state: State, table: c_int) -> Result<KeyList, EngineError> {
        // Values are kept under numbers from 1 upwards, lists from -1 downwards.
        let anchor = self.on_show.last_list.get() - 1;
        self.on_show.last_list.set(anchor);
        state.push_table()?;
        Self::anchor(state, -1, anchor)?;
        state.pop(1);
        let length = state.raw_len(table);
        let scan = KeyScan::new(length, 0, 0);
        Ok(KeyList { anchor, scan, passed: length > LONG_SEQUENCE, sorted: None, taken: 0 })
    }
}

impl KeyList {
    /// What the list is kept alive under.
    pub(super) fn anchor(&self) -> i64 {
        self.anchor
    }

    /// Whether all keys are known.
    fn is_whole(&self) -> bool {
        self.scan.finished && !self.passed
    }

    /// Finds keys until there are `wanted`, or so many that they will not be sorted, or no more.
    fn walk_on(&mut self, state: State, table: c_int, list: c_int, wanted: usize) -> Result<(), EngineError> {
        let wanted = wanted.max(MOST_SORTED + 1);
        if !self.scan.finished && self.scan.kept < wanted {
            (self.scan.most, self.scan.keep) = (wanted, wanted);
            if self.scan.kept > 0 {
                state.raw_get_index(list, i64::try_from(self.scan.kept).unwrap_or(0));
            } else {
                begin_of_walk(state, self.scan.length);
            }
            state.scan_keys(table, list, None, &mut self.scan)?;
        }
        let is_asked_for = self.scan.length <= MOST_WALKED && wanted > self.scan.kept;
        let is_quick = self.scan.length <= QUICKLY_WALKED;
        if self.scan.finished && self.passed && (is_quick || is_asked_for) && self.scan.kept <= MOST_SORTED {
            self.look_before_the_end(state, table, list)?;
        }
        Ok(())
    }

    /// Walks the whole table once for names that a walk from the end of its sequence on does not meet.
    fn look_before_the_end(&mut self, state: State, table: c_int, list: c_int) -> Result<(), EngineError> {
        state.push_table()?;
        let known = state.top();
        for position in 1..=i64::try_from(self.scan.kept).unwrap_or(0) {
            state.raw_get_index(list, position);
            state.push_bool(true);
            state.raw_set(known)?;
        }
        (self.scan.most, self.scan.keep) = (usize::MAX, usize::MAX);
        state.push_nil();
        state.scan_keys(table, list, Some(known), &mut self.scan)?;
        state.cut_to(known - 1);
        self.passed = false;
        Ok(())
    }

    fn sort(&mut self, state: State, table: c_int, list: c_int, which: Which) {
        let few = self.sorted.is_some() || self.scan.finished && self.scan.kept <= MOST_SORTED;
        if !few || self.taken == self.scan.kept && self.sorted.is_some() {
            return;
        }
        let mut keys = read_keys(state, list, self.taken + 1..=self.scan.kept);
        if which != Which::All {
            keys.retain(|key| is_built_in(state, table, list, key) == (which == Which::BuiltIn));
        }
        sort(&mut keys);
        self.sorted.get_or_insert_default().append(&mut keys);
        self.taken = self.scan.kept;
    }

    fn page(&self, state: State, list: c_int, page: Page) -> Vec<Key> {
        match &self.sorted {
            Some(keys) => keys.iter().skip(page.start).take(page.count).cloned().collect(),
            None => {
                let end = page.start.saturating_add(page.count).min(self.scan.kept);
                read_keys(state, list, page.start + 1..=end)
            }
        }
    }
}

pub(super) fn read_keys(state: State, list: c_int, positions: RangeInclusive<usize>) -> Vec<Key> {
    let read = |position: usize| {
        let position = i64::try_from(position).unwrap_or(i64::MAX);
        state.raw_get_index(list, position);
        let key = key_at_top(state, position);
        state.pop(1);
        key
    };
    positions.map(read).collect()
}

/// The key on top, as a name or in brackets.
pub(crate) fn key_text(state: State) -> String {
    key_at_top(state, 0).shown
}

fn key_at_top(state: State, position: i64) -> Key {
    let mut is_plain = true;
    let (shown, order) = match state.type_at(-1) {
        Type::Integer => {
            let number = state.integer_at(-1).unwrap_or(0);
            #[expect(clippy::cast_precision_loss, reason = "only the order is made from it")]
            (format!("[{number}]"), Order::Number(number as f64))
        }
        Type::Float => {
            let number = state.float_at(-1).unwrap_or(0.0);
            is_plain = number.is_finite();
            (format!("[{}]", full_float(number)), Order::Number(number))
        }
        Type::String => {
            let read = |bytes: &[u8]| {
                let (shown, whole) = shown_key(bytes);
                is_plain = whole;
                (shown, Order::Text(bytes[..bytes.len().min(256)].to_vec()))
            };
            state.with_bytes(-1, read).unwrap_or((String::new(), Order::Text(Vec::new())))
        }
        Type::Boolean => {
            let text = format!("[{}]", state.bool_at(-1));
            (text.clone(), Order::Other(text))
        }
        other => {
            is_plain = false;
            let text = format!("[{} {:#x}]", format!("{other:?}").to_lowercase(), state.address_at(-1));
            (text.clone(), Order::Other(text))
        }
    };
    Key { shown, is_plain, order, position }
}

/// A text as a key, and whether that is all of it.
fn shown_key(bytes: &[u8]) -> (String, bool) {
    let is_name = bytes.first().is_some_and(|first| !first.is_ascii_digit())
        && bytes.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'_');
    let text = String::from_utf8_lossy(bytes);
    if is_name && bytes.len() < 64 && !KEYWORDS.contains(&&*text) {
        return (text.into_owned(), true);
    }
    let mut preview = Preview::default();
    preview.quoted(bytes);
    let whole = !preview.is_full();
    (format!("[{}]", preview.finish()), whole)
}

/// Words that are no names (Lua reference manual, 3.1).
const KEYWORDS: [&str; 22] = [
    "and", "break", "do", "else", "elseif", "end", "false", "for", "function", "goto", "if", "in", "local", "nil",
    "not", "or", "repeat", "return", "then", "true", "until", "while",
];

pub(super) fn sort(keys: &mut [Key]) {
    keys.sort_by(|a, b| a.order.partial_cmp(&b.order).unwrap_or(std::cmp::Ordering::Equal));
}
