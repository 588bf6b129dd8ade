//! The call stack and its scopes.

use std::sync::Arc;

use adzeman_core::engine::{Frame, FrameKind, ScopeKind};
use adzeman_core::path::Root;
use adzeman_core::value::{Expand, Page};
use adzeman_dap::requests::{ScopesArguments, ScopesBody, StackTraceArguments, StackTraceBody};
use adzeman_dap::types::{CompiledPlace, Scope, StackFrame};

use super::values::{Behind, Reference};
use super::{Session, SessionError, convert};
use crate::event::{EventFrame, current_event};
use crate::lane::ContextLink;

/// The position that stands for the host, where it raised the innermost event; those of the events around it come before. No
/// stack is deeper than this.
const BOUNDARY: usize = (1 << 20) - 1;
/// Events inside each other that have a position.
const MOST_BOUNDARIES: usize = 64;

fn is_boundary(index: usize) -> bool {
    index > BOUNDARY - MOST_BOUNDARIES
}

pub(super) fn page(start: Option<usize>, count: Option<usize>) -> Page {
    Page { start: start.unwrap_or(0), count: count.filter(|count| *count > 0).unwrap_or(Page::MOST) }
}

/// Where on a stack the host raised an event.
struct Boundary {
    title: String,
    /// Its place among frames and boundaries, counted from the innermost.
    position: usize,
}

/// The boundaries among `total` frames, for `events` from the innermost outwards with the frames below each.
fn boundaries(events: Vec<(String, usize)>, total: usize) -> Vec<Boundary> {
    let place = |(number, (title, below)): (usize, (String, usize))| Boundary {
        title,
        position: total.saturating_sub(below) + number,
    };
    events.into_iter().take(MOST_BOUNDARIES).enumerate().map(place).collect()
}

impl Session {
    /// The context and position that a frame's number means, while the stop lasts that it was shown at.
    pub(super) fn frame(&self, id: i64) -> Result<(Arc<ContextLink>, usize), SessionError> {
        let frame = self.shown.frame(id)?;
        let context = self.context(frame.context)?;
        match self.host.contexts.held_by(&context) {
            None => Err(SessionError::Running(context.name.clone())),
            Some(stop) if stop != frame.stop => Err(SessionError::StaleFrame(id)),
            Some(_) => Ok((context, frame.index)),
        }
    }

    /// Where an expression is to be evaluated: a frame, or the globals of a context.
    pub(super) fn place(
        &self,
        frame: Option<i64>,
        thread: Option<i64>,
    ) -> Result<(Arc<ContextLink>, Option<usize>), SessionError> {
        match (frame, thread) {
            (Some(frame), _) => {
                self.frame(frame).map(|(context, index)| (context, (!is_boundary(index)).then_some(index)))
            }
            (None, Some(thread)) => Ok((self.context(thread)?, None)),
            (None, None) => Ok((self.any_context()?, None)),
        }
    }

    pub(super) fn stack_trace(&mut self, arguments: &StackTraceArguments) -> Result<StackTraceBody, SessionError> {
        self.notice_stop();
        let context = self.context(arguments.thread_id)?;
        let Some(stop) = self.host.contexts.held_by(&context) else {
            return Err(SessionError::Running(context.name.clone()));
        };
        let page = page(arguments.start_frame, arguments.levels);
        let id = context.id;
        let (frames, boundaries) = self.ask(&context, move |point| {
            let events = current_event(|event| event.map(|event| event.outwards(id)).unwrap_or_default());
            let total = point.engine.frames(Page::first(0))?.total;
            let boundaries = boundaries(events, total);
            let before = |position: usize| boundaries.iter().filter(|held| held.position < position).count();
            let (first, end) = (page.start, page.start.saturating_add(page.count));
            let frames = Page { start: first - before(first), count: end - first - (before(end) - before(first)) };
            point.engine.frames(frames).map(|frames| (frames, boundaries))
        })??;
        let total = frames.total + boundaries.len();
        let mut frames = frames.items.iter();
        let end = total.min(page.start.saturating_add(page.count.min(Page::MOST)));
        let mut shown = Vec::new();
        for position in page.start..end {
            match boundaries.iter().position(|held| held.position == position) {
                Some(number) => shown.push(self.boundary((id, stop), number, &boundaries[number].title)),
                None => shown.extend(frames.next().map(|frame| self.stack_frame((id, stop), frame, total - position))),
            }
        }
        Ok(StackTraceBody { stack_frames: shown, total_frames: total })
    }

    /// The host, with an event that it raised.
    fn boundary(&mut self, (context, stop): (i64, u64), number: usize, title: &str) -> StackFrame {
        let key = format!("{context} {title}");
        StackFrame {
            id: self.shown.number_frame(context, stop, BOUNDARY - number, key),
            name: format!("{title}, raised by {}", self.host.name),
            presentation_hint: Some("label".to_owned()),
            ..StackFrame::default()
        }
    }

    /// `height` counts from the outermost frame, so that it stays the same while a function runs.
    fn stack_frame(&mut self, (context, stop): (i64, u64), frame: &Frame, height: usize) -> StackFrame {
        let sources = self.host.sources.look();
        let source = frame.place.and_then(|place| sources.get(place.source));
        let name = match (frame.defined.zip(source), frame.name.as_str()) {
            (Some((lines, source)), called) => source.function_name(lines, called),
            (None, "") => "(function without a name)".to_owned(),
            (None, name) => name.to_owned(),
        };
        let hint = match frame.kind {
            FrameKind::Script => "normal",
            FrameKind::Native => "subtle",
            FrameKind::Boundary => "label",
        };
        let base = self.client.line_base();
        let shown = frame.place.map(|place| sources.shown(place));
        let compiled = frame.place.zip(source).filter(|(place, _)| Some(*place) != shown);
        let compiled = compiled.map(|(place, source)| CompiledPlace {
            source: convert::source(source),
            line: convert::line_number(place.line, base),
        });
        let source = shown.and_then(|place| sources.get(place.source)).map(|source| convert::source(source));
        drop(sources);
        let id = self.shown.number_frame(context, stop, frame.index, format!("{context} {height} {name}"));
        let arguments: Vec<_> = frame.arguments.iter().map(|(name, value)| format!("{name} = {value}")).collect();
        StackFrame {
            id,
            name: if frame.tail_call { format!("{name} (by a tail call)") } else { name },
            source,
            line: shown.map_or(0, |place| convert::line_number(place.line, base)),
            compiled,
            // Where there is no source, there is no place in it.
            column: i64::from(shown.is_some()),
            presentation_hint: Some(hint.to_owned()),
            arguments: (!arguments.is_empty()).then_some(arguments),
            running_milliseconds: frame.running_for.map(|time| time.as_secs_f64() * 1000.0),
            running_longer: frame.ran_before.then_some(true),
        }
    }

    pub(super) fn scopes(&mut self, arguments: &ScopesArguments) -> Result<ScopesBody, SessionError> {
        self.notice_stop();
        let (context, index) = self.frame(arguments.frame_id)?;
        let (scopes, event) = self.ask(&context, move |point| {
            let scopes = if is_boundary(index) { Ok(Vec::new()) } else { point.engine.scopes(index) };
            (scopes, current_event(|event| event.map(EventFrame::title)))
        })?;
        let key = self.shown.frame_key(arguments.frame_id);
        let refer = |inside, key| Reference { context: context.id, frame: Some(index), inside, name: None, key };
        let mut shown = Vec::new();
        for scope in scopes? {
            let hint = match scope.kind {
                ScopeKind::Locals => Some("locals".to_owned()),
                ScopeKind::Varargs => Some("arguments".to_owned()),
                ScopeKind::Captured | ScopeKind::Globals | ScopeKind::BuiltIns => None,
            };
            let key = match scope.kind {
                ScopeKind::Globals | ScopeKind::BuiltIns => format!("{} globals", context.id),
                kind => format!("{key} {}", kind.title()),
            };
            shown.push(Scope {
                name: scope.kind.title().to_owned(),
                presentation_hint: hint,
                variables_reference: self.shown.refer(refer(Behind::Value(Expand::Engine(scope.handle)), key)),
                named_variables: scope.count,
                expensive: matches!(scope.kind, ScopeKind::Globals | ScopeKind::BuiltIns),
            });
        }
        // The event of the innermost boundary is the one at hand.
        let event = event.filter(|_| !is_boundary(index) || index == BOUNDARY);
        if let Some(title) = event {
            let inside = Behind::root(Root::Event);
            let variables_reference = self.shown.refer(refer(inside, format!("event {title}")));
            shown.push(Scope { name: "Event".to_owned(), variables_reference, ..Scope::default() });
        }
        let variables_reference = self.shown.refer(refer(Behind::root(Root::Host), "host".to_owned()));
        shown.push(Scope { name: "Host".to_owned(), variables_reference, expensive: true, ..Scope::default() });
        Ok(ScopesBody { scopes: shown })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn boundaries_stand_where_the_host_took_over() {
        let events = vec![("inner".to_owned(), 3), ("outer".to_owned(), 0)];
        let places: Vec<_> = boundaries(events, 5).iter().map(|held| (held.title.clone(), held.position)).collect();
        // Two frames, the inner event, three frames, the outer event.
        assert_eq!(places, [("inner".to_owned(), 2), ("outer".to_owned(), 6)]);
    }
}
