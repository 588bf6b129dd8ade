//! Samples of the stack, taken by the hook where a signal has asked for one.

use std::cell::{Cell, RefCell};
use std::time::{Duration, Instant};

use rustc_hash::FxHashMap as HashMap;

use super::state::State;
use super::whereabouts::{FINALIZER, SCRIPT};

/// Frames of a stack that are kept, the innermost ones, and stacks that are told apart.
const MOST_FRAMES: usize = 200;
const MOST_STACKS: usize = 20_000;

/// A frame: the address of what tells its function from others, and its line.
pub(crate) type SampledFrame = (usize, u32);
/// A stack: the kind of the event that is handled, by its number, and the frames, the innermost first.
pub(crate) type SampledStack = (usize, Vec<SampledFrame>);

/// A function as it was met first.
#[derive(Debug, Clone)]
pub(crate) struct Met {
    /// The name that it was called by.
    pub(crate) name: Option<String>,
    /// The chunk and the line where it is defined; nothing for a native one.
    pub(crate) defined: Option<(String, u32)>,
    pub(crate) is_main: bool,
}

/// What was sampled.
#[derive(Debug, Default)]
pub(crate) struct Samples {
    pub(crate) stacks: HashMap<SampledStack, u64>,
    pub(crate) functions: HashMap<usize, Met>,
    /// The kinds of events, and none first.
    pub(crate) events: Vec<Option<String>>,
    pub(crate) spent: Duration,
}

/// The samples of one state.
#[derive(Default)]
pub(crate) struct Profile {
    is_on: Cell<bool>,
    samples: RefCell<Samples>,
    scratch: RefCell<Vec<SampledFrame>>,
}

impl Profile {
    pub(crate) fn is_on(&self) -> bool {
        self.is_on.get()
    }

    pub(crate) fn begin(&self) {
        *self.samples.borrow_mut() = Samples::default();
        self.is_on.set(true);
    }

    pub(crate) fn end(&self) -> Samples {
        self.is_on.set(false);
        self.samples.take()
    }

    /// Takes the stack of a thread that runs, as so many samples. `inside` is what ran when the first of them was asked for: a native
    /// function that has returned since, if it is one, was called by the innermost function.
    pub(crate) fn take(&self, state: State, (count, inside): (usize, usize), event: Option<String>) {
        let begun = Instant::now();
        let mut samples = self.samples.borrow_mut();
        let samples = &mut *samples;
        let mut frames = self.scratch.borrow_mut();
        frames.clear();
        if inside >= FINALIZER && inside != SCRIPT {
            frames.push((inside, 0));
        }
        state.for_each_level(|_, function| {
            let (key, line) = match function.definition() {
                Some(definition) => (definition.prototype, function.current_line()),
                None => {
                    function.push_function();
                    let key = state.address_at(-1);
                    state.pop(1);
                    (key, 0)
                }
            };
            samples.functions.entry(key).or_insert_with(|| {
                let info = function.info();
                let defined = (!info.is_native).then_some((info.chunk_name, info.first_line));
                Met { name: info.name, defined, is_main: info.is_main }
            });
            frames.push((key, line));
            frames.len() < MOST_FRAMES
        });
        let event = samples.events.iter().position(|held| *held == event).unwrap_or_else(|| {
            samples.events.push(event);
            samples.events.len() - 1
        });
        let count = u64::try_from(count).unwrap_or(1);
        let is_full = samples.stacks.len() >= MOST_STACKS;
        let stack = (event, std::mem::take(&mut *frames));
        match samples.stacks.get_mut(&stack) {
            Some(held) => *held += count,
            None if is_full => *samples.stacks.entry((event, Vec::new())).or_default() += count,
            None => {
                samples.stacks.insert((stack.0, stack.1.clone()), count);
            }
        }
        *frames = stack.1;
        samples.spent += begun.elapsed();
    }
}
