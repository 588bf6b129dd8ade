//! Going on from another line of the function that is stopped in (DAP `gotoTargets`, `goto`).

use adzeman_core::engine::{Engine, EngineError, GoingOn, WaysOn};
use adzeman_core::source::{Line, SourceLine, tail_agreement};
use adzeman_core::value::Page;
use adzeman_dap::requests::{GotoArguments, GotoTargetsArguments, GotoTargetsBody};
use adzeman_dap::types::{GotoTarget, Source};

use super::{Session, SessionError, convert};
use crate::lane::Go;
use crate::state::standing::RunState;

/// Frames among which the innermost one of a script is looked for.
const FRAMES: usize = 10;
/// Lines named where one cannot be gone on from.
const NAMED: usize = 12;
/// Targets that are kept; the first ones are forgotten.
const MOST_TARGETS: usize = 1000;

/// A line that a context can go on at, at one stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Target {
    context: i64,
    stop: u64,
    line: Line,
}

/// What a context says of its innermost function.
struct Ways {
    place: Option<SourceLine>,
    ways: Result<WaysOn, EngineError>,
}

impl Session {
    pub(super) fn goto_targets(&mut self, arguments: &GotoTargetsArguments) -> Result<GotoTargetsBody, SessionError> {
        let base = self.client.line_base();
        let line = convert::line(arguments.line, base).ok_or(SessionError::BadLine(arguments.line, base))?;
        let mut why = None;
        let mut targets = Vec::new();
        for context in self.host.contexts.all() {
            if context.standing.state() != RunState::Stopped {
                continue;
            }
            let (context, stop) = self.held(context.id)?;
            let found = self.ask(&context, |point| ways(point.engine))?;
            if !found.place.is_some_and(|place| self.is_in(place, &arguments.source)) {
                continue;
            }
            let ways = found.ways.map_err(|error| match error {
                EngineError::Runtime(why) => SessionError::NoWay(why),
                other => SessionError::Engine(other),
            })?;
            match ways.get(&line) {
                Some(Ok(way)) => {
                    let id = self.note_target(Target { context: context.id, stop, line });
                    let label = label(line, base, way);
                    targets.push(GotoTarget { id, label, line: convert::line_number(line, base) });
                }
                held => {
                    let reason = held.and_then(|way| way.clone().err()).unwrap_or_else(|| {
                        format!("line {line} does not begin with a statement of the function that is stopped in")
                    });
                    why = Some(format!("{reason}; {}", lines_named(&context.name, &ways)));
                }
            }
        }
        match (targets.is_empty(), why) {
            (true, Some(why)) => Err(SessionError::NoWay(why)),
            (true, None) => Err(SessionError::NoWay("no context is stopped in a function of that source".to_owned())),
            (false, _) => Ok(GotoTargetsBody { targets }),
        }
    }

    /// Whether a place is in this source, which is a text that runs as it is written.
    fn is_in(&self, place: SourceLine, wanted: &Source) -> bool {
        let sources = self.host.sources.look();
        let reference = wanted.source_reference.unwrap_or(0);
        let by_number = convert::source_id(reference) == Some(place.source);
        let by_path = || {
            let path = wanted.path.as_deref().filter(|_| reference == 0);
            path.zip(sources.get(place.source))
                .is_some_and(|(path, held)| tail_agreement(&held.facts.name, path).is_some())
        };
        sources.shown(place) == place && (by_number || by_path())
    }

    fn note_target(&mut self, target: Target) -> i64 {
        if let Some(at) = self.goto_targets.iter().position(|(_, held)| *held == target) {
            return self.goto_targets[at].0;
        }
        let id = self.goto_targets.back().map_or(1, |(id, _)| id + 1);
        self.goto_targets.push_back((id, target));
        if self.goto_targets.len() > MOST_TARGETS {
            self.goto_targets.pop_front();
        }
        id
    }

    /// Has a context go on elsewhere in the function that it is stopped in, where it stops.
    pub(super) fn goto(&mut self, arguments: &GotoArguments) -> Result<(), SessionError> {
        let found = self.goto_targets.iter().find(|(id, _)| *id == arguments.target_id).map(|(_, target)| *target);
        let target = found.filter(|target| target.context == arguments.thread_id);
        let target = target.ok_or(SessionError::StaleTarget(arguments.target_id))?;
        let (_, stop) = self.held(target.context)?;
        if stop != target.stop {
            return Err(SessionError::StaleTarget(arguments.target_id));
        }
        self.let_go(target.context, Go::From(target.line))
    }
}

fn ways(engine: &mut dyn Engine) -> Ways {
    let frames = engine.frames(Page { start: 0, count: FRAMES }).map(|page| page.items).unwrap_or_default();
    let place = frames.iter().find_map(|frame| frame.place);
    Ways { place, ways: engine.ways_on() }
}

fn label(line: Line, base: i64, way: &GoingOn) -> String {
    let line = convert::line_number(line, base);
    match &way.cleared[..] {
        [] => format!("line {line}"),
        [one] => format!("line {line}, where {one} is nil"),
        several => format!("line {line}, where {} are nil", several.join(", ")),
    }
}

/// The lines that a context can go on from.
fn lines_named(context: &str, ways: &WaysOn) -> String {
    let lines: Vec<_> = ways.iter().filter(|(_, way)| way.is_ok()).map(|(line, _)| line.to_string()).collect();
    let more = if lines.len() > NAMED { " and others" } else { "" };
    match lines.len() {
        0 => format!("{context} can go on nowhere else in this function"),
        1 => format!("{context} can go on from line {}", lines[0]),
        count => format!("{context} can go on from lines {}{more}", lines[..count.min(NAMED)].join(", ")),
    }
}
