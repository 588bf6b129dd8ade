//! What keeps a context open, for authors of engines.

use std::sync::Arc;

use adzeman_core::engine::{EngineContext, Interrupt, Supervisor, Syntax};
use adzeman_core::host::HostView;
use adzeman_core::sharing::Shared;

use crate::host::Host;
use crate::lane::{AttachError, OpenContext};

/// Keeps a context open. Dropping it closes the context; the script state itself stays the host's.
pub struct ContextHandle(OpenContext);

impl ContextHandle {
    /// Opens a context on this thread. `make` builds the engine's side, which reports to the supervisor it is given.
    /// Engines other than the ones shipped are opened by this. While another context of that name is open, a number stands behind
    /// it: `job`, `job (2)`.
    ///
    /// # Errors
    /// What `make` fails with.
    pub fn open<C, E>(
        host: &Host,
        name: &str,
        syntax: Arc<dyn Syntax>,
        make: impl FnOnce(Shared<dyn Supervisor>, Shared<dyn HostView>) -> Result<(Shared<C>, Arc<dyn Interrupt>), E>,
    ) -> Result<(Self, Shared<C>), AttachError>
    where
        C: EngineContext + 'static,
        E: std::fmt::Display,
    {
        let (open, engine) = OpenContext::open(host.state(), name, syntax, make)?;
        Ok((Self(open), engine))
    }

    /// Does `work`, during which this thread runs the scripts of the context, whichever thread ran them before; with someone
    /// attached it is a safe point to begin with. Where states may move between threads (the feature `send`), no other thread
    /// runs them meanwhile, and one that wants to waits.
    pub fn enter<T>(&self, work: impl FnOnce() -> T) -> T {
        self.0.enter(work)
    }

    /// The context's name.
    #[must_use]
    pub fn name(&self) -> &str {
        self.0.name()
    }
}
