//! Functions that nobody told of, of sources whose lines are armed: a loader of the host's own has loaded a chunk once more. They
//! are looked for in the background, among what was made since the last look.

use std::cell::{Cell, RefCell};
use std::time::{Duration, Instant};

use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};

use super::Arms;
use super::exchange::Exchanges;
use crate::ffi::objects::{Object, Progress, Sweep};
use crate::ffi::state::{Slot, Type};
use crate::ffi::watch::report;

/// How long is looked at a time, and how much longer than that it then is not.
const SLICE: Duration = Duration::from_micros(500);
const REST: u32 = 100;

/// What is looked for.
pub(super) struct Renewal {
    sweep: Sweep,
    next: Cell<Option<Instant>>,
    /// What this walk has found so far, by the chunk name.
    found: RefCell<HashMap<String, Vec<u8>>>,
}

impl Default for Renewal {
    fn default() -> Self {
        Self { sweep: Sweep::kept_in(Slot::Renewal), next: Cell::default(), found: RefCell::default() }
    }
}

/// A function of a chunk that was loaded once more without a word.
pub(crate) struct Renewed {
    pub(crate) chunk_name: String,
    pub(crate) compiled: Vec<u8>,
}

impl Arms {
    /// Looks for a moment, at most a hundredth of the time; answers one function of each chunk for which any were found.
    pub(crate) fn look_for_renewed(&self) -> Vec<Renewed> {
        if self.exchanges.borrow().reporting.is_empty() {
            return Vec::new();
        }
        let began = Instant::now();
        if self.renewal.next.get().is_some_and(|next| began < next) {
            return Vec::new();
        }
        let names = self.settled_chunks();
        report(self.renewal.sweep.only_new(self.main));
        let mut passed = HashSet::default();
        let stepped = self.renewal.sweep.step(self.main, began + SLICE, &mut |object| {
            if object.kind() == Type::Function && passed.insert(object.body().address()) {
                self.see_renewed(&names, object);
            }
        });
        self.renewal.next.set(Some(Instant::now() + began.elapsed() * REST));
        match stepped {
            Ok(Progress::Going) => return Vec::new(),
            Ok(_) => {}
            Err(error) => report(Err(error)),
        }
        let found = self.renewal.found.take().into_iter();
        // They may have been told of by now.
        let found = found.filter(|(chunk_name, _)| names.contains(chunk_name));
        found.map(|(chunk_name, compiled)| Renewed { chunk_name, compiled }).collect()
    }

    /// The chunks whose lines report by themselves in every function there was.
    fn settled_chunks(&self) -> HashSet<String> {
        let exchanges = self.exchanges.borrow();
        let settled = exchanges.settled();
        settled.filter_map(|source| self.scripts.chunk_name_of(source)).collect()
    }

    fn see_renewed(&self, names: &HashSet<String>, function: Object<'_>) {
        if self.exchanges.borrow().knows(function) || !function.push(self.main) {
            return;
        }
        let chunk_name = self.main.function_info(-1).chunk_name;
        if names.contains(&chunk_name) {
            self.renewal.found.borrow_mut().entry(chunk_name).or_insert_with(|| self.main.dump(-1));
        }
        self.main.pop(1);
    }

    /// Whether a function is of a body that was made here.
    pub(crate) fn has_body(&self, prototype: usize) -> bool {
        self.exchanges.borrow().positions.contains_key(&prototype)
    }
}

impl Exchanges {
    /// The sources of which every function there was has the body that it should have.
    fn settled(&self) -> impl Iterator<Item = adzeman_core::source::SourceId> {
        let is_settled = |source| self.is_gone_through(source) && !self.strangers.contains(&source);
        self.sources
            .iter()
            .filter(move |(source, held)| held.current.is_some() && is_settled(**source) && !self.is_left(**source))
            .map(|(source, _)| *source)
    }

    fn knows(&self, function: Object<'_>) -> bool {
        self.positions.contains_key(&function.body().address()) || self.roots.contains(&function.address())
    }
}
