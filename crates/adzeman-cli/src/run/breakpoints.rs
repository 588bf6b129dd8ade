//! `break`, `breaks`, `remove`.

use adzeman_dap::extra::{self, BreakpointsBody};
use adzeman_dap::requests::{
    SetBreakpointsArguments, SetBreakpointsBody, SetExceptionBreakpointsArguments, SetFunctionBreakpointsArguments,
};
use adzeman_dap::types::{ExceptionFilterOptions, FunctionBreakpoint, Source, SourceBreakpoint};
use serde_json::json;

use crate::command::{Break, Site};
use crate::error::CliError;
use crate::report::{BreakRow, Report};
use crate::session::{Held, Session};

impl Session<'_> {
    pub(super) fn add_breakpoint(&mut self, wanted: Break) -> Result<Report, CliError> {
        if wanted.subject.is_some() && !matches!(wanted.site, Site::Event(_)) {
            return Err(CliError::Usage(
                "'for SUBJECT' goes with events only; for a line, put it in the condition: when event.subject == \"...\"".to_owned(),
            ));
        }
        if let Some(held) = self.breakpoints.iter().find(|held| held.wanted == wanted) {
            return Err(CliError::Refused(format!("that is breakpoint {} already", held.number)));
        }
        let site = wanted.site.clone();
        self.last_number += 1;
        let number = self.last_number;
        self.breakpoints.push(Held { number, wanted, id: None, bound: false, note: None });
        self.send_breakpoints(&site)?;
        let position = self.breakpoints.iter().position(|held| held.number == number).unwrap_or(0);
        if self.breakpoints[position].id.is_none() {
            self.last_number -= 1;
            let refused = self.breakpoints.remove(position);
            return Err(CliError::Refused(refused.note.unwrap_or_else(|| "the host refused it".to_owned())));
        }
        let rows = self.break_rows()?;
        let row = rows.into_iter().find(|row| row.number == number);
        row.map(|breakpoint| Report::Breakpoint { breakpoint })
            .ok_or_else(|| CliError::Refused("the host does not know the breakpoint".to_owned()))
    }

    pub(super) fn list_breakpoints(&mut self) -> Result<Report, CliError> {
        Ok(Report::Breakpoints { breakpoints: self.break_rows()? })
    }

    pub(super) fn remove_breakpoints(&mut self, number: Option<usize>) -> Result<Report, CliError> {
        let is_meant = |held: &Held| number.is_none_or(|number| number == held.number);
        let (gone, kept): (Vec<_>, Vec<_>) = self.breakpoints.drain(..).partition(is_meant);
        self.breakpoints = kept;
        if let (Some(number), true) = (number, gone.is_empty()) {
            return Err(CliError::Refused(format!("there is no breakpoint {number}; 'breaks' lists them")));
        }
        for held in &gone {
            self.send_breakpoints(&held.wanted.site)?;
        }
        Ok(Report::Removed { count: gone.len() })
    }

    /// The numbers of this session for the host's.
    pub(crate) fn numbers_of(&self, ids: &[u64]) -> Vec<usize> {
        let held = self.breakpoints.iter().filter(|held| held.id.is_some_and(|id| ids.contains(&id)));
        held.map(|held| held.number).collect()
    }

    fn break_rows(&mut self) -> Result<Vec<BreakRow>, CliError> {
        let body: BreakpointsBody = self.client.request(extra::BREAKPOINTS, &json!({}))?;
        let row = |held: &Held| {
            let now = body.breakpoints.iter().find(|now| Some(now.id) == held.id);
            BreakRow {
                number: held.number,
                what: as_typed(&held.wanted),
                bound: now.is_some_and(|now| now.verified),
                places: now.map(|now| now.places.clone()).unwrap_or_default(),
                hits: now.map_or(0, |now| now.hits),
                note: now.and_then(|now| now.message.clone()),
            }
        };
        Ok(self.breakpoints.iter().map(row).collect())
    }

    /// Tells the host all breakpoints that go in one request with `site`: the protocol replaces them together.
    fn send_breakpoints(&mut self, site: &Site) -> Result<(), CliError> {
        let belongs = |held: &Held| match (&held.wanted.site, site) {
            (Site::Line { path: a, .. }, Site::Line { path: b, .. }) => a == b,
            (Site::Function(_), Site::Function(_)) | (Site::Event(_), Site::Event(_)) => true,
            _ => false,
        };
        let group: Vec<Break> =
            self.breakpoints.iter().filter(|held| belongs(held)).map(|held| held.wanted.clone()).collect();
        let body: SetBreakpointsBody = match site {
            Site::Line { path, .. } => self.client.request("setBreakpoints", &lines(path, &group))?,
            Site::Function(_) => self.client.request("setFunctionBreakpoints", &functions(&group))?,
            Site::Event(_) => self.client.request("setExceptionBreakpoints", &events(&group))?,
        };
        for (held, now) in self.breakpoints.iter_mut().filter(|held| belongs(held)).zip(body.breakpoints) {
            (held.id, held.bound, held.note) = (now.id, now.verified, now.message);
        }
        Ok(())
    }
}

fn lines(path: &str, group: &[Break]) -> SetBreakpointsArguments {
    let breakpoint = |wanted: &Break| match wanted.site {
        Site::Line { line, .. } => Some(SourceBreakpoint { line, condition: wanted.condition.clone() }),
        _ => None,
    };
    SetBreakpointsArguments {
        source: Source { path: Some(path.to_owned()), ..Source::default() },
        breakpoints: Some(group.iter().filter_map(breakpoint).collect()),
    }
}

fn functions(group: &[Break]) -> SetFunctionBreakpointsArguments {
    let breakpoint = |wanted: &Break| match &wanted.site {
        Site::Function(name) => Some(FunctionBreakpoint { name: name.clone(), condition: wanted.condition.clone() }),
        _ => None,
    };
    SetFunctionBreakpointsArguments { breakpoints: group.iter().filter_map(breakpoint).collect() }
}

fn events(group: &[Break]) -> SetExceptionBreakpointsArguments {
    let options = |wanted: &Break| match &wanted.site {
        Site::Event(kind) => Some(ExceptionFilterOptions {
            filter_id: kind.clone(),
            condition: wanted.condition.clone(),
            subject: wanted.subject.clone(),
        }),
        _ => None,
    };
    SetExceptionBreakpointsArguments {
        filters: Vec::new(),
        filter_options: Some(group.iter().filter_map(options).collect()),
    }
}

/// A breakpoint as it would be typed.
fn as_typed(wanted: &Break) -> String {
    let mut text = match &wanted.site {
        Site::Line { path, line } => format!("at {path}:{line}"),
        Site::Function(name) => format!("in {name}"),
        Site::Event(kind) => format!("on {kind}"),
    };
    if let Some(subject) = &wanted.subject {
        text.push_str(&format!(" for {subject}"));
    }
    if let Some(condition) = &wanted.condition {
        text.push_str(&format!(" when {condition}"));
    }
    text
}
