//! What an engine, the adapter to one script runtime, implements.
//!
//! Two traits, for two situations. An [`EngineContext`] is held by the host for as long as the script state lives; it is
//! asked to watch more or less closely. An [`Engine`] is the view of that state at one safe point: a line at which the
//! script was interrupted, or a moment between two handlers. Both are used by the thread that runs the scripts, one at a time
//! ([`sharing`](crate::sharing)); everything they answer is plain data.

mod context;
mod error;
mod need;
mod show;
mod view;

pub use context::{Blindness, EngineContext, Interrupt, Supervisor, Syntax};
pub use error::EngineError;
pub use need::Need;
pub use show::{
    Frame, FrameKind, FunctionFate, GivenBack, GoingOn, NamesUsed, Probe, Reload, ReloadMode, ReloadedFunction, Scope,
    ScopeKind, Trial, WaysOn,
};
pub use view::Engine;
