//! The grammar of `break`: a site, what narrows it, and what it does.

use std::fmt;

use crate::error::CliError;

/// Where to break.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Site {
    Line { path: String, line: i64 },
    Function(String),
    Event { kind: String, at_boundary: bool, over_milliseconds: Option<f64> },
    Error { every: bool, containing: Option<String> },
    Change { target: String, how: Change },
}

/// What counts as a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Change {
    Value,
    Type,
    Write,
    Read,
}

/// What to do there.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) enum Action {
    #[default]
    Stop,
    Say(String),
    Run(String),
    Ring,
}

/// A breakpoint as asked for.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Break {
    pub(crate) site: Site,
    pub(crate) condition: Option<String>,
    pub(crate) subject: Option<String>,
    /// `after 3 every 2 once`, or a part of it.
    pub(crate) hits: Option<String>,
    pub(crate) until: Option<String>,
    pub(crate) name: Option<String>,
    pub(crate) is_off: bool,
    pub(crate) action: Action,
}

/// Words that begin a new part of the line, and what must follow each.
const WORDS: [(&str, Follows); 14] = [
    ("when", Follows::Text),
    ("for", Follows::Text),
    ("until", Follows::Text),
    ("as", Follows::Text),
    ("containing", Follows::Text),
    ("after", Follows::Number),
    ("every", Follows::Number),
    ("over", Follows::Time),
    ("at", Follows::Boundary),
    ("once", Follows::Nothing),
    ("off", Follows::Nothing),
    ("ring", Follows::Nothing),
    ("say", Follows::Rest),
    ("run", Follows::Rest),
];

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Follows {
    /// Up to the next word of these.
    Text,
    Number,
    Time,
    /// The word `boundary`.
    Boundary,
    Nothing,
    /// The rest of the line.
    Rest,
}

/// A part of the line: the word it begins with, none for the first, and what follows.
type Part<'a> = (Option<&'static str>, &'a str);

/// Reads what follows `break`.
pub(crate) fn parse(rest: &str) -> Result<Break, CliError> {
    let mut parts = split(rest).into_iter();
    let (_, head) = parts.next().unwrap_or_default();
    let mut wanted = Break {
        site: site(head)?,
        condition: None,
        subject: None,
        hits: None,
        until: None,
        name: None,
        is_off: false,
        action: Action::Stop,
    };
    for (word, text) in parts {
        take(&mut wanted, word.unwrap_or_default(), text)?;
    }
    Ok(wanted)
}

fn usage() -> CliError {
    super::usage("break")
}

fn site(head: &str) -> Result<Site, CliError> {
    let (kind, rest) = super::split_word(head);
    if rest.is_empty() {
        return Err(usage());
    }
    match kind {
        "at" => place(rest),
        "in" => Ok(Site::Function(rest.to_owned())),
        "on" => Ok(match super::split_word(rest) {
            ("error", "") => Site::Error { every: false, containing: None },
            ("every", "error") => Site::Error { every: true, containing: None },
            ("change", target) => match target.strip_prefix("of type ") {
                _ if target.is_empty() => return Err(usage()),
                Some(target) => Site::Change { target: target.trim().to_owned(), how: Change::Type },
                None => Site::Change { target: target.to_owned(), how: Change::Value },
            },
            ("write", target) if !target.is_empty() => Site::Change { target: target.to_owned(), how: Change::Write },
            ("read", target) if !target.is_empty() => Site::Change { target: target.to_owned(), how: Change::Read },
            ("event", "") => event("*"),
            (kind, "") => event(kind),
            _ => return Err(usage()),
        }),
        _ => Err(usage()),
    }
}

fn event(kind: &str) -> Site {
    Site::Event { kind: kind.to_owned(), at_boundary: false, over_milliseconds: None }
}

fn place(text: &str) -> Result<Site, CliError> {
    let place = text.rsplit_once(':').and_then(|(path, line)| Some((path, line.trim().parse::<i64>().ok()?)));
    match place {
        Some((path, line)) if line > 0 && !path.is_empty() => Ok(Site::Line { path: path.to_owned(), line }),
        _ => Err(CliError::Usage(format!("'{text}' is no place; write FILE:LINE, such as toll.lua:42, lines from 1"))),
    }
}

/// Takes a part behind the site.
fn take(wanted: &mut Break, word: &str, text: &str) -> Result<(), CliError> {
    let owned = text.to_owned();
    match (word, &mut wanted.site) {
        ("when", _) => wanted.condition = Some(owned),
        ("for", _) => wanted.subject = Some(owned),
        ("until", _) => wanted.until = Some(owned),
        ("as", _) => wanted.name = Some(owned),
        ("off", _) => wanted.is_off = true,
        ("after" | "every" | "once", _) => {
            let rule = wanted.hits.get_or_insert_default();
            *rule = format!("{rule} {word} {text}").trim().to_owned();
        }
        ("say", _) => wanted.action = Action::Say(unquoted(text).to_owned()),
        ("run", _) => wanted.action = Action::Run(owned),
        ("ring", _) => wanted.action = Action::Ring,
        ("at", Site::Event { at_boundary, .. }) => *at_boundary = true,
        ("over", Site::Event { over_milliseconds, .. }) => *over_milliseconds = time(text).map(|(time, _)| time),
        ("containing", Site::Error { containing, .. }) => *containing = Some(unquoted(text).to_owned()),
        (word, _) => {
            return Err(CliError::Usage(format!("'{word}' does not go with this kind of breakpoint; {}", usage())));
        }
    }
    Ok(())
}

/// A text without the quotes around it.
fn unquoted(text: &str) -> &str {
    let quoted = ['"', '\''].iter().find_map(|quote| text.strip_prefix(*quote)?.strip_suffix(*quote));
    quoted.unwrap_or(text)
}

/// `5ms`, `5 ms`, `2s`, `300us`: in milliseconds, and how many characters it takes.
fn time(text: &str) -> Option<(f64, usize)> {
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
    let number: f64 = text[..digits].parse().ok()?;
    let rest = text[digits..].trim_start();
    let end = rest.find(|c: char| !c.is_alphanumeric()).unwrap_or(rest.len());
    let factor = match &rest[..end] {
        "us" | "µs" => 0.001,
        "ms" => 1.0,
        "s" => 1000.0,
        _ => return None,
    };
    Some((number * factor, text.len() - rest.len() + end))
}

/// Splits the line before each word that begins a new part. Words within quotes or brackets do not count, nor does the
/// first one behind a word that needs a text, nor one that is used as a name (`when every > 3`).
fn split(text: &str) -> Vec<Part<'_>> {
    let mut parts: Vec<Part<'_>> = Vec::new();
    let (mut word, mut from, mut may_begin) = (None, 0, false);
    for (start, end) in top_words(text) {
        if start < from {
            continue;
        }
        let found = WORDS.iter().find(|(name, _)| *name == &text[start..end]);
        let after = text[end..].trim_start();
        let Some((name, follows)) =
            found.filter(|(_, follows)| may_begin && fits(*follows, after, word == Some("when")))
        else {
            may_begin = true;
            continue;
        };
        parts.push((word, text[from..start].trim()));
        (word, from) = (Some(*name), end);
        may_begin = !matches!(follows, Follows::Text);
        if *follows == Follows::Rest {
            break;
        }
    }
    parts.push((word, text[from..].trim()));
    parts
}

/// Whether what stands behind a word is what must follow it. Within a condition the word may be a name, which an operator
/// follows.
fn fits(follows: Follows, after: &str, in_condition: bool) -> bool {
    let next = after.split_whitespace().next().unwrap_or_default();
    let is_operator =
        in_condition && next.starts_with(['=', '~', '<', '>', '+', '-', '*', '/', '%', '.', ',', ')', ':']);
    match follows {
        Follows::Text | Follows::Rest => !next.is_empty() && !is_operator,
        Follows::Number => next.parse::<u64>().is_ok(),
        Follows::Time => time(after).is_some(),
        Follows::Boundary => next == "boundary",
        Follows::Nothing => next.is_empty() || WORDS.iter().any(|(name, _)| *name == next),
    }
}

/// Where the words are that stand outside quotes and brackets.
fn top_words(text: &str) -> Vec<(usize, usize)> {
    let (mut words, mut depth, mut quote, mut start) = (Vec::new(), 0_usize, None, None);
    for (at, character) in text.char_indices().chain([(text.len(), ' ')]) {
        match (quote, character) {
            (Some(held), _) if held == character => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(character),
            (None, '(' | '[' | '{') => depth += 1,
            (None, ')' | ']' | '}') => depth = depth.saturating_sub(1),
            (None, c) if c.is_whitespace() && depth == 0 => {
                words.extend(start.take().map(|start| (start, at)));
                continue;
            }
            _ => {}
        }
        if start.is_none() && !(character.is_whitespace() && at == text.len()) {
            start = Some(at);
        }
    }
    words
}

/// As it is typed.
impl fmt::Display for Break {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.site)?;
        for (word, text) in
            [("for", &self.subject), ("until", &self.until), ("as", &self.name), ("when", &self.condition)]
        {
            if let Some(text) = text {
                write!(f, " {word} {text}")?;
            }
        }
        if let Some(hits) = &self.hits {
            write!(f, " {hits}")?;
        }
        if self.is_off {
            write!(f, " off")?;
        }
        match &self.action {
            Action::Stop => Ok(()),
            Action::Say(text) => write!(f, " say \"{text}\""),
            Action::Run(statement) => write!(f, " run {statement}"),
            Action::Ring => write!(f, " ring"),
        }
    }
}

impl fmt::Display for Site {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Line { path, line } => write!(f, "at {path}:{line}"),
            Self::Function(name) => write!(f, "in {name}"),
            Self::Event { kind, at_boundary, over_milliseconds } => {
                write!(f, "on {}", if kind == "*" { "event" } else { kind })?;
                if *at_boundary {
                    write!(f, " at boundary")?;
                }
                over_milliseconds.map_or(Ok(()), |time| write!(f, " over {time}ms"))
            }
            Self::Error { every, containing } => {
                write!(f, "on {}error", if *every { "every " } else { "" })?;
                containing.as_ref().map_or(Ok(()), |text| write!(f, " containing \"{text}\""))
            }
            Self::Change { target, how } => {
                let how = match how {
                    Change::Value => "change",
                    Change::Type => "change of type",
                    Change::Write => "write",
                    Change::Read => "read",
                };
                write!(f, "on {how} {target}")
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn same(text: &str) -> Break {
        let wanted = parse(text).unwrap();
        assert_eq!(wanted.to_string(), text);
        assert_eq!(parse(&wanted.to_string()).unwrap(), wanted);
        wanted
    }

    #[test]
    fn every_site_reads_as_it_prints() {
        for text in [
            "at toll.lua:42",
            "in toll.lua:boat:length",
            "on frame.update",
            "on event at boundary",
            "on frame.update over 5ms",
            "on error",
            "on every error containing \"gate is stuck\"",
            "on change host.locks.upper.level",
            "on change of type total",
            "on write tariff.base",
            "on read total",
        ] {
            same(text);
        }
        let slow = parse("on frame.update over 2 s once").unwrap();
        assert_eq!(slow.to_string(), "on frame.update over 2000ms once");
    }

    #[test]
    fn everything_that_narrows_may_stand_in_any_order() {
        let text =
            "at toll.lua:42 for passage 118 until morning as long boats when length > 20 after 3 every 2 once off";
        let wanted = same(text);
        assert_eq!(wanted.hits.as_deref(), Some("after 3 every 2 once"));
        assert_eq!((wanted.name.as_deref(), wanted.subject.as_deref()), (Some("long boats"), Some("passage 118")));
        let other = "at toll.lua:42 every 2 when length > 20 off for passage 118 as long boats until morning";
        let other = parse(other).unwrap();
        assert_eq!((other.condition, other.is_off), (wanted.condition, true));
    }

    #[test]
    fn actions_take_the_rest_of_the_line() {
        let wanted = parse("in fare every 10 say \"fare {length} when it rains\"").unwrap();
        assert_eq!(wanted.action, Action::Say("fare {length} when it rains".to_owned()));
        let wanted = parse("in fare run total = total + 1 when no").unwrap();
        assert_eq!(wanted.action, Action::Run("total = total + 1 when no".to_owned()));
        assert_eq!(parse("on record.after_save ring").unwrap().action, Action::Ring);
    }

    #[test]
    fn words_in_quotes_brackets_and_conditions_do_not_count() {
        let condition = |text: &str| parse(text).unwrap().condition.unwrap();
        assert_eq!(condition("in f when name == \"fish for tea\""), "name == \"fish for tea\"");
        assert_eq!(
            condition("in f when (function() for i = 1, 2 do end end)()"),
            "(function() for i = 1, 2 do end end)()"
        );
        assert_eq!(condition("in f when every > 3 and after == 2"), "every > 3 and after == 2");
        assert_eq!(condition("in f when once"), "once");
        assert_eq!(condition("in f when off == say"), "off == say");
    }

    #[test]
    fn what_does_not_fit_says_so() {
        let why = |text: &str| parse(text).unwrap_err().to_string();
        assert!(why("in fare over 5ms").contains("'over' does not go with this kind of breakpoint"));
        assert!(why("on frame.update containing x").contains("'containing' does not go"));
        assert!(why("at toll.lua").contains("write FILE:LINE"));
        assert!(why("on change").contains("is used like this"));
        assert!(why("on").contains("is used like this"));
    }
}
