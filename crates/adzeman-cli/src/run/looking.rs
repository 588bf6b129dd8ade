//! `look`, `use`, and the report of a stop.

use adzeman_dap::events::StoppedBody;
use adzeman_dap::requests::{
    EvaluateArguments, LoadedSourcesBody, ScopesArguments, ScopesBody, SourceArguments, SourceBody, ValueBody,
    VariablesArguments, VariablesBody,
};
use adzeman_dap::types::{Scope, Source, StackFrame, Variable};
use serde_json::json;

use crate::command::Look;
use crate::error::CliError;
use crate::report::{EventRow, FrameRow, Listing, Report, Row, Stop};
use crate::session::Session;

/// Lines shown before and after the current one at a stop.
const LINES_AROUND: i64 = 3;
/// Lines shown before and after by `look source`.
const MORE_LINES: i64 = 12;
/// Rows of a scope or value shown at once.
const MOST_ROWS: usize = 40;
/// Frames shown by `look stack`.
const MOST_FRAMES: usize = 50;

impl Session<'_> {
    pub(super) fn look(&mut self, what: Look) -> Result<Report, CliError> {
        match what {
            Look::Here => self.look_here(),
            Look::Stack => self.look_stack(),
            // The same names in an expression work while the host runs too.
            Look::Scope("Host") => self.look_expression("host".to_owned()),
            Look::Scope(title) => self.look_scope(title),
            Look::Source => self.look_source(),
            Look::Sources => self.look_sources(),
            Look::Contexts => self.look_contexts(),
            Look::Events => Ok(Report::Events { events: self.host.events.iter().map(event_row).collect() }),
            Look::Break(which) => self.look_break(&which),
            Look::Expression(expression) => self.look_expression(expression),
        }
    }

    /// The selected frame with its source and locals.
    fn look_here(&mut self) -> Result<Report, CliError> {
        let thread_id = self.require_stop()?;
        let body = StoppedBody { thread_id, reason: "here".to_owned(), ..StoppedBody::default() };
        Ok(Report::Stop { stop: Box::new(self.stop_report(&body)?) })
    }

    /// What a stop looks like, from the selected frame.
    pub(crate) fn stop_report(&mut self, body: &StoppedBody) -> Result<Stop, CliError> {
        let frame = self.frames.get(self.frame).cloned();
        let listing = frame.as_ref().map(|frame| self.listing(frame, LINES_AROUND)).transpose()?.flatten();
        let scopes = frame.as_ref().map(|frame| self.scopes(frame.id)).transpose()?.unwrap_or_default();
        let rows = |session: &mut Self, title: &str| -> Result<Vec<Row>, CliError> {
            let scope = scopes.iter().find(|scope| scope.name == title);
            scope.map_or(Ok(Vec::new()), |scope| Ok(session.rows(scope.variables_reference)?.0))
        };
        Ok(Stop {
            context: self.context_name(body.thread_id),
            at_boundary: self.frames.iter().all(|frame| frame.line <= 0).then(|| self.host.name.clone()),
            reason: body.reason.clone(),
            breakpoints: self.numbers_of(&body.hit_breakpoint_ids),
            text: body.text.clone(),
            returned: body.returned.clone(),
            function: frame.map(|frame| frame.name).unwrap_or_default(),
            event: rows(self, "Event")?,
            listing,
            locals: rows(self, "Locals")?,
        })
    }

    fn look_stack(&mut self) -> Result<Report, CliError> {
        self.require_stop()?;
        let frames = self.frames.iter().take(MOST_FRAMES).enumerate();
        let frames = frames.map(|(number, frame)| frame_row(number, frame, number == self.frame)).collect();
        Ok(Report::Stack { frames, total: self.frames_in_all })
    }

    fn look_scope(&mut self, title: &str) -> Result<Report, CliError> {
        self.require_stop()?;
        let Some(frame) = self.frame_id() else {
            let why = "that context is not the one that stopped; its globals can be looked at by their names";
            return Err(CliError::Refused(why.to_owned()));
        };
        let scopes = self.scopes(frame)?;
        let Some(scope) = scopes.iter().find(|scope| scope.name == title) else {
            let there: Vec<_> = scopes.iter().map(|scope| scope.name.to_lowercase()).collect();
            return Err(CliError::Refused(format!(
                "there are no {} here; there is {}",
                title.to_lowercase(),
                there.join(", ")
            )));
        };
        let (rows, total) = self.rows(scope.variables_reference)?;
        Ok(Report::Scope { title: title.to_owned(), rows, total })
    }

    fn scopes(&mut self, frame_id: i64) -> Result<Vec<Scope>, CliError> {
        let body: ScopesBody = self.client.request("scopes", &ScopesArguments { frame_id })?;
        Ok(body.scopes)
    }

    fn rows(&mut self, variables_reference: i64) -> Result<(Vec<Row>, usize), CliError> {
        let arguments =
            VariablesArguments { variables_reference, count: Some(MOST_ROWS), ..VariablesArguments::default() };
        let body: VariablesBody = self.client.request("variables", &arguments)?;
        Ok((body.variables.into_iter().map(row).collect(), body.total))
    }

    fn look_expression(&mut self, expression: String) -> Result<Report, CliError> {
        let arguments = EvaluateArguments {
            expression: expression.clone(),
            frame_id: self.frame_id(),
            context: Some("repl".to_owned()),
            thread_id: Some(self.current_context()?),
        };
        let body: ValueBody = self.client.request("evaluate", &arguments)?;
        let (inside, total) = match body.variables_reference {
            0 => (Vec::new(), 0),
            reference => self.rows(reference)?,
        };
        let (value, type_name) = (body.result.unwrap_or_default(), body.type_name.unwrap_or_default());
        Ok(Report::Value { expression, value, type_name, inside, total })
    }

    fn look_source(&mut self) -> Result<Report, CliError> {
        self.require_stop()?;
        let frame = self.frames.get(self.frame).cloned();
        let listing = frame.map(|frame| self.listing(&frame, MORE_LINES)).transpose()?.flatten();
        listing
            .map(|listing| Report::Source { listing })
            .ok_or_else(|| CliError::Refused("this frame has no source; 'look stack' shows which ones have".to_owned()))
    }

    /// The source around the first place of a breakpoint.
    fn look_break(&mut self, which: &str) -> Result<Report, CliError> {
        let id = self.picked_one(which)?.id;
        let infos = self.breakpoints_now()?;
        let place = infos.iter().find(|now| Some(now.id) == id).and_then(|now| now.places.first().cloned());
        let place = place.as_deref().and_then(|place| place.rsplit_once(':'));
        let found = place.and_then(|(path, line)| Some((path.to_owned(), line.parse::<i64>().ok()?)));
        let (path, line) = found.ok_or_else(|| {
            CliError::Refused(format!("breakpoint {which} has no line; 'breaks' shows what it waits for"))
        })?;
        let source = Source { path: Some(path), ..Source::default() };
        self.lines_around(source, line, LINES_AROUND).map(|listing| Report::Source { listing })
    }

    /// The lines around a frame's, if it has any.
    fn listing(&mut self, frame: &StackFrame, around: i64) -> Result<Option<Listing>, CliError> {
        match frame.source.clone().filter(|_| frame.line > 0) {
            Some(source) => self.lines_around(source, frame.line, around).map(Some),
            None => Ok(None),
        }
    }

    /// The lines around one, as far as the host knows the text.
    fn lines_around(&mut self, source: Source, line: i64, around: i64) -> Result<Listing, CliError> {
        let path = source.path.clone().unwrap_or_default();
        let arguments =
            SourceArguments { source_reference: source.source_reference.unwrap_or(0), source: Some(source) };
        let text: SourceBody = match self.client.request("source", &arguments) {
            Ok(text) => text,
            Err(CliError::Refused(_)) => SourceBody::default(),
            Err(error) => return Err(error),
        };
        let first = (line - around).max(1);
        let skip = usize::try_from(first - 1).unwrap_or(0);
        let count = usize::try_from(line + around - first + 1).unwrap_or(1);
        let lines = text.content.lines().skip(skip).take(count).map(str::to_owned).collect();
        Ok(Listing { path, first, lines, current: Some(line) })
    }

    fn look_sources(&mut self) -> Result<Report, CliError> {
        let body: LoadedSourcesBody = self.client.request("loadedSources", &json!({}))?;
        Ok(Report::Sources { paths: body.sources.into_iter().filter_map(|source| source.path).collect() })
    }

    fn look_contexts(&mut self) -> Result<Report, CliError> {
        self.refresh_contexts()?;
        let describe = |context: &adzeman_dap::types::Thread| match self.stopped {
            Some(stopped) if stopped == context.id => format!("{} (stopped)", context.name),
            Some(_) => format!("{} (held)", context.name),
            None => context.name.clone(),
        };
        let contexts = self.contexts.iter().map(describe).collect();
        Ok(Report::Contexts { contexts, selected: self.current_context().ok().map(|id| self.context_name(id)) })
    }

    pub(super) fn use_frame(&mut self, number: usize) -> Result<Report, CliError> {
        self.selected = Some(self.require_stop()?);
        if number >= self.frames.len() && number < self.frames_in_all {
            let start = self.frames.len();
            self.fetch_frames(start, number + 1 - start)?;
        }
        let Some(frame) = self.frames.get(number).cloned() else {
            return Err(CliError::Refused(format!(
                "there is no frame {number}; the last is {}",
                self.frames_in_all.max(1) - 1
            )));
        };
        self.frame = number;
        let listing = self.listing(&frame, LINES_AROUND)?;
        Ok(Report::Frame { frame: frame_row(number, &frame, true), listing })
    }

    pub(super) fn use_context(&mut self, name: &str) -> Result<Report, CliError> {
        self.refresh_contexts()?;
        let Some(context) = self.contexts.iter().find(|context| context.name == name) else {
            let names: Vec<_> = self.contexts.iter().map(|context| context.name.clone()).collect();
            return Err(CliError::Refused(format!("there is no context '{name}'; there is {}", names.join(", "))));
        };
        self.selected = Some(context.id);
        self.look_contexts()
    }
}

fn row(variable: Variable) -> Row {
    let attributes = variable.presentation_hint.and_then(|hint| hint.attributes).unwrap_or_default();
    Row {
        name: variable.name,
        value: variable.value,
        type_name: variable.type_name.unwrap_or_default(),
        shadowed: attributes.iter().any(|attribute| attribute == "shadowed"),
    }
}

fn frame_row(number: usize, frame: &StackFrame, selected: bool) -> FrameRow {
    FrameRow {
        number,
        function: frame.name.clone(),
        path: frame.source.as_ref().and_then(|source| source.path.clone()),
        line: (frame.line > 0).then_some(frame.line),
        kind: match frame.presentation_hint.as_deref() {
            Some("label") => "boundary",
            Some("subtle") => "native",
            _ => "script",
        },
        selected,
        running_milliseconds: frame.running_milliseconds,
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
