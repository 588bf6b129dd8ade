//! Monitors: expressions that are sampled at safe points while the host runs. A sample is taken on the context's own thread;
//! its cost is measured, and bounded by the [`Pace`].

use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::monitor::{Every, Pace};

use super::Lane;
use super::context::LocalContext;
use crate::event::{EventFrame, current_event};
use crate::state::clients::Client;
use crate::state::notice::{Notice, Sample};

/// Monitors of one thread of the host at one time.
pub(crate) const MOST_MONITORS: usize = 100;

/// An expression that a client wants sampled.
pub(crate) struct Monitor {
    pub(crate) id: u64,
    pub(crate) client: Arc<Client>,
    pub(crate) context: i64,
    pub(crate) expression: String,
    pub(crate) pace: Pace,
    /// When it was asked for, by the host's clock.
    pub(crate) begun: Duration,
    pub(crate) taken: u64,
    pub(crate) spent: Duration,
}

impl Lane {
    /// Takes a monitor; false when there are too many.
    pub(crate) fn add_monitor(&self, monitor: Monitor) -> bool {
        let mut monitors = self.monitors.borrow_mut();
        let fits = monitors.len() < MOST_MONITORS;
        if fits {
            monitors.push(monitor);
        }
        fits
    }

    /// Forgets a monitor of a client.
    pub(crate) fn end_monitor(&self, id: u64) {
        self.monitors.borrow_mut().retain(|monitor| monitor.id != id);
    }

    /// Takes the samples that are due by the time.
    pub(crate) fn sample_by_time(&self) {
        self.sample(Pace::is_due);
    }

    /// Takes the samples that are due at the event whose handlers are done.
    pub(crate) fn sample_at(&self, event: &EventFrame<'_>) {
        self.sample(|pace, now| pace.is_due_at(event.kind(), now));
    }

    /// Takes a sample now; false when there is no such monitor.
    pub(crate) fn sample_now(&self, id: u64) -> bool {
        let found = self.monitors.borrow().iter().any(|monitor| monitor.id == id);
        if found {
            self.take(id);
        }
        found
    }

    fn sample(&self, mut is_due: impl FnMut(&mut Pace, Duration) -> bool) {
        if self.monitors.borrow().is_empty() {
            return;
        }
        let now = self.host.clock.now();
        let due: Vec<u64> = {
            let mut monitors = self.monitors.borrow_mut();
            monitors.retain(|monitor| monitor.client.is_attached());
            let due = monitors.iter_mut().filter_map(|monitor| is_due(&mut monitor.pace, now).then_some(monitor.id));
            due.collect()
        };
        due.into_iter().for_each(|id| self.take(id));
    }

    fn take(&self, id: u64) {
        let wanted = self
            .monitors
            .borrow()
            .iter()
            .find(|monitor| monitor.id == id)
            .map(|monitor| (monitor.context, monitor.expression.clone()));
        let Some((context, expression)) = wanted else { return };
        let context = self.contexts.borrow().iter().find(|held| held.link.id == context).cloned();
        let (now, begun) = (self.host.clock.now(), Instant::now());
        let outcome = match context {
            Some(context) => self.evaluate_sample(&context, &expression),
            None => Err("its context is gone".to_owned()),
        };
        let cost = begun.elapsed();
        let mut monitors = self.monitors.borrow_mut();
        let Some(monitor) = monitors.iter_mut().find(|monitor| monitor.id == id) else { return };
        monitor.pace.taken(now, cost);
        monitor.taken += 1;
        monitor.spent += cost;
        let event = current_event(|event| event.map(EventFrame::title));
        let sample = monitor.report(outcome, now, cost, event);
        monitor.client.tell(Notice::Sample(Box::new(sample)));
    }

    fn evaluate_sample(&self, context: &LocalContext, expression: &str) -> Result<(String, String), String> {
        let mut sampled = Err("its context could not be looked at".to_owned());
        context.at_safe_point(&mut |engine| {
            sampled = self.quietly(|| engine.sample(expression)).map_err(|error| error.to_string());
        });
        sampled
    }
}

impl Monitor {
    fn report(
        &self,
        outcome: Result<(String, String), String>,
        now: Duration,
        cost: Duration,
        event: Option<String>,
    ) -> Sample {
        // The sample itself may be all the time there was.
        let passed = now.saturating_sub(self.begun) + cost;
        Sample {
            monitor: self.id,
            outcome,
            at: now,
            event,
            count: self.taken,
            cost,
            share: self.spent.as_secs_f64() / passed.as_secs_f64().max(f64::MIN_POSITIVE),
            is_slowed: self.pace.is_slowed(),
        }
    }
}

/// How often a sample is wanted, from what a client says.
pub(crate) fn every(milliseconds: Option<f64>, event: Option<String>, count: Option<u64>) -> Every {
    match event {
        Some(kind) => Every::Event { kind, count: count.unwrap_or(1).max(1) },
        None => Every::Time(Duration::from_secs_f64(milliseconds.unwrap_or(1000.0).clamp(1.0, 86_400_000.0) / 1000.0)),
    }
}
