//! From core's words to the protocol's: the only place where the two meet.

use adzeman_core::breakpoint::{BreakpointId, ChangeKind, Moved, Occasion, Resolved, Site, Status};
use adzeman_core::decide::{Change, Reason};
use adzeman_core::host::EventKind;
use adzeman_core::source::SourceLine;
use adzeman_core::source::{self, Line, SourceId, Sources};
use adzeman_core::value::{self, Nature};
use adzeman_dap::events::{StoppedBody, ThreadBody};
use adzeman_dap::types::{Breakpoint, Checksum, ExceptionBreakpointsFilter, Source, VariablePresentationHint};

use crate::state::notice::Stop;

/// The line as the client counts.
pub(crate) fn line_number(line: Line, base: i64) -> i64 {
    i64::from(line.get()) - 1 + base
}

/// The line that the client means.
pub(crate) fn line(number: i64, base: i64) -> Option<Line> {
    let counted = number.checked_sub(base)?.checked_add(1)?;
    u32::try_from(counted).ok().and_then(Line::new)
}

/// References count from 1; 0 means none.
pub(crate) fn source_reference(id: SourceId) -> i64 {
    i64::from(id.0) + 1
}

pub(crate) fn source_id(reference: i64) -> Option<SourceId> {
    u32::try_from(reference.checked_sub(1)?).ok().map(SourceId)
}

pub(crate) fn source(held: &source::Source) -> Source {
    let checksum =
        |digest: &source::TextDigest| Checksum { algorithm: "SHA256".to_owned(), checksum: digest.as_str().to_owned() };
    Source {
        name: Some(held.short_name().to_owned()),
        path: Some(held.facts.name.clone()),
        source_reference: Some(source_reference(held.id)),
        checksums: held.digest().map(|digest| vec![checksum(digest)]),
        replaces: held.facts.replaces.map(source_reference),
        loaded_as: held.loaded_as.map(source_reference),
    }
}

pub(crate) fn filter(kind: &EventKind) -> ExceptionBreakpointsFilter {
    let fields = kind.fields.iter().filter(|field| !field.secret);
    let fields: Vec<_> = fields.map(|field| format!("event.{}: {}", field.name, field.doc)).collect();
    ExceptionBreakpointsFilter {
        filter: kind.name.clone(),
        label: kind.name.clone(),
        description: (!kind.doc.is_empty()).then(|| kind.doc.clone()),
        supports_condition: true,
        condition_description: Some(format!("an expression of the script; {}", fields.join("; "))),
    }
}

/// The filters for errors.
pub(crate) fn error_filters() -> [ExceptionBreakpointsFilter; 2] {
    let filter = |filter: &str, label: &str, description: &str| ExceptionBreakpointsFilter {
        filter: filter.to_owned(),
        label: label.to_owned(),
        description: Some(description.to_owned()),
        supports_condition: true,
        condition_description: Some("an expression of the script, evaluated where the error is raised".to_owned()),
    };
    [
        filter(super::breakpoints::UNCAUGHT, "uncaught errors", "an error is raised that no script catches"),
        filter(super::breakpoints::EVERY_ERROR, "all errors", "an error is raised, caught or not"),
    ]
}

/// `noted` answers what is worth knowing of how a line is armed, if anything is.
pub(crate) fn breakpoint(
    resolved: &Resolved,
    sources: &Sources,
    base: i64,
    noted: impl Fn(SourceLine) -> Option<String>,
) -> Breakpoint {
    let id = Some(resolved.breakpoint.id.0);
    match &resolved.status {
        Status::Pending(why) => Breakpoint { id, message: Some(why.to_string()), ..Breakpoint::default() },
        Status::Bound(bindings) => {
            let first = bindings.first().map(|binding| sources.shown(binding.place));
            Breakpoint {
                id,
                verified: true,
                message: remark(resolved, sources, noted),
                source: first.and_then(|place| sources.get(place.source)).map(|held| source(held)),
                line: first.map(|place| line_number(place.line, base)),
            }
        }
    }
}

/// What is worth knowing of a bound breakpoint.
fn remark(resolved: &Resolved, sources: &Sources, noted: impl Fn(SourceLine) -> Option<String>) -> Option<String> {
    let bindings = resolved.status.bindings();
    let mut remarks = Vec::new();
    if let Some((moved, to)) =
        bindings.iter().find_map(|binding| Some((binding.moved?, sources.shown(binding.place).line)))
    {
        remarks.push(match moved {
            Moved::NoCode(from) => format!("line {from} has no code to stop at; moved to line {to}"),
            Moved::Inside(from) => {
                format!("line {from} is inside the statement that begins on line {to}; moved there")
            }
            Moved::WithText(from) => {
                format!("the source was loaded anew; moved with its text from line {from} to line {to}")
            }
        });
    }
    if let Site::Change { how: ChangeKind::Written | ChangeKind::Read, .. } = &resolved.breakpoint.spec.site {
        remarks.push(
            "only statements of the script are seen, not what native functions such as rawset or table.insert do; \
             'on change' sees what those change"
                .to_owned(),
        );
    }
    if resolved.breakpoint.is_gone() {
        remarks.push("the variable is gone: its function has returned; remove it, and set it anew".to_owned());
    }
    remarks.extend(bindings.iter().find_map(|binding| noted(binding.place)));
    let places = places(resolved, sources);
    if places.len() > 1 {
        remarks.push(format!("bound at {}", places.join(", ")));
    }
    remarks.extend(resolved.breakpoint.failure());
    (!remarks.is_empty()).then(|| remarks.join("; "))
}

/// Where a breakpoint bound, as `name:line`.
pub(crate) fn places(resolved: &Resolved, sources: &Sources) -> Vec<String> {
    let mut shown: Vec<_> = resolved.status.bindings().iter().map(|binding| place(binding.place, sources)).collect();
    // Several lines of a compiled script may come from one.
    shown.dedup();
    shown
}

fn place(place: SourceLine, sources: &Sources) -> String {
    let place = sources.shown(place);
    let name = sources.get(place.source).map_or("?", |source| source.facts.name.as_str());
    format!("{name}:{}", place.line)
}

/// Where and during what a breakpoint was hit, in words.
pub(crate) fn occasion(occasion: &Occasion, sources: &Sources) -> String {
    let at = occasion.place.map_or("at the host's boundary".to_owned(), |at| place(at, sources));
    let event = occasion.event.as_ref().map(|(kind, subject)| during(kind, subject.as_deref()));
    at + &event.unwrap_or_default()
}

fn during(kind: &str, subject: Option<&str>) -> String {
    let of = subject.map_or(String::new(), |subject| format!(" of {subject}"));
    format!(", during {kind}{of}")
}

pub(crate) fn thread_event(reason: &str, thread_id: i64) -> ThreadBody {
    ThreadBody { reason: reason.to_owned(), thread_id }
}

/// The body of `stopped`.
pub(crate) fn stopped(stop: &Stop, sources: &Sources) -> StoppedBody {
    let (name, hit_breakpoint_ids) = match &stop.reason {
        Reason::Breakpoint { ids } => ("breakpoint", ids.as_slice()),
        Reason::Event { ids, .. } => ("event", ids.as_slice()),
        Reason::Error { ids, .. } => ("exception", ids.as_slice()),
        Reason::Changed { id, .. } | Reason::Used { id, .. } => ("data breakpoint", std::slice::from_ref(id)),
        Reason::OverBudget { ids, .. } => ("time", ids.as_slice()),
        Reason::ConditionFailed { id, .. } => ("condition failed", std::slice::from_ref(id)),
        Reason::Arrived => ("goto", &[][..]),
        Reason::Step => ("step", &[][..]),
        Reason::Pause => ("pause", &[][..]),
        Reason::ByScript => ("script", &[][..]),
    };
    let during = stop.event.as_ref().map(|(kind, subject)| during(kind, subject.as_deref()));
    let at = stop.place.map_or(String::new(), |at| format!(" at {}", place(at, sources)));
    StoppedBody {
        reason: name.to_owned(),
        description: Some(format!("{} stopped{at}{} ({name})", stop.name, during.unwrap_or_default())),
        text: text_of(&stop.reason, sources),
        thread_id: stop.context,
        all_threads_stopped: stop.are_all,
        hit_breakpoint_ids: hit_breakpoint_ids.iter().map(|BreakpointId(id)| *id).collect(),
        returned: stop.returned.clone(),
        lines_ran: None,
    }
}

/// What there is to say of a reason besides its name.
fn text_of(reason: &Reason, sources: &Sources) -> Option<String> {
    match reason {
        Reason::ConditionFailed { condition, why, .. } => {
            Some(format!("the condition '{condition}' could not be evaluated: {why}. It counts as not met from now on"))
        }
        Reason::Error { message, caught, .. } => Some(format!(
            "{message} ({})",
            if *caught { "the script catches it" } else { "nobody in the script catches it" }
        )),
        Reason::Changed { change, .. } => Some(text_of_change(change, sources)),
        Reason::Used { target, is_write: true, .. } => Some(format!("this statement assigns to {target}")),
        Reason::Used { target, is_write: false, .. } => Some(format!("this statement reads {target}")),
        Reason::OverBudget { budget, .. } => Some(format!("the handler has taken longer than {budget:?}")),
        Reason::Event { at_boundary: true, .. } => {
            Some("at the host's boundary: no line of a script is run".to_owned())
        }
        _ => None,
    }
}

fn text_of_change(change: &Change, sources: &Sources) -> String {
    let Change { target, before, now, place: at, after } = change;
    let by = match (at, after) {
        (Some(at), _) => format!(", by {}", place(*at, sources)),
        (None, Some(event)) => format!(", after {event}"),
        (None, None) => String::new(),
    };
    if before.0 == now.0 {
        format!("{target} was {}, and is {}{by}", before.1, now.1)
    } else {
        format!("{target} was {} ({}), and is {} ({}){by}", before.1, before.0, now.1, now.0)
    }
}

/// How many elements and names, as DAP wants it: absent when there are none.
pub(crate) fn counts(children: Option<&value::Children>) -> (Option<usize>, Option<usize>) {
    let some = |count: usize| (count > 0).then_some(count);
    (children.and_then(|held| some(held.indexed)), children.and_then(|held| some(held.named)))
}

/// How a variable is to be shown.
pub(crate) fn hint(variable: &value::Variable, read_only: bool) -> Option<VariablePresentationHint> {
    let flags = [(variable.shadowed, "shadowed"), (variable.cycle.is_some(), "cycle"), (read_only, "readOnly")];
    let attributes: Vec<_> = flags.iter().filter(|(is_so, _)| *is_so).map(|(_, name)| (*name).to_owned()).collect();
    let hint = VariablePresentationHint {
        kind: (variable.nature == Nature::Method).then(|| "method".to_owned()),
        visibility: (variable.nature == Nature::Internal).then(|| "internal".to_owned()),
        lazy: (variable.nature == Nature::Computed).then_some(true),
        attributes: (!attributes.is_empty()).then_some(attributes),
    };
    (hint != VariablePresentationHint::default()).then_some(hint)
}
