//! What an engine, the adapter to one script runtime, implements.
//!
//! Two traits, for two situations. An [`EngineContext`] is held by the host for as long as the script state lives; it is
//! asked to watch more or less closely. An [`Engine`] is the view of that state at one safe point: a line at which the
//! script was interrupted, or a moment between two handlers. Both live on the thread that runs the scripts and never
//! leave it; everything they answer is plain data.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::breakpoint::{Breakpoint, SourceLine, TrackId};
use crate::decide::Need;
use crate::evaluation::{Allowance, Cancel, Inside, Limits, UnderWay};
use crate::host::{HostError, TreePath};
use crate::path::Notation;
use crate::source::{Line, LineSet, NameUse, SourceFacts, SourceId};
use crate::stepping::Stack;
use crate::value::{Handle, Page, Paged, Part, Value, Variable, WholeText};

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
    /// Its position, counted from 0 at the innermost; what [`Engine::scopes`] and [`Engine::evaluate`] take.
    pub index: usize,
    /// What it is.
    pub kind: FrameKind,
    /// A name worth showing.
    pub name: String,
    /// Where it is, if it has a source.
    pub place: Option<SourceLine>,
    /// Whether frames are missing below it because of a tail call.
    pub tail_call: bool,
    /// How long ago it was called, time at stops left out, if that was kept ([`Need::call_times`]).
    pub running_for: Option<Duration>,
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
    /// What to ask [`Engine::children`] for.
    pub handle: Handle,
    /// How many names, if that is cheap to tell.
    pub count: Option<usize>,
}

/// What can go wrong when an engine is asked something.
#[derive(Debug, Clone, PartialEq, Error)]
#[non_exhaustive]
pub enum EngineError {
    /// A frame index beyond the stack.
    #[error("there is no frame {index}; the stack has {depth}")]
    NoFrame {
        /// The index asked for.
        index: usize,
        /// How many frames there are.
        depth: usize,
    },
    /// A handle of an earlier stop.
    #[error("this value was shown at an earlier stop and is gone; look again from the stack or the scopes")]
    StaleHandle,
    /// A name that is not there.
    #[error("there is no '{name}' here; {hint}")]
    NoName {
        /// The name.
        name: String,
        /// What to do instead.
        hint: String,
    },
    /// A text that does not parse.
    #[error("cannot read that: {0}")]
    Syntax(String),
    /// An evaluation that raised.
    #[error("{0}")]
    Raised(String),
    /// An evaluation that did more than it may.
    #[error("gave up after {} million instructions; nothing was returned (is there an endless loop in it? 'limit' allows more)",
        instructions / 1_000_000)]
    OverLimit {
        /// How many were allowed.
        instructions: u64,
    },
    /// An evaluation that took longer than it may.
    #[error("gave up after {} s; nothing was returned (is there an endless loop in it? 'limit' allows more time)", time.as_secs_f64())]
    OverTime {
        /// How long it could take.
        time: Duration,
    },
    /// An evaluation that made more than it may.
    #[error("gave up: it took more than {} MiB of memory; nothing was returned ('limit' allows more)", bytes / (1024 * 1024))]
    OverMemory {
        /// How much more than before there could be.
        bytes: usize,
    },
    /// An evaluation that nobody waits for any more.
    #[error("it was cancelled; nothing was returned")]
    Cancelled,
    /// Something that cannot be changed.
    #[error("'{name}' cannot be changed: {why}")]
    NotAssignable {
        /// What was to be changed.
        name: String,
        /// Why it cannot.
        why: String,
    },
    /// The host said no.
    #[error(transparent)]
    Host(#[from] HostError),
    /// The runtime itself failed, for want of memory for instance.
    #[error("the script engine could not do that: {0}")]
    Runtime(String),
}

/// Where the names of an expression are.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NamesUsed {
    /// The first name that is nowhere to be seen.
    pub missing: Option<String>,
    /// Whether one of them is the function's own: a local variable, an extra argument or a captured one.
    pub of_function: bool,
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

/// The view of a script state at a safe point. All methods are called on the thread that runs the scripts.
///
/// Looking must not change anything: no metamethod, getter or conversion of the script may run in
/// [`frames`](Self::frames), [`scopes`](Self::scopes) and [`children`](Self::children).
pub trait Engine {
    /// The stack, for the stepping machine.
    fn stack(&self) -> &dyn Stack;

    /// What evaluations asked for by the methods below may take from here on, until this is called again; `None` for what the
    /// supervisor allows ([`Supervisor::allowance`]), as at the beginning. Conditions, texts and statements of breakpoints
    /// always have the supervisor's.
    fn allow(&mut self, allowance: Option<Allowance>) {
        let _ = allowance;
    }

    /// A page of the call stack, innermost first; `total` is the whole depth. Empty when no script is running.
    ///
    /// # Errors
    /// Only when the runtime itself fails.
    fn frames(&mut self, page: Page) -> Result<Paged<Frame>, EngineError>;

    /// The scopes of a frame, the nearest first.
    ///
    /// # Errors
    /// [`EngineError::NoFrame`] for an index beyond the stack.
    fn scopes(&mut self, frame: usize) -> Result<Vec<Scope>, EngineError>;

    /// A page of what a scope or a value holds, in an order that does not change during a stop.
    ///
    /// # Errors
    /// [`EngineError::StaleHandle`] for a handle of an earlier stop.
    fn children(&mut self, of: Handle, part: Part, page: Page) -> Result<Paged<Variable>, EngineError>;

    /// Gives the child `name` of a scope or value the value of the expression `text`, without running metamethods of
    /// the script for the assignment itself. Answers the new value.
    ///
    /// # Errors
    /// Says what was expected; nothing is changed then.
    fn assign(&mut self, of: Handle, name: &str, text: &str, frame: Option<usize>) -> Result<Value, EngineError>;

    /// Evaluates an expression or runs a statement, seeing the names of `frame` (only the globals for `None`), within what it
    /// may take ([`allow`](Self::allow)). Answers all values returned.
    ///
    /// # Errors
    /// Says what is wrong with the text, or what it raised.
    fn evaluate(&mut self, frame: Option<usize>, text: &str) -> Result<Vec<Value>, EngineError>;

    /// Evaluates a text as the script itself would: without a limit but that on memory, until it is cancelled, and with its
    /// lines reported to the supervisor, so that breakpoints in it stop. Engines that cannot do that evaluate as always.
    ///
    /// # Errors
    /// As [`evaluate`](Self::evaluate).
    fn run_openly(&mut self, frame: Option<usize>, text: &str, cancel: &Cancel) -> Result<Vec<Value>, EngineError> {
        let _ = cancel;
        self.evaluate(frame, text)
    }

    /// The same, and keeps the first value, so that later expressions can name it: `it` for the last one, then `it2` and so
    /// on. Engines that keep nothing evaluate as always.
    ///
    /// # Errors
    /// As [`evaluate`](Self::evaluate).
    fn evaluate_and_keep(&mut self, frame: Option<usize>, text: &str) -> Result<Vec<Value>, EngineError> {
        self.evaluate(frame, text)
    }

    /// The whole text of an expression's first value, as the script would print it, as far as that runs nothing of the
    /// script; at most [`MOST_TEXT_BYTES`](crate::value::MOST_TEXT_BYTES) of it.
    ///
    /// # Errors
    /// As [`evaluate`](Self::evaluate).
    fn whole_text(&mut self, frame: Option<usize>, text: &str) -> Result<WholeText, EngineError> {
        let first = self.evaluate(frame, text)?.into_iter().next();
        Ok(WholeText::cut(first.map(|value| value.preview).unwrap_or_default().as_bytes()))
    }

    /// The type and the preview of an expression's first value, of which nothing is kept: for looking often.
    ///
    /// # Errors
    /// As [`evaluate`](Self::evaluate).
    fn sample(&mut self, text: &str) -> Result<(String, String), EngineError> {
        let first = self.evaluate(None, text)?.into_iter().next();
        Ok(first.map(|value| (value.type_name, value.preview)).unwrap_or_default())
    }

    /// What a name, or a path of names and elements behind one, leads to, without running anything of the script; `None` when
    /// `text` is more than that, or leads nowhere.
    fn peek(&mut self, frame: Option<usize>, text: &str) -> Option<Value> {
        let _ = (frame, text);
        None
    }

    /// Where the names of an expression are, without evaluating it. Engines that cannot tell say that all are there.
    fn names_used(&mut self, frame: Option<usize>, text: &str) -> NamesUsed {
        let _ = (frame, text);
        NamesUsed::default()
    }

    /// The place in the host's data that an expression stands for in `frame`, if it is a path that does; a script's own names
    /// come first.
    fn host_place(&mut self, frame: Option<usize>, text: &str) -> Option<TreePath> {
        let _ = (frame, text);
        None
    }

    /// The value of an expression as plain data, for giving it to the host.
    ///
    /// # Errors
    /// What evaluation raises, and for values that are no data.
    fn evaluate_data(&mut self, frame: Option<usize>, text: &str) -> Result<serde_json::Value, EngineError> {
        let _ = frame;
        let why = "this engine gives the host no values".to_owned();
        Err(EngineError::NotAssignable { name: text.to_owned(), why })
    }

    /// Gives `target`, any expression that can stand left of an assignment, the value of `text`; answers the new value.
    ///
    /// # Errors
    /// [`EngineError::NoName`] when the target would make a new global by mistake, and whatever evaluation raises.
    fn assign_expression(&mut self, frame: Option<usize>, target: &str, text: &str) -> Result<Value, EngineError>;

    /// Whether a breakpoint's condition holds in the innermost frame. Engines may keep what they compile for `owner`.
    ///
    /// # Errors
    /// What is wrong with the condition, for people.
    fn condition(&mut self, owner: &Breakpoint, text: &str) -> Result<bool, String>;

    /// The text of an expression in a log message, evaluated in the innermost frame: a string as itself, anything else as
    /// its preview. Engines may keep what they compile for `owner` and `slot`, the number of the expression in its text.
    ///
    /// # Errors
    /// What is wrong with the expression, for people.
    fn text_of(&mut self, owner: &Breakpoint, slot: usize, expression: &str) -> Result<String, String> {
        let _ = (owner, slot);
        let values = self.evaluate(Some(0), expression).map_err(|error| error.to_string())?;
        Ok(values.iter().map(|value| value.preview.as_str()).collect::<Vec<_>>().join(", "))
    }

    /// Runs the statement of a breakpoint in the innermost frame. Engines may keep what they compile for `owner`.
    ///
    /// # Errors
    /// What is wrong with the statement, for people.
    fn run_statement(&mut self, owner: &Breakpoint, statement: &str) -> Result<(), String> {
        let _ = owner;
        self.evaluate(Some(0), statement).map(|_| ()).map_err(|error| error.to_string())
    }

    /// Whether a condition of an event breakpoint holds, asked before any script handles the event; `None` when only the
    /// first line of the handler can tell, because the condition uses names of the script.
    ///
    /// # Errors
    /// What is wrong with the condition, for people.
    fn condition_of_event(&mut self, owner: &Breakpoint, text: &str) -> Result<Option<bool>, String> {
        let _ = (owner, text);
        Ok(None)
    }

    /// Whether the innermost function has just been entered. Engines that cannot tell answer true.
    fn is_function_entry(&mut self) -> bool {
        true
    }

    /// Begins to watch the value that `target` names in `frame` (only the globals for `None`): the variable, or the field
    /// of the table that it is in now.
    ///
    /// # Errors
    /// Says why that cannot be watched.
    fn track(&mut self, frame: Option<usize>, target: &str) -> Result<TrackId, EngineError> {
        let _ = frame;
        Err(EngineError::NotAssignable {
            name: target.to_owned(),
            why: "this engine cannot watch values; break on the lines that change it".to_owned(),
        })
    }

    /// Whether a watched value differs from the last time it was asked for.
    fn probe(&mut self, track: TrackId) -> Probe {
        let _ = track;
        Probe::Gone
    }

    /// Whether `text`, as the innermost function uses it, names the value watched.
    fn names(&mut self, track: TrackId, text: &str) -> bool {
        let _ = (track, text);
        false
    }

    /// Whether a condition of the script is false in the innermost function, as far as that can be told without running
    /// anything of the script.
    fn rules_out(&mut self, condition: &str) -> bool {
        let _ = condition;
        false
    }

    /// Forgets a watched value.
    fn untrack(&mut self, track: TrackId) {
        let _ = track;
    }

    /// What the function returned that the last step came out of, if it was asked for ([`Need::returns_of`]).
    fn returned(&mut self) -> Option<Vec<Value>> {
        None
    }

    /// Names and fields that could stand where `prefix` stands, in `frame`: `len`, or `boat.le`.
    fn complete(&mut self, frame: Option<usize>, prefix: &str) -> Vec<String>;

    /// Forgets all handles. Called when the context goes on.
    fn release(&mut self);
}

/// A script state for as long as it lives. Called on the thread that runs its scripts.
pub trait EngineContext {
    /// Watches as closely as `need` says from now on, in every stack of the context. Nothing needed means no hook.
    fn watch(&self, need: &Need);

    /// Lends the view of this moment to `work`.
    fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine));

    /// Between two handlers, when no script runs: a moment for what could not be done while one did.
    fn safe_point(&self) {}

    /// How many frames are on all stacks of the context at this moment, marks between them included.
    fn depth(&self) -> usize {
        0
    }

    /// Gives the handler under way up: its script raises an error that it cannot catch, until the host is reached. Ends with
    /// the next [`watch`](Self::watch). False where the engine has no way.
    fn abandon(&self) -> bool {
        false
    }

    /// Looks for sources that were loaded without the engine being told, and reports them to the supervisor.
    fn discover(&self);
}

/// Makes a context report its next line soon, even in an endless loop. May be called from any thread.
pub trait Interrupt: Send + Sync {
    /// Asks for it. False where the platform has no way; the request is then seen at the next safe point.
    fn interrupt(&self) -> bool;

    /// The evaluation that has begun in the context and is not done. Engines that cannot tell say that there is none.
    fn under_way(&self) -> Option<UnderWay> {
        None
    }

    /// What the context is in at this moment. It may take some tens of milliseconds to find out; nothing where the platform has
    /// no way.
    fn inside(&self) -> Option<Inside> {
        None
    }
}

/// Checks texts without touching any script state, from any thread.
pub trait Syntax: Send + Sync {
    /// Whether `text` could be evaluated as an expression.
    ///
    /// # Errors
    /// What is wrong with it, for people.
    fn check_expression(&self, text: &str) -> Result<(), String>;

    /// How paths are written in this language.
    fn notation(&self) -> Notation {
        Notation::default()
    }

    /// The lines at which a script's text makes a local variable of this name, parameters included.
    fn locals_named(&self, script: &str, name: &str) -> Vec<Line> {
        let _ = (script, name);
        Vec::new()
    }

    /// Where a script's text uses a variable or field of this name, or one whose name only shows when it runs
    /// (`boats[name]`). Empty when the language is not understood that far.
    fn uses_of(&self, script: &str, name: &str) -> Vec<NameUse> {
        let _ = (script, name);
        Vec::new()
    }

    /// Whether `text` could be run as a statement.
    ///
    /// # Errors
    /// What is wrong with it, for people.
    fn check_statement(&self, text: &str) -> Result<(), String>;
}

/// Whom an engine reports to.
pub trait Supervisor {
    /// A source was loaded. Answers its number.
    fn source_loaded(&self, facts: SourceFacts) -> SourceId;

    /// Set, from any thread, when something changed since the engine was last told what to watch. The engine asks for it
    /// once and looks at it, relaxed, on each line it watches.
    fn attention(&self) -> Arc<AtomicBool>;

    /// A line that [`Need`] covers was reached, or [`attention`](Self::attention) was set. Returns when the context may go on, which can
    /// take as long as a person looks at it.
    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line);

    /// What an evaluation may take that no person waits for.
    fn allowance(&self) -> Allowance {
        Limits::default().for_aside(Cancel::default())
    }

    /// Whether a function, defined from line `first` to `last` of a source, holds one of `lines` itself
    /// ([`Source::function_holds`](crate::source::Source::function_holds)). Asked once for each function and set of
    /// breakpoints.
    fn holds_line(&self, source: SourceId, lines: &LineSet, first: u32, last: u32) -> bool;

    /// How a line with a breakpoint is armed: by the function itself, which costs next to nothing, or by watching lines, and
    /// then why.
    fn armed_as(&self, place: SourceLine, watched_because: Option<&'static str>) {
        let _ = (place, watched_because);
    }

    /// The script raises an error, with the stack as it was when it did. `engine` shows that stack. `caught` is whether
    /// something in the script will catch it. Returns when the raise may go on.
    fn raised(&self, engine: &mut dyn Engine, place: Option<(SourceId, Line)>, message: &str, caught: bool) {
        let _ = (engine, place, message, caught);
    }

    /// The script asks to be stopped where it is. Returns when it may go on; at once when nobody is there.
    fn stop_asked(&self, engine: &mut dyn Engine) {
        let _ = engine;
    }

    /// The script asks to be held until someone is attached, for at most `limit`. Answers whether someone is.
    fn wait_asked(&self, limit: Duration) -> bool {
        let _ = limit;
        false
    }

    /// The script has something to say to whoever is attached, line break included.
    fn said(&self, text: &str, place: Option<(SourceId, Line)>) {
        let _ = (text, place);
    }

    /// The script printed a text, line break included.
    fn printed(&self, text: &str, place: Option<(SourceId, Line)>);

    /// Whether anyone wants to know what is printed.
    fn is_attached(&self) -> bool;
}
