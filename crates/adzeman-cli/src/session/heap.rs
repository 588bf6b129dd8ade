//! How many values a context holds, and what holds one.

use std::time::Duration;

use adzeman::core::heap::Growth;
use adzeman_dap::extra::{self, CensusArguments, CensusBody, HoldersArguments, HoldersBody};

use super::Session;
use super::records::{read_all, read_one as read};
use crate::command::{Census, HoldersOf};
use crate::dot;
use crate::error::CliError;
use crate::own_file::write_text;
use crate::report::Report;

/// Paths that are shown, and that are drawn.
const FEW: usize = 20;
const MANY: usize = 200;
/// How much longer than other requests these may take; the host says how far it has come, and Ctrl-C gives them up.
const LONGER: Duration = Duration::from_secs(600);

impl Session<'_> {
    pub(super) fn census(&mut self, wanted: &Census) -> Result<Report, CliError> {
        let thread_id = match &wanted.context {
            Some(name) => Some(self.context_named(name)?),
            None if wanted.since.is_some() => None,
            None => Some(self.current_context()?),
        };
        let arguments = CensusArguments { thread_id, since: wanted.since };
        let body: CensusBody = self.client.request_longer(extra::CENSUS, &arguments, LONGER)?;
        let grown: Option<Vec<Growth>> = body.grown.map(|grown| read_all(extra::CENSUS, grown)).transpose()?;
        Ok(Report::Census {
            number: body.number,
            context: body.context,
            census: read(extra::CENSUS, body.census)?,
            groups: body.groups,
            since: wanted.since,
            grown,
            since_running: body.since_running,
            milliseconds: body.milliseconds,
            parts: body.parts,
        })
    }

    pub(super) fn holders(&mut self, wanted: HoldersOf) -> Result<Report, CliError> {
        let arguments = HoldersArguments {
            expression: wanted.expression.clone(),
            frame_id: self.frame_id(),
            thread_id: Some(self.current_context()?),
            count: Some(if wanted.file.is_some() { MANY } else { FEW }),
        };
        let body: HoldersBody = self.client.request_longer(extra::HOLDERS, &arguments, LONGER)?;
        let holders = read(extra::HOLDERS, body.holders)?;
        let (expression, description) = (wanted.expression, body.description);
        let Some(file) = wanted.file else { return Ok(Report::Holders { expression, holders, description }) };
        write_text(&file, &dot::of_holders(&expression, &holders))?;
        Ok(Report::HoldersWritten { file, paths: holders.holders.len() })
    }
}
