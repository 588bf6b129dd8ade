//! What is inside values and scopes, and giving it another value.

use std::sync::atomic::Ordering::SeqCst;

use adzeman_core::host::{self, Aspect, EventKind, HostView as _};
use adzeman_core::path::{Notation, Path, Segment};
use adzeman_core::path::{Root, TreePath};
use adzeman_core::value::{Expand, Nature, Page, Paged, Part, Value, Variable};
use adzeman_dap::requests::{SetVariableArguments, ValueBody, VariablesArguments, VariablesBody};
use adzeman_dap::types::{self, ValueFormat};

use super::changes::{change_host, noted};
use super::inspect::page;
use super::{Session, SessionError, convert};
use crate::lane::{LocalContext, SafePoint};
use crate::state::standing::RunState;

/// What is asked for behind a `variablesReference`.
#[derive(Debug, Clone)]
pub(super) enum Behind {
    /// What is inside a value or a scope.
    Value(Expand),
    /// The one value that this expression gives; evaluated when it is asked for.
    Computed(String),
}

impl Behind {
    /// A tree of the host's data.
    pub(super) fn root(root: Root) -> Self {
        Self::Value(Expand::Tree(TreePath { root, path: Path::default() }))
    }
}

/// What a `variablesReference` stands for.
#[derive(Debug, Clone)]
pub(super) struct Reference {
    pub(super) context: i64,
    /// The frame that it was found from.
    pub(super) frame: Option<usize>,
    pub(super) inside: Behind,
    /// An expression that gives the value, if there is one.
    pub(super) name: Option<String>,
    /// What tells it from others at later stops.
    pub(super) key: String,
}

/// The base that whole numbers are wanted in.
pub(super) fn base(format: Option<&ValueFormat>) -> u32 {
    let asked = format.and_then(|format| format.base.or_else(|| format.hex.filter(|hex| *hex).map(|_| 16)));
    asked.unwrap_or(10)
}

impl Session {
    /// Takes notice of a stop that began since the last time: values are compared with what was shown before it.
    pub(super) fn notice_stop(&mut self) {
        self.shown.notice_stop(self.host.stops.load(SeqCst));
    }

    pub(super) fn variables(&mut self, arguments: &VariablesArguments) -> Result<VariablesBody, SessionError> {
        self.notice_stop();
        let parent = self.shown.reference(arguments.variables_reference)?;
        let context = self.context(parent.context)?;
        let page = page(arguments.start, arguments.count);
        let part = match arguments.filter.as_deref() {
            Some("indexed") => Part::Indexed,
            Some("named") => Part::Named,
            _ => Part::All,
        };
        let (inside, frame) = (parent.inside.clone(), parent.frame);
        let listed = self.ask(&context, move |point| match inside {
            Behind::Value(Expand::Engine(handle)) => {
                point.engine.children(handle, part, page).map_err(SessionError::from)
            }
            Behind::Value(Expand::Tree(place)) => list_tree(point.context, &place, part, page),
            // One value under a name.
            Behind::Computed(_) if part == Part::Indexed => Ok(Paged::whole(Vec::new(), 0)),
            Behind::Computed(expression) => compute(point, frame, &expression),
        })??;
        let base = base(arguments.format.as_ref());
        let total_is_least = (!listed.total_is_all).then_some(true);
        let notation = context.syntax.language().notation;
        let variables =
            listed.items.into_iter().map(|variable| self.variable(&parent, variable, base, notation)).collect();
        Ok(VariablesBody { variables, total: listed.total, total_is_least })
    }

    fn variable(&mut self, parent: &Reference, variable: Variable, base: u32, notation: Notation) -> types::Variable {
        let key = format!("{}\u{1}{}", parent.key, variable.name);
        let before = self.shown.compare(&key, &variable.value);
        let (indexed_variables, named_variables) = convert::counts(variable.value.children.as_ref());
        let expression = variable.evaluate_name.as_deref().and_then(|own| behind(parent.name.as_deref(), own));
        let inside = match (variable.nature, &expression) {
            (Nature::Computed, Some(expression)) => Some(Behind::Computed(expression.clone())),
            _ => variable.value.children.as_ref().map(|children| Behind::Value(children.expand.clone())),
        };
        let facts = self.facts(&parent.inside, &variable.name, notation);
        let value = match variable.cycle {
            Some(levels) => format!("{} (itself, {levels} up)", variable.value.in_base(base)),
            None => variable.value.in_base(base),
        };
        let variables_reference = inside.map_or(0, |inside| {
            self.shown.refer(Reference { inside, name: expression.clone(), key, ..parent.clone() })
        });
        types::Variable {
            presentation_hint: convert::hint(&variable, facts.read_only),
            name: variable.name,
            value,
            type_name: Some(variable.value.type_name),
            evaluate_name: expression,
            variables_reference,
            indexed_variables,
            named_variables,
            before,
            doc: facts.doc,
            unit: facts.unit,
            belongs_to: facts.belongs_to,
        }
    }

    /// What the host says of a child of a tree.
    fn facts(&self, parent: &Behind, name: &str, notation: Notation) -> Facts {
        let Behind::Value(Expand::Tree(place)) = parent else { return Facts::default() };
        let TreePath { root, path } = place.join(segment(name, notation));
        match root {
            Root::Event => Facts { read_only: true, ..self.event_facts(&path) },
            Root::Host => self.object_facts(&path),
        }
    }

    fn event_facts(&self, path: &Path) -> Facts {
        let [Segment::Field(field)] = path.segments() else { return Facts::default() };
        let docs = |kind: &EventKind| kind.fields.iter().find(|held| held.name == *field).map(|held| held.doc.clone());
        // A field of one name has one meaning in nearly every host; where it has more, none is told.
        let mut found: Vec<_> = self.host.opened.kinds.iter().filter_map(docs).collect();
        found.dedup();
        Facts { doc: (found.len() == 1).then(|| found.remove(0)), ..Facts::default() }
    }

    fn object_facts(&self, path: &Path) -> Facts {
        let Some((about, is_read_only, rest)) = self.host.opened.said_of(path) else { return Facts::default() };
        let part = about.part(&rest);
        let own = if rest.is_empty() { &about.doc } else { part.map_or("", |part| &part.doc) };
        let text = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        let subject = about.subject_of(&rest);
        let belongs_to = subject.map(|subject| {
            let has_context = self.host.contexts.all().iter().any(|context| context.name == subject);
            let context = has_context.then(|| format!("context {subject}"));
            [format!("subject {subject}")].into_iter().chain(context).collect()
        });
        let tried = about.usual(&rest).map(|usual| format!("meant to be tried, usually {usual}"));
        let docs: Vec<_> = text(own).into_iter().chain(tried).collect();
        Facts {
            doc: (!docs.is_empty()).then(|| docs.join("; ")),
            unit: text(part.map_or("", |part| &part.unit)),
            belongs_to,
            read_only: is_read_only || about.is_secret(&rest),
        }
    }

    pub(super) fn set_variable(&mut self, arguments: SetVariableArguments) -> Result<ValueBody, SessionError> {
        let Reference { context, frame, inside, name: parent, .. } =
            self.shown.reference(arguments.variables_reference)?;
        let context = self.context(context)?;
        let is_stopped = context.standing.state() == RunState::Stopped;
        let SetVariableArguments { name, value, .. } = arguments;
        let accessor = if name.starts_with('[') { name.clone() } else { format!(".{name}") };
        let target = behind(parent.as_deref(), &accessor).unwrap_or_else(|| name.clone());
        let expression = target.clone();
        let (new, noted, made) = self.ask(&context, move |point| {
            let frame = frame.filter(|_| is_stopped);
            let (new, noted) = match inside {
                Behind::Value(Expand::Tree(place)) => {
                    let segment = segment(&name, point.context.data.notation());
                    change_host(point, frame, &place.join(segment), &value, false)?
                }
                Behind::Value(Expand::Engine(handle)) => {
                    noted(point, frame, &expression, |engine| engine.assign(handle, &name, &value, frame))?
                }
                Behind::Computed(computed) => {
                    noted(point, frame, &computed.clone(), |engine| engine.assign_expression(frame, &computed, &value))?
                }
            };
            Ok::<_, SessionError>((new, noted, made(point)))
        })??;
        self.changes.note(context.clone(), target, noted);
        let body = self.value_body(context.id, frame, new, parent, 10);
        Ok(ValueBody { value: body.result, result: None, made, ..body })
    }

    /// `name` is an expression that gives the value, if there is one.
    pub(super) fn value_body(
        &mut self,
        context: i64,
        frame: Option<usize>,
        value: Value,
        name: Option<String>,
        base: u32,
    ) -> ValueBody {
        let (indexed_variables, named_variables) = convert::counts(value.children.as_ref());
        let key = match &value.children {
            Some(held) => match &held.expand {
                Expand::Tree(place) => key_of(place),
                Expand::Engine(_) => format!("{context} = {}", name.as_deref().unwrap_or_default()),
            },
            None => String::new(),
        };
        let result = value.in_base(base);
        let inside = value.children.map(|children| Behind::Value(children.expand));
        ValueBody {
            result: Some(result),
            type_name: Some(value.type_name),
            variables_reference: inside
                .map_or(0, |inside| self.shown.refer(Reference { context, frame, inside, name, key })),
            indexed_variables,
            named_variables,
            ..ValueBody::default()
        }
    }

    /// What the variable `name` inside a value is; `name` itself when there is no value.
    pub(super) fn named_inside(
        &self,
        reference: Option<i64>,
        name: String,
        notation: Notation,
    ) -> Result<Named, SessionError> {
        let Some(reference) = reference.filter(|reference| *reference > 0) else { return Ok(Named::Text(name)) };
        let accessor = if name.starts_with('[') { name.clone() } else { format!(".{name}") };
        Ok(match self.shown.reference(reference)? {
            Reference { inside: Behind::Value(Expand::Tree(place)), .. } => {
                Named::Host(place.join(segment(&name, notation)))
            }
            Reference { name: Some(parent), .. } => Named::Text(behind(Some(&parent), &accessor).unwrap_or(name)),
            Reference { name: None, .. } => Named::Text(name),
        })
    }
}

/// What a person points at.
pub(super) enum Named {
    /// A part of the host's data.
    Host(TreePath),
    /// What an expression gives.
    Text(String),
}

/// Gives a part of the host's data the value of an expression; answers what it holds then.
pub(super) fn set_host(
    point: &mut SafePoint<'_>,
    frame: Option<usize>,
    place: &TreePath,
    text: &str,
) -> Result<Value, SessionError> {
    let value = point.engine.evaluate_data(frame, text)?;
    point.context.data.set(place, value)?;
    Ok(host::describe(&point.context.data.outline(place, Aspect::Itself)?, place))
}

/// What tells a place in the host's data from others: the same keys as those of the scopes.
fn key_of(place: &TreePath) -> String {
    let steps = place.path.segments().iter().map(|step| match step {
        Segment::Field(name) => format!("\u{1}{name}"),
        other => format!("\u{1}{}", Path::default().join(other.clone()).display(Notation::OF_DATA)),
    });
    place.root.name().to_owned() + &steps.collect::<String>()
}

/// What the host says of a part of its data.
#[derive(Default)]
struct Facts {
    doc: Option<String>,
    unit: Option<String>,
    belongs_to: Option<Vec<String>>,
    read_only: bool,
}

/// The step from a value of the host's data to the child shown under this name.
fn segment(name: &str, notation: Notation) -> Segment {
    let field = || Segment::Field(name.to_owned());
    if !name.starts_with('[') {
        return field();
    }
    let path = Path::parse(name, notation).ok();
    let step = path.as_ref().and_then(|path| path.segments().first());
    step.filter(|step| matches!(step, Segment::Index(_))).cloned().unwrap_or_else(field)
}

/// An expression behind the one that gives its parent; one that does not begin with `.` or `[` stands alone.
fn behind(parent: Option<&str>, own: &str) -> Option<String> {
    if !own.starts_with(['.', '[']) {
        return Some(own.to_owned());
    }
    let parent = parent?;
    let is_path = parent.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && parent.chars().all(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | '[' | ']' | '"'));
    Some(if is_path { format!("{parent}{own}") } else { format!("({parent}){own}") })
}

pub(super) fn list_tree(
    context: &LocalContext,
    place: &TreePath,
    part: Part,
    page: Page,
) -> Result<Paged<Variable>, SessionError> {
    let outline = context.data.outline(place, Aspect::Inside(page))?;
    if !host::has_part(&outline, part) {
        return Ok(Paged::whole(Vec::new(), 0));
    }
    Ok(host::list(outline, place, context.data.notation()))
}

/// The one value that an expression gives, as the only child.
fn compute(point: &mut SafePoint<'_>, frame: Option<usize>, expression: &str) -> Result<Paged<Variable>, SessionError> {
    let value = point.engine.evaluate(frame, expression)?.into_iter().next();
    let value = value.map(|value| Variable::new("(value)", value).named_by(expression));
    let items: Vec<_> = value.into_iter().collect();
    let total = items.len();
    Ok(Paged::whole(items, total))
}

/// When a change was made, for a context that runs on.
pub(super) fn made(point: &SafePoint<'_>) -> Option<String> {
    if point.hold.is_some() {
        return None;
    }
    let lane = point.context.lane()?;
    let seconds = lane.host.clock.now().as_secs_f64();
    let when = lane.when.borrow().clone().unwrap_or_else(|| "between two events".to_owned());
    Some(format!("{when}, {seconds:.3} s on the host's clock"))
}
