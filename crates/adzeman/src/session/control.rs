//! Requests that let contexts go on or stop them.

use std::sync::Arc;

use adzeman_dap::Request;
use adzeman_dap::requests::{ContinueBody, ThreadArguments};
use serde_json::Value as Json;

use super::ask::ask;
use super::{Session, SessionError, arguments, body};
use crate::context::{ContextShared, RunState};
use crate::hold::Go;

impl Session {
    pub(super) fn context(&self, id: i64) -> Result<Arc<ContextShared>, SessionError> {
        self.shared.context(id).ok_or(SessionError::NoContext(id))
    }

    /// The first context, for what names none.
    pub(super) fn any_context(&self) -> Result<Arc<ContextShared>, SessionError> {
        self.shared.contexts().first().cloned().ok_or(SessionError::NoContexts)
    }

    pub(super) fn resume(&mut self, request: &Request, go: Go) -> Result<Option<Json>, SessionError> {
        let arguments: ThreadArguments = arguments(request)?;
        let context = self.context(arguments.thread_id)?;
        if context.state() == RunState::Running {
            return Err(SessionError::NotStopped(context.name.clone()));
        }
        let is_held = ask(&context, |point| point.hold.is_some_and(|hold| hold.context == point.context.shared.id))?;
        if !is_held {
            return Err(SessionError::NotStopped(context.name.clone()));
        }
        self.afterwards = Some(Box::new(move || context.let_go(go)));
        self.references.clear();
        match go {
            Go::Freely => body(ContinueBody { all_threads_continued: true }),
            Go::Step(_) => Ok(None),
        }
    }

    pub(super) fn pause(&mut self, arguments: ThreadArguments) -> Result<(), SessionError> {
        let context = self.context(arguments.thread_id)?;
        if context.state() == RunState::Running {
            self.afterwards = Some(Box::new(move || {
                context.ask_pause();
            }));
        }
        Ok(())
    }
}
