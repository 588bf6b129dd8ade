//! Opening a context, and closing it.

use std::rc::Rc;
use std::sync::Arc;

use adzeman_core::engine::{EngineContext, Interrupt, Supervisor, Syntax};
use adzeman_core::host::HostView;
use thiserror::Error;

use super::context::LocalContext;
use super::link::ContextLink;
use super::{HostState, Lane};
use crate::object::HostData;
use crate::state::lock;

/// Why a context could not be opened.
#[derive(Debug, Error)]
#[error("the context '{name}' could not be opened: {why}")]
pub struct AttachError {
    /// Its name.
    pub name: String,
    /// What the engine said.
    pub why: String,
}

/// A context that is open. Dropping it closes the context; the script state itself stays the host's.
pub(crate) struct OpenContext {
    context: Rc<LocalContext>,
    lane: Rc<Lane>,
}

impl OpenContext {
    /// Opens a context on this thread. `make` builds the engine's side, which reports to the supervisor it is given.
    ///
    /// # Errors
    /// What `make` fails with.
    pub(crate) fn open<C, E>(
        host: &Arc<HostState>,
        name: &str,
        syntax: Arc<dyn Syntax>,
        make: impl FnOnce(Rc<dyn Supervisor>, Rc<dyn HostView>) -> Result<(Rc<C>, Arc<dyn Interrupt>), E>,
    ) -> Result<(Self, Rc<C>), AttachError>
    where
        C: EngineContext + 'static,
        E: std::fmt::Display,
    {
        let lane = Lane::of(host);
        let data = Rc::new(HostData::new(host.opened.clone(), syntax.language().notation));
        let link = Arc::new(ContextLink::new(host.contexts.next_id(), name, syntax, lane.sender.clone()));
        let context = Rc::new(LocalContext::new(link.clone(), &lane, data.clone()));
        let (engine, interrupt) = make(context.clone(), data)
            .map_err(|error| AttachError { name: name.to_owned(), why: error.to_string() })?;
        context.open(engine.clone());
        *lock(&link.interrupt) = Some(interrupt);
        lane.contexts.borrow_mut().push(context.clone());
        host.add_context(link);
        context.hold_out();
        Ok((Self { context, lane }, engine))
    }

    /// The context's name.
    pub(crate) fn name(&self) -> &str {
        &self.context.link.name
    }
}

impl Drop for OpenContext {
    fn drop(&mut self) {
        let id = self.context.link.id;
        self.lane.contexts.borrow_mut().retain(|context| context.link.id != id);
        *lock(&self.context.link.interrupt) = None;
        self.context.close();
        self.context.host.remove_context(id);
    }
}
