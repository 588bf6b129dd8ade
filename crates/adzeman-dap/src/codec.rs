//! Framing: `Content-Length: N`, an empty line, N bytes of JSON (DAP, "Base Protocol").

use thiserror::Error;

use crate::base::Message;

/// The most bytes a header may have. Two short lines are all there ever is.
pub const MAX_HEADER_BYTES: usize = 1024;

/// The most bytes the body of a message may have.
pub const MAX_BODY_BYTES: usize = 8 * 1024 * 1024;

const SEPARATOR: &[u8] = b"\r\n\r\n";
const FIELDS: [&str; 2] = ["content-length:", "content-type:"];

/// Bytes that are no message. After any of these the connection is of no use.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum FrameError {
    /// The first bytes are those of some other protocol.
    #[error("this is not the Debug Adapter Protocol: a message begins with 'Content-Length:', this one with '{start}'")]
    OtherProtocol {
        /// The first bytes, made printable.
        start: String,
    },
    /// No end of the header.
    #[error("the header is longer than {MAX_HEADER_BYTES} bytes")]
    HeaderTooLong,
    /// A header without a usable length.
    #[error("the header has no usable Content-Length: '{header}'")]
    BadLength {
        /// The header, made printable.
        header: String,
    },
    /// A message that would fill the memory.
    #[error("a message of {bytes} bytes is announced; {MAX_BODY_BYTES} are allowed")]
    BodyTooLong {
        /// How many bytes.
        bytes: usize,
    },
    /// A body that is no message.
    #[error("the body is no message: {0}")]
    BadBody(#[from] serde_json::Error),
}

/// What the bytes so far amount to.
#[derive(Debug)]
pub enum Decoded {
    /// Nothing yet; more bytes are needed.
    NeedMore,
    /// A message.
    Message {
        /// The message.
        message: Message,
        /// How many bytes it took; drop them before asking again.
        consumed: usize,
    },
}

/// Reads the first message of `bytes`.
///
/// # Errors
/// As soon as the bytes cannot become a message any more, even before a header is complete: a web browser is told from
/// its first bytes.
pub fn decode(bytes: &[u8]) -> Result<Decoded, FrameError> {
    let head = &bytes[..bytes.len().min(MAX_HEADER_BYTES)];
    let end = head.windows(SEPARATOR.len()).position(|window| window == SEPARATOR);
    check_start(head)?;
    let Some(end) = end else {
        return if bytes.len() >= MAX_HEADER_BYTES { Err(FrameError::HeaderTooLong) } else { Ok(Decoded::NeedMore) };
    };
    let length = content_length(&head[..end])?;
    if length > MAX_BODY_BYTES {
        return Err(FrameError::BodyTooLong { bytes: length });
    }
    let body = end + SEPARATOR.len();
    match bytes.get(body..body + length) {
        None => Ok(Decoded::NeedMore),
        Some(text) => Ok(Decoded::Message { message: serde_json::from_slice(text)?, consumed: body + length }),
    }
}

fn check_start(head: &[u8]) -> Result<(), FrameError> {
    let agrees = |field: &str| field.bytes().zip(head).all(|(wanted, byte)| wanted == byte.to_ascii_lowercase());
    if FIELDS.iter().any(|field| agrees(field)) {
        return Ok(());
    }
    Err(FrameError::OtherProtocol { start: printable(&head[..head.len().min(24)]) })
}

fn content_length(header: &[u8]) -> Result<usize, FrameError> {
    let text = std::str::from_utf8(header).unwrap_or_default();
    let length = text.split("\r\n").find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("content-length").then(|| value.trim().parse().ok())?
    });
    length.ok_or_else(|| FrameError::BadLength { header: printable(header) })
}

fn printable(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).chars().map(|c| if c.is_control() { '·' } else { c }).collect()
}

/// The bytes of a message.
///
/// # Errors
/// [`FrameError::BodyTooLong`] for a message that the other side would refuse, [`FrameError::BadBody`] if serde fails.
pub fn encode(message: &Message) -> Result<Vec<u8>, FrameError> {
    let body = serde_json::to_vec(message)?;
    if body.len() > MAX_BODY_BYTES {
        return Err(FrameError::BodyTooLong { bytes: body.len() });
    }
    let mut bytes = format!("Content-Length: {}\r\n\r\n", body.len()).into_bytes();
    bytes.extend(body);
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::base::{Event, Request};

    fn request(command: &str) -> Message {
        Message::Request(Request { seq: 7, command: command.into(), arguments: None })
    }

    #[test]
    fn a_message_in_pieces_needs_more_until_it_is_whole() {
        let bytes = encode(&request("threads")).unwrap();
        for cut in 0..bytes.len() {
            assert!(matches!(decode(&bytes[..cut]), Ok(Decoded::NeedMore)), "at {cut}");
        }
        assert!(matches!(decode(&bytes), Ok(Decoded::Message { consumed, .. }) if consumed == bytes.len()));
    }

    #[test]
    fn a_browser_is_told_from_its_first_bytes() {
        for text in ["GET / HTTP/1.1\r\n", "G", "\x16\x03\x01", "{\"seq\":1}"] {
            assert!(matches!(decode(text.as_bytes()), Err(FrameError::OtherProtocol { .. })), "{text:?}");
        }
    }

    #[test]
    fn lengths_that_cannot_be_are_refused() {
        let error = |text: &str| decode(text.as_bytes()).unwrap_err();
        assert!(matches!(error("Content-Length: 99999999999\r\n\r\n"), FrameError::BodyTooLong { .. }));
        assert!(matches!(error("Content-Length: -1\r\n\r\n"), FrameError::BadLength { .. }));
        assert!(matches!(error("Content-Length: 99999999999999999999999\r\n\r\n"), FrameError::BadLength { .. }));
        assert!(matches!(error("Content-Type: x\r\n\r\n"), FrameError::BadLength { .. }));
        assert!(matches!(error(&format!("Content-Length: {}", " ".repeat(2000))), FrameError::HeaderTooLong));
        assert!(matches!(error("Content-Length: 2\r\n\r\n[]"), FrameError::BadBody(_)));
    }

    #[test]
    fn a_deeply_nested_body_is_refused_and_not_followed() {
        let body = "[".repeat(100_000);
        let text = format!("Content-Length: {}\r\n\r\n{body}", body.len());
        assert!(matches!(decode(text.as_bytes()), Err(FrameError::BadBody(_))));
    }

    proptest! {
        #[test]
        fn any_bytes_get_an_answer(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = decode(&bytes);
        }

        #[test]
        fn what_is_encoded_is_decoded(seq in any::<i64>(), event in ".{0,40}") {
            let message = Message::Event(Event { seq, event, body: Some(serde_json::json!({"a": [1, null]})) });
            let bytes = encode(&message).unwrap();
            let Decoded::Message { message: back, consumed } = decode(&bytes).unwrap() else { panic!("whole") };
            prop_assert_eq!(back, message);
            prop_assert_eq!(consumed, bytes.len());
        }
    }
}
