//! A script state for as long as it lives, and whom it reports to.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use super::{Engine, EngineError, Need};
use crate::evaluation::{Allowance, Cancel, Inside, Limits, UnderWay};
use crate::profile::Profile;
use crate::sharing::MaySend;
use crate::source::{Language, Line, LineSet, NameUse, SourceFacts, SourceId, SourceLine};
use crate::stepping::StackId;

/// A script state for as long as it lives. Called on the thread that runs its scripts; with the feature `send` on any, and what
/// is called then waits until no other thread runs them.
pub trait EngineContext: MaySend {
    /// Watches as closely as `need` says from now on, in every stack of the context. Nothing needed means no hook.
    fn watch(&self, need: &Need);

    /// Lends the view of this moment to `work`.
    fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine));

    /// Between two handlers, when no script runs: a moment for what could not be done while one did.
    fn safe_point(&self) {}

    /// Looks whether what it watches by is still there and in every function, and puts it there again
    /// ([`Supervisor::was_blind`]). Asked at about each event, so that it has to cost next to nothing.
    fn keep_watch(&self) {}

    /// Whether all is done that the last [`watch`](Self::watch) asked for. What takes long is done bit by bit at safe points.
    fn is_settled(&self) -> bool {
        true
    }

    /// Whether a [safe point](Self::safe_point) would have anything to do.
    fn wants_safe_point(&self) -> bool {
        true
    }

    /// Whether functions that can be called again go on in an earlier text, until they return.
    fn is_lagging(&self) -> bool {
        false
    }

    /// How many frames are on all stacks of the context at this moment, marks between them included.
    fn depth(&self) -> usize {
        0
    }

    /// Whether a stack waits for the host to resume it, so that a step that began there goes on later.
    fn awaits_host(&self, stack: StackId) -> bool {
        let _ = stack;
        false
    }

    /// Gives the handler under way up: its script raises an error that it cannot catch, until the host is reached. Ends with
    /// the next [`watch`](Self::watch). False where the engine has no way.
    fn abandon(&self) -> bool {
        false
    }

    /// What the state has in use at this moment, in bytes; asked after each event, so that it has to cost next to nothing. `None`
    /// where the engine cannot tell.
    fn memory_bytes(&self) -> Option<u64> {
        None
    }

    /// Begins to take samples of stacks whenever [`Interrupt::prepare_sample`] asks for one.
    ///
    /// # Errors
    /// Why that cannot be.
    fn begin_profile(&self) -> Result<(), EngineError> {
        Err(EngineError::Runtime("this engine takes no samples of its stacks".to_owned()))
    }

    /// Ends that, and answers what was sampled.
    fn end_profile(&self) -> Profile {
        Profile::default()
    }

    /// Looks for sources that were loaded without the engine being told, and reports them to the supervisor.
    fn discover(&self);

    /// Does `work`, during which this thread runs the scripts of the context, and no other one does. Where states cannot move,
    /// there is nothing to see to.
    fn enter(&self, work: &mut dyn FnMut()) {
        work();
    }
}

/// Makes a context report its next line soon, even in an endless loop. May be called from any thread.
pub trait Interrupt: Send + Sync {
    /// Asks for it. False where the platform has no way; the request is then seen at the next safe point.
    fn interrupt(&self) -> bool {
        self.prepare();
        self.reach(&mut BTreeSet::new())
    }

    /// Notes that it is asked for. Where many contexts are, all are noted before the first is [reached](Self::reach).
    fn prepare(&self);

    /// Reaches the thread that runs the context, unless that is among those that were reached on behalf of all that were
    /// prepared. Answers as [`interrupt`](Self::interrupt).
    fn reach(&self, reached: &mut BTreeSet<i64>) -> bool;

    /// Notes that a sample of the stack is wanted, for a context that [takes some](EngineContext::begin_profile): it is taken at the next
    /// instruction of the script once the thread is [reached](Self::reach). False where the platform has no way.
    fn prepare_sample(&self) -> bool {
        false
    }

    /// About what it costs the script's thread to be [reached](Self::reach), which is not in what the engine measures of a sample by
    /// itself.
    fn reach_costs(&self) -> Duration {
        Duration::ZERO
    }

    /// Called every now and then while something wants [attention](Supervisor::attention): an engine whose states may be on any
    /// thread, so that an interrupt finds none to go to while nobody runs them, sees to it that the next line that runs looks.
    fn remind(&self) {}

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

    /// The language of these texts.
    fn language(&self) -> Language {
        Language::UNKNOWN
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

    /// Does ahead, away from the threads that run scripts, what takes long of [giving](super::Engine::reload) a source of this name
    /// another text than the one it has.
    fn prepare_reload(&self, name: &str, old: &str, new: &str) {
        let _ = (name, old, new);
    }
}

/// Why lines that had to be watched for were not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Blindness {
    /// The host has put something of its own where the engine watched by.
    OtherHook,
    /// The host has loaded a source once more, by a loader that tells nobody of it.
    LoadedAgain(SourceId),
}

/// Whom an engine reports to.
pub trait Supervisor: MaySend {
    /// A source was loaded. Answers its number.
    fn source_loaded(&self, facts: SourceFacts) -> SourceId;

    /// Nothing of a source is left in the state, as far as is known.
    fn source_gone(&self, source: SourceId) {
        let _ = source;
    }

    /// Set, from any thread, when something changed since the engine was last told what to watch. The engine asks for it
    /// once and looks at it, relaxed, on each line it watches.
    fn attention(&self) -> Arc<AtomicBool>;

    /// A line that [`Need`] covers was reached, or [`attention`](Self::attention) was set. Returns when the context may go on, which can
    /// take as long as a person looks at it.
    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line);

    /// The time of the host, from some moment on, without that for which anything was held; nothing where it keeps none, and then it is not
    /// known when calls began.
    fn now(&self) -> Option<Duration> {
        None
    }

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
    fn armed_as(&self, place: SourceLine, watched_because: Option<&str>) {
        let _ = (place, watched_because);
    }

    /// The functions of a source, by the first and last lines of their definitions, that go on in an earlier text of it, as they were
    /// running when that was changed: their lines are not met in what runs now. 0 and 0 stand for the whole script. Told when that
    /// changes.
    fn lagging(&self, source: SourceId, functions: &[(u32, u32)]) {
        let _ = (source, functions);
    }

    /// Lines that had to be watched for were not, from some moment on until now.
    fn was_blind(&self, why: Blindness) {
        let _ = why;
    }

    /// What a script gave to handle an error has raised errors in turn, `times` on end, each handled by the same; the first of
    /// them was reported.
    fn handler_raised(&self, times: usize) {
        let _ = times;
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

    /// The kind of the event that is handled on this thread at this moment.
    fn during(&self) -> Option<String> {
        None
    }
}
