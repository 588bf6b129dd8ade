//! The one hot decision: run or stop, and why.

mod hit;
mod moment;
mod reason;

use std::sync::Arc;
use std::time::Duration;

pub use moment::{EventInHand, Moment};
pub use reason::{Change, Decision, Reason, Said};

use hit::{hit, keep};

use crate::breakpoint::{Armed, ChangeKind, Site, Sited, TrackId, Tracked};
use crate::engine::{Engine, Need, Probe};
use crate::source::{NameUse, SourceLine};
use crate::stepping::{Step, StepKind};

/// The state of one context that decides whether it runs on.
#[derive(Debug, Default)]
pub struct Decider {
    context: i64,
    armed: Arc<Armed>,
    step: Option<Step>,
    pause: bool,
    /// Whether the pause asked for passes over libraries.
    passes_library: bool,
    /// Whether it is asked for since the function goes on there.
    arrives: bool,
    /// Whether every line is to be told of, to see which run.
    traces: bool,
    /// Where in what a script was written as the step under way began.
    step_from: Option<SourceLine>,
    event_pending: bool,
    /// Whether the next line may be the one to which a step of another context goes on.
    awaits_step: bool,
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
        // Nothing is left to be looked at in a handler.
        self.event_pending &= armed.has_events();
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
        self.step = Some(step.numbered(self.changes));
    }

    /// The step under way.
    #[must_use]
    pub fn step(&self) -> Option<Step> {
        self.step
    }

    /// Gives up the step and the pause asked for, as when the context goes on freely.
    pub fn run_freely(&mut self) {
        self.changes += u64::from(self.step.is_some() || self.pause || self.awaits_step);
        self.step = None;
        self.awaits_step = false;
        self.pause = false;
        self.passes_library = false;
        self.arrives = false;
    }

    /// Stops at the next line.
    pub fn ask_pause(&mut self) {
        self.changes += 1;
        self.pause = true;
    }

    /// Stops at the next line, since the function goes on there.
    pub fn ask_arrival(&mut self) {
        self.ask_pause();
        self.arrives = true;
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

    /// Marks whether the next line may be the one to which a step of another context goes on; answers what was marked before.
    pub fn await_step(&mut self, awaited: bool) -> bool {
        self.changes += u64::from(self.awaits_step != awaited);
        std::mem::replace(&mut self.awaits_step, awaited)
    }

    /// Marks whether every line is to be told of, to see which run.
    pub fn trace(&mut self, traces: bool) {
        self.changes += u64::from(self.traces != traces);
        self.traces = traces;
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
        let changes = self.changes_of();
        let is_asked = self.pause || self.awaits_step || self.event_pending || self.traces;
        let by_others = is_asked || !changes.is_empty();
        Need {
            every_line: self.step.is_some() || by_others,
            lines_of: self.step.filter(|step| step.kind() != StepKind::Into && !by_others),
            every_stack: self.step.is_some_and(|step| step.kind() == StepKind::Into) || !changes.is_empty(),
            changes_of: if is_asked || self.step.is_some() { Vec::new() } else { changes },
            returns_of: self.step,
            raises: !self.armed.on_error().is_empty(),
            call_times: self.call_times,
            new_sources: self.armed.awaits_sources(),
            lines: self.armed.wanted().clone(),
        }
    }

    /// The values of scripts that are watched for a change and are still there.
    fn changes_of(&self) -> Vec<TrackId> {
        let live = self.armed.on_script_change(self.context).filter(|sited| !sited.breakpoint.is_gone());
        let tracked = live.filter_map(|sited| match &sited.breakpoint.spec.site {
            Site::Change { target: Tracked::Script { track, .. }, .. } => Some(*track),
            _ => None,
        });
        tracked.collect()
    }

    /// Decides at a line.
    pub fn at_line(&mut self, moment: Moment<'_>, engine: &mut dyn Engine) -> Decision {
        let armed = self.armed.clone();
        let mut decision = Decision::default();
        let before = engine.passed().or(self.last_place);
        self.last_place = moment.place;
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
        if decision.reason.is_none() && self.pause && (self.arrives || !self.is_passed(&armed, moment)) {
            decision.reason = Some(if self.arrives { Reason::Arrived } else { Reason::Pause });
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
        let last = engine.passed().or(self.last_place);
        self.last_place = None;
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
        keep(&mut decision.reason, hit, |_| Reason::Changed { id, change: Box::new(change) });
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
                    self.changes += u64::from(!sited.breakpoint.is_gone());
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
            keep(&mut reason, hit, |_| Reason::Changed { id: sited.breakpoint.id, change: Box::new(change) });
        }
        reason
    }
}
