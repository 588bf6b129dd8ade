//! The host's numbers over time, while someone is attached: those of its author, the memory of each context, and the process.

use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use adzeman_core::figures::{Cause, Course, FigureNow};
use adzeman_core::monitor::{Every, Pace};

use super::{lock, process};

/// The share of the time that the figures of the author may take, each: one percent.
const SHARE: f64 = 0.01;
/// Between two samples of the process.
const PROCESS_EVERY: Duration = Duration::from_secs(1);
/// Contexts of which the memory is followed.
const MOST_CONTEXTS: usize = 1000;
/// What is behind the name of a context.
const MEMORY: &str = ".memory";

/// A number of the host that its author opens: how it is called and asked for, what it is measured in, and what is usual.
///
/// It is asked for on threads that raise events, after an event, as often as it takes no more than 1% of the time; while nobody is
/// attached, never. It must not wait for a lock that is held while an event is raised: use `try_lock`, and answer `None` where that
/// is taken.
///
/// ```
/// use adzeman::{Figure, Host, Listen};
/// use std::sync::{Arc, Mutex};
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let waiting = Arc::new(Mutex::new(vec!["Heron"]));
/// let host = Host::builder("canal").start(Listen::Off)?;
/// let boats = Figure::new("boats.waiting", move || Some(waiting.try_lock().ok()?.len() as f64));
/// host.figure(boats.describe("boats that wait at locks").in_unit("boats").usually(0.0..=6.0));
/// # Ok(())
/// # }
/// ```
#[derive(Clone)]
pub struct Figure {
    name: String,
    doc: String,
    unit: String,
    usual: Option<(f64, f64)>,
    ask: Arc<dyn Fn() -> Option<f64> + Send + Sync>,
}

impl Figure {
    /// A number of this name. One that cannot be told at a moment is `None` then.
    pub fn new<V: Into<Option<f64>>>(name: &str, ask: impl Fn() -> V + Send + Sync + 'static) -> Self {
        let ask = Arc::new(move || ask().into());
        Self { name: name.to_owned(), doc: String::new(), unit: String::new(), usual: None, ask }
    }

    /// Says what it is, in a few words.
    #[must_use]
    pub fn describe(mut self, doc: &str) -> Self {
        doc.clone_into(&mut self.doc);
        self
    }

    /// Says what it is measured in.
    #[must_use]
    pub fn in_unit(mut self, unit: &str) -> Self {
        unit.clone_into(&mut self.unit);
        self
    }

    /// Says what is usual.
    #[must_use]
    pub fn usually(mut self, range: RangeInclusive<f64>) -> Self {
        self.usual = Some((*range.start(), *range.end()));
        self
    }
}

/// An event that has ended, as far as figures want to know of it.
pub(crate) struct Ended<'a> {
    pub(crate) number: u64,
    pub(crate) kind: &'a str,
    pub(crate) subject: Option<&'a str>,
    /// When it ended, by the host's clock.
    pub(crate) at: Duration,
}

/// A course, with how many events had ended that may have changed it when it was sampled last.
#[derive(Default)]
struct Followed {
    course: Course,
    seen: usize,
}

impl Followed {
    fn note(&mut self, value: f64, ended: &Ended<'_>, events: usize) {
        let since = events.wrapping_sub(self.seen);
        self.seen = events;
        self.course.note(ended.at.as_secs_f64(), value, || {
            let event = ended.subject.map_or(ended.kind.to_owned(), |subject| format!("{} of {subject}", ended.kind));
            Some(Cause { event, number: ended.number, events: u64::try_from(since).unwrap_or(0) })
        });
    }
}

struct Own {
    figure: Figure,
    pace: Pace,
    followed: Followed,
    /// It has panicked, and is not asked for any more.
    is_broken: bool,
}

#[derive(Default)]
struct State {
    own: Vec<Own>,
    /// The memory of each context, by its number.
    memory: BTreeMap<i64, (String, Followed)>,
    process: Vec<(process::Kind, Course)>,
    /// Since when they are followed, by the host's clock.
    since: Option<Duration>,
    /// When the process was sampled last, and the time on the processor that it had taken.
    sampled: Option<(Instant, process::Counted)>,
}

/// The figures of a host.
#[derive(Default)]
pub(crate) struct Figures {
    state: Mutex<State>,
    has_own: AtomicBool,
    /// How often someone attached where nobody was.
    begun: AtomicU64,
    /// Events that have ended, on all threads, and those of them of which no context is known.
    events: AtomicUsize,
    unclear: AtomicUsize,
}

impl Figures {
    /// Adds one; it takes the place of one of the same name.
    pub(crate) fn add(&self, figure: Figure) {
        let mut state = lock(&self.state);
        state.own.retain(|own| own.figure.name != figure.name);
        let pace = Pace::new(Every::Time(Duration::ZERO), SHARE);
        state.own.push(Own { figure, pace, followed: Followed::default(), is_broken: false });
        self.has_own.store(true, Ordering::SeqCst);
    }

    /// How often courses were begun.
    pub(crate) fn begun(&self) -> u64 {
        self.begun.load(Ordering::Relaxed)
    }

    /// An event has ended; `is_clear` is whether it is known which contexts had a part in it: of some of these, what they have in use now.
    pub(crate) fn note(
        &self,
        ended: &Ended<'_>,
        is_clear: bool,
        memory: impl Iterator<Item = (i64, impl FnOnce() -> String, u64)>,
    ) {
        let events = self.events.fetch_add(1, Ordering::Relaxed) + 1;
        let mut memory = memory.peekable();
        if memory.peek().is_some() {
            let mut state = lock(&self.state);
            for (id, name, bytes) in memory {
                if !state.memory.contains_key(&id) {
                    if state.memory.len() >= MOST_CONTEXTS {
                        continue;
                    }
                    let seen = self.unclear.load(Ordering::Relaxed);
                    state.memory.insert(id, (name(), Followed { course: Course::that_falls(), seen }));
                }
                if let Some((_, followed)) = state.memory.get_mut(&id) {
                    // This one, and those of which it is not known whose they were.
                    let unclear = self.unclear.load(Ordering::Relaxed);
                    followed.seen = followed.seen.wrapping_sub(1);
                    #[expect(clippy::cast_precision_loss, reason = "no state has 2^53 bytes")]
                    followed.note(bytes as f64, ended, unclear);
                }
            }
        }
        if !is_clear {
            self.unclear.fetch_add(1, Ordering::Relaxed);
        }
        if self.has_own.load(Ordering::Relaxed) {
            self.ask_own(ended, events);
        }
    }

    /// Asks for those of the author that are due. No lock is held while the host's own functions run.
    fn ask_own(&self, ended: &Ended<'_>, events: usize) {
        let due: Vec<Figure> = {
            let mut state = lock(&self.state);
            let asked = state.own.iter_mut().filter(|own| !own.is_broken);
            asked.filter_map(|own| own.pace.is_due(ended.at).then(|| own.figure.clone())).collect()
        };
        for figure in due {
            let begun = Instant::now();
            let asked = catch_unwind(AssertUnwindSafe(|| (figure.ask)()));
            let cost = begun.elapsed();
            let mut state = lock(&self.state);
            let Some(own) = state.own.iter_mut().find(|own| own.figure.name == figure.name) else { continue };
            own.pace.taken(ended.at, cost);
            match asked {
                Ok(Some(value)) => own.followed.note(value, ended, events),
                Ok(None) => {}
                Err(_) => {
                    tracing::error!(
                        figure = figure.name,
                        "a figure of the host has panicked; it is not asked for any more"
                    );
                    own.is_broken = true;
                }
            }
        }
    }

    /// Takes a sample of the process, if it is time to. Called by a thread that no script runs on; no lock is held while the system is
    /// asked, as events wait for it.
    pub(crate) fn sample_process(&self, now: Duration) {
        let is_due = |state: &State| state.sampled.as_ref().is_none_or(|(at, _)| at.elapsed() >= PROCESS_EVERY);
        if !is_due(&lock(&self.state)) {
            return;
        }
        let Ok(counted) = process::count() else { return };
        let mut state = lock(&self.state);
        if state.since.is_none() {
            // They have left meanwhile.
            return;
        }
        let before = state.sampled.replace((Instant::now(), counted.clone()));
        let values = [
            (process::Kind::Memory, counted.memory_bytes),
            (process::Kind::Processor, before.and_then(|(at, before)| counted.processor_since(&before, at.elapsed()))),
        ];
        for (kind, value) in values {
            let Some(value) = value else { continue };
            let at = state.process.iter().position(|(held, _)| *held == kind).unwrap_or_else(|| {
                state.process.push((kind, Course::default()));
                state.process.len() - 1
            });
            state.process[at].1.note(now.as_secs_f64(), value, || None);
        }
    }

    /// Someone attaches, at this moment of the host's clock; whether nobody was there.
    pub(crate) fn begin(&self, now: Duration) -> bool {
        let mut state = lock(&self.state);
        let is_first = state.since.is_none();
        self.begun.fetch_add(u64::from(is_first), Ordering::Relaxed);
        state.since.get_or_insert(now);
        is_first
    }

    /// Since when they are followed.
    pub(crate) fn since(&self) -> Duration {
        lock(&self.state).since.unwrap_or_default()
    }

    /// Nobody is attached any more: the next one begins anew.
    pub(crate) fn is_left(&self) {
        let mut state = lock(&self.state);
        state.own.iter_mut().for_each(|own| own.followed = Followed::default());
        state.memory.clear();
        state.process.clear();
        (state.sampled, state.since) = (None, None);
    }

    /// A context is closed.
    pub(crate) fn context_gone(&self, id: i64) {
        lock(&self.state).memory.remove(&id);
    }

    /// Those of the author.
    pub(crate) fn own(&self) -> Vec<FigureNow> {
        let state = lock(&self.state);
        let now = |own: &Own| {
            let Figure { name, doc, unit, usual, .. } = &own.figure;
            let now = own.followed.course.now(name, doc, unit, *usual);
            let why =
                own.is_broken.then(|| "the host's function for it has panicked, and is not asked any more".to_owned());
            FigureNow { why, ..now }
        };
        state.own.iter().map(now).collect()
    }

    /// What a context has in use.
    pub(crate) fn memory_of(&self, id: i64) -> Option<FigureNow> {
        let state = lock(&self.state);
        let (name, followed) = state.memory.get(&id)?;
        Some(followed.course.now(&format!("{name}{MEMORY}"), "what its engine has in use", "B", None))
    }

    /// What the system says of the process.
    pub(crate) fn process(&self) -> Vec<FigureNow> {
        let state = lock(&self.state);
        let known =
            |kind: process::Kind| state.process.iter().find(|(held, _)| *held == kind).map(|(_, course)| course);
        process::now(known)
    }

    /// The course of a figure, with what it is.
    pub(crate) fn course(&self, name: &str) -> Option<(FigureNow, Course)> {
        let state = lock(&self.state);
        if let Some(own) = state.own.iter().find(|own| own.figure.name == name) {
            let Figure { doc, unit, usual, .. } = &own.figure;
            let course = own.followed.course.clone();
            return Some((course.now(name, doc, unit, *usual), course));
        }
        let of_context = name.strip_suffix(MEMORY).and_then(|context| {
            state.memory.values().find(|(held, _)| held == context).map(|(_, followed)| followed.course.clone())
        });
        if let Some(course) = of_context {
            return Some((course.now(name, "what its engine has in use", "B", None), course));
        }
        let (kind, course) = state.process.iter().find(|(kind, _)| kind.name() == name)?;
        Some((course.now(name, "", kind.unit(), None), course.clone()))
    }

    /// The names of all that have a course.
    pub(crate) fn names(&self) -> Vec<String> {
        let state = lock(&self.state);
        let own = state.own.iter().map(|own| own.figure.name.clone());
        let memory = state.memory.values().map(|(name, _)| format!("{name}{MEMORY}"));
        own.chain(memory).chain(state.process.iter().map(|(kind, _)| kind.name().to_owned())).collect()
    }
}
