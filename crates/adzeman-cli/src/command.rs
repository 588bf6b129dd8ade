//! The grammar of the prompt and of batch files: few verbs, plain words.

use crate::error::CliError;

/// How to go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Go {
    Freely,
    Over,
    Into,
    Out,
}

/// Where to break.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Site {
    Line { path: String, line: i64 },
    Function(String),
    Event(String),
}

/// A breakpoint as asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Break {
    pub(crate) site: Site,
    pub(crate) condition: Option<String>,
    pub(crate) subject: Option<String>,
}

/// What to look at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Look {
    Here,
    Stack,
    /// A scope, by the protocol's title.
    Scope(&'static str),
    Source,
    Sources,
    Contexts,
    Events,
    Expression(String),
}

/// A line, understood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Command {
    Nothing,
    Break(Break),
    Breaks,
    /// `None` for all.
    Remove(Option<usize>),
    Go(Go),
    Look(Look),
    Let {
        target: String,
        value: String,
    },
    UseFrame(usize),
    UseContext(String),
    Pause,
    Leave,
    Help,
}

/// A verb, how it is used, and what it does: the source of `help`.
pub(crate) const VERBS: [(&str, &str, &str); 13] = [
    ("break", "break at FILE:LINE | in FUNCTION | on EVENT  [when CONDITION] [for SUBJECT]", "stop there"),
    ("breaks", "breaks", "what is set, where it bound, how often it was hit"),
    ("remove", "remove NUMBER | all", "remove a breakpoint"),
    ("go", "go [over | into | out]", "run to the next stop, or make a step"),
    ("over", "over", "to the next line of this function"),
    ("into", "into", "to the next line, also in a function that is called"),
    ("out", "out", "to the next line of the caller"),
    (
        "look",
        "look [stack | locals | captured | varargs | globals | event | host | source | sources | contexts | events | EXPRESSION]",
        "look at something; alone, at the stop",
    ),
    ("let", "let TARGET = EXPRESSION", "change a variable, a field or part of the host"),
    ("use", "use frame NUMBER | context NAME", "look from another frame or into another context"),
    ("pause", "pause", "stop at the next line that runs"),
    ("leave", "leave", "detach; the host runs on"),
    ("help", "help", "this list"),
];

fn usage(verb: &str) -> CliError {
    let form = VERBS.iter().find(|(name, ..)| *name == verb).map_or("help", |(_, form, _)| form);
    CliError::Usage(format!("'{verb}' is used like this: {form}"))
}

/// Reads a line. An empty one, or one that begins with `#`, is nothing.
pub(crate) fn parse(line: &str) -> Result<Command, CliError> {
    let line = line.trim();
    if line.is_empty() || line.starts_with('#') {
        return Ok(Command::Nothing);
    }
    let (word, rest) = split_word(line);
    let verb = full_verb(word)?;
    match verb {
        "break" => parse_break(rest).map(Command::Break),
        "breaks" => Ok(Command::Breaks),
        "remove" => parse_remove(rest),
        "go" => parse_go(rest).map(Command::Go),
        "over" => Ok(Command::Go(Go::Over)),
        "into" => Ok(Command::Go(Go::Into)),
        "out" => Ok(Command::Go(Go::Out)),
        "look" => Ok(Command::Look(parse_look(rest))),
        "let" => parse_let(rest),
        "use" => parse_use(rest),
        "pause" => Ok(Command::Pause),
        "leave" => Ok(Command::Leave),
        _ => Ok(Command::Help),
    }
}

fn split_word(text: &str) -> (&str, &str) {
    let (word, rest) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
    (word, rest.trim())
}

fn full_verb(word: &str) -> Result<&'static str, CliError> {
    let names = VERBS.iter().map(|(name, ..)| *name);
    if let Some(exact) = names.clone().find(|name| *name == word) {
        return Ok(exact);
    }
    let candidates: Vec<_> = names.filter(|name| name.starts_with(word)).collect();
    // `bre` means `break`: what it leaves open is only whether a longer command that begins the same is meant.
    let shortest = candidates.iter().copied().find(|short| candidates.iter().all(|name| name.starts_with(short)));
    match (shortest, &candidates[..]) {
        (Some(verb), _) => Ok(verb),
        (None, []) => Err(CliError::Usage(format!(
            "there is no command '{word}'; 'help' lists them, and 'look {word}' looks at a value of that name"
        ))),
        _ => Err(CliError::Usage(format!("'{word}' could be {}", candidates.join(" or ")))),
    }
}

fn parse_break(rest: &str) -> Result<Break, CliError> {
    let (kind, rest) = split_word(rest);
    let (head, condition, subject) = split_qualifiers(rest);
    if head.is_empty() {
        return Err(usage("break"));
    }
    let site = match kind {
        "at" => parse_place(head)?,
        "in" => Site::Function(head.to_owned()),
        "on" => Site::Event(head.to_owned()),
        _ => return Err(usage("break")),
    };
    Ok(Break { site, condition, subject })
}

/// Splits `SITE when CONDITION for SUBJECT`; the subject may also stand before the condition. A ` for ` within the
/// condition does not count unless what follows is the end of the line's last words, so a condition that holds the word is
/// put in parentheses.
fn split_qualifiers(rest: &str) -> (&str, Option<String>, Option<String>) {
    let (before_when, condition) = split_at_word(rest, "when");
    let (head, subject) = split_at_word(before_when, "for");
    match (condition, subject) {
        (Some(condition), None) => {
            let (condition, subject) = match condition.rsplit_once(" for ") {
                Some((condition, subject)) if !subject.contains([')', '"', '\'']) => (condition, Some(subject)),
                _ => (condition, None),
            };
            (head, Some(condition.trim().to_owned()), subject.map(|subject| subject.trim().to_owned()))
        }
        (condition, subject) => (head, condition.map(str::to_owned), subject.map(str::to_owned)),
    }
}

fn split_at_word<'a>(text: &'a str, word: &str) -> (&'a str, Option<&'a str>) {
    match text.split_once(&format!(" {word} ")) {
        Some((before, after)) => (before.trim(), Some(after.trim())),
        None => (text.trim(), None),
    }
}

fn parse_place(text: &str) -> Result<Site, CliError> {
    let place = text.rsplit_once(':').and_then(|(path, line)| Some((path, line.trim().parse::<i64>().ok()?)));
    match place {
        Some((path, line)) if line > 0 && !path.is_empty() => Ok(Site::Line { path: path.to_owned(), line }),
        _ => Err(CliError::Usage(format!("'{text}' is no place; write FILE:LINE, such as toll.lua:42, lines from 1"))),
    }
}

fn parse_remove(rest: &str) -> Result<Command, CliError> {
    match rest {
        "all" => Ok(Command::Remove(None)),
        number => number.parse().map(|number| Command::Remove(Some(number))).map_err(|_| usage("remove")),
    }
}

fn parse_go(rest: &str) -> Result<Go, CliError> {
    match rest {
        "" => Ok(Go::Freely),
        "over" => Ok(Go::Over),
        "into" => Ok(Go::Into),
        "out" => Ok(Go::Out),
        _ => Err(usage("go")),
    }
}

fn parse_look(rest: &str) -> Look {
    match rest {
        "" => Look::Here,
        "stack" => Look::Stack,
        "locals" => Look::Scope("Locals"),
        "captured" => Look::Scope("Captured"),
        "varargs" => Look::Scope("Varargs"),
        "globals" => Look::Scope("Globals"),
        "event" => Look::Scope("Event"),
        "host" => Look::Scope("Host"),
        "source" => Look::Source,
        "sources" => Look::Sources,
        "contexts" => Look::Contexts,
        "events" => Look::Events,
        expression => Look::Expression(expression.to_owned()),
    }
}

fn parse_let(rest: &str) -> Result<Command, CliError> {
    let bytes = rest.as_bytes();
    let is_assignment = |at: &usize| {
        bytes[*at] == b'=' && bytes.get(at + 1) != Some(&b'=') && (*at == 0 || !b"=~<>".contains(&bytes[at - 1]))
    };
    let at = (0..bytes.len()).find(is_assignment).ok_or_else(|| usage("let"))?;
    let (target, value) = (rest[..at].trim(), rest[at + 1..].trim());
    if target.is_empty() || value.is_empty() {
        return Err(usage("let"));
    }
    Ok(Command::Let { target: target.to_owned(), value: value.to_owned() })
}

fn parse_use(rest: &str) -> Result<Command, CliError> {
    match split_word(rest) {
        ("frame", number) => number.parse().map(Command::UseFrame).map_err(|_| usage("use")),
        ("context", name) if !name.is_empty() => Ok(Command::UseContext(name.to_owned())),
        _ => Err(usage("use")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn breaks(line: &str) -> (Site, Option<String>, Option<String>) {
        match parse(line).unwrap() {
            Command::Break(wanted) => (wanted.site, wanted.condition, wanted.subject),
            other => panic!("{other:?}"),
        }
    }

    fn text(value: &str) -> Option<String> {
        Some(value.to_owned())
    }

    #[test]
    fn sites_and_qualifiers() {
        let line = Site::Line { path: "toll.lua".to_owned(), line: 42 };
        assert_eq!(breaks("break at toll.lua:42 when length > 20"), (line.clone(), text("length > 20"), None));
        assert_eq!(breaks("brea at toll.lua:42"), (line, None, None));
        let event = Site::Event("record.before_save".to_owned());
        let both = (event, text("event.record.kind == \"passage\""), text("passage 118"));
        assert_eq!(breaks("break on record.before_save when event.record.kind == \"passage\" for passage 118"), both);
        assert_eq!(breaks("break on record.before_save for passage 118 when event.record.kind == \"passage\""), both);
        assert_eq!(breaks("break in fare").0, Site::Function("fare".to_owned()));
    }

    #[test]
    fn a_condition_may_hold_the_word_for_in_a_text() {
        assert_eq!(breaks("break on x when name == \"fish for tea\"").1, text("name == \"fish for tea\""));
    }

    #[test]
    fn prefixes_are_enough_when_they_are_clear() {
        assert_eq!(parse("g").unwrap(), Command::Go(Go::Freely));
        assert_eq!(parse("loo stack").unwrap(), Command::Look(Look::Stack));
        assert_eq!(parse("l").unwrap_err().to_string(), "'l' could be look or let or leave");
        assert!(parse("length").unwrap_err().to_string().contains("'look length'"));
    }

    #[test]
    fn let_splits_at_the_assignment() {
        let command = parse("let host.locks.upper.gate = a == b").unwrap();
        assert_eq!(command, Command::Let { target: "host.locks.upper.gate".to_owned(), value: "a == b".to_owned() });
        assert!(parse("let a == b").is_err());
        assert!(parse("let x =").is_err());
    }

    #[test]
    fn mistakes_say_how_it_is_done() {
        for line in ["break", "break at toll.lua", "break at toll.lua:0", "remove x", "go away", "use", "use frame x"] {
            assert!(matches!(parse(line), Err(CliError::Usage(_))), "{line}");
        }
    }
}
