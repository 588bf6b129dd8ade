//! A script state at a safe point.

use super::{EngineError, Frame, GivenBack, NamesUsed, Probe, Reload, ReloadMode, Scope, Trial, WaysOn};
use crate::breakpoint::{BreakpointId, TrackId};
use crate::evaluation::{Allowance, Cancel};
use crate::heap::{Census, Counting, Holders};
use crate::path::TreePath;
use crate::source::{Line, SourceFacts, SourceLine};
use crate::stepping::Stack;
use crate::value::{Handle, Page, Paged, Part, Value, Variable, WholeText};

/// The view of a script state at a safe point. All methods are called on the thread that runs the scripts.
///
/// Looking must not change anything: no metamethod, getter or conversion of the script may run in
/// [`frames`](Self::frames), [`scopes`](Self::scopes) and [`children`](Self::children).
pub trait Engine {
    /// The stack, for the stepping machine.
    fn stack(&self) -> &dyn Stack;

    /// What evaluations asked for by the methods below may take from here on, until this is called again; `None` for what the
    /// supervisor allows ([`Supervisor::allowance`](super::Supervisor::allowance)), as at the beginning. Conditions, texts and statements of breakpoints
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
    /// What is wrong with the condition.
    fn condition(&mut self, owner: BreakpointId, text: &str) -> Result<bool, EngineError>;

    /// The text of an expression in a log message, evaluated in the innermost frame: a string as itself, anything else as
    /// its preview. Engines may keep what they compile for `owner` and `slot`, the number of the expression in its text.
    ///
    /// # Errors
    /// What is wrong with the expression.
    fn text_of(&mut self, owner: BreakpointId, slot: usize, expression: &str) -> Result<String, EngineError> {
        let _ = (owner, slot);
        let values = self.evaluate(Some(0), expression)?;
        Ok(values.iter().map(|value| value.preview.as_str()).collect::<Vec<_>>().join(", "))
    }

    /// Runs the statement of a breakpoint in the innermost frame. Engines may keep what they compile for `owner`.
    ///
    /// # Errors
    /// What is wrong with the statement.
    fn run_statement(&mut self, owner: BreakpointId, statement: &str) -> Result<(), EngineError> {
        let _ = owner;
        self.evaluate(Some(0), statement).map(|_| ())
    }

    /// Whether a condition of an event breakpoint holds, asked before any script handles the event; `None` when only the
    /// first line of the handler can tell, because the condition uses names of the script.
    ///
    /// # Errors
    /// What is wrong with the condition.
    fn condition_of_event(&mut self, owner: BreakpointId, text: &str) -> Result<Option<bool>, EngineError> {
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

    /// Gives the functions of the source of this name the bodies that another text of it gives, in place: all that they have
    /// captured stays, and nothing of the script runs. Functions that run keep theirs until they return. `None` where the state has
    /// no source of this name.
    ///
    /// # Errors
    /// [`EngineError::Syntax`] for a text that does not compile, and why nothing can be changed; nothing is then.
    fn reload(&mut self, name: &str, text: &str, mode: ReloadMode) -> Result<Option<Reload>, EngineError> {
        let _ = (text, mode);
        Err(EngineError::Runtime(format!("{name} cannot be changed: this engine cannot exchange what functions do")))
    }

    /// Where the innermost function can go on besides where it is, by the lines of it that begin with a statement; why not at the
    /// others. Nothing of the script runs.
    ///
    /// # Errors
    /// Why it goes on only where it is.
    fn ways_on(&mut self) -> Result<WaysOn, EngineError> {
        Err(EngineError::Runtime("functions of this engine go on only where they are".to_owned()))
    }

    /// Has the innermost function go on at a line of its own, one of the [`ways_on`](Self::ways_on), once the stop is over. What lies
    /// between does not run, and no value is taken back.
    ///
    /// # Errors
    /// Why it cannot.
    fn go_from(&mut self, line: Line) -> Result<(), EngineError> {
        let _ = line;
        Err(EngineError::Runtime("functions of this engine go on only where they are".to_owned()))
    }

    /// Runs the text of the source of this name that runs now, as loading it anew would, in the globals of the state and within what
    /// evaluations may take. Breakpoints are not honoured meanwhile. Whether the state has such a source.
    ///
    /// # Errors
    /// What the script raised, or why it cannot be run.
    fn run_source(&mut self, name: &str) -> Result<bool, EngineError> {
        Err(EngineError::Runtime(format!("{name} cannot be run: this engine runs no source by itself")))
    }

    /// Gives `target`, a variable or the field of a table, the value of `text`, and keeps what it held, so that it can be
    /// [given back](Self::give_back). Nothing of the script runs for it but `text`.
    ///
    /// # Errors
    /// Says why that cannot be; nothing is changed then.
    fn assign_for_now(&mut self, frame: Option<usize>, target: &str, text: &str) -> Result<Trial, EngineError> {
        let _ = (frame, text);
        Err(EngineError::NotAssignable {
            name: target.to_owned(),
            why: "this engine cannot give back what was there; set it without 'for now'".to_owned(),
        })
    }

    /// Gives the place of a [`Trial`] back what it held, unless it holds another value than was set and `anyway` is false. It is
    /// forgotten then, by [`untrack`](Self::untrack) otherwise.
    fn give_back(&mut self, trial: TrackId, anyway: bool) -> GivenBack {
        let _ = (trial, anyway);
        GivenBack::Gone
    }

    /// Whether a watched value differs from the last time it was asked for.
    fn probe(&mut self, track: TrackId) -> Probe {
        let _ = track;
        Probe::Gone
    }

    /// The last line that was reached and not reported since the last one that was, as [nothing had
    /// changed](super::Need::changes_of); it is told once.
    fn passed(&mut self) -> Option<SourceLine> {
        None
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

    /// Why no step can be made from here, if none can: nothing would tell where it ends.
    fn cannot_step(&mut self) -> Option<&'static str> {
        None
    }

    /// What the function returned that the last step came out of, if it was asked for ([`Need::returns_of`](super::Need::returns_of)).
    fn returned(&mut self) -> Option<Vec<Value>> {
        None
    }

    /// Counts the values of the state. It goes on for as long as `may_go_on` says, which is told how many were counted so far; `None`
    /// where that ended it. One that is counted while the script runs goes on with the next call then; one that is counted while it
    /// stands still was given up. Nothing of the script runs.
    ///
    /// # Errors
    /// Why values cannot be counted.
    fn census(&mut self, how: Counting, may_go_on: &mut dyn FnMut(u64) -> bool) -> Result<Option<Census>, EngineError> {
        let _ = (how, may_go_on);
        Err(EngineError::Runtime("this engine cannot count its values".to_owned()))
    }

    /// What holds the value of an expression: at most `most` paths, the shortest first. `None` where `may_go_on`, which is told how many
    /// values were looked at, ended it. The script stands still meanwhile; nothing of it runs but what `text` says.
    ///
    /// # Errors
    /// What evaluation raises, and for values that nothing can hold, such as numbers.
    fn holders(
        &mut self,
        frame: Option<usize>,
        text: &str,
        most: usize,
        may_go_on: &mut dyn FnMut(u64) -> bool,
    ) -> Result<Option<Holders>, EngineError> {
        let _ = (frame, text, most, may_go_on);
        Err(EngineError::Runtime("this engine cannot tell what holds a value".to_owned()))
    }

    /// Names and fields that could stand where `prefix` stands, in `frame`: `len`, or `boat.le`.
    fn complete(&mut self, frame: Option<usize>, prefix: &str) -> Vec<String>;

    /// The sources that nobody has a text of, named by the end of their path, as they would be with this one. Whether it is that of
    /// what runs ([`CodeFacts::is_other_text`](crate::source::CodeFacts::is_other_text)) is found out elsewhere.
    fn with_text(&mut self, path: &str, text: &str) -> Vec<SourceFacts> {
        let _ = (path, text);
        Vec::new()
    }

    /// Takes what [`with_text`](Self::with_text) answered as what runs: it is reported as a source that is loaded.
    fn take_text(&mut self, facts: SourceFacts) {
        let _ = facts;
    }

    /// A stop is over, and scripts go on: what was only known at the stop is no longer.
    fn goes_on(&mut self) {}

    /// Forgets all handles. Called when the context goes on.
    fn release(&mut self);
}
