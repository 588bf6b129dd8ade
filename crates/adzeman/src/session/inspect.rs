//! Requests that look and change.

use std::sync::Arc;

use adzeman_core::engine::{Frame, FrameKind, ScopeKind};
use adzeman_core::host::{self, HostView as _, Root, TreePath};
use adzeman_core::value::{Expand, Page, Paged, Part, Value, Variable};
use adzeman_dap::requests::{
    CompletionsArguments, CompletionsBody, EvaluateArguments, ScopesArguments, ScopesBody, SetExpressionArguments,
    SetVariableArguments, StackTraceArguments, StackTraceBody, ValueBody, VariablesArguments, VariablesBody,
};
use adzeman_dap::types::{self, CompletionItem, Scope, StackFrame};

use super::ask::ask;
use super::{Reference, Session, SessionError, convert};
use crate::context::{ContextShared, LocalContext, RunState};
use crate::emit::current_event;

/// Frames are numbered by context and position; no stack is deeper than this.
const FRAMES_OF_CONTEXT: i64 = 1 << 20;
/// The position that stands for the host, below all frames of its scripts.
const BOUNDARY: usize = (1 << 20) - 1;
/// Lists count from 1 in Lua, the language that paths are written in.
pub(super) const INDEX_BASE: usize = 1;

fn frame_id(context: i64, index: usize) -> i64 {
    context * FRAMES_OF_CONTEXT + i64::try_from(index).unwrap_or(0)
}

fn page(start: Option<usize>, count: Option<usize>) -> Page {
    Page { start: start.unwrap_or(0), count: count.filter(|count| *count > 0).unwrap_or(Page::MOST) }
}

impl Session {
    /// The context and position that a frame's number means.
    pub(super) fn frame(&self, id: i64) -> Result<(Arc<ContextShared>, usize), SessionError> {
        let context = self.context(id / FRAMES_OF_CONTEXT)?;
        let index = usize::try_from(id % FRAMES_OF_CONTEXT).unwrap_or(0);
        if context.state() == RunState::Running && index > 0 {
            return Err(SessionError::Running(context.name.clone()));
        }
        Ok((context, index))
    }

    /// Where an expression is to be evaluated: a frame, or the globals of a context.
    pub(super) fn place(
        &self,
        frame: Option<i64>,
        thread: Option<i64>,
    ) -> Result<(Arc<ContextShared>, Option<usize>), SessionError> {
        match (frame, thread) {
            (Some(frame), _) => {
                self.frame(frame).map(|(context, index)| (context, (index != BOUNDARY).then_some(index)))
            }
            (None, Some(thread)) => Ok((self.context(thread)?, None)),
            (None, None) => Ok((self.any_context()?, None)),
        }
    }

    pub(super) fn stack_trace(&mut self, arguments: &StackTraceArguments) -> Result<StackTraceBody, SessionError> {
        let context = self.context(arguments.thread_id)?;
        if context.state() == RunState::Running {
            return Err(SessionError::Running(context.name.clone()));
        }
        let page = page(arguments.start_frame, arguments.levels);
        let (frames, event) = ask(&context, move |point| {
            let event = current_event(|event| event.map(|event| (event.kind().to_owned(), event.subject_text())));
            (point.engine.frames(page), event)
        })?;
        let frames = frames?;
        let mut shown: Vec<_> = frames.items.iter().map(|frame| self.stack_frame(context.id, frame)).collect();
        // Below the scripts is the host, with the event that it raises.
        let is_end = page.start <= frames.total && page.start + shown.len() == frames.total;
        if let (Some((kind, subject)), true) = (&event, is_end && shown.len() < page.count) {
            let of = subject.as_deref().map_or(String::new(), |subject| format!(" of {subject}"));
            shown.push(StackFrame {
                id: frame_id(context.id, BOUNDARY),
                name: format!("{kind}{of}, raised by {}", self.shared.name),
                column: 1,
                presentation_hint: Some("label".to_owned()),
                ..StackFrame::default()
            });
        }
        Ok(StackTraceBody { stack_frames: shown, total_frames: frames.total + usize::from(event.is_some()) })
    }

    fn stack_frame(&self, context: i64, frame: &Frame) -> StackFrame {
        let sources = self.shared.sources();
        let source = frame.place.and_then(|place| sources.get(place.source));
        let written = frame.place.zip(source).and_then(|(place, source)| source.function_at(place.line)?.name.clone());
        let name = match (written, frame.name.as_str()) {
            (Some(written), _) => written,
            (None, "") => "(function without a name)".to_owned(),
            (None, name) => name.to_owned(),
        };
        let hint = match frame.kind {
            FrameKind::Script => "normal",
            FrameKind::Native => "subtle",
            FrameKind::Boundary => "label",
        };
        let base = self.client.line_base();
        StackFrame {
            id: frame_id(context, frame.index),
            name: if frame.tail_call { format!("{name} (by a tail call)") } else { name },
            source: source.map(|source| convert::source(source)),
            line: frame.place.map_or(0, |place| convert::line_number(place.line, base)),
            column: 1,
            presentation_hint: Some(hint.to_owned()),
            running_milliseconds: frame.running_for.map(|time| time.as_secs_f64() * 1000.0),
        }
    }

    pub(super) fn scopes(&mut self, arguments: &ScopesArguments) -> Result<ScopesBody, SessionError> {
        let (context, index) = self.frame(arguments.frame_id)?;
        let (scopes, has_event) = ask(&context, move |point| {
            let scopes = if index == BOUNDARY { Ok(Vec::new()) } else { point.engine.scopes(index) };
            (scopes, point.context.has_event())
        })?;
        let mut shown = Vec::new();
        for scope in scopes? {
            let hint = match scope.kind {
                ScopeKind::Locals => Some("locals".to_owned()),
                ScopeKind::Varargs => Some("arguments".to_owned()),
                ScopeKind::Captured | ScopeKind::Globals => None,
            };
            shown.push(Scope {
                name: scope.kind.title().to_owned(),
                presentation_hint: hint,
                variables_reference: self.refer(context.id, Some(Expand::Engine(scope.handle)), None),
                named_variables: scope.count,
                expensive: scope.kind == ScopeKind::Globals,
            });
        }
        for (title, root, is_there) in [("Event", Root::Event, has_event), ("Host", Root::Host, true)] {
            if is_there {
                let variables_reference = self.refer_to_tree(context.id, root);
                let expensive = root == Root::Host;
                shown.push(Scope { name: title.to_owned(), variables_reference, expensive, ..Scope::default() });
            }
        }
        Ok(ScopesBody { scopes: shown })
    }

    pub(super) fn variables(&mut self, arguments: &VariablesArguments) -> Result<VariablesBody, SessionError> {
        let reference = self.reference(arguments.variables_reference)?;
        let context = self.context(reference.context)?;
        let page = page(arguments.start, arguments.count);
        let part = match arguments.filter.as_deref() {
            Some("indexed") => Part::Indexed,
            Some("named") => Part::Named,
            _ => Part::All,
        };
        let listed = ask(&context, move |point| match reference.inside {
            Expand::Engine(handle) => point.engine.children(handle, part, page).map_err(SessionError::from),
            Expand::Tree(place) => list_tree(point.context, &place, page),
        })??;
        let variables = listed.items.into_iter().map(|variable| self.variable(context.id, variable)).collect();
        Ok(VariablesBody { variables, total: listed.total })
    }

    fn variable(&mut self, context: i64, variable: Variable) -> types::Variable {
        let (indexed_variables, named_variables) = convert::counts(variable.value.children.as_ref());
        types::Variable {
            name: variable.name,
            variables_reference: self.refer(
                context,
                variable.value.children.map(|children| children.expand),
                variable.evaluate_name.clone(),
            ),
            value: variable.value.preview,
            type_name: Some(variable.value.type_name),
            evaluate_name: variable.evaluate_name,
            indexed_variables,
            named_variables,
            presentation_hint: convert::shadowed_hint(variable.shadowed),
        }
    }

    pub(super) fn set_variable(&mut self, arguments: SetVariableArguments) -> Result<ValueBody, SessionError> {
        let Reference { context, inside, .. } = self.reference(arguments.variables_reference)?;
        let context = self.context(context)?;
        let is_stopped = context.state() == RunState::Stopped;
        let SetVariableArguments { name, value, .. } = arguments;
        let new = ask(&context, move |point| {
            let frame = is_stopped.then_some(0);
            match inside {
                Expand::Engine(handle) => point.engine.assign(handle, &name, &value, frame),
                Expand::Tree(place) => {
                    let target = format!("{}{}", place.display(INDEX_BASE), accessor(&name));
                    point.engine.assign_expression(frame, &target, &value)
                }
            }
        })??;
        let body = self.value_body(context.id, new, None);
        Ok(ValueBody { value: body.result, result: None, ..body })
    }

    pub(super) fn set_expression(&mut self, arguments: SetExpressionArguments) -> Result<ValueBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let SetExpressionArguments { expression, value, .. } = arguments;
        let new = ask(&context, move |point| point.engine.assign_expression(frame, &expression, &value))??;
        let body = self.value_body(context.id, new, None);
        Ok(ValueBody { value: body.result, result: None, ..body })
    }

    pub(super) fn evaluate(&mut self, arguments: EvaluateArguments) -> Result<ValueBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let expression = arguments.expression.clone();
        let values = ask(&context, move |point| point.engine.evaluate(frame, &expression))??;
        let mut values = values.into_iter();
        let (first, rest) = (values.next(), values);
        let mut body = match first {
            Some(first) => self.value_body(context.id, first, Some(arguments.expression)),
            None => ValueBody { result: Some(String::new()), ..ValueBody::default() },
        };
        for more in rest {
            let result = body.result.get_or_insert_default();
            result.push_str(", ");
            result.push_str(&more.preview);
        }
        Ok(body)
    }

    fn value_body(&mut self, context: i64, value: Value, name: Option<String>) -> ValueBody {
        let (indexed_variables, named_variables) = convert::counts(value.children.as_ref());
        ValueBody {
            result: Some(value.preview),
            value: None,
            type_name: Some(value.type_name),
            variables_reference: self.refer(context, value.children.map(|children| children.expand), name),
            indexed_variables,
            named_variables,
        }
    }

    /// How the variable `name` inside a value is written as an expression; `name` itself when there is no value.
    pub(super) fn name_inside(&self, reference: Option<i64>, name: String) -> Result<String, SessionError> {
        let Some(reference) = reference.filter(|reference| *reference > 0) else { return Ok(name) };
        Ok(match self.reference(reference)? {
            Reference { inside: Expand::Tree(place), .. } => place.display(INDEX_BASE) + &accessor(&name),
            Reference { name: Some(parent), .. } => parent + &accessor(&name),
            Reference { name: None, .. } => name,
        })
    }

    pub(super) fn completions(&mut self, arguments: &CompletionsArguments) -> Result<CompletionsBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, None)?;
        let end = usize::try_from(arguments.column - self.client.line_base()).unwrap_or(0);
        let before: String = arguments.text.chars().take(end).collect();
        let start = before.rfind(|c: char| !c.is_alphanumeric() && !matches!(c, '_' | '.')).map_or(0, |at| at + 1);
        let word = before[start..].to_owned();
        let labels = ask(&context, move |point| match word.rsplit_once('.') {
            Some((path, name)) => fields_of(point.context, path, name),
            None => point.engine.complete(frame, &word),
        })?;
        Ok(CompletionsBody { targets: labels.into_iter().map(|label| CompletionItem { label }).collect() })
    }
}

/// How a child of the host's data is written behind its parent.
fn accessor(name: &str) -> String {
    if name.starts_with('[') { name.to_owned() } else { format!(".{name}") }
}

fn list_tree(context: &LocalContext, place: &TreePath, page: Page) -> Result<Paged<Variable>, SessionError> {
    let data = context.get(place)?;
    Ok(host::list(&data, place, page, INDEX_BASE))
}

/// The fields that begin with `name` of what a path of the host's data names.
fn fields_of(context: &LocalContext, path: &str, name: &str) -> Vec<String> {
    let (root, rest) = path.split_once('.').unwrap_or((path, ""));
    let root = match root {
        "host" => Root::Host,
        "event" => Root::Event,
        _ => return Vec::new(),
    };
    let Ok(inside) = host::Path::parse(rest, INDEX_BASE) else { return Vec::new() };
    let data = context.get(&TreePath { root, path: inside }).unwrap_or_default();
    let fields = data.as_object().into_iter().flat_map(serde_json::Map::keys);
    fields.filter(|field| field.starts_with(name)).map(|field| format!("{path}.{field}")).collect()
}
