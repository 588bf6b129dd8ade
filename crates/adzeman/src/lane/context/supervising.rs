//! What an engine reports of a context, and what comes of it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use adzeman_core::decide::Reason;
use adzeman_core::engine::{Blindness, Engine, Supervisor};
use adzeman_core::evaluation::{Allowance, Cancel};
use adzeman_core::source::{Line, LineSet, SourceFacts, SourceId, SourceLine};

use super::LocalContext;
use crate::event::current_event;
use crate::lane::budget::Budget;
use crate::state::lock;
use crate::state::notice::{Notice, Text, Tone};

/// Sources that are loaded between two looks whether earlier ones are gone.
const LOOKED_AFTER: usize = 500;

impl Supervisor for LocalContext {
    fn source_loaded(&self, facts: SourceFacts) -> SourceId {
        let loaded = self.loaded.fetch_add(1, Ordering::Relaxed) + 1;
        if loaded.is_multiple_of(LOOKED_AFTER) && self.host.is_attached() {
            self.link.take_notice();
        }
        self.host.add_source(facts, self.link.id)
    }

    fn source_gone(&self, source: SourceId) {
        self.host.release_source(source, self.link.id);
    }

    fn attention(&self) -> Arc<AtomicBool> {
        self.link.attention.clone()
    }

    fn now(&self) -> Option<Duration> {
        Some(self.host.clock.now())
    }

    fn allowance(&self) -> Allowance {
        self.host.limits().for_aside(Cancel::default())
    }

    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line) {
        let Some(lane) = self.free_lane() else { return };
        self.catch_up();
        if self.running_openly.load(Ordering::Relaxed) > 0 && !self.host.is_attached() {
            self.abandon();
            return;
        }
        if self.link.serving_wanted.swap(false, Ordering::SeqCst) {
            lane.serve_at_line(self, engine);
            self.catch_up();
            self.do_what_waits();
        }
        let place = source.map(|source| SourceLine { source, line });
        let (may_take_step, awaits_handler) = {
            let decider = &mut lock(&self.deciding).decider;
            (decider.await_step(false), decider.awaits_handler())
        };
        if awaits_handler {
            lane.first_lines.borrow_mut().reached.extend(self.me.upgrade());
        }
        let (wants_times, over_budget) = match &*lane.budget.borrow() {
            Some(Budget { limit, spent }) if spent.is_pending() => {
                let is_over = spent.is_over.swap(false, Ordering::SeqCst);
                (spent.wants_times.swap(false, Ordering::SeqCst), is_over.then_some(*limit))
            }
            _ => (false, None),
        };
        if wants_times {
            lock(&self.deciding).decider.time_calls(true);
        }
        let mut decided = lane.quietly(|| self.decide(place, |decider, moment| decider.at_line(moment, engine)));
        if let (None, Some(budget)) = (&decided.reason, over_budget) {
            decided = lane.quietly(|| self.decide(place, |decider, moment| decider.at_budget(budget, moment, engine)));
        }
        if may_take_step && decided.reason.is_none() && self.takes_step_over(&lane) {
            decided.reason = Some(Reason::Step);
        }
        let is_all = decided.reason.is_none() && decided.is_watched_for;
        if (wants_times || !is_all) && !self.hold_for(&lane, engine, decided.reason) {
            self.watch_anew();
        }
    }

    fn holds_line(&self, source: SourceId, lines: &LineSet, first: u32, last: u32) -> bool {
        self.host.sources.look().get(source).is_some_and(|source| source.function_holds(lines, first, last))
    }

    fn armed_as(&self, place: SourceLine, watched_because: Option<&str>) {
        self.host.breakpoints.note_armed(place, watched_because);
    }

    fn lagging(&self, source: SourceId, functions: &[(u32, u32)]) {
        self.host.note_lagging(source, self.link.id, functions);
    }

    fn handler_raised(&self, times: usize) {
        let text = format!(
            "{}: what handles an error has raised one in turn, and was called for that as well, {times} times on end: the first of \
             these can stop it, the others cannot\n",
            self.link.name
        );
        self.host.clients.tell(Notice::text(Tone::Important, text));
    }

    fn was_blind(&self, why: Blindness) {
        let text = match why {
            Blindness::OtherHook => format!(
                "the host has set a hook of its own on {}, or on a coroutine there, while lines were watched for: steps, and breakpoints \
                 under the line hook, could miss lines from then until now; it goes on beside ours where it is set before the context is \
                 opened, and coroutines are resumed by the context\n",
                self.link.name
            ),
            Blindness::LoadedAgain(source) => format!(
                "a loader of the host's own has loaded {} again in {}: breakpoints could be missed in what it has loaded, until now; \
                 from here on calls are watched there, so that the next time is met, at some cost; context.load has none\n",
                self.host.sources.look().get(source).map_or("a script", |source| &source.facts.name),
                self.link.name
            ),
        };
        if lock(&self.blindness_told).insert(why) {
            self.host.clients.tell(Notice::text(Tone::Important, text));
        }
    }

    fn raised(&self, engine: &mut dyn Engine, place: Option<(SourceId, Line)>, message: &str, caught: bool) {
        let Some(lane) = self.free_lane() else { return };
        self.catch_up();
        let place = place.map(|(source, line)| SourceLine { source, line });
        let decided =
            lane.quietly(|| self.decide(place, |decider, moment| decider.at_raise(moment, message, caught, engine)));
        if !self.hold_for(&lane, engine, decided.reason) {
            self.watch();
        }
    }

    fn stop_asked(&self, engine: &mut dyn Engine) {
        let Some(lane) = self.free_lane() else { return };
        self.catch_up();
        if !self.hold_for(&lane, engine, Some(Reason::ByScript)) {
            self.watch_anew();
        }
    }

    fn wait_asked(&self, limit: Duration) -> bool {
        // Where nothing is open, nobody can come.
        let can_come = self.host.opening.is_open.load(Ordering::Relaxed);
        let waited = self.host.clients.is_ready() || can_come && self.wait_for_client(limit);
        self.refresh();
        waited
    }

    fn said(&self, text: &str, place: Option<(SourceId, Line)>) {
        self.output(Tone::Said, text, place);
    }

    fn printed(&self, text: &str, place: Option<(SourceId, Line)>) {
        self.output(Tone::Printed, text, place);
    }

    fn is_attached(&self) -> bool {
        self.host.is_attached()
    }

    fn during(&self) -> Option<String> {
        current_event(|event| event.map(|event| event.kind().to_owned()))
    }
}

impl LocalContext {
    /// Sends what a script prints or says to every client, with the line that did.
    fn output(&self, tone: Tone, text: &str, place: Option<(SourceId, Line)>) {
        let place = place.map(|(source, line)| SourceLine { source, line });
        self.host.clients.tell(Notice::Text(Box::new(Text { tone, text: text.to_owned(), place, rings: false })));
    }
}
