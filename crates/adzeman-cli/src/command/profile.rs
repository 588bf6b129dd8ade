//! Where time goes.

use std::time::Duration;

use super::looks::time;

/// What is to be sampled, and where it goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Profile {
    pub(crate) time: Duration,
    /// By name; all without it.
    pub(crate) context: Option<String>,
    /// Only while events of this kind are handled.
    pub(crate) event: Option<String>,
    /// A flame graph, or stacks as lines.
    pub(crate) file: Option<String>,
}

/// `[TIME] [in CONTEXT] [during EVENT] [to FILE.svg | FILE.folded]`.
pub(super) fn parse(rest: &str) -> Option<Profile> {
    let mut words = rest.split_whitespace().peekable();
    let mut wanted = Profile { time: Duration::from_secs(5), context: None, event: None, file: None };
    if let Some(word) = words.next_if(|word| word.starts_with(|c: char| c.is_ascii_digit())) {
        wanted.time = time(word)?;
    }
    while let Some(word) = words.next() {
        let place = match word {
            "in" => &mut wanted.context,
            "during" => &mut wanted.event,
            "to" => &mut wanted.file,
            _ => return None,
        };
        let value = words.next()?.to_owned();
        if place.replace(value).is_some() {
            return None;
        }
    }
    Some(wanted)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_profile_is_of_a_while_of_a_context_and_of_an_event() {
        let parsed = |rest: &str| parse(rest).map(|held| (held.time.as_millis(), held.context, held.event, held.file));
        let text = |text: &str| Some(text.to_owned());
        assert_eq!(parsed(""), Some((5000, None, None, None)));
        assert_eq!(parsed("500ms in ledger"), Some((500, text("ledger"), None, None)));
        assert_eq!(parsed("2s during frame.update to a.svg"), Some((2000, None, text("frame.update"), text("a.svg"))));
        for wrong in ["5", "in", "2s of ledger", "in a in b"] {
            assert_eq!(parsed(wrong), None, "{wrong}");
        }
    }
}
