//! Expressions: evaluating them in one way or another, completing them, and sampling them while the host runs.

use std::time::Duration;

use adzeman_core::engine::NamesUsed;
use adzeman_core::host::{Aspect, HostView as _, Outline};
use adzeman_core::monitor::{Pace, USUAL_SHARE};
use adzeman_core::path::Path;
use adzeman_core::path::TreePath;
use adzeman_core::source::SourceId;
use adzeman_core::value::{Expand, Grid, Page, Part, Value, Variable, hex_lines, shape_of};
use adzeman_dap::extra::{MonitorArguments, MonitorBody, ShapeBody, ShapeLine, TableArguments, TableBody, TableRow};
use adzeman_dap::requests::{
    CompletionsArguments, CompletionsBody, EvaluateArguments, SetExpressionArguments, ValueBody,
};
use adzeman_dap::types::CompletionItem;

use super::changes::change;
use super::inspect::page;
use super::values::{base, list_tree, made};
use super::{Session, SessionError};
use crate::lane::monitors::{MOST_MONITORS, Monitor, every};
use crate::lane::{ContextLink, LocalContext, SafePoint};

/// Bytes in one answer to `bytes`.
const MOST_HEX_BYTES: usize = 16 * 1024;
/// Rows of a table in one answer.
const MOST_ROWS: usize = 200;
/// Fields looked at in each row.
const MOST_FIELDS: usize = 50;
/// Functions named that have a variable of a name.
const MOST_PLACES: usize = 4;

/// Where the names of an expression are.
///
/// # Errors
/// Where one of them stands for what cannot be reached from the frame.
pub(super) fn names_used(
    point: &mut SafePoint<'_>,
    frame: Option<usize>,
    text: &str,
) -> Result<NamesUsed, SessionError> {
    let used = point.engine.names_used(frame, text);
    match used.out_of_reach {
        Some(name) => Err(SessionError::OutOfReach(name)),
        None => Ok(used),
    }
}

impl Session {
    pub(super) fn set_expression(&mut self, arguments: SetExpressionArguments) -> Result<ValueBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let SetExpressionArguments { expression, value, for_now, .. } = arguments;
        let (target, for_now) = (expression.clone(), for_now.unwrap_or(false));
        self.changes.check_room(for_now)?;
        let (new, noted, made) = self.ask(&context, move |point| {
            if frame.is_some() {
                names_used(point, frame, &target)?;
                names_used(point, frame, &value)?;
            }
            let (new, noted) = change(point, frame, &target, &value, for_now)?;
            Ok::<_, SessionError>((new, noted, made(point)))
        })??;
        self.changes.note(context.clone(), expression.clone(), noted);
        let body = self.value_body(context.id, frame, new, Some(expression), 10);
        Ok(ValueBody { value: body.result, result: None, made, ..body })
    }

    pub(super) fn evaluate(&mut self, arguments: EvaluateArguments) -> Result<ValueBody, SessionError> {
        self.notice_stop();
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let expression = arguments.expression.clone();
        if expression.trim().is_empty() {
            return Err(SessionError::BadExpression("there is no expression".to_owned()));
        }
        let base = base(arguments.format.as_ref());
        if matches!(arguments.context.as_deref(), Some("clipboard" | "bytes" | "expression")) {
            check_is_expression(&context, &expression)?;
        }
        match arguments.context.as_deref() {
            Some("clipboard") => return self.whole_text(&context, frame, expression, text),
            Some("bytes") => {
                let lines = |bytes: &[u8]| hex_lines(&bytes[..bytes.len().min(MOST_HEX_BYTES)]).join("\n");
                return self.whole_text(&context, frame, expression, lines);
            }
            _ => {}
        }
        let how = arguments.context.clone();
        let asked = self.ask(&context, move |point| {
            let is_watch = how.as_deref() == Some("watch");
            // Without a frame there are globals alone.
            let used =
                if frame.is_some() || is_watch { names_used(point, frame, &expression)? } else { NamesUsed::default() };
            if let (true, Some(name)) = (is_watch, used.missing) {
                return Ok(Err(name));
            }
            let values = match how.as_deref() {
                Some("hover") => match point.engine.peek(frame, &expression) {
                    Some(value) => vec![value],
                    None => return Err(SessionError::NothingToHover(expression)),
                },
                Some("repl" | "expression") => point.engine.evaluate_and_keep(frame, &expression)?,
                _ => point.engine.evaluate(frame, &expression)?,
            };
            Ok(Ok((values, is_watch.then_some(used.of_function))))
        });
        let evaluated = asked.and_then(|evaluated| evaluated);
        let may_have_run = matches!(
            evaluated,
            Ok(_) | Err(SessionError::Engine(_) | SessionError::Stuck { .. } | SessionError::Fault { .. })
        );
        if may_have_run && arguments.context.as_deref() == Some("repl") {
            self.note_statement(&context, &arguments.expression);
        }
        let (values, of_function) = match evaluated? {
            Ok(evaluated) => evaluated,
            Err(missing) => return Err(self.not_in_scope(&context, missing)),
        };
        let key = format!("{} {}", self.key_of_place(&context, arguments.frame_id), arguments.expression);
        let before = values.first().and_then(|first| self.shown.compare(&key, first));
        let mut values = values.into_iter();
        let mut body = match values.next() {
            Some(first) => self.value_body(context.id, frame, first, Some(arguments.expression), base),
            None => ValueBody { result: Some(String::new()), ..ValueBody::default() },
        };
        for more in values {
            let result = body.result.get_or_insert_default();
            result.push_str(", ");
            result.push_str(&more.in_base(base));
        }
        Ok(ValueBody { before, of_function, ..body })
    }

    fn key_of_place(&self, context: &ContextLink, frame: Option<i64>) -> String {
        frame.map_or_else(|| format!("{} globals", context.id), |frame| self.shown.frame_key(frame))
    }

    /// That a name is nowhere to be seen, and which functions have a variable of that name.
    fn not_in_scope(&mut self, context: &ContextLink, name: String) -> SessionError {
        let sources: Vec<_> = {
            let sources = self.host.sources.look();
            sources.newest().iter().map(|source| source.id).collect()
        };
        let mut places: Vec<_> = sources.into_iter().flat_map(|id| self.functions_with(context, id, &name)).collect();
        let more = if places.len() > MOST_PLACES { ", and others" } else { "" };
        places.truncate(MOST_PLACES);
        let places = match places.len() {
            0 => format!("no script makes a variable '{name}'"),
            _ => format!("'{name}' is a variable of {}{more}", places.join(", ")),
        };
        SessionError::NotInScope(places)
    }

    /// The functions of a source that have a local variable of this name.
    fn functions_with(&mut self, context: &ContextLink, id: SourceId, name: &str) -> Vec<String> {
        let known = (id, name.to_owned());
        if let Some(found) = self.makers.get(&known) {
            return found.clone();
        }
        let sources = self.host.sources.look();
        let Some((source, script)) = sources.get(id).and_then(|source| Some((source, source.text()?.clone()))) else {
            return Vec::new();
        };
        let lines = context.syntax.locals_named(&script, name);
        let mut found: Vec<String> = Vec::new();
        for line in lines {
            let function = source.function_at(line).and_then(|function| function.name.clone());
            let place = function
                .map_or_else(|| source.facts.name.clone(), |function| format!("{function} ({})", source.facts.name));
            if !found.contains(&place) {
                found.push(place);
            }
        }
        drop(sources);
        self.makers.insert(known, found.clone());
        found
    }

    pub(super) fn table(&mut self, arguments: TableArguments) -> Result<TableBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let page = Page { count: page(None, arguments.count).count.min(MOST_ROWS), ..page(arguments.start, None) };
        let (grid, total) = self.ask(&context, move |point| {
            let value = first(point, frame, &arguments.expression)?;
            let Some(children) = value.children else { return Err(SessionError::NoRows(value.preview)) };
            let part = if children.indexed > 0 { Part::Indexed } else { Part::All };
            let mut rows = list(point, &children.expand, part, page)?;
            rows.retain(|row| row.nature == adzeman_core::value::Nature::Data);
            let mut elements = Vec::new();
            for row in rows {
                let fields = match &row.value.children {
                    Some(inside) => list(point, &inside.expand, Part::All, Page::first(MOST_FIELDS))?,
                    None => Vec::new(),
                };
                elements.push((row, fields));
            }
            Ok((Grid::of(elements), children.indexed.max(children.named * usize::from(children.indexed == 0))))
        })??;
        let rows = grid.rows.into_iter().map(|row| TableRow { name: row.name, cells: row.cells }).collect();
        Ok(TableBody { columns: grid.columns, rows, total })
    }

    pub(super) fn shape(&mut self, arguments: EvaluateArguments) -> Result<ShapeBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let rows = self.ask(&context, move |point| {
            let value = first(point, frame, &arguments.expression)?;
            // What cannot be looked into is shown as having nothing inside.
            Ok::<_, SessionError>(shape_of(&value, &mut |inside, page| {
                list(point, inside, Part::All, page).unwrap_or_default()
            }))
        })??;
        let line = |row: adzeman_core::value::ShapeRow| ShapeLine {
            depth: row.depth,
            name: row.name,
            types: row.types,
            remark: row.remark,
        };
        Ok(ShapeBody { rows: rows.into_iter().map(line).collect() })
    }

    pub(super) fn monitor(&mut self, arguments: MonitorArguments) -> Result<MonitorBody, SessionError> {
        let (context, _) = self.place(None, arguments.thread_id)?;
        check_is_expression(&context, &arguments.expression)?;
        let (id, client) = (self.host.monitors.next_id(), self.client.clone());
        let begun = self.host.clock.now();
        let pace = Pace::new(
            every(arguments.every_milliseconds, arguments.event, arguments.count),
            arguments.share.unwrap_or(USUAL_SHARE),
        );
        let expression = arguments.expression;
        let context_id = context.id;
        let monitor = Monitor { id, client, context, expression, pace, begun, taken: 0, spent: Duration::ZERO };
        if !self.host.monitors.add(monitor) {
            return Err(SessionError::TooManyMonitors(MOST_MONITORS));
        }
        self.monitors.insert(id, context_id);
        Ok(MonitorBody { monitor_id: id })
    }

    pub(super) fn sample_now(&mut self, arguments: &MonitorBody) -> Result<(), SessionError> {
        let id = arguments.monitor_id;
        let context = *self.monitors.get(&id).ok_or(SessionError::NoMonitor(id))?;
        let context = self.context(context)?;
        let is_there = self.ask(&context, move |point| point.context.lane().is_some_and(|lane| lane.sample_now(id)))?;
        if is_there { Ok(()) } else { Err(SessionError::NoMonitor(id)) }
    }

    pub(super) fn end_monitor(&mut self, arguments: &MonitorBody) -> Result<(), SessionError> {
        let id = arguments.monitor_id;
        self.monitors.remove(&id).ok_or(SessionError::NoMonitor(id))?;
        self.host.monitors.end(id);
        Ok(())
    }

    /// The whole text of a value, in the form that `write` gives it.
    fn whole_text(
        &self,
        context: &ContextLink,
        frame: Option<usize>,
        expression: String,
        write: impl Fn(&[u8]) -> String,
    ) -> Result<ValueBody, SessionError> {
        let whole = self.ask(context, move |point| {
            if frame.is_some() {
                names_used(point, frame, &expression)?;
            }
            Ok::<_, SessionError>(point.engine.whole_text(frame, &expression)?)
        })??;
        let bytes_in_all = (whole.is_cut() || whole.length > MOST_HEX_BYTES).then_some(whole.length);
        Ok(ValueBody { result: Some(write(&whole.bytes)), bytes_in_all, ..ValueBody::default() })
    }

    pub(super) fn completions(&mut self, arguments: &CompletionsArguments) -> Result<CompletionsBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, None)?;
        let end = arguments.column.saturating_sub(self.client.line_base());
        let word = word_before(&arguments.text, usize::try_from(end).unwrap_or(0));
        let labels = self.ask(&context, move |point| {
            let own = point.engine.complete(frame, &word);
            match word.rsplit_once('.') {
                Some((path, name)) if own.is_empty() => fields_of(point.context, path, name),
                _ => own,
            }
        })?;
        Ok(CompletionsBody { targets: labels.into_iter().map(|label| CompletionItem { label }).collect() })
    }
}

/// The first value that an expression gives.
fn first(point: &mut SafePoint<'_>, frame: Option<usize>, expression: &str) -> Result<Value, SessionError> {
    let values = point.engine.evaluate(frame, expression)?;
    values.into_iter().next().ok_or(SessionError::NoRows("nothing".to_owned()))
}

/// What is inside a value, wherever it is.
fn list(point: &mut SafePoint<'_>, inside: &Expand, part: Part, page: Page) -> Result<Vec<Variable>, SessionError> {
    Ok(match inside {
        Expand::Engine(handle) => point.engine.children(*handle, part, page)?.items,
        Expand::Tree(place) => list_tree(point.context, place, part, page)?.items,
    })
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

/// The name, with the path before it, that ends at a place in a text, counted in characters from 0.
fn word_before(text: &str, end: usize) -> String {
    let is_part = |c: &char| c.is_alphanumeric() || matches!(c, '_' | '.' | ':' | '[' | ']');
    let end = text.char_indices().nth(end).map_or(text.len(), |(at, _)| at);
    let length: usize = text[..end].chars().rev().take_while(is_part).map(char::len_utf8).sum();
    text[end - length..end].to_owned()
}

/// The fields that begin with `name` of what a path of the host's data names, of the first ones where there are very many.
fn fields_of(context: &LocalContext, path: &str, name: &str) -> Vec<String> {
    let place = Path::parse(path, context.data.notation()).ok().and_then(|path| TreePath::of(&path));
    let outline = place.and_then(|place| context.data.outline(&place, Aspect::Inside(Page::first(Page::MOST))).ok());
    let Some(Outline::Object(fields)) = outline else { return Vec::new() };
    let names = fields.items.into_iter().map(|(field, _)| field);
    names.filter(|field| field.starts_with(name)).map(|field| format!("{path}.{field}")).collect()
}

/// What reads a value is no place for a statement, which might change one.
fn check_is_expression(context: &ContextLink, text: &str) -> Result<(), SessionError> {
    context.syntax.check_expression(text).map_err(|why| match context.syntax.check_statement(text) {
        Ok(()) => SessionError::Statement(text.to_owned()),
        Err(_) => SessionError::BadExpression(why),
    })
}

#[cfg(test)]
mod tests {
    use super::word_before;

    #[test]
    fn a_word_ends_where_it_is_said_to_and_begins_behind_what_is_no_name() {
        for (text, end, word) in [
            ("look \"5 €", 9, ""),
            ("look \"5 €", usize::MAX, ""),
            ("5 €boat.le", 10, "boat.le"),
            ("5 €boat.le", 3, ""),
            ("größe.ü", 7, "größe.ü"),
            ("", 0, ""),
        ] {
            assert_eq!(word_before(text, end), word, "{text} {end}");
        }
    }
}
