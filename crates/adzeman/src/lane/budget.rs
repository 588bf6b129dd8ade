//! Time budgets of handlers: a thread that waits for their ends, so that the script pays nothing while it has time left.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, unbounded};

use super::link::ContextLink;
use crate::state::clock::Clock;

/// The time that a handler may take, and how far it has come with that: its thread shares this with the one that waits.
#[derive(Clone)]
pub(crate) struct Budget {
    pub(crate) limit: Duration,
    pub(crate) spent: Arc<Spent>,
}

/// How far a handler has come with its time.
#[derive(Default)]
pub(crate) struct Spent {
    /// So much is used up that it is worth to know what takes it; taken by who begins to keep that.
    pub(crate) wants_times: AtomicBool,
    /// All is used up; taken by who tells of it.
    pub(crate) is_over: AtomicBool,
    /// It is done.
    pub(crate) is_done: AtomicBool,
}

impl Spent {
    /// Whether there is something to be taken notice of.
    pub(crate) fn is_pending(&self) -> bool {
        self.is_over.load(SeqCst) || self.wants_times.load(SeqCst)
    }
}

/// A handler whose time is running.
pub(crate) struct Alarm {
    /// Those who may be running it.
    pub(crate) contexts: Vec<Arc<ContextLink>>,
    /// When it is worth to know what takes its time, until that has been said; and when that is up. By the host's clock, which stands
    /// still at stops.
    pub(crate) times_from: Option<Duration>,
    pub(crate) at: Duration,
    pub(crate) spent: Arc<Spent>,
}

/// The thread, as those see it who set alarms. It ends when this is dropped.
pub(crate) struct Timer(Sender<Alarm>);

impl Timer {
    /// Starts it.
    pub(crate) fn start(clock: Arc<Clock>) -> Self {
        let (sender, alarms) = unbounded();
        let started = thread::Builder::new().name("adzeman-budgets".to_owned()).spawn(move || run(&alarms, &clock));
        if let Err(error) = started {
            tracing::error!(%error, "time budgets are not watched: no thread could be started");
        }
        Self(sender)
    }

    /// Sets an alarm.
    pub(crate) fn set(&self, alarm: Alarm) {
        // Without the thread, which was said, nobody is woken.
        let _ = self.0.send(alarm);
    }
}

fn run(alarms: &Receiver<Alarm>, clock: &Clock) {
    let mut waiting: Vec<Alarm> = Vec::new();
    loop {
        let next = waiting.iter().map(|alarm| alarm.times_from.unwrap_or(alarm.at)).min();
        let alarm = match next {
            None => alarms.recv().map_err(|_| RecvTimeoutError::Disconnected),
            Some(at) => alarms.recv_timeout(at.saturating_sub(clock.now()).max(Duration::from_micros(50))),
        };
        match alarm {
            Ok(alarm) => waiting.push(alarm),
            Err(RecvTimeoutError::Timeout) => {}
            Err(RecvTimeoutError::Disconnected) => return,
        }
        let now = clock.now();
        waiting.retain_mut(|alarm| {
            if alarm.spent.is_done.load(SeqCst) {
                return false;
            }
            let is_over = alarm.at <= now;
            let due = if is_over {
                Some(&alarm.spent.is_over)
            } else {
                alarm.times_from.take_if(|from| *from <= now).map(|_| &alarm.spent.wants_times)
            };
            if let Some(due) = due {
                due.store(true, SeqCst);
                alarm.contexts.iter().for_each(|context| context.look_at_budget());
            }
            !is_over
        });
    }
}
