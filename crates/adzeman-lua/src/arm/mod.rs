//! Arming lines: by exchanged bodies where that can be, by the line hook elsewhere.

mod exchange;
pub(crate) mod known;
mod making;
mod search;
mod settling;

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::rc::Rc;
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::WantedLines;
use adzeman_core::engine::{EngineError, Supervisor};
use adzeman_core::sharing::Shared;
use adzeman_core::source::{Line, LineSet, SourceId, SourceLine};

use self::exchange::{Exchange, Exchanges, Filters};
use self::making::Making;
use self::search::Search;
pub(crate) use self::search::prepare;
use self::settling::Settling;
use crate::ffi::body::{Body, compile, with_body};
use crate::ffi::layout::{self, Definition};
use crate::ffi::state::State;
use crate::ffi::walk;
use crate::ffi::watch::Watch;
use crate::scripts::Scripts;
use crate::text::statements::{NOT_PARSED, Statements};

const NOT_KNOWN: &str = "the layout of this engine is not known";
const ARMING: &str = "it is being armed: its functions are looked for";
const STRANGE: &str = "a function there is not as its text says";
const TOO_LARGE: &str = "the state is too large to be walked whole";

/// What is to be armed of a source.
struct Wanted {
    source: SourceId,
    lines: LineSet,
    filters: Filters,
}

/// The lines of one state, as they are armed.
pub(crate) struct Arms {
    main: State,
    watch: Rc<Watch>,
    scripts: Rc<Scripts>,
    supervisor: Shared<dyn Supervisor>,
    exchanges: RefCell<Exchanges>,
    search: Search,
    /// What was told last of a source's lines.
    told: RefCell<HashMap<SourceId, Option<&'static str>>>,
}

impl Arms {
    pub(crate) fn new(watch: Rc<Watch>, scripts: Rc<Scripts>, supervisor: Shared<dyn Supervisor>) -> Self {
        Self {
            main: watch.main,
            watch,
            scripts,
            supervisor,
            exchanges: RefCell::default(),
            search: Search::default(),
            told: RefCell::default(),
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
        self.search.is_going() || !self.exchanges.borrow().waiting.is_empty()
    }

    /// Whether some functions keep their bodies for now.
    pub(crate) fn has_left(&self) -> bool {
        self.exchanges.borrow().has_left()
    }

    /// Whether the whole state was looked through in next to no time when it was last.
    pub(crate) fn is_soon_looked_through(&self) -> bool {
        self.search.is_small()
    }

    /// Has threads looked for, and sources that nobody reported if `sources`.
    pub(crate) fn want_threads(&self, sources: bool) {
        self.search.want_threads(sources);
    }

    /// The sources of this state among those wanted: what it never loaded is another state's business.
    fn own<'a>(&self, wanted: &'a WantedLines) -> impl Iterator<Item = (SourceId, &'a LineSet)> {
        wanted.sources().filter(|(source, _)| self.scripts.has_text(*source))
    }

    /// Whether any line is left for the hook.
    pub(crate) fn needs_hook(&self, wanted: &WantedLines) -> bool {
        let exchanges = self.exchanges.borrow();
        self.own(wanted).any(|(source, lines)| !lines.is_empty() && !exchanges.covers(source, lines))
    }

    /// Makes the bodies by which the lines of all sources are armed, as far as that can be; functions get them as they are
    /// [found](Self::advance).
    pub(crate) fn exchange_bodies(&self, wanted: &WantedLines) {
        let known = self.own(wanted);
        let mut all: Vec<Wanted> = known
            .map(|(source, lines)| {
                let filters = self.exchanges.borrow_mut().filters(wanted, source, lines);
                Wanted { source, lines: lines.clone(), filters }
            })
            .collect();
        if !layout::is_known() {
            all.iter().for_each(|wanted| self.tell_hooked(wanted, NOT_KNOWN));
            return;
        }
        let idle: Vec<SourceId> = {
            let is_idle = |source: &&SourceId| all.iter().all(|wanted| wanted.source != **source);
            self.exchanges.borrow().sources.keys().filter(is_idle).copied().collect()
        };
        all.extend(idle.into_iter().map(|source| Wanted {
            source,
            lines: LineSet::default(),
            filters: Filters::new(),
        }));
        all.sort_unstable_by_key(|wanted| wanted.source);
        for wanted in &all {
            self.told.borrow_mut().remove(&wanted.source);
            match self.exchange_source(wanted) {
                Ok(refused) => self.tell_armed(wanted.source, &wanted.lines, &refused),
                Err(why) => self.tell_hooked(wanted, why),
            }
        }
    }

    /// The functions of a source have just been compiled, once more or for the first time.
    pub(crate) fn is_compiled(&self, source: SourceId) {
        let mut exchanges = self.exchanges.borrow_mut();
        if exchanges.sources.contains_key(&source) {
            exchanges.unsettle(source);
        }
    }

    /// Tells of lines whose functions are still being looked for, and of those whose functions have been found.
    pub(crate) fn tell_progress(&self, wanted: &WantedLines) {
        for (source, lines) in self.own(wanted) {
            let why = {
                let exchanges = self.exchanges.borrow();
                match exchanges.sources.get(&source) {
                    None => continue,
                    Some(_) if !exchanges.is_gone_through(source) => Some(ARMING),
                    Some(_) if exchanges.strangers.contains(&source) => Some(STRANGE),
                    Some(_) => None,
                }
            };
            let held = self.told.borrow_mut().insert(source, why);
            if held.flatten() == why {
                continue;
            }
            let placed =
                self.exchanges.borrow().sources.get(&source).map(|held| held.lines.clone()).unwrap_or_default();
            let own = lines.iter().filter(|line| placed.contains(*line));
            own.for_each(|line| self.supervisor.armed_as(SourceLine { source, line }, why));
        }
    }

    fn tell_hooked(&self, wanted: &Wanted, why: &'static str) {
        let all: Vec<_> = wanted.lines.iter().map(|line| (line, why)).collect();
        self.tell_armed(wanted.source, &wanted.lines, &all);
    }

    fn tell_armed(&self, source: SourceId, lines: &LineSet, refused: &[(Line, &'static str)]) {
        for line in lines.iter() {
            let why = refused.iter().find(|(held, _)| *held == line).map(|(_, why)| *why);
            self.supervisor.armed_as(SourceLine { source, line }, why);
        }
    }

    /// Makes the bodies of a source for these lines; answers the lines that need the hook, and why.
    fn exchange_source(&self, wanted: &Wanted) -> Result<Vec<(Line, &'static str)>, &'static str> {
        let Wanted { source, lines, filters } = wanted;
        let mut exchanges = self.exchanges.borrow_mut();
        if !exchanges.sources.contains_key(source) {
            if lines.is_empty() {
                return Ok(Vec::new());
            }
            let exchange = self.begin_exchange(*source, &mut exchanges)?;
            exchanges.sources.insert(*source, exchange);
        }
        let Exchanges { sources, last_anchor, .. } = &mut *exchanges;
        let Some(held) = sources.get(source) else { return Ok(Vec::new()) };
        let (placed, refused) = held.statements.places(lines);
        if placed == held.lines && *filters == held.filters {
            return Ok(refused);
        }
        let (text, chunk_name) = self.scripts.text_of(*source).ok_or(NOT_PARSED)?;
        let mut making = Making { state: self.main, held, text: &text, chunk_name, placed: &placed, last_anchor };
        let made = if placed.is_empty() { None } else { Some(making.bodies(filters)?) };
        exchanges.change(*source, made, placed, filters.clone());
        Ok(refused)
    }

    fn begin_exchange(&self, source: SourceId, exchanges: &mut Exchanges) -> Result<Exchange, &'static str> {
        let (text, chunk_name) = self.scripts.text_of(source).ok_or(NOT_PARSED)?;
        let statements = Statements::of(&text).ok_or(NOT_PARSED)?;
        exchanges.last_anchor += 1;
        let plain =
            compile(self.main, &text, &chunk_name, exchanges.last_anchor).map_err(|_: EngineError| NOT_PARSED)?;
        exchanges.enter(source, &plain);
        let (current, earlier, lines, filters) = (None, Vec::new(), LineSet::default(), Filters::new());
        Ok(Exchange { statements, plain, current, earlier, lines, filters })
    }

    /// What is to be gone through once more, if anything is.
    fn begin_settling(&self) -> Option<Settling> {
        let wanted = {
            let mut exchanges = self.exchanges.borrow_mut();
            let wanted = std::mem::take(&mut exchanges.waiting);
            exchanges.under_way.clone_from(&wanted);
            wanted
        };
        (!wanted.is_empty()).then(|| self.settling(wanted))
    }

    /// The same for functions that were on a stack.
    fn begin_retry(&self) -> Option<Settling> {
        let wanted = self.exchanges.borrow_mut().due_for_retry();
        (!wanted.is_empty()).then(|| self.settling(wanted))
    }

    fn settling(&self, wanted: HashSet<SourceId>) -> Settling {
        let names = wanted.iter().filter_map(|source| Some((self.scripts.chunk_name_of(*source)?, *source))).collect();
        Settling::of(wanted, names)
    }

    /// Every function on every stack.
    fn running_functions(&self) -> HashSet<usize> {
        let mut running = HashSet::new();
        let outcome = walk::for_each_thread(self.main, &mut |thread| {
            thread.for_each_level(|_, function| {
                function.push_function();
                running.insert(thread.address_at(-1));
                thread.pop(1);
                true
            });
        });
        if let Err(error) = outcome {
            tracing::warn!(%error, "the Lua state could not be walked whole");
        }
        running
    }

    /// Gives every function its plain body back, as far as it is on no stack.
    pub(crate) fn undo(&self) {
        self.exchange_bodies(&WantedLines::default());
        let far = Instant::now() + Duration::from_secs(3600);
        while self.is_looking() {
            self.advance(far);
        }
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
        let exchanged = if layout::is_known() { with_body(state, -1, plain).flatten() } else { None };
        exchanged.unwrap_or_else(|| state.dump_as(-1, strips))
    }
}
