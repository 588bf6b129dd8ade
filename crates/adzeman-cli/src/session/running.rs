//! `look running`: the source that runs, while the host does.

use std::io::IsTerminal as _;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_dap::extra::{self, RunningArguments, RunningBody};
use adzeman_dap::types::Source;
use serde_json::{Value as Json, json};

use super::{Ended, Session};
use crate::error::CliError;
use crate::live::{Key, ReportView};
use crate::report::{Listing, Report};
use crate::signals;

/// Between two looks; each has one event told of in full.
const EVERY: Duration = Duration::from_millis(250);
/// Between two looks at the keyboard.
const GLANCE: Duration = Duration::from_millis(30);
/// How long an event is waited for that runs anything, where it is looked once.
const WITHIN: Duration = Duration::from_secs(2);
/// Lines shown before and behind the one that ran last, which is mostly the end of a function.
const BEFORE: i64 = 17;
const BEHIND: i64 = 6;

impl Session<'_> {
    /// Shows what a context runs: on a terminal until a key is pressed, otherwise once. What is held goes on.
    pub(super) fn look_running(&mut self, context: Option<&str>) -> Result<Report, CliError> {
        let thread_id = match context {
            None => self.current_context()?,
            Some(name) => self.context_named(name)?,
        };
        if let Some(stopped) = self.at.stopped {
            let _: Json = self.client.request("continue", &json!({ "threadId": stopped }))?;
            self.forget_stop();
        }
        let live = !self.printer.is_json() && self.patience.is_none() && std::io::stdout().is_terminal();
        if live { self.watch_running(thread_id) } else { self.running_once(thread_id) }
    }

    fn running_once(&mut self, thread_id: i64) -> Result<Report, CliError> {
        let begun = Instant::now();
        let mut body = self.running_now(thread_id)?;
        while body.source.is_none() && begun.elapsed() < WITHIN && !signals::take_interrupt() {
            thread::sleep(GLANCE);
            body = self.running_now(thread_id)?;
        }
        self.running_report(thread_id, &body, &mut None)
    }

    fn running_now(&mut self, thread_id: i64) -> Result<RunningBody, CliError> {
        self.client.request(extra::RUNNING, &RunningArguments { thread_id })
    }

    /// The lines around the one that runs; the text is fetched when it is another one.
    fn running_report(
        &mut self,
        thread_id: i64,
        body: &RunningBody,
        held: &mut Option<(Source, String)>,
    ) -> Result<Report, CliError> {
        let context = self.context_name(thread_id);
        let (Some(source), Some(line)) = (&body.source, body.line) else {
            return Ok(Report::Running { context, event: None, listing: None, cut: false });
        };
        if held.as_ref().is_none_or(|(held, _)| held != source) {
            *held = Some((source.clone(), self.text_of(source.clone())?));
        }
        let text = held.as_ref().map_or("", |(_, text)| text.as_str());
        let first = (line - BEFORE).max(1);
        let skip = usize::try_from(first - 1).unwrap_or(0);
        let count = usize::try_from(line + BEHIND - first + 1).unwrap_or(1);
        let listing = Listing {
            path: self.files.paths.to_local(source.path.as_deref().unwrap_or_default()),
            first,
            lines: text.lines().skip(skip).take(count).map(str::to_owned).collect(),
            current: Some(line),
            ran: body.lines.iter().copied().filter(|ran| *ran != line).collect(),
        };
        Ok(Report::Running { context, event: body.event.clone(), listing: Some(listing), cut: body.cut })
    }

    fn watch_running(&mut self, thread_id: i64) -> Result<Report, CliError> {
        let mut view = ReportView::open(u16::try_from(BEFORE + BEHIND + 4).unwrap_or(21))?;
        let (mut held, mut last, mut shown) = (None, None::<Instant>, None);
        self.printer.hold_notices(true);
        signals::forget_interrupt();
        let outcome = loop {
            if last.is_none_or(|last| last.elapsed() >= EVERY) {
                last = Some(Instant::now());
                let body = self.running_now(thread_id)?;
                if body.source.is_some() || shown.is_none() {
                    let report = self.running_report(thread_id, &body, &mut held)?;
                    view.show(&report)?;
                    shown = Some(report);
                }
            }
            if let Some(event) = self.client.next_event(GLANCE)?
                && let Some(Ended::Stopped(body)) = self.take(&event)?
            {
                break Err(body);
            }
            view.print_above(&self.printer.held_notices())?;
            match view.key()? {
                _ if signals::take_interrupt() => break Ok(false),
                Key::None => {}
                Key::Sample => break Ok(true),
                Key::Leave => break Ok(false),
            }
        };
        view.close()?;
        self.printer.hold_notices(false);
        match outcome {
            Err(body) => self.stopped_at(&body),
            Ok(true) => {
                let _: Json = self.client.request("pause", &json!({ "threadId": thread_id }))?;
                self.wait_in(Some(thread_id))
            }
            Ok(false) => Ok(Report::Nothing),
        }
    }
}
