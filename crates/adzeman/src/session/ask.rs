//! Having a job done on a context's own thread, and waiting for what comes of it.

use std::sync::Arc;
use std::time::Duration;

use crossbeam_channel::bounded;

use super::SessionError;
use crate::context::ContextShared;
use crate::lane::{Mail, SafePoint, Ticket};

/// How long a context may take to come to a safe point.
const SAFE_POINT_WITHIN: Duration = Duration::from_secs(2);
/// How long a job itself may take. Evaluations are cut off long before.
const DONE_WITHIN: Duration = Duration::from_secs(30);

/// Has `work` done on the context's thread and waits for its answer. When the context comes to no safe point in time, the
/// job is withdrawn: nothing happens later that nobody waits for.
pub(super) fn ask<T: Send + 'static>(
    context: &ContextShared,
    work: impl FnOnce(&mut SafePoint<'_>) -> T + Send + 'static,
) -> Result<T, SessionError> {
    let (answer, answered) = bounded(1);
    let ticket = Arc::new(Ticket::default());
    let job = Box::new(move |point: &mut SafePoint<'_>| {
        // The asker may have given up; then nobody needs the answer.
        let _ = answer.send(work(point));
    });
    if !context.post(Mail { context: context.id, ticket: ticket.clone(), work: job }) {
        return Err(SessionError::Gone(context.name.clone()));
    }
    let waited = answered.recv_timeout(SAFE_POINT_WITHIN);
    match waited {
        Ok(value) => Ok(value),
        Err(_) if ticket.cancel() => Err(SessionError::NoSafePoint(context.name.clone())),
        Err(_) => answered.recv_timeout(DONE_WITHIN).map_err(|_| SessionError::NoSafePoint(context.name.clone())),
    }
}

/// Has `work` done on the context's thread, at its next safe point, without waiting for it.
pub(super) fn tell(context: &ContextShared, work: impl FnOnce(&mut SafePoint<'_>) + Send + 'static) {
    context.post(Mail { context: context.id, ticket: Arc::new(Ticket::default()), work: Box::new(work) });
}
