//! The grammar of the prompt and of batch files: few verbs, plain words.

mod again;
mod breaks;
mod heap;
mod looks;
mod profile;
mod trail;
mod verbs;

use std::time::Duration;

use crate::error::CliError;

pub(crate) use again::Again;
pub(crate) use breaks::{Action, Break, Change, Site};
pub(crate) use heap::{Census, HoldersOf};
pub(crate) use looks::{Every, FORMS, Form, Look, Monitor, Text, Watch, parse_watch};
pub(crate) use profile::Profile;
pub(crate) use trail::Trail;
use verbs::ELSEWHERE;
pub(crate) use verbs::{TOPICS, VERBS};

/// How to go on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Go {
    Freely,
    Over,
    Into,
    Out,
    /// To a line, of the source being looked at or of another one.
    Line {
        path: Option<String>,
        line: i64,
    },
    /// Until the event has come this often; `*` for any event.
    Event {
        kind: String,
        count: u64,
    },
    /// At another line of the innermost function, without what lies between.
    From(i64),
    /// Through the same event once more.
    Again,
}

/// Which breakpoints are meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Pick {
    All,
    /// By number or name.
    One(String),
}

/// How much evaluations may take.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Limit {
    Show,
    /// Time for what is asked at a stop.
    Asked(Duration),
    /// Time for conditions, log messages, statements and monitors.
    Conditions(Duration),
    /// Bytes.
    Memory(u64),
}

/// A line, understood.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Command {
    Nothing,
    Break(Box<Break>),
    Breaks,
    /// Arms or disarms all breakpoints.
    Arm(bool),
    Enable(Pick, bool),
    Remove(Pick),
    /// Puts breakpoints into the project file.
    Keep(Pick),
    /// Puts the watches there.
    KeepWatches,
    Watch(Watch),
    Watches,
    /// Forgets a watch, or all.
    RemoveWatch(Option<usize>),
    Monitor(Monitor),
    /// Samples all monitors again.
    Monitors,
    /// Forgets a monitor, or all.
    RemoveMonitor(Option<usize>),
    /// The next page of what was listed last.
    More,
    /// Sources that `into` passes over; `None` to list them.
    Library(Option<Vec<String>>),
    Go(Go),
    Run(String),
    Look(Look),
    Let {
        target: String,
        value: String,
        for_now: bool,
    },
    Reload(Reload),
    /// Reload each file that is saved, or no longer.
    ReloadOnSave(bool),
    /// A file, and a line in it; where it is looked at otherwise.
    Edit(Option<(String, Option<i64>)>),
    /// What was changed.
    Changes,
    Undo {
        which: Undo,
        /// Also what is another value by now.
        anyway: bool,
    },
    Trail(Trail),
    Census(Census),
    Holders(HoldersOf),
    Plan(Again),
    Profile(Profile),
    /// Numbers of the host; of none in particular.
    Figures(Again),
    UseFrame(usize),
    UseContext(String),
    Pause,
    Limit(Limit),
    /// Takes control from whoever has it.
    TakeOver,
    /// Ends the host that was started for this session, and starts it again.
    Restart,
    /// Ends it.
    End,
    Leave,
    Help(Option<&'static str>),
}

impl Command {
    /// Whether it only says what is wanted once scripts run: those that a host holds need not run for it.
    pub(crate) const fn only_prepares(&self) -> bool {
        matches!(
            self,
            Self::Nothing
                | Self::Break(_)
                | Self::Breaks
                | Self::Arm(_)
                | Self::Enable(..)
                | Self::Remove(_)
                | Self::Keep(_)
                | Self::Library(_)
                | Self::Limit(_)
        )
    }
}

/// Which script gets the text of its file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Reload {
    pub(crate) path: String,
    /// Also where some function cannot take its new body.
    pub(crate) partly: bool,
    /// The text that was loaded, and not that of the file.
    pub(crate) original: bool,
    /// Run what stands outside of all functions, too.
    pub(crate) run: bool,
}

/// Which change is undone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Undo {
    Last,
    All,
    Number(u64),
}

fn usage(verb: &str) -> CliError {
    let form = VERBS.iter().find(|held| held.name == verb).map_or("help", |held| held.form);
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
        "break" => breaks::parse(rest).map(|wanted| Command::Break(Box::new(wanted))),
        "breaks" => match rest {
            "" => Ok(Command::Breaks),
            "on" => Ok(Command::Arm(true)),
            "off" => Ok(Command::Arm(false)),
            _ => Err(usage("breaks")),
        },
        "enable" => pick(verb, rest).map(|which| Command::Enable(which, true)),
        "disable" => pick(verb, rest).map(|which| Command::Enable(which, false)),
        "remove" => match split_word(rest) {
            ("watch", number) if !number.is_empty() => numbered(verb, number).map(Command::RemoveWatch),
            ("monitor", number) if !number.is_empty() => numbered(verb, number).map(Command::RemoveMonitor),
            _ => pick(verb, rest).map(Command::Remove),
        },
        "keep" if rest == "watches" => Ok(Command::KeepWatches),
        "keep" => pick(verb, rest).map(Command::Keep),
        "watch" => parse_watch(rest).map(Command::Watch),
        "watches" => Ok(Command::Watches),
        "monitor" => looks::parse_monitor(rest).map(Command::Monitor),
        "monitors" => Ok(Command::Monitors),
        "more" => Ok(Command::More),
        "library" => Ok(Command::Library(match rest {
            "" => None,
            "none" => Some(Vec::new()),
            paths => Some(paths.split_whitespace().map(str::to_owned).collect()),
        })),
        "run" if rest.is_empty() => Err(usage("run")),
        "run" => Ok(Command::Run(rest.to_owned())),
        "go" => parse_go(rest).map(Command::Go),
        "over" => Ok(Command::Go(Go::Over)),
        "into" => Ok(Command::Go(Go::Into)),
        "out" => Ok(Command::Go(Go::Out)),
        "look" => Ok(Command::Look(looks::parse_look(rest))),
        "let" => parse_let(rest),
        "reload" if rest == "on save" => Ok(Command::ReloadOnSave(true)),
        "reload" if rest == "on save off" => Ok(Command::ReloadOnSave(false)),
        "reload" => parse_reload(rest).map(Command::Reload).ok_or_else(|| usage("reload")),
        "edit" => Ok(Command::Edit(parse_place(rest))),
        "changes" => Ok(Command::Changes),
        "undo" => parse_undo(rest).ok_or_else(|| usage("undo")),
        "trail" => trail::parse(rest).map(Command::Trail).ok_or_else(|| usage("trail")),
        "census" => heap::parse_census(rest).map(Command::Census).ok_or_else(|| usage("census")),
        "holders" => heap::parse_holders(rest).map(Command::Holders).ok_or_else(|| usage("holders")),
        "figures" => {
            let wanted = again::parse(rest).filter(|wanted| wanted.part.is_none());
            wanted.map(Command::Figures).ok_or_else(|| usage("figures"))
        }
        "profile" => profile::parse(rest).map(Command::Profile).ok_or_else(|| usage("profile")),
        "plan" => again::parse(rest).map(Command::Plan).ok_or_else(|| usage("plan")),
        "use" => parse_use(rest),
        "limit" => parse_limit(rest).ok_or_else(|| usage("limit")).map(Command::Limit),
        "pause" => Ok(Command::Pause),
        "restart" => Ok(Command::Restart),
        "end" => Ok(Command::End),
        "take" if rest == "over" => Ok(Command::TakeOver),
        "take" => Err(usage("take")),
        "leave" => Ok(Command::Leave),
        _ if rest.is_empty() => Ok(Command::Help(None)),
        _ => full_verb(rest).map(|verb| Command::Help(Some(verb))),
    }
}

fn split_word(text: &str) -> (&str, &str) {
    let (word, rest) = text.split_once(char::is_whitespace).unwrap_or((text, ""));
    (word, rest.trim())
}

fn full_verb(word: &str) -> Result<&'static str, CliError> {
    let names = VERBS.iter().map(|verb| verb.name);
    if let Some(exact) = names.clone().find(|name| *name == word) {
        return Ok(exact);
    }
    let candidates: Vec<_> = names.filter(|name| name.starts_with(word)).collect();
    // `bre` means `break`: what it leaves open is only whether a longer command that begins the same is meant.
    let shortest = candidates.iter().copied().find(|short| candidates.iter().all(|name| name.starts_with(short)));
    match (shortest, &candidates[..]) {
        (Some(verb), _) => Ok(verb),
        (None, []) => Err(CliError::Usage(match ELSEWHERE.iter().find(|(name, _)| *name == word) {
            Some((_, here)) => format!("there is no command '{word}': {here}; 'help' lists them"),
            None => {
                format!(
                    "there is no command '{word}'; 'help' lists them, and 'look {word}' looks at a value of that name"
                )
            }
        })),
        _ => Err(CliError::Usage(format!("'{word}' could be {}", candidates.join(" or ")))),
    }
}

fn pick(verb: &str, rest: &str) -> Result<Pick, CliError> {
    match rest {
        "" => Err(usage(verb)),
        "all" => Ok(Pick::All),
        one => Ok(Pick::One(one.to_owned())),
    }
}

/// A number, or `None` for all.
fn numbered(verb: &str, rest: &str) -> Result<Option<usize>, CliError> {
    match rest {
        "all" => Ok(None),
        number => number.parse().map(Some).map_err(|_| usage(verb)),
    }
}

fn parse_go(rest: &str) -> Result<Go, CliError> {
    let (first, more) = split_word(rest);
    let event = |kind: &str, count| Go::Event { kind: kind.to_owned(), count };
    match (first, more) {
        ("", _) => Ok(Go::Freely),
        ("over", "") => Ok(Go::Over),
        ("into", "") => Ok(Go::Into),
        ("out", "") => Ok(Go::Out),
        ("again", "") => Ok(Go::Again),
        ("next", "") => Ok(event("*", 1)),
        ("next", kind) => Ok(event(kind, 1)),
        ("line", place) => parse_line(place),
        ("from", place) => {
            let line = place.strip_prefix("line").unwrap_or(place).trim().parse().ok().filter(|line| *line > 0);
            line.map(Go::From).ok_or_else(|| usage("go"))
        }
        (count, kind) if !kind.is_empty() => {
            let count = count.parse::<u64>().ok().filter(|count| *count > 0).ok_or_else(|| usage("go"))?;
            Ok(event(kind, count))
        }
        _ => Err(usage("go")),
    }
}

/// `60`, or `60 in toll.lua`.
fn parse_line(place: &str) -> Result<Go, CliError> {
    let (line, path) = match place.split_once(" in ") {
        Some((line, path)) => (line, Some(path.trim().to_owned())),
        None => (place, None),
    };
    let line = line.trim().parse::<i64>().ok().filter(|line| *line > 0).ok_or_else(|| usage("go"))?;
    Ok(Go::Line { path, line })
}

/// Whether a text reads as what `let` takes.
pub(crate) fn is_assignment(text: &str) -> bool {
    parse_let(text).is_ok()
}

fn parse_let(rest: &str) -> Result<Command, CliError> {
    let bytes = rest.as_bytes();
    let is_assignment = |at: &usize| {
        bytes[*at] == b'=' && bytes.get(at + 1) != Some(&b'=') && (*at == 0 || !b"=~<>".contains(&bytes[at - 1]))
    };
    let at = (0..bytes.len()).find(is_assignment).ok_or_else(|| usage("let"))?;
    let (target, value) = (rest[..at].trim(), rest[at + 1..].trim());
    let without = value.strip_suffix("now").and_then(|value| value.trim_end().strip_suffix(" for"));
    let (value, for_now) = without.map_or((value, false), |value| (value.trim_end(), true));
    if target.is_empty() || value.is_empty() {
        return Err(usage("let"));
    }
    Ok(Command::Let { target: target.to_owned(), value: value.to_owned(), for_now })
}

fn parse_reload(rest: &str) -> Option<Reload> {
    let (mut path, mut partly, mut original, mut run) = (None, false, false, false);
    for word in rest.split_whitespace() {
        match word {
            "--partly" => partly = true,
            "--original" => original = true,
            "--run" => run = true,
            word if word.starts_with("--") || path.is_some() => return None,
            word => path = Some(word.to_owned()),
        }
    }
    Some(Reload { path: path?, partly, original, run })
}

/// `FILE`, or `FILE:LINE`.
fn parse_place(rest: &str) -> Option<(String, Option<i64>)> {
    let rest = Some(rest).filter(|rest| !rest.is_empty())?;
    let split = rest.rsplit_once(':').and_then(|(path, line)| Some((path.to_owned(), Some(line.parse().ok()?))));
    Some(split.unwrap_or_else(|| (rest.to_owned(), None)))
}

fn parse_undo(rest: &str) -> Option<Command> {
    let (which, anyway) = match rest.strip_suffix("anyway") {
        Some(which) => (which.trim(), true),
        None => (rest, false),
    };
    let which = match which {
        "" => Undo::Last,
        "all" => Undo::All,
        number => Undo::Number(number.parse().ok()?),
    };
    Some(Command::Undo { which, anyway })
}

fn parse_limit(rest: &str) -> Option<Limit> {
    match split_word(rest) {
        ("", _) => Some(Limit::Show),
        ("conditions", text) => looks::time(text).map(Limit::Conditions),
        ("memory", text) => size(text).map(Limit::Memory),
        (text, "") => looks::time(text).map(Limit::Asked),
        _ => None,
    }
}

/// `512M`, `64K`, `2G`, in bytes; the letters count by 1,024.
fn size(text: &str) -> Option<u64> {
    let end = text.find(|c: char| c.is_ascii_alphabetic())?;
    let factor = match text[end..].trim_end_matches("iB").trim_end_matches('B') {
        "K" | "k" => 1 << 10,
        "M" | "m" => 1 << 20,
        "G" | "g" => 1 << 30,
        _ => return None,
    };
    text[..end].trim().parse::<u64>().ok()?.checked_mul(factor).filter(|bytes| *bytes > 0)
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

    #[test]
    fn prefixes_are_enough_when_they_are_clear() {
        assert_eq!(parse("g").unwrap(), Command::Go(Go::Freely));
        assert_eq!(parse("loo stack").unwrap(), Command::Look(Look::Stack));
        assert_eq!(parse("l").unwrap_err().to_string(), "'l' could be look or let or library or limit or leave");
        assert!(matches!(parse("brea at toll.lua:42"), Ok(Command::Break(_))));
        assert!(parse("length").unwrap_err().to_string().contains("'look length'"));
    }

    #[test]
    fn help_is_about_a_command_and_its_examples_are_understood() {
        assert_eq!(parse("help bre").unwrap(), Command::Help(Some("break")));
        assert!(parse("help nothing").is_err());
        for verb in &VERBS {
            for example in verb.examples {
                assert!(parse(example).is_ok(), "{example}");
            }
        }
    }

    #[test]
    fn words_from_elsewhere_are_answered_with_what_does_it_here() {
        for (word, here) in ELSEWHERE {
            let why = parse(&format!("{word} x")).unwrap_err().to_string();
            assert!(why.contains(here), "{why}");
            let named =
                here.split('\'').skip(1).step_by(2).map(|command| command.split(' ').next().unwrap_or_default());
            for command in named {
                assert!(VERBS.iter().any(|verb| verb.name == command), "{command}");
            }
        }
    }

    #[test]
    fn ways_to_go_on() {
        let go = |line: &str| match parse(line).unwrap() {
            Command::Go(go) => go,
            other => panic!("{other:?}"),
        };
        assert_eq!(go("go line 60 in toll.lua"), Go::Line { path: Some("toll.lua".to_owned()), line: 60 });
        assert_eq!(go("go 10 frame.update"), Go::Event { kind: "frame.update".to_owned(), count: 10 });
        assert_eq!(go("go next"), Go::Event { kind: "*".to_owned(), count: 1 });
        assert_eq!(go("go again"), Go::Again);
        assert_eq!((go("go from line 31"), go("go from 31")), (Go::From(31), Go::From(31)));
        assert!(parse("go from here").is_err());
    }

    #[test]
    fn limits_have_units() {
        let limit = |line: &str| match parse(line).unwrap() {
            Command::Limit(limit) => limit,
            other => panic!("{other:?}"),
        };
        assert_eq!(limit("limit"), Limit::Show);
        assert_eq!(limit("limit 20s"), Limit::Asked(Duration::from_secs(20)));
        assert_eq!(limit("limit conditions 500ms"), Limit::Conditions(Duration::from_millis(500)));
        assert_eq!(limit("limit memory 512M"), Limit::Memory(512 << 20));
        assert_eq!(limit("limit memory 2 GiB"), Limit::Memory(2 << 30));
    }

    #[test]
    fn let_splits_at_the_assignment() {
        let command = parse("let host.locks.upper.gate = a == b").unwrap();
        let read = |line: &str| match parse(line).unwrap() {
            Command::Let { target, value, for_now } => (target, value, for_now),
            other => panic!("{other:?}"),
        };
        assert_eq!(command, parse("let host.locks.upper.gate  =  a == b ").unwrap());
        assert_eq!(read("let a.b = a == b"), ("a.b".to_owned(), "a == b".to_owned(), false));
        assert_eq!(read("let a = b + 1 for  now"), ("a".to_owned(), "b + 1".to_owned(), true));
        assert_eq!(read("let a = 'wait for now'"), ("a".to_owned(), "'wait for now'".to_owned(), false));
        let undo = |which, anyway| Command::Undo { which, anyway };
        assert_eq!(parse("undo").unwrap(), undo(Undo::Last, false));
        assert_eq!(parse("undo all anyway").unwrap(), undo(Undo::All, true));
        assert_eq!(parse("undo 3").unwrap(), undo(Undo::Number(3), false));
        assert!(parse("undo everything").is_err());
        let reload = |path: &str, partly, original| {
            Command::Reload(Reload { path: path.to_owned(), partly, original, run: false })
        };
        assert_eq!(parse("reload on save").unwrap(), Command::ReloadOnSave(true));
        assert_eq!(parse("reload on save off").unwrap(), Command::ReloadOnSave(false));
        assert!(matches!(parse("reload b.lua --run"), Ok(Command::Reload(Reload { run: true, .. }))));
        assert_eq!(parse("reload a/b.lua").unwrap(), reload("a/b.lua", false, false));
        assert_eq!(parse("reload --partly b.lua --original").unwrap(), reload("b.lua", true, true));
        for line in ["reload", "reload a b", "reload a --all"] {
            assert!(parse(line).is_err(), "{line}");
        }
        assert_eq!(parse("edit").unwrap(), Command::Edit(None));
        assert_eq!(parse("edit a.lua:7").unwrap(), Command::Edit(Some(("a.lua".to_owned(), Some(7)))));
        assert_eq!(parse("edit C:\\a.lua").unwrap(), Command::Edit(Some(("C:\\a.lua".to_owned(), None))));
        assert!(parse("let a == b").is_err());
        assert!(parse("let x =").is_err());
    }

    #[test]
    fn mistakes_say_how_it_is_done() {
        for line in [
            "break",
            "break at toll.lua",
            "break at toll.lua:0",
            "remove",
            "go away",
            "go line x",
            "go 0 frame.update",
            "run",
            "breaks maybe",
            "use",
            "use frame x",
            "limit 5",
            "limit 0s",
            "limit memory 5",
            "limit memory 99999999999G",
            "limit conditions",
        ] {
            assert!(matches!(parse(line), Err(CliError::Usage(_))), "{line}");
        }
    }
}
