//! A script engine small enough to read in one sitting, for testing what is built on [`engine`](crate::engine): stepping,
//! breakpoints, sessions. Authors of other engines can run their scenarios on it and compare.
//!
//! A program is a text of functions, one statement a line; an empty line or a comment (`#`) holds no breakpoint:
//!
//! ```text
//! fn main
//!   x = 1
//!   call work        # runs the function `work`
//!   loop 3 work      # runs it three times
//!   y = x + 4        # also: - > < ==
//!   say y            # prints
//! fn work
//!   z = 3
//! ```

use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use crate::breakpoint::BreakpointId;
use crate::decide::{Decider, Moment};
use crate::engine::Need;
use crate::engine::{Engine, EngineContext, EngineError, Frame, FrameKind, Scope, ScopeKind, Supervisor};
use crate::sharing::Shared;
use crate::source::SourceLine;
use crate::source::{CodeFacts, FunctionSpan, Language, Line, LineSet, SourceFacts, SourceId};
use crate::stepping::{Stack, StackId, StackState, Step, StepKind};
use crate::value::{Handle, Kind, Page, Paged, Part, Value, Variable};

/// The language of the programs.
pub const LANGUAGE: Language = Language { name: "test", comment: "#", ..Language::UNKNOWN };

#[derive(Debug, Clone)]
enum Statement {
    Assign(String, String),
    Call(u32, String),
    Say(String),
}

#[derive(Debug)]
struct Function {
    name: String,
    first: Line,
    body: Vec<(Line, Statement)>,
}

#[derive(Debug)]
struct ActiveFrame {
    function: usize,
    line: Line,
    locals: Vec<(String, i64)>,
}

/// The engine, holding one program.
pub struct TestEngine {
    name: String,
    text: String,
    functions: Vec<Function>,
    frames: Mutex<Vec<ActiveFrame>>,
    supervisor: Mutex<Option<Shared<dyn Supervisor>>>,
    source: Mutex<Option<SourceId>>,
    need: Mutex<Option<Need>>,
}

impl TestEngine {
    /// Reads a program.
    ///
    /// # Panics
    /// When the program does not parse: it is written by a test.
    #[must_use]
    pub fn new(name: &str, text: &str) -> Self {
        Self {
            name: name.to_owned(),
            text: text.to_owned(),
            functions: parse(text),
            frames: Mutex::default(),
            supervisor: Mutex::default(),
            source: Mutex::default(),
            need: Mutex::default(),
        }
    }

    /// Reports to `supervisor` from now on, beginning with the program as a source.
    pub fn attach(&self, supervisor: Shared<dyn Supervisor>) {
        let source = supervisor.source_loaded(self.facts());
        *lock(&self.source) = Some(source);
        *lock(&self.supervisor) = Some(supervisor);
    }

    /// What there is to know of the program as a source.
    #[must_use]
    pub fn facts(&self) -> SourceFacts {
        let span = |function: &Function| {
            let last = function.body.last().map_or(function.first, |(line, _)| *line);
            let body = function.body.first().map_or(function.first, |(line, _)| *line);
            FunctionSpan { name: Some(function.name.clone()), first: function.first, last, body, is_only: true }
        };
        let lines: LineSet = self.functions.iter().flat_map(|function| &function.body).map(|(line, _)| *line).collect();
        SourceFacts {
            name: self.name.clone(),
            language: LANGUAGE,
            text: Some(self.text.as_str().into()),
            code: CodeFacts { lines, functions: self.functions.iter().map(span).collect(), ..CodeFacts::default() }
                .into(),
            ..SourceFacts::default()
        }
    }

    /// Runs a function as a host would run a handler.
    ///
    /// # Panics
    /// When there is no such function, or the program calls one that is not there.
    pub fn call(&self, name: &str) {
        let function = self.functions.iter().position(|function| function.name == name);
        let function = function.unwrap_or_else(|| panic!("the test program has no function '{name}'"));
        let first = self.functions[function].first;
        lock(&self.frames).push(ActiveFrame { function, line: first, locals: Vec::new() });
        for (line, statement) in &self.functions[function].body {
            lock(&self.frames).last_mut().expect("the frame pushed above").line = *line;
            self.report(*line);
            self.execute(statement);
        }
        lock(&self.frames).pop();
    }

    /// Runs a function from a stop at its first line on, alone and without breakpoints: `at_stop` says how to go on from
    /// each stop. Answers the lines stopped at.
    pub fn run(&self, function: &str, at_stop: impl FnMut(StopSeen) -> Run + Send + 'static) -> Vec<u32> {
        let mut decider = Decider::default();
        decider.ask_pause();
        let script = Shared::new(Script {
            decider: Mutex::new(decider),
            at_stop: Mutex::new(Box::new(at_stop)),
            stops: Mutex::default(),
            attention: Arc::default(),
        });
        self.attach(script.clone());
        let need = lock(&script.decider).need();
        self.watch(&need);
        self.call(function);
        lock(&script.stops).clone()
    }

    fn report(&self, line: Line) {
        let supervisor = lock(&self.supervisor).clone();
        let Some(supervisor) = supervisor else { return };
        let covered = lock(&self.need).as_ref().is_some_and(|need| need.every_line || need.mask().contains(line));
        if covered || supervisor.attention().load(Relaxed) {
            let source = *lock(&self.source);
            supervisor.line_reached(&mut View(self), source, line);
        }
    }

    fn execute(&self, statement: &Statement) {
        match statement {
            Statement::Assign(name, text) => {
                let value = self.value_of(0, text).unwrap_or_else(|error| panic!("{error}"));
                self.set_local(0, name, value);
            }
            Statement::Call(times, name) => (0..*times).for_each(|_| self.call(name)),
            Statement::Say(text) => {
                let value = self.value_of(0, text).unwrap_or_else(|error| panic!("{error}"));
                let place = lock(&self.frames).last().map(|frame| frame.line);
                let (supervisor, source) = (lock(&self.supervisor).clone(), *lock(&self.source));
                if let Some(supervisor) = supervisor {
                    supervisor.printed(&format!("{value}\n"), source.zip(place));
                }
            }
        }
    }

    /// Runs `look` on the frame at `index`, counted from the innermost.
    fn with_frame<T>(&self, index: usize, look: impl FnOnce(&mut ActiveFrame) -> T) -> Result<T, EngineError> {
        let mut frames = lock(&self.frames);
        let depth = frames.len();
        frames.iter_mut().rev().nth(index).map(look).ok_or(EngineError::NoFrame { index, depth })
    }

    fn set_local(&self, frame: usize, name: &str, value: i64) {
        let set = |frame: &mut ActiveFrame| match frame.locals.iter_mut().find(|(held, _)| held == name) {
            Some((_, held)) => *held = value,
            None => frame.locals.push((name.to_owned(), value)),
        };
        let _ = self.with_frame(frame, set);
    }

    fn value_of(&self, frame: usize, text: &str) -> Result<i64, EngineError> {
        let words: Vec<_> = text.split_whitespace().collect();
        match words[..] {
            [single] => self.term(frame, single),
            [left, operator, right] => {
                let (left, right) = (self.term(frame, left)?, self.term(frame, right)?);
                match operator {
                    "+" => Ok(left.wrapping_add(right)),
                    "-" => Ok(left.wrapping_sub(right)),
                    ">" => Ok(i64::from(left > right)),
                    "<" => Ok(i64::from(left < right)),
                    "==" => Ok(i64::from(left == right)),
                    _ => Err(EngineError::Syntax(format!("there is no operator '{operator}'"))),
                }
            }
            _ => Err(EngineError::Syntax(format!("'{text}' is neither a value nor two with an operator"))),
        }
    }

    fn term(&self, frame: usize, text: &str) -> Result<i64, EngineError> {
        if let Ok(number) = text.parse() {
            return Ok(number);
        }
        let find =
            |frame: &mut ActiveFrame| frame.locals.iter().find(|(name, _)| name == text).map(|(_, value)| *value);
        self.with_frame(frame, find)?.ok_or_else(|| EngineError::NoName {
            name: text.to_owned(),
            hint: "only locals that were assigned can be read".to_owned(),
        })
    }
}

impl EngineContext for TestEngine {
    fn watch(&self, need: &Need) {
        *lock(&self.need) = Some(need.clone());
    }

    fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine)) {
        work(&mut View(self));
    }

    fn discover(&self) {}
}

/// What holds whatever else failed in a test.
fn lock<T>(held: &Mutex<T>) -> MutexGuard<'_, T> {
    held.lock().unwrap_or_else(PoisonError::into_inner)
}

struct View<'a>(&'a TestEngine);

impl Stack for View<'_> {
    fn id(&self) -> StackId {
        StackId::of(1)
    }

    fn depth(&self) -> usize {
        lock(&self.0.frames).len()
    }

    fn state_of(&self, _: StackId) -> StackState {
        StackState::Active
    }
}

impl Engine for View<'_> {
    fn stack(&self) -> &dyn Stack {
        self
    }

    fn frames(&mut self, page: Page) -> Result<Paged<Frame>, EngineError> {
        let (frames, source) = (lock(&self.0.frames), *lock(&self.0.source));
        Ok(page.of(frames.len(), frames.iter().rev().enumerate(), |(index, frame)| Frame {
            index,
            kind: FrameKind::Script,
            name: self.0.functions[frame.function].name.clone(),
            defined: None,
            place: source.map(|source| SourceLine { source, line: frame.line }),
            tail_call: false,
            running_for: None,
            ran_before: false,
            arguments: Vec::new(),
        }))
    }

    fn scopes(&mut self, frame: usize) -> Result<Vec<Scope>, EngineError> {
        let count = self.0.with_frame(frame, |frame| frame.locals.len())?;
        Ok(vec![Scope { kind: ScopeKind::Locals, handle: Handle(frame as u64 + 1), count: Some(count) }])
    }

    fn children(&mut self, of: Handle, _: Part, page: Page) -> Result<Paged<Variable>, EngineError> {
        let frame =
            usize::try_from(of.0).ok().and_then(|handle| handle.checked_sub(1)).ok_or(EngineError::StaleHandle)?;
        let list = |frame: &mut ActiveFrame| {
            page.of(frame.locals.len(), frame.locals.iter(), |(name, value)| {
                Variable::new(name, integer(*value)).named_by(name)
            })
        };
        self.0.with_frame(frame, list).map_err(|_| EngineError::StaleHandle)
    }

    fn assign(&mut self, of: Handle, name: &str, text: &str, frame: Option<usize>) -> Result<Value, EngineError> {
        let _ = of;
        self.assign_expression(frame, name, text)
    }

    fn evaluate(&mut self, frame: Option<usize>, text: &str) -> Result<Vec<Value>, EngineError> {
        Ok(vec![integer(self.0.value_of(frame.unwrap_or(0), text)?)])
    }

    fn assign_expression(&mut self, frame: Option<usize>, target: &str, text: &str) -> Result<Value, EngineError> {
        let frame = frame.unwrap_or(0);
        self.0.term(frame, target)?;
        let value = self.0.value_of(frame, text)?;
        self.0.set_local(frame, target, value);
        Ok(integer(value))
    }

    fn condition(&mut self, _: BreakpointId, text: &str) -> Result<bool, EngineError> {
        self.0.value_of(0, text).map(|value| value != 0)
    }

    fn complete(&mut self, frame: Option<usize>, prefix: &str) -> Vec<String> {
        let names = |frame: &mut ActiveFrame| frame.locals.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
        let names = self.0.with_frame(frame.unwrap_or(0), names).unwrap_or_default();
        names.into_iter().filter(|name| name.starts_with(prefix)).collect()
    }

    fn release(&mut self) {}
}

fn integer(value: i64) -> Value {
    Value::plain(Kind::Integer, "integer", value.to_string())
}

/// What to do at a stop of [`TestEngine::run`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Run {
    /// Go on to the end.
    Freely,
    /// Make a step.
    Step(StepKind),
}

/// A stop of [`TestEngine::run`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct StopSeen {
    /// Which one, counted from 0.
    pub number: usize,
    /// Where.
    pub line: Line,
}

struct Script {
    decider: Mutex<Decider>,
    at_stop: Mutex<Box<dyn FnMut(StopSeen) -> Run + Send>>,
    stops: Mutex<Vec<u32>>,
    /// Set while every line is wanted.
    attention: Arc<AtomicBool>,
}

impl Supervisor for Script {
    fn source_loaded(&self, _: SourceFacts) -> SourceId {
        SourceId(0)
    }

    fn attention(&self) -> Arc<AtomicBool> {
        self.attention.clone()
    }

    fn holds_line(&self, _: SourceId, _: &LineSet, _: u32, _: u32) -> bool {
        true
    }

    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line) {
        let mut decider = lock(&self.decider);
        let place = source.map(|source| SourceLine { source, line });
        if decider.at_line(Moment { place, ..Moment::default() }, engine).reason.is_none() {
            return;
        }
        let number = lock(&self.stops).len();
        lock(&self.stops).push(line.get());
        if let Run::Step(kind) = (lock(&self.at_stop))(StopSeen { number, line }) {
            decider.begin_step(Step::begin(kind, engine.stack()));
        }
        self.attention.store(decider.need().every_line, Relaxed);
    }

    fn printed(&self, _: &str, _: Option<(SourceId, Line)>) {}

    fn is_attached(&self) -> bool {
        true
    }
}

fn parse(text: &str) -> Vec<Function> {
    let mut functions: Vec<Function> = Vec::new();
    for (number, line_text) in (1..).zip(text.lines()) {
        let line = Line::new(number).unwrap_or(Line::FIRST);
        let code = line_text.split('#').next().unwrap_or_default().trim();
        let words: Vec<_> = code.split_whitespace().collect();
        let statement = match words[..] {
            [] => continue,
            ["fn", name] => {
                functions.push(Function { name: name.to_owned(), first: line, body: Vec::new() });
                continue;
            }
            ["call", name] => Statement::Call(1, name.to_owned()),
            ["loop", times, name] => Statement::Call(
                times.parse().unwrap_or_else(|_| panic!("line {line}: '{times}' is no count")),
                name.to_owned(),
            ),
            ["say", ref value @ ..] => Statement::Say(value.join(" ")),
            [name, "=", ref value @ ..] => Statement::Assign(name.to_owned(), value.join(" ")),
            _ => panic!("line {line} of the test program is no statement: {code}"),
        };
        let function = functions.last_mut().unwrap_or_else(|| panic!("line {line} stands before the first function"));
        function.body.push((line, statement));
    }
    functions
}
