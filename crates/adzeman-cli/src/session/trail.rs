//! The trail of the host.

use adzeman::core::trail::{Entry, FORMAT};
use adzeman_dap::extra::{self, TrailAgainArguments, TrailArguments, TrailBody, TrailCountsBody};
use serde_json::{Value as Json, json};

use super::Session;
use super::records::read_all;
use crate::command::Trail;
use crate::error::CliError;
use crate::report::{Kept, Report};
use crate::trail::{AROUND, FEW, write_to};

/// Events that are asked for at once when all are wanted.
const AT_ONCE: usize = 2000;

impl Session<'_> {
    pub(super) fn trail(&mut self, wanted: Trail) -> Result<Report, CliError> {
        match wanted {
            Trail::Last { count, filter } => self.trail_list(TrailArguments {
                filter: Some(filter),
                count: Some(count.unwrap_or(FEW)),
                ..TrailArguments::default()
            }),
            Trail::Slowest { filter } => self.trail_list(TrailArguments {
                filter: Some(filter),
                slowest: Some(true),
                count: Some(FEW),
                ..TrailArguments::default()
            }),
            Trail::Counts { filter } => {
                let arguments = TrailArguments { filter: Some(filter), ..TrailArguments::default() };
                let body: TrailCountsBody = self.client.request(extra::TRAIL_COUNTS, &arguments)?;
                Ok(Report::TrailCounts { counts: read_all(extra::TRAIL, body.counts)? })
            }
            Trail::One(number) => self.trail_entry(number),
            Trail::Again(number) => {
                let _: Json = self.client.request(extra::TRAIL_AGAIN, &TrailAgainArguments { number })?;
                Ok(Report::TrailAgain { number })
            }
            Trail::To { file, filter } => self.trail_to(&file, &filter),
        }
    }

    fn trail_list(&mut self, arguments: TrailArguments) -> Result<Report, CliError> {
        let body: TrailBody = self.client.request(extra::TRAIL, &arguments)?;
        let kept = Kept { events: body.kept, dropped: body.dropped };
        Ok(Report::Trail { entries: read_all(extra::TRAIL, body.entries)?, total: body.total, kept })
    }

    fn trail_entry(&mut self, number: u64) -> Result<Report, CliError> {
        let arguments = TrailArguments { number: Some(number), count: Some(AROUND), ..TrailArguments::default() };
        let body: TrailBody = self.client.request(extra::TRAIL, &arguments)?;
        let around: Vec<Entry> = read_all(extra::TRAIL, body.entries)?;
        let entry = around.iter().find(|entry| entry.number == number).cloned();
        let entry = entry.ok_or_else(|| CliError::Refused(format!("event {number} is not in the trail")))?;
        Ok(Report::TrailEntry { entry: Box::new(entry), around })
    }

    /// Writes what a filter picks to a file. Events that come meanwhile are there, too, as far as they do not outrun it.
    fn trail_to(&mut self, file: &str, filter: &str) -> Result<Report, CliError> {
        let (mut entries, mut after, mut dropped) = (Vec::new(), 0, 0);
        let mut wanted = None;
        loop {
            let arguments = TrailArguments {
                filter: Some(filter.to_owned()),
                after: Some(after),
                count: Some(AT_ONCE),
                ..TrailArguments::default()
            };
            let body: TrailBody = self.client.request(extra::TRAIL, &arguments)?;
            let most = *wanted.get_or_insert(body.total);
            dropped = dropped.max(body.dropped);
            let page: Vec<Entry> = read_all(extra::TRAIL, body.entries)?;
            let Some(last) = page.last() else { break };
            after = last.number;
            entries.extend(page);
            if entries.len() >= most {
                break;
            }
        }
        let head = json!({
            "trail": FORMAT, "host": self.host.name, "processId": self.host.process_id, "why": "a person asked for it", "dropped": dropped,
        });
        write_to(file, &entries, &self.host.name, Some(&head))
    }
}
