//! Messages on their way to a client: numbered, bounded in bytes, and never waited for by a script.

use std::collections::VecDeque;
use std::io::Write;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::{Duration, Instant};

use adzeman_dap::extra::{DROPPED, DroppedBody};
use adzeman_dap::{Event, FrameError, Message, Response, encode};
use serde_json::Value as Json;

use crate::shared::lock;

/// Bytes that wait for a client that reads slowly; beyond it, events are dropped and counted.
pub(crate) const MOST_QUEUED_BYTES: usize = 8 * 1024 * 1024;
/// Bytes of a text in an event that is too long as a whole; of a longer one, the beginning is sent.
const MOST_TEXT_BYTES: usize = 64 * 1024;
/// Bytes written at once.
const WRITE_BYTES: usize = 64 * 1024;

/// Messages that wait.
#[derive(Default)]
pub(crate) struct Outbox {
    waiting: Mutex<Waiting>,
    changed: Condvar,
}

#[derive(Default)]
struct Waiting {
    messages: VecDeque<Vec<u8>>,
    /// Of all messages that are not written yet.
    bytes: usize,
    last_seq: i64,
    dropped: u64,
    /// Nothing more comes.
    is_finished: bool,
    /// Nothing more is written.
    is_over: bool,
}

impl Waiting {
    /// Encodes a message and takes it in, if there is room. One that is alone has room, whatever its length.
    fn take(&mut self, message: &mut Message) -> Result<bool, FrameError> {
        let seq = self.last_seq + 1;
        match message {
            Message::Event(event) => event.seq = seq,
            Message::Response(response) => response.seq = seq,
            Message::Request(request) => request.seq = seq,
        }
        let bytes = encode(message)?;
        let fits = self.bytes == 0 || self.bytes + bytes.len() <= MOST_QUEUED_BYTES;
        if fits {
            self.last_seq = seq;
            self.bytes += bytes.len();
            self.messages.push_back(bytes);
        }
        Ok(fits)
    }

    /// Says how many events were dropped, if that was not said yet and there is room for it.
    fn tell_dropped(&mut self) {
        if self.dropped > 0 {
            let body = serde_json::to_value(DroppedBody { messages: self.dropped }).ok();
            let told = self.take(&mut Message::Event(Event { seq: 0, event: DROPPED.to_owned(), body }));
            if matches!(told, Ok(true)) {
                self.dropped = 0;
            }
        }
    }
}

impl Outbox {
    /// Takes an event; never waits. One that has no room is dropped and counted; one that is longer than a message may be is
    /// cut.
    pub(crate) fn event(&self, event: Event) {
        let mut waiting = lock(&self.waiting);
        if waiting.is_finished || waiting.is_over {
            return;
        }
        waiting.tell_dropped();
        let mut message = Message::Event(event);
        let mut taken = waiting.take(&mut message);
        if matches!(taken, Err(FrameError::BodyTooLong { .. }))
            && let Message::Event(Event { body: Some(body), .. }) = &mut message
        {
            cut_texts(body);
            taken = waiting.take(&mut message);
        }
        if !matches!(taken, Ok(true)) {
            waiting.dropped += 1;
        }
        self.changed.notify_all();
    }

    /// Takes a response, waiting for room. False when the client cannot be reached any more.
    pub(crate) fn respond(&self, response: Response) -> bool {
        let mut waiting = lock(&self.waiting);
        let mut message = Message::Response(response);
        loop {
            if waiting.is_finished || waiting.is_over {
                return false;
            }
            match waiting.take(&mut message) {
                Ok(true) => break,
                Ok(false) => waiting = self.changed.wait(waiting).unwrap_or_else(PoisonError::into_inner),
                Err(error) => match &mut message {
                    Message::Response(response) if response.success => {
                        (response.success, response.message, response.body) = (false, Some(error.to_string()), None);
                    }
                    _ => return true,
                },
            }
        }
        self.changed.notify_all();
        true
    }

    /// The same without waiting: false when there is no room.
    pub(crate) fn try_respond(&self, response: Response) -> bool {
        let mut waiting = lock(&self.waiting);
        let taken = !waiting.is_over && matches!(waiting.take(&mut Message::Response(response)), Ok(true));
        self.changed.notify_all();
        taken
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

    /// Writes what comes, in order, until it is finished or the client is gone.
    pub(crate) fn write_to(&self, mut writer: impl Write) {
        /// Whatever ends the writing, nobody waits for it.
        struct Over<'a>(&'a Outbox);
        impl Drop for Over<'_> {
            fn drop(&mut self) {
                let mut waiting = lock(&self.0.waiting);
                waiting.is_over = true;
                waiting.messages = VecDeque::new();
                self.0.changed.notify_all();
            }
        }
        let _over = Over(self);
        while let Some(bytes) = self.next() {
            let written = writer.write_all(&bytes).and_then(|()| writer.flush());
            if let Err(error) = written {
                tracing::info!(%error, "a client does not read any more");
                return;
            }
            lock(&self.waiting).bytes -= bytes.len();
            self.changed.notify_all();
        }
    }

    /// The messages that are next; `None` when there will be no more.
    fn next(&self) -> Option<Vec<u8>> {
        let mut waiting = lock(&self.waiting);
        loop {
            if let Some(mut bytes) = waiting.messages.pop_front() {
                while waiting.messages.front().is_some_and(|more| bytes.len() + more.len() <= WRITE_BYTES) {
                    bytes.extend(waiting.messages.pop_front().unwrap_or_default());
                }
                return Some(bytes);
            }
            if waiting.is_finished {
                return None;
            }
            waiting = self.changed.wait(waiting).unwrap_or_else(PoisonError::into_inner);
        }
    }
}

/// Cuts long texts, wherever they are, and says so.
fn cut_texts(body: &mut Json) {
    match body {
        Json::String(text) if text.len() > MOST_TEXT_BYTES => {
            let whole = text.len();
            let end = (0..=MOST_TEXT_BYTES).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
            text.truncate(end);
            text.push_str(&format!("… (cut: {whole} bytes in all)\n"));
        }
        Json::Array(items) => items.iter_mut().for_each(cut_texts),
        Json::Object(fields) => fields.values_mut().for_each(cut_texts),
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use adzeman_dap::{Decoded, decode};
    use serde_json::json;

    use super::*;

    fn output(text: String) -> Event {
        Event { seq: 0, event: "output".to_owned(), body: Some(json!({"output": text})) }
    }

    fn written(outbox: &Outbox) -> Vec<Message> {
        outbox.finish();
        let mut bytes = Vec::new();
        outbox.write_to(&mut bytes);
        let (mut at, mut messages) = (0, Vec::new());
        while let Decoded::Message { message, consumed } = decode(&bytes[at..]).unwrap() {
            at += consumed;
            messages.push(message);
        }
        messages
    }

    #[test]
    fn what_has_no_room_is_dropped_and_counted() {
        let outbox = Outbox::default();
        for _ in 0..20_000 {
            outbox.event(output("x".repeat(1000)));
        }
        assert!(lock(&outbox.waiting).bytes <= MOST_QUEUED_BYTES);
        let dropped = lock(&outbox.waiting).dropped;
        assert!(dropped > 10_000, "{dropped}");
        // Room for what is said of it.
        let mut waiting = lock(&outbox.waiting);
        let last = waiting.messages.pop_back().unwrap();
        (waiting.bytes, waiting.last_seq) = (waiting.bytes - last.len(), waiting.last_seq - 1);
        drop(waiting);
        let messages = written(&outbox);
        assert_eq!(messages.len() as u64 + dropped, 20_000, "one was taken out, and one says what was dropped");
        let Some(Message::Event(last)) = messages.last() else { panic!("an event") };
        assert_eq!((last.event.as_str(), &last.body), (DROPPED, &Some(json!({"messages": dropped}))));
        let numbers = messages.iter().map(|message| match message {
            Message::Event(event) => event.seq,
            other => panic!("{other:?}"),
        });
        assert!(numbers.eq(1..=messages.len() as i64), "numbered without a gap");
    }

    #[test]
    fn a_text_longer_than_a_message_is_cut() {
        let outbox = Outbox::default();
        outbox.event(output("€".repeat(3_000_000)));
        let messages = written(&outbox);
        let [Message::Event(event)] = &messages[..] else { panic!("one event: {}", messages.len()) };
        let text = event.body.as_ref().unwrap()["output"].as_str().unwrap();
        assert!(
            text.len() < 2 * MOST_TEXT_BYTES && text.ends_with("€… (cut: 9000000 bytes in all)\n"),
            "{}",
            text.len()
        );
    }

    #[test]
    fn an_answer_that_is_too_long_is_said_to_be() {
        let outbox = Outbox::default();
        let body = Some(json!("x".repeat(9_000_000)));
        let response = Response { seq: 0, request_seq: 1, success: true, command: "x".to_owned(), message: None, body };
        assert!(outbox.respond(response));
        let messages = written(&outbox);
        let [Message::Response(answer)] = &messages[..] else { panic!("one answer") };
        assert!(!answer.success && answer.message.as_ref().unwrap().contains("bytes"), "{answer:?}");
    }
}
