//! Where the innermost function can go on besides where it is, and why not elsewhere.
//!
//! It can where a line begins with a statement, of which the first instruction is the first of that line; where no loop is entered
//! whose hidden state would not be there, and no variable that is to be closed comes into scope or leaves it.

use adzeman_core::engine::{EngineError, GoingOn, WaysOn};
use adzeman_core::source::Line;

use super::Context;
use crate::dialect::chunk::{Local, Prototype, prototypes};
use crate::dialect::{Dialect as _, Version};
use crate::ffi::activation::Activation;
use crate::ffi::leap::{self, Leap};
use crate::ffi::state::State;
use crate::text::beginnings::beginnings;

/// What the engine calls variables that only it sees: those of a loop.
const OF_A_LOOP: &[u8] = b"(for state)";
/// How many of those a loop over an iterator has; the last one may be closed at its end.
const OF_ITERATOR: usize = 4;

/// Instructions that a call of the body's own takes at most, without a condition.
const OWN_CALL: usize = Version::INSTRUCTIONS.asking + 3;

/// The innermost function, where it is interrupted.
struct Here {
    function: Activation,
    body: usize,
    dump: Vec<u8>,
    /// The instruction that comes next, and whether a hook is called before it, or a call of the body's own is behind.
    next: usize,
    in_hook: bool,
    /// Its lines that begin with a statement.
    lines: Vec<u32>,
}

/// One place to go on at.
struct Way {
    to: usize,
    closes_from: Option<u8>,
    /// The first variable that comes into scope, counted from 1, and the names of all that do.
    entering: (i32, Vec<String>),
}

impl Context {
    /// Where the innermost function can go on, with what is nil there, and why not at its other lines.
    pub(super) fn ways_on(&self, state: State) -> Result<WaysOn, EngineError> {
        let here = self.here(state)?;
        let body = here.body()?;
        let line = |line: &u32| Line::new(*line);
        let ways = here.lines.iter().filter_map(|held| Some((line(held)?, here.way(&body, *held))));
        Ok(ways.map(|(line, way)| (line, way.map(|way| GoingOn { cleared: way.entering.1 }))).collect())
    }

    /// Has the innermost function go on there once the stop is over.
    pub(super) fn go_from(&self, state: State, line: Line) -> Result<(), EngineError> {
        let here = self.here(state)?;
        let way = here.way(&here.body()?, line.get()).map_err(EngineError::Runtime)?;
        let count = i32::try_from(way.entering.1.len()).unwrap_or(0);
        self.watch.leaping.begin(Leap {
            thread: state.address(),
            call: here.function.call(),
            body: here.body,
            to: way.to,
            closes_from: way.closes_from,
            entering: (way.entering.0, count),
        });
        Ok(())
    }

    fn here(&self, state: State) -> Result<Here, EngineError> {
        let refused = |why: &str| EngineError::Runtime(why.to_owned());
        let in_hook = self.watch.at_line().ok_or_else(|| {
            refused(
                "the script is not before a statement: it is raising an error, returning, or in a call that it made",
            )
        })?;
        let function = state.level(usize::from(!in_hook)).ok_or_else(|| refused("no function of the script runs"))?;
        let definition =
            function.definition().ok_or_else(|| refused("the innermost function is not one of the script"))?;
        let next = leap::next_instruction(&function, in_hook).ok_or_else(|| {
            refused(match Version::READS_AHEAD {
                true => "this version of Lua has read the next instruction by now, so it goes on only where it is",
                false => "how this engine keeps its place is not known, so it goes on only where it is",
            })
        })?;
        let source = self.source_of(state, &function);
        let text = source.and_then(|source| self.scripts.text_of(source)).map(|(text, _)| text);
        let text = text
            .ok_or_else(|| refused("the text of this function is not known, and so not where its statements begin"))?;
        let info = function.info();
        let lines = lines_of(&text, (info.first_line, info.last_line)).ok_or_else(|| {
            refused("which statements are those of this function is not certain: functions share its lines")
        })?;
        function.push_function();
        let dump = state.dump(-1);
        state.pop(1);
        Ok(Here { function, body: definition.prototype, dump, next, in_hook, lines })
    }
}

/// The lines of a function that begin with a statement directly in it; nothing where another function may be meant.
fn lines_of(text: &str, (first, last): (u32, u32)) -> Option<Vec<u32>> {
    let all = beginnings(text)?;
    let of = |function: Option<(u32, u32)>| {
        let lines = all.iter().filter(move |held| held.function == function).map(|held| held.line);
        lines.collect::<Vec<_>>()
    };
    if (first, last) == (0, 0) {
        return Some(of(None));
    }
    // What stands before its parameters may be lines above them.
    let mut functions: Vec<_> =
        all.iter().filter_map(|held| held.function).filter(|(from, to)| *to == last && *from >= first).collect();
    functions.sort_unstable();
    functions.dedup();
    functions.first().map(|function| of(Some(*function)))
}

impl Here {
    fn body(&self) -> Result<Prototype<'_>, EngineError> {
        let held = prototypes(&self.dump).and_then(|all| all.into_iter().next());
        let held = held.filter(|held| !held.line_of.is_empty() && self.next < held.code.len());
        held.ok_or_else(|| EngineError::Runtime("the code of this function says nothing of its lines".to_owned()))
    }

    /// How it goes on at a line, or why it cannot.
    fn way(&self, body: &Prototype<'_>, line: u32) -> Result<Way, String> {
        if !self.lines.contains(&line) {
            return Err(format!("line {line} does not begin with a statement of this function"));
        }
        let to = body.line_of.iter().position(|held| *held == line);
        let to = to.ok_or_else(|| format!("nothing is left of line {line} in the compiled code"))?;
        // A call of the body's own begins the line.
        let is_here = |call: usize| body.line_of[to..=self.next].iter().all(|held| *held == line) && call <= OWN_CALL;
        if self.next.checked_sub(to).is_some_and(|behind| behind == 0 || !self.in_hook && is_here(behind)) {
            return Err(format!("it is before line {line} already"));
        }
        let (now, then) = (in_scope(body, self.next), in_scope(body, to));
        let shared = now.iter().zip(&then).take_while(|(a, b)| a == b).count();
        let (leaving, entering) = (&now[shared..], &then[shared..]);
        let name = |local: &&Local<'_>| String::from_utf8_lossy(local.name).into_owned();
        if entering.iter().any(|local| local.name == OF_A_LOOP) {
            return Err(format!("line {line} is in a loop that has not begun"));
        }
        if let Some(local) = closing(body, &then).into_iter().find(|at| *at >= shared).map(|at| &then[at]) {
            return Err(format!(
                "'{}' would have to be closed behind line {line}, and would hold nothing",
                name(local)
            ));
        }
        if let Some(local) = closing(body, &now).into_iter().find(|at| *at >= shared).map(|at| &now[at]) {
            return Err(format!(
                "'{}' is yet to be closed, and line {line} is outside of where it is known",
                name(local)
            ));
        }
        if let Some(why) = self.leaves_iterator(&now, shared) {
            return Err(why);
        }
        let closes_from = (!leaving.is_empty()).then(|| u8::try_from(shared).unwrap_or(u8::MAX));
        if closes_from.is_some() && self.next + 1 >= body.code.len() {
            return Err("the function is at its very end, where variables have left their scope".to_owned());
        }
        let first = i32::try_from(shared).unwrap_or(0) + 1;
        Ok(Way { to, closes_from, entering: (first, entering.iter().map(name).collect()) })
    }

    /// Why a loop over an iterator, of those that would be left, cannot be: it has something to close at its end.
    fn leaves_iterator(&self, now: &[&Local<'_>], shared: usize) -> Option<String> {
        let mut at = shared;
        while at < now.len() {
            let is_of_loop = |local: &&&Local<'_>| local.name == OF_A_LOOP && local.from == now[at].from;
            let count = now[at..].iter().take_while(is_of_loop).count();
            if count == OF_ITERATOR && self.holds(at + OF_ITERATOR) {
                return Some("the loop here has something to close at its end".to_owned());
            }
            at += count.max(1);
        }
        None
    }

    /// Whether a variable, counted from 1, is anything but nil or false.
    fn holds(&self, number: usize) -> bool {
        let state = self.function.thread();
        let Some(number) = i32::try_from(number).ok() else { return true };
        if self.function.push_local(number).is_none() {
            return true;
        }
        let holds = state.bool_at(-1);
        state.pop(1);
        holds
    }
}

/// The variables in scope at an instruction, by their registers.
fn in_scope<'b, 'a>(body: &'b Prototype<'a>, at: usize) -> Vec<&'b Local<'a>> {
    body.locals.iter().take_while(|local| local.from <= at).filter(|local| at < local.to).collect()
}

/// The registers of those that are closed when they leave their scope.
fn closing(body: &Prototype<'_>, locals: &[&Local<'_>]) -> Vec<usize> {
    let is_marked = |(register, local): (usize, &&Local<'_>)| {
        let code = body.code.get(local.from.saturating_sub(1)..local.to.min(body.code.len())).unwrap_or_default();
        let register = u32::try_from(register).ok();
        code.iter().any(|held| Version::marks_closing(*held).is_some_and(|held| Some(held) == register))
    };
    locals.iter().enumerate().filter(|held| is_marked(*held)).map(|(register, _)| register).collect()
}
