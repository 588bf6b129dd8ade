//! What an evaluation may take, and how far it has come. The hooks that ask are in [`ffi::limit`](crate::ffi::limit).

use std::cell::{Cell, RefCell};
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering::Relaxed};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use adzeman_core::engine::EngineError;
use adzeman_core::evaluation::{Allowance, Cancel, UnderWay};

use super::limit::{Changed, native_name};
use super::state::State;

/// An evaluation under way, as other threads see it.
#[derive(Debug, Default)]
pub(crate) struct Progress {
    /// 0 for none.
    number: AtomicU64,
    /// `u64::MAX` for no limit.
    milliseconds: AtomicU64,
    /// The address of the native function that was called last; 0 for none.
    native: AtomicUsize,
    /// Its name, where the address does not tell.
    name: Mutex<Option<String>>,
    cancel: Mutex<Cancel>,
}

impl Progress {
    pub(crate) fn under_way(&self) -> Option<UnderWay> {
        let number = self.number.load(Relaxed);
        if number == 0 {
            return None;
        }
        let address = self.native.load(Relaxed);
        let named = || self.name.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let milliseconds = self.milliseconds.load(Relaxed);
        Some(UnderWay {
            number,
            time: (milliseconds != u64::MAX).then(|| Duration::from_millis(milliseconds)),
            is_cancelled: self.cancel.lock().unwrap_or_else(PoisonError::into_inner).is_cancelled(),
            native: native_name(address).or_else(|| named().filter(|_| address != 0)),
        })
    }

    fn show(&self, running: Option<&Running>) {
        let (number, milliseconds, cancel) = match running {
            None => (0, 0, Cancel::default()),
            Some(running) => {
                let time = running.time.map(|time| u64::try_from(time.as_millis()).unwrap_or(u64::MAX - 1));
                (running.number, time.unwrap_or(u64::MAX), running.cancel.clone())
            }
        };
        self.milliseconds.store(milliseconds, Relaxed);
        *self.cancel.lock().unwrap_or_else(PoisonError::into_inner) = cancel;
        self.native.store(0, Relaxed);
        self.number.store(number, Relaxed);
    }

    /// A native function is called; `name` is asked for when its address does not tell which.
    pub(crate) fn note_native(&self, address: usize, name: impl FnOnce() -> Option<String>) {
        if native_name(address).is_none() {
            *self.name.lock().unwrap_or_else(PoisonError::into_inner) = name();
        }
        self.native.store(address, Relaxed);
    }
}

/// What limits the evaluation under way.
struct Running {
    number: u64,
    /// The thread that was made for it.
    base: State,
    /// Nothing for what has no limit.
    time: Option<Duration>,
    deadline: Option<Instant>,
    /// When it was looked at last, and how long after the look before that.
    looked_at: Instant,
    took: Duration,
    instructions: u64,
    left: u64,
    /// By how much the state may grow, and to how much, where the binding cannot see to it.
    memory_bytes: usize,
    most_bytes: Option<usize>,
    cancel: Cancel,
    over: Option<EngineError>,
    held: Changed,
}

/// The evaluations of a context, the innermost one being limited.
#[derive(Default)]
pub(crate) struct Bounds {
    running: RefCell<Option<Running>>,
    /// Whether the innermost one has a limit: what every hook asks.
    limited: Cell<bool>,
    /// Whether its hook is looking.
    pub(crate) is_at_work: Cell<bool>,
    pub(crate) progress: Arc<Progress>,
    last_number: AtomicU64,
}

/// An evaluation around the one that began; put back by [`Bounds::end`].
pub(crate) struct Outer(Option<Running>);

impl Bounds {
    /// An evaluation begins on a thread made for it. `most_bytes` is how far the state may grow, where that has to be counted.
    pub(crate) fn begin(&self, base: State, allowance: &Allowance, most_bytes: Option<usize>, held: Changed) -> Outer {
        self.replace(Running {
            number: self.last_number.fetch_add(1, Relaxed) + 1,
            base,
            time: Some(allowance.time),
            deadline: Instant::now().checked_add(allowance.time),
            looked_at: Instant::now(),
            took: Duration::ZERO,
            instructions: allowance.instructions,
            left: allowance.instructions,
            memory_bytes: allowance.memory_bytes,
            most_bytes,
            cancel: allowance.cancel.clone(),
            over: None,
            held,
        })
    }

    /// The same without a limit but that on memory, until it is cancelled.
    pub(crate) fn begin_open(&self, base: State, cancel: &Cancel, memory_bytes: usize, held: Changed) -> Outer {
        self.replace(Running {
            number: self.last_number.fetch_add(1, Relaxed) + 1,
            base,
            time: None,
            deadline: None,
            looked_at: Instant::now(),
            took: Duration::ZERO,
            instructions: u64::MAX,
            left: u64::MAX,
            memory_bytes,
            most_bytes: None,
            cancel: cancel.clone(),
            over: None,
            held,
        })
    }

    fn replace(&self, running: Running) -> Outer {
        self.progress.show(Some(&running));
        self.limited.set(running.time.is_some());
        Outer(self.running.replace(Some(running)))
    }

    /// It is done. Answers what has to be put back, and why it was cut off, if it was.
    pub(crate) fn end(&self, outer: Outer) -> (Changed, Option<EngineError>) {
        self.progress.show(outer.0.as_ref());
        self.limited.set(outer.0.as_ref().is_some_and(|outer| outer.time.is_some()));
        let done = self.running.replace(outer.0);
        done.map(|done| (done.held, done.over)).unwrap_or_default()
    }

    /// Whether an evaluation with a limit is under way.
    #[inline]
    pub(crate) fn is_limited(&self) -> bool {
        self.limited.get()
    }

    /// Whether one without is, as the innermost one.
    pub(crate) fn is_open(&self) -> bool {
        self.running.borrow().as_ref().is_some_and(|running| running.time.is_none())
    }

    /// Whether this thread was made for the evaluation under way.
    pub(crate) fn is_base(&self, thread: State) -> bool {
        self.running.borrow().as_ref().is_some_and(|running| running.base == thread)
    }

    /// Lends what has to be put back.
    pub(crate) fn with_held<T>(&self, look: impl FnOnce(&mut Changed) -> T) -> Option<T> {
        self.running.borrow_mut().as_mut().map(|running| look(&mut running.held))
    }

    /// Takes instructions from what may still be used. Whether the evaluation is to be cut off.
    pub(crate) fn spend(&self, instructions: u64) -> bool {
        let mut running = self.running.borrow_mut();
        let Some(running) = running.as_mut() else { return false };
        if running.over.is_none() {
            running.over = running.look(instructions);
        }
        running.over.is_some()
    }

    /// How long the last look was after the one before.
    pub(crate) fn took(&self) -> Duration {
        self.running.borrow().as_ref().map_or(Duration::ZERO, |running| running.took)
    }

    /// Whether it was cut off.
    pub(crate) fn is_over(&self) -> bool {
        self.running.borrow().as_ref().is_some_and(|running| running.over.is_some())
    }

    /// How far the state may grow, where that has to be counted.
    pub(crate) fn most_bytes(&self) -> Option<usize> {
        self.running.borrow().as_ref().and_then(|running| running.most_bytes)
    }

    /// It has made more than it may.
    pub(crate) fn is_over_memory(&self) {
        if let Some(running) = self.running.borrow_mut().as_mut() {
            running.over.get_or_insert(EngineError::OverMemory { bytes: running.memory_bytes });
        }
    }
}

impl Running {
    fn look(&mut self, instructions: u64) -> Option<EngineError> {
        if self.cancel.is_cancelled() {
            return Some(EngineError::Cancelled);
        }
        if self.left < instructions {
            return Some(EngineError::OverLimit { instructions: self.instructions });
        }
        let time = self.time?;
        self.left -= instructions;
        let now = Instant::now();
        self.took = now.duration_since(self.looked_at);
        self.looked_at = now;
        let is_over = self.deadline.is_some_and(|deadline| now >= deadline);
        is_over.then_some(EngineError::OverTime { time })
    }
}
