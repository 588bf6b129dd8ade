//! Requests of a client that were read and are not answered yet. Reading goes on while one is carried out, so that it can be
//! cancelled, and so that a client that goes is noticed.

use std::collections::{HashSet, VecDeque};
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use adzeman_core::evaluation::Cancel;
use adzeman_dap::Request;

use crate::state::clients::Work;
use crate::state::lock;

/// Requests of a client that wait for their turn. One more is refused.
pub(crate) const MOST_UNANSWERED: usize = 512;
/// Bytes of them.
pub(crate) const MOST_UNANSWERED_BYTES: usize = 32 * 1024 * 1024;

#[derive(Default)]
pub(crate) struct Inbox {
    pending: Mutex<Pending>,
    changed: Condvar,
}

#[derive(Default)]
struct Pending {
    waiting: VecDeque<(Request, usize)>,
    bytes: usize,
    /// The request that is being carried out, and what ends it.
    current: Option<(i64, Cancel)>,
    /// The call that a person asked for and that goes on after its answer.
    call: Option<(i64, Cancel)>,
    /// Requests that are to be given up when their turn comes.
    cancelled: HashSet<i64>,
    /// No more come: what waits is carried out, as far as that takes no time.
    is_closed: bool,
    /// What waits is given up.
    gives_up: bool,
}

impl Pending {
    fn cancel_all(&mut self) {
        for (_, cancel) in self.current.iter().chain(&self.call) {
            cancel.cancel();
        }
    }
}

impl Inbox {
    /// Takes a request, read from `bytes` bytes; gives it back when too many wait already.
    pub(crate) fn offer(&self, request: Request, bytes: usize) -> Result<(), Request> {
        let mut pending = lock(&self.pending);
        let is_full = pending.waiting.len() >= MOST_UNANSWERED || pending.bytes + bytes > MOST_UNANSWERED_BYTES;
        if pending.is_closed || is_full {
            return Err(request);
        }
        pending.bytes += bytes;
        pending.waiting.push_back((request, bytes));
        self.changed.notify_all();
        Ok(())
    }

    /// The request whose turn it is, and what is cancelled when it is; `None` when there are no more. The one before is done.
    pub(crate) fn next(&self) -> Option<(Request, Cancel)> {
        let mut pending = lock(&self.pending);
        pending.current = None;
        loop {
            if let Some((request, bytes)) = pending.waiting.pop_front() {
                pending.bytes -= bytes;
                let cancel = Cancel::default();
                if pending.cancelled.remove(&request.seq) || pending.gives_up {
                    cancel.cancel();
                }
                pending.current = Some((request.seq, cancel.clone()));
                self.changed.notify_all();
                return Some((request, cancel));
            }
            if pending.is_closed {
                self.changed.notify_all();
                return None;
            }
            pending = self.changed.wait(pending).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Notes a call that goes on after its request was answered.
    pub(crate) fn begin_call(&self, seq: i64, cancel: Cancel) {
        let mut pending = lock(&self.pending);
        if pending.gives_up {
            cancel.cancel();
        }
        pending.call = Some((seq, cancel));
    }

    /// Gives a request up: the one being carried out, one that waits, or the call that it began.
    pub(crate) fn cancel(&self, seq: i64) {
        let mut pending = lock(&self.pending);
        for (_, cancel) in pending.current.iter().chain(&pending.call).filter(|(held, _)| *held == seq) {
            cancel.cancel();
        }
        if pending.waiting.iter().any(|(request, _)| request.seq == seq) {
            pending.cancelled.insert(seq);
        }
    }

    /// No more requests come. What waits is carried out, if it is done within `grace`; then all is given up.
    pub(crate) fn close(&self, grace: Duration) {
        let until = Instant::now() + grace;
        let mut pending = lock(&self.pending);
        pending.is_closed = true;
        self.changed.notify_all();
        while !pending.waiting.is_empty() || pending.current.is_some() {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                break;
            }
            pending = self.changed.wait_timeout(pending, left).unwrap_or_else(PoisonError::into_inner).0;
        }
        pending.gives_up = true;
        pending.cancel_all();
    }
}

impl Work for Inbox {
    fn cancel_current(&self) {
        lock(&self.pending).cancel_all();
    }

    fn abandon(&self) {
        let mut pending = lock(&self.pending);
        (pending.is_closed, pending.gives_up) = (true, true);
        pending.cancel_all();
        (pending.waiting, pending.current) = (VecDeque::new(), None);
        self.changed.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn request(seq: i64) -> Request {
        Request { seq, command: "threads".to_owned(), arguments: None }
    }

    #[test]
    fn requests_have_their_turn_and_are_cancelled_wherever_they_are() {
        let inbox = Inbox::default();
        (1..=3).for_each(|seq| inbox.offer(request(seq), 10).unwrap());
        let (first, doing) = inbox.next().unwrap();
        inbox.cancel(1);
        inbox.cancel(3);
        inbox.cancel(99);
        assert!(first.seq == 1 && doing.is_cancelled());
        let (second, doing) = inbox.next().unwrap();
        assert!(second.seq == 2 && !doing.is_cancelled());
        inbox.close(Duration::ZERO);
        assert!(doing.is_cancelled(), "nobody waits for it");
        let (third, doing) = inbox.next().unwrap();
        assert!(third.seq == 3 && doing.is_cancelled());
        assert!(inbox.next().is_none());
    }

    #[test]
    fn more_than_can_wait_is_given_back() {
        let inbox = Inbox::default();
        for seq in 0..MOST_UNANSWERED as i64 {
            inbox.offer(request(seq), 10).unwrap();
        }
        assert_eq!(inbox.offer(request(-1), 10).unwrap_err().seq, -1);
        let inbox = Inbox::default();
        inbox.offer(request(1), MOST_UNANSWERED_BYTES).unwrap();
        assert!(inbox.offer(request(2), 1).is_err());
    }

    #[test]
    fn a_call_goes_on_after_its_answer_until_it_is_cancelled() {
        let inbox = Inbox::default();
        let call = Cancel::default();
        inbox.begin_call(4, call.clone());
        inbox.cancel(5);
        assert!(!call.is_cancelled());
        inbox.cancel(4);
        assert!(call.is_cancelled());
        inbox.abandon();
        let late = Cancel::default();
        inbox.begin_call(6, late.clone());
        assert!(late.is_cancelled(), "its client is gone");
    }
}
