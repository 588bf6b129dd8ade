//! The bodies that the functions of each source have, had, and get.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::{Idle, WantedLines};
use adzeman_core::engine::EngineError;
use adzeman_core::source::{Line, LineSet, SourceId, SourceLine};
use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};

use super::settling::{Left, Settling};
use super::workshop::{Made, OTHER_TREE, Pending, Reporting};
use crate::ffi::asked::Counting;
use crate::ffi::body::{Body, Tree, load_tree};
use crate::ffi::layout::Definition;
use crate::ffi::state::State;
use crate::text::assigned::Assignments;
use crate::text::counted::Counted;
use crate::text::filters::Filter;

/// Safe points between two looks for functions that have returned, at most.
const MOST_PASSED_BY: u32 = 4096;

/// Sources wait until no other one has come for so long, but not for longer.
const QUIET_FOR: Duration = Duration::from_millis(10);
const HELD_UP_FOR: Duration = Duration::from_millis(250);

/// The position of a whole script among its functions.
pub(super) const WHOLE: usize = 0;

/// Filters that are kept.
const MOST_FILTERS: usize = 4096;

/// Filters of lines, by the lines.
pub(super) type Filters = BTreeMap<Line, Filter>;

/// The bodies of one source.
pub(super) struct Exchange {
    /// The text compiled as it is.
    pub(super) plain: Tree,
    /// The bodies that functions have, or get as soon as they are on no stack; the plain ones when nothing is armed.
    pub(super) current: Option<Tree>,
    /// Earlier bodies that some function may still have.
    pub(super) earlier: Vec<Tree>,
    /// The lines on which the current bodies report.
    pub(super) lines: LineSet,
    /// The assignments that the current bodies tell of; nothing where they could not be made.
    assigned: Option<Assignments>,
    /// What was asked for when they were made.
    pub(super) asked: Asked,
    /// What they count.
    counted: Vec<Arc<Counted>>,
}

/// What is asked for of a source: lines, and the filters of those that need not be reported each time; and variables whose assignments
/// are.
#[derive(Debug, Clone, PartialEq, Default)]
pub(super) struct Asked {
    pub(super) lines: LineSet,
    pub(super) filters: Filters,
    pub(super) variables: BTreeSet<String>,
}

impl Asked {
    pub(super) fn is_empty(&self) -> bool {
        self.lines.is_empty() && self.variables.is_empty()
    }
}

/// Where a body is.
#[derive(Debug, Clone, Copy)]
pub(super) struct Position {
    pub(super) source: SourceId,
    /// The function that keeps its tree alive.
    pub(super) root: usize,
    /// Its place in the tree.
    pub(super) number: usize,
}

/// All exchanges of a state.
#[derive(Default)]
pub(super) struct Exchanges {
    pub(super) sources: HashMap<SourceId, Exchange>,
    /// What every body made here is.
    pub(super) positions: HashMap<usize, Position>,
    /// The numbers of what bodies that report count: others hold their reports back.
    counting: Rc<Counting>,
    /// Bodies that report, of all sources.
    pub(super) reporting: HashSet<usize>,
    /// Functions that are there only to keep bodies alive.
    pub(super) roots: HashSet<usize>,
    last_anchor: i64,
    /// Sources whose bodies are being made, and what they report.
    pub(super) pending: HashMap<SourceId, (Asked, Pending)>,
    /// Sources that may need the hook now and did not before, or the other way round.
    pub(super) touched: HashSet<SourceId>,
    /// When the first and the last of those that wait came.
    came: Option<(Instant, Instant)>,
    /// Sources whose functions have to be gone through, and those whose functions are being gone through.
    pub(super) waiting: HashSet<SourceId>,
    pub(super) under_way: HashSet<SourceId>,
    /// Sources with functions that were on a stack when they should have got another body.
    left: HashMap<SourceId, Left>,
    /// Safe points that have passed by since the last look at those left, and how many may.
    passed_by: u32,
    pass_by: u32,
    /// Functions that are of no known body, so that their lines need the hook.
    pub(super) strangers: HashSet<SourceId>,
    /// The filters of what was asked for.
    known_filters: HashMap<Idle, Option<Filter>>,
    /// What has taken the place of sources whose text was changed.
    successions: HashMap<SourceId, Succession>,
}

/// What has taken the place of a source.
struct Succession {
    by: SourceId,
    /// For each of its functions, which one has taken its place.
    positions: Vec<Option<usize>>,
}

impl Exchanges {
    /// With what is to be known of what bodies count.
    pub(super) fn counting(counting: Rc<Counting>) -> Self {
        Self { counting, ..Self::default() }
    }

    /// The sources whose functions are to be gone through now. Where that takes long, and others are coming, those are waited
    /// for, for a while: everything is gone through for all at once.
    pub(super) fn begin_settling(&mut self, is_soon_done: bool) -> HashSet<SourceId> {
        if let Some((first, last)) = self.came.filter(|_| !is_soon_done && !self.waiting.is_empty()) {
            let others_come = last.elapsed() < QUIET_FOR || !self.pending.is_empty();
            if others_come && first.elapsed() < HELD_UP_FOR {
                return HashSet::default();
            }
        }
        self.came = None;
        let wanted = std::mem::take(&mut self.waiting);
        self.under_way.clone_from(&wanted);
        wanted
    }

    /// The exchange that a body is of, if it is one that reports.
    pub(super) fn reporting(&self, definition: &Definition) -> Option<&Exchange> {
        let held = self.positions.get(&definition.prototype)?;
        let exchange = self.sources.get(&held.source);
        exchange.filter(|_| self.reporting.contains(&definition.prototype))
    }

    /// Whether the function reports this line by itself.
    pub(super) fn reports(&self, definition: &Definition, line: Line) -> bool {
        self.reporting(definition).is_some_and(|exchange| exchange.lines.contains(line))
    }

    /// Whether the report of that may be held back by a filter.
    pub(super) fn has_filter(&self, definition: &Definition, line: Line) -> bool {
        self.reporting(definition).is_some_and(|exchange| exchange.asked.filters.contains_key(&line))
    }

    /// The lines of a source that need no hook in a function of this definition.
    pub(super) fn lines_of(&self, definition: &Definition) -> Option<&LineSet> {
        self.reporting(definition).map(|exchange| &exchange.lines)
    }

    /// A source takes the place of another one, by positions.
    pub(super) fn succeed(&mut self, source: SourceId, by: SourceId, positions: Vec<Option<usize>>) {
        self.successions.insert(source, Succession { by, positions });
    }

    /// Where a function is now that is of a position of a source; nothing where none has taken its place.
    pub(super) fn now_at(&self, source: SourceId, number: usize) -> Option<(SourceId, usize)> {
        match self.successions.get(&source) {
            None => Some((source, number)),
            Some(held) => self.now_at(held.by, held.positions.get(number).copied().flatten()?),
        }
    }

    /// The sources in whose place a source is, and itself, the first of them first.
    pub(super) fn line_of(&self, source: SourceId) -> Vec<SourceId> {
        let before = self.successions.iter().find(|(_, held)| held.by == source).map(|(before, _)| *before);
        let mut line = before.map(|before| self.line_of(before)).unwrap_or_default();
        line.push(source);
        line
    }

    /// Functions of this source may have to get another body.
    pub(super) fn unsettle(&mut self, source: SourceId) {
        self.touched.insert(source);
        if self.waiting.insert(source) {
            let now = Instant::now();
            self.came = Some((self.came.map_or(now, |(first, _)| first), now));
        }
        (self.passed_by, self.pass_by) = (0, 1);
    }

    /// Whether all functions of a source have been gone through, and not since it changed.
    pub(super) fn is_gone_through(&self, source: SourceId) -> bool {
        !self.waiting.contains(&source) && !self.under_way.contains(&source) && !self.pending.contains_key(&source)
    }

    /// Whether some functions were on a stack when they should have got another body.
    pub(super) fn has_left(&self) -> bool {
        !self.left.is_empty()
    }

    /// Whether functions of this source were.
    pub(super) fn is_left(&self, source: SourceId) -> bool {
        self.left.contains_key(&source)
    }

    /// The sources with functions that were on a stack, if this is the moment to look whether those have returned: one that
    /// never returns is asked for less and less often.
    pub(super) fn due_for_retry(&mut self) -> HashSet<SourceId> {
        if self.left.is_empty() {
            return HashSet::default();
        }
        self.passed_by += 1;
        if self.passed_by < self.pass_by {
            return HashSet::default();
        }
        self.passed_by = 0;
        self.pass_by = (self.pass_by * 2).min(MOST_PASSED_BY);
        self.all_left()
    }

    /// Takes what came of a look at those that were left. What they made meanwhile is like them, and is looked for.
    pub(super) fn end_retry(&mut self, settling: Settling) {
        let mut left = settling.left;
        for source in settling.wanted {
            self.touched.insert(source);
            if let Some(left) = left.remove(&source) {
                self.left.insert(source, left);
            } else {
                self.left.remove(&source);
                self.unsettle(source);
            }
        }
    }

    /// One of those that were on a stack has returned: the next look is at all of them.
    pub(super) fn retry_soon(&mut self) {
        (self.passed_by, self.pass_by) = (0, 1);
    }

    /// The sources with functions that were on a stack.
    pub(super) fn all_left(&self) -> HashSet<SourceId> {
        self.left.keys().copied().collect()
    }

    /// The functions of a source that go on in an earlier text on some stack, by the lines of their definitions, which are 0 and 0
    /// for the whole script.
    pub(super) fn lagging_of(&self, source: SourceId) -> BTreeSet<(usize, usize)> {
        let positions = self.left.get(&source).into_iter().flat_map(|left| left.lagging.keys());
        positions.filter_map(|position| Some(self.target(source, *position)?.lines())).collect()
    }

    /// The bodies of all those that can be called again: a whole script is done when it has returned.
    pub(super) fn lagging(&self) -> impl Iterator<Item = usize> {
        let lagging = self.left.values().flat_map(|left| &left.lagging);
        lagging.filter(|(position, _)| **position != WHOLE).flat_map(|(_, bodies)| bodies.iter().copied())
    }

    /// The bodies of all that are to get another one when they return.
    pub(super) fn returning(&self) -> impl Iterator<Item = usize> {
        self.lagging().chain(self.left.values().flat_map(|left| &left.others).copied())
    }

    /// Whether the body of this position of a source tells of assignments, or one inside it does.
    pub(super) fn tells(&self, source: SourceId, position: usize) -> bool {
        let assigned = self.sources.get(&source).and_then(|held| held.assigned.as_ref());
        assigned.is_some_and(|assigned| assigned.functions.contains(&position))
    }

    /// Whether every statement of a source that assigns a variable of this name tells of it.
    pub(super) fn tells_of(&self, source: SourceId, name: &str) -> bool {
        let is_told = |held: &Exchange| {
            let is_placed = |assigned: &Assignments| !assigned.refused.contains(name);
            held.asked.variables.contains(name) && held.assigned.as_ref().is_some_and(is_placed)
        };
        self.is_gone_through(source)
            && !self.left.get(&source).is_some_and(|left| left.assigns)
            && !self.strangers.contains(&source)
            && self.line_of(source).len() == 1
            && !self.successions.contains_key(&source)
            && self.sources.get(&source).is_some_and(is_told)
    }

    /// Whether every line is reported without a hook.
    pub(super) fn covers(&self, source: SourceId, lines: &LineSet) -> bool {
        self.is_gone_through(source)
            && !self.is_left(source)
            && !self.strangers.contains(&source)
            && self.sources.get(&source).is_some_and(|held| lines.iter().all(|line| held.lines.contains(line)))
    }

    /// Takes what came of a walk; `is_whole` is whether it came to everything.
    pub(super) fn end_settling(&mut self, mut settling: Settling, is_whole: bool, state: State) {
        self.under_way.clear();
        let is_whole = is_whole && settling.is_sure();
        let may_go = settling.retired.difference(&settling.in_use).copied().collect();
        for source in settling.wanted {
            self.touched.insert(source);
            self.strangers.remove(&source);
            if !is_whole || settling.strangers.contains(&source) {
                self.strangers.insert(source);
            }
            if let Some(left) = settling.left.remove(&source) {
                self.left.insert(source, left);
                self.retry_soon();
            } else {
                self.left.remove(&source);
            }
            if is_whole && !self.waiting.contains(&source) {
                self.forget_earlier(source, &may_go, state);
            }
        }
    }

    /// The filters of the lines of a source that need not be reported each time.
    pub(super) fn filters(&mut self, wanted: &WantedLines, source: SourceId, lines: &LineSet) -> Filters {
        if self.known_filters.len() > MOST_FILTERS {
            self.known_filters.clear();
        }
        let of_line = |line: Line| {
            let idle = wanted.idle_at(SourceLine { source, line })?;
            Filter::any(idle.iter().map(|idle| {
                if let Some(known) = self.known_filters.get(idle) {
                    return known.clone();
                }
                self.known_filters.entry(idle.clone()).or_insert_with(|| Filter::unless(idle)).clone()
            }))
        };
        lines.iter().zip(lines.iter().map(of_line)).filter_map(|(line, filter)| Some((line, filter?))).collect()
    }

    /// Nothing is left of a source but what was made of it.
    pub(super) fn forget(&mut self, source: SourceId, state: State) {
        self.pending.remove(&source);
        self.successions.remove(&source);
        self.left.remove(&source);
        for of_sources in [&mut self.waiting, &mut self.under_way, &mut self.strangers] {
            of_sources.remove(&source);
        }
        self.retire(source);
        let Some(held) = self.sources.remove(&source) else { return };
        for tree in held.earlier.into_iter().chain(held.current).chain([held.plain]) {
            self.release(tree, state);
        }
    }

    fn release(&mut self, tree: Tree, state: State) {
        for body in tree.bodies() {
            self.positions.remove(&body.address());
            self.reporting.remove(&body.address());
        }
        self.roots.remove(&tree.root);
        tree.release(state);
    }

    /// What was asked for last of a source, whether it is made or not.
    pub(super) fn asked(&self, source: SourceId) -> Option<&Asked> {
        let pending = self.pending.get(&source).map(|(asked, _)| asked);
        pending.or_else(|| self.sources.get(&source).map(|held| &held.asked))
    }

    /// Bodies of a source are being made: until they are there, those that functions have do not report.
    pub(super) fn await_bodies(&mut self, source: SourceId, asked: Asked, pending: Pending) {
        self.pending.insert(source, (asked, pending));
        self.retire(source);
    }

    /// Takes what a source's functions get from now on.
    pub(super) fn change(&mut self, source: SourceId, made: Option<Tree>, lines: LineSet, asked: Asked) {
        self.pending.remove(&source);
        self.touched.insert(source);
        self.retire(source);
        if let Some(tree) = &made {
            self.enter(source, tree);
            self.reporting.extend(tree.bodies().map(Body::address));
        }
        if let Some(held) = self.sources.get_mut(&source) {
            (held.current, held.lines, held.assigned, held.asked) = (made, lines, None, asked);
            self.unsettle(source);
        }
    }

    /// The bodies that a source's functions have are earlier ones.
    fn retire(&mut self, source: SourceId) {
        let Some(held) = self.sources.get_mut(&source) else { return };
        self.counting.end(held.counted.drain(..).map(|counted| counted.number));
        if let Some(before) = held.current.take() {
            for body in before.bodies() {
                self.reporting.remove(&body.address());
            }
            held.earlier.push(before);
        }
    }

    /// Loads what was made of a source's text.
    ///
    /// # Errors
    /// Why it cannot stand in the place of what runs.
    pub(super) fn take(
        &mut self,
        state: State,
        source: SourceId,
        asked: Asked,
        made: &Made,
    ) -> Result<(), &'static str> {
        if !self.sources.contains_key(&source) {
            let plain = self.load(state, &made.plain)?;
            self.enter(source, &plain);
            let exchange = Exchange {
                plain,
                current: None,
                earlier: Vec::new(),
                lines: LineSet::default(),
                assigned: None,
                asked: Asked::default(),
                counted: Vec::new(),
            };
            self.sources.insert(source, exchange);
        }
        let tree =
            made.reporting.as_ref().map(|reporting| self.reporting_tree(state, source, reporting)).transpose()?;
        self.change(source, tree, made.placed.clone(), asked);
        if let (Some(held), Some(reporting)) = (self.sources.get_mut(&source), &made.reporting) {
            held.counted.clone_from(&reporting.counted);
            self.counting.begin(held.counted.iter().map(|counted| counted.number));
        }
        if let Some(held) = self.sources.get_mut(&source) {
            held.assigned = Some(made.assigned.clone());
        }
        Ok(())
    }

    fn load(&mut self, state: State, chunk: &[u8]) -> Result<Tree, &'static str> {
        self.last_anchor += 1;
        load_tree(state, chunk, self.last_anchor).map_err(|_: EngineError| OTHER_TREE)
    }

    fn reporting_tree(&mut self, state: State, source: SourceId, made: &Reporting) -> Result<Tree, &'static str> {
        let tree = self.load(state, &made.chunk)?;
        let fits = self.sources.get(&source).is_some_and(|held| tree.fits(&held.plain));
        if !fits || tree.report(state, &made.natives, &made.patches).is_err() {
            tree.release(state);
            return Err(OTHER_TREE);
        }
        Ok(tree)
    }

    /// The body that a function of this position should have.
    pub(super) fn target(&self, source: SourceId, position: usize) -> Option<Body<'_>> {
        let held = self.sources.get(&source)?;
        held.current.as_ref().unwrap_or(&held.plain).body(position)
    }

    /// Notes what the bodies of a tree are.
    pub(super) fn enter(&mut self, source: SourceId, tree: &Tree) {
        self.roots.insert(tree.root);
        for (number, body) in tree.bodies().enumerate() {
            self.positions.insert(body.address(), Position { source, root: tree.root, number });
        }
    }

    /// The roots of bodies that no function of these sources is to get any more.
    pub(super) fn retired(&self, sources: &HashSet<SourceId>) -> HashSet<usize> {
        let earlier = sources.iter().filter_map(|source| self.sources.get(source)).flat_map(|held| &held.earlier);
        earlier.map(|tree| tree.root).collect()
    }

    /// Lets go of bodies that no function has any more, by their roots.
    pub(super) fn forget_earlier(&mut self, source: SourceId, may_go: &HashSet<usize>, state: State) {
        let Some(held) = self.sources.get_mut(&source) else { return };
        let (kept, gone) = held.earlier.drain(..).partition(|tree| !may_go.contains(&tree.root));
        held.earlier = kept;
        let gone: Vec<Tree> = gone;
        for tree in gone {
            self.release(tree, state);
        }
    }
}
