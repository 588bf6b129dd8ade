//! What the host tells unasked, and waiting for it.

use std::time::{Duration, Instant};

use adzeman_dap::Event;
use adzeman_dap::events::{BreakpointBody, ContinuedBody, LoadedSourceBody, OutputBody, StoppedBody};
use adzeman_dap::extra::{self, DroppedBody, RanBody, RoleBody, StatusBody};
use adzeman_dap::requests::{CancelArguments, StackTraceArguments, StackTraceBody};
use serde_json::json;

use super::{Ended, Looking, Session, WhoControls, read};
use crate::error::CliError;
use crate::report::{Notice, Report};
use crate::signals;

/// Frames fetched at a stop; deeper ones when they are asked for.
const FIRST_FRAMES: usize = 50;
/// Between two looks at whether Ctrl-C was pressed.
const GLANCE: Duration = Duration::from_millis(50);
/// After this time without a stop, the prompt says that it waits.
const PATIENT_FOR: Duration = Duration::from_millis(600);

impl Session<'_> {
    /// Takes notice of what happened meanwhile; a stop that came is kept to be shown, and told where it is another's. A host that
    /// is gone is waited for, if that was asked for.
    pub(crate) fn take_waiting(&mut self) -> Result<(), CliError> {
        match self.take_events() {
            Err(CliError::HostGone(_)) if self.origin.manner.follow => self.come_back(),
            outcome => outcome,
        }
    }

    pub(super) fn take_events(&mut self) -> Result<(), CliError> {
        while let Some(event) = self.client.next_event(Duration::ZERO)? {
            if let Some(Ended::Stopped(body)) = self.take(&event)? {
                self.keep_stop(body);
            }
        }
        Ok(())
    }

    /// Keeps a stop that nobody has waited for, and tells of it, unless it is where the person looks and is shown anyway.
    fn keep_stop(&mut self, body: StoppedBody) {
        self.elsewhere.retain(|held| held.thread_id != body.thread_id);
        if !self.is_own(&body) {
            let (context, description) = (self.context_name(body.thread_id), body.description.clone());
            self.printer.notice(&Notice::StoppedElsewhere { context, description });
        }
        self.elsewhere.push(body);
    }

    /// Whether a stop is in the context that the person looks at, or they look at none.
    fn is_own(&self, body: &StoppedBody) -> bool {
        self.at.stopped.or(self.at.selected).is_none_or(|context| context == body.thread_id)
    }

    /// Shows a stop of the context being looked at that came while nobody waited for it.
    pub(crate) fn show_own_stop(&mut self) -> Result<(), CliError> {
        if let Some(own) = self.elsewhere.iter().position(|held| self.is_own(held)) {
            let body = self.elsewhere.remove(own);
            let report = self.stopped_at(&body)?;
            self.printer.report(None, &report);
        }
        Ok(())
    }

    /// The first stop that is not being looked at, if nothing is: shown from now on.
    pub(crate) fn next_stop(&mut self) -> Result<Option<Report>, CliError> {
        if self.at.stopped.is_some() || self.elsewhere.is_empty() {
            return Ok(None);
        }
        let body = self.elsewhere.remove(0);
        self.stopped_at(&body).map(Some)
    }

    /// Waits for a stop, or for the end of a step that left its handler. Ctrl-C asks for a pause.
    pub(crate) fn wait(&mut self) -> Result<Report, CliError> {
        self.wait_in(None)
    }

    /// The same for a stop of one context, if one is given. A stop of another is told of; it may hold up the one that is waited
    /// for, so that after a moment nobody waits any longer.
    pub(super) fn wait_in(&mut self, context: Option<i64>) -> Result<Report, CliError> {
        if context.is_none()
            && let Some(report) = self.next_stop()?
        {
            return Ok(report);
        }
        let begun = Instant::now();
        let mut other = None;
        let mut said_so = self.patience.is_some();
        signals::forget_interrupt();
        loop {
            if !said_so && begun.elapsed() > PATIENT_FOR {
                self.printer.waiting(&self.host.name);
                said_so = true;
            }
            if let Some(event) = self.client.next_event(GLANCE)? {
                match self.take(&event)? {
                    Some(Ended::Stopped(body)) if context.is_some_and(|context| context != body.thread_id) => {
                        other = Some(Instant::now());
                        self.keep_stop(body);
                    }
                    Some(Ended::Stopped(body)) => return self.stopped_at(&body),
                    Some(Ended::HandlerLeft(body)) => {
                        return Ok(Report::HandlerLeft {
                            host: self.host.name.clone(),
                            context: self.context_name(body.thread_id),
                            event: body.event,
                            subject: body.subject,
                            returned: body.returned,
                        });
                    }
                    Some(Ended::Ran(body)) => return self.ran(body),
                    None => {}
                }
            }
            if signals::take_interrupt() {
                self.interrupt()?;
            }
            if let Some(context) = context.filter(|_| other.is_some_and(|since| since.elapsed() > PATIENT_FOR)) {
                return Ok(Report::StillUnderWay { context: self.context_name(context) });
            }
            if let Some(patience) = self.patience.filter(|patience| begun.elapsed() > *patience) {
                return Err(CliError::NoStop { seconds: patience.as_secs_f64() });
            }
        }
    }

    /// Ctrl-C while something is waited for: a call that a person asked for is cancelled, and scripts that run are stopped. A
    /// batch ends.
    pub(super) fn interrupt(&mut self) -> Result<(), CliError> {
        if self.patience.is_some() {
            return Err(CliError::GivenUp("'go'".to_owned()));
        }
        if let Some((_, seq)) = self.call {
            let _: serde_json::Value = self.client.request("cancel", &CancelArguments { request_id: Some(seq) })?;
            return Ok(());
        }
        let thread_id = self.current_context()?;
        let _: serde_json::Value = self.client.request("pause", &json!({ "threadId": thread_id }))?;
        Ok(())
    }

    /// Takes notice of an event; answers what could end a wait.
    pub(crate) fn take(&mut self, event: &Event) -> Result<Option<Ended>, CliError> {
        match event.event.as_str() {
            "stopped" => {
                return Ok(Some(Ended::Stopped(read(event)?)));
            }
            "continued" => {
                let body: ContinuedBody = read(event)?;
                self.elsewhere.retain(|held| held.thread_id != body.thread_id);
                if self.at.stopped == Some(body.thread_id) {
                    self.forget_stop();
                }
            }
            extra::RAN => return Ok(Some(Ended::Ran(read(event)?))),
            extra::HANDLER_LEFT => return Ok(Some(Ended::HandlerLeft(read(event)?))),
            "output" => self.show_output(read(event)?),
            // Said in words by an output of its own.
            extra::STUCK => {}
            "breakpoint" => self.update_breakpoint(read(event)?),
            "loadedSource" => {
                let body: LoadedSourceBody = read(event)?;
                self.compare(&body.source);
                if !self.role.controls {
                    self.tell_of_another_text(&body.source);
                }
                if body.reason == "changed" && self.require_stop().is_ok() {
                    self.fetch_frames(0, FIRST_FRAMES)?;
                }
            }
            "thread" => {
                self.refresh_contexts()?;
                self.set_waiting_changes()?;
            }
            "terminated" => return Err(CliError::HostGone("it has ended".to_owned())),
            extra::ROLE => {
                let body: RoleBody = read(event)?;
                self.role = body.into();
                let WhoControls { controls, controlled_by } = &self.role;
                self.printer.notice(&Notice::Role { controls: *controls, controlled_by: controlled_by.clone() });
            }
            extra::DROPPED => {
                let body: DroppedBody = read(event)?;
                self.printer.notice(&Notice::Dropped { messages: body.messages });
            }
            _ => {}
        }
        Ok(None)
    }

    pub(super) fn show_output(&self, body: OutputBody) {
        let path = body.source.and_then(|source| source.path).map(|path| self.files.paths.to_local(&path));
        let (category, text) = (body.category, body.output);
        let bell = body.bell == Some(true);
        self.printer.notice(&Notice::Output { category, text, path, line: body.line, bell });
    }

    pub(super) fn update_breakpoint(&mut self, body: BreakpointBody) {
        let now = body.breakpoint;
        let held = self.breakpoints.all.iter_mut().find(|held| held.id.is_some() && held.id == now.id);
        if let Some(held) = held {
            (held.bound, held.note) = (now.verified, now.message);
            self.printer.notice(&held.notice());
        }
    }

    /// Forgets what was shown of a stop: it is over. The context stays the one being looked at.
    pub(crate) fn forget_stop(&mut self) {
        self.at = Looking { selected: self.at.selected, ..Looking::default() };
    }

    pub(crate) fn stopped_at(&mut self, body: &StoppedBody) -> Result<Report, CliError> {
        self.elsewhere.retain(|held| held.thread_id != body.thread_id);
        self.at.stop = Some(body.clone());
        self.at.lines_ran = body.lines_ran.clone().unwrap_or_default();
        self.at.stopped = Some(body.thread_id);
        self.at.selected = self.at.stopped;
        self.look_from_the_script()?;
        let stop = self.stop_report(body)?;
        Ok(Report::Stop { stop: Box::new(stop) })
    }

    /// Fetches the first frames, and looks from the innermost one that is the script's own.
    pub(super) fn look_from_the_script(&mut self) -> Result<(), CliError> {
        self.at.frame = 0;
        self.fetch_frames(0, FIRST_FRAMES)?;
        self.at.frame = self.at.frames.iter().position(|frame| frame.line > 0).unwrap_or(0);
        Ok(())
    }

    /// A call that a person asked for is done; the stop it was asked from is there again.
    pub(super) fn ran(&mut self, body: RanBody) -> Result<Report, CliError> {
        let (call, _) = self.call.take().unwrap_or_default();
        let mut at = None;
        if body.stopped {
            self.at.stopped = Some(body.thread_id);
            self.at.selected = self.at.stopped;
            self.look_from_the_script()?;
            at = self.place_here();
        }
        Ok(Report::Ran { call, success: body.success, result: body.result, type_name: body.type_name, at })
    }

    /// Fetches frames of the stopped context, from `start` on.
    pub(crate) fn fetch_frames(&mut self, start: usize, count: usize) -> Result<(), CliError> {
        let thread_id = self.require_stop()?;
        let arguments = StackTraceArguments { thread_id, start_frame: Some(start), levels: Some(count) };
        let body: StackTraceBody = self.client.request("stackTrace", &arguments)?;
        self.at.frames.truncate(start);
        self.at.frames.extend(body.stack_frames);
        self.at.frames_in_all = body.total_frames;
        Ok(())
    }

    /// Sees to it that a stop that was under way before this client came is known: what a context is asked, it answers after
    /// it has told of its stop.
    pub(super) fn hear_of_stops(&mut self) -> Result<(), CliError> {
        let status: StatusBody = self.client.request(extra::STATUS, &json!({}))?;
        let stopped = status.contexts.iter().filter(|context| context.state == "stopped");
        let ids =
            stopped.filter_map(|stopped| self.contexts.iter().find(|held| held.name == stopped.name)).map(|c| c.id);
        for thread_id in ids.collect::<Vec<_>>() {
            let arguments = StackTraceArguments { thread_id, start_frame: None, levels: Some(1) };
            match self.client.request::<_, StackTraceBody>("stackTrace", &arguments) {
                // It went on meanwhile.
                Err(CliError::RefusedByHost { .. }) | Ok(_) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }
}
