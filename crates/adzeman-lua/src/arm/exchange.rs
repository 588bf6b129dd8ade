//! How lines are armed: by an exchanged body where that can be, by the line hook elsewhere.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::ffi::CString;
use std::rc::Rc;

use adzeman_core::breakpoint::Armed;
use adzeman_core::engine::{EngineError, Supervisor};
use adzeman_core::source::SourceLine;
use adzeman_core::source::{Line, LineSet, SourceId};

use crate::dialect::chunk::prototypes;
use crate::dialect::jumps::{Jump, jumps};
use crate::ffi::body::{Body, Tree, compile, with_body};
use crate::ffi::layout::{self, Definition};
use crate::ffi::state::{State, Type};
use crate::ffi::walk;
use crate::ffi::watch::Watch;
use crate::scripts::Scripts;
use crate::text::filters::Filter;
use crate::text::statements::{NOT_PARSED, Statements};

/// Safe points between two looks for functions that have returned, at most.
const MOST_PASSED_BY: u32 = 4096;

/// Conditions whose filters are kept.
const MOST_FILTERS: usize = 4096;

const NOT_KNOWN: &str = "the layout of this engine is not known";
const OTHER_TREE: &str = "the text does not give the functions that run";
const TOO_LARGE: &str = "the state is too large to be walked whole";

/// Filters of lines, by the lines.
type Filters = BTreeMap<Line, Filter>;

/// What is to be armed of a source.
struct Wanted {
    source: SourceId,
    lines: LineSet,
    filters: Filters,
}

/// The bodies of one source.
struct Exchange {
    statements: Statements,
    /// The text compiled as it is.
    plain: Tree,
    /// The bodies that functions have, or get as soon as they are on no stack; the plain ones when nothing is armed.
    current: Option<Tree>,
    /// Earlier bodies that some function may still have.
    earlier: Vec<Tree>,
    /// The lines on which the current bodies report, and the filters asked for there.
    lines: LineSet,
    filters: Filters,
}

/// Where a body is.
#[derive(Debug, Clone, Copy)]
struct Position {
    source: SourceId,
    /// The function that keeps its tree alive.
    root: usize,
    /// Its place in the tree.
    number: usize,
}

/// All exchanges of a state.
#[derive(Default)]
struct Exchanges {
    sources: HashMap<SourceId, Exchange>,
    /// What every body made here is.
    positions: HashMap<usize, Position>,
    /// Bodies that report, of all sources.
    reporting: HashSet<usize>,
    /// Functions that are there only to keep bodies alive.
    roots: HashSet<usize>,
    last_anchor: i64,
    /// Sources with functions that were on a stack when they should have got another body.
    unsettled: HashSet<SourceId>,
    /// Safe points that have passed by since the last look at the unsettled ones, and how many may.
    passed_by: u32,
    pass_by: u32,
    /// Functions that are of no known body, so that their lines need the hook.
    strangers: HashSet<SourceId>,
    /// The filters of conditions, as far as they were asked for.
    known_filters: HashMap<String, Option<Filter>>,
}

impl Exchanges {
    /// The exchange that a body is of, if it is one that reports.
    fn reporting(&self, definition: &Definition) -> Option<&Exchange> {
        let held = self.positions.get(&definition.prototype)?;
        let exchange = self.sources.get(&held.source);
        exchange.filter(|_| self.reporting.contains(&definition.prototype))
    }

    /// Whether the function reports this line by itself.
    pub(crate) fn reports(&self, definition: &Definition, line: Line) -> bool {
        self.reporting(definition).is_some_and(|exchange| exchange.lines.contains(line))
    }

    /// Whether the report of that may be held back by a filter.
    pub(crate) fn has_filter(&self, definition: &Definition, line: Line) -> bool {
        self.reporting(definition).is_some_and(|exchange| exchange.filters.contains_key(&line))
    }

    /// The lines of a source that need no hook in a function of this definition.
    pub(crate) fn lines_of(&self, definition: &Definition) -> Option<&LineSet> {
        self.reporting(definition).map(|exchange| &exchange.lines)
    }

    /// Functions of this source may have to get another body; they are looked for at the next safe point.
    fn unsettle(&mut self, source: SourceId) {
        self.unsettled.insert(source);
        (self.passed_by, self.pass_by) = (0, 1);
    }

    /// Whether some functions still have to get another body, and this is the moment to try: a function that never returns
    /// is asked for less and less often, since each look walks the whole state.
    pub(crate) fn wants_to_settle(&mut self) -> bool {
        if self.unsettled.is_empty() {
            return false;
        }
        self.passed_by += 1;
        let is_due = self.passed_by >= self.pass_by;
        if is_due {
            self.passed_by = 0;
            self.pass_by = (self.pass_by * 2).min(MOST_PASSED_BY);
        }
        is_due
    }

    /// Whether every line is reported without a hook.
    fn covers(&self, source: SourceId, lines: &LineSet) -> bool {
        !self.unsettled.contains(&source)
            && !self.strangers.contains(&source)
            && self.sources.get(&source).is_some_and(|held| lines.iter().all(|line| held.lines.contains(line)))
    }
}

/// The lines of one state, as they are armed.
pub(crate) struct Arms {
    main: State,
    watch: Rc<Watch>,
    scripts: Rc<Scripts>,
    supervisor: Rc<dyn Supervisor>,
    exchanges: RefCell<Exchanges>,
}

impl Arms {
    pub(crate) fn new(watch: Rc<Watch>, scripts: Rc<Scripts>, supervisor: Rc<dyn Supervisor>) -> Self {
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
    pub(crate) fn exchange_bodies(&self, armed: &Armed) -> bool {
        let known = armed.sources().filter(|(source, _)| self.scripts.has_text(*source));
        let mut all: Vec<Wanted> = known
            .map(|(source, lines)| {
                let filters = self.exchanges.borrow_mut().filters(armed, source, lines);
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
        self.exchange_bodies(&Armed::default());
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

/// The making of bodies for the lines of a source.
struct Making<'a> {
    state: State,
    held: &'a Exchange,
    text: &'a str,
    chunk_name: CString,
    placed: &'a LineSet,
    last_anchor: &'a mut i64,
}

impl Making<'_> {
    /// Bodies that report on their lines, behind those of the filters that do.
    fn bodies(&mut self, filters: &Filters) -> Result<Tree, &'static str> {
        let marker = unused_marker(self.text, filters);
        let calls = self.compile(&marker, &Filters::new()).map_err(|_| OTHER_TREE)?;
        if !calls.fits(&self.held.plain) {
            calls.release(self.state);
            return Err(OTHER_TREE);
        }
        let (tree, jumps) = match self.filtered(&calls, &marker, filters) {
            Some(filtered) => {
                calls.release(self.state);
                filtered
            }
            None => (calls, Vec::new()),
        };
        if tree.report(self.state, &marker, &jumps).is_err() {
            tree.release(self.state);
            return Err(OTHER_TREE);
        }
        Ok(tree)
    }

    fn compile(&mut self, marker: &str, filters: &Filters) -> Result<Tree, EngineError> {
        let text = self.held.statements.with_calls(self.text, self.placed, marker, filters);
        *self.last_anchor += 1;
        compile(self.state, &text, &self.chunk_name, *self.last_anchor)
    }

    /// The same with those of the filters that do, and the jumps that make them safe; `None` when none of them does.
    fn filtered(&mut self, calls: &Tree, marker: &str, filters: &Filters) -> Option<(Tree, Vec<Jump>)> {
        let mut left: Filters = filters.clone();
        left.retain(|line, _| self.placed.contains(*line));
        if left.is_empty() || !super::known::are_known() {
            return None;
        }
        let dumped = calls.dump(self.state);
        let plain = prototypes(&dumped)?;
        loop {
            let tree = self.compile(marker, &left).ok()?;
            let dumped = tree.dump(self.state);
            let found = prototypes(&dumped).map(|filtered| jumps(&plain, &filtered, marker));
            let refused = match found {
                Some(Ok(jumps)) if tree.fits(&self.held.plain) => return Some((tree, jumps)),
                Some(Err(refused)) => refused,
                _ => BTreeSet::new(),
            };
            tree.release(self.state);
            let mut is_changed = false;
            left.retain(|line, filter| {
                let is_refused = refused.contains(line);
                is_changed |= is_refused;
                !is_refused || filter.weaken()
            });
            if left.is_empty() || !is_changed {
                return None;
            }
        }
    }
}

/// A walk that gives functions the bodies that they should have.
#[derive(Default)]
struct Settling {
    /// The sources in question, and their chunk names.
    wanted: HashSet<SourceId>,
    names: HashMap<String, SourceId>,
    /// The functions on all stacks.
    running: HashSet<usize>,
    /// Sources with functions that must keep their bodies for now.
    left: HashSet<SourceId>,
    /// Sources with functions of no known body.
    strangers: HashSet<SourceId>,
    /// The roots of the bodies that some function has to keep.
    in_use: HashSet<usize>,
}

impl Settling {
    /// Looks at the function on top.
    fn look(&mut self, exchanges: &Exchanges, state: State) {
        if exchanges.roots.contains(&state.address_at(-1)) {
            return;
        }
        let (source, position, body) = match exchanges.place(state, &self.wanted, &self.names) {
            Placed::Elsewhere => return,
            Placed::Stranger(source) => {
                self.strangers.insert(source);
                return;
            }
            Placed::At(source, position, body) => (source, position, body),
        };
        match exchanges.target(source, position).filter(|target| target.address() != body) {
            Some(_) if self.running.contains(&state.address_at(-1)) => {
                self.left.insert(source);
                self.in_use.extend(exchanges.positions.get(&body).map(|held| held.root));
            }
            Some(target) => target.give_to(state, -1),
            None => {}
        }
    }
}

/// What a function is.
enum Placed {
    /// Of none of the sources in question.
    Elsewhere,
    /// Of one, but of no body that was compiled from its text.
    Stranger(SourceId),
    /// Of one, at this position, with the body at this address.
    At(SourceId, usize, usize),
}

impl Exchanges {
    /// Finds out what the function on top is.
    fn place(&self, state: State, wanted: &HashSet<SourceId>, names: &HashMap<String, SourceId>) -> Placed {
        let placed = with_body(state, -1, |body| self.place_body(state, body, wanted, names));
        placed.unwrap_or(Placed::Elsewhere)
    }

    fn place_body(
        &self,
        state: State,
        body: Body<'_>,
        wanted: &HashSet<SourceId>,
        names: &HashMap<String, SourceId>,
    ) -> Placed {
        if let Some(held) = self.positions.get(&body.address()) {
            let is_wanted = wanted.contains(&held.source);
            return if is_wanted { Placed::At(held.source, held.number, body.address()) } else { Placed::Elsewhere };
        }
        let Some(source) = names.get(&state.function_info(-1).chunk_name) else { return Placed::Elsewhere };
        let Some(held) = self.sources.get(source) else { return Placed::Elsewhere };
        let mut same = held.plain.bodies().enumerate().filter(|(_, plain)| plain.is_same(body));
        match (same.next(), same.next()) {
            (Some((position, _)), None) => Placed::At(*source, position, body.address()),
            _ => Placed::Stranger(*source),
        }
    }

    /// Takes what came of a walk; `is_whole` is whether it came to everything.
    fn end_settling(&mut self, settling: Settling, is_whole: bool, state: State) {
        for source in settling.wanted {
            self.strangers.remove(&source);
            if !is_whole || settling.strangers.contains(&source) {
                self.strangers.insert(source);
            }
            if settling.left.contains(&source) {
                self.unsettled.insert(source);
            }
            if is_whole {
                self.forget_earlier(source, &settling.in_use, state);
            }
        }
    }

    /// The filters of the lines of a source that need not be reported each time.
    fn filters(&mut self, armed: &Armed, source: SourceId, lines: &LineSet) -> Filters {
        if self.known_filters.len() > MOST_FILTERS {
            self.known_filters.clear();
        }
        let of_line = |line: Line| {
            let conditions = armed
                .at_line(SourceLine { source, line })
                .iter()
                .map(|sited| sited.breakpoint.spec.condition.as_deref());
            Filter::any(conditions.map(|condition| {
                let condition = condition?;
                if let Some(known) = self.known_filters.get(condition) {
                    return known.clone();
                }
                self.known_filters.entry(condition.to_owned()).or_insert_with(|| Filter::of(condition)).clone()
            }))
        };
        lines.iter().zip(lines.iter().map(of_line)).filter_map(|(line, filter)| Some((line, filter?))).collect()
    }

    /// Takes what a source's functions get from now on.
    fn change(&mut self, source: SourceId, made: Option<Tree>, lines: LineSet, filters: Filters) {
        if let Some(tree) = &made {
            self.enter(source, tree);
            self.reporting.extend(tree.bodies().map(Body::address));
        }
        if let Some(held) = self.sources.get_mut(&source) {
            (held.lines, held.filters) = (lines, filters);
            if let Some(before) = std::mem::replace(&mut held.current, made) {
                for body in before.bodies() {
                    self.reporting.remove(&body.address());
                }
                held.earlier.push(before);
            }
        }
        self.unsettle(source);
    }

    /// The body that a function of this position should have.
    fn target(&self, source: SourceId, position: usize) -> Option<Body<'_>> {
        let held = self.sources.get(&source)?;
        held.current.as_ref().unwrap_or(&held.plain).body(position)
    }

    /// Notes what the bodies of a tree are.
    fn enter(&mut self, source: SourceId, tree: &Tree) {
        self.roots.insert(tree.root);
        for (number, body) in tree.bodies().enumerate() {
            self.positions.insert(body.address(), Position { source, root: tree.root, number });
        }
    }

    /// Lets go of bodies that no function has any more; `in_use` are the roots of those that some still have.
    fn forget_earlier(&mut self, source: SourceId, in_use: &HashSet<usize>, state: State) {
        let Some(held) = self.sources.get_mut(&source) else { return };
        let (kept, gone) = held.earlier.drain(..).partition(|tree| in_use.contains(&tree.root));
        held.earlier = kept;
        let gone: Vec<Tree> = gone;
        for tree in gone {
            for body in tree.bodies() {
                self.positions.remove(&body.address());
            }
            self.roots.remove(&tree.root);
            tree.release(state);
        }
    }
}

/// A text that neither the script nor a filter holds, short enough to be the same object wherever it is.
fn unused_marker(text: &str, filters: &Filters) -> String {
    let is_used = |marker: &str| text.contains(marker) || filters.values().any(|filter| filter.text().contains(marker));
    let mut candidates = (0..).map(|number| format!("line reached {number}"));
    candidates.find(|marker| !is_used(marker)).unwrap_or_default()
}
