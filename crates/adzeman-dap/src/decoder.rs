//! Messages out of bytes that come in pieces. It reads nothing itself.

use crate::base::Message;
use crate::codec::{Decoded, FrameError, decode};

/// Holds the bytes of which no message was made yet.
#[derive(Debug, Default)]
pub struct Decoder {
    held: Vec<u8>,
    /// How many of them belong to messages that were taken out.
    taken: usize,
}

impl Decoder {
    /// Takes bytes in.
    pub fn push(&mut self, bytes: &[u8]) {
        if self.taken > 0 {
            self.held.drain(..self.taken);
            self.taken = 0;
        }
        self.held.extend_from_slice(bytes);
    }

    /// The next message, and how many bytes it took; `None` when more bytes are needed.
    ///
    /// # Errors
    /// For bytes that are no message; the connection is of no use then.
    ///
    /// ```
    /// use adzeman_dap::{Decoder, Message, Request, encode};
    ///
    /// let request = |seq| Message::Request(Request { seq, command: "threads".into(), arguments: None });
    /// let bytes = [1, 2].map(|seq| encode(&request(seq)).unwrap()).concat();
    /// let mut decoder = Decoder::default();
    /// let mut found = Vec::new();
    /// for piece in bytes.chunks(7) {
    ///     decoder.push(piece);
    ///     while let Some((message, _)) = decoder.next_message().unwrap() {
    ///         found.push(message);
    ///     }
    /// }
    /// assert_eq!(found, [request(1), request(2)]);
    /// ```
    pub fn next_message(&mut self) -> Result<Option<(Message, usize)>, FrameError> {
        match decode(&self.held[self.taken..])? {
            Decoded::NeedMore => Ok(None),
            Decoded::Message { message, consumed } => {
                self.taken += consumed;
                Ok(Some((message, consumed)))
            }
        }
    }
}
