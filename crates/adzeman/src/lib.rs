//! What a host author depends on: open a host's events, objects and scripts to a person who attaches.
//!
//! ```text
//!        the host's own thread                    session threads                 the person
//!   ┌───────────────────────────────┐       ┌──────────────────────┐
//!   │ host.emit(event, || script()) │       │ one reader and one   │   DAP    ┌───────────────┐
//!   │   └ engine hook ─ decide ─────┼─stop──▶ writer a client      ◀──────────▶ adzeman       │
//!   │      └ held: mailbox ◀── jobs─┼───────┤ (blocking I/O)       │  socket  │ or an editor  │
//!   └───────────────────────────────┘       └──────────────────────┘          └───────────────┘
//! ```
//!
//! Script state is touched only on the thread that runs it. Sessions post jobs to that thread's mailbox, which is served
//! while a context is held at a stop, and at safe points while it runs (each [`Host::emit`] and [`Host::poll`]).
//!
//! Nothing is opened unless asked: see [`Listen`].
//!
//! On Linux, the signal `SIGURG` is sent to a script's own thread to interrupt it (for a pause, or when breakpoints
//! change), unless the process uses that signal itself. It restarts system calls, as far as they can be.
//!
//! ```
//! use adzeman::{Event, EventKind, Host, Listen, LuaContext};
//! use std::sync::{Arc, Mutex};
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let level = Arc::new(Mutex::new(1.5_f64));
//! let host = Host::builder("canal")
//!     .event(EventKind::new("frame.update").doc("one simulation frame").field("dt", "seconds since the last frame"))
//!     .editable_object("level", level.clone())
//!     .start(Listen::from_env()?)?;
//!
//! let lua = mlua::Lua::new();
//! let keeper = LuaContext::attach(&host, &lua, "keeper")?;
//! keeper.load("keeper.lua", "function update(dt) seen = dt end")?.call::<()>(())?;
//!
//! let update: mlua::Function = lua.globals().get("update")?;
//! host.emit(Event::of("frame.update").with("dt", 0.5), || update.call::<()>(0.5))?;
//! assert_eq!(lua.globals().get::<f64>("seen")?, 0.5);
//! # Ok(())
//! # }
//! ```
#![forbid(unsafe_code)]

pub mod discovery;
mod event;
mod handle;
mod host;
mod lane;
mod listen;
#[cfg(feature = "lua")]
mod lua;
mod object;
mod session;
mod state;
mod transport;

pub use adzeman_core::host::{
    About, ByFunctions, EventKind, HostError, Inside, Lending, Lent, Measure, Placed, SharedObject,
};
pub use adzeman_core::path::{Path, Segment};
#[cfg(feature = "lua")]
pub use adzeman_lua::lua_of;
pub use event::{Event, Field, Payload, PayloadCopy, Subject};
pub use handle::ContextHandle;
pub use host::{EventUnderWay, Host, HostBuilder, StartError, WeakHost};
pub use lane::{AttachError, RecordedEvent};
pub use listen::{Listen, ListenError, Token};
#[cfg(feature = "lua")]
pub use lua::LuaContext;
pub use object::OpenError;
pub use state::figures::Figure;
pub use state::trail::KeepTrail;
pub use transport::{Pipe, PipeReader, PipeWriter};

/// The parts that engines are built from, for authors of other engines.
pub use adzeman_core as core;
/// The protocol that sessions speak, for programs that look into a host from inside its process.
pub use adzeman_dap as dap;
