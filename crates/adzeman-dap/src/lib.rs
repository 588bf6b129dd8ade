//! The Debug Adapter Protocol, as far as Adzeman speaks it: message types and framing. No I/O: bytes go in, messages come
//! out, and the other way round.
//!
//! ```text
//!   bytes ─▶ decode ─▶ Message ─┬─ Request { command, arguments } ─▶ requests::…Arguments
//!                               ├─ Response { body } ──────────────▶ requests::…Body
//!                               └─ Event { event, body } ──────────▶ events::…Body
//! ```
//!
//! The protocol's own specification is the source of every name in [`base`], [`requests`] and [`events`]; what it has no
//! message for is in [`extra`], named `adzeman/...`. [`Command`] is the table of all requests: how far a client must have come for
//! each, and who may make it. [`ErrorCode`] says why one was refused.
//!
//! ```
//! use adzeman_dap::{Decoded, Message, Request, decode, encode};
//!
//! let bytes = encode(&Message::Request(Request { seq: 1, command: "threads".into(), arguments: None })).unwrap();
//! let Decoded::Message { message: Message::Request(request), consumed } = decode(&bytes).unwrap() else { panic!() };
//! assert_eq!((request.command.as_str(), consumed), ("threads", bytes.len()));
//! ```
#![forbid(unsafe_code)]

pub mod base;
mod code;
mod codec;
mod commands;
mod decoder;
pub mod events;
pub mod extra;
pub mod requests;
pub mod types;

pub use base::{Event, Message, Request, Response};
pub use code::ErrorCode;
pub use codec::{Decoded, FrameError, MAX_BODY_BYTES, MAX_HEADER_BYTES, decode, encode};
pub use commands::{Command, Phase, Role};
pub use decoder::Decoder;
