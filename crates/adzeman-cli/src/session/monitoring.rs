//! `monitor`, `monitors`, `remove monitor`: what is sampled while the host runs. Monitors work while they are being watched: in
//! the live view on a terminal, or while their samples are printed.

use std::collections::HashMap;
use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

use adzeman_dap::extra::{self, MonitorArguments, MonitorBody, SampleBody};
use serde_json::{Value as Json, json};

use super::{Ended, KnownMonitor, Session};
use crate::command::{Every, Monitor};
use crate::error::CliError;
use crate::live::LiveView;
use crate::report::{Notice, Report, SampleRow};
use crate::signals;

/// Between two looks at the keyboard.
const GLANCE: Duration = Duration::from_millis(30);

/// The monitors that are at work, by the host's number, each with the one here.
type AtWork = HashMap<u64, usize>;

impl Session<'_> {
    pub(super) fn monitor(&mut self, wanted: Monitor) -> Result<Report, CliError> {
        self.monitors.last_number += 1;
        let (number, context) = (self.monitors.last_number, self.current_context()?);
        self.monitors.all.push(KnownMonitor { number, context, wanted });
        let outcome = self.show_monitors();
        if outcome.is_err() {
            // One that the host does not take is not tried again.
            self.monitors.all.retain(|held| held.number != number);
        }
        outcome
    }

    pub(super) fn remove_monitor(&mut self, number: Option<usize>) -> Result<Report, CliError> {
        let before = self.monitors.all.len();
        self.monitors.all.retain(|held| number.is_some_and(|number| held.number != number));
        match (before - self.monitors.all.len(), number) {
            (0, Some(number)) => Err(CliError::Refused(format!("there is no monitor {number}"))),
            (count, _) => Ok(Report::MonitorsRemoved { count }),
        }
    }

    /// Samples all monitors until the person has seen enough, something stops, or all samples were taken. Whatever is held
    /// goes on.
    pub(super) fn show_monitors(&mut self) -> Result<Report, CliError> {
        if self.monitors.all.is_empty() {
            return Err(CliError::Refused("nothing is monitored; 'monitor EXPRESSION every 2s' does".to_owned()));
        }
        let at_work = self.begin_monitors()?;
        if let Some(thread_id) = self.at.stopped {
            // What is held has no course to be watched.
            let _: Json = self.client.request("continue", &json!({ "threadId": thread_id }))?;
            self.forget_stop();
        }
        let live = !self.printer.is_json() && self.patience.is_none() && std::io::stdout().is_terminal();
        self.printer.hold_notices(live);
        let outcome = if live { self.watch_live(&at_work) } else { self.print_samples(&at_work) };
        self.printer.hold_notices(false);
        for monitor_id in at_work.into_keys() {
            let _: Json = self.client.request(extra::END_MONITOR, &MonitorBody { monitor_id })?;
        }
        outcome
    }

    fn begin_monitors(&mut self) -> Result<AtWork, CliError> {
        let mut at_work = HashMap::new();
        for held in self.monitors.all.clone() {
            let (every_milliseconds, event, count) = match &held.wanted.every {
                Every::Time(time) => (Some(time.as_secs_f64() * 1000.0), None, None),
                Every::Event { kind, count } => (None, Some(kind.clone()), Some(*count)),
            };
            let (expression, thread_id) = (held.wanted.expression, Some(held.context));
            let arguments = MonitorArguments { expression, thread_id, every_milliseconds, event, count, share: None };
            let body: MonitorBody = self.client.request(extra::MONITOR, &arguments)?;
            at_work.insert(body.monitor_id, held.number);
        }
        Ok(at_work)
    }

    /// Prints samples as they come, a line each, for programs and for batches.
    fn print_samples(&mut self, at_work: &AtWork) -> Result<Report, CliError> {
        let begun = Instant::now();
        let mut samples = HashMap::new();
        signals::forget_interrupt();
        while !self.has_all(&samples) && !signals::take_interrupt() {
            match self.next_sample(at_work, GLANCE)? {
                Some(Seen::Sample(row)) => {
                    let wanted = self.samples_of(row.number);
                    if wanted.is_none_or(|wanted| row.count <= wanted) {
                        self.printer.notice(&Notice::Sample(row.clone()));
                        samples.insert(row.number, row);
                    }
                }
                Some(Seen::Stop(report)) => return Ok(report),
                None => {}
            }
            if self.patience.is_some_and(|patience| begun.elapsed() > patience) {
                break;
            }
        }
        Ok(Report::Monitored { samples: in_order(samples), stop: None })
    }

    fn watch_live(&mut self, at_work: &AtWork) -> Result<Report, CliError> {
        let rows: Vec<_> = self.monitors.all.iter().map(|held| (held.number, held.title())).collect();
        let mut view = LiveView::open(rows)?;
        let mut samples = HashMap::new();
        signals::forget_interrupt();
        while !self.has_all(&samples) && !signals::take_interrupt() {
            match self.next_sample(at_work, GLANCE)? {
                Some(Seen::Sample(row)) => {
                    view.take(&row);
                    samples.insert(row.number, row);
                }
                Some(Seen::Stop(report)) => return Ok(report),
                None => {}
            }
            view.print_above(&self.printer.held_notices())?;
            match view.refresh()? {
                crate::live::Key::None => {}
                crate::live::Key::Sample => {
                    for monitor_id in at_work.keys().copied() {
                        let _: Json = self.client.request(extra::SAMPLE_NOW, &MonitorBody { monitor_id })?;
                    }
                }
                crate::live::Key::Leave => break,
            }
        }
        view.close()?;
        Ok(Report::Monitored { samples: in_order(samples), stop: None })
    }

    fn samples_of(&self, number: usize) -> Option<u64> {
        self.monitors.all.iter().find(|held| held.number == number)?.wanted.samples
    }

    /// Whether every monitor has as many samples as it is to take.
    fn has_all(&self, samples: &HashMap<usize, SampleRow>) -> bool {
        self.monitors.all.iter().all(|held| {
            let taken = samples.get(&held.number).map_or(0, |row| row.count);
            held.wanted.samples.is_some_and(|wanted| taken >= wanted)
        })
    }

    fn next_sample(&mut self, at_work: &AtWork, wait: Duration) -> Result<Option<Seen>, CliError> {
        let Some(event) = self.client.next_event(wait)? else { return Ok(None) };
        if event.event == extra::SAMPLE {
            let body: SampleBody = super::read(&event)?;
            let number = at_work.get(&body.monitor_id).copied();
            return Ok(number.map(|number| Seen::Sample(self.sample_row(number, body))));
        }
        match self.take(&event)? {
            Some(Ended::Stopped(body)) => self.stopped_at(&body).map(|report| Some(Seen::Stop(report))),
            _ => Ok(None),
        }
    }

    fn sample_row(&self, number: usize, body: SampleBody) -> SampleRow {
        let held = self.monitors.all.iter().find(|held| held.number == number);
        SampleRow {
            number,
            what: held.map(KnownMonitor::title).unwrap_or_default(),
            success: body.success,
            value: body.value,
            type_name: body.type_name,
            seconds: body.seconds,
            during: body.event,
            count: body.count,
            cost_microseconds: body.cost_microseconds,
            share: body.share,
            slowed: body.slowed,
        }
    }
}

impl KnownMonitor {
    /// As it would be typed.
    pub(crate) fn title(&self) -> String {
        format!("{} {}", self.wanted.expression, self.wanted.every)
    }
}

/// What ends a wait for a sample.
enum Seen {
    Sample(SampleRow),
    Stop(Report),
}

fn in_order(samples: HashMap<usize, SampleRow>) -> Vec<SampleRow> {
    let mut rows: Vec<_> = samples.into_values().collect();
    rows.sort_by_key(|row| row.number);
    rows
}
