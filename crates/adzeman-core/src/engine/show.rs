//! What an engine shows of a script: frames, scopes, names.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::breakpoint::TrackId;
use crate::source::{Line, SourceId, SourceLine};
use crate::value::Handle;

/// What a frame is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FrameKind {
    /// A function of the script.
    Script,
    /// A function of the host or of the runtime's own library.
    Native,
    /// No function: a mark where one stack was called from another (a coroutine from its resumer).
    Boundary,
}

/// One frame of the call stack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Frame {
    /// Its position, counted from 0 at the innermost; what [`Engine::scopes`](super::Engine::scopes) and [`Engine::evaluate`](super::Engine::evaluate) take.
    pub index: usize,
    /// What it is.
    pub kind: FrameKind,
    /// A name worth showing; empty where nothing tells one.
    pub name: String,
    /// The first and the last line of the function's definition; nothing for a whole script, and what is not of one.
    pub defined: Option<(Line, Line)>,
    /// Where it is, if it has a source.
    pub place: Option<SourceLine>,
    /// Whether frames are missing below it because of a tail call.
    pub tail_call: bool,
    /// How long ago it was called, time at stops left out, if that was kept ([`Need::call_times`](super::Need::call_times)).
    pub running_for: Option<Duration>,
    /// Whether it was called longer ago than that: it ran when this began to be kept.
    pub ran_before: bool,
    /// Its parameters and what they hold now, each in a line.
    pub arguments: Vec<(String, String)>,
}

/// Which names a scope holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ScopeKind {
    /// Variables of the function, parameters included.
    Locals,
    /// The extra arguments of a function that takes any number.
    Varargs,
    /// Variables of enclosing functions that this one uses.
    Captured,
    /// Names that every function of the context sees, made by scripts or the host.
    Globals,
    /// Names that the runtime itself brings along.
    BuiltIns,
}

impl ScopeKind {
    /// The word for people.
    #[must_use]
    pub fn title(self) -> &'static str {
        match self {
            Self::Locals => "Locals",
            Self::Varargs => "Varargs",
            Self::Captured => "Captured",
            Self::Globals => "Globals",
            Self::BuiltIns => "Built-ins",
        }
    }
}

/// A scope of a frame.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Scope {
    /// Which names it holds.
    pub kind: ScopeKind,
    /// What to ask [`Engine::children`](super::Engine::children) for.
    pub handle: Handle,
    /// How many names, if that is cheap to tell.
    pub count: Option<usize>,
}

/// Where the names of an expression are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NamesUsed {
    /// The first name that is nowhere to be seen.
    pub missing: Option<String>,
    /// The first one that stands, in the text, for a variable of the code around the function that is looked at, which that function
    /// does not use: compiled, it has no way to it.
    pub out_of_reach: Option<String>,
    /// Whether one of them is the function's own: a local variable, an extra argument or a captured one.
    pub of_function: bool,
}

/// How far a source is given another text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReloadMode {
    /// It is only looked what would become of its functions.
    Check,
    /// All of its functions, or none.
    Whole,
    /// Those that can be.
    Partly,
}

/// What becomes of a function whose source is given another text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FunctionFate {
    /// It gets its new body.
    Changed,
    /// It is written as before.
    Unchanged,
    /// There was none of this name at this place.
    New,
    /// It is not written any more: those that are alive stay as they are.
    Gone,
    /// It cannot take its new body, and why.
    Refused(String),
}

/// A function of a source that is given another text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReloadedFunction {
    /// What it is called where it is defined, if anything.
    pub name: Option<String>,
    /// The line that its definition begins on: of the new text, or of the old one where it is gone.
    pub line: Option<Line>,
    /// What becomes of it.
    pub fate: FunctionFate,
    /// How many of it are alive.
    pub alive: usize,
    /// How many of these run: they change when they return.
    pub running: usize,
}

/// What came of giving a source another text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reload {
    /// The source that runs now.
    pub source: SourceId,
    /// Its functions, in the order of the text, and then those that are gone.
    pub functions: Vec<ReloadedFunction>,
    /// Functions of it that are of no text that is known, and stay as they are.
    pub others: usize,
    /// Whether what stands outside of all functions is another text, which is not run.
    pub top_level_changed: bool,
    /// Whether it was done.
    pub is_done: bool,
}

impl Reload {
    /// Whether that is to be done in this mode: in part, or where all functions that are alive get what they should.
    #[must_use]
    pub fn is_to_be(&self, mode: ReloadMode) -> bool {
        let is_refused = |held: &ReloadedFunction| matches!(held.fate, FunctionFate::Refused(_)) && held.alive > 0;
        let is_whole = self.others == 0 && !self.functions.iter().any(is_refused);
        mode == ReloadMode::Partly || mode == ReloadMode::Whole && is_whole
    }
}

/// Where a function can go on, by its lines that begin with a statement; why not at the others.
pub type WaysOn = BTreeMap<Line, Result<GoingOn, String>>;

/// A line that a function can go on at.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct GoingOn {
    /// Variables that come into scope there without what would have set them: they are nil.
    pub cleared: Vec<String>,
}

/// A value that was set for now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trial {
    /// Where it is, to be given back.
    pub track: TrackId,
    /// The type of what was there before, and that in a line.
    pub before: (String, String),
    /// The same of what is there now.
    pub now: (String, String),
}

/// What came of giving back a value that was set for now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum GivenBack {
    /// It is again what it was; its type, and it in a line.
    Done(String, String),
    /// It was left as it is, since it is another value than was set; what it is now.
    ChangedSince(String, String),
    /// The place is no longer there, or not known to be.
    Gone,
}

/// What became of a watched value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Probe {
    /// It is as it was.
    Same,
    /// It is another one.
    Changed {
        /// Its type before, and the value in a line.
        before: (String, String),
        /// The same now.
        now: (String, String),
    },
    /// The variable is no longer there: its function has returned.
    Gone,
}
