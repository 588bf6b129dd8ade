//! The host's figures, as clients look at them.

use adzeman_dap::extra::{ContextFigures, FigureArguments, FigureBody, FiguresBody};

use super::answer::all_as_json;
use super::{Session, SessionError};

impl Session {
    pub(super) fn figures(&self) -> Result<FiguresBody, SessionError> {
        let (figures, trail) = (&self.host.figures, &self.host.trail);
        let (sums, now) = (trail.sums(), self.host.clock.now());
        let since = now.saturating_sub(figures.since());
        let of_context = |id: i64, name: &str| -> Result<ContextFigures, SessionError> {
            let share = sums.of_context(id).as_secs_f64() / since.as_secs_f64().max(f64::MIN_POSITIVE);
            let memory = figures.memory_of(id).map(serde_json::to_value).transpose()?;
            Ok(ContextFigures { context: name.to_owned(), share, memory })
        };
        let contexts = self.host.contexts.all();
        Ok(FiguresBody {
            seconds: now.as_secs_f64(),
            followed_seconds: since.as_secs_f64(),
            events: all_as_json(&sums.kinds())?,
            counts_events: !trail.is_never_kept(),
            contexts: contexts.iter().map(|context| of_context(context.id, &context.name)).collect::<Result<_, _>>()?,
            own: all_as_json(&figures.own())?,
            process: all_as_json(&figures.process())?,
        })
    }

    pub(super) fn figure(&self, arguments: &FigureArguments) -> Result<FigureBody, SessionError> {
        let name = arguments.name.trim();
        let found = self.host.figures.course(name);
        let (figure, course) =
            found.ok_or_else(|| SessionError::NoFigure { name: name.to_owned(), known: self.host.figures.names() })?;
        Ok(FigureBody {
            figure: serde_json::to_value(figure)?,
            points: all_as_json(course.points())?,
            jumps: all_as_json(course.jumps())?,
        })
    }
}
