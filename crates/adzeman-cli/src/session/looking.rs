//! `look`, `use`, and the report of a stop.

use adzeman_dap::events::StoppedBody;
use adzeman_dap::extra::{self, StatusBody};
use adzeman_dap::types::StackFrame;
use serde_json::json;

use super::Session;
use super::sources::LINES_AROUND;
use crate::command::Look;
use crate::error::CliError;
use crate::report::{EventRow, Extent, FrameRow, Report, Row, Stop};

/// Variables fetched for the report of a stop.
const MOST_LOCALS: usize = 40;
/// Frames shown by `look stack`.
const MOST_FRAMES: usize = 50;

impl Session<'_> {
    pub(super) fn look(&mut self, what: Look) -> Result<Report, CliError> {
        match what {
            Look::Here => self.look_here(),
            Look::Stack => self.look_stack(0),
            Look::Host => self.look_host(),
            Look::Scope(title) => self.look_scope(title),
            Look::Source(text) => self.look_source(text),
            Look::Sources(text) => self.look_sources(text),
            Look::Contexts => self.look_contexts(),
            Look::Events => Ok(Report::Events { events: self.host.events.iter().map(event_row).collect() }),
            Look::Break(which) => self.look_break(&which),
            Look::Running(context) => self.look_running(context.as_deref()),
            Look::Trail(wanted) => self.trail(wanted),
            Look::Figure(name) => self.look_figure(&name),
            Look::Watch(number) => self.look_watch(number),
            Look::Expression(expression, form) => self.look_expression(expression, form),
        }
    }

    /// The selected frame with its source and locals.
    fn look_here(&mut self) -> Result<Report, CliError> {
        if let Some(report) = self.next_stop()? {
            return Ok(report);
        }
        let thread_id = self.require_stop()?;
        let body = StoppedBody { thread_id, reason: "here".to_owned(), ..StoppedBody::default() };
        Ok(Report::Stop { stop: Box::new(self.stop_report(&body)?) })
    }

    /// Where the selected frame is, in a line: `lock.upper at scripts/lock.lua:31, in update`.
    pub(super) fn place_here(&self) -> Option<String> {
        let (context, frame) = (self.at.selected?, self.at.frames.get(self.at.frame)?);
        let path = self.files.paths.to_local(frame.source.as_ref()?.path.as_ref()?);
        Some(format!("{} at {path}:{}, in {}", self.context_name(context), frame.line, frame.name))
    }

    /// What a stop looks like, from the selected frame.
    pub(crate) fn stop_report(&mut self, body: &StoppedBody) -> Result<Stop, CliError> {
        let frame = self.at.frames.get(self.at.frame).cloned();
        let listing = frame.as_ref().map(|frame| self.listing(frame, LINES_AROUND)).transpose()?.flatten();
        let scopes = frame.as_ref().map(|frame| self.scopes(frame.id)).transpose()?.unwrap_or_default();
        let rows = |session: &mut Self, title: &str| -> Result<Vec<Row>, CliError> {
            let scope = scopes.iter().find(|scope| scope.name == title);
            scope.map_or(Ok(Vec::new()), |scope| Ok(session.rows(scope.variables_reference, MOST_LOCALS)?.0))
        };
        Ok(Stop {
            context: self.context_name(body.thread_id),
            at_boundary: self.at.frames.iter().all(|frame| frame.line <= 0).then(|| self.host.name.clone()),
            reason: body.reason.clone(),
            breakpoints: self.numbers_of(&body.hit_breakpoint_ids),
            text: body.text.clone(),
            returned: body.returned.clone(),
            function: frame.map(|frame| frame.name).unwrap_or_default(),
            event: rows(self, "Event")?,
            listing,
            locals: rows(self, "Locals")?,
            watches: self.watch_rows()?,
        })
    }

    /// Frames from `start` on.
    pub(super) fn look_stack(&mut self, start: usize) -> Result<Report, CliError> {
        self.require_stop()?;
        let end = (start + MOST_FRAMES).min(self.at.frames_in_all);
        if self.at.frames.len() < end {
            let known = self.at.frames.len();
            self.fetch_frames(known, end - known)?;
        }
        let frames = self.at.frames.iter().enumerate().take(end).skip(start);
        let frames: Vec<_> =
            frames.map(|(number, frame)| self.frame_row(number, frame, number == self.at.frame)).collect();
        self.more_frames(start + frames.len());
        Ok(Report::Stack { frames, extent: Extent { start, total: self.at.frames_in_all, at_least: false } })
    }

    fn look_contexts(&mut self) -> Result<Report, CliError> {
        self.refresh_contexts()?;
        let status: StatusBody = self.client.request(extra::STATUS, &json!({}))?;
        let describe = |context: &adzeman_dap::types::Thread| {
            let held = status.contexts.iter().find(|held| held.name == context.name);
            match held.map(|held| (held.state.as_str(), held.held_with.as_deref())) {
                None | Some(("running", _)) => context.name.clone(),
                Some((state, None)) => format!("{} ({state})", context.name),
                Some((state, Some(with))) => format!("{} ({state} with {with})", context.name),
            }
        };
        let contexts = self.contexts.iter().map(describe).collect();
        Ok(Report::Contexts { contexts, selected: self.current_context().ok().map(|id| self.context_name(id)) })
    }

    pub(super) fn use_frame(&mut self, number: usize) -> Result<Report, CliError> {
        self.at.selected = Some(self.require_stop()?);
        if number >= self.at.frames.len() && number < self.at.frames_in_all {
            let start = self.at.frames.len();
            self.fetch_frames(start, number + 1 - start)?;
        }
        let Some(frame) = self.at.frames.get(number).cloned() else {
            return Err(CliError::Refused(format!(
                "there is no frame {number}; the last is {}",
                self.at.frames_in_all.max(1) - 1
            )));
        };
        self.at.frame = number;
        let listing = self.listing(&frame, LINES_AROUND)?;
        Ok(Report::Frame { frame: self.frame_row(number, &frame, true), listing })
    }

    pub(super) fn use_context(&mut self, name: &str) -> Result<Report, CliError> {
        let id = self.context_named(name)?;
        if let Some(at) = self.elsewhere.iter().position(|held| held.thread_id == id) {
            let body = self.elsewhere.remove(at);
            // The other one is held still.
            let other = self.at.stop.take();
            self.forget_stop();
            self.elsewhere.splice(0..0, other);
            return self.stopped_at(&body);
        }
        self.at.selected = Some(id);
        self.look_contexts()
    }

    fn frame_row(&self, number: usize, frame: &StackFrame, selected: bool) -> FrameRow {
        FrameRow {
            number,
            function: frame.name.clone(),
            path: frame.source.as_ref().and_then(|source| Some(self.files.paths.to_local(source.path.as_ref()?))),
            line: (frame.line > 0).then_some(frame.line),
            kind: match frame.presentation_hint.as_deref() {
                Some("label") => "boundary",
                Some("subtle") => "native",
                _ => "script",
            },
            selected,
            arguments: frame.arguments.clone().unwrap_or_default(),
            running_milliseconds: frame.running_milliseconds,
            running_longer: frame.running_longer,
        }
    }
}

fn event_row(kind: &serde_json::Value) -> EventRow {
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    let fields = kind["fields"].as_array().map(Vec::as_slice).unwrap_or_default();
    EventRow {
        name: text(&kind["name"]),
        doc: text(&kind["doc"]),
        fields: fields.iter().map(|field| format!("{}: {}", text(&field["name"]), text(&field["doc"]))).collect(),
    }
}
