//! Time budgets of handlers: a thread that waits for their ends, so that the script pays nothing while it has time left.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, unbounded};

use super::link::ContextLink;
use crate::state::clock::Clock;

/// A handler whose time is running.
pub(crate) struct Alarm {
    /// Those who may be running it.
    pub(crate) contexts: Vec<Arc<ContextLink>>,
    /// When its time is up, by the host's clock, which stands still at stops.
    pub(crate) at: Duration,
    /// Set when it is done.
    pub(crate) done: Arc<AtomicBool>,
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
        let next = waiting.iter().map(|alarm| alarm.at).min();
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
        waiting.retain(|alarm| {
            let is_over = alarm.at <= now;
            if is_over && !alarm.done.load(SeqCst) {
                alarm.contexts.iter().for_each(|context| context.budget_is_over());
            }
            !is_over && !alarm.done.load(SeqCst)
        });
    }
}
