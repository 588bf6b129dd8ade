//! Where host objects lie, read a part at a time at safe points.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::host::{ANY, Aspect, HostError, HostView as _, Placed};
use adzeman_core::path::{Notation, Path, Root, Segment, TreePath};
use adzeman_core::plan::{Outside, Thing, overlaps};
use adzeman_core::value::{Expand, Page};
use adzeman_dap::extra::{PlanArguments, PlanBody};

use super::answer::all_as_json;
use super::{Session, SessionError};
use crate::lane::LocalContext;

/// How long things are read at a time: an event waits for it.
const PART: Duration = Duration::from_millis(1);
/// Children of a list that are looked at at once.
const AT_ONCE: usize = 200;
/// Things, overlaps and reasons that are answered.
const MOST_THINGS: usize = 5_000;
const MOST_OVERLAPS: usize = 1_000;
const MOST_REASONS: usize = 20;

/// A pattern of which the first steps are done.
struct Branch {
    /// The object and the part that was come to.
    at: Path,
    /// Steps that are yet to come.
    rest: Vec<Segment>,
    /// Children that are passed over: they were taken before.
    start: usize,
    /// What is said of all that the pattern stands for.
    placed: Arc<Placed>,
}

/// What is read so far.
struct Reading {
    branches: VecDeque<Branch>,
    things: Vec<Thing>,
    outside: Vec<Outside>,
    units: Vec<String>,
    unplaced: Vec<String>,
    is_cut: bool,
}

impl Session {
    pub(super) fn plan(&mut self, arguments: &PlanArguments) -> Result<PlanBody, SessionError> {
        let context = match arguments.thread_id {
            Some(id) => self.context(id)?,
            None => self.any_context()?,
        };
        let notation = context.syntax.language().notation;
        let within = arguments.path.as_deref().map(|text| part_of_host(text, notation)).transpose()?;
        let branches = self.placed_within(within.as_ref(), notation)?;
        let mut reading = Reading {
            branches,
            things: Vec::new(),
            outside: Vec::new(),
            units: Vec::new(),
            unplaced: Vec::new(),
            is_cut: false,
        };
        while !reading.branches.is_empty() {
            let within = within.clone();
            reading = self.ask(&context, move |point| {
                reading.go_on(point.context, within.as_ref(), Instant::now() + PART).map(|()| reading)
            })??;
        }
        let (overlaps, overlapping) = overlaps(&reading.things, MOST_OVERLAPS);
        reading.outside.sort_by(|a, b| b.by.total_cmp(&a.by));
        reading.units.sort();
        reading.units.dedup();
        Ok(PlanBody {
            things: all_as_json(&reading.things)?,
            overlaps: all_as_json(&overlaps)?,
            overlapping,
            outside: all_as_json(&reading.outside)?,
            unit: (reading.units.len() == 1).then(|| reading.units.remove(0)).filter(|unit| !unit.is_empty()),
            unplaced: reading.unplaced,
            cut: reading.is_cut,
        })
    }

    /// What the host has said that has a place, as far as it may be within a part, or have that within it.
    fn placed_within(&self, within: Option<&Path>, notation: Notation) -> Result<VecDeque<Branch>, SessionError> {
        let opened = &self.host.opened;
        let objects = opened.objects.iter().map(|object| (object.name(), object.about())).chain(opened.lent());
        let mut names = Vec::new();
        let mut branches = VecDeque::new();
        for (name, about) in objects {
            for (pattern, placed) in about.places() {
                let placed = Arc::new(placed.clone());
                names.push(TreePath { root: Root::Host, path: Path::default().under(name) }.display(notation));
                let at = Path::default().under(name);
                let rest = pattern.segments().to_vec();
                let whole: Vec<Segment> = at.segments().iter().chain(&rest).cloned().collect();
                let meets =
                    within.is_none_or(|within| within.segments().iter().zip(&whole).all(|(a, b)| a == b || is_any(b)));
                if meets {
                    branches.push_back(Branch { at, rest, start: 0, placed });
                }
            }
        }
        names.dedup();
        match (names.is_empty(), branches.is_empty(), within) {
            (true, ..) => Err(SessionError::NothingPlaced),
            (false, true, Some(within)) => {
                let path = TreePath { root: Root::Host, path: within.clone() }.display(notation);
                Err(SessionError::NotPlaced { path, placed: names.join(", ") })
            }
            _ => Ok(branches),
        }
    }
}

fn is_any(step: &Segment) -> bool {
    matches!(step, Segment::Field(name) if name == ANY)
}

/// The path behind `host`.
fn part_of_host(text: &str, notation: Notation) -> Result<Path, SessionError> {
    let path = Path::parse(text.trim(), notation).map_err(|why| SessionError::BadExpression(why.to_string()))?;
    match path.split_name() {
        Some((name, rest)) if name == Root::Host.name() => Ok(rest),
        _ => Err(SessionError::BadExpression(format!(
            "'{text}' is no part of the host's data; those begin with '{}.'",
            Root::Host.name()
        ))),
    }
}

impl Reading {
    fn go_on(&mut self, context: &LocalContext, within: Option<&Path>, until: Instant) -> Result<(), SessionError> {
        while let Some(branch) = self.branches.pop_front() {
            if self.things.len() >= MOST_THINGS {
                self.is_cut = true;
                self.branches.clear();
                return Ok(());
            }
            match branch.rest.iter().position(is_any) {
                None => self.take(context, branch, within)?,
                Some(at) => self.open(context, branch, at)?,
            }
            if Instant::now() >= until {
                break;
            }
        }
        Ok(())
    }

    /// Opens the list at the first step that stands for any: a page of it.
    fn open(&mut self, context: &LocalContext, branch: Branch, at: usize) -> Result<(), SessionError> {
        let Branch { at: from, rest, start, placed } = branch;
        let list = rest[..at].iter().cloned().fold(from.clone(), |path, step| path.join(step));
        let place = TreePath { root: Root::Host, path: list.clone() };
        let page = Page { start, count: AT_ONCE };
        let outline = match context.data.outline(&place, Aspect::Inside(page)) {
            // What is lent is there for the time of a handler.
            Err(HostError::NotLent { .. }) => return Ok(()),
            other => other?,
        };
        let listed = adzeman_core::host::list(outline, &place, context.data.notation());
        let taken = start + listed.items.len();
        for variable in &listed.items {
            let step = match variable.value.children.as_ref().map(|children| &children.expand) {
                Some(Expand::Tree(inside)) => inside.path.segments().last().cloned(),
                _ => None,
            };
            if let Some(step) = step {
                let (at, rest) = (list.join(step), rest[at + 1..].to_vec());
                self.branches.push_back(Branch { at, rest, start: 0, placed: placed.clone() });
            }
        }
        if taken < listed.total && !listed.items.is_empty() {
            self.branches.push_back(Branch { at: from, rest, start: taken, placed });
        }
        Ok(())
    }

    fn take(&mut self, context: &LocalContext, branch: Branch, within: Option<&Path>) -> Result<(), SessionError> {
        let path = branch.rest.iter().cloned().fold(branch.at, |path, step| path.join(step));
        let is_within = within.is_none_or(|within| path.segments().starts_with(within.segments()));
        if !is_within {
            return Ok(());
        }
        let place = TreePath { root: Root::Host, path: path.clone() };
        let shown = place.display(context.data.notation());
        let thing = match context.data.get(&place) {
            Ok(data) => {
                let lane = context.lane();
                let about = lane.as_ref().and_then(|lane| lane.host.opened.said_of(&path));
                let nothing = adzeman_core::host::About::default();
                let (about, rest) = about.map_or((&nothing, Path::default()), |(about, _, rest)| (about, rest));
                branch.placed.thing(shown, (about, &rest), &data)
            }
            Err(HostError::NotLent { .. }) => return Ok(()),
            Err(why) => Err(why.to_string()),
        };
        match thing {
            Ok(thing) => {
                if let Some(by) = branch.placed.area.map(|area| thing.outside(&area)).filter(|by| *by > 0.0) {
                    self.outside.push(Outside { path: thing.path.clone(), by });
                }
                self.units.push(branch.placed.unit.clone());
                self.things.push(thing);
            }
            Err(why) if self.unplaced.len() < MOST_REASONS => self.unplaced.push(why),
            Err(_) => {}
        }
        Ok(())
    }
}
