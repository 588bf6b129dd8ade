//! Breakpoints: a site, what narrows it, and how often it was hit.

mod store;

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Mutex, PoisonError};

use serde::{Deserialize, Serialize};

use crate::source::{Line, SourceId};

pub use store::{Armed, Binding, BreakpointStore, Resolved, Status};

/// Number of a breakpoint, counted from 1 and never used twice within a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct BreakpointId(pub u64);

/// Who set a breakpoint; when the owner leaves, its breakpoints go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct OwnerId(pub u64);

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
        /// The name as given: `fare`, `tariff.fare`, `boat:length`.
        name: String,
    },
    /// The first script line that handles this event.
    Event {
        /// The kind's name, such as `frame.update`.
        kind: String,
    },
}

/// What a person asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BreakpointSpec {
    /// Where.
    pub site: Site,
    /// An expression in the script's language; the breakpoint counts only when it is true.
    pub condition: Option<String>,
    /// Only while an event about this subject is handled.
    pub subject: Option<String>,
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
    hits: AtomicU64,
    failed: AtomicBool,
    failure: Mutex<Option<String>>,
}

impl Breakpoint {
    fn new(id: BreakpointId, owner: OwnerId, spec: BreakpointSpec) -> Self {
        Self { id, owner, spec, hits: AtomicU64::new(0), failed: AtomicBool::new(false), failure: Mutex::new(None) }
    }

    /// How often it stopped a context.
    #[must_use]
    pub fn hits(&self) -> u64 {
        self.hits.load(Relaxed)
    }

    /// Counts one stop.
    pub fn count_hit(&self) {
        self.hits.fetch_add(1, Relaxed);
    }

    /// Why its condition failed to evaluate, if it ever did.
    #[must_use]
    pub fn failure(&self) -> Option<String> {
        self.failure.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Notes that the condition failed; true the first time, when the failure is worth a stop.
    pub fn note_failure(&self, why: &str) -> bool {
        *self.failure.lock().unwrap_or_else(PoisonError::into_inner) = Some(why.to_owned());
        !self.failed.swap(true, Relaxed)
    }
}

/// A place in a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SourceLine {
    /// Which source.
    pub source: SourceId,
    /// Which line of it.
    pub line: Line,
}
