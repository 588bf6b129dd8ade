//! Requests that set breakpoints and say where they can be.

use adzeman_core::breakpoint::{BreakpointSpec, Site};
use adzeman_core::source::Line;
use adzeman_dap::extra::{BreakpointInfo, BreakpointsBody};
use adzeman_dap::requests::{
    BreakpointLocationsArguments, BreakpointLocationsBody, LoadedSourcesBody, SetBreakpointsArguments,
    SetBreakpointsBody, SetExceptionBreakpointsArguments, SetFunctionBreakpointsArguments, SourceArguments, SourceBody,
};
use adzeman_dap::types::{Breakpoint, BreakpointLocation, ExceptionFilterOptions, Source};

use super::{Session, SessionError, convert};

/// A breakpoint that cannot even be tried, and why.
type Refused = String;

impl Session {
    pub(super) fn set_breakpoints(
        &mut self,
        arguments: &SetBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let path = self.path_of(&arguments.source)?;
        let base = self.client.line_base();
        let specs = arguments.breakpoints.iter().flatten().map(|wanted| {
            let line = convert::line(wanted.line, base).ok_or(SessionError::BadLine(wanted.line, base));
            let line = line.map_err(|error| error.to_string())?;
            let site = Site::Line { path: path.clone(), line };
            self.spec(site, wanted.condition.as_deref(), None)
        });
        let specs: Vec<_> = specs.collect();
        Ok(self.replace(|site| matches!(site, Site::Line { path: held, .. } if *held == path), specs))
    }

    pub(super) fn set_function_breakpoints(
        &mut self,
        arguments: SetFunctionBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let specs = arguments
            .breakpoints
            .into_iter()
            .map(|wanted| self.spec(Site::Function { name: wanted.name }, wanted.condition.as_deref(), None));
        let specs: Vec<_> = specs.collect();
        Ok(self.replace(|site| matches!(site, Site::Function { .. }), specs))
    }

    /// Event kinds stand where DAP has exception filters.
    pub(super) fn set_event_breakpoints(
        &mut self,
        arguments: SetExceptionBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let plain = arguments.filters.into_iter();
        let plain = plain.map(|filter_id| ExceptionFilterOptions { filter_id, ..ExceptionFilterOptions::default() });
        let specs = plain.chain(arguments.filter_options.into_iter().flatten()).map(|wanted| {
            self.spec(Site::Event { kind: wanted.filter_id }, wanted.condition.as_deref(), wanted.subject)
        });
        let specs: Vec<_> = specs.collect();
        Ok(self.replace(|site| matches!(site, Site::Event { .. }), specs))
    }

    /// Checks what can be checked before a script runs.
    fn spec(&self, site: Site, condition: Option<&str>, subject: Option<String>) -> Result<BreakpointSpec, Refused> {
        let condition = condition.map(str::trim).filter(|text| !text.is_empty());
        if let (Some(text), Some(context)) = (condition, self.shared.contexts().first()) {
            let checked = context.syntax.check_expression(text);
            checked
                .map_err(|why| format!("the condition '{text}' cannot be read: {why}; correct it and set it again"))?;
        }
        Ok(BreakpointSpec { site, condition: condition.map(str::to_owned), subject })
    }

    fn replace(
        &mut self,
        covers: impl Fn(&Site) -> bool,
        specs: Vec<Result<BreakpointSpec, Refused>>,
    ) -> SetBreakpointsBody {
        let good = specs.iter().filter_map(|spec| spec.as_ref().ok().cloned()).collect();
        let set = self.shared.set_breakpoints(self.client.owner, covers, good);
        let resolved = self.shared.resolved();
        let sources = self.shared.sources();
        let mut set = set.into_iter();
        let breakpoints = specs.into_iter().map(|spec| {
            let refused = match spec {
                Err(why) => return Breakpoint { message: Some(why), ..Breakpoint::default() },
                Ok(_) => Breakpoint::default(),
            };
            let held = set.next().and_then(|held| resolved.iter().find(|now| now.breakpoint.id == held.id));
            held.map_or(refused, |now| convert::breakpoint(now, &sources, self.client.line_base()))
        });
        SetBreakpointsBody { breakpoints: breakpoints.collect() }
    }

    pub(super) fn breakpoints_now(&self) -> BreakpointsBody {
        let resolved = self.shared.resolved();
        let sources = self.shared.sources();
        let mine = resolved.iter().filter(|now| now.breakpoint.owner == self.client.owner);
        let info = mine.map(|now| {
            let shown = convert::breakpoint(now, &sources, self.client.line_base());
            BreakpointInfo {
                id: now.breakpoint.id.0,
                hits: now.breakpoint.hits(),
                verified: shown.verified,
                places: convert::places(now, &sources),
                message: shown.message,
            }
        });
        BreakpointsBody { breakpoints: info.collect() }
    }

    pub(super) fn breakpoint_locations(
        &self,
        arguments: &BreakpointLocationsArguments,
    ) -> Result<BreakpointLocationsBody, SessionError> {
        let path = self.path_of(&arguments.source)?;
        let base = self.client.line_base();
        let number = |line| convert::line(line, base).ok_or(SessionError::BadLine(line, base));
        let (first, last) = (number(arguments.line)?, number(arguments.end_line.unwrap_or(arguments.line))?);
        let sources = self.shared.sources();
        let source = sources.matching(&path).first().copied().cloned().ok_or(SessionError::NoSource(path))?;
        let lines = source.facts.lines.iter().filter(|line| (first..=last).contains(line));
        let location = |line: Line| BreakpointLocation { line: convert::line_number(line, base) };
        Ok(BreakpointLocationsBody { breakpoints: lines.map(location).collect() })
    }

    pub(super) fn loaded_sources(&self) -> LoadedSourcesBody {
        LoadedSourcesBody { sources: self.shared.sources().newest().iter().map(|held| convert::source(held)).collect() }
    }

    pub(super) fn source(&self, arguments: SourceArguments) -> Result<SourceBody, SessionError> {
        let sources = self.shared.sources();
        let by_path = arguments.source.and_then(|source| source.path);
        let held = convert::source_id(arguments.source_reference).and_then(|id| sources.get(id));
        let held = held.or_else(|| by_path.as_deref().and_then(|path| sources.matching(path).first().copied()));
        let shown = by_path.clone().unwrap_or_else(|| arguments.source_reference.to_string());
        let held = held.ok_or(SessionError::NoSource(shown))?;
        let text = held.facts.text.as_deref().ok_or_else(|| SessionError::NoText(held.facts.name.clone()))?;
        Ok(SourceBody { content: text.to_owned() })
    }

    /// The path that a source is meant by.
    fn path_of(&self, source: &Source) -> Result<String, SessionError> {
        let by_reference = || {
            let id = convert::source_id(source.source_reference?)?;
            self.shared.sources().get(id).map(|held| held.facts.name.clone())
        };
        let path = source.path.clone().or_else(by_reference).or_else(|| source.name.clone());
        path.ok_or_else(|| SessionError::NoSource("without a path".to_owned()))
    }
}
