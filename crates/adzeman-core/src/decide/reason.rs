//! What a decision comes to, and why.

use std::time::Duration;

use crate::breakpoint::{BreakpointId, OwnerId};
use crate::source::SourceLine;

/// A value that changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// The value as it was called when the breakpoint was set.
    pub target: String,
    /// Its type before, and the value in a line.
    pub before: (String, String),
    /// The same now.
    pub now: (String, String),
    /// The statement that did it, if one of the script did.
    pub place: Option<SourceLine>,
    /// The event after which a host object was found to differ, if that is known.
    pub after: Option<String>,
}

/// Why a context stopped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reason {
    /// The script asked for it.
    ByScript,
    /// Line or function breakpoints on this line.
    Breakpoint {
        /// All that were hit.
        ids: Vec<BreakpointId>,
    },
    /// Event breakpoints: this is the first script line that handles the event, or the host's boundary.
    Event {
        /// All that were hit.
        ids: Vec<BreakpointId>,
        /// No script line is being run.
        at_boundary: bool,
    },
    /// A script is raising; its stack is as it was when it did.
    Error {
        /// All that were hit.
        ids: Vec<BreakpointId>,
        /// What is raised, as text.
        message: String,
        /// Whether the script will catch it.
        caught: bool,
    },
    /// A value changed.
    Changed {
        /// The breakpoint.
        id: BreakpointId,
        /// What changed.
        change: Box<Change>,
    },
    /// A statement is reached that uses a value; it has not run yet.
    Used {
        /// The breakpoint.
        id: BreakpointId,
        /// The value as it was called when the breakpoint was set.
        target: String,
        /// Whether the statement assigns to it; it reads it otherwise.
        is_write: bool,
    },
    /// A handler takes longer than it may.
    OverBudget {
        /// All that were hit.
        ids: Vec<BreakpointId>,
        /// What it was given.
        budget: Duration,
    },
    /// A breakpoint's condition failed to evaluate. Said once for each breakpoint.
    ConditionFailed {
        /// The breakpoint.
        id: BreakpointId,
        /// Its condition.
        condition: String,
        /// What went wrong.
        why: String,
    },
    /// The place or the event that the context was to run to.
    Arrived,
    /// A step came to its end.
    Step,
    /// A person asked.
    Pause,
}

/// What a breakpoint said without stopping.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    /// Whose breakpoint it is.
    pub owner: OwnerId,
    /// The breakpoint.
    pub id: BreakpointId,
    /// The text, without a line break.
    pub text: String,
    /// Whether it tells of trouble with the breakpoint itself.
    pub is_trouble: bool,
    /// Whether the bell is to be rung.
    pub rings: bool,
    /// The line it was at.
    pub place: Option<SourceLine>,
}

/// What a decision came to.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Decision {
    /// Why the context stops, if it does.
    pub reason: Option<Reason>,
    /// What was said on the way.
    pub said: Vec<Said>,
    /// Whether a breakpoint was hit for the last time, so that less needs to be watched from here on.
    pub is_settled: bool,
}
