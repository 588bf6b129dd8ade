//! Monitors: expressions that are sampled at safe points while the host runs. A sample is taken on the context's own thread;
//! its cost is measured, and bounded by the [`Pace`].

use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use adzeman_core::monitor::{Every, Pace};
use adzeman_core::trail::{Said, Speaker};

use super::Lane;
use super::context::LocalContext;
use super::link::ContextLink;
use super::recording::note_said;
use crate::event::{EventFrame, current_event};
use crate::state::clients::Client;
use crate::state::lock;
use crate::state::notice::{Notice, Sample};

/// Monitors of one host at one time.
pub(crate) const MOST_MONITORS: usize = 100;

/// An expression that a client wants sampled.
pub(crate) struct Monitor {
    pub(crate) id: u64,
    pub(crate) client: Arc<Client>,
    pub(crate) context: Arc<ContextLink>,
    pub(crate) expression: String,
    pub(crate) pace: Pace,
    /// When it was asked for, by the host's clock.
    pub(crate) begun: Duration,
    pub(crate) taken: u64,
    pub(crate) spent: Duration,
}

/// What is sampled while a host runs, by whichever thread the context of it is on.
#[derive(Default)]
pub(crate) struct Monitors {
    all: Mutex<Vec<Monitor>>,
    /// How many there are, for those who have nothing to do when there are none.
    count: AtomicUsize,
    last: AtomicU64,
}

impl Monitors {
    /// A number for the next one.
    pub(crate) fn next_id(&self) -> u64 {
        self.last.fetch_add(1, SeqCst) + 1
    }

    /// Takes a monitor; false when there are too many.
    pub(crate) fn add(&self, monitor: Monitor) -> bool {
        self.change(|all| {
            let fits = all.len() < MOST_MONITORS;
            if fits {
                all.push(monitor);
            }
            fits
        })
    }

    /// Forgets a monitor.
    pub(crate) fn end(&self, id: u64) {
        self.change(|all| all.retain(|monitor| monitor.id != id));
    }

    fn change<T>(&self, change: impl FnOnce(&mut Vec<Monitor>) -> T) -> T {
        let mut all = lock(&self.all);
        let outcome = change(&mut all);
        self.count.store(all.len(), SeqCst);
        outcome
    }

    fn is_empty(&self) -> bool {
        self.count.load(SeqCst) == 0
    }

    fn find<T>(&self, id: u64, look: impl FnOnce(&mut Monitor) -> T) -> Option<T> {
        lock(&self.all).iter_mut().find(|monitor| monitor.id == id).map(look)
    }
}

impl Lane {
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
        let found = self.host.monitors.find(id, |_| ()).is_some();
        if found {
            self.take(id);
        }
        found
    }

    fn sample(&self, mut is_due: impl FnMut(&mut Pace, Duration) -> bool) {
        if self.host.monitors.is_empty() {
            return;
        }
        let now = self.host.clock.now();
        let due: Vec<u64> = self.host.monitors.change(|all| {
            all.retain(|monitor| monitor.client.is_attached());
            let own = all.iter_mut().filter(|monitor| self.has(&monitor.context) || !monitor.context.is_open());
            own.filter_map(|monitor| is_due(&mut monitor.pace, now).then_some(monitor.id)).collect()
        });
        due.into_iter().for_each(|id| self.take(id));
    }

    fn take(&self, id: u64) {
        let wanted = self.host.monitors.find(id, |monitor| (monitor.context.id, monitor.expression.clone()));
        let Some((context, expression)) = wanted else { return };
        let context = self.context(context);
        let is_gone = context.is_none();
        let (now, begun) = (self.host.clock.now(), Instant::now());
        let outcome = match context {
            Some(context) => self.evaluate_sample(&context, &expression),
            None => Err("its context is gone".to_owned()),
        };
        let cost = begun.elapsed();
        let event = current_event(|event| event.map(EventFrame::title));
        if let Ok((_, value)) = &outcome {
            let said = || Said { by: Speaker::Monitor, of: Some(expression.clone()), text: value.clone() };
            note_said(&self.host, said);
        }
        self.host.monitors.find(id, |monitor| {
            monitor.pace.taken(now, cost);
            monitor.taken += 1;
            monitor.spent += cost;
            let sample = monitor.report(outcome, now, cost, event);
            monitor.client.tell(Notice::Sample(Box::new(sample)));
        });
        if is_gone {
            self.host.monitors.end(id);
        }
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
