//! Making the bodies that report some lines of a source, away from the states: the text is read and compiled in a state of its
//! own, on a thread of its own unless it is short, and the states load what came of it.

use std::collections::VecDeque;
use std::ffi::CString;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Condvar, LazyLock, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread;
use std::time::Duration;

use adzeman_core::source::{Line, LineSet};

use super::exchange::{Asked, Filters};
use super::known;
use crate::dialect::chunk::{Prototype, prototypes};
use crate::dialect::natives::Natives;
use crate::dialect::patches::{Patch, Refused, Safe, made_safe};
use crate::ffi::apart::in_new_state;
use crate::ffi::state::State;
use crate::text::assigned::Assignments;
use crate::text::counted::Counted;
use crate::text::filters::Filter;
use crate::text::statements::{NOT_PARSED, Statements};

pub(super) const OTHER_TREE: &str = "the text does not give the functions that run";
pub(super) const NOT_MADE: &str = "its bodies could not be made";

/// Texts as they were read, and bodies as they were made, that are kept for those who want the same: contexts with the same
/// script, and a breakpoint that is changed again and again.
const MOST_KEPT: usize = 64;
/// Bytes of texts of these.
const MOST_KEPT_BYTES: usize = 16 * 1024 * 1024;

/// What is to be made: bodies of a text that report some of its lines, behind filters where there are any, and some assignments.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Order {
    pub(super) text: Arc<str>,
    pub(super) chunk_name: CString,
    pub(super) asked: Asked,
}

/// What came of it.
#[derive(Debug)]
pub(super) struct Made {
    /// The lines that the bodies report, and those that need the hook, and why.
    pub(super) placed: LineSet,
    pub(super) refused: Vec<(Line, &'static str)>,
    /// The statements whose assignments the bodies tell of.
    pub(super) assigned: Assignments,
    /// The text compiled as it is.
    pub(super) plain: Arc<Vec<u8>>,
    /// The bodies that report; none where no line is placed, and nothing is assigned.
    pub(super) reporting: Option<Reporting>,
}

/// The text compiled with calls put in.
#[derive(Debug)]
pub(super) struct Reporting {
    pub(super) chunk: Vec<u8>,
    /// The constants that are called.
    pub(super) natives: Natives,
    /// What makes the filters safe.
    pub(super) patches: Vec<Patch>,
    /// What the bodies count.
    pub(super) counted: Vec<Arc<Counted>>,
}

pub(super) type Outcome = Result<Arc<Made>, &'static str>;

/// A place for what came of an order.
#[derive(Default)]
struct Slot {
    outcome: OnceLock<Outcome>,
    /// What is set once it is there.
    waiting: Mutex<Vec<Arc<AtomicBool>>>,
    /// How many wait for it.
    wanted: AtomicUsize,
}

/// An order that is being carried out; given up when it is dropped, unless others wait for the same.
pub(super) struct Pending(Arc<Slot>);

impl Drop for Pending {
    fn drop(&mut self) {
        self.0.wanted.fetch_sub(1, SeqCst);
    }
}

impl Pending {
    fn of(slot: Arc<Slot>) -> Self {
        slot.wanted.fetch_add(1, SeqCst);
        Self(slot)
    }

    /// What came of it, once it is done.
    pub(super) fn outcome(&self) -> Option<Outcome> {
        self.0.outcome.get().cloned()
    }
}

/// Texts and bodies that are kept.
#[derive(Default)]
struct Shelf {
    read: VecDeque<(Arc<str>, CString, Arc<Read>)>,
    made: VecDeque<(Order, Arc<Slot>)>,
    /// What the thread has not come to.
    orders: VecDeque<(Order, Arc<Slot>)>,
    has_thread: bool,
}

/// A text as it was read.
struct Read {
    statements: Statements,
    plain: Arc<Vec<u8>>,
}

static SHELF: LazyLock<Mutex<Shelf>> = LazyLock::new(Mutex::default);
/// Told when there are orders.
static ORDERED: Condvar = Condvar::new();
/// How long the thread waits for more to do.
const IDLE_FOR: Duration = Duration::from_secs(2);

fn shelf() -> MutexGuard<'static, Shelf> {
    lock(&SHELF)
}

/// Leaves out the oldest until what is kept is within its bounds.
fn keep_newest<T>(kept: &mut VecDeque<T>, bytes: impl Fn(&T) -> usize) {
    let mut held: usize = kept.iter().map(&bytes).sum();
    while kept.len() > MOST_KEPT || held > MOST_KEPT_BYTES && kept.len() > 1 {
        held -= kept.pop_front().as_ref().map_or(0, &bytes);
    }
}

/// Carries out an order at once if `at_once`, or if the same was carried out already; otherwise on another thread, which sets
/// `waits` when it is done.
pub(super) fn order(order: Order, at_once: bool, waits: &Arc<AtomicBool>) -> Pending {
    let mut held = shelf();
    // Those that count do so by numbers of their own.
    let is_shared = !order.asked.filters.values().any(Filter::counts);
    let known = held.made.iter().find(|(known, _)| is_shared && *known == order).map(|(_, slot)| slot.clone());
    let is_new = known.is_none();
    let slot = known.unwrap_or_default();
    let pending = Pending::of(slot.clone());
    if slot.outcome.get().is_some() {
        return pending;
    }
    if is_new && is_shared {
        held.made.push_back((order.clone(), slot.clone()));
        keep_newest(&mut held.made, |(order, _)| order.text.len());
    }
    if at_once {
        // Others may be at it; whoever is done first says what came of it.
        drop(held);
        carry_out(&order, &slot);
        return pending;
    }
    lock(&slot.waiting).push(waits.clone());
    if !is_new {
        return pending;
    }
    held.orders.push_back((order, slot));
    ORDERED.notify_one();
    if !held.has_thread {
        let started = thread::Builder::new().name("adzeman-bodies".to_owned()).spawn(carry_out_all);
        held.has_thread = started.is_ok();
        if let Err(error) = started {
            tracing::warn!(%error, "bodies are made on the script's own thread");
            let orders = std::mem::take(&mut held.orders);
            drop(held);
            orders.iter().for_each(|(order, slot)| carry_out(order, slot));
        }
    }
    pending
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The thread's work, until there has been nothing for a while.
fn carry_out_all() {
    loop {
        let has_none = |held: &mut Shelf| held.orders.is_empty();
        let waited = ORDERED.wait_timeout_while(shelf(), IDLE_FOR, has_none);
        let mut held = waited.unwrap_or_else(PoisonError::into_inner).0;
        let Some((order, slot)) = held.orders.pop_front() else {
            held.has_thread = false;
            return;
        };
        let is_wanted = slot.wanted.load(SeqCst) > 0;
        if !is_wanted {
            held.made.retain(|(_, kept)| !Arc::ptr_eq(kept, &slot));
        }
        drop(held);
        if is_wanted {
            carry_out(&order, &slot);
        }
    }
}

fn carry_out(order: &Order, slot: &Slot) {
    let outcome = catch_unwind(AssertUnwindSafe(|| make(order).map(Arc::new))).unwrap_or(Err(NOT_MADE));
    // It is given once.
    let _ = slot.outcome.set(outcome);
    lock(&slot.waiting).drain(..).for_each(|waits| waits.store(true, SeqCst));
}

fn make(order: &Order) -> Result<Made, &'static str> {
    in_new_state(|state| {
        let read = read(state, order)?;
        let (placed, refused) = read.statements.places(&order.asked.lines);
        let variables = &order.asked.variables;
        let assigned = if variables.is_empty() { None } else { Assignments::of(&order.text, variables) };
        let assigned = assigned.unwrap_or_default();
        let making = Making { state, order, statements: &read.statements, placed: &placed, assigned: &assigned };
        let reports = !placed.is_empty() || !assigned.ends.is_empty();
        let reporting = reports.then(|| making.reporting(&read.plain)).transpose()?;
        Ok(Made { placed, refused, assigned, plain: read.plain.clone(), reporting })
    })
    .unwrap_or(Err(NOT_MADE))
}

/// A text and what it compiles to as it is.
fn read(state: State, order: &Order) -> Result<Arc<Read>, &'static str> {
    let is_same = |(text, name, _): &&(Arc<str>, CString, Arc<Read>)| *text == order.text && *name == order.chunk_name;
    if let Some((.., read)) = shelf().read.iter().find(is_same) {
        return Ok(read.clone());
    }
    let statements = Statements::of(&order.text).ok_or(NOT_PARSED)?;
    let plain = Arc::new(compile(state, &order.text, order).ok_or(NOT_PARSED)?);
    let read = Arc::new(Read { statements, plain });
    let mut held = shelf();
    held.read.push_back((order.text.clone(), order.chunk_name.clone(), read.clone()));
    keep_newest(&mut held.read, |(text, ..)| text.len());
    Ok(read)
}

/// A text under the name of the one that is ordered, compiled; `None` when it does not compile.
fn compile(state: State, text: &str, order: &Order) -> Option<Vec<u8>> {
    state.load(text, &order.chunk_name).ok()?;
    let chunk = state.dump(-1);
    state.pop(1);
    Some(chunk)
}

struct Making<'a> {
    state: State,
    order: &'a Order,
    statements: &'a Statements,
    placed: &'a LineSet,
    assigned: &'a Assignments,
}

impl Making<'_> {
    /// Bodies that report on their lines, behind those of the filters that do.
    fn reporting(&self, plain: &[u8]) -> Result<Reporting, &'static str> {
        let natives = unused(&self.order.text, &self.order.asked.filters);
        let plain = prototypes(plain).ok_or(OTHER_TREE)?;
        let calls = self.compile(&natives, &Filters::new()).ok_or(OTHER_TREE)?;
        let with_calls = prototypes(&calls).filter(|calls| fits(calls, &plain)).ok_or(OTHER_TREE)?;
        let filtered = self.filtered(&with_calls, &plain, &natives);
        let plainly = || (Safe { chunk: calls.clone(), patches: Vec::new() }, Vec::new());
        let (Safe { chunk, patches }, counted) = filtered.unwrap_or_else(plainly);
        Ok(Reporting { chunk, natives, patches, counted })
    }

    fn compile(&self, natives: &Natives, filters: &Filters) -> Option<Vec<u8>> {
        let text = self.statements.with_calls(&self.order.text, self.placed, self.assigned, natives, filters);
        compile(self.state, &text, self.order)
    }

    /// The same with those of the filters that do, made safe, and what these count; `None` when none of them does.
    fn filtered(
        &self,
        calls: &[Prototype<'_>],
        plain: &[Prototype<'_>],
        natives: &Natives,
    ) -> Option<(Safe, Vec<Arc<Counted>>)> {
        let mut left: Filters = self.order.asked.filters.clone();
        left.retain(|line, _| self.placed.contains(*line));
        if left.is_empty() || !known::are_known() {
            return None;
        }
        let counted = left.values_mut().filter_map(Filter::number).collect();
        loop {
            let refused = match made_safe(calls, &self.compile(natives, &left)?, natives) {
                Ok(safe) => {
                    let fits = prototypes(&safe.chunk).is_some_and(|held| fits(&held, plain));
                    return fits.then_some((safe, counted));
                }
                Err(refused) => refused,
            };
            let mut is_changed = false;
            left.retain(|line, filter| {
                let (is_left, is_other) = taught(filter, *line, &refused);
                is_changed |= is_other;
                is_left && filter.text(natives).is_some()
            });
            if left.is_empty() || !is_changed {
                return None;
            }
        }
    }
}

/// Has a filter take notice of what was refused of it. Answers whether anything of it is left, and whether it is another one.
fn taught(filter: &mut Filter, line: Line, refused: &Refused) -> (bool, bool) {
    let mut is_other = false;
    for name in refused.globals.get(&line).into_iter().flatten() {
        is_other |= filter.is_global(name);
    }
    if is_other || refused.without_environment.contains(&line) && filter.lacks_environment() {
        return (true, true);
    }
    let is_refused = refused.globals.contains_key(&line)
        || refused.without_environment.contains(&line)
        || refused.lines.contains(&line);
    (!is_refused || filter.weaken(), is_refused)
}

/// Whether each function of one chunk can stand where that of another one does.
fn fits(chunk: &[Prototype<'_>], other: &[Prototype<'_>]) -> bool {
    let shape = |held: &Prototype<'_>| (held.first, held.last, held.captured_count, held.inside);
    chunk.iter().map(shape).eq(other.iter().map(shape))
}

/// Texts that neither the script nor a filter holds.
fn unused(text: &str, filters: &Filters) -> Natives {
    let of_filter = |filter: &Filter| filter.text(&Natives::default()).unwrap_or_default();
    let filters: Vec<String> = filters.values().map(of_filter).collect();
    Natives::unused(|held| !text.contains(held) && !filters.iter().any(|filter| filter.contains(held)))
}
