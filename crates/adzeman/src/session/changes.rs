//! What a client has changed since it attached: listed, and, where it was set for now, given back.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::TrackId;
use adzeman_core::engine::{Engine, EngineError, GivenBack};
use adzeman_core::host::{Aspect, HostError, HostView as _, describe};
use adzeman_core::path::{Root, TreePath};
use adzeman_core::value::{Kind, Page, Value};
use adzeman_dap::extra::{ChangeInfo, ChangesBody, UndoArguments, UndoBody, UndoneInfo};
use crossbeam_channel::{Sender, bounded};
use serde_json::Value as Json;

use super::ask::tell;
use super::values::{made, set_host};
use super::{Session, SessionError};
use crate::lane::{ContextLink, HostState, SafePoint};

/// Changes of one client that are listed.
const MOST_CHANGES: usize = 10_000;
/// Changes of one client that are to be given back.
const MOST_FOR_NOW: usize = 1000;
/// How long a client that leaves waits until all is given back: a context that comes to no safe point does it at its next one.
const GIVEN_BACK_WITHIN: Duration = Duration::from_millis(500);
/// For how long a part of an object that the host has locked is tried again.
const TRIED_FOR: Duration = Duration::from_secs(5);
/// Between two such tries at a stop; otherwise each safe point is one.
const TRIED_AGAIN_AFTER: Duration = Duration::from_millis(1);
/// Frames among which is looked for one of a script.
const FRAMES: usize = 8;

const FOR_NOW: &str = "for now";

/// What a client has changed.
#[derive(Default)]
pub(super) struct Changes {
    all: VecDeque<Change>,
    last: u64,
}

struct Change {
    info: ChangeInfo,
    context: Arc<ContextLink>,
    /// How it is given back, for as long as it is to be.
    undo: Option<Undo>,
}

/// How a value that was set for now is given back.
#[derive(Debug, Clone)]
enum Undo {
    /// A part of the host's data: what it was, and what was set.
    Host { place: TreePath, before: Json, set: Json },
    /// What the engine keeps.
    Script(TrackId),
}

/// A change as it was made.
pub(super) struct Noted {
    before: Option<String>,
    value: Option<String>,
    at: String,
    seconds: f64,
    undo: Option<Undo>,
    /// Of the host's data: what the host says is usual there, and the value that it is compared with.
    usual: Option<(Json, Json)>,
}

impl Noted {
    /// What a change has been made at, which is noted as `before` and `value`.
    fn at(point: &mut SafePoint<'_>, before: Option<String>, value: Option<String>) -> Self {
        let seconds = point.context.host.clock.now().as_secs_f64();
        Self { before, value, at: place_of(point), seconds, undo: None, usual: None }
    }
}

/// Where the context is stopped, or before what the change is made.
fn place_of(point: &mut SafePoint<'_>) -> String {
    if let Some(made) = made(point) {
        return made.split(", ").next().unwrap_or_default().to_owned();
    }
    let frames = point.engine.frames(Page::first(FRAMES)).map(|page| page.items).unwrap_or_default();
    let place = frames.iter().find_map(|frame| frame.place);
    match place.map(|place| point.context.host.sources.shown(place)) {
        Some((Some(source), place)) => format!("at {}:{}", source.facts.name, place.line),
        _ => "at the host's boundary".to_owned(),
    }
}

/// Gives a target the value of an expression, for now or for good.
pub(super) fn change(
    point: &mut SafePoint<'_>,
    frame: Option<usize>,
    target: &str,
    value: &str,
    for_now: bool,
) -> Result<(Value, Noted), SessionError> {
    if let Some(place) = point.engine.host_place(frame, target) {
        return change_host(point, frame, &place, value, for_now);
    }
    if !for_now {
        return noted(point, frame, target, |engine| engine.assign_expression(frame, target, value));
    }
    let trial = point.engine.assign_for_now(frame, target, value)?;
    let shown = point.engine.peek(frame, target);
    let new = shown.unwrap_or_else(|| Value::plain(Kind::String, &trial.now.0, trial.now.1.clone()));
    let noted = Noted::at(point, Some(trial.before.1), Some(trial.now.1));
    Ok((new, Noted { undo: Some(Undo::Script(trial.track)), ..noted }))
}

/// Makes a change in a script, with what was there before as far as looking tells.
pub(super) fn noted(
    point: &mut SafePoint<'_>,
    frame: Option<usize>,
    target: &str,
    assign: impl FnOnce(&mut dyn Engine) -> Result<Value, EngineError>,
) -> Result<(Value, Noted), SessionError> {
    let before = point.engine.peek(frame, target).map(|value| value.preview);
    let new = assign(point.engine)?;
    let noted = Noted::at(point, before, Some(new.preview.clone()));
    Ok((new, noted))
}

/// Gives a part of the host's data the value of an expression, for now or for good.
pub(super) fn change_host(
    point: &mut SafePoint<'_>,
    frame: Option<usize>,
    place: &TreePath,
    value: &str,
    for_now: bool,
) -> Result<(Value, Noted), SessionError> {
    let whole = |point: &SafePoint<'_>| {
        let data = point.context.data.get(place)?;
        data.to_plain().ok_or(SessionError::NotGivenBack)
    };
    let shown = point.context.data.outline(place, Aspect::Itself);
    let before = shown.ok().map(|outline| describe(&outline, place).preview);
    let undo = if for_now { Some(whole(point)?) } else { None };
    let new = set_host(point, frame, place, value)?;
    let noted = Noted::at(point, before, Some(new.preview.clone()));
    let undo = match undo {
        None => None,
        Some(before) => Some(Undo::Host { place: place.clone(), before, set: whole(point)? }),
    };
    let usual = usual_at(point, place);
    let now = usual.as_ref().and_then(|_| point.context.data.get(place).ok()?.to_plain());
    Ok((new, Noted { undo, usual: usual.zip(now), ..noted }))
}

fn usual_at(point: &SafePoint<'_>, place: &TreePath) -> Option<Json> {
    if place.root != Root::Host {
        return None;
    }
    let (about, _, rest) = point.context.host.opened.said_of(&place.path)?;
    about.usual(&rest).cloned()
}

impl Changes {
    /// Whether one more can be made.
    pub(super) fn check_room(&self, for_now: bool) -> Result<(), SessionError> {
        let is_full = for_now && self.all.iter().filter(|change| change.undo.is_some()).count() >= MOST_FOR_NOW;
        if is_full { Err(SessionError::TooManyForNow(MOST_FOR_NOW)) } else { Ok(()) }
    }

    /// Lists a change.
    pub(super) fn note(&mut self, context: Arc<ContextLink>, target: String, noted: Noted) {
        let Noted { before, value, at, seconds, undo, usual } = noted;
        self.last += 1;
        let from_usual = usual.as_ref().and_then(|(usual, now)| Some(now.as_f64()? - usual.as_f64()?));
        let state = match (&undo, &value) {
            (Some(_), _) => FOR_NOW,
            (None, Some(_)) => "kept",
            (None, None) => "ran",
        }
        .to_owned();
        let (usual, id) = (usual.map(|(usual, _)| usual.to_string()), self.last);
        let name = context.name.clone();
        let info = ChangeInfo { id, context: name, target, before, value, at, seconds, state, usual, from_usual };
        if self.all.len() >= MOST_CHANGES
            && let Some(oldest) = self.all.iter().position(|change| change.undo.is_none())
        {
            self.all.remove(oldest);
        }
        self.all.push_back(Change { info, context, undo });
    }

    fn get(&mut self, id: u64) -> Option<&mut Change> {
        self.all.iter_mut().find(|change| change.info.id == id)
    }
}

impl Session {
    pub(super) fn changes_so_far(&self) -> ChangesBody {
        ChangesBody { changes: self.changes.all.iter().map(|change| change.info.clone()).collect() }
    }

    /// Lists that a source has another text, by the digests of both.
    pub(super) fn note_text(
        &mut self,
        context: &Arc<ContextLink>,
        name: &str,
        (before, now): (Option<String>, Option<String>),
    ) {
        self.note_elsewhere(context, format!("the text of {name}"), (before, now.or_else(|| Some(String::new()))));
    }

    /// Lists what is run, which may change anything.
    pub(super) fn note_run(&mut self, context: &Arc<ContextLink>, statement: &str) {
        self.note_elsewhere(context, statement.to_owned(), (None, None));
    }

    /// Lists what is changed at no place of a script.
    fn note_elsewhere(
        &mut self,
        context: &Arc<ContextLink>,
        target: String,
        (before, value): (Option<String>, Option<String>),
    ) {
        let seconds = self.host.clock.now().as_secs_f64();
        let noted = Noted { before, value, at: String::new(), seconds, undo: None, usual: None };
        self.changes.note(context.clone(), target, noted);
    }

    /// The same for what is evaluated, if it is no expression.
    pub(super) fn note_statement(&mut self, context: &Arc<ContextLink>, text: &str) {
        if context.syntax.check_expression(text).is_err() && context.syntax.check_statement(text).is_ok() {
            self.note_run(context, text);
        }
    }

    /// Gives back one change, or all, the last one first.
    pub(super) fn undo(&mut self, arguments: &UndoArguments) -> Result<UndoBody, SessionError> {
        let anyway = arguments.anyway.unwrap_or(false);
        let is_meant = |change: &&Change| arguments.id.is_none_or(|id| id == change.info.id);
        let meant = self.changes.all.iter().rev().filter(is_meant);
        let meant: Vec<_> =
            meant.filter_map(|held| Some((held.info.clone(), held.context.clone(), held.undo.clone()?))).collect();
        if let (Some(id), true) = (arguments.id, meant.is_empty()) {
            return Err(SessionError::NothingToUndo(id));
        }
        let (mut undone, mut left) = (Vec::new(), Vec::new());
        for (ChangeInfo { id, target, .. }, context, undo) in meant {
            let outcome = self.ask(&context, move |point| give_back(point, &undo, anyway));
            let outcome = outcome.unwrap_or_else(|why| Outcome::Failed(why.to_string()));
            let state = match &outcome {
                Outcome::Done(_) => Some("undone"),
                Outcome::Gone => Some("gone"),
                Outcome::Changed(_) | Outcome::Busy(_) | Outcome::Failed(_) => None,
            };
            if let Some((state, change)) = state.zip(self.changes.get(id)) {
                change.info.state = state.to_owned();
                change.undo = None;
            }
            match outcome {
                Outcome::Done(value) => undone.push(UndoneInfo { id, target, value: Some(value), why: None }),
                Outcome::Changed(value) => {
                    left.push(UndoneInfo { id, target, value: Some(value), why: Some("changed".to_owned()) });
                }
                Outcome::Gone => {
                    let why =
                        "it is a local variable of a function that has gone on, or its table is not there any more";
                    left.push(UndoneInfo { id, target, value: None, why: Some(why.to_owned()) });
                }
                Outcome::Busy(why) | Outcome::Failed(why) => {
                    left.push(UndoneInfo { id, target, value: None, why: Some(why) });
                }
            }
        }
        Ok(UndoBody { undone, left })
    }

    /// The client is gone: gives back all that was set for now and is still as it was set. Where a context is at a stop, before it
    /// goes on; otherwise at its next safe point.
    pub(super) fn give_all_back(&mut self) {
        let meant = self.changes.all.drain(..).filter_map(|change| Some((change.context, change.undo?)));
        let mut meant: Vec<_> = meant.collect();
        // Those of the scripts come first: some can be given back at this stop alone, and none waits for what the host has locked.
        meant.sort_by_key(|(_, undo)| matches!(undo, Undo::Script(_)));
        if meant.is_empty() || self.host.closing.load(SeqCst) {
            return;
        }
        let (sender, done) = bounded(0);
        self.host.clients.note_reason(true);
        give_back_from_the_last(Giving { host: self.host.clone(), left: meant, busy_since: None, _done: sender });
        // Disconnected when all are done, or have nowhere to be done.
        let _ = done.recv_timeout(GIVEN_BACK_WITHIN);
    }
}

/// What is yet to be given back, by which the host has a reason to come by.
struct Giving {
    host: Arc<HostState>,
    left: Vec<(Arc<ContextLink>, Undo)>,
    /// Since when the host has locked what the last one is of.
    busy_since: Option<Instant>,
    _done: Sender<()>,
}

impl Drop for Giving {
    fn drop(&mut self) {
        self.host.clients.note_reason(false);
    }
}

/// Gives back one after the other, each on the thread of its context: several may be of the same part of the host.
fn give_back_from_the_last(mut giving: Giving) {
    while let Some((context, undo)) = giving.left.pop() {
        if context.is_open() {
            tell(&context, move |point| {
                let outcome = give_back(point, &undo, false);
                let since = matches!(outcome, Outcome::Busy(_)).then(|| giving.busy_since.unwrap_or_else(Instant::now));
                if since.is_some_and(|since| since.elapsed() < TRIED_FOR) {
                    giving.left.push((point.context.link.clone(), undo));
                    if point.hold.is_some() {
                        std::thread::sleep(TRIED_AGAIN_AFTER);
                    }
                } else if let Outcome::Failed(why) | Outcome::Busy(why) = outcome {
                    tracing::warn!(why, "a value that a client had set for now is left as it is");
                }
                giving.busy_since = since;
                give_back_from_the_last(giving);
            });
            return;
        }
    }
}

/// What came of giving back one value.
enum Outcome {
    /// It is this again.
    Done(String),
    /// It is this by now, which is not what was set.
    Changed(String),
    /// It is not there any more.
    Gone,
    /// The host has locked it at this moment.
    Busy(String),
    /// The host does not take it.
    Failed(String),
}

fn give_back(point: &mut SafePoint<'_>, undo: &Undo, anyway: bool) -> Outcome {
    match undo {
        Undo::Script(track) => match point.engine.give_back(*track, anyway) {
            GivenBack::Done(_, value) => Outcome::Done(value),
            GivenBack::ChangedSince(_, value) => Outcome::Changed(value),
            GivenBack::Gone => {
                point.engine.untrack(*track);
                Outcome::Gone
            }
        },
        Undo::Host { place, before, set } => {
            let data = &point.context.data;
            let shown = || data.outline(place, Aspect::Itself).map(|outline| describe(&outline, place).preview);
            let outcome = data.get(place).and_then(|now| {
                if !anyway && now.to_plain().as_ref() != Some(set) {
                    return Ok(Outcome::Changed(shown()?));
                }
                data.set(place, before.clone())?;
                Ok(Outcome::Done(shown()?))
            });
            outcome.unwrap_or_else(|why| match why {
                HostError::Busy { .. } => Outcome::Busy(why.to_string()),
                _ => Outcome::Failed(why.to_string()),
            })
        }
    }
}
