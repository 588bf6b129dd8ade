//! Having a job done on a context's own thread, and waiting for what comes of it.

use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::evaluation::{Cancel, Inside};
use crossbeam_channel::{RecvTimeoutError, bounded};

use super::{Session, SessionError};
use crate::lane::watchdog::{UNNAMED, stuck_in};
use crate::lane::{ContextLink, Mail, SafePoint, Ticket};

/// How long a context may take to come to a safe point.
const SAFE_POINT_WITHIN: Duration = Duration::from_secs(2);
/// How much longer than it may take a job is waited for: then it is in a call that cannot be interrupted.
const LATE: Duration = Duration::from_secs(2);
/// How long a job that was given up is waited for.
const GIVEN_UP_WITHIN: Duration = Duration::from_secs(1);
/// Between two looks whether it was given up.
const GLANCE: Duration = Duration::from_millis(20);

impl Session {
    /// Has `work` done on the context's thread and waits for its answer, unless the request is cancelled. When the context
    /// comes to no safe point in time, the job is withdrawn: nothing happens later that nobody waits for.
    pub(super) fn ask<T: Send + 'static>(
        &self,
        context: &ContextLink,
        work: impl FnOnce(&mut SafePoint<'_>) -> T + Send + 'static,
    ) -> Result<T, SessionError> {
        self.ask_for(context, self.host.limits().asked.saturating_add(LATE), work)
    }

    /// The same for work that may take `longest` once it has begun, and gives up by itself when the request is cancelled.
    pub(super) fn ask_for<T: Send + 'static>(
        &self,
        context: &ContextLink,
        longest: Duration,
        work: impl FnOnce(&mut SafePoint<'_>) -> T + Send + 'static,
    ) -> Result<T, SessionError> {
        let (answer, answered) = bounded(1);
        let ticket = Arc::new(Ticket::new(self.cancel.clone()));
        let job = Box::new(move |point: &mut SafePoint<'_>| {
            // The asker may have given up; then nobody needs the answer.
            let _ = answer.send(work(point));
        });
        if !context.post(Mail { context: context.id, ticket: ticket.clone(), work: job }) {
            return Err(SessionError::Gone(context.name.clone()));
        }
        let asked = Instant::now();
        let mut cancelled_at = None;
        loop {
            match answered.recv_timeout(GLANCE) {
                Ok(value) => return Ok(value),
                // The job was dropped: by a fault in it, or with the context.
                Err(RecvTimeoutError::Disconnected) if context.is_open() => {
                    return Err(SessionError::Fault { command: "the request".to_owned() });
                }
                Err(RecvTimeoutError::Disconnected) => return Err(SessionError::Gone(context.name.clone())),
                Err(RecvTimeoutError::Timeout) => {}
            }
            if !context.is_open() && ticket.withdraw() {
                return Err(SessionError::Gone(context.name.clone()));
            }
            if self.cancel.is_cancelled() {
                if ticket.withdraw() {
                    return Err(SessionError::Cancelled);
                }
                let since: &mut Instant = cancelled_at.get_or_insert_with(Instant::now);
                if since.elapsed() > GIVEN_UP_WITHIN {
                    return Err(not_ending(context));
                }
            }
            if asked.elapsed() > SAFE_POINT_WITHIN && ticket.withdraw() {
                return Err(no_safe_point(context));
            }
            if asked.elapsed() > longest && !ticket.withdraw() {
                return Err(not_ending(context));
            }
        }
    }
}

/// Why a context does not come to a safe point, as far as that is known.
fn no_safe_point(context: &ContextLink) -> SessionError {
    if context.under_way().is_some() {
        return not_ending(context);
    }
    let name = context.name.clone();
    match context.inside() {
        Some(Inside::Host) => SessionError::NoScriptRuns(name),
        inside => match inside.and_then(stuck_in) {
            Some(native) => stuck(name, native),
            None => SessionError::NoSafePoint(name),
        },
    }
}

/// Why an evaluation that has begun does not end.
fn not_ending(context: &ContextLink) -> SessionError {
    stuck(context.name.clone(), context.under_way().and_then(|under_way| under_way.native))
}

fn stuck(context: String, native: Option<String>) -> SessionError {
    SessionError::Stuck { context, native: native.unwrap_or_else(|| UNNAMED.to_owned()) }
}

/// Has `work` done on the context's thread, at its next safe point, without waiting for it.
pub(super) fn tell(context: &ContextLink, work: impl FnOnce(&mut SafePoint<'_>) + Send + 'static) {
    tell_until(context, Cancel::default(), work);
}

/// The same, unless it is cancelled before.
pub(super) fn tell_until(
    context: &ContextLink,
    cancel: Cancel,
    work: impl FnOnce(&mut SafePoint<'_>) + Send + 'static,
) {
    context.post(Mail { context: context.id, ticket: Arc::new(Ticket::new(cancel)), work: Box::new(work) });
}
