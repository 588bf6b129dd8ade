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
    ("say", Follows::Quoted),
    ("run", Follows::Rest),
];

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Follows {
    /// Up to the next word of these; or in quotes, unless it is a condition.
    Text,
    /// In quotes.
    Quoted,
    Number,
    Time,
    /// The word `boundary`.
    Boundary,
    Nothing,
    /// The rest of the line.
    Rest,
}

/// A part of the line: the word it begins with, none for the first, and what follows.
type Part = (Option<&'static str>, String);

/// Reads what follows `break`.
pub(crate) fn parse(rest: &str) -> Result<Break, CliError> {
    let mut parts = split(rest)?.into_iter();
    let (_, head) = parts.next().unwrap_or_default();
    let mut wanted = Break {
        site: site(&head)?,
        condition: None,
        subject: None,
        hits: None,
        until: None,
        name: None,
        is_off: false,
        action: Action::Stop,
    };
    let mut seen = Vec::new();
    for (word, text) in parts {
        let word = word.unwrap_or_default();
        let kind = if ACTIONS.contains(&word) { "say, run or ring" } else { word };
        if seen.contains(&kind) {
            return Err(CliError::Usage(format!("{kind} can be there once; {}", usage())));
        }
        seen.push(kind);
        take(&mut wanted, word, text)?;
    }
    Ok(wanted)
}

/// The words of what is to be done.
const ACTIONS: [&str; 3] = ["say", "run", "ring"];

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
fn take(wanted: &mut Break, word: &str, text: String) -> Result<(), CliError> {
    match (word, &mut wanted.site) {
        ("when", _) => wanted.condition = Some(text),
        ("for", _) => wanted.subject = Some(text),
        ("until", _) => wanted.until = Some(text),
        ("as", _) => wanted.name = Some(text),
        ("off", _) => wanted.is_off = true,
        ("after" | "every" | "once", _) => {
            let rule = wanted.hits.get_or_insert_default();
            *rule = format!("{rule} {word} {text}").trim().to_owned();
        }
        ("say", _) => wanted.action = Action::Say(text),
        ("run", _) => wanted.action = Action::Run(text),
        ("ring", _) => wanted.action = Action::Ring,
        ("at", Site::Event { at_boundary, .. }) => *at_boundary = true,
        ("over", Site::Event { over_milliseconds, .. }) => *over_milliseconds = time(&text).map(|(time, _)| time),
        ("containing", Site::Error { containing, .. }) => *containing = Some(text),
        (word, _) => {
            return Err(CliError::Usage(format!("'{word}' does not go with this kind of breakpoint; {}", usage())));
        }
    }
    Ok(())
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
fn split(text: &str) -> Result<Vec<Part>, CliError> {
    let mut parts: Vec<Part> = Vec::new();
    let (mut word, mut from) = (None, 0);
    loop {
        let after = text[from..].trim_start();
        let begins = text.len() - after.len();
        if let Some((_, follows)) = word.filter(|(_, follows)| takes_quotes(*follows)) {
            let is_said = follows == Follows::Quoted;
            if let Some((inside, length)) = quoted(after, is_said) {
                parts.push((word.map(|(name, _)| name), inside));
                let behind = after[length..].trim_start();
                if behind.is_empty() {
                    return Ok(parts);
                }
                from = text.len() - behind.len();
                let end = from + behind.find(char::is_whitespace).unwrap_or(behind.len());
                let next = word_at(text, from, end, false).ok_or_else(|| left_over(behind))?;
                (word, from) = (Some(next), end);
                continue;
            }
            if is_said {
                return Err(CliError::Usage(format!("put the text in quotes: say \"{}\"", escaped(after, true))));
            }
            if after.starts_with(QUOTES) {
                return Err(CliError::Usage(format!("the quote at the beginning of {after} is not closed")));
            }
        }
        let condition = word.is_some_and(|(name, _)| name == "when");
        let mut may_begin = word.is_some_and(|(_, follows)| follows != Follows::Text);
        let next = match word {
            Some((_, Follows::Rest)) => None,
            _ => top_words(&text[begins..]).into_iter().find_map(|(start, end)| {
                let (start, end) = (begins + start, begins + end);
                let next = if may_begin { word_at(text, start, end, condition) } else { None };
                may_begin = true;
                next.map(|next| (start, end, next))
            }),
        };
        let held = text[begins..next.map_or(text.len(), |(start, ..)| start)].trim();
        check_part(word, held)?;
        parts.push((word.map(|(name, _)| name), held.to_owned()));
        match next {
            Some((_, end, next)) => (word, from) = (Some(next), end),
            None => return Ok(parts),
        }
    }
}

/// The word that stands there, if it begins a new part.
fn word_at(text: &str, start: usize, end: usize, in_condition: bool) -> Option<(&'static str, Follows)> {
    let found = WORDS.into_iter().find(|(name, _)| *name == &text[start..end]);
    found.filter(|(_, follows)| fits(*follows, text[end..].trim_start(), in_condition))
}

/// A name, a subject or a place with one of the words in it is most likely a mistake; a condition may have any.
fn check_part(word: Option<(&str, Follows)>, text: &str) -> Result<(), CliError> {
    let may_hold_any = matches!(word, Some(("when", _) | (_, Follows::Rest)));
    let stray = words_of(text).skip(1).find(|word| WORDS.iter().any(|(name, _)| name == word));
    match (word, stray) {
        _ if may_hold_any => Ok(()),
        (Some((_, Follows::Nothing | Follows::Boundary | Follows::Number | Follows::Time)), _) => {
            let taken = match word {
                Some((_, Follows::Nothing)) => 0,
                Some((_, Follows::Time)) => time(text).map_or(0, |(_, length)| length),
                _ => text.find(char::is_whitespace).unwrap_or(text.len()),
            };
            let behind = text[taken..].trim();
            if behind.is_empty() { Ok(()) } else { Err(left_over(behind)) }
        }
        (Some((name, _)), Some(stray)) => Err(CliError::Usage(format!(
            "'{stray}' cannot stand where it does; what belongs to '{name}' goes in quotes: {name} \"{}\"",
            escaped(text, false)
        ))),
        (None, Some(stray)) if !text.starts_with("on ") => {
            Err(CliError::Usage(format!("'{stray}' cannot stand where it does; {}", usage())))
        }
        _ => Ok(()),
    }
}

fn left_over(text: &str) -> CliError {
    CliError::Usage(format!("'{text}' is left over; {}", usage()))
}

const QUOTES: [char; 2] = ['"', '\''];

fn takes_quotes(follows: Follows) -> bool {
    matches!(follows, Follows::Text | Follows::Quoted)
}

/// The text in quotes that `text` begins with, and how many bytes it takes with them. `\"` and `\\` stand for a quote and a
/// backslash. In a text that is said, what stands in braces is an expression, and taken as it is.
fn quoted(text: &str, is_said: bool) -> Option<(String, usize)> {
    let quote = text.chars().next().filter(|first| QUOTES.contains(first))?;
    let (mut inside, mut braces) = (String::new(), Braces::of(is_said));
    let mut characters = text.char_indices().skip(1).peekable();
    while let Some((at, character)) = characters.next() {
        if braces.pass(character, characters.peek().map(|(_, next)| *next)) {
            inside.push(character);
        } else if character == '\\' {
            let escaped = characters.next_if(|(_, next)| *next == quote || *next == '\\');
            inside.push(escaped.map_or('\\', |(_, next)| next));
        } else if character == quote {
            return Some((inside, at + quote.len_utf8()));
        } else {
            inside.push(character);
        }
    }
    None
}

/// A text as [`quoted`] reads it, without the quotes.
fn escaped(text: &str, is_said: bool) -> String {
    let (mut escaped, mut braces) = (String::new(), Braces::of(is_said));
    let mut characters = text.chars().peekable();
    while let Some(character) = characters.next() {
        if !braces.pass(character, characters.peek().copied()) && matches!(character, '"' | '\\') {
            escaped.push('\\');
        }
        escaped.push(character);
    }
    escaped
}

/// Where a text that is said has expressions: in braces, which nest. Two braces outside of them stand for one.
struct Braces {
    are_heeded: bool,
    depth: usize,
    /// Whether the next character is the second of two.
    is_second: bool,
}

impl Braces {
    fn of(is_said: bool) -> Self {
        Self { are_heeded: is_said, depth: 0, is_second: false }
    }

    /// Takes notice of the next character; whether it is one of an expression.
    fn pass(&mut self, character: char, next: Option<char>) -> bool {
        let was_inside = self.depth > 0;
        match character {
            _ if !self.are_heeded || std::mem::take(&mut self.is_second) => {}
            '{' | '}' if !was_inside && next == Some(character) => self.is_second = true,
            '{' => self.depth += 1,
            '}' => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
        was_inside
    }
}

/// The words that stand outside quotes and brackets.
fn words_of(text: &str) -> impl Iterator<Item = &str> {
    top_words(text).into_iter().map(|(start, end)| &text[start..end])
}

/// Whether what stands behind a word is what must follow it. Within a condition the word may be a name, which an operator
/// follows.
fn fits(follows: Follows, after: &str, in_condition: bool) -> bool {
    let next = after.split_whitespace().next().unwrap_or_default();
    let is_operator =
        in_condition && next.starts_with(['=', '~', '<', '>', '+', '-', '*', '/', '%', '.', ',', ')', ':']);
    match follows {
        Follows::Quoted if in_condition => next.starts_with(QUOTES),
        Follows::Text | Follows::Quoted | Follows::Rest => !next.is_empty() && !is_operator,
        Follows::Number => next.parse::<u64>().is_ok(),
        Follows::Time => time(after).is_some(),
        Follows::Boundary => next == "boundary",
        Follows::Nothing => next.is_empty() || WORDS.iter().any(|(name, _)| *name == next),
    }
}

/// Where the words are that stand outside quotes and brackets.
fn top_words(text: &str) -> Vec<(usize, usize)> {
    let (mut words, mut depth, mut quote, mut start) = (Vec::new(), 0_usize, None, None);
    let mut is_escaped = false;
    for (at, character) in text.char_indices().chain([(text.len(), ' ')]) {
        let was_escaped = is_escaped;
        is_escaped = quote.is_some() && character == '\\' && !was_escaped;
        match (quote, character) {
            (Some(held), _) if held == character && !was_escaped => quote = None,
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

/// Whether a text reads the same without quotes around it.
fn is_plain(text: &str) -> bool {
    let has_word = || words_of(text).any(|word| WORDS.iter().any(|(name, _)| *name == word));
    let closes = || top_words(&format!("{text} once")).last().is_some_and(|(start, _)| *start == text.len() + 1);
    !text.is_empty() && text.trim() == text && !text.starts_with(QUOTES) && closes() && !has_word()
}

/// As it is typed.
impl fmt::Display for Break {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.site)?;
        for (word, text) in [("for", &self.subject), ("until", &self.until), ("as", &self.name)] {
            match text {
                Some(text) if is_plain(text) => write!(f, " {word} {text}")?,
                Some(text) => write!(f, " {word} \"{}\"", escaped(text, false))?,
                None => {}
            }
        }
        if let Some(condition) = &self.condition {
            write!(f, " when {condition}")?;
        }
        if let Some(hits) = &self.hits {
            write!(f, " {hits}")?;
        }
        if self.is_off {
            write!(f, " off")?;
        }
        match &self.action {
            Action::Stop => Ok(()),
            Action::Say(text) => write!(f, " say \"{}\"", escaped(text, true)),
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
                containing.as_ref().map_or(Ok(()), |text| write!(f, " containing \"{}\"", escaped(text, false)))
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
    use proptest::prelude::*;

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
    fn a_text_ends_at_its_quote_and_a_statement_with_the_line() {
        let wanted = parse("at lock.lua:31 say \"{lock.level}\" once").unwrap();
        assert_eq!(wanted.action, Action::Say("{lock.level}".to_owned()));
        assert_eq!(wanted.hits.as_deref(), Some("once"));
        let wanted = parse("in fare say 'it\\'s {t['a'] or \"dry\"}' when rain every 10 as wet").unwrap();
        assert_eq!(wanted.action, Action::Say("it's {t['a'] or \"dry\"}".to_owned()));
        let wanted = parse("in fare every 10 say \"fare {length} when it rains\"").unwrap();
        assert_eq!(wanted.action, Action::Say("fare {length} when it rains".to_owned()));
        let wanted = parse("in fare run total = total + 1 when no").unwrap();
        assert_eq!(wanted.action, Action::Run("total = total + 1 when no".to_owned()));
        assert_eq!(parse("on record.after_save ring once").unwrap().action, Action::Ring);
        let wanted = parse("in fare as \"once upon \\\\ a \\\"time\\\"\" off").unwrap();
        assert_eq!((wanted.name.as_deref(), wanted.is_off), (Some("once upon \\ a \"time\""), true));
    }

    #[test]
    fn what_is_left_over_is_an_error() {
        for (text, why) in [
            ("in fare say \"wet\" and cold", "'and cold' is left over"),
            ("in fare say \"wet\" once more", "'once more' is left over"),
            ("in fare say wet once", "put the text in quotes: say \"wet once\""),
            ("in fare say \"wet", "put the text in quotes"),
            ("in fare once more", "'once' cannot stand where it does"),
            ("in fare after 3 hits", "'hits' is left over"),
            ("on frame.update over 5ms or so", "'or so' is left over"),
            ("on frame.update at boundary please", "'please' is left over"),
            ("in fare as long every boats", "as \"long every boats\""),
            ("in fare as 'long", "is not closed"),
            ("in fare when a when b", "when can be there once"),
            ("in fare once once", "once can be there once"),
            ("in fare ring say \"a\"", "say, run or ring can be there once"),
            ("on frame.update off please", "is used like this"),
        ] {
            let said = parse(text).map_err(|error| error.to_string());
            assert!(said.as_ref().is_err_and(|said| said.contains(why)), "{text}: {said:?}");
        }
    }

    /// Sentences of the grammar.
    fn sentences() -> impl Strategy<Value = Break> {
        let free = || "[a-z\"'{}\\\\ ]{0,3}(once|say|when|at|[a-z]{2})[a-z\"'{}\\\\ ]{0,6}";
        let text = move || free().prop_map(|text| text.trim().to_owned());
        let expression = prop::sample::select(vec![
            "length > 20",
            "every > 3 and after == 2",
            "once",
            "off == say",
            "name == \"fish for tea\"",
            "t[ [[when once]] ] == '\\''",
            "(function() for i = 1, 2 do end end)()",
            "not run.ring",
        ]);
        let how = prop::sample::select(vec![Change::Value, Change::Type, Change::Write, Change::Read]);
        let site = prop_oneof![
            ("x[a-z]{1,5}( y[a-z]{3})?\\.lua", 1..9999_i64).prop_map(|(path, line)| Site::Line { path, line }),
            "g[a-z]{2,6}(:[a-z]{2,6}){0,2}".prop_map(Site::Function),
            ("[a-z]{2,6}\\.[a-z_]{2,9}|\\*", any::<bool>(), prop::option::of(1..100_000_u32)).prop_map(
                |(kind, at_boundary, time)| {
                    Site::Event { kind, at_boundary, over_milliseconds: time.map(|time| f64::from(time) / 8.0) }
                }
            ),
            (any::<bool>(), prop::option::of(text())).prop_map(|(every, containing)| Site::Error { every, containing }),
            ("host\\.[a-z]{2,9}|v[a-z]{2}", how).prop_map(|(target, how)| Site::Change { target, how }),
        ];
        let hits = prop::sample::subsequence(vec!["after 3", "every 2", "once"], 0..=3).prop_shuffle();
        let piece = prop_oneof![
            "[a-z\"'\\\\ ]{0,4}(once|off)[a-z\"'\\\\ ]{0,4}",
            Just("{{".to_owned()),
            Just("}}".to_owned()),
            prop::sample::select(vec!["{length}", "{t[\"a\\\"\"]}", "{#{1, {2}} .. \" once\"}"])
                .prop_map(str::to_owned),
        ];
        let action = prop_oneof![
            Just(Action::Stop),
            prop::collection::vec(piece, 1..4).prop_map(|pieces| Action::Say(pieces.concat())),
            prop::sample::select(vec!["total = 0", "x = 'once' once = 1"])
                .prop_map(|held| Action::Run(held.to_owned())),
            Just(Action::Ring),
        ];
        let narrowed = (
            prop::option::of(text()),
            prop::option::of(text()),
            prop::option::of(text()),
            prop::option::of(expression),
        );
        (site, narrowed, hits, any::<bool>(), action).prop_map(
            |(site, (subject, until, name, condition), hits, is_off, action)| Break {
                site,
                condition: condition.map(str::to_owned),
                subject,
                hits: (!hits.is_empty()).then(|| hits.join(" ")),
                until,
                name,
                is_off,
                action,
            },
        )
    }

    proptest! {
        #[test]
        fn every_sentence_reads_as_it_prints(wanted in sentences()) {
            let printed = wanted.to_string();
            let read = parse(&printed).ok();
            prop_assert_eq!(read.as_ref(), Some(&wanted), "{}", printed);
        }
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
