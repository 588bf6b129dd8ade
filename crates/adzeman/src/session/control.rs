//! Requests that let contexts go on or stop them.

use std::sync::Arc;

use adzeman_core::breakpoint::{HitRule, Site, Status};
use adzeman_core::evaluation::Cancel;
use adzeman_dap::Request;
use adzeman_dap::extra::GoToArguments;
use adzeman_dap::requests::{ContinueBody, EvaluateArguments, RestartFrameArguments, ThreadArguments};
use serde_json::Value as Json;

use super::ask::tell_until;
use super::{Session, SessionError, arguments, body, convert};
use crate::event::current_event;
use crate::lane::{ContextLink, Go};
use crate::state::notice::Notice;
use crate::state::standing::RunState;

impl Session {
    pub(super) fn context(&self, id: i64) -> Result<Arc<ContextLink>, SessionError> {
        self.host.contexts.get(id).ok_or(SessionError::NoContext(id))
    }

    /// The first context, for what names none.
    pub(super) fn any_context(&self) -> Result<Arc<ContextLink>, SessionError> {
        self.host.contexts.all().first().cloned().ok_or(SessionError::NoContexts)
    }

    pub(super) fn resume(&mut self, request: &Request, go: Go) -> Result<Option<Json>, SessionError> {
        let arguments: ThreadArguments = arguments(request)?;
        self.let_go(arguments.thread_id, go)?;
        match go {
            Go::Freely => {
                let all_threads_continued = self.host.contexts.is_last_stopped(arguments.thread_id);
                body(ContinueBody { all_threads_continued })
            }
            Go::Step(_) | Go::Again | Go::From(_) => Ok(None),
        }
    }

    /// Lets a context that is held go on, once the answer is on its way.
    pub(super) fn let_go(&mut self, thread_id: i64, go: Go) -> Result<(), SessionError> {
        let (context, stop) = self.held(thread_id)?;
        if matches!(go, Go::Step(_))
            && let Some(why) = self.ask(&context, |point| point.engine.cannot_step())?
        {
            return Err(SessionError::CannotStep(why));
        }
        let by = Some(self.client.owner);
        self.afterwards = Some(Box::new(move || context.let_go(stop, go, by)));
        self.shown.forget_references();
        Ok(())
    }

    /// A context that is held itself, and not with another one of its thread, and the number of the stop.
    pub(super) fn held(&self, thread_id: i64) -> Result<(Arc<ContextLink>, u64), SessionError> {
        let context = self.context(thread_id)?;
        if context.standing.state() == RunState::Running {
            return Err(SessionError::NotStopped(context.name.clone()));
        }
        let stop = self.ask(&context, |point| {
            let hold = point.hold.filter(|hold| hold.context == point.context.link.id);
            hold.map(|hold| hold.number)
        })?;
        match stop {
            Some(stop) => Ok((context, stop)),
            None => Err(SessionError::NotStopped(context.name.clone())),
        }
    }

    /// Delivers the event again whose handler is held.
    pub(super) fn restart_frame(&mut self, arguments: &RestartFrameArguments) -> Result<(), SessionError> {
        let (context, _) = self.frame(arguments.frame_id)?;
        let (context, _) = self.held(context.id)?;
        let event = self.ask(&context, |_| {
            current_event(|event| event.map(|event| (event.kind().to_owned(), event.is_repeatable())))
        })?;
        match event {
            None => Err(SessionError::NoEvent),
            Some((kind, false)) => Err(SessionError::NotRepeatable(kind)),
            Some((_, true)) => self.let_go(context.id, Go::Again),
        }
    }

    /// Lets a context go on, if it is held, to a line or to an event.
    pub(super) fn go_to(&mut self, arguments: GoToArguments) -> Result<(), SessionError> {
        let context = self.context(arguments.thread_id)?;
        if context.standing.state() == RunState::Stopped {
            self.held(arguments.thread_id)?;
        }
        let base = self.client.line_base();
        let count = arguments.count.unwrap_or(1).max(1);
        let hits = HitRule { after: count - 1, every: 1, once: true };
        let site = match (arguments.line, arguments.path, arguments.event) {
            (Some(line), Some(path), _) => {
                let line = convert::line(line, base).ok_or(SessionError::BadLine(line, base))?;
                Site::Line { path, line }
            }
            (_, _, Some(kind)) => Site::Event { kind, at_boundary: false },
            _ => return Err(SessionError::NowhereToGo),
        };
        if let Status::Pending(why) = self.host.add_temporary(self.client.owner, site, hits) {
            self.host.end_temporary();
            return Err(SessionError::Unreachable(why.to_string()));
        }
        match context.standing.state() {
            RunState::Running | RunState::Waiting => Ok(()),
            RunState::Stopped => self.let_go(context.id, Go::Freely),
        }
    }

    /// Evaluates a text as the script would, with breakpoints honoured, and tells what came of it by an event.
    pub(super) fn run_call(&mut self, seq: i64, arguments: EvaluateArguments) -> Result<(), SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let (client, id) = (self.client.clone(), context.id);
        self.note_run(&context, &arguments.expression);
        self.shown.forget_references();
        let cancel = Cancel::default();
        self.inbox.begin_call(seq, cancel.clone());
        self.afterwards = Some(Box::new(move || {
            tell_until(&context, cancel.clone(), move |point| {
                let outcome = point.context.run_openly(point.engine, frame, &arguments.expression, &cancel);
                point.engine.release();
                let stopped = point.hold.is_some_and(|hold| hold.context == id);
                if stopped {
                    point.context.link.standing.is_back();
                }
                let outcome = match outcome {
                    Ok(values) => {
                        let type_name = values.first().map(|value| value.type_name.clone());
                        let shown: Vec<_> = values.into_iter().map(|value| value.preview).collect();
                        Ok((type_name, shown.join(", ")))
                    }
                    Err(why) => Err(why.to_string()),
                };
                client.tell(Notice::Ran { context: id, outcome, is_stopped: stopped });
            });
        }));
        Ok(())
    }

    pub(super) fn pause(&mut self, arguments: ThreadArguments) -> Result<(), SessionError> {
        let context = self.context(arguments.thread_id)?;
        if context.standing.is_going() {
            self.afterwards = Some(Box::new(move || {
                context.ask_pause();
            }));
        }
        Ok(())
    }
}
