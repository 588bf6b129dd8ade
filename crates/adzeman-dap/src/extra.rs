//! What DAP has no message for, named `adzeman/...`; each is described in `docs/protocol.md`.

use serde::{Deserialize, Serialize};

use crate::types::dap_types;

/// Request: what the host is. Answered with [`HostBody`].
pub const HOST: &str = "adzeman/host";
/// Request: every breakpoint of this client as it is now. Answered with [`BreakpointsBody`].
pub const BREAKPOINTS: &str = "adzeman/breakpoints";
/// Event: a step left its handler, and the host has taken over. Body: [`HandlerLeftBody`].
pub const HANDLER_LEFT: &str = "adzeman/handlerLeft";
/// Event: the host dropped messages because this client does not read them. Body: [`DroppedBody`].
pub const DROPPED: &str = "adzeman/dropped";

dap_types! {
    /// What the host is.
    HostBody {
        /// Its name.
        name: String,
        /// Its process.
        process_id: u32,
        /// Its event kinds, with docs.
        events: Vec<serde_json::Value>,
        /// Its objects.
        objects: Vec<ObjectInfo>,
    }

    /// A host object.
    ObjectInfo {
        /// Its name.
        name: String,
        /// Whether it can be changed.
        editable: bool,
    }

    /// The breakpoints of this client.
    BreakpointsBody {
        /// One each.
        breakpoints: Vec<BreakpointInfo>,
    }

    /// A breakpoint as it is now.
    BreakpointInfo {
        /// Its number.
        id: u64,
        /// How often it stopped a context.
        hits: u64,
        /// Whether it can be hit.
        verified: bool,
        /// Where it bound, as `name:line`.
        places: Vec<String>,
        /// Why it is not bound, or why its condition failed.
        message: Option<String>,
    }

    /// A step left its handler.
    HandlerLeftBody {
        /// Which context.
        thread_id: i64,
        /// The event whose handler it was.
        event: Option<String>,
        /// What that event was about.
        subject: Option<String>,
    }

    /// Messages were dropped.
    DroppedBody {
        /// How many since the last time.
        messages: u64,
    }
}
