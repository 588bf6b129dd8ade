//! What can be looked at, once or at every stop or while the host runs.

use std::time::Duration;

use super::trail::Trail;
use super::{split_word, usage};
use crate::error::CliError;

/// What to look at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Look {
    Here,
    Stack,
    /// A scope, by the protocol's title.
    Scope(&'static str),
    /// All objects of the host, with what it says of them.
    Host,
    /// The text around the frame's line.
    Source(Text),
    /// Sources whose name has this in it, and lines that have; all sources without it.
    Sources(Option<String>),
    Contexts,
    Events,
    /// The source of a breakpoint, by its number or name.
    Break(String),
    /// What a context runs, while it does.
    Running(Option<String>),
    /// An event of the trail, by its number.
    Trail(Trail),
    /// The course of a number of the host.
    Figure(String),
    /// What is inside a watch, by its number.
    Watch(usize),
    Expression(String, Form),
}

/// Which text of a script is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Text {
    /// As it was written.
    Written,
    /// What it was compiled to.
    Generated,
    /// The one before it was changed on the spot.
    Before,
}

/// How a value is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    Plain,
    /// Rows and columns.
    Table,
    /// Fields and types.
    Shape,
    /// The whole text.
    Text,
    /// The bytes of a text.
    Bytes,
    /// Whole numbers in this base.
    Base(u32),
}

/// The words behind `as`.
pub(crate) const FORMS: [(&str, Form); 7] = [
    ("table", Form::Table),
    ("shape", Form::Shape),
    ("text", Form::Text),
    ("bytes", Form::Bytes),
    ("hex", Form::Base(16)),
    ("octal", Form::Base(8)),
    ("binary", Form::Base(2)),
];

/// An expression that is evaluated at every stop.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Watch {
    pub(crate) expression: String,
    /// The function or source that it belongs to; everywhere without it.
    pub(crate) within: Option<String>,
}

/// As it would be typed behind `watch`.
impl std::fmt::Display for Watch {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.within {
            Some(within) => write!(f, "{} in {within}", self.expression),
            None => f.write_str(&self.expression),
        }
    }
}

/// An expression that is sampled while the host runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Monitor {
    pub(crate) expression: String,
    pub(crate) every: Every,
    /// How many samples to take; no end without it.
    pub(crate) samples: Option<u64>,
}

/// How often.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Every {
    Time(Duration),
    Event { kind: String, count: u64 },
}

/// As it would be typed.
impl std::fmt::Display for Every {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Time(time) => write!(f, "every {time:?}"),
            Self::Event { kind, count: 1 } => write!(f, "on {kind}"),
            Self::Event { kind, count } => write!(f, "on {kind} every {count}"),
        }
    }
}

/// What comes after the last `word` that stands alone, and what before.
fn split_last<'t>(text: &'t str, word: &str) -> Option<(&'t str, &'t str)> {
    let (before, after) = text.rsplit_once(&format!(" {word} "))?;
    Some((before.trim(), after.trim()))
}

pub(super) fn parse_look(rest: &str) -> Look {
    match split_word(rest) {
        ("", _) => return Look::Here,
        ("sources", text) => return Look::Sources((!text.is_empty()).then(|| text.to_owned())),
        ("figure", name) if !name.is_empty() && !name.contains(char::is_whitespace) => {
            return Look::Figure(name.to_owned());
        }
        ("break", which) if !which.is_empty() => return Look::Break(which.to_owned()),
        ("running", context) if context.split_whitespace().count() < 2 => {
            return Look::Running(Some(context.to_owned()).filter(|context| !context.is_empty()));
        }
        ("trail", number) if number.parse::<u64>().is_ok() => {
            return Look::Trail(Trail::One(number.parse().unwrap_or(0)));
        }
        ("watch", number) if number.parse::<usize>().is_ok() => return Look::Watch(number.parse().unwrap_or(0)),
        _ => {}
    }
    match rest {
        "stack" => Look::Stack,
        "locals" => Look::Scope("Locals"),
        "captured" => Look::Scope("Captured"),
        "varargs" => Look::Scope("Varargs"),
        "globals" => Look::Scope("Globals"),
        "built-ins" => Look::Scope("Built-ins"),
        "event" => Look::Scope("Event"),
        "host" => Look::Host,
        "source" => Look::Source(Text::Written),
        "source --generated" | "source generated" => Look::Source(Text::Generated),
        "source --before" | "source before" => Look::Source(Text::Before),
        "contexts" => Look::Contexts,
        "events" => Look::Events,
        expression => {
            let form = split_last(expression, "as").and_then(|(before, word)| {
                let (_, form) = FORMS.iter().find(|(name, _)| *name == word)?;
                Some(Look::Expression(before.to_owned(), *form))
            });
            form.unwrap_or_else(|| Look::Expression(expression.to_owned(), Form::Plain))
        }
    }
}

/// `EXPRESSION [in FUNCTION | in FILE]`.
pub(crate) fn parse_watch(rest: &str) -> Result<Watch, CliError> {
    if rest.is_empty() {
        return Err(usage("watch"));
    }
    let bound = split_last(rest, "in").filter(|(_, within)| !within.contains(char::is_whitespace));
    Ok(match bound {
        Some((expression, within)) => Watch { expression: expression.to_owned(), within: Some(within.to_owned()) },
        None => Watch { expression: rest.to_owned(), within: None },
    })
}

/// `EXPRESSION [every TIME | on EVENT [every N]] [for N]`.
pub(super) fn parse_monitor(rest: &str) -> Result<Monitor, CliError> {
    let (mut text, mut samples) = (rest, None);
    if let Some((before, count)) = split_last(text, "for").and_then(|(before, count)| Some((before, number(count)?))) {
        (text, samples) = (before, Some(count));
    }
    let mut count = None;
    let mut every = None;
    if let Some((before, word)) = split_last(text, "every") {
        every = time(word).map(Every::Time);
        count = number(word);
        if every.is_some() || count.is_some() {
            text = before;
        }
    }
    if let (None, Some((before, kind))) = (&every, split_last(text, "on"))
        && !kind.contains(char::is_whitespace)
    {
        every = Some(Every::Event { kind: kind.to_owned(), count: count.take().unwrap_or(1) });
        text = before;
    }
    if text.is_empty() || count.is_some() {
        return Err(usage("monitor"));
    }
    let every = every.unwrap_or(Every::Time(Duration::from_secs(1)));
    Ok(Monitor { expression: text.to_owned(), every, samples })
}

fn number(text: &str) -> Option<u64> {
    text.parse().ok().filter(|number| *number > 0)
}

/// `2s`, `0.5s`, `200ms`, `1m`.
pub(super) fn time(text: &str) -> Option<Duration> {
    let end = text.find(|c: char| c.is_ascii_alphabetic())?;
    let amount: f64 = text[..end].parse().ok()?;
    let seconds = match &text[end..] {
        "ms" => amount / 1000.0,
        "s" => amount,
        "m" => amount * 60.0,
        _ => return None,
    };
    Duration::try_from_secs_f64(seconds).ok().filter(|time| !time.is_zero())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_can_be_shown_in_several_ways() {
        let shown = |text: &str| match parse_look(text) {
            Look::Expression(expression, form) => (expression, form),
            other => panic!("{other:?}"),
        };
        assert_eq!(shown("host.boats as table"), ("host.boats".to_owned(), Form::Table));
        assert_eq!(shown("flags as binary"), ("flags".to_owned(), Form::Base(2)));
        assert_eq!(shown("tariff as gold"), ("tariff as gold".to_owned(), Form::Plain));
        assert_eq!(parse_look("sources toll"), Look::Sources(Some("toll".to_owned())));
        assert_eq!(parse_look("watch 2"), Look::Watch(2));
        assert_eq!(shown("watch"), ("watch".to_owned(), Form::Plain));
    }

    #[test]
    fn watches_may_belong_somewhere() {
        for text in ["level - 1 in update", "host.locks.upper.level in lock.lua", "a .. ' in b'"] {
            assert_eq!(parse_watch(text).unwrap().to_string(), text);
        }
        assert_eq!(parse_watch("x in update").unwrap().within.as_deref(), Some("update"));
        assert_eq!(parse_watch("x").unwrap().within, None);
    }

    #[test]
    fn monitors_say_how_often() {
        let parsed = |text: &str| {
            let monitor = parse_monitor(text).unwrap();
            format!("{} | {} | {:?}", monitor.expression, monitor.every, monitor.samples)
        };
        assert_eq!(parsed("host.weather.rain every 2s"), "host.weather.rain | every 2s | None");
        assert_eq!(parsed("turns * 2 every 250ms for 5"), "turns * 2 | every 250ms | Some(5)");
        assert_eq!(parsed("event.dt on frame.update every 10"), "event.dt | on frame.update every 10 | None");
        assert_eq!(parsed("event.dt on frame.update for 3"), "event.dt | on frame.update | Some(3)");
        assert_eq!(parsed("turns"), "turns | every 1s | None");
        for wrong in ["", "turns every 10"] {
            assert!(parse_monitor(wrong).is_err(), "{wrong}");
        }
    }
}
