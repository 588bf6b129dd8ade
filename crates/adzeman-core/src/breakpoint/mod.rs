//! Breakpoints: a site, what narrows it, what it does, and how often it was hit.

mod action;
mod armed;
mod hit;
mod store;
mod subject;
mod wanted;

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::path::TreePath;
use crate::source::{Line, SourceLine};

pub use action::{Action, MOST_PIECES, Piece, Template, TemplateError};
pub use armed::{Armed, Sited};
pub use hit::{HitRule, HitRuleError};
pub use store::{Binding, BreakpointStore, FindUses, Moved, Rebound, Resolved, Status};
pub use subject::means;
pub use wanted::{Idle, Passing, WantedLines};

/// Number of a breakpoint, counted from 1 and never used twice within a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct BreakpointId(pub u64);

/// Who set a breakpoint; when the owner leaves, its breakpoints go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct OwnerId(pub u64);

/// The event kind that stands for all of them.
pub const ANY_EVENT: &str = "*";

/// Where a breakpoint is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Site {
    /// A line of the sources whose name ends with `path`.
    Line {
        /// The path as given.
        path: String,
        /// The line as given; the breakpoint may move to the next one that has code.
        line: Line,
    },
    /// The first line of each function of this name.
    Function {
        /// The name as given: `fare`, `tariff.fare`, `boat:length`, `toll.lua:fare`, or `toll.lua:12` for the function
        /// whose definition begins there.
        name: String,
    },
    /// The first script line that handles this event.
    Event {
        /// The kind's name, such as `frame.update`, or [`ANY_EVENT`].
        kind: String,
        /// Before any handler runs, instead of at the first script line.
        at_boundary: bool,
    },
    /// The place where a script raises.
    Error {
        /// Also errors that the script itself catches.
        every: bool,
        /// Only errors whose text contains this.
        containing: Option<String>,
    },
    /// The statement, or the event, that changes a value.
    Change {
        /// What is watched, as given.
        target: Tracked,
        /// What counts as a change.
        how: ChangeKind,
    },
    /// Wherever the handler of an event is when its time is up.
    Time {
        /// The event kind.
        kind: String,
        /// How long its handler may take, time at stops left out.
        budget: Duration,
    },
}

/// A value that is watched for changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Tracked {
    /// Part of a host object.
    Host(TreePath),
    /// A value of a script, found by an engine when the breakpoint was asked for.
    Script {
        /// The context it is in, as the host numbers them.
        context: i64,
        /// The engine's number for it.
        track: TrackId,
        /// As a person calls it.
        shown: String,
    },
}

/// An engine's number for a value that it watches.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct TrackId(pub u64);

/// What counts as a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ChangeKind {
    /// It holds another value.
    #[default]
    Value,
    /// It holds a value of another type, `nil` counting as one.
    Type,
    /// A statement is reached that assigns to it, even the value that it has.
    Written,
    /// A statement is reached that reads it.
    Read,
}

/// What a person asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BreakpointSpec {
    /// Where.
    pub site: Site,
    /// An expression in the script's language; the breakpoint counts only when it is true.
    pub condition: Option<String>,
    /// Only in the context of this name, or while an event about this subject is handled; a `*` stands for any text
    /// ([`means`]).
    pub subject: Option<String>,
    /// Which of the times count.
    pub hits: HitRule,
    /// Only until the breakpoint of this name, or this number, of the same owner was hit.
    pub until: Option<String>,
    /// A name for people and for `until`.
    pub name: Option<String>,
    /// What its owner calls it where it has no name.
    pub label: Option<String>,
    /// Whether it does anything at all.
    pub enabled: bool,
    /// What it does.
    pub action: Action,
    /// Set by the tool for one run, and removed at the next stop.
    pub temporary: bool,
}

impl BreakpointSpec {
    /// A breakpoint that stops each time.
    #[must_use]
    pub fn at(site: Site) -> Self {
        Self {
            site,
            condition: None,
            subject: None,
            hits: HitRule::default(),
            until: None,
            name: None,
            label: None,
            enabled: true,
            action: Action::Stop,
            temporary: false,
        }
    }
}

/// Where and during what a breakpoint was hit.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Occasion {
    /// The line, unless it was at the host's boundary.
    pub place: Option<SourceLine>,
    /// The event being handled, and its subject.
    pub event: Option<(String, Option<String>)>,
}

/// A breakpoint with what has happened to it.
#[derive(Debug)]
pub struct Breakpoint {
    /// Its number.
    pub id: BreakpointId,
    /// Who set it.
    pub owner: OwnerId,
    /// What was asked for.
    pub spec: BreakpointSpec,
    times: AtomicU64,
    hits: AtomicU64,
    failed: AtomicBool,
    gone: AtomicBool,
    failure: Mutex<Option<String>>,
    last: Mutex<Option<Occasion>>,
}

fn held<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Breakpoint {
    fn new(id: BreakpointId, owner: OwnerId, spec: BreakpointSpec) -> Self {
        Self {
            id,
            owner,
            spec,
            times: AtomicU64::new(0),
            hits: AtomicU64::new(0),
            failed: AtomicBool::new(false),
            gone: AtomicBool::new(false),
            failure: Mutex::new(None),
            last: Mutex::new(None),
        }
    }

    /// This breakpoint, enabled or disabled, with what has happened to it.
    fn with_enabled(&self, enabled: bool) -> Self {
        let spec = BreakpointSpec { enabled, ..self.spec.clone() };
        let same = Self::new(self.id, self.owner, spec);
        same.times.store(self.times.load(Relaxed), Relaxed);
        same.hits.store(self.hits(), Relaxed);
        *held(&same.last) = self.last();
        same
    }

    /// How often it was hit: reached, with everything met that narrows it.
    #[must_use]
    pub fn hits(&self) -> u64 {
        self.hits.load(Relaxed)
    }

    /// Counts one time at its site, and whether that is a hit by its rule.
    pub fn reach(&self) -> bool {
        let time = self.times.fetch_add(1, Relaxed) + 1;
        let counts = self.spec.hits.counts(time);
        if counts {
            self.hits.fetch_add(1, Relaxed);
        }
        counts
    }

    /// Counts one time at its site if that is no hit, and nothing otherwise; whether it did, or no time counts any more.
    fn pass(&self) -> bool {
        let mut times = self.times.load(Relaxed);
        loop {
            if self.spec.hits.is_spent(times) {
                return true;
            }
            if self.spec.hits.counts(times + 1) {
                return false;
            }
            match self.times.compare_exchange_weak(times, times + 1, Relaxed, Relaxed) {
                Ok(_) => return true,
                Err(now) => times = now,
            }
        }
    }

    /// Whether it can never be hit again.
    #[must_use]
    pub fn is_spent(&self) -> bool {
        self.spec.hits.is_spent(self.times.load(Relaxed))
    }

    /// What of it failed, and why, if it ever did.
    #[must_use]
    pub fn failure(&self) -> Option<String> {
        held(&self.failure).clone()
    }

    /// Notes what failed, and why; true the first time, when that is worth telling.
    pub fn note_failure(&self, why: &str) -> bool {
        *held(&self.failure) = Some(why.to_owned());
        !self.failed.swap(true, Relaxed)
    }

    /// Whether the variable that it watches is gone.
    #[must_use]
    pub fn is_gone(&self) -> bool {
        self.gone.load(Relaxed)
    }

    /// Notes that the variable that it watches is gone.
    pub fn note_gone(&self) {
        self.gone.store(true, Relaxed);
    }

    /// Where it was hit last.
    #[must_use]
    pub fn last(&self) -> Option<Occasion> {
        held(&self.last).clone()
    }

    /// Notes where it was hit.
    pub fn note_last(&self, occasion: Occasion) {
        *held(&self.last) = Some(occasion);
    }

    /// The name, what its owner calls it, or the number as text.
    #[must_use]
    pub fn label(&self) -> String {
        self.spec.name.as_ref().or(self.spec.label.as_ref()).map_or_else(|| self.id.0.to_string(), Clone::clone)
    }
}
