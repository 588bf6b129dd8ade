//! `break`, `breaks`, `enable`, `disable`, `remove`, `keep`, `library`.

use adzeman_dap::extra::{self, ArmedArguments, BreakpointInfo, BreakpointsBody, LibraryArguments};
use adzeman_dap::requests::{
    DataBreakpointInfoArguments, DataBreakpointInfoBody, SetBreakpointsArguments, SetBreakpointsBody,
    SetDataBreakpointsArguments, SetExceptionBreakpointsArguments, SetFunctionBreakpointsArguments,
};
use adzeman_dap::types::{DataBreakpoint, ExceptionFilterOptions, FunctionBreakpoint, Own, Source, SourceBreakpoint};
use serde_json::{Value as Json, json};

use super::{KnownBreakpoint, Session};
use crate::command::{Action, Break, Change, Pick, Site};
use crate::error::CliError;
use crate::report::{BreakRow, Report};

/// Breakpoints that a host takes of one client.
pub(crate) const MOST_BREAKPOINTS: usize = 5000;

/// Which request a breakpoint goes in: the protocol replaces all of a request together.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Group {
    Lines(String),
    Functions,
    Events,
    Changes,
}

impl Group {
    fn of(site: &Site) -> Self {
        match site {
            Site::Line { path, .. } => Self::Lines(path.clone()),
            Site::Function(_) => Self::Functions,
            Site::Event { .. } | Site::Error { .. } => Self::Events,
            Site::Change { .. } => Self::Changes,
        }
    }
}

impl Session<'_> {
    pub(crate) fn add_breakpoint(&mut self, mut wanted: Break) -> Result<Report, CliError> {
        if let (None, Some(only)) = (&wanted.subject, &self.origin.manner.only) {
            wanted.subject = Some(only.clone());
        }
        if self.breakpoints.all.len() >= MOST_BREAKPOINTS {
            let why = format!("a host takes {MOST_BREAKPOINTS} breakpoints of one client; remove some first");
            return Err(CliError::Refused(why));
        }
        if let Some(held) = self.breakpoints.all.iter().find(|held| held.wanted == wanted) {
            return Err(CliError::Refused(format!("that is breakpoint {} already", held.number)));
        }
        let (data_id, waits) = match &wanted.site {
            Site::Change { target, .. } => self.data_id(target).map(|(id, waits)| (Some(id), waits))?,
            _ => (None, None),
        };
        let group = Group::of(&wanted.site);
        self.breakpoints.last_number += 1;
        let number = self.breakpoints.last_number;
        let held = KnownBreakpoint { number, wanted, id: None, bound: false, note: None, data_id, is_kept: false };
        self.breakpoints.all.push(held);
        let sent = self.send_breakpoints(&group);
        let position = self.breakpoints.all.iter().position(|held| held.number == number).unwrap_or(0);
        if sent.is_err() || self.breakpoints.all[position].id.is_none() {
            self.breakpoints.last_number -= 1;
            let refused = self.breakpoints.all.remove(position);
            sent?;
            return Err(CliError::Refused(refused.note.unwrap_or_else(|| "the host refused it".to_owned())));
        }
        let rows = self.break_rows()?;
        let row = rows.into_iter().find(|row| row.number == number);
        let row = row.map(|row| BreakRow { note: row.note.or(waits), ..row });
        row.map(|breakpoint| Report::Breakpoint { breakpoint })
            .ok_or_else(|| CliError::Refused("the host does not know the breakpoint".to_owned()))
    }

    /// Sets all breakpoints again, in a host that knows none of them; answers how many it took.
    pub(crate) fn set_again(&mut self) -> Result<usize, CliError> {
        for held in &mut self.breakpoints.all {
            (held.id, held.bound, held.data_id) = (None, false, None);
        }
        self.find_changes()?;
        self.send_groups(self.breakpoints.all.iter().map(|held| Group::of(&held.wanted.site)).collect())?;
        Ok(self.breakpoints.all.iter().filter(|held| held.id.is_some()).count())
    }

    /// Sets breakpoints on changes again whose values were not there yet.
    pub(crate) fn set_waiting_changes(&mut self) -> Result<(), CliError> {
        let found = self.find_changes()?;
        if !found.is_empty() {
            self.send_breakpoints(&Group::Changes)?;
        }
        for held in self.breakpoints.all.iter().filter(|held| found.contains(&held.number)) {
            self.printer.notice(&held.notice());
        }
        Ok(())
    }

    /// Looks for the values of breakpoints on changes that were not found yet; answers the numbers of those that were.
    fn find_changes(&mut self) -> Result<Vec<usize>, CliError> {
        let mut found = Vec::new();
        for position in 0..self.breakpoints.all.len() {
            let held = &self.breakpoints.all[position];
            let (Site::Change { target, .. }, None) = (&held.wanted.site, &held.data_id) else { continue };
            let (number, target) = (held.number, target.clone());
            match self.data_id(&target) {
                Ok((data_id, _)) => {
                    self.breakpoints.all[position].data_id = Some(data_id);
                    found.push(number);
                }
                Err(error) if error.is_final() => return Err(error),
                Err(error) => self.breakpoints.all[position].note = Some(error.to_string()),
            }
        }
        Ok(found)
    }

    /// What the host calls a value that is to be watched, and that it waits for it, if it is nowhere yet.
    fn data_id(&mut self, target: &str) -> Result<(String, Option<String>), CliError> {
        let arguments = DataBreakpointInfoArguments {
            name: target.to_owned(),
            frame_id: self.frame_id(),
            thread_id: Some(self.current_context()?),
            ..DataBreakpointInfoArguments::default()
        };
        let body: DataBreakpointInfoBody = self.client.request("dataBreakpointInfo", &arguments)?;
        match body.data_id {
            Json::String(id) => Ok((id, body.waits)),
            _ => Err(CliError::Refused(body.description)),
        }
    }

    pub(super) fn list_breakpoints(&mut self) -> Result<Report, CliError> {
        Ok(Report::Breakpoints { breakpoints: self.break_rows()?, armed: self.breakpoints.armed })
    }

    pub(super) fn arm(&mut self, armed: bool) -> Result<Report, CliError> {
        let _: Json = self.client.request(extra::ARMED, &ArmedArguments { armed })?;
        self.breakpoints.armed = armed;
        Ok(Report::Armed { armed, count: self.breakpoints.all.len() })
    }

    pub(super) fn enable(&mut self, which: &Pick, enabled: bool) -> Result<Report, CliError> {
        let numbers = self.picked(which)?;
        let mut groups = Vec::new();
        for held in self.breakpoints.all.iter_mut().filter(|held| numbers.contains(&held.number)) {
            held.wanted.is_off = !enabled;
            groups.push(Group::of(&held.wanted.site));
        }
        self.send_groups(groups)?;
        self.list_breakpoints()
    }

    pub(super) fn remove_breakpoints(&mut self, which: &Pick) -> Result<Report, CliError> {
        let numbers = self.picked(which)?;
        let (gone, left): (Vec<_>, Vec<_>) =
            self.breakpoints.all.drain(..).partition(|held| numbers.contains(&held.number));
        self.breakpoints.all = left;
        self.send_groups(gone.iter().map(|held| Group::of(&held.wanted.site)).collect())?;
        if gone.iter().any(|held| held.is_kept) {
            self.write_kept()?;
        }
        Ok(Report::Removed { count: gone.len() })
    }

    /// Puts breakpoints into the project file.
    pub(super) fn keep(&mut self, which: &Pick) -> Result<Report, CliError> {
        let numbers = self.picked(which)?;
        for held in self.breakpoints.all.iter_mut().filter(|held| numbers.contains(&held.number)) {
            held.is_kept = true;
        }
        self.write_kept()?;
        Ok(Report::Kept { count: numbers.len(), file: self.files.project.shown() })
    }

    fn write_kept(&mut self) -> Result<(), CliError> {
        let kept = self.breakpoints.all.iter().filter(|held| held.is_kept).map(|held| held.wanted.to_string());
        // What could not be set in this session stays in the file.
        let lines: Vec<_> = kept.chain(self.breakpoints.unset.iter().cloned()).collect();
        self.files.project.set_breaks(&lines)
    }

    pub(super) fn library(&mut self, paths: Option<Vec<String>>) -> Result<Report, CliError> {
        if let Some(paths) = paths {
            let library = LibraryArguments { paths, ..self.files.library.clone() };
            let _: Json = self.client.request(extra::LIBRARY, &library)?;
            self.files.library = library;
        }
        Ok(Report::Library {
            paths: self.files.library.paths.clone(),
            own: self.files.library.own.clone().unwrap_or_default(),
        })
    }

    /// The numbers of the breakpoints meant.
    fn picked(&self, which: &Pick) -> Result<Vec<usize>, CliError> {
        match which {
            Pick::All => Ok(self.breakpoints.all.iter().map(|held| held.number).collect()),
            Pick::One(text) => self.picked_one(text).map(|held| vec![held.number]),
        }
    }

    /// The breakpoint with this number or name.
    pub(super) fn picked_one(&self, text: &str) -> Result<&KnownBreakpoint, CliError> {
        let is_meant =
            |held: &&KnownBreakpoint| held.number.to_string() == text || held.wanted.name.as_deref() == Some(text);
        let found = self.breakpoints.all.iter().find(is_meant);
        found.ok_or_else(|| CliError::Refused(format!("there is no breakpoint {text}; 'breaks' lists them")))
    }

    /// The numbers of this session for the host's.
    pub(crate) fn numbers_of(&self, ids: &[u64]) -> Vec<usize> {
        let held = self.breakpoints.all.iter().filter(|held| held.id.is_some_and(|id| ids.contains(&id)));
        held.map(|held| held.number).collect()
    }

    /// Every breakpoint as it is now, by the host's numbers.
    pub(super) fn breakpoints_now(&mut self) -> Result<Vec<BreakpointInfo>, CliError> {
        let body: BreakpointsBody = self.client.request(extra::BREAKPOINTS, &json!({}))?;
        Ok(body.breakpoints)
    }

    fn break_rows(&mut self) -> Result<Vec<BreakRow>, CliError> {
        let infos = self.breakpoints_now()?;
        let row = |held: &KnownBreakpoint| {
            let now = infos.iter().find(|now| Some(now.id) == held.id);
            let places = now.map(|now| now.places.as_slice()).unwrap_or_default();
            let stale = places.iter().find_map(|place| self.files.stale.get(place.rsplit_once(':')?.0));
            let stale = stale
                .map(|stale| format!("{} here is another text than the host runs: is this the line?", stale.local));
            let why = now.map_or(held.note.clone(), |now| now.message.clone());
            let notes: Vec<_> = why.into_iter().chain(stale).collect();
            BreakRow {
                number: held.number,
                what: held.wanted.to_string(),
                bound: now.is_some_and(|now| now.verified),
                places: places.iter().map(|place| self.files.paths.to_local(place)).collect(),
                hits: now.map_or(0, |now| now.hits),
                note: (!notes.is_empty()).then(|| notes.join("; ")),
                last: now.and_then(|now| now.last.as_deref()).map(|last| self.files.paths.to_local(last)),
                enabled: !held.wanted.is_off,
                spent: now.is_some_and(|now| now.spent),
                kept: held.is_kept,
            }
        };
        Ok(self.breakpoints.all.iter().map(row).collect())
    }

    fn send_groups(&mut self, groups: Vec<Group>) -> Result<(), CliError> {
        let mut sent = Vec::new();
        for group in groups {
            if !sent.contains(&group) {
                self.send_breakpoints(&group)?;
                sent.push(group);
            }
        }
        Ok(())
    }

    /// Tells the host all breakpoints of a group.
    fn send_breakpoints(&mut self, group: &Group) -> Result<(), CliError> {
        // A value that was not found cannot be watched yet.
        let is_sent = |held: &KnownBreakpoint| {
            let is_found = held.data_id.is_some() || *group != Group::Changes;
            is_found && Group::of(&held.wanted.site) == *group
        };
        let owns: Vec<Own> = self
            .breakpoints
            .all
            .iter()
            .filter(|held| is_sent(held))
            .map(|held| self.own(held))
            .collect::<Result<_, _>>()?;
        let held: Vec<(&KnownBreakpoint, Own)> =
            self.breakpoints.all.iter().filter(|held| is_sent(held)).zip(owns).collect();
        let (command, arguments) = match group {
            Group::Lines(path) => ("setBreakpoints", json!(lines(&self.files.paths.to_host(path), held))),
            Group::Functions => ("setFunctionBreakpoints", json!(functions(held))),
            Group::Events => ("setExceptionBreakpoints", json!(events(held))),
            Group::Changes => ("setDataBreakpoints", json!(changes(held))),
        };
        let body: SetBreakpointsBody = self.client.request(command, &arguments)?;
        let members = self.breakpoints.all.iter_mut().filter(|held| is_sent(held));
        for (held, now) in members.zip(body.breakpoints) {
            (held.id, held.bound, held.note) = (now.id, now.verified, now.message);
        }
        Ok(())
    }

    /// What the protocol has no words for.
    fn own(&self, held: &KnownBreakpoint) -> Result<Own, CliError> {
        let wanted = &held.wanted;
        let until = wanted.until.as_deref().map(|text| {
            let other = self.picked_one(text)?;
            let by_id = || other.id.map_or_else(|| text.to_owned(), |id| id.to_string());
            Ok::<_, CliError>(other.wanted.name.clone().unwrap_or_else(by_id))
        });
        let mut own = Own {
            subject: wanted.subject.clone(),
            name: wanted.name.clone(),
            label: Some(held.number.to_string()),
            until: until.transpose()?,
            disabled: wanted.is_off.then_some(true),
            ..Own::default()
        };
        match &wanted.action {
            Action::Stop => {}
            Action::Say(text) => own.say = Some(text.clone()),
            Action::Run(statement) => own.run = Some(statement.clone()),
            Action::Ring => own.ring = Some(true),
        }
        match &wanted.site {
            Site::Event { at_boundary, over_milliseconds, .. } => {
                own.at_boundary = at_boundary.then_some(true);
                own.budget_milliseconds = *over_milliseconds;
            }
            Site::Error { containing, .. } => own.containing.clone_from(containing),
            Site::Change { how: Change::Type, .. } => own.on = Some("type".to_owned()),
            Site::Change { how: Change::Write, .. } => own.on = Some("write".to_owned()),
            Site::Change { .. } | Site::Line { .. } | Site::Function(_) => {}
        }
        Ok(own)
    }
}

fn lines(path: &str, group: Vec<(&KnownBreakpoint, Own)>) -> SetBreakpointsArguments {
    let breakpoint = |(held, own): (&KnownBreakpoint, Own)| match held.wanted.site {
        Site::Line { line, .. } => Some(SourceBreakpoint {
            line,
            condition: held.wanted.condition.clone(),
            hit_condition: held.wanted.hits.clone(),
            log_message: None,
            adzeman: Some(own),
        }),
        _ => None,
    };
    SetBreakpointsArguments {
        source: Source { path: Some(path.to_owned()), ..Source::default() },
        breakpoints: Some(group.into_iter().filter_map(breakpoint).collect()),
    }
}

fn functions(group: Vec<(&KnownBreakpoint, Own)>) -> SetFunctionBreakpointsArguments {
    let breakpoint = |(held, own): (&KnownBreakpoint, Own)| match &held.wanted.site {
        Site::Function(name) => Some(FunctionBreakpoint {
            name: name.clone(),
            condition: held.wanted.condition.clone(),
            hit_condition: held.wanted.hits.clone(),
            adzeman: Some(own),
        }),
        _ => None,
    };
    SetFunctionBreakpointsArguments { breakpoints: group.into_iter().filter_map(breakpoint).collect() }
}

fn events(group: Vec<(&KnownBreakpoint, Own)>) -> SetExceptionBreakpointsArguments {
    let options = |(held, own): (&KnownBreakpoint, Own)| {
        let filter_id = match &held.wanted.site {
            Site::Event { kind, .. } => kind.clone(),
            Site::Error { every: true, .. } => "error.every".to_owned(),
            Site::Error { every: false, .. } => "error.uncaught".to_owned(),
            _ => return None,
        };
        let own = Own { hits: held.wanted.hits.clone(), ..own };
        Some(ExceptionFilterOptions { filter_id, condition: held.wanted.condition.clone(), adzeman: Some(own) })
    };
    let filter_options = Some(group.into_iter().filter_map(options).collect());
    SetExceptionBreakpointsArguments { filters: Vec::new(), filter_options }
}

fn changes(group: Vec<(&KnownBreakpoint, Own)>) -> SetDataBreakpointsArguments {
    let breakpoint = |(held, own): (&KnownBreakpoint, Own)| DataBreakpoint {
        data_id: held.data_id.clone().unwrap_or_default(),
        access_type: Some(
            if matches!(held.wanted.site, Site::Change { how: Change::Read, .. }) { "read" } else { "write" }
                .to_owned(),
        ),
        condition: held.wanted.condition.clone(),
        hit_condition: held.wanted.hits.clone(),
        adzeman: Some(own),
    };
    SetDataBreakpointsArguments { breakpoints: group.into_iter().map(breakpoint).collect() }
}
