//! What is looked at once, again and again, or drawn: plans, and figures.

use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

use adzeman::core::plan::{Outside, Thing};
use adzeman_dap::extra::{self, FigureArguments, FigureBody, FiguresBody, PlanArguments, PlanBody};
use serde_json::{Value as Json, json};

use super::records::{read_all, read_one};
use super::{Ended, Session};
use crate::command::Again;
use crate::error::CliError;
use crate::live::{Key, ReportView};
use crate::own_file::write_text;
use crate::pictures::{Followed, Map, draw_figures, draw_map};
use crate::report::{ContextRow, Report};
use crate::signals;

/// Between two looks whether to end.
const GLANCE: Duration = Duration::from_millis(20);

/// How a wait ended.
enum Waited {
    Long,
    /// A person ends it.
    Given,
    /// A person wants it to stop there.
    Stop,
    Stopped(Box<adzeman_dap::events::StoppedBody>),
}

impl Session<'_> {
    pub(super) fn plan(&mut self, wanted: &Again) -> Result<Report, CliError> {
        self.again(wanted, Self::plan_once)
    }

    pub(super) fn figures(&mut self, wanted: &Again) -> Result<Report, CliError> {
        self.again(wanted, Self::figures_once)
    }

    /// Looks once, or as often as is wanted: until then, until a person ends it, or until a context stops. On a terminal what is not
    /// drawn into a file stays in its place.
    fn again(
        &mut self,
        wanted: &Again,
        once: impl Fn(&mut Self, &Again, u64) -> Result<Report, CliError>,
    ) -> Result<Report, CliError> {
        let mut times = 1;
        let mut report = once(self, wanted, times)?;
        let Some(every) = wanted.every else { return Ok(report) };
        let in_place = wanted.file.is_none() && !self.printer.is_json() && std::io::stdout().is_terminal();
        let lines = self.printer.plain(&report).lines().count();
        let mut view = in_place.then(|| ReportView::open(u16::try_from(lines + 4).unwrap_or(u16::MAX))).transpose()?;
        self.printer.hold_notices(view.is_some());
        signals::forget_interrupt();
        let outcome = loop {
            match &mut view {
                Some(view) => view.show_text(&self.printer.plain(&report))?,
                None if wanted.file.is_none() && wanted.times.is_none_or(|most| times < most) => {
                    self.printer.report(None, &report);
                }
                None => {}
            }
            if wanted.times.is_some_and(|most| times >= most) {
                break Waited::Given;
            }
            match self.wait_on(every, &mut view)? {
                Waited::Long => {}
                other => break other,
            }
            times += 1;
            report = once(self, wanted, times)?;
        };
        let was_shown = view.is_some();
        if let Some(view) = view {
            view.close()?;
        }
        self.printer.hold_notices(false);
        match outcome {
            Waited::Stopped(body) => self.stopped_at(&body),
            Waited::Stop => {
                let thread_id = self.current_context()?;
                let _: Json = self.client.request("pause", &json!({ "threadId": thread_id }))?;
                self.wait_in(Some(thread_id))
            }
            _ if was_shown => Ok(Report::Nothing),
            _ => Ok(report),
        }
    }

    /// Waits so long, while a view is shown or not.
    fn wait_on(&mut self, time: Duration, view: &mut Option<ReportView>) -> Result<Waited, CliError> {
        let begun = Instant::now();
        while begun.elapsed() < time {
            if signals::take_interrupt() {
                return Ok(Waited::Given);
            }
            if let Some(event) = self.client.next_event(GLANCE.min(time))?
                && let Some(Ended::Stopped(body)) = self.take(&event)?
            {
                return Ok(Waited::Stopped(Box::new(body)));
            }
            let Some(view) = view else { continue };
            view.print_above(&self.printer.held_notices())?;
            match view.key()? {
                Key::None => {}
                Key::Sample => return Ok(Waited::Stop),
                Key::Leave => return Ok(Waited::Given),
            }
        }
        Ok(Waited::Long)
    }

    fn figures_once(&mut self, wanted: &Again, _: u64) -> Result<Report, CliError> {
        let body: FiguresBody = self.client.request(extra::FIGURES, &json!({}))?;
        let read = |all| read_all(extra::FIGURES, all);
        if let Some(file) = &wanted.file {
            return self.figures_to(file, &body);
        }
        let context = |held: adzeman_dap::extra::ContextFigures| -> Result<ContextRow, CliError> {
            let memory = held.memory.map(|memory| read_one(extra::FIGURES, memory)).transpose()?;
            Ok(ContextRow { context: held.context, share: held.share, memory })
        };
        Ok(Report::Figures {
            seconds: body.seconds,
            followed_seconds: body.followed_seconds,
            events: read_all(extra::FIGURES, body.events)?,
            counts_events: body.counts_events,
            contexts: body.contexts.into_iter().map(context).collect::<Result<_, _>>()?,
            own: read(body.own)?,
            process: read(body.process)?,
        })
    }

    /// Draws the courses of all that has one.
    fn figures_to(&mut self, file: &str, body: &FiguresBody) -> Result<Report, CliError> {
        let named = |all: &[Json]| -> Vec<String> {
            all.iter().filter_map(|figure| figure["name"].as_str().map(str::to_owned)).collect()
        };
        let of_contexts = body.contexts.iter().filter(|held| held.memory.is_some());
        let of_contexts = of_contexts.map(|held| format!("{}.memory", held.context));
        let names: Vec<String> = named(&body.own).into_iter().chain(of_contexts).chain(named(&body.process)).collect();
        let mut followed = Vec::new();
        for name in names {
            // What has no course is left out.
            if let Ok(found) = self.followed(&name) {
                followed.push(found);
            }
        }
        if followed.iter().all(|figure| figure.points.is_empty()) {
            return Err(CliError::Refused("no figure has a course yet; try again in a moment".to_owned()));
        }
        let drawn = draw_figures(&followed, &self.host.name).map_err(|why| undrawable(file, why))?;
        write_text(file, &drawn)?;
        Ok(Report::FiguresDrawn { file: file.to_owned(), figures: followed.len() })
    }

    fn followed(&mut self, name: &str) -> Result<Followed, CliError> {
        let body: FigureBody = self.client.request(extra::FIGURE, &FigureArguments { name: name.to_owned() })?;
        Ok(Followed {
            figure: read_one(extra::FIGURE, body.figure)?,
            points: read_all(extra::FIGURE, body.points)?,
            jumps: read_all(extra::FIGURE, body.jumps)?,
        })
    }

    pub(super) fn look_figure(&mut self, name: &str) -> Result<Report, CliError> {
        let Followed { figure, points, jumps } = self.followed(name)?;
        Ok(Report::Figure { figure, points, jumps })
    }

    fn plan_once(&mut self, wanted: &Again, times: u64) -> Result<Report, CliError> {
        let arguments = PlanArguments { path: wanted.part.clone(), thread_id: Some(self.current_context()?) };
        let body: PlanBody = self.client.request(extra::PLAN, &arguments)?;
        let (things, overlaps, outside): (Vec<Thing>, _, Vec<Outside>) = (
            read_all(extra::PLAN, body.things)?,
            read_all(extra::PLAN, body.overlaps)?,
            read_all(extra::PLAN, body.outside)?,
        );
        let PlanBody { overlapping, unit, unplaced, cut, .. } = body;
        let Some(file) = &wanted.file else {
            return Ok(Report::Plan { things, overlaps, overlapping, outside, unit, unplaced, cut });
        };
        if things.is_empty() {
            return Err(CliError::Refused(
                "nothing lies anywhere at this moment, so there is nothing to draw".to_owned(),
            ));
        }
        let what = wanted.part.as_deref().unwrap_or("all that has a place");
        let title = format!("{}: {what}", self.host.name);
        let map = Map { title: &title, things: &things, overlaps: &overlaps, outside: &outside, unit: unit.as_deref() };
        let drawn = draw_map(&map).map_err(|why| undrawable(file, why))?;
        write_text(file, &drawn)?;
        let (things, outside) = (things.len(), outside.len());
        Ok(Report::PlanDrawn { file: file.clone(), things, overlapping, outside, times })
    }
}

/// What was to be drawn cannot be.
pub(super) fn undrawable(file: &str, why: crate::pictures::Failure) -> CliError {
    CliError::Unwritable { file: file.to_owned(), why: std::io::Error::other(why) }
}
