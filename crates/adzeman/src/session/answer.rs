//! Answers, as messages of the protocol.

use adzeman_dap::{ErrorCode, Message, Request, Response, encode};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use super::SessionError;

/// The answer to a request.
pub(super) fn response(request: &Request, outcome: Result<Option<Json>, SessionError>) -> Response {
    let (success, message, body) = match outcome {
        Ok(body) => (true, None, body),
        Err(error) => {
            let (text, code) = (error.to_string(), error.code());
            // DAP, `Response`: `message` of a request that was given up is this very word.
            let message = if code == ErrorCode::Cancelled { "cancelled".to_owned() } else { text.clone() };
            // DAP, `ErrorResponse`: the text for people is in `body.error.format`.
            (false, Some(message), Some(serde_json::json!({"error": {"id": code.id(), "format": text}})))
        }
    };
    Response { seq: 0, request_seq: request.seq, success, command: request.command.clone(), message, body }
}

pub(super) fn arguments<T: DeserializeOwned>(request: &Request) -> Result<T, SessionError> {
    let given = request.arguments.clone().unwrap_or_else(|| Json::Object(serde_json::Map::new()));
    serde_json::from_value(given)
        .map_err(|error| SessionError::BadArguments { command: request.command.clone(), why: error.to_string() })
}

pub(super) fn body<T: Serialize>(value: T) -> Result<Option<Json>, SessionError> {
    Ok(Some(serde_json::to_value(&value)?))
}

/// Records as they are sent.
pub(super) fn all_as_json<T: Serialize>(records: &[T]) -> Result<Vec<Json>, SessionError> {
    records.iter().map(|record| Ok(serde_json::to_value(record)?)).collect()
}

/// An answer as the bytes of a message. One that is too long says so instead; nothing comes of one that cannot be written at all.
pub(super) fn encoded_answer(response: &Response, seq: i64) -> Vec<u8> {
    let written = encode(&Message::Response(Response { seq, ..response.clone() }));
    let why = match written {
        Ok(bytes) => return bytes,
        Err(error) => error.to_string(),
    };
    let short = Response { seq, success: false, message: Some(why), body: None, ..response.clone() };
    encode(&Message::Response(short)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use adzeman_dap::{Decoded, decode};
    use serde_json::json;

    use super::*;

    #[test]
    fn an_answer_that_is_too_long_is_said_to_be() {
        let body = Some(json!("x".repeat(9_000_000)));
        let response = Response { seq: 0, request_seq: 1, success: true, command: "x".to_owned(), message: None, body };
        let bytes = encoded_answer(&response, 3);
        let Decoded::Message { message: Message::Response(answer), .. } = decode(&bytes).unwrap() else {
            panic!("an answer")
        };
        assert!(!answer.success && answer.message.as_ref().unwrap().contains("bytes"), "{answer:?}");
        assert_eq!((answer.seq, answer.request_seq), (3, 1));
    }
}
