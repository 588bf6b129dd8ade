//! The one hot decision: run or stop, and why.

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use crate::breakpoint::{
    Action, Armed, Breakpoint, BreakpointId, ChangeKind, Occasion, OwnerId, Piece, Site, Sited, SourceLine, Template,
    Tracked,
};
use crate::engine::{Engine, Probe};
use crate::source::{LineSet, NameUse};
use crate::stepping::{Step, StepKind};

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
        change: Change,
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

/// How closely an engine must watch its scripts.
#[derive(Debug, Clone, Default)]
pub struct Need {
    /// Report every line, whatever the breakpoints say.
    pub every_line: bool,
    /// A step may go into any stack of the context, so none may be left unwatched.
    pub every_stack: bool,
    /// Keep what functions return that the step under way comes out of.
    pub returns_of: Option<Step>,
    /// Report errors where they are raised.
    pub raises: bool,
    /// Keep when each function was called.
    pub call_times: bool,
    /// Report the sources of functions that are called, as breakpoints wait for some that are not loaded.
    pub new_sources: bool,
    /// Otherwise report these lines, if there are any.
    pub armed: Arc<Armed>,
}

impl Need {
    /// The lines on which some source has a breakpoint.
    #[must_use]
    pub fn mask(&self) -> &LineSet {
        self.armed.line_mask()
    }

    /// Whether lines must be reported, all or some.
    #[must_use]
    pub fn any_line(&self) -> bool {
        self.every_line || !self.mask().is_empty()
    }

    /// Whether nothing needs to be watched, so that no hook is needed at all.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        !self.any_line() && !self.raises && !self.call_times && !self.new_sources
    }
}

/// The event being handled, as far as the decision needs it.
#[derive(Clone, Copy)]
pub struct EventInHand<'a> {
    /// The kind's name.
    pub kind: &'a str,
    /// What it is about; made a text only when a breakpoint asks for it.
    pub subject: Option<&'a dyn fmt::Display>,
}

impl fmt::Debug for EventInHand<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.kind)
    }
}

/// Where a decision is made.
#[derive(Debug, Clone, Copy, Default)]
pub struct Moment<'a> {
    /// The line reached; `None` at the host's boundary, and in a source without a number.
    pub place: Option<SourceLine>,
    /// The event being handled.
    pub event: Option<EventInHand<'a>>,
    /// The name of the context.
    pub context: &'a str,
}

impl Moment<'_> {
    fn occasion(&self) -> Occasion {
        let event = self.event.map(|event| (event.kind.to_owned(), event.subject.map(ToString::to_string)));
        Occasion { place: self.place, event }
    }

    /// Whether a breakpoint for one subject or context is about this moment.
    fn concerns(&self, breakpoint: &Breakpoint) -> bool {
        let Some(wanted) = breakpoint.spec.subject.as_deref() else { return true };
        let subject = self.event.and_then(|event| event.subject);
        self.context == wanted || subject.is_some_and(|subject| subject.to_string() == wanted)
    }
}

/// The state of one context that decides whether it runs on.
#[derive(Debug, Default)]
pub struct Decider {
    context: i64,
    armed: Arc<Armed>,
    step: Option<Step>,
    pause: bool,
    /// Whether the pause asked for passes over libraries.
    passes_library: bool,
    /// Where in what a script was written as the step under way began.
    step_from: Option<SourceLine>,
    event_pending: bool,
    call_times: bool,
    last_place: Option<SourceLine>,
    /// Counts whatever changes what the engine has to report.
    changes: u64,
}

impl Decider {
    /// For the context with this number.
    #[must_use]
    pub fn of(context: i64) -> Self {
        Self { context, ..Self::default() }
    }

    /// Takes a new set of breakpoints.
    pub fn arm(&mut self, armed: Arc<Armed>) {
        self.changes += 1;
        self.armed = armed;
    }

    /// The set of breakpoints.
    #[must_use]
    pub fn armed(&self) -> &Arc<Armed> {
        &self.armed
    }

    /// Begins a step.
    pub fn begin_step(&mut self, step: Step) {
        self.changes += 1;
        self.step_from = self.last_place.and_then(|place| self.armed.origin(place)).flatten();
        self.step = Some(step);
    }

    /// The step under way.
    #[must_use]
    pub fn step(&self) -> Option<Step> {
        self.step
    }

    /// Gives up the step and the pause asked for, as when the context goes on freely.
    pub fn run_freely(&mut self) {
        self.changes += u64::from(self.step.is_some() || self.pause);
        self.step = None;
        self.pause = false;
        self.passes_library = false;
    }

    /// Stops at the next line.
    pub fn ask_pause(&mut self) {
        self.changes += 1;
        self.pause = true;
    }

    /// Stops at the next line of a source that is no library: the first line that a person would call theirs.
    pub fn ask_first_stop(&mut self) {
        self.ask_pause();
        self.passes_library = true;
    }

    /// Marks whether the next line is the first one of a handler whose event has breakpoints; answers what was marked
    /// before, to be put back when the handler is done.
    pub fn expect_handler(&mut self, expected: bool) -> bool {
        self.changes += u64::from(self.event_pending != expected);
        std::mem::replace(&mut self.event_pending, expected)
    }

    /// Whether no line has been reached since a handler was expected.
    #[must_use]
    pub fn awaits_handler(&self) -> bool {
        self.event_pending
    }

    /// Marks whether the times of calls are wanted; answers what was marked before.
    pub fn time_calls(&mut self, wanted: bool) -> bool {
        self.changes += u64::from(self.call_times != wanted);
        std::mem::replace(&mut self.call_times, wanted)
    }

    /// A number that differs from an earlier one whenever [`need`](Self::need) may.
    #[must_use]
    pub fn need_version(&self) -> u64 {
        self.changes
    }

    /// What the engine has to report now.
    #[must_use]
    pub fn need(&self) -> Need {
        let changes = self.armed.on_script_change(self.context).next().is_some();
        Need {
            every_line: self.step.is_some() || self.pause || self.event_pending || changes,
            every_stack: self.step.is_some_and(|step| step.kind() == StepKind::Into) || changes,
            returns_of: self.step,
            raises: !self.armed.on_error().is_empty(),
            call_times: self.call_times,
            new_sources: self.armed.awaits_sources(),
            armed: self.armed.clone(),
        }
    }

    /// Decides at a line.
    pub fn at_line(&mut self, moment: Moment<'_>, engine: &mut dyn Engine) -> Decision {
        let armed = self.armed.clone();
        let mut decision = Decision::default();
        let before = std::mem::replace(&mut self.last_place, moment.place);
        if let Some(change) = self.changed(&armed, before, moment, engine, &mut decision.said) {
            decision.reason = Some(change);
        }
        let is_first = self.expect_handler(false);
        if let (true, Some(event)) = (is_first, moment.event) {
            let first = armed.on_event(event.kind);
            let hit = hit(first, moment, engine, &mut decision.said);
            keep(&mut decision.reason, hit, |ids| Reason::Event { ids, at_boundary: false });
        }
        let on_line = moment.place.map_or(&[][..], |place| armed.at_line(place));
        if !on_line.is_empty() {
            let entered = engine.is_function_entry();
            let is_use = |sited: &&Sited| matches!(sited.breakpoint.spec.site, Site::Change { .. });
            let there = on_line.iter().filter(|sited| (entered || !sited.at_entry) && !is_use(sited));
            let hit = hit(there, moment, engine, &mut decision.said);
            keep(&mut decision.reason, hit, |ids| Reason::Breakpoint { ids });
            for sited in on_line.iter().filter(is_use) {
                self.at_use(sited, moment, engine, &mut decision);
            }
        }
        if decision.reason.is_none() && self.pause && !self.is_passed(&armed, moment) {
            decision.reason = Some(Reason::Pause);
        }
        if decision.reason.is_none() && self.step_ends(&armed, moment, engine) {
            decision.reason = Some(Reason::Step);
        }
        self.settle(decision)
    }

    /// Decides about a line that may use a watched value: whether what it writes names that value here.
    fn at_use(&self, sited: &Sited, moment: Moment<'_>, engine: &mut dyn Engine, decision: &mut Decision) {
        let Site::Change { target: Tracked::Script { context, track, shown }, how } = &sited.breakpoint.spec.site
        else {
            return;
        };
        let mut is_use = |held: &NameUse| {
            engine.names(*track, &held.text) && !held.guard.as_ref().is_some_and(|guard| engine.rules_out(guard))
        };
        if *context != self.context || !sited.uses.iter().any(&mut is_use) {
            return;
        }
        let hit = hit(std::iter::once(sited), moment, engine, &mut decision.said);
        let (target, is_write) = (shown.clone(), *how == ChangeKind::Written);
        keep(&mut decision.reason, hit, |_| Reason::Used { id: sited.breakpoint.id, target, is_write });
    }

    /// A step into a function of a library goes on until it is out of it. In a script that was compiled, a step is one of what it
    /// was written as: it goes on through lines that come from nowhere, or from where it began.
    fn step_ends(&self, armed: &Armed, moment: Moment<'_>, engine: &mut dyn Engine) -> bool {
        let is_library = moment.place.is_some_and(|place| armed.is_library(place.source));
        let Some(step) = self.step.filter(|step| step.kind() != StepKind::Into || !is_library) else { return false };
        if !step.arrives(engine.stack()) {
            return false;
        }
        match moment.place.and_then(|place| armed.origin(place)) {
            None => true,
            Some(None) => false,
            Some(origin) => origin != self.step_from || step.depth() != engine.stack().depth(),
        }
    }

    /// Whether a pause passes over a line: one of a library, or one that nobody wrote.
    fn is_passed(&self, armed: &Armed, moment: Moment<'_>) -> bool {
        let Some(place) = moment.place else { return false };
        self.passes_library && armed.is_library(place.source) || armed.origin(place) == Some(None)
    }

    /// Decides where a script raises `message`.
    pub fn at_raise(&mut self, moment: Moment<'_>, message: &str, caught: bool, engine: &mut dyn Engine) -> Decision {
        let armed = self.armed.clone();
        let mut decision = Decision::default();
        let concerned = armed.on_error().iter().filter(|sited| match &sited.breakpoint.spec.site {
            Site::Error { every, containing } => {
                (*every || !caught) && containing.as_deref().is_none_or(|part| message.contains(part))
            }
            _ => false,
        });
        let hit = hit(concerned, moment, engine, &mut decision.said);
        keep(&mut decision.reason, hit, |ids| Reason::Error { ids, message: message.to_owned(), caught });
        self.settle(decision)
    }

    /// Decides at the host's boundary, before any handler of an event runs.
    pub fn at_boundary(&mut self, moment: Moment<'_>, engine: &mut dyn Engine) -> Decision {
        let at_boundary = |sited: &&Sited| matches!(sited.breakpoint.spec.site, Site::Event { at_boundary: true, .. });
        self.on_event_at_boundary(moment, at_boundary, engine)
    }

    /// Decides at the host's boundary, after all handlers of an event: what their last line changed, and, when `untouched`
    /// by any script line, the event itself.
    pub fn after_event(&mut self, moment: Moment<'_>, untouched: bool, engine: &mut dyn Engine) -> Decision {
        let armed = self.armed.clone();
        let mut said = Vec::new();
        let last = self.last_place.take();
        if let Some(reason) = self.changed(&armed, last, moment, engine, &mut said) {
            return self.settle(Decision { reason: Some(reason), said, ..Decision::default() });
        }
        let at_line = |sited: &&Sited| matches!(sited.breakpoint.spec.site, Site::Event { at_boundary: false, .. });
        let mut decision = self.on_event_at_boundary(moment, |sited| untouched && at_line(sited), engine);
        said.append(&mut decision.said);
        Decision { said, ..decision }
    }

    fn on_event_at_boundary(
        &mut self,
        moment: Moment<'_>,
        concerned: impl Fn(&&Sited) -> bool,
        engine: &mut dyn Engine,
    ) -> Decision {
        let armed = self.armed.clone();
        let mut decision = Decision::default();
        if let Some(event) = moment.event {
            let hit = hit(armed.on_event(event.kind).filter(concerned), moment, engine, &mut decision.said);
            keep(&mut decision.reason, hit, |ids| Reason::Event { ids, at_boundary: true });
        }
        self.settle(decision)
    }

    /// Decides when a part of a host object was found to differ.
    pub fn at_host_change(
        &mut self,
        sited: &Sited,
        change: Change,
        moment: Moment<'_>,
        engine: &mut dyn Engine,
    ) -> Decision {
        let mut decision = Decision::default();
        let hit = hit(std::iter::once(sited), moment, engine, &mut decision.said);
        let id = sited.breakpoint.id;
        keep(&mut decision.reason, hit, |_| Reason::Changed { id, change });
        self.settle(decision)
    }

    /// Decides at the line where a handler's time is up.
    pub fn at_budget(&mut self, budget: Duration, moment: Moment<'_>, engine: &mut dyn Engine) -> Decision {
        let armed = self.armed.clone();
        let mut decision = Decision::default();
        let kind = moment.event.map_or("", |event| event.kind);
        let over = armed
            .on_time(kind)
            .iter()
            .filter(|sited| matches!(sited.breakpoint.spec.site, Site::Time { budget: held, .. } if held <= budget));
        let hit = hit(over, moment, engine, &mut decision.said);
        keep(&mut decision.reason, hit, |ids| Reason::OverBudget { ids, budget });
        self.settle(decision)
    }

    fn settle(&mut self, decision: Decision) -> Decision {
        if decision.reason.is_some() {
            self.run_freely();
        }
        Decision { is_settled: self.armed.is_settled(), ..decision }
    }

    /// Looks whether a watched value of the script differs from the last time. `before` is the line that ran since then.
    fn changed(
        &mut self,
        armed: &Armed,
        before: Option<SourceLine>,
        moment: Moment<'_>,
        engine: &mut dyn Engine,
        said: &mut Vec<Said>,
    ) -> Option<Reason> {
        let mut reason = None;
        for sited in armed.on_script_change(self.context) {
            let Site::Change { target: Tracked::Script { track, shown, .. }, how } = &sited.breakpoint.spec.site else {
                continue;
            };
            let (was, now) = match engine.probe(*track) {
                Probe::Changed { before, now } => (before, now),
                Probe::Gone => {
                    sited.breakpoint.note_gone();
                    continue;
                }
                Probe::Same => continue,
            };
            if *how == ChangeKind::Type && was.0 == now.0 {
                continue;
            }
            let at = Moment { place: before, ..moment };
            let hit = hit(std::iter::once(sited), at, engine, said);
            let change = Change { target: shown.clone(), before: was, now, place: before, after: None };
            keep(&mut reason, hit, |_| Reason::Changed { id: sited.breakpoint.id, change });
        }
        reason
    }
}

/// What came of asking the breakpoints of a place.
enum Hit {
    /// These stop.
    Ids(Vec<BreakpointId>),
    /// Only temporary ones stop.
    Arrived,
    Failed {
        id: BreakpointId,
        condition: String,
        why: String,
    },
}

/// Takes a hit as the reason, unless there is one already.
fn keep(reason: &mut Option<Reason>, hit: Option<Hit>, of_ids: impl FnOnce(Vec<BreakpointId>) -> Reason) {
    if let (None, Some(hit)) = (&reason, hit) {
        *reason = Some(match hit {
            Hit::Ids(ids) => of_ids(ids),
            Hit::Arrived => Reason::Arrived,
            Hit::Failed { id, condition, why } => Reason::ConditionFailed { id, condition, why },
        });
    }
}

/// Asks each candidate; those that are hit do what they are there for.
fn hit<'a>(
    candidates: impl Iterator<Item = &'a Sited>,
    moment: Moment<'_>,
    engine: &mut dyn Engine,
    said: &mut Vec<Said>,
) -> Option<Hit> {
    let (mut ids, mut arrived, mut failure) = (Vec::new(), false, None);
    for sited in candidates.filter(|sited| sited.is_live() && moment.concerns(&sited.breakpoint)) {
        let held = &*sited.breakpoint;
        match held.spec.condition.as_deref().map_or(Ok(true), |condition| engine.condition(held, condition)) {
            Ok(true) if held.reach() => {
                held.note_last(moment.occasion());
                act(held, moment, engine, said);
                if held.spec.temporary {
                    arrived = true;
                } else if held.spec.action.stops() {
                    ids.push(held.id);
                }
            }
            Ok(_) => {}
            Err(why) if held.note_failure(&format!("its condition failed: {why}")) => {
                let condition = held.spec.condition.clone().unwrap_or_default();
                failure = Some(Hit::Failed { id: held.id, condition, why });
            }
            Err(_) => {}
        }
    }
    failure.or_else(|| (!ids.is_empty()).then_some(Hit::Ids(ids))).or_else(|| arrived.then_some(Hit::Arrived))
}

/// Does what a breakpoint does besides stopping.
fn act(held: &Breakpoint, moment: Moment<'_>, engine: &mut dyn Engine, said: &mut Vec<Said>) {
    let mut say = |text: String, is_trouble: bool, rings: bool| {
        said.push(Said { owner: held.owner, id: held.id, text, is_trouble, rings, place: moment.place });
    };
    match &held.spec.action {
        Action::Stop => {}
        Action::Ring => say(format!("breakpoint {} was hit", held.label()), false, true),
        Action::Say(template) => say(filled(held, template, engine), false, false),
        Action::Run(statement) => {
            if let Err(why) = engine.run_statement(held, statement)
                && held.note_failure(&format!("its statement failed: {why}"))
            {
                say(format!("breakpoint {} could not run '{statement}': {why}", held.label()), true, false);
            }
        }
    }
}

/// A template with its expressions evaluated; one that fails says so in its place.
fn filled(held: &Breakpoint, template: &Template, engine: &mut dyn Engine) -> String {
    let mut text = String::new();
    for (slot, piece) in template.pieces().iter().enumerate() {
        match piece {
            Piece::Text(plain) => text.push_str(plain),
            Piece::Hits => text.push_str(&held.hits().to_string()),
            Piece::Name => text.push_str(&held.label()),
            Piece::Expression(expression) => match engine.text_of(held, slot, expression) {
                Ok(value) => text.push_str(&value),
                Err(why) => text.push_str(&format!("<{why}>")),
            },
        }
    }
    text
}
