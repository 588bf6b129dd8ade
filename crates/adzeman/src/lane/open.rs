//! Opening a context, and closing it.

use std::sync::Arc;

use adzeman_core::engine::{EngineContext, Interrupt, Supervisor, Syntax};
use adzeman_core::host::HostView;
use adzeman_core::sharing::Shared;
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
    context: Shared<LocalContext>,
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
        make: impl FnOnce(Shared<dyn Supervisor>, Shared<dyn HostView>) -> Result<(Shared<C>, Arc<dyn Interrupt>), E>,
    ) -> Result<(Self, Shared<C>), AttachError>
    where
        C: EngineContext + 'static,
        E: std::fmt::Display,
    {
        let lane = Lane::of(host);
        let data = Shared::new(HostData::new(host.opened.clone(), syntax.language().notation));
        let (id, mailbox) = (host.contexts.next_id(), lane.mailbox.clone());
        let count = host.contexts.attention_counter();
        let link = Arc::new(ContextLink::new(id, &host.contexts.own_name(name), syntax, count, (lane.number, mailbox)));
        let context = Shared::new_cyclic(|me| LocalContext::new(me.clone(), link.clone(), host.clone(), data.clone()));
        let (engine, interrupt) = make(context.clone(), data)
            .map_err(|error| AttachError { name: name.to_owned(), why: error.to_string() })?;
        context.open(engine.clone());
        *lock(&link.interrupt) = Some(interrupt);
        lane.add(context.clone());
        host.add_context(link);
        context.hold_out();
        if host.is_attached() {
            // What waits for a source is to see the very first function that runs, whoever loads it; what opens the context may be
            // one that runs already.
            context.discover();
            context.refresh();
        }
        Ok((Self { context }, engine))
    }

    /// The context's name.
    pub(crate) fn name(&self) -> &str {
        &self.context.link.name
    }

    /// Does `work`, during which this thread runs the context.
    pub(crate) fn enter<T>(&self, work: impl FnOnce() -> T) -> T {
        self.context.enter(work)
    }
}

impl Drop for OpenContext {
    fn drop(&mut self) {
        let (link, host) = (&self.context.link, &self.context.host);
        if !host.clients.are_here() {
            // In a copy of the process, only what is on this thread is there to be left as it was.
            self.context.close();
            return;
        }
        *lock(&link.interrupt) = None;
        link.leave();
        self.context.close();
        host.remove_context(link.id);
        host.contexts.note_change();
        // The lane that it was on, if it is the one of this thread, forgets it now, and any other one when it looks next.
        if let Some(lane) = Lane::find(host) {
            drop(lane.contexts());
        }
    }
}
