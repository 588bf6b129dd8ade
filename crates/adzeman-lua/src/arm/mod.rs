//! Arming lines: by exchanged bodies where that can be, by the line hook elsewhere.

mod exchange;
mod forward;
pub(crate) mod known;
mod reload;
mod renewal;
mod search;
mod settling;
mod workshop;

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::WantedLines;
use adzeman_core::engine::Supervisor;
use adzeman_core::sharing::Shared;
use adzeman_core::source::{Line, LineSet, SourceId, SourceLine};
use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};

use self::exchange::{Asked, Exchanges};
use self::forward::Late;
pub(crate) use self::reload::{Alive, prepare_reload};
use self::renewal::Renewal;
pub(crate) use self::renewal::Renewed;
use self::search::Search;
pub(crate) use self::search::prepare;
use self::settling::Settling;
use self::workshop::{Made, Order, Outcome, Pending, order};
use crate::ffi::body::{Body, with_body};
use crate::ffi::layout::{self, Definition};
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::walk;
use crate::ffi::watch::Watch;
use crate::scripts::Scripts;
use crate::text::statements::NOT_PARSED;

const NOT_KNOWN: &str = "the layout of this engine is not known";
const ARMING: &str = "it is being armed: its functions are looked for";
const STRANGE: &str = "a function there is not as its text says";
const BLIND_IN_FINALIZERS: &str = "Lua switches hooks off in finalizers, so it is not stopped at in one";
const TOO_LARGE: &str = "the state is too large to be walked whole";

/// Bodies are made on the script's own thread where there is little to do: for so long at each change, of texts that are not
/// longer, and for so many of them in all.
const MADE_AT_ONCE_FOR: Duration = Duration::from_micros(500);
const MADE_AT_ONCE_BYTES: usize = 4096;
const MADE_AT_ONCE: u32 = 32;

/// Names of variables, by the sources whose functions may assign them.
pub(crate) type Variables = BTreeMap<SourceId, BTreeSet<String>>;

/// The lines of one state, as they are armed.
pub(crate) struct Arms {
    main: State,
    watch: Rc<Watch>,
    scripts: Rc<Scripts>,
    supervisor: Shared<dyn Supervisor>,
    exchanges: RefCell<Exchanges>,
    search: Search,
    renewal: Renewal,
    late: Cell<Late>,
    made_at_once: Cell<u32>,
    /// What is wanted.
    wanted: RefCell<Arc<WantedLines>>,
    /// The variables whose assignments are, by the sources whose functions may assign them.
    variables: RefCell<Variables>,
    /// The sources with lines that need the hook.
    hooked: RefCell<HashSet<SourceId>>,
    /// What was told last of a source's lines.
    told: RefCell<HashMap<SourceId, Option<&'static str>>>,
    /// What was told last of a source's functions that go on in an earlier text.
    lagging_told: RefCell<HashMap<SourceId, BTreeSet<(usize, usize)>>>,
}

impl Arms {
    pub(crate) fn new(watch: Rc<Watch>, scripts: Rc<Scripts>, supervisor: Shared<dyn Supervisor>) -> Self {
        let exchanges = Exchanges::counting(watch.counting.clone());
        Self {
            main: watch.main,
            watch,
            scripts,
            supervisor,
            exchanges: RefCell::new(exchanges),
            search: Search::default(),
            renewal: Renewal::default(),
            late: Cell::default(),
            made_at_once: Cell::new(0),
            wanted: RefCell::default(),
            variables: RefCell::default(),
            hooked: RefCell::default(),
            told: RefCell::default(),
            lagging_told: RefCell::default(),
        }
    }

    /// Whether the function reports this line by itself.
    pub(crate) fn reports(&self, definition: &Definition, line: Line) -> bool {
        self.exchanges.borrow().reports(definition, line)
    }

    /// Whether the report of that may be held back by a filter.
    pub(crate) fn has_filter(&self, definition: &Definition, line: Line) -> bool {
        self.exchanges.borrow().has_filter(definition, line)
    }

    /// Of the lines armed in a source, those that need the hook in a function of this definition.
    pub(crate) fn left_for_the_hook(&self, definition: &Definition, armed: &LineSet) -> LineSet {
        let exchanges = self.exchanges.borrow();
        exchanges.lines_of(definition).map_or_else(|| armed.clone(), |own| armed.without(own))
    }

    /// Whether there is anything to look for that was not gone through yet.
    pub(crate) fn is_looking(&self) -> bool {
        let exchanges = self.exchanges.borrow();
        self.search.is_going() || !exchanges.waiting.is_empty() || !exchanges.pending.is_empty()
    }

    /// Whether some functions keep their bodies for now.
    pub(crate) fn has_left(&self) -> bool {
        self.exchanges.borrow().has_left()
    }

    /// The bodies of functions that are to get another one when they return, as they are on a stack, and can be called again.
    pub(crate) fn returning(&self) -> HashSet<usize> {
        self.exchanges.borrow().returning().collect()
    }

    /// Whether some of these go on in an earlier text.
    pub(crate) fn is_lagging(&self) -> bool {
        self.exchanges.borrow().lagging().next().is_some()
    }

    /// Whether functions of a source may have bodies that were made here.
    pub(crate) fn has_bodies(&self, source: SourceId) -> bool {
        self.exchanges.borrow().sources.contains_key(&source)
    }

    /// Whether the whole state was looked through in next to no time when it was last.
    pub(crate) fn is_soon_looked_through(&self) -> bool {
        self.search.is_small()
    }

    /// Has threads looked for, and sources that nobody reported if `sources`.
    pub(crate) fn want_threads(&self, sources: bool) {
        self.search.want_threads(sources);
    }

    /// Whether any line is left for the hook.
    pub(crate) fn needs_hook(&self) -> bool {
        self.tell_progress();
        !self.hooked.borrow().is_empty()
    }

    /// Makes the bodies by which lines are armed, of all sources in which others are wanted than the last time, as far as that
    /// can be; functions get them as they are [found](Self::advance).
    pub(crate) fn exchange_bodies(&self, wanted: &Arc<WantedLines>) {
        let before = self.wanted.replace(wanted.clone());
        let mut until = None;
        for source in wanted.changed_from(&before) {
            self.exchange_source(source, wanted, &mut until);
        }
    }

    /// The same for the statements that assign variables: they tell of that.
    pub(crate) fn tell_assignments(&self, variables: Variables) {
        if *self.variables.borrow() == variables {
            return;
        }
        let before = self.variables.replace(variables);
        let changed: Vec<SourceId> = {
            let now = self.variables.borrow();
            let sources: BTreeSet<&SourceId> = before.keys().chain(now.keys()).collect();
            sources.into_iter().filter(|source| before.get(source) != now.get(source)).copied().collect()
        };
        let wanted = self.wanted.borrow().clone();
        let mut until = None;
        changed.into_iter().for_each(|source| self.exchange_source(source, &wanted, &mut until));
    }

    /// Whether assignments of variables of a source are asked for.
    pub(crate) fn asks_for_assignments(&self, source: SourceId) -> bool {
        self.variables.borrow().contains_key(&source)
    }

    /// Whether every statement tells of it by itself that assigns one of the variables whose assignments are asked for, if any are.
    pub(crate) fn tells_of_assignments(&self) -> bool {
        let variables = self.variables.borrow();
        if variables.is_empty() {
            return false;
        }
        let exchanges = self.exchanges.borrow();
        let mut all = variables.iter().flat_map(|(source, names)| names.iter().map(|name| (*source, name)));
        all.all(|(source, name)| exchanges.tells_of(source, name))
    }

    /// The same for a source that may be new to this state.
    pub(crate) fn exchange_again(&self, source: SourceId) {
        let wanted = self.wanted.borrow().clone();
        self.exchange_source(source, &wanted, &mut None);
    }

    /// The functions of a source have just been compiled, once more or for the first time.
    pub(crate) fn is_compiled(&self, source: SourceId) {
        let mut exchanges = self.exchanges.borrow_mut();
        if exchanges.sources.contains_key(&source) {
            exchanges.unsettle(source);
        }
    }

    /// Finds out which sources need the hook, of those for which that may have changed. Tells of lines whose functions are still
    /// being looked for, and of those whose functions have been found.
    pub(crate) fn tell_progress(&self) {
        let wanted = self.wanted.borrow();
        let touched = std::mem::take(&mut self.exchanges.borrow_mut().touched);
        for source in touched {
            self.tell_lagging(source);
            let Some(lines) = wanted.of_source(source) else {
                self.hooked.borrow_mut().remove(&source);
                self.told.borrow_mut().remove(&source);
                continue;
            };
            let (is_covered, why) = {
                let exchanges = self.exchanges.borrow();
                let why = match exchanges.sources.get(&source) {
                    None => None,
                    Some(_) if !exchanges.is_gone_through(source) => Some(ARMING),
                    Some(_) if exchanges.strangers.contains(&source) => Some(STRANGE),
                    Some(_) => None,
                };
                (exchanges.covers(source, lines), why)
            };
            if is_covered {
                self.hooked.borrow_mut().remove(&source)
            } else {
                self.hooked.borrow_mut().insert(source)
            };
            let held = self.told.borrow_mut().insert(source, why);
            if held.flatten() == why {
                continue;
            }
            let placed =
                self.exchanges.borrow().sources.get(&source).map(|held| held.lines.clone()).unwrap_or_default();
            let own = lines.iter().filter(|line| placed.contains(*line));
            let why = why.map(|why| if why == ARMING { why.to_owned() } else { self.why_hooked(source, why) });
            own.for_each(|line| self.supervisor.armed_as(SourceLine { source, line }, why.as_deref()));
        }
    }

    /// Tells which functions of a source go on in an earlier text.
    fn tell_lagging(&self, source: SourceId) {
        let lagging = self.exchanges.borrow().lagging_of(source);
        let told = match lagging.is_empty() {
            true => self.lagging_told.borrow_mut().remove(&source).unwrap_or_default(),
            false => self.lagging_told.borrow_mut().insert(source, lagging.clone()).unwrap_or_default(),
        };
        if told != lagging {
            let line = |line| u32::try_from(line).unwrap_or(u32::MAX);
            let functions: Vec<_> = lagging.into_iter().map(|(first, last)| (line(first), line(last))).collect();
            self.supervisor.lagging(source, &functions);
        }
    }

    /// Why lines of a source are watched by the hook, with what that does not see there.
    fn why_hooked(&self, source: SourceId, why: &str) -> String {
        let may_finalize = self.scripts.text_of(source).is_none_or(|(text, _)| text.contains("__gc"));
        if may_finalize { format!("{why}; {BLIND_IN_FINALIZERS}") } else { why.to_owned() }
    }

    fn tell_hooked(&self, source: SourceId, lines: &LineSet, why: &'static str) {
        let why = self.why_hooked(source, why);
        for line in lines.iter() {
            self.supervisor.armed_as(SourceLine { source, line }, Some(&why));
        }
    }

    /// Tells how the lines of a source are armed whose bodies are made.
    fn tell_armed(&self, source: SourceId, made: &Made) {
        for line in made.placed.iter() {
            self.supervisor.armed_as(SourceLine { source, line }, None);
        }
        for (line, why) in &made.refused {
            let why = self.why_hooked(source, why);
            self.supervisor.armed_as(SourceLine { source, line: *line }, Some(&why));
        }
    }

    /// Has the bodies of a source made, if others are asked for than the last time: at once where the text is short, the first one
    /// in any case, and others as long as there is time. What this state never loaded is another state's business.
    fn exchange_source(&self, source: SourceId, wanted: &WantedLines, until: &mut Option<Instant>) {
        if !self.scripts.has_text(source) {
            return;
        }
        let lines = wanted.of_source(source).cloned().unwrap_or_default();
        let mut exchanges = self.exchanges.borrow_mut();
        exchanges.touched.insert(source);
        if !layout::is_known() {
            return self.tell_hooked(source, &lines, NOT_KNOWN);
        }
        let filters = exchanges.filters(wanted, source, &lines);
        let variables = self.variables.borrow().get(&source).cloned().unwrap_or_default();
        let asked = Asked { lines, filters, variables };
        if exchanges.asked(source) == Some(&asked) {
            return;
        }
        self.told.borrow_mut().remove(&source);
        if asked.is_empty() {
            return exchanges.change(source, None, LineSet::default(), asked);
        }
        let Some((text, chunk_name)) = self.scripts.text_of(source) else {
            return self.tell_hooked(source, &asked.lines, NOT_PARSED);
        };
        let is_little = text.len() <= MADE_AT_ONCE_BYTES && self.made_at_once.get() < MADE_AT_ONCE;
        let at_once = is_little && until.is_none_or(|until| Instant::now() < until);
        if at_once {
            self.made_at_once.set(self.made_at_once.get() + 1);
            until.get_or_insert_with(|| Instant::now() + MADE_AT_ONCE_FOR);
        }
        let pending = order(Order { text, chunk_name, asked: asked.clone() }, at_once, &self.supervisor.attention());
        let outcome = pending.outcome();
        if outcome.is_none() {
            self.tell_hooked(source, &asked.lines, ARMING);
        }
        exchanges.await_bodies(source, asked, pending);
        drop(exchanges);
        if let Some(outcome) = outcome {
            self.take(source, outcome);
        }
    }

    /// Takes the bodies that were made meanwhile, until the time is up.
    fn take_made(&self, until: Instant) {
        let done: Vec<_> = {
            let exchanges = self.exchanges.borrow();
            let done = |(source, (_, pending)): (&SourceId, &(Asked, Pending))| Some((*source, pending.outcome()?));
            exchanges.pending.iter().filter_map(done).collect()
        };
        for (source, outcome) in done {
            self.take(source, outcome);
            if Instant::now() >= until {
                break;
            }
        }
    }

    fn take(&self, source: SourceId, outcome: Outcome) {
        let mut exchanges = self.exchanges.borrow_mut();
        let Some((asked, _)) = exchanges.pending.remove(&source) else { return };
        let taken = outcome.and_then(|made| exchanges.take(self.main, source, asked.clone(), &made).map(|()| made));
        match taken {
            Ok(made) => self.tell_armed(source, &made),
            Err(why) => {
                self.tell_hooked(source, &asked.lines, why);
                exchanges.change(source, None, LineSet::default(), asked);
            }
        }
    }

    /// What is to be gone through once more, if anything is.
    fn begin_settling(&self) -> Option<Settling> {
        let wanted = self.exchanges.borrow_mut().begin_settling(self.is_soon_looked_through());
        (!wanted.is_empty()).then(|| self.settling(wanted))
    }

    /// The same for functions that were on a stack.
    fn begin_retry(&self) -> Option<Settling> {
        let wanted = self.exchanges.borrow_mut().due_for_retry();
        (!wanted.is_empty()).then(|| self.settling(wanted))
    }

    fn settling(&self, wanted: HashSet<SourceId>) -> Settling {
        let names = wanted.iter().filter_map(|source| Some((self.scripts.chunk_name_of(*source)?, *source))).collect();
        let retired = self.exchanges.borrow().retired(&wanted);
        Settling::of(wanted, names, retired)
    }

    /// Every function on every stack.
    fn running_functions(&self) -> HashSet<usize> {
        self.functions_on_stacks(None)
    }

    /// The same without the innermost of a thread, which returns.
    fn functions_below(&self, returning: State) -> HashSet<usize> {
        self.functions_on_stacks(Some(returning))
    }

    fn functions_on_stacks(&self, returning: Option<State>) -> HashSet<usize> {
        let mut running = HashSet::default();
        walk::for_each_thread(self.main, &mut |thread| {
            thread.for_each_level(|level, function| {
                if level > 0 || returning != Some(thread) {
                    function.push_function();
                    running.insert(thread.address_at(-1));
                    thread.pop(1);
                }
                true
            });
        });
        running
    }

    /// Gives every function its plain body back, as far as it is on no stack.
    pub(crate) fn undo(&self) {
        self.exchange_bodies(&Arc::default());
        self.tell_assignments(Variables::default());
        let far = Instant::now() + Duration::from_secs(3600);
        while self.is_looking() {
            self.advance(far);
        }
    }

    /// What the function on top calls since its text was changed, as compiled code, if it does.
    fn dump_forwarded(&self, state: State, strips: bool) -> Option<Vec<u8>> {
        let function = state.top();
        let is_forwarding = state.push_slot(Slot::Forwards) == Type::Table && {
            state.push_copy(function);
            state.raw_get(-2);
            state.type_at(-1) == Type::Table
        };
        let dumped = is_forwarding.then(|| {
            state.raw_get_index(-1, 2);
            self.dump(state, strips)
        });
        state.cut_to(function);
        dumped
    }

    /// The function on top as compiled code, as it was loaded, whatever body it has now; without what is there for debugging if
    /// `strips`.
    pub(crate) fn dump(&self, state: State, strips: bool) -> Vec<u8> {
        let exchanges = self.exchanges.borrow();
        let plain = |body: Body<'_>| {
            let held = exchanges.positions.get(&body.address())?;
            let plain = exchanges.sources.get(&held.source)?.plain.body(held.number)?;
            if plain.address() == body.address() {
                return None;
            }
            plain.give_to(state, -1);
            let chunk = state.dump_as(-1, strips);
            body.give_to(state, -1);
            Some(chunk)
        };
        if let Some(forwarded) = self.dump_forwarded(state, strips) {
            return forwarded;
        }
        let exchanged = if layout::is_known() { with_body(state, -1, plain).flatten() } else { None };
        exchanged.unwrap_or_else(|| state.dump_as(-1, strips))
    }
}
