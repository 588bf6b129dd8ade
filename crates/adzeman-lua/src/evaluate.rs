//! Evaluating text in a frame: names, the limit, and what came of it.
//!
//! The text is compiled with an environment of its own that looks names up where they are (locals, captured, `event` and
//! `host`, globals), and runs on a fresh coroutine under a limit of instructions. Names are looked up when they are used,
//! so an expression that reads one local costs one look.

use std::cell::Cell;

use adzeman_core::breakpoint::Breakpoint;
use adzeman_core::engine::EngineError;
use adzeman_core::host::{Path, Root, TreePath};

use crate::context::Context;
use crate::ffi::state::{Resumed, Slot, State, Type};
use crate::ffi::{hook, proxy};

/// Instructions that an evaluation may take: some tens of milliseconds.
pub(crate) const LIMIT_INSTRUCTIONS: u64 = 5_000_000;

/// A function on a stack whose names an evaluation sees.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Target {
    pub(crate) state: State,
    pub(crate) level: usize,
}

/// The evaluation under way.
#[derive(Default)]
pub(crate) struct Evaluation {
    target: Cell<Option<Target>>,
    environment: Cell<i64>,
    last_environment: Cell<i64>,
    left: Cell<u64>,
    over_limit: Cell<bool>,
}

/// Where a name is.
enum Found {
    Local(Target, i32),
    Captured(Target, usize),
    Tree(Root),
    Global,
}

impl Context {
    /// Takes instructions from what the evaluation may still use; false when nothing is left.
    pub(crate) fn spend(&self, instructions: u64) -> bool {
        match self.evaluation.left.get().checked_sub(instructions) {
            Some(left) => {
                self.evaluation.left.set(left);
                true
            }
            None => {
                self.evaluation.over_limit.set(true);
                false
            }
        }
    }

    /// The frame an environment looks into, while its own evaluation runs. A function that outlives the evaluation it was
    /// made in sees the globals only.
    fn target(&self, environment: i64) -> Option<Target> {
        (self.evaluation.environment.get() == environment).then(|| self.evaluation.target.get()).flatten()
    }

    fn find(&self, environment: i64, name: &str) -> Found {
        let target = self.target(environment);
        let in_frame = target.and_then(|target| {
            local_number(target, name)
                .map(|number| Found::Local(target, number))
                .or_else(|| captured_number(target, name).map(|number| Found::Captured(target, number)))
        });
        match (in_frame, name) {
            (Some(found), _) => found,
            (None, "host") => Found::Tree(Root::Host),
            (None, "event") if self.host().has_event() => Found::Tree(Root::Event),
            _ => Found::Global,
        }
    }

    /// Pushes the value of a name; false, and nothing pushed, when it is a global.
    pub(crate) fn push_name(&self, state: State, environment: i64, name: &str) -> Result<bool, EngineError> {
        match self.find(environment, name) {
            Found::Local(target, number) => {
                if let Some(function) = target.state.level(target.level) {
                    function.push_local(number);
                    target.state.move_to(state, 1);
                }
            }
            Found::Captured(target, number) => {
                push_function_of(target);
                target.state.push_captured(-1, number);
                target.state.swap();
                target.state.pop(1);
                target.state.move_to(state, 1);
            }
            Found::Tree(root) => proxy::push_proxy(state, TreePath { root, path: Path::default() })?,
            Found::Global => return Ok(false),
        }
        Ok(true)
    }

    /// Gives a name the value on top, which stays; false when it is a global.
    pub(crate) fn set_name(&self, state: State, environment: i64, name: &str) -> Result<bool, EngineError> {
        match self.find(environment, name) {
            Found::Local(target, number) => {
                if let Some(function) = target.state.level(target.level) {
                    state.push_copy(-1);
                    state.move_to(target.state, 1);
                    function.set_local(number);
                }
            }
            Found::Captured(target, number) => {
                state.push_copy(-1);
                state.move_to(target.state, 1);
                push_function_of(target);
                target.state.swap();
                target.state.set_captured(-2, number);
                target.state.pop(1);
            }
            Found::Tree(root) => {
                let why = "it stands for the host's data; change a field inside it".to_owned();
                return Err(EngineError::NotAssignable { name: root.name().to_owned(), why });
            }
            Found::Global => return Ok(false),
        }
        Ok(true)
    }

    /// Pushes the table that holds the globals as the target's function sees them.
    pub(crate) fn push_globals_of_target(&self, state: State, environment: i64) {
        match self.target(environment) {
            Some(target) => push_globals_of(target, state),
            None => state.push_globals(),
        }
    }

    /// Whether a name can be assigned to without making a new global.
    pub(crate) fn is_known_name(&self, target: Option<Target>, name: &str) -> Result<bool, EngineError> {
        let in_frame = target.is_some_and(|t| local_number(t, name).is_some() || captured_number(t, name).is_some());
        if in_frame {
            return Ok(true);
        }
        let state = self.main;
        let top = state.top();
        match target {
            Some(target) => push_globals_of(target, state),
            None => state.push_globals(),
        }
        state.raw_get_field(-1, name)?;
        let known = state.type_at(-1) != Type::Nil;
        state.cut_to(top);
        Ok(known)
    }

    /// Compiles `text` as an expression, or else as statements, with an environment of its own; pushes the function and
    /// answers the number of the environment.
    pub(crate) fn compile(&self, state: State, text: &str) -> Result<i64, EngineError> {
        let as_expression = state.load(&format!("return {text}"), c"=expression");
        if let Err(expression_error) = as_expression {
            let statement = state.load(text, c"=expression");
            statement
                .map_err(|error| if looks_like_statement(text) { error } else { expression_error })
                .map_err(tidy)?;
        }
        let id = self.evaluation.last_environment.get() + 1;
        self.evaluation.last_environment.set(id);
        proxy::push_environment(state, id)?;
        state.set_captured(-2, 1);
        Ok(id)
    }

    /// Runs the function on top of `state`, which is popped, and leaves its results; answers how many.
    pub(crate) fn run(&self, state: State, environment: i64, target: Option<Target>) -> Result<i32, EngineError> {
        let coroutine = state.push_thread()?;
        state.swap();
        state.move_to(coroutine, 1);
        let arguments = target.map_or(0, |target| push_varargs(target, coroutine));
        hook::limit(coroutine);
        self.evaluation.left.set(LIMIT_INSTRUCTIONS);
        self.evaluation.over_limit.set(false);
        let before = (self.evaluation.target.replace(target), self.evaluation.environment.replace(environment));
        let (outcome, count) = coroutine.resume(state, arguments);
        self.evaluation.target.set(before.0);
        self.evaluation.environment.set(before.1);
        let result = self.outcome(coroutine, outcome);
        if result.is_ok() {
            coroutine.move_to(state, count);
        }
        hook::watch_lines(coroutine, false);
        if outcome != Resumed::Finished {
            coroutine.close_thread(state);
        }
        // The coroutine lies below its results; it may go now.
        let position = state.top() - if result.is_ok() { count } else { 0 };
        state.remove(position);
        result.map(|()| count)
    }

    fn outcome(&self, coroutine: State, outcome: Resumed) -> Result<(), EngineError> {
        match outcome {
            _ if self.evaluation.over_limit.get() => Err(EngineError::OverLimit { instructions: LIMIT_INSTRUCTIONS }),
            Resumed::Finished => Ok(()),
            Resumed::Yielded => Err(EngineError::Raised(
                "the text yields, and nobody would resume it; call what it needs in a coroutine of its own".to_owned(),
            )),
            Resumed::Failed => Err(EngineError::Raised(error_text(coroutine))),
        }
    }

    /// Whether a breakpoint's condition holds in the innermost function. Compiled once.
    pub(crate) fn condition(&self, state: State, owner: &Breakpoint, text: &str) -> Result<bool, EngineError> {
        let top = state.top();
        let outcome = self.run_condition(state, owner, text);
        let holds = outcome.map(|count| count > 0 && state.bool_at(-count));
        state.cut_to(top);
        holds
    }

    fn run_condition(&self, state: State, owner: &Breakpoint, text: &str) -> Result<i32, EngineError> {
        let key = i64::try_from(owner.id.0).unwrap_or(i64::MAX);
        // An environment numbered by its breakpoint, below all numbers of single evaluations.
        let environment = -key;
        state.push_slot(Slot::Conditions);
        state.raw_get_index(-1, key);
        if state.type_at(-1) != Type::Function {
            state.pop(1);
            state.load(&format!("return {text}"), c"=condition").map_err(tidy)?;
            proxy::push_environment(state, environment)?;
            state.set_captured(-2, 1);
            state.push_integer(key);
            state.push_copy(-2);
            state.raw_set(-4)?;
        }
        self.run(state, environment, Some(Target { state, level: 0 }))
    }
}

fn local_number(target: Target, name: &str) -> Option<i32> {
    let function = target.state.level(target.level)?;
    let mut found = None;
    for number in 1.. {
        let Some(held) = function.push_local(number) else { break };
        target.state.pop(1);
        if held == name {
            found = Some(number);
        }
    }
    found
}

fn captured_number(target: Target, name: &str) -> Option<usize> {
    push_function_of(target);
    let mut found = None;
    for number in 1.. {
        let Some(held) = target.state.push_captured(-1, number) else { break };
        target.state.pop(1);
        if held == name {
            found = Some(number);
            break;
        }
    }
    target.state.pop(1);
    found
}

fn push_function_of(target: Target) {
    match target.state.level(target.level) {
        Some(function) => function.push_function(),
        None => target.state.push_nil(),
    }
}

/// Pushes the globals as a function sees them, its `_ENV`, onto `state`.
pub(crate) fn push_globals_of(target: Target, state: State) {
    match captured_number(target, "_ENV") {
        Some(number) => {
            push_function_of(target);
            target.state.push_captured(-1, number);
            target.state.swap();
            target.state.pop(1);
            target.state.move_to(state, 1);
        }
        None => state.push_globals(),
    }
    if state.type_at(-1) != Type::Table {
        state.pop(1);
        state.push_globals();
    }
}

fn push_varargs(target: Target, onto: State) -> i32 {
    let Some(function) = target.state.level(target.level) else { return 0 };
    let mut count = 0;
    while count < 200 && function.push_local(-count - 1).is_some() {
        target.state.move_to(onto, 1);
        count += 1;
    }
    count
}

/// What was raised, as text. A script's own conversions do not run; those of the host's error values do.
fn error_text(state: State) -> String {
    if let Some(text) = state.text_at(-1) {
        return strip_position(&text).to_owned();
    }
    state.native_text_at(-1).unwrap_or_else(|| {
        format!("it raised a value that is no text (a {})", format!("{:?}", state.type_at(-1)).to_lowercase())
    })
}

fn tidy(error: EngineError) -> EngineError {
    match error {
        EngineError::Syntax(text) => EngineError::Syntax(strip_position(&text).to_owned()),
        other => other,
    }
}

/// Drops `expression:1: ` from the front of a message: it is the only line there is.
fn strip_position(text: &str) -> &str {
    text.strip_prefix("expression:1: ").or_else(|| text.strip_prefix("condition:1: ")).unwrap_or(text)
}

fn looks_like_statement(text: &str) -> bool {
    let first = text.split(|c: char| !c.is_alphanumeric()).find(|word| !word.is_empty()).unwrap_or_default();
    let keywords = ["local", "if", "for", "while", "do", "repeat", "return", "goto", "function", "break"];
    let bytes = text.as_bytes();
    let assigns = (1..bytes.len())
        .any(|at| bytes[at] == b'=' && !b"=~<>".contains(&bytes[at - 1]) && bytes.get(at + 1) != Some(&b'='));
    keywords.contains(&first) || assigns
}

#[cfg(test)]
mod tests {
    use super::looks_like_statement;

    #[test]
    fn statements_are_told_from_expressions() {
        for text in ["x = 1", "local y", "t.a.b=2", "for i = 1, 2 do end"] {
            assert!(looks_like_statement(text), "{text}");
        }
        for text in ["x == 1", "a ~= b", "x <= 2", "f(1)", ""] {
            assert!(!looks_like_statement(text), "{text}");
        }
    }
}
