//! What a context runs, while it does: the lines of one event at a time.

use std::collections::BTreeSet;

use adzeman_core::source::SourceLine;
use adzeman_core::value::Page;
use adzeman_dap::extra::{RunningArguments, RunningBody};

use super::{Session, SessionError, convert};
use crate::state::standing::RunState;

impl Session {
    /// Which lines the last event ran that was looked at, or where a long one is; has the next one looked at.
    pub(super) fn running(&self, arguments: &RunningArguments) -> Result<RunningBody, SessionError> {
        let context = self.context(arguments.thread_id)?;
        if context.standing.state() != RunState::Running {
            return Err(SessionError::Stopped(context.name.clone()));
        }
        let (trace, now) = self.ask(&context, |point| {
            let frames = point.engine.frames(Page { start: 0, count: 1 }).map(|page| page.items).unwrap_or_default();
            (point.context.trace_events(), frames.first().and_then(|frame| frame.place))
        })?;
        let sources = self.host.sources.look();
        let base = self.client.line_base();
        let mut lines: Vec<SourceLine> =
            trace.iter().flat_map(|trace| &trace.lines).map(|at| sources.shown(*at)).collect();
        lines.extend(now.map(|now| sources.shown(now)));
        let Some(last) = lines.last().copied() else { return Ok(RunningBody::default()) };
        let own: BTreeSet<_> = lines.iter().filter(|at| at.source == last.source).map(|at| at.line).collect();
        Ok(RunningBody {
            now: now.is_some(),
            event: trace.as_ref().map(|trace| trace.event.clone()),
            source: sources.get(last.source).map(|source| convert::source(source)),
            line: Some(convert::line_number(last.line, base)),
            lines: own.into_iter().map(|line| convert::line_number(line, base)).collect(),
            cut: trace.is_some_and(|trace| trace.is_cut),
        })
    }
}
