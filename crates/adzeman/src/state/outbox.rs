//! What is on its way to a client: numbered, bounded in bytes, and never waited for by a script. Notices wait as they are, and are
//! made messages by the thread that writes them.

use std::collections::VecDeque;
use std::io::Write;
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::lock;
use super::notice::Notice;

/// Bytes that wait for a client that reads slowly; beyond it, notices are dropped and counted.
pub(crate) const MOST_QUEUED_BYTES: usize = 8 * 1024 * 1024;
/// Bytes written at once.
const WRITE_BYTES: usize = 64 * 1024;

/// What is to be written.
enum Outgoing {
    Notice(Arc<Notice>),
    /// An answer, as bytes with its number in them.
    Answer(Vec<u8>),
}

/// What waits.
#[derive(Default)]
pub(crate) struct Outbox {
    waiting: Mutex<Waiting>,
    changed: Condvar,
}

#[derive(Default)]
struct Waiting {
    /// Each with its number, and its bytes.
    queue: VecDeque<(i64, Outgoing, usize)>,
    /// Of all that is not written yet.
    bytes: usize,
    last_seq: i64,
    dropped: u64,
    /// Nothing more comes.
    is_finished: bool,
    /// Nothing more is written.
    is_over: bool,
}

impl Waiting {
    /// Whether there is room. What is alone has room, whatever its length.
    fn has_room(&self, bytes: usize) -> bool {
        self.bytes == 0 || self.bytes + bytes <= MOST_QUEUED_BYTES
    }

    fn take(&mut self, outgoing: Outgoing, bytes: usize) {
        self.last_seq += 1;
        self.bytes += bytes;
        self.queue.push_back((self.last_seq, outgoing, bytes));
    }

    /// Takes a notice, if there is room.
    fn take_notice(&mut self, notice: &Arc<Notice>) -> bool {
        let bytes = notice.bytes();
        let fits = self.has_room(bytes);
        if fits {
            self.take(Outgoing::Notice(notice.clone()), bytes);
        }
        fits
    }

    /// Says how many notices were dropped, if that was not said yet and there is room for it.
    fn tell_dropped(&mut self) {
        if self.dropped > 0 && self.take_notice(&Arc::new(Notice::Dropped(self.dropped))) {
            self.dropped = 0;
        }
    }
}

impl Outbox {
    /// Takes a notice; never waits. One that has no room is dropped and counted.
    pub(crate) fn notice(&self, notice: &Arc<Notice>) {
        let mut waiting = lock(&self.waiting);
        if waiting.is_finished || waiting.is_over {
            return;
        }
        waiting.tell_dropped();
        if !waiting.take_notice(notice) {
            waiting.dropped += 1;
        }
        self.changed.notify_all();
    }

    /// Takes an answer, which `encode` gives its number; waits for room if `waits`. False when there is none, or the client
    /// cannot be reached any more.
    pub(crate) fn answer(&self, mut encode: impl FnMut(i64) -> Vec<u8>, waits: bool) -> bool {
        let mut waiting = lock(&self.waiting);
        loop {
            if waiting.is_finished && waits || waiting.is_over {
                return false;
            }
            let bytes = encode(waiting.last_seq + 1);
            let length = bytes.len();
            if waiting.has_room(length) {
                waiting.take(Outgoing::Answer(bytes), length);
                self.changed.notify_all();
                return true;
            }
            if !waits {
                return false;
            }
            waiting = self.changed.wait(waiting).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Nothing more comes: what waits is written, and that is all.
    pub(crate) fn finish(&self) {
        let mut waiting = lock(&self.waiting);
        // Who reads nothing any more has missed these at the end.
        waiting.tell_dropped();
        waiting.is_finished = true;
        self.changed.notify_all();
    }

    /// Waits until everything is written, or nothing more will be; at most `limit`.
    pub(crate) fn wait_until_over(&self, limit: Duration) {
        let until = Instant::now() + limit;
        let mut waiting = lock(&self.waiting);
        while !waiting.is_over {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return;
            }
            waiting = self.changed.wait_timeout(waiting, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// Writes what comes, in order, until it is finished or the client is gone; `encode` makes a message of a notice.
    pub(crate) fn write_to(&self, mut writer: impl Write, mut encode: impl FnMut(i64, &Notice) -> Vec<u8>) {
        /// Whatever ends the writing, nobody waits for it.
        struct Over<'a>(&'a Outbox);
        impl Drop for Over<'_> {
            fn drop(&mut self) {
                let mut waiting = lock(&self.0.waiting);
                waiting.is_over = true;
                waiting.queue = VecDeque::new();
                self.0.changed.notify_all();
            }
        }
        let _over = Over(self);
        while let Some((outgoing, bytes)) = self.next() {
            let mut written = Vec::new();
            for (seq, outgoing) in outgoing {
                match outgoing {
                    Outgoing::Answer(bytes) if written.is_empty() => written = bytes,
                    Outgoing::Answer(bytes) => written.extend(bytes),
                    Outgoing::Notice(notice) => written.extend(encode(seq, &notice)),
                }
            }
            if let Err(error) = writer.write_all(&written).and_then(|()| writer.flush()) {
                tracing::info!(%error, "a client does not read any more");
                return;
            }
            lock(&self.waiting).bytes -= bytes;
            self.changed.notify_all();
        }
    }

    /// What is next, and how many bytes it counts for; `None` when there will be no more.
    fn next(&self) -> Option<(Vec<(i64, Outgoing)>, usize)> {
        let mut waiting = lock(&self.waiting);
        loop {
            let (mut found, mut bytes) = (Vec::new(), 0);
            while let Some((_, _, more)) = waiting.queue.front()
                && (found.is_empty() || bytes + more <= WRITE_BYTES)
            {
                if let Some((seq, outgoing, more)) = waiting.queue.pop_front() {
                    found.push((seq, outgoing));
                    bytes += more;
                }
            }
            if !found.is_empty() {
                return Some((found, bytes));
            }
            if waiting.is_finished {
                return None;
            }
            waiting = self.changed.wait(waiting).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::notice::Tone;
    use super::*;

    fn text(text: &str) -> Arc<Notice> {
        Arc::new(Notice::text(Tone::Said, text))
    }

    /// What was written: a line for each notice, with its number.
    fn written(outbox: &Outbox) -> Vec<String> {
        outbox.finish();
        let mut bytes = Vec::new();
        outbox.write_to(&mut bytes, |seq, notice| match notice {
            Notice::Text(text) => format!("{seq} {}\n", text.text.len()).into_bytes(),
            Notice::Dropped(count) => format!("{seq} dropped {count}\n").into_bytes(),
            other => panic!("{other:?}"),
        });
        String::from_utf8(bytes).unwrap().lines().map(str::to_owned).collect()
    }

    #[test]
    fn what_has_no_room_is_dropped_and_counted() {
        let outbox = Outbox::default();
        let one = text(&"x".repeat(1000));
        for _ in 0..20_000 {
            outbox.notice(&one);
        }
        assert!(lock(&outbox.waiting).bytes <= MOST_QUEUED_BYTES);
        let dropped = lock(&outbox.waiting).dropped;
        assert!(dropped > 10_000, "{dropped}");
        // Room for what is said of it.
        let mut waiting = lock(&outbox.waiting);
        let (_, _, last) = waiting.queue.pop_back().unwrap();
        (waiting.bytes, waiting.last_seq) = (waiting.bytes - last, waiting.last_seq - 1);
        drop(waiting);
        let lines = written(&outbox);
        assert_eq!(lines.len() as u64 + dropped, 20_000, "one was taken out, and one says what was dropped");
        assert_eq!(lines.last(), Some(&format!("{} dropped {dropped}", lines.len())));
        let numbers = lines.iter().map(|line| line.split(' ').next().unwrap().parse::<usize>().unwrap());
        assert!(numbers.eq(1..=lines.len()), "numbered without a gap");
    }

    #[test]
    fn an_answer_waits_for_room_and_has_the_number_of_its_turn() {
        let outbox = Arc::new(Outbox::default());
        outbox.notice(&text(&"x".repeat(MOST_QUEUED_BYTES)));
        let answer = |seq: i64| format!("{seq} answer\n").into_bytes();
        assert!(!outbox.answer(answer, false), "there is no room");
        let asking = {
            let outbox = outbox.clone();
            std::thread::spawn(move || outbox.answer(answer, true))
        };
        let writing = {
            let outbox = outbox.clone();
            std::thread::spawn(move || {
                let mut bytes = Vec::new();
                outbox.write_to(&mut bytes, |seq, _| format!("{seq} notice\n").into_bytes());
                String::from_utf8(bytes).unwrap()
            })
        };
        assert!(asking.join().unwrap());
        outbox.finish();
        assert_eq!(writing.join().unwrap(), "1 notice\n2 answer\n");
        assert!(!outbox.answer(answer, true), "nothing more is written");
    }
}
