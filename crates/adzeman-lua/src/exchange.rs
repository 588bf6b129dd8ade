//! How lines are armed: by an exchanged body where that can be, by the line hook elsewhere.

use std::collections::{HashMap, HashSet};
use std::ffi::CString;
use std::sync::Arc;

use adzeman_core::breakpoint::SourceLine;
use adzeman_core::engine::EngineError;
use adzeman_core::source::{Line, LineSet, SourceId};

use crate::bodies::{NOT_PARSED, Statements};
use crate::context::Context;
use crate::ffi::exchange::{Body, Tree, compile};
use crate::ffi::layout::{self, Definition};
use crate::ffi::state::{State, Type};
use crate::ffi::walk;

/// Safe points between two looks for functions that have returned, at most.
const MOST_PASSED_BY: u32 = 4096;

const NOT_KNOWN: &str = "the layout of this engine is not known";
const OTHER_TREE: &str = "the text does not give the functions that run";
const TOO_LARGE: &str = "the state is too large to be walked whole";

/// What a source was compiled from.
pub(crate) struct SourceText {
    pub(crate) chunk_name: String,
    pub(crate) text: Option<Arc<str>>,
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
    /// The lines on which the current bodies report.
    lines: LineSet,
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
pub(crate) struct Exchanges {
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
}

impl Exchanges {
    /// Whether the function reports this line by itself.
    pub(crate) fn reports(&self, definition: &Definition, line: Line) -> bool {
        self.reporting.contains(&definition.prototype)
            && self
                .positions
                .get(&definition.prototype)
                .and_then(|held| self.sources.get(&held.source))
                .is_some_and(|exchange| exchange.lines.contains(line))
    }

    /// The lines of a source that need no hook in a function of this definition.
    pub(crate) fn lines_of(&self, definition: &Definition) -> Option<&LineSet> {
        if !self.reporting.contains(&definition.prototype) {
            return None;
        }
        let held = self.positions.get(&definition.prototype)?;
        Some(&self.sources.get(&held.source)?.lines)
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

impl Context {
    /// Arms the lines of all sources by exchanged bodies, as far as that can be; whether any line is left for the hook.
    pub(crate) fn exchange_bodies(&self, armed: &[(SourceId, LineSet)]) -> bool {
        if !layout::is_known() {
            self.tell_hooked(armed, NOT_KNOWN);
            return !armed.is_empty();
        }
        let mut sources: Vec<SourceId> = armed.iter().map(|(source, _)| *source).collect();
        sources.extend(self.exchanges.borrow().sources.keys());
        sources.sort_unstable();
        sources.dedup();
        let none = LineSet::default();
        for source in sources {
            let lines = armed.iter().find(|(held, _)| *held == source).map_or(&none, |(_, lines)| lines);
            match self.exchange_source(source, lines) {
                Ok(refused) => self.tell_armed(source, lines, &refused),
                Err(why) => self.tell_armed(source, lines, &lines.iter().map(|line| (line, why)).collect::<Vec<_>>()),
            }
        }
        self.settle();
        let exchanges = self.exchanges.borrow();
        armed.iter().any(|(source, lines)| !exchanges.covers(*source, lines))
    }

    /// Arms the lines of a source whose functions have just been compiled, once more or for the first time.
    pub(crate) fn arm_anew(&self, source: SourceId) {
        let need = self.need.borrow().clone();
        if need.armed.sources().any(|(armed, _)| armed == source) {
            let mut exchanges = self.exchanges.borrow_mut();
            if exchanges.sources.contains_key(&source) {
                exchanges.unsettle(source);
            }
            drop(exchanges);
            self.arm(&need);
        }
    }

    fn tell_hooked(&self, armed: &[(SourceId, LineSet)], why: &'static str) {
        for (source, lines) in armed {
            self.tell_armed(*source, lines, &lines.iter().map(|line| (line, why)).collect::<Vec<_>>());
        }
    }

    fn tell_armed(&self, source: SourceId, lines: &LineSet, refused: &[(Line, &'static str)]) {
        for line in lines.iter() {
            let why = refused.iter().find(|(held, _)| *held == line).map(|(_, why)| *why);
            self.supervisor().armed_as(SourceLine { source, line }, why);
        }
    }

    /// Makes the bodies of a source for these lines; answers the lines that need the hook, and why.
    fn exchange_source(&self, source: SourceId, lines: &LineSet) -> Result<Vec<(Line, &'static str)>, &'static str> {
        let mut exchanges = self.exchanges.borrow_mut();
        if !exchanges.sources.contains_key(&source) {
            if lines.is_empty() {
                return Ok(Vec::new());
            }
            let exchange = self.begin_exchange(source, &mut exchanges)?;
            exchanges.sources.insert(source, exchange);
        }
        let Some(held) = exchanges.sources.get(&source) else { return Ok(Vec::new()) };
        let (placed, refused) = held.statements.places(lines);
        if placed == held.lines {
            return Ok(refused);
        }
        let (text, chunk_name) = self.text_of_source(source).ok_or(NOT_PARSED)?;
        let marker = unused_marker(&text);
        let instrumented = held.statements.with_calls(&text, &placed, &marker);
        exchanges.last_anchor += 1;
        let anchor = exchanges.last_anchor;
        let compiled = if placed.is_empty() {
            None
        } else {
            let tree = compile(self.main, &instrumented, &chunk_name, Some(&marker), anchor).map_err(|_| OTHER_TREE)?;
            let fits = exchanges.sources.get(&source).is_some_and(|held| tree.fits(&held.plain));
            if !fits {
                tree.release(self.main);
                return Err(OTHER_TREE);
            }
            Some(tree)
        };
        if let Some(tree) = &compiled {
            exchanges.enter(source, tree);
            exchanges.reporting.extend(tree.bodies.iter().map(|body| body.address()));
        }
        let mut before = None;
        if let Some(held) = exchanges.sources.get_mut(&source) {
            held.lines = placed;
            before = std::mem::replace(&mut held.current, compiled);
        }
        for body in before.iter().flat_map(|tree| &tree.bodies) {
            exchanges.reporting.remove(&body.address());
        }
        if let Some(held) = exchanges.sources.get_mut(&source) {
            held.earlier.extend(before);
        }
        exchanges.unsettle(source);
        Ok(refused)
    }

    fn text_of_source(&self, source: SourceId) -> Option<(Arc<str>, CString)> {
        let texts = self.texts.borrow();
        let held = texts.get(&source)?;
        Some((held.text.clone()?, CString::new(held.chunk_name.as_str()).ok()?))
    }

    fn begin_exchange(&self, source: SourceId, exchanges: &mut Exchanges) -> Result<Exchange, &'static str> {
        let (text, chunk_name) = self.text_of_source(source).ok_or(NOT_PARSED)?;
        let statements = Statements::of(&text).ok_or(NOT_PARSED)?;
        exchanges.last_anchor += 1;
        let plain =
            compile(self.main, &text, &chunk_name, None, exchanges.last_anchor).map_err(|_: EngineError| NOT_PARSED)?;
        exchanges.enter(source, &plain);
        let (current, earlier, lines) = (None, Vec::new(), LineSet::default());
        Ok(Exchange { statements, plain, current, earlier, lines })
    }

    /// Gives functions the bodies that they should have, but for those on a stack, which keep theirs for now.
    pub(crate) fn settle(&self) {
        if self.exchanges.borrow().unsettled.is_empty() {
            return;
        }
        self.find_threads();
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
        self.forget_gate();
    }

    fn begin_settling(&self) -> Settling {
        let running = self.running_functions();
        let wanted = std::mem::take(&mut self.exchanges.borrow_mut().unsettled);
        let texts = self.texts.borrow();
        let names = wanted.iter().filter_map(|source| Some((texts.get(source)?.chunk_name.clone(), *source))).collect();
        Settling { running, wanted, names, ..Settling::default() }
    }

    /// Every function on every stack.
    fn running_functions(&self) -> HashSet<usize> {
        let mut running = HashSet::new();
        let outcome = walk::for_each_thread(self.main, &mut |thread| {
            let mut level = 0;
            while let Some(function) = thread.level(level) {
                function.push_function();
                running.insert(thread.address_at(-1));
                thread.pop(1);
                level += 1;
            }
        });
        if let Err(error) = outcome {
            tracing::warn!(%error, "the Lua state could not be walked whole");
        }
        running
    }

    /// Gives every function its plain body back, as far as it is on no stack.
    pub(crate) fn undo_exchanges(&self) {
        self.exchange_bodies(&[]);
    }

    /// The plain body of the function at the top, while it has another one.
    pub(crate) fn plain_body(&self, state: State) -> Option<(Body, Body)> {
        let body = Body::of(state, -1)?;
        let exchanges = self.exchanges.borrow();
        let held = exchanges.positions.get(&body.address())?;
        let plain = *exchanges.sources.get(&held.source)?.plain.bodies.get(held.number)?;
        (plain != body).then_some((body, plain))
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
        match exchanges.target(source, position).filter(|target| *target != body) {
            Some(_) if self.running.contains(&state.address_at(-1)) => {
                self.left.insert(source);
                self.in_use.extend(exchanges.positions.get(&body.address()).map(|held| held.root));
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
    At(SourceId, usize, Body),
}

impl Exchanges {
    /// Finds out what the function on top is.
    fn place(&self, state: State, wanted: &HashSet<SourceId>, names: &HashMap<String, SourceId>) -> Placed {
        let Some(body) = Body::of(state, -1) else { return Placed::Elsewhere };
        if let Some(held) = self.positions.get(&body.address()) {
            let is_wanted = wanted.contains(&held.source);
            return if is_wanted { Placed::At(held.source, held.number, body) } else { Placed::Elsewhere };
        }
        let Some(source) = names.get(&state.function_info(-1).chunk_name) else { return Placed::Elsewhere };
        let Some(held) = self.sources.get(source) else { return Placed::Elsewhere };
        let mut same = held.plain.bodies.iter().enumerate().filter(|(_, plain)| plain.is_same(body));
        match (same.next(), same.next()) {
            (Some((position, _)), None) => Placed::At(*source, position, body),
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

    /// The body that a function of this position should have.
    fn target(&self, source: SourceId, position: usize) -> Option<Body> {
        let held = self.sources.get(&source)?;
        held.current.as_ref().unwrap_or(&held.plain).bodies.get(position).copied()
    }

    /// Notes what the bodies of a tree are.
    fn enter(&mut self, source: SourceId, tree: &Tree) {
        self.roots.insert(tree.root);
        for (number, body) in tree.bodies.iter().enumerate() {
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
            for body in &tree.bodies {
                self.positions.remove(&body.address());
            }
            self.roots.remove(&tree.root);
            tree.release(state);
        }
    }
}

/// A text that the script does not hold, short enough to be the same object wherever it is.
fn unused_marker(text: &str) -> String {
    let mut candidates = (0..).map(|number| format!("line reached {number}"));
    candidates.find(|marker| !text.contains(marker.as_str())).unwrap_or_default()
}
