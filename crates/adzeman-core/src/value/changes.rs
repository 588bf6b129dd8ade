//! Comparing two stops: what of a value shown now differs from when it was shown at an earlier stop.

use std::collections::HashMap;

use super::Value;

/// The most values that are remembered; the ones not shown for longest are forgotten first.
pub const MOST_REMEMBERED: usize = 20_000;

/// What was shown, and when.
///
/// ```
/// use adzeman_core::value::{Kind, Memory, Value};
///
/// let number = |text: &str| Value::plain(Kind::Integer, "integer", text);
/// let mut memory = Memory::default();
/// memory.next_stop();
/// assert_eq!(memory.compare("update > turns", &number("1")), None, "never seen before");
/// memory.next_stop();
/// assert_eq!(memory.compare("update > turns", &number("2")).as_deref(), Some("1"));
/// assert_eq!(memory.compare("update > turns", &number("2")).as_deref(), Some("1"), "the same stop, shown again");
/// memory.next_stop();
/// assert_eq!(memory.compare("update > turns", &number("2")), None);
/// ```
#[derive(Debug, Default)]
pub struct Memory {
    stop: u64,
    shown: HashMap<String, Shown>,
}

#[derive(Debug)]
struct Shown {
    stop: u64,
    now: (String, String),
    /// As it was at the last stop before this one at which it was shown.
    before: Option<(String, String)>,
}

impl Memory {
    /// A stop begins: from here on, values are compared with those shown before.
    pub fn next_stop(&mut self) {
        self.stop += 1;
        if self.shown.len() > MOST_REMEMBERED {
            let mut stops: Vec<_> = self.shown.values().map(|shown| shown.stop).collect();
            let middle = stops.len() / 2;
            let (_, oldest_kept, _) = stops.select_nth_unstable(middle);
            let oldest_kept = *oldest_kept;
            self.shown.retain(|_, shown| shown.stop > oldest_kept);
        }
    }

    /// Notes what is shown under `key`, anything that tells the value from others. Answers the preview from the last stop
    /// before this one at which it was shown, if it is another value now, with its type if that is another one too.
    pub fn compare(&mut self, key: &str, value: &Value) -> Option<String> {
        let now = (value.type_name.clone(), value.preview.clone());
        let stop = self.stop;
        let Some(shown) = self.shown.get_mut(key) else {
            // Within one stop, the memory does not grow beyond twice its bound.
            if self.shown.len() < 2 * MOST_REMEMBERED {
                self.shown.insert(key.to_owned(), Shown { stop, now, before: None });
            }
            return None;
        };
        if shown.stop != stop {
            shown.before = Some(std::mem::replace(&mut shown.now, now));
            shown.stop = stop;
        } else {
            shown.now = now;
        }
        let before = shown.before.as_ref().filter(|before| **before != shown.now)?;
        let is_same_type = before.0 == shown.now.0;
        Some(if is_same_type { before.1.clone() } else { format!("{} ({})", before.1, before.0) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Kind;

    fn value(type_name: &str, preview: impl ToString) -> Value {
        Value::plain(Kind::Integer, type_name, preview.to_string())
    }

    #[test]
    fn another_type_is_another_value() {
        let mut memory = Memory::default();
        memory.compare("x", &value("integer", 1));
        memory.next_stop();
        assert_eq!(memory.compare("x", &value("string", 1)).as_deref(), Some("1 (integer)"));
    }

    #[test]
    fn a_value_not_shown_at_every_stop_is_compared_with_the_last_time() {
        let mut memory = Memory::default();
        memory.compare("x", &value("integer", 1));
        memory.next_stop();
        memory.next_stop();
        assert_eq!(memory.compare("x", &value("integer", 2)).as_deref(), Some("1"));
    }

    #[test]
    fn a_change_at_the_stop_itself_counts_against_the_stop_before() {
        let mut memory = Memory::default();
        memory.compare("x", &value("integer", 1));
        memory.next_stop();
        assert_eq!(memory.compare("x", &value("integer", 1)), None);
        assert_eq!(memory.compare("x", &value("integer", 5)).as_deref(), Some("1"));
        assert_eq!(memory.compare("x", &value("integer", 1)), None);
    }

    #[test]
    fn the_memory_is_bounded() {
        let mut memory = Memory::default();
        for stop in 0..10 {
            memory.next_stop();
            for number in 0..MOST_REMEMBERED {
                memory.compare(&format!("{stop} {number}"), &value("integer", number));
            }
        }
        assert!(memory.shown.len() <= 2 * MOST_REMEMBERED, "{}", memory.shown.len());
    }
}
