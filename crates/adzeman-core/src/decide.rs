//! The one hot decision: run or stop, and why.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::breakpoint::{Armed, Breakpoint, BreakpointId, SourceLine};
use crate::engine::Engine;
use crate::source::LineSet;
use crate::stepping::{Step, StepKind};

/// Why a context stopped.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Reason {
    /// Line or function breakpoints on this line.
    Breakpoint {
        /// All that were hit.
        ids: Vec<BreakpointId>,
    },
    /// Event breakpoints: this is the first script line that handles the event.
    Event {
        /// All that were hit.
        ids: Vec<BreakpointId>,
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
    /// A step came to its end.
    Step,
    /// A person asked.
    Pause,
}

/// How closely an engine must watch its scripts.
#[derive(Debug, Clone)]
pub struct Need {
    /// Report every line, whatever the breakpoints say.
    pub every_line: bool,
    /// A step may go into any stack of the context, so none may be left unwatched.
    pub every_stack: bool,
    /// Otherwise report these lines (of any source), if there are any.
    pub armed: Arc<Armed>,
}

impl Need {
    /// The lines on which some source has a breakpoint.
    #[must_use]
    pub fn mask(&self) -> &LineSet {
        self.armed.line_mask()
    }

    /// Whether nothing needs to be watched, so that no hook is needed at all.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        !self.every_line && self.mask().is_empty()
    }
}

/// The event being handled, as far as the decision needs it.
#[derive(Debug, Clone, Copy)]
pub struct EventInHand<'a> {
    /// The kind's name.
    pub kind: &'a str,
    /// What it is about.
    pub subject: Option<&'a str>,
}

/// The state of one context that decides whether it runs on.
#[derive(Debug, Default)]
pub struct Decider {
    armed: Arc<Armed>,
    step: Option<Step>,
    pause: bool,
    event_pending: bool,
}

impl Decider {
    /// Takes a new set of breakpoints.
    pub fn arm(&mut self, armed: Arc<Armed>) {
        self.armed = armed;
    }

    /// Begins a step.
    pub fn begin_step(&mut self, step: Step) {
        self.step = Some(step);
    }

    /// The step under way.
    #[must_use]
    pub fn step(&self) -> Option<Step> {
        self.step
    }

    /// Gives up the step and the pause asked for, as when the context goes on freely.
    pub fn run_freely(&mut self) {
        self.step = None;
        self.pause = false;
    }

    /// Stops at the next line.
    pub fn ask_pause(&mut self) {
        self.pause = true;
    }

    /// Whether this kind of event has breakpoints.
    #[must_use]
    pub fn waits_for(&self, kind: &str) -> bool {
        !self.armed.on_event(kind).is_empty()
    }

    /// Marks whether the next line is the first one of a handler whose event has breakpoints; answers what was marked
    /// before, to be put back when the handler is done.
    pub fn expect_handler(&mut self, expected: bool) -> bool {
        std::mem::replace(&mut self.event_pending, expected)
    }

    /// What the engine has to report now.
    #[must_use]
    pub fn need(&self) -> Need {
        Need {
            every_line: self.step.is_some() || self.pause || self.event_pending,
            every_stack: self.step.is_some_and(|step| step.kind() == StepKind::Into),
            armed: self.armed.clone(),
        }
    }

    /// Decides at a line. `place` is `None` for a source without a number, on which no breakpoint can be.
    pub fn at_line(
        &mut self,
        place: Option<SourceLine>,
        event: Option<EventInHand<'_>>,
        engine: &mut dyn Engine,
    ) -> Option<Reason> {
        let armed = self.armed.clone();
        let on_line = place.map_or(&[][..], |place| armed.at_line(place));
        let on_event = match (std::mem::take(&mut self.event_pending), event) {
            (true, Some(event)) => armed.on_event(event.kind),
            _ => &[],
        };
        let reason = hit(on_event, event, engine)
            .map(|hit| hit.reason(|ids| Reason::Event { ids }))
            .or_else(|| hit(on_line, event, engine).map(|hit| hit.reason(|ids| Reason::Breakpoint { ids })))
            .or_else(|| std::mem::take(&mut self.pause).then_some(Reason::Pause))
            .or_else(|| self.step.filter(|step| step.arrives(engine.stack())).map(|_| Reason::Step));
        if reason.is_some() {
            self.run_freely();
        }
        reason
    }
}

enum Hit {
    Ids(Vec<BreakpointId>),
    Failed { id: BreakpointId, condition: String, why: String },
}

impl Hit {
    fn reason(self, of_ids: impl FnOnce(Vec<BreakpointId>) -> Reason) -> Reason {
        match self {
            Self::Ids(ids) => of_ids(ids),
            Self::Failed { id, condition, why } => Reason::ConditionFailed { id, condition, why },
        }
    }
}

/// Asks each candidate; the ones that hold are counted.
fn hit(candidates: &[Arc<Breakpoint>], event: Option<EventInHand<'_>>, engine: &mut dyn Engine) -> Option<Hit> {
    let mut ids = Vec::new();
    let mut failure = None;
    for held in candidates.iter().filter(|held| is_about(held, event)) {
        match held.spec.condition.as_deref().map_or(Ok(true), |condition| engine.condition(held, condition)) {
            Ok(true) => {
                held.count_hit();
                ids.push(held.id);
            }
            Ok(false) => {}
            Err(why) if held.note_failure(&why) => {
                let condition = held.spec.condition.clone().unwrap_or_default();
                failure = Some(Hit::Failed { id: held.id, condition, why });
            }
            Err(_) => {}
        }
    }
    failure.or_else(|| (!ids.is_empty()).then_some(Hit::Ids(ids)))
}

fn is_about(breakpoint: &Breakpoint, event: Option<EventInHand<'_>>) -> bool {
    match &breakpoint.spec.subject {
        None => true,
        Some(wanted) => event.and_then(|event| event.subject).is_some_and(|subject| subject == wanted),
    }
}
