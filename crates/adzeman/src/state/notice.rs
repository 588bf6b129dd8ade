//! What clients are told without having asked, in words of this product. How that is said to them is not known here.

use std::time::Duration;

use adzeman_core::breakpoint::Resolved;
use adzeman_core::decide::Reason;
use adzeman_core::source::{Line, SourceId, SourceLine};

/// Bytes that are counted for a notice besides its texts.
const OWN_BYTES: usize = 256;
/// Bytes of a text from which on it is cut, and bytes that are left of it then.
const TOO_LONG_BYTES: usize = 8 * 1024 * 1024;
const MOST_TEXT_BYTES: usize = 64 * 1024;

/// One thing that a client is told.
#[derive(Debug, Clone)]
pub(crate) enum Notice {
    /// The client may say now what it wants set.
    MayConfigure,
    /// The host ends.
    HostEnds,
    /// A context was opened, or closed.
    Context { id: i64, is_open: bool },
    /// A source has come.
    Source(SourceId),
    /// A breakpoint of the client binds elsewhere, or no more.
    Breakpoint(Box<Resolved>),
    /// A context stopped.
    Stopped(Box<Stop>),
    /// It goes on.
    Continued { context: i64, are_all: bool },
    /// Something for people.
    Text(Box<Text>),
    /// Who controls has changed.
    Role { controls: bool, controller: Option<String> },
    /// A handler has ended during a step.
    HandlerLeft { context: i64, event: String, subject: Option<String>, returned: Option<Vec<String>> },
    /// A call that the client asked for is done; `outcome` is the type and the text of what came of it, or why nothing did.
    Ran { context: i64, outcome: Result<(Option<String>, String), String>, is_stopped: bool },
    /// A monitor was sampled.
    Sample(Box<Sample>),
    /// Something is in a call that cannot be interrupted, or is out of it.
    Stuck(Box<Stuck>),
    /// How far a request has come that takes long.
    Progress { request: i64, step: Progress },
    /// Notices that had no room.
    Dropped(u64),
    /// Why the connection ends.
    TurnedAway(String),
}

/// How far a request has come.
#[derive(Debug, Clone)]
pub(crate) enum Progress {
    Begun { title: String },
    At { message: String },
    Ended,
}

/// A stop, as everyone is told of it.
#[derive(Debug, Clone)]
pub(crate) struct Stop {
    pub(crate) context: i64,
    pub(crate) name: String,
    pub(crate) reason: Reason,
    pub(crate) place: Option<SourceLine>,
    /// The event being handled, and its subject.
    pub(crate) event: Option<(String, Option<String>)>,
    /// What the function returned that a step came out of.
    pub(crate) returned: Option<Vec<String>>,
    /// Whether no context of the host runs any more.
    pub(crate) are_all: bool,
    /// Lines of the function that were seen to run, if there were several.
    pub(crate) lines_ran: Option<Vec<Line>>,
}

/// What kind of text it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Tone {
    /// Said by a breakpoint, or on purpose by a script.
    Said,
    /// Printed by a script.
    Printed,
    /// A handler failed.
    Failed,
    /// Trouble that a person has to know of.
    Important,
}

/// Something for people.
#[derive(Debug, Clone)]
pub(crate) struct Text {
    pub(crate) tone: Tone,
    pub(crate) text: String,
    /// The line that said it.
    pub(crate) place: Option<SourceLine>,
    /// Whether the terminal rings.
    pub(crate) rings: bool,
}

/// A sample of a monitor.
#[derive(Debug, Clone)]
pub(crate) struct Sample {
    pub(crate) monitor: u64,
    /// Its type and its value, or why there is none.
    pub(crate) outcome: Result<(String, String), String>,
    /// When, by the host's clock.
    pub(crate) at: Duration,
    pub(crate) event: Option<String>,
    /// How many were taken.
    pub(crate) count: u64,
    pub(crate) cost: Duration,
    /// The share of the time that all of them took.
    pub(crate) share: f64,
    pub(crate) is_slowed: bool,
}

/// A call that cannot be interrupted.
#[derive(Debug, Clone)]
pub(crate) struct Stuck {
    pub(crate) context: i64,
    pub(crate) is_stuck: bool,
    pub(crate) native: Option<String>,
    pub(crate) since: Duration,
    pub(crate) description: String,
}

impl Notice {
    /// A text that no line said.
    pub(crate) fn text(tone: Tone, text: impl Into<String>) -> Self {
        Self::Text(Box::new(Text { tone, text: text.into(), place: None, rings: false }))
    }

    /// The same with texts that are too long for a message cut.
    pub(crate) fn cut(mut self) -> Self {
        let text = match &mut self {
            Self::Text(text) => Some(&mut text.text),
            Self::Ran { outcome: Ok((_, text)) | Err(text), .. } => Some(text),
            Self::Sample(sample) => match &mut sample.outcome {
                Ok((_, text)) | Err(text) => Some(text),
            },
            _ => None,
        };
        text.filter(|text| text.len() > TOO_LONG_BYTES).into_iter().for_each(cut);
        self
    }

    /// About how many bytes it holds.
    pub(crate) fn bytes(&self) -> usize {
        let texts = match self {
            Self::Text(text) => text.text.len(),
            Self::Stopped(stop) => stop.returned.iter().flatten().map(String::len).sum(),
            Self::HandlerLeft { returned, .. } => returned.iter().flatten().map(String::len).sum(),
            Self::Ran { outcome: Ok((_, text)) | Err(text), .. } => text.len(),
            Self::Sample(sample) => match &sample.outcome {
                Ok((_, text)) | Err(text) => text.len(),
            },
            Self::Stuck(stuck) => stuck.description.len(),
            Self::TurnedAway(why) => why.len(),
            _ => 0,
        };
        texts + OWN_BYTES
    }
}

/// Cuts a long text, and says so.
pub(crate) fn cut(text: &mut String) {
    if text.len() <= MOST_TEXT_BYTES {
        return;
    }
    let whole = text.len();
    let end = (0..=MOST_TEXT_BYTES).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    text.truncate(end);
    text.push_str(&format!("… (cut: {whole} bytes in all)\n"));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_longer_than_a_message_is_cut() {
        let Notice::Text(long) = Notice::text(Tone::Said, "€".repeat(3_000_000)).cut() else { panic!("a text") };
        assert!(long.text.ends_with("€… (cut: 9000000 bytes in all)\n") && long.text.len() < 70_000);
        let Notice::Text(short) = Notice::text(Tone::Said, "x".repeat(1_000_000)).cut() else { panic!("a text") };
        assert_eq!(short.text.len(), 1_000_000, "it fits");
    }
}
