//! Where time goes.

use adzeman::core::profile::Profile as Sampled;
use adzeman_dap::extra::{self, ProfileArguments, ProfileBody};

use super::Session;
use super::again::undrawable;
use super::records::read_one;
use crate::command::Profile;
use crate::error::CliError;
use crate::own_file::write_text;
use crate::pictures::draw_flames;
use crate::report::Report;

impl Session<'_> {
    pub(super) fn profile(&mut self, wanted: &Profile) -> Result<Report, CliError> {
        let thread_id = wanted.context.as_deref().map(|name| self.context_named(name)).transpose()?;
        let arguments = ProfileArguments {
            milliseconds: Some(wanted.time.as_secs_f64() * 1000.0),
            thread_id,
            event: wanted.event.clone(),
        };
        let body: ProfileBody = self.client.request_longer(extra::PROFILE, &arguments, wanted.time)?;
        let profile: Sampled = read_one(extra::PROFILE, body.profile)?;
        let (samples, folded) = (profile.samples(), profile.folded());
        let Some(file) = &wanted.file else {
            return Ok(Report::Profile {
                functions: profile.times(),
                samples,
                ticks: body.ticks,
                passed_over: body.passed_over,
                milliseconds: body.milliseconds,
                every_milliseconds: body.every_milliseconds,
                share: body.share,
                slowed: body.slowed,
                folded: folded.lines().map(str::to_owned).collect(),
            });
        };
        if samples == 0 {
            return Err(CliError::Refused("no script ran at any sample, so there is nothing to write".to_owned()));
        }
        let is_picture = std::path::Path::new(file).extension().is_some_and(|end| end.eq_ignore_ascii_case("svg"));
        let during = wanted.event.as_ref().map_or(String::new(), |event| format!(" during {event}"));
        let title = format!("{}: where the time of scripts went{during}", self.host.name);
        let text = if is_picture { draw_flames(&folded, &title).map_err(|why| undrawable(file, why))? } else { folded };
        write_text(file, &text)?;
        Ok(Report::ProfileWritten { file: file.clone(), samples, stacks: profile.stacks.len() })
    }
}
