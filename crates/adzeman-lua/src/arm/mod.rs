//! Arming lines: by exchanged bodies where that can be, by the line hook elsewhere.

mod exchange;
pub(crate) mod known;
mod making;
mod settling;

use std::cell::RefCell;
use std::collections::HashSet;
use std::rc::Rc;

use adzeman_core::breakpoint::WantedLines;
use adzeman_core::engine::{EngineError, Supervisor};
use adzeman_core::sharing::Shared;
use adzeman_core::source::{Line, LineSet, SourceId, SourceLine};

use self::exchange::{Exchange, Exchanges, Filters};
use self::making::Making;
use self::settling::Settling;
use crate::ffi::body::{Body, compile, with_body};
use crate::ffi::layout::{self, Definition};
use crate::ffi::state::{State, Type};
use crate::ffi::walk;
use crate::ffi::watch::Watch;
use crate::scripts::Scripts;
use crate::text::statements::{NOT_PARSED, Statements};

const NOT_KNOWN: &str = "the layout of this engine is not known";
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
}

impl Arms {
    pub(crate) fn new(watch: Rc<Watch>, scripts: Rc<Scripts>, supervisor: Shared<dyn Supervisor>) -> Self {
        Self { main: watch.main, watch, scripts, supervisor, exchanges: RefCell::default() }
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

    /// Whether some functions still have to get another body, and this is the moment to try.
    pub(crate) fn wants_to_settle(&self) -> bool {
        self.exchanges.borrow_mut().wants_to_settle()
    }

    /// Arms the lines of all sources by exchanged bodies, as far as that can be; whether any line is left for the hook. What
    /// this state never loaded is another state's business.
    pub(crate) fn exchange_bodies(&self, wanted: &WantedLines) -> bool {
        let known = wanted.sources().filter(|(source, _)| self.scripts.has_text(*source));
        let mut all: Vec<Wanted> = known
            .map(|(source, lines)| {
                let filters = self.exchanges.borrow_mut().filters(wanted, source, lines);
                Wanted { source, lines: lines.clone(), filters }
            })
            .collect();
        if !layout::is_known() {
            all.iter().for_each(|wanted| self.tell_hooked(wanted, NOT_KNOWN));
            return !all.is_empty();
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
            match self.exchange_source(wanted) {
                Ok(refused) => self.tell_armed(wanted.source, &wanted.lines, &refused),
                Err(why) => self.tell_hooked(wanted, why),
            }
        }
        self.settle();
        let exchanges = self.exchanges.borrow();
        all.iter().any(|wanted| !wanted.lines.is_empty() && !exchanges.covers(wanted.source, &wanted.lines))
    }

    /// The functions of a source have just been compiled, once more or for the first time.
    pub(crate) fn is_compiled(&self, source: SourceId) {
        let mut exchanges = self.exchanges.borrow_mut();
        if exchanges.sources.contains_key(&source) {
            exchanges.unsettle(source);
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

    /// Gives functions the bodies that they should have, but for those on a stack, which keep theirs for now.
    pub(crate) fn settle(&self) {
        if self.exchanges.borrow().unsettled.is_empty() {
            return;
        }
        self.watch.find_threads();
        let mut settling = self.begin_settling();
        let walked = walk::walk(self.main, &mut |state: State, kind: Type| {
            if kind == Type::Function {
                settling.look(&self.exchanges.borrow(), state);
                return;
            }
            state.push_copy(-1);
            if walk::note_thread(state).is_err() {
                state.pop(1);
            }
        });
        let is_whole = matches!(walked, Ok(true));
        if !is_whole {
            tracing::warn!("{TOO_LARGE}: breakpoints are watched for by the line hook");
        }
        self.exchanges.borrow_mut().end_settling(settling, is_whole, self.main);
        self.watch.forget_gate();
    }

    fn begin_settling(&self) -> Settling {
        let running = self.running_functions();
        let wanted = std::mem::take(&mut self.exchanges.borrow_mut().unsettled);
        let names = wanted.iter().filter_map(|source| Some((self.scripts.chunk_name_of(*source)?, *source))).collect();
        Settling { running, wanted, names, ..Settling::default() }
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
