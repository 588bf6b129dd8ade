//! What can be looked at once, again and again, or as a picture: plans, and figures.

use std::time::Duration;

use super::looks::time;

/// What is to be looked at, and how.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Again {
    /// A part of it; all without it.
    pub(crate) part: Option<String>,
    /// Where it is drawn.
    pub(crate) file: Option<String>,
    /// Again and again, after so long.
    pub(crate) every: Option<Duration>,
    /// How often; until it is ended without it.
    pub(crate) times: Option<u64>,
}

/// `[PART] [to FILE.svg] [every TIME [for N]]`.
pub(super) fn parse(rest: &str) -> Option<Again> {
    let mut words = rest.split_whitespace().peekable();
    let part = words.next_if(|word| !matches!(*word, "to" | "every")).map(str::to_owned);
    let mut wanted = Again { part, ..Again::default() };
    while let Some(word) = words.next() {
        let value = words.next()?;
        match word {
            "to" if wanted.file.is_none() => wanted.file = Some(value.to_owned()),
            "every" if wanted.every.is_none() => wanted.every = Some(time(value)?),
            "for" if wanted.every.is_some() && wanted.times.is_none() => {
                wanted.times = Some(value.parse().ok().filter(|times| *times > 0)?);
            }
            _ => return None,
        }
    }
    Some(wanted)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_is_looked_at_again_or_goes_to_a_file() {
        let parsed = |rest: &str| parse(rest).map(|wanted| (wanted.part, wanted.file, wanted.every, wanted.times));
        let text = |text: &str| Some(text.to_owned());
        let second = Some(Duration::from_secs(1));
        assert_eq!(parsed(""), Some((None, None, None, None)));
        assert_eq!(parsed("host.boats"), Some((text("host.boats"), None, None, None)));
        assert_eq!(parsed("host.boats to b.svg every 1s"), Some((text("host.boats"), text("b.svg"), second, None)));
        assert_eq!(parsed("every 1s for 3"), Some((None, None, second, Some(3))));
        for wrong in ["host.boats to", "a b", "for 3", "every 0", "every 1s for none", "to a to b"] {
            assert_eq!(parsed(wrong), None, "{wrong}");
        }
    }
}
