//! The three forms a message can have (DAP, "Base Protocol").

use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

/// Any message.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all = "lowercase")]
pub enum Message {
    /// From the client.
    Request(Request),
    /// The answer to a request.
    Response(Response),
    /// From the host, unasked.
    Event(Event),
}

/// What a client asks for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Request {
    /// Number of the message, counted from 1 by its sender.
    pub seq: i64,
    /// What is asked for.
    pub command: String,
    /// With what.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub arguments: Option<Json>,
}

/// The answer to a request.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Response {
    /// Number of the message.
    pub seq: i64,
    /// Number of the request.
    pub request_seq: i64,
    /// Whether it was done.
    pub success: bool,
    /// What was asked for.
    pub command: String,
    /// Why it was not done, in short.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// What came of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<Json>,
}

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// Number of the message.
    pub seq: i64,
    /// What happened.
    pub event: String,
    /// The particulars.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body: Option<Json>,
}
