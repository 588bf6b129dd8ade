//! What is wanted of the trail.

use super::split_word;

/// What is wanted of the trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Trail {
    /// The last ones that a filter picks.
    Last { count: Option<usize>, filter: String },
    /// Those that took longest.
    Slowest { filter: String },
    /// All of them, summed up.
    Counts { filter: String },
    /// One of them, with its neighbours.
    One(u64),
    /// One is to be delivered once more.
    Again(u64),
    /// They are to be written to a file.
    To { file: String, filter: String },
}

/// Reads what stands behind `trail`. The filter itself is read by whoever has the trail.
pub(crate) fn parse(rest: &str) -> Option<Trail> {
    let (word, behind) = split_word(rest);
    let filter = || behind.to_owned();
    match word {
        "slowest" => Some(Trail::Slowest { filter: filter() }),
        "counts" => Some(Trail::Counts { filter: filter() }),
        "again" => behind.parse().ok().map(Trail::Again),
        "to" if !behind.is_empty() => {
            let (file, filter) = split_word(behind);
            Some(Trail::To { file: file.to_owned(), filter: filter.to_owned() })
        }
        "to" => None,
        "last" => {
            let (count, filter) = split_word(behind);
            let count = count.parse().ok().filter(|count| *count > 0)?;
            Some(Trail::Last { count: Some(count), filter: filter.to_owned() })
        }
        number if behind.is_empty() && number.parse::<u64>().is_ok() => number.parse().ok().map(Trail::One),
        _ => Some(Trail::Last { count: None, filter: rest.to_owned() }),
    }
}
