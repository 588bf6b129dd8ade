//! Requests that set breakpoints and say where they can be.

use std::time::Duration;

use adzeman_core::breakpoint::{
    Action, BreakpointSpec, ChangeKind, HitRule, Resolved, Site, Template, TrackId, Tracked,
};
use adzeman_core::engine::Syntax;
use adzeman_core::host::HostView as _;
use adzeman_core::path::{Notation, Path};
use adzeman_core::path::{Root, TreePath};
use adzeman_core::source::{Language, Line, Sources};
use adzeman_dap::extra::{
    BreakpointInfo, BreakpointsBody, FunctionInfo, FunctionsArguments, FunctionsBody, SourceTextArguments,
    SourceTextBody,
};
use adzeman_dap::requests::{
    BreakpointLocationsArguments, BreakpointLocationsBody, DataBreakpointInfoArguments, DataBreakpointInfoBody,
    LoadedSourcesBody, SetBreakpointsArguments, SetBreakpointsBody, SetDataBreakpointsArguments,
    SetExceptionBreakpointsArguments, SetFunctionBreakpointsArguments, SourceArguments, SourceBody,
};
use adzeman_dap::types::{Breakpoint, BreakpointLocation, ExceptionFilterOptions, Own, Source};

use super::MOST_BREAKPOINTS;
use super::ask::tell;
use super::evaluate::names_used;
use super::values::Named;
use super::{Session, SessionError, convert};

/// A breakpoint that cannot even be tried, and why.
type Refused = String;

/// The filters for errors, beside those for event kinds.
pub(super) const UNCAUGHT: &str = "error.uncaught";
/// Functions in one answer.
const MOST_FUNCTIONS: usize = 1000;
pub(super) const EVERY_ERROR: &str = "error.every";

/// What every kind of breakpoint may be narrowed by, as the protocol has it.
#[derive(Default)]
struct Narrowed {
    condition: Option<String>,
    hit_condition: Option<String>,
    log_message: Option<String>,
    own: Own,
}

impl Session {
    pub(super) fn set_breakpoints(
        &mut self,
        arguments: SetBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let path = self.path_of(&arguments.source)?;
        let base = self.client.line_base();
        let specs = arguments.breakpoints.into_iter().flatten().map(|wanted| {
            let line = convert::line(wanted.line, base).ok_or(SessionError::BadLine(wanted.line, base));
            let line = line.map_err(|error| error.to_string())?;
            let own = wanted.adzeman.unwrap_or_default();
            let (condition, hit_condition) = (wanted.condition, wanted.hit_condition);
            let narrowed = Narrowed { condition, hit_condition, log_message: wanted.log_message, own };
            self.spec(Site::Line { path: path.clone(), line }, narrowed)
        });
        let specs: Vec<_> = specs.collect();
        Ok(self.replace(|site| matches!(site, Site::Line { path: held, .. } if *held == path), specs))
    }

    pub(super) fn set_function_breakpoints(
        &mut self,
        arguments: SetFunctionBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let specs = arguments.breakpoints.into_iter().map(|wanted| {
            let own = wanted.adzeman.unwrap_or_default();
            let (condition, hit_condition) = (wanted.condition, wanted.hit_condition);
            self.spec(
                Site::Function { name: wanted.name },
                Narrowed { condition, hit_condition, own, ..Narrowed::default() },
            )
        });
        let specs: Vec<_> = specs.collect();
        Ok(self.replace(|site| matches!(site, Site::Function { .. }), specs))
    }

    /// Event kinds and errors stand where DAP has exception filters.
    pub(super) fn set_event_breakpoints(
        &mut self,
        arguments: SetExceptionBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let plain = arguments.filters.into_iter();
        let plain = plain.map(|filter_id| ExceptionFilterOptions { filter_id, ..ExceptionFilterOptions::default() });
        let specs = plain.chain(arguments.filter_options.into_iter().flatten()).map(|wanted| {
            let own = wanted.adzeman.unwrap_or_default();
            let site = event_site(wanted.filter_id, &own)?;
            self.spec(site, Narrowed { condition: wanted.condition, own, ..Narrowed::default() })
        });
        let specs: Vec<_> = specs.collect();
        let covers = |site: &Site| matches!(site, Site::Event { .. } | Site::Time { .. } | Site::Error { .. });
        Ok(self.replace(covers, specs))
    }

    /// What a value is called in [`set_data_breakpoints`](Self::set_data_breakpoints).
    pub(super) fn data_breakpoint_info(
        &mut self,
        arguments: DataBreakpointInfoArguments,
    ) -> Result<DataBreakpointInfoBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        let notation = context.syntax.language().notation;
        let named = self.named_inside(arguments.variables_reference, arguments.name, notation)?;
        let id = context.id;
        let (found, missing) = self.ask(&context, move |point| {
            let missing = match &named {
                Named::Text(text) => names_used(point, frame, text)?.missing,
                Named::Host(_) => None,
            };
            let place = match &named {
                Named::Host(place) => Some(place.clone()),
                Named::Text(text) => point.engine.host_place(frame, text).filter(|place| place.root == Root::Host),
            };
            let found = match (place, named) {
                (Some(place), _) | (None, Named::Host(place)) => {
                    point.context.data.bare(&place).map(|_| Tracked::Host(place)).map_err(SessionError::from)
                }
                (None, Named::Text(shown)) => {
                    let track = point.engine.track(frame, &shown);
                    track.map(|track| Tracked::Script { context: id, track, shown }).map_err(SessionError::from)
                }
            };
            Ok::<_, SessionError>((found, missing))
        })??;
        Ok(match found {
            Ok(tracked) => DataBreakpointInfoBody {
                waits: missing.filter(|_| matches!(tracked, Tracked::Script { .. })).map(|name| {
                    format!("there is no '{name}' in {} yet; it waits for a global of that name there", context.name)
                }),
                data_id: data_id(&tracked).into(),
                description: match &tracked {
                    Tracked::Host(place) => place.display(notation),
                    Tracked::Script { shown, .. } => shown.clone(),
                },
                access_types: Some({
                    let read = matches!(tracked, Tracked::Script { .. }).then_some("read".to_owned());
                    read.into_iter().chain(["write".to_owned()]).collect()
                }),
                can_persist: matches!(tracked, Tracked::Host(_)),
            },
            Err(why) => DataBreakpointInfoBody { description: why.to_string(), ..DataBreakpointInfoBody::default() },
        })
    }

    pub(super) fn set_data_breakpoints(
        &mut self,
        arguments: SetDataBreakpointsArguments,
    ) -> Result<SetBreakpointsBody, SessionError> {
        let notation = self.any_context().map(|context| context.syntax.language().notation).unwrap_or_default();
        let specs = arguments.breakpoints.into_iter().map(|wanted| {
            let own = wanted.adzeman.unwrap_or_default();
            let target = tracked(&wanted.data_id).ok_or_else(|| {
                format!("'{}' is not what 'dataBreakpointInfo' answered; ask it again", wanted.data_id)
            })?;
            let how = match (own.on.as_deref(), wanted.access_type.as_deref()) {
                (Some("type"), _) => ChangeKind::Type,
                (Some("write"), _) => ChangeKind::Written,
                (_, Some("read")) => ChangeKind::Read,
                (_, Some("readWrite")) => {
                    return Err("reads and changes are watched for apart: set one for each".to_owned());
                }
                _ => ChangeKind::Value,
            };
            if let (Tracked::Host(place), ChangeKind::Written | ChangeKind::Read) = (&target, how) {
                return Err(format!(
                    "{} is the host's own, which is compared at its events: it can be watched for changes, of its value or \
                     its type, and not for reads or writes",
                    place.display(notation)
                ));
            }
            let (condition, hit_condition) = (wanted.condition, wanted.hit_condition);
            self.spec(Site::Change { target, how }, Narrowed { condition, hit_condition, own, ..Narrowed::default() })
        });
        let specs: Vec<_> = specs.collect();
        let tracks = |session: &Self| -> Vec<_> {
            let resolved = session.host.breakpoints.resolved();
            let mine = resolved.iter().filter(|now| now.breakpoint.owner == session.client.owner);
            mine.filter_map(|now| script_track(&now.breakpoint.spec.site)).collect()
        };
        let before = tracks(self);
        let set = self.replace(|site| matches!(site, Site::Change { .. }), specs);
        let kept = tracks(self);
        self.forget_tracks(before.into_iter().filter(|track| !kept.contains(track)));
        Ok(set)
    }

    /// Has contexts forget values that nobody watches any more, at their next safe points.
    fn forget_tracks(&self, tracks: impl Iterator<Item = (i64, TrackId)>) {
        for (context, track) in tracks {
            if let Some(context) = self.host.contexts.get(context) {
                tell(&context, move |point| point.engine.untrack(track));
            }
        }
    }

    /// Checks what can be checked before a script runs.
    fn spec(&self, site: Site, narrowed: Narrowed) -> Result<BreakpointSpec, Refused> {
        let given = |text: Option<String>| text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
        let Narrowed { condition, hit_condition, log_message, own } = narrowed;
        let condition = given(condition);
        if let Some(text) = &condition {
            self.check_expression(&site, "condition", text)?;
        }
        let hits = given(hit_condition)
            .or(given(own.hits))
            .map(|text| text.parse::<HitRule>().map_err(|error| error.to_string()));
        let action = self.action(&site, given(log_message).or(given(own.say)), own.run, own.ring)?;
        Ok(BreakpointSpec {
            condition,
            subject: given(own.subject),
            hits: hits.transpose()?.unwrap_or_default(),
            until: given(own.until),
            name: given(own.name),
            label: given(own.label),
            enabled: own.disabled != Some(true),
            action,
            ..BreakpointSpec::at(site)
        })
    }

    fn action(
        &self,
        site: &Site,
        say: Option<String>,
        run: Option<String>,
        ring: Option<bool>,
    ) -> Result<Action, Refused> {
        match (say, run, ring) {
            (Some(text), ..) => {
                let template = Template::parse(&text).map_err(|error| error.to_string())?;
                template.expressions().try_for_each(|inside| self.check_expression(site, "expression", inside))?;
                Ok(Action::Say(template))
            }
            (None, Some(statement), _) => {
                self.check(site, "statement", &statement, |syntax, text| syntax.check_statement(text))?;
                Ok(Action::Run(statement))
            }
            (None, None, Some(true)) => Ok(Action::Ring),
            _ => Ok(Action::Stop),
        }
    }

    fn check_expression(&self, site: &Site, what: &str, text: &str) -> Result<(), Refused> {
        self.check(site, what, text, |syntax, text| syntax.check_expression(text))
    }

    /// Whether a text can be read: in the language of what the breakpoint is on, or in one of those that contexts have where
    /// any may come to evaluate it.
    fn check(
        &self,
        site: &Site,
        what: &str,
        text: &str,
        check: impl Fn(&dyn Syntax, &str) -> Result<(), String>,
    ) -> Result<(), Refused> {
        let mut refused = None;
        for syntax in self.host.contexts.syntaxes(self.language_of(site)) {
            match check(&*syntax, text) {
                Ok(()) => return Ok(()),
                Err(why) => refused = refused.or(Some(why)),
            }
        }
        let Some(why) = refused else { return Ok(()) };
        Err(format!("the {what} '{text}' cannot be read: {why}; correct it and set it again"))
    }

    /// The language of what a breakpoint is on, as far as that is known before it binds.
    fn language_of(&self, site: &Site) -> Option<Language> {
        match site {
            Site::Line { path, .. } => {
                self.host.sources.look().matching(path).first().map(|source| source.facts.language)
            }
            Site::Change { target: Tracked::Script { context, .. }, .. } => {
                self.host.contexts.get(*context).map(|context| context.syntax.language())
            }
            _ => None,
        }
    }

    fn replace(
        &mut self,
        covers: impl Fn(&Site) -> bool,
        mut specs: Vec<Result<BreakpointSpec, Refused>>,
    ) -> SetBreakpointsBody {
        let is_other =
            |now: &&Resolved| now.breakpoint.owner == self.client.owner && !covers(&now.breakpoint.spec.site);
        let others = self.host.breakpoints.resolved().iter().filter(is_other).count();
        for surplus in specs.iter_mut().skip(MOST_BREAKPOINTS.saturating_sub(others)) {
            *surplus = Err(format!("a client has at most {MOST_BREAKPOINTS} breakpoints; remove some first"));
        }
        let good = specs.iter().filter_map(|spec| spec.as_ref().ok().cloned()).collect();
        let set = self.host.set_breakpoints(self.client.owner, covers, good);
        let resolved = self.host.breakpoints.resolved();
        let sources = self.host.sources.look();
        let mut set = set.into_iter();
        let breakpoints = specs.into_iter().map(|spec| {
            let refused = match spec {
                Err(why) => return Breakpoint { message: Some(why), ..Breakpoint::default() },
                Ok(_) => Breakpoint::default(),
            };
            let held = set.next().and_then(|held| resolved.iter().find(|now| now.breakpoint.id == held.id));
            held.map_or(refused, |now| self.shown(now, &sources))
        });
        SetBreakpointsBody { breakpoints: breakpoints.collect() }
    }

    fn shown(&self, resolved: &Resolved, sources: &Sources) -> Breakpoint {
        let noted = |place| self.host.breakpoints.noted_of(sources, place);
        convert::breakpoint(resolved, sources, self.client.line_base(), noted)
    }

    pub(super) fn breakpoints_now(&self) -> BreakpointsBody {
        let resolved = self.host.breakpoints.resolved();
        let sources = self.host.sources.look();
        let mine =
            resolved.iter().filter(|now| now.breakpoint.owner == self.client.owner && !now.breakpoint.spec.temporary);
        let info = mine.map(|now| {
            let shown = self.shown(now, &sources);
            BreakpointInfo {
                id: now.breakpoint.id.0,
                hits: now.breakpoint.hits(),
                verified: shown.verified,
                enabled: now.breakpoint.spec.enabled,
                spent: now.breakpoint.is_spent(),
                last: now.breakpoint.last().map(|last| convert::occasion(&last, &sources)),
                places: convert::places(now, &sources),
                message: shown.message,
            }
        });
        BreakpointsBody { breakpoints: info.collect() }
    }

    /// Shows a text that the client has to every context, which know what they run.
    pub(super) fn take_text(&mut self, given: &SourceTextArguments) -> Result<SourceTextBody, SessionError> {
        let mut taken = false;
        for context in self.host.contexts.all() {
            let (path, text) = (given.path.clone(), given.text.clone());
            let found = self.ask(&context, move |point| point.engine.with_text(&path, &text))?;
            // Not on the script's thread, whatever time it takes.
            let own: Vec<_> = found.into_iter().filter(|facts| !facts.code.get().is_other_text).collect();
            if !own.is_empty() {
                taken = true;
                self.ask(&context, move |point| own.into_iter().for_each(|facts| point.engine.take_text(facts)))?;
            }
        }
        Ok(SourceTextBody { taken })
    }

    pub(super) fn breakpoint_locations(
        &self,
        arguments: &BreakpointLocationsArguments,
    ) -> Result<BreakpointLocationsBody, SessionError> {
        let path = self.path_of(&arguments.source)?;
        let base = self.client.line_base();
        let number = |line| convert::line(line, base).ok_or(SessionError::BadLine(line, base));
        let (first, last) = (number(arguments.line)?, number(arguments.end_line.unwrap_or(arguments.line))?);
        let sources = self.host.sources.look();
        let source = sources.matching(&path).first().copied().cloned().ok_or(SessionError::NoSource(path))?;
        let lines = source.code().lines.iter().filter(|line| (first..=last).contains(line));
        let location = |line: Line| BreakpointLocation { line: convert::line_number(line, base) };
        Ok(BreakpointLocationsBody { breakpoints: lines.map(location).collect() })
    }

    /// Functions by how their names begin.
    pub(super) fn functions(&self, arguments: &FunctionsArguments) -> FunctionsBody {
        let (sources, base) = (self.host.sources.look(), self.client.line_base());
        let mut functions = Vec::new();
        for source in sources.newest() {
            let language = source.facts.language;
            let named = source.code().functions.iter().filter_map(|held| Some((held, held.name.as_deref()?)));
            let is_wanted = |name: &str| {
                let beginning = arguments.beginning.as_str();
                name.starts_with(beginning) || language.last_name(name).starts_with(beginning)
            };
            let wanted = named.filter(|(_, name)| is_wanted(name)).map(|(held, name)| FunctionInfo {
                name: name.to_owned(),
                path: source.facts.name.clone(),
                line: convert::line_number(held.first, base),
            });
            functions.extend(wanted.take(MOST_FUNCTIONS - functions.len()));
        }
        FunctionsBody { functions }
    }

    pub(super) fn loaded_sources(&mut self) -> LoadedSourcesBody {
        if self.host.sources.look().newest().is_empty() {
            self.await_discoveries();
        }
        LoadedSourcesBody {
            sources: self.host.sources.look().newest().iter().map(|held| convert::source(held)).collect(),
        }
    }

    pub(super) fn source(&self, arguments: SourceArguments) -> Result<SourceBody, SessionError> {
        let sources = self.host.sources.look();
        let by_path = arguments.source.and_then(|source| source.path);
        let held = convert::source_id(arguments.source_reference).and_then(|id| sources.get(id));
        let held = held.or_else(|| by_path.as_deref().and_then(|path| sources.matching(path).first().copied()));
        let shown = by_path.clone().unwrap_or_else(|| arguments.source_reference.to_string());
        let held = held.ok_or(SessionError::NoSource(shown))?;
        let text = held.text().ok_or_else(|| SessionError::NoText(held.facts.name.clone()))?;
        Ok(SourceBody { content: text.to_string() })
    }

    /// The path that a source is meant by.
    fn path_of(&self, source: &Source) -> Result<String, SessionError> {
        let by_reference = || {
            let id = convert::source_id(source.source_reference?)?;
            self.host.sources.look().get(id).map(|held| held.facts.name.clone())
        };
        let path = source.path.clone().or_else(by_reference).or_else(|| source.name.clone());
        path.ok_or_else(|| SessionError::NoSource("without a path".to_owned()))
    }
}

/// Where an event, an error or a time budget is.
fn event_site(filter: String, own: &Own) -> Result<Site, Refused> {
    if let Some(milliseconds) = own.budget_milliseconds {
        let budget = Duration::try_from_secs_f64(milliseconds / 1000.0).ok().filter(|budget| !budget.is_zero());
        let budget = budget.ok_or_else(|| format!("{milliseconds} is no time that a handler could take"))?;
        return Ok(Site::Time { kind: filter, budget });
    }
    let containing = own.containing.clone();
    Ok(match filter.as_str() {
        UNCAUGHT => Site::Error { every: false, containing },
        EVERY_ERROR => Site::Error { every: true, containing },
        _ => Site::Event { kind: filter, at_boundary: own.at_boundary == Some(true) },
    })
}

/// What a watched value is called in the protocol: `3/7/total`, context, number and name; or the path of a host object, with
/// lists that count from 0.
fn data_id(tracked: &Tracked) -> String {
    match tracked {
        Tracked::Script { context, track, shown } => format!("{context}/{}/{shown}", track.0),
        Tracked::Host(place) => place.display(Notation::OF_DATA),
    }
}

fn tracked(data_id: &str) -> Option<Tracked> {
    let mut parts = data_id.splitn(3, '/');
    if let (Some(context), Some(track), Some(shown)) = (parts.next(), parts.next(), parts.next()) {
        let (Ok(context), Ok(track)) = (context.parse(), track.parse()) else { return host_part(data_id) };
        return Some(Tracked::Script { context, track: TrackId(track), shown: shown.to_owned() });
    }
    host_part(data_id)
}

fn host_part(data_id: &str) -> Option<Tracked> {
    let place = TreePath::of(&Path::parse(data_id, Notation::OF_DATA).ok()?)?;
    (place.root == Root::Host && !place.path.is_empty()).then_some(Tracked::Host(place))
}

fn script_track(site: &Site) -> Option<(i64, TrackId)> {
    match site {
        Site::Change { target: Tracked::Script { context, track, .. }, .. } => Some((*context, *track)),
        _ => None,
    }
}
