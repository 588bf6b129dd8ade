//! Why a request was not done.

use adzeman_core::engine::EngineError;
use adzeman_core::host::HostError;
use adzeman_dap::ErrorCode;
use thiserror::Error;

/// Why a request was not done; turned into a response in one place.
#[derive(Debug, Error)]
#[non_exhaustive]
pub(crate) enum SessionError {
    #[error("'{command}' is not understood here; see the capabilities in the answer to 'initialize'")]
    UnknownRequest { command: String },
    #[error("the arguments of '{command}' do not fit: {why}")]
    BadArguments { command: String, why: String },
    #[error("'{command}' came too early: {expected} must come first")]
    TooEarly { command: String, expected: &'static str },
    #[error("there is no context {0}; ask 'threads' for those that are there")]
    NoContext(i64),
    #[error("{0} is running; pause it first, or wait until it stops")]
    Running(String),
    #[error("{0} is not stopped, so it cannot go on; it is held only while another context of its thread is stopped")]
    NotStopped(String),
    #[error("{0} has not come to a point where it can be looked at; is it waiting for something, or in a long call?")]
    NoSafePoint(String),
    #[error(
        "{0} runs no script, and its host has not looked here for a while; it may be busy, or not call `poll` while it waits"
    )]
    NoScriptRuns(String),
    #[error("{0} is gone")]
    Gone(String),
    #[error("the value {0} was shown at an earlier stop and is gone; look again from the stack or the scopes")]
    StaleReference(i64),
    #[error("the frame {0} is none of this stop; ask for the call stack again")]
    StaleFrame(i64),
    #[error("there is no source {0}")]
    NoSource(String),
    #[error("more than one source is meant: {0}; give more of the path")]
    SeveralSources(String),
    #[error(
        "{0} was compiled from another source, or is one that was: what runs is changed by compiling and loading it anew"
    )]
    Compiled(String),
    #[error("the text of {0} is not known to the host")]
    NoText(String),
    #[error("line {0} is not a line; lines count from {1}")]
    BadLine(i64, i64),
    #[error("no event is being handled here, so none can be delivered again")]
    NoEvent,
    #[error("the host says that {0} cannot be delivered again: what handles it can run only once")]
    NotRepeatable(String),
    #[error("it was not said where to go on to: give a line with the path of its source, or an event")]
    NowhereToGo,
    #[error("that cannot be reached: {0}")]
    Unreachable(String),
    #[error(
        "this host asks for its token: 'adzeman attach' finds it for hosts of the same user; an editor gives it as 'token' \
         in its 'attach' request"
    )]
    NeedsToken,
    #[error("that is not this host's token; it is a new one at each start")]
    WrongToken,
    #[error("this client observes, and {0} controls: it may look, and nothing else; 'take over' takes control")]
    Observes(String),
    #[error("this host lets clients look, and nothing else")]
    ObserversOnly,
    #[error("not in scope here: {0}")]
    NotInScope(String),
    #[error(
        "'{0}' is a variable of the code around this function, which does not use it and so has no way to it: what it is here is not \
         known; look at it where it is used, or in a caller"
    )]
    OutOfReach(String),
    #[error("'{0}' is no variable here; only names and fields are looked up under the pointer, nothing is run")]
    NothingToHover(String),
    #[error("{0} has nothing inside that could be a row")]
    NoRows(String),
    #[error("cannot read that: {0}")]
    BadExpression(String),
    #[error("no step can be made from here: {0}")]
    CannotStep(&'static str),
    #[error("'{0}' is a statement, and no expression")]
    Statement(String),
    #[error("{0} monitors are as many as there can be; end some first")]
    TooManyMonitors(usize),
    #[error("{0} source maps, of {1} bytes in all, are as many as a host takes from its clients")]
    TooManyMaps(usize, usize),
    #[error("a part of it is secret or cannot be read, so that it could not be given back; set it without 'for now'")]
    NotGivenBack,
    #[error("{0} changes for now are as many as there can be; undo some first")]
    TooManyForNow(usize),
    #[error("change {0} is none that was made for now and is not undone; 'changes' lists them")]
    NothingToUndo(u64),
    #[error("{0} is stopped; let it go on to see what it runs")]
    Stopped(String),
    #[error("{0}")]
    NoWay(String),
    #[error("the target {0} is none of this stop; ask for the targets again")]
    StaleTarget(i64),
    #[error("cannot read that: {0}")]
    BadFilter(String),
    #[error("event {number} is not in the trail{}", held(*range))]
    NotInTrail { number: u64, range: Option<(u64, u64)> },
    #[error("{0} cannot be delivered again as it was: what it carried is not there; {1}")]
    NotCopied(String, String),
    #[error("the host takes no {0} again; its author allows it by 'on_again'")]
    NotTakenAgain(String),
    #[error("there is no figure '{name}'; there {}", if known.is_empty() { "are none yet".to_owned() } else { format!("is {}", known.join(", ")) })]
    NoFigure { name: String, known: Vec<String> },
    #[error("nothing of the host has a place; its author says what has one by 'About::placed'")]
    NothingPlaced,
    #[error("'{path}' has no place, and nothing in it; {placed} have")]
    NotPlaced { path: String, placed: String },
    #[error("there is no census {number} of this client{}", counted(*.last))]
    NoCensus { number: u64, last: u64 },
    #[error("census {number} is of {of}, and not of {context}: only those of one context can be compared")]
    CensusOfAnother { number: u64, of: String, context: String },
    #[error("there is no monitor {0} of this client")]
    NoMonitor(u64),
    #[error("this host has no contexts yet; scripts show up here when it opens them")]
    NoContexts,
    #[error(transparent)]
    Engine(#[from] EngineError),
    #[error(transparent)]
    Host(#[from] HostError),
    #[error("it was cancelled")]
    Cancelled,
    #[error("a fault inside the debugger ended '{command}'; the session goes on")]
    Fault { command: String },
    #[error("{0} requests wait for their answers already; wait for some of them, or cancel them")]
    TooManyWaiting(usize),
    #[error("{context} is in {native}, in one call that cannot be interrupted; it is released the moment that returns")]
    Stuck { context: String, native: String },
    #[error("{most} clients are attached {way} already, as many as there can be; one of them must leave first")]
    NoPlace { most: usize, way: &'static str },
    #[error("the answer could not be written: {0}")]
    Unwritable(#[from] serde_json::Error),
}

/// Which censuses there are.
fn counted(last: u64) -> String {
    if last == 0 { "; 'census' makes one".to_owned() } else { format!("; the last one is {last}") }
}

/// Which events the trail has.
fn held(range: Option<(u64, u64)>) -> String {
    range.map_or(", which is empty".to_owned(), |(first, last)| format!("; it has those from {first} to {last}"))
}

impl SessionError {
    /// What programs tell it from others by.
    pub(super) fn code(&self) -> ErrorCode {
        match self {
            Self::UnknownRequest { .. } | Self::BadArguments { .. } => ErrorCode::NotUnderstood,
            Self::TooEarly { .. } => ErrorCode::TooEarly,
            Self::NeedsToken | Self::WrongToken => ErrorCode::NotLetIn,
            Self::Observes(_) | Self::ObserversOnly => ErrorCode::Observes,
            Self::NoPlace { .. } | Self::TooManyWaiting(_) | Self::TooManyMaps(..) | Self::TooManyMonitors(_) => {
                ErrorCode::Full
            }
            Self::NotInTrail { .. }
            | Self::NoCensus { .. }
            | Self::StaleTarget(_)
            | Self::NoContext(_)
            | Self::NoContexts
            | Self::Gone(_)
            | Self::StaleReference(_)
            | Self::StaleFrame(_) => ErrorCode::Gone,
            Self::Running(_) | Self::NotStopped(_) => ErrorCode::NotStopped,
            Self::NoSafePoint(_) | Self::NoScriptRuns(_) | Self::Stuck { .. } => ErrorCode::Busy,
            Self::Cancelled => ErrorCode::Cancelled,
            Self::BadExpression(_) | Self::BadFilter(_) | Self::Statement(_) => ErrorCode::Syntax,
            Self::NotInScope(_) | Self::OutOfReach(_) => ErrorCode::NotInScope,
            Self::Host(_) => ErrorCode::Host,
            Self::Fault { .. } | Self::Unwritable(_) => ErrorCode::Fault,
            Self::Engine(error) => code_of_engine(error),
            _ => ErrorCode::Other,
        }
    }
}

fn code_of_engine(error: &EngineError) -> ErrorCode {
    match error {
        EngineError::Syntax(_) => ErrorCode::Syntax,
        EngineError::Cancelled => ErrorCode::Cancelled,
        EngineError::Raised(_)
        | EngineError::OverLimit { .. }
        | EngineError::OverTime { .. }
        | EngineError::OverMemory { .. } => ErrorCode::Raised,
        EngineError::NoName { .. } | EngineError::NotAssignable { .. } => ErrorCode::NotAssignable,
        EngineError::StaleHandle => ErrorCode::Gone,
        EngineError::Host(_) => ErrorCode::Host,
        _ => ErrorCode::Other,
    }
}
