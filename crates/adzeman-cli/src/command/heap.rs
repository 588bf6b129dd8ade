//! How many values there are, and what holds one.

use super::split_word;

/// Whose values are counted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Census {
    /// By name; the context being looked at, or the one of the earlier census, without it.
    pub(crate) context: Option<String>,
    /// The number of an earlier census.
    pub(crate) since: Option<u64>,
}

/// Whose holders are looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct HoldersOf {
    pub(crate) expression: String,
    /// Where they are drawn.
    pub(crate) file: Option<String>,
}

/// `[CONTEXT] [since N]`.
pub(super) fn parse_census(rest: &str) -> Option<Census> {
    let (before, since) =
        match rest.strip_prefix("since ").map(|number| ("", number)).or_else(|| rest.split_once(" since ")) {
            Some((before, number)) => (before, Some(number.trim().parse().ok()?)),
            None => (rest, None),
        };
    let context = Some(before.trim().to_owned()).filter(|context| !context.is_empty());
    (context.as_deref() != Some("since")).then_some(Census { context, since })
}

/// `of EXPRESSION [to FILE.dot]`.
pub(super) fn parse_holders(rest: &str) -> Option<HoldersOf> {
    let (word, behind) = split_word(rest);
    let expression = if word == "of" { behind } else { return None };
    let split = expression.rsplit_once(" to ").filter(|(_, file)| file.trim().ends_with(".dot"));
    let (expression, file) = split.map_or((expression, None), |(before, file)| (before, Some(file.trim().to_owned())));
    let expression = expression.trim().to_owned();
    (!expression.is_empty()).then_some(HoldersOf { expression, file })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_census_is_of_a_context_and_since_another_one() {
        let parsed = |rest: &str| parse_census(rest).map(|census| (census.context.unwrap_or_default(), census.since));
        assert_eq!(parsed(""), Some((String::new(), None)));
        assert_eq!(parsed("lock.upper since 2"), Some(("lock.upper".to_owned(), Some(2))));
        assert_eq!(parsed("since 2"), Some((String::new(), Some(2))));
        assert_eq!(parsed("worker (2)"), Some(("worker (2)".to_owned(), None)));
        assert_eq!((parsed("since"), parsed("since then")), (None, None));
    }

    #[test]
    fn holders_are_of_any_expression() {
        let parsed = |rest: &str| parse_holders(rest).map(|held| (held.expression, held.file));
        assert_eq!(parsed("of boats[3]"), Some(("boats[3]".to_owned(), None)));
        assert_eq!(parsed("of a to b.dot"), Some(("a".to_owned(), Some("b.dot".to_owned()))));
        assert_eq!(parsed("of to_go to b"), Some(("to_go to b".to_owned(), None)));
        assert_eq!((parsed("boats"), parsed("of"), parsed("")), (None, None, None));
    }
}
