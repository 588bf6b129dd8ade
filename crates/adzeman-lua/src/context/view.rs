//! A Lua state at a safe point, as core's engine.

use adzeman_core::breakpoint::{BreakpointId, TrackId};
use adzeman_core::engine::{
    Engine, EngineError, Frame, FrameKind, GivenBack, NamesUsed, Probe, Reload, ReloadMode, Scope, ScopeKind, Trial,
    WaysOn,
};
use adzeman_core::evaluation::{Allowance, Cancel};
use adzeman_core::heap::{Census, Counting, Holders};
use adzeman_core::path::TreePath;
use adzeman_core::source::Line;
use adzeman_core::source::{SourceFacts, SourceLine};
use adzeman_core::stepping::Stack;
use adzeman_core::value::{Handle, Page, Paged, Part, Value, Variable, WholeText};

use serde_json::Value as Json;

use super::Context;
use super::stacks::chain;

use crate::environments;
use crate::evaluate::{Scope as Names, from_lua, holds, is_of_binding};
use crate::ffi::activation::{Activation, FunctionInfo};
use crate::ffi::state::State;
use crate::heap::Heap;
use crate::look::{Node, captured_names};
use crate::scope::{self, Target};
use crate::text::conditions::Condition;
use crate::text::{LANGUAGE, display_name};

/// The environment of a text that has its own: that of no text which was typed.
const OF_ITS_OWN: i64 = 0;

/// The state at the moment when `state`, one of its threads, was interrupted.
pub(crate) struct View<'a> {
    pub(super) context: &'a Context,
    pub(super) state: State,
    /// Functions on top of `state` that are not the script's.
    pub(super) passed: usize,
    /// Whether this is the call that an exchanged body makes, which stands where its line is entered.
    is_site: bool,
    /// The stacks from the running one to the main one, with their depths; made when first asked for.
    stacks: Option<Vec<(State, usize)>>,
    held_collector: bool,
    /// What evaluations may take that are asked for; nothing for what the supervisor allows.
    allowance: Option<Allowance>,
}

impl<'a> View<'a> {
    pub(crate) fn new(context: &'a Context, state: State) -> Self {
        Self::below(context, state, 0)
    }

    /// The same, without the `passed` innermost functions.
    pub(crate) fn below(context: &'a Context, state: State, passed: usize) -> Self {
        Self { context, state, passed, is_site: false, stacks: None, held_collector: false, allowance: None }
    }

    /// At the call that an exchanged body makes.
    pub(crate) fn at_site(context: &'a Context, state: State) -> Self {
        let mut view = Self::below(context, state, 1);
        view.is_site = true;
        view
    }

    /// In the hook, on a line that an exchanged body reports by itself, or holds back.
    pub(crate) fn instead_of_site(context: &'a Context, state: State) -> Self {
        let mut view = Self::new(context, state);
        view.is_site = true;
        view
    }

    /// The innermost function of the script, or where one would be.
    fn innermost(&self) -> Target {
        let is_script = |level: &usize| {
            let function = self.state.level(*level);
            function.is_none_or(|function| {
                function.push_function();
                let is_native = self.state.is_native_function(-1);
                self.state.pop(1);
                !is_native
            })
        };
        Target { state: self.state, level: (self.passed..).find(is_script).unwrap_or(self.passed) }
    }

    /// Runs `look` with the collector held, so that no finalizer runs because of it, and with the stack put back.
    fn looking<T>(&mut self, look: impl FnOnce(&mut Self) -> Result<T, EngineError>) -> Result<T, EngineError> {
        let top = self.state.top();
        self.held_collector = self.state.hold_collector() || self.held_collector;
        let outcome = look(self);
        self.state.cut_to(top);
        outcome
    }

    /// Runs `evaluate` with the collector as the script has it.
    fn evaluating<T>(&mut self, evaluate: impl FnOnce(&mut Self) -> Result<T, EngineError>) -> Result<T, EngineError> {
        let top = self.state.top();
        self.let_collector_go();
        let outcome = evaluate(self);
        self.state.cut_to(top);
        // Tables may have other keys now.
        self.context.shown.forget_keys();
        self.context.compare_at_next_line();
        outcome
    }

    fn let_collector_go(&mut self) {
        if std::mem::take(&mut self.held_collector) {
            self.state.release_collector();
        }
    }

    fn stacks(&mut self) -> &[(State, usize)] {
        let (state, watch) = (self.state, &self.context.watch);
        let passed = self.passed;
        self.stacks.get_or_insert_with(|| {
            let depth = |held: State| held.depth() - if held == state { passed } else { 0 };
            chain(watch, state).into_iter().map(|held| (held, depth(held))).collect()
        })
    }

    /// The threads that run, the innermost first, and the main one.
    fn running(&mut self) -> Vec<State> {
        let main = self.context.main;
        let mut running: Vec<State> = self.stacks().iter().map(|(thread, _)| *thread).collect();
        if !running.contains(&main) {
            running.push(main);
        }
        running
    }

    /// All frames with one mark between two stacks.
    pub(crate) fn total(&mut self) -> usize {
        let stacks = self.stacks();
        let marks = stacks.iter().filter(|(_, depth)| *depth > 0).count().saturating_sub(1);
        stacks.iter().map(|(_, depth)| depth).sum::<usize>() + marks
    }

    /// The function at a position of the whole stack; `Ok(None)` for a mark.
    fn locate(&mut self, index: usize) -> Result<Option<Target>, EngineError> {
        let depth = self.total();
        let (innermost, passed) = (self.state, self.passed);
        let mut left = index;
        for (state, depth) in self.stacks().iter().filter(|(_, depth)| *depth > 0) {
            if left < *depth {
                let above = if *state == innermost { passed } else { 0 };
                return Ok(Some(Target { state: *state, level: left + above }));
            }
            left -= depth;
            if left == 0 {
                return Ok(None);
            }
            left -= 1;
        }
        Err(EngineError::NoFrame { index, depth })
    }

    /// The function whose names an evaluation sees.
    fn target(&mut self, frame: Option<usize>) -> Result<Option<Target>, EngineError> {
        match frame {
            Some(index) => self.locate(index),
            None => Ok(None),
        }
    }

    fn frame(&mut self, index: usize) -> Result<Frame, EngineError> {
        let Some(target) = self.locate(index)? else {
            let name = "called as a coroutine from".to_owned();
            return Ok(Frame {
                index,
                kind: FrameKind::Boundary,
                name,
                defined: None,
                place: None,
                tail_call: false,
                running_for: None,
                ran_before: false,
                arguments: Vec::new(),
            });
        };
        let Some(function) = target.state.level(target.level) else {
            return Err(EngineError::NoFrame { index, depth: self.total() });
        };
        let info = function.info();
        let source = if info.is_native { None } else { self.context.source_of(target.state, &function) };
        let place = source.zip(info.current_line.and_then(Line::new)).map(|(source, line)| SourceLine { source, line });
        let is_glue = is_of_binding(info.chunk_name.as_bytes());
        let kind = if info.is_native || is_glue { FrameKind::Native } else { FrameKind::Script };
        let (running_for, ran_before) = self.context.running_for(function.call());
        let arguments = self.arguments(target, &function, info.parameters)?;
        let defined = Line::new(info.first_line).zip(Line::new(info.last_line)).filter(|_| !info.is_native);
        let name = frame_name(&info);
        Ok(Frame { index, kind, name, defined, place, tail_call: info.tail_call, running_for, ran_before, arguments })
    }

    /// The parameters of a function, with what they hold now.
    fn arguments(
        &self,
        target: Target,
        function: &Activation,
        count: i32,
    ) -> Result<Vec<(String, String)>, EngineError> {
        let mut arguments = Vec::new();
        for number in 1..=count {
            let Some(name) = function.push_local(number) else { break };
            arguments.push((name, self.context.shown.preview(target.state, -1)?.1));
            target.state.pop(1);
        }
        Ok(arguments)
    }

    /// Evaluates `text` and leaves its values on the stack; answers how many.
    fn run(&mut self, frame: Option<usize>, text: &str) -> Result<i32, EngineError> {
        let target = self.target(frame)?;
        let environment = self.context.evaluator.compile(self.state, text)?;
        let allowance = self.allowance();
        self.context.evaluator.run(self.state, environment, target, &allowance)
    }

    fn allowance(&self) -> Allowance {
        self.allowance.clone().unwrap_or_else(|| self.context.supervisor().allowance())
    }

    /// Evaluates `text` and leaves exactly one value.
    fn run_for_one(&mut self, frame: Option<usize>, text: &str) -> Result<(), EngineError> {
        let before = self.state.top();
        // Parentheses make exactly one value of an expression, and refuse statements.
        self.run(frame, &format!("({text}\n)"))?;
        debug_assert_eq!(self.state.top(), before + 1);
        Ok(())
    }
}

impl Drop for View<'_> {
    fn drop(&mut self) {
        self.let_collector_go();
    }
}

/// The name a function was called by; functions called by the host have none and are named by their source later.
fn frame_name(info: &FunctionInfo) -> String {
    match &info.name {
        _ if info.is_main => format!("{} {}", LANGUAGE.whole_script, display_name(&info.chunk_name)),
        Some(name) => name.clone(),
        None if info.is_native => "(native)".to_owned(),
        None => String::new(),
    }
}

impl Engine for View<'_> {
    fn stack(&self) -> &dyn Stack {
        self
    }

    fn allow(&mut self, allowance: Option<Allowance>) {
        self.allowance = allowance;
    }

    fn frames(&mut self, page: Page) -> Result<Paged<Frame>, EngineError> {
        self.looking(|view| {
            let total = view.total();
            let indexes = (page.start..total).take(page.count.min(Page::MOST));
            let items = indexes.map(|index| view.frame(index)).collect::<Result<_, _>>()?;
            Ok(Paged::whole(items, total))
        })
    }

    fn scopes(&mut self, frame: usize) -> Result<Vec<Scope>, EngineError> {
        self.looking(|view| {
            let Some(target) = view.locate(frame)? else { return Ok(Vec::new()) };
            let Some(function) = target.state.level(target.level) else { return Ok(Vec::new()) };
            let context = view.context;
            let scope = |kind, node, count| Scope { kind, handle: context.shown.handle(node), count };
            let mut scopes = vec![scope(ScopeKind::Locals, Node::Locals(target), None)];
            if function.push_local(-1).is_some() {
                scopes.push(scope(ScopeKind::Varargs, Node::Varargs(target), None));
            }
            function.push_function();
            let captured = captured_names(target.state, -1).iter().filter(|name| *name != "_ENV").count();
            if captured > 0 {
                let handle = context.shown.describe(target.state, -1)?.children.map(|children| children.expand);
                if let Some(adzeman_core::value::Expand::Engine(handle)) = handle {
                    scopes.push(Scope { kind: ScopeKind::Captured, handle, count: Some(captured) });
                }
            }
            let globals = |built_in| Node::Globals { of: Some(target), built_in };
            scopes.push(scope(ScopeKind::Globals, globals(false), None));
            scopes.push(scope(ScopeKind::BuiltIns, globals(true), None));
            Ok(scopes)
        })
    }

    fn children(&mut self, of: Handle, part: Part, page: Page) -> Result<Paged<Variable>, EngineError> {
        self.looking(|view| view.context.shown.list(view.state, of, part, page))
    }

    fn assign(&mut self, of: Handle, name: &str, text: &str, frame: Option<usize>) -> Result<Value, EngineError> {
        let node = self.context.shown.node(of)?;
        self.evaluating(|view| {
            view.run_for_one(frame, text)?;
            let value = view.context.shown.describe(view.state, -1)?;
            view.context.shown.set_child(view.state, node, name)?;
            Ok(value)
        })
    }

    fn evaluate(&mut self, frame: Option<usize>, text: &str) -> Result<Vec<Value>, EngineError> {
        self.evaluating(|view| {
            let count = view.run(frame, text)?;
            view.held_collector = view.state.hold_collector() || view.held_collector;
            (-count..0).map(|index| view.context.shown.describe(view.state, index)).collect()
        })
    }

    fn evaluate_and_keep(&mut self, frame: Option<usize>, text: &str) -> Result<Vec<Value>, EngineError> {
        self.evaluating(|view| {
            let count = view.run(frame, text)?;
            view.held_collector = view.state.hold_collector() || view.held_collector;
            if count > 0 {
                view.context.evaluator.keep_result(view.state, -count)?;
            }
            (-count..0).map(|index| view.context.shown.describe(view.state, index)).collect()
        })
    }

    fn whole_text(&mut self, frame: Option<usize>, text: &str) -> Result<WholeText, EngineError> {
        self.evaluating(|view| {
            let count = view.run(frame, text)?;
            if count == 0 {
                return Ok(WholeText::default());
            }
            view.context.shown.whole_text(view.state, -count)
        })
    }

    fn sample(&mut self, text: &str) -> Result<(String, String), EngineError> {
        self.evaluating(|view| {
            let count = view.run(None, text)?;
            if count == 0 {
                return Ok(Default::default());
            }
            view.context.shown.preview(view.state, -count)
        })
    }

    fn peek(&mut self, frame: Option<usize>, text: &str) -> Option<Value> {
        let peeked = self.looking(|view| {
            let target = view.target(frame)?;
            if !view.context.shown.push_peeked(view.state, target, text)? {
                return Ok(None);
            }
            view.context.shown.describe(view.state, -1).map(Some)
        });
        peeked.ok().flatten()
    }

    fn names_used(&mut self, frame: Option<usize>, text: &str) -> NamesUsed {
        let Ok(target) = self.target(frame) else { return NamesUsed::default() };
        let top = self.state.top();
        let used =
            self.context.evaluator.names_used(target, text, |target, name| self.context.is_out_of_reach(target, name));
        self.state.cut_to(top);
        used
    }

    fn host_place(&mut self, frame: Option<usize>, text: &str) -> Option<TreePath> {
        let target = self.target(frame).ok()?;
        self.context.shown.tree_place(target, &scope::read(text).ok()?)
    }

    fn evaluate_data(&mut self, frame: Option<usize>, text: &str) -> Result<Json, EngineError> {
        self.evaluating(|view| {
            view.run_for_one(frame, text)?;
            from_lua(view.state, -1)
        })
    }

    fn assign_expression(&mut self, frame: Option<usize>, target: &str, text: &str) -> Result<Value, EngineError> {
        let name = target.trim();
        let is_name = name.chars().all(|c| c.is_alphanumeric() || c == '_');
        if is_name {
            let function = self.target(frame)?;
            if !scope::is_known_name(self.context.main, function, name) {
                let hint = format!("to make a new global of that name, write 'let _G.{name} = {text}'");
                return Err(EngineError::NoName { name: name.to_owned(), hint });
            }
        }
        self.evaluating(|view| {
            view.run(frame, &format!("{name} = ({text}\n)"))?;
            view.run_for_one(frame, name)?;
            view.context.shown.describe(view.state, -1)
        })
    }

    fn condition(&mut self, owner: BreakpointId, text: &str) -> Result<bool, EngineError> {
        self.context.evaluator.condition(self.innermost(), owner, text)
    }

    fn condition_of_event(&mut self, owner: BreakpointId, text: &str) -> Result<Option<bool>, EngineError> {
        Ok(self.context.evaluator.condition_of_event(self.state, owner, text))
    }

    fn text_of(&mut self, owner: BreakpointId, slot: usize, expression: &str) -> Result<String, EngineError> {
        self.context.evaluator.text_of(self.innermost(), owner, slot, expression)
    }

    fn run_statement(&mut self, owner: BreakpointId, statement: &str) -> Result<(), EngineError> {
        self.context.evaluator.run_statement(self.innermost(), owner, statement)
    }

    fn run_openly(&mut self, frame: Option<usize>, text: &str, cancel: &Cancel) -> Result<Vec<Value>, EngineError> {
        let target = self.target(frame)?;
        self.evaluating(|view| {
            let environment = view.context.evaluator.compile(view.state, text)?;
            let count = view.context.evaluator.run_openly(view.state, environment, target, cancel)?;
            (-count..0).map(|index| view.context.shown.describe(view.state, index)).collect()
        })
    }

    fn is_function_entry(&mut self) -> bool {
        self.is_site || self.state.level(0).is_some_and(|function| self.context.watch.is_entry(function.call()))
    }

    fn track(&mut self, frame: Option<usize>, target: &str) -> Result<TrackId, EngineError> {
        let function = self.target(frame)?;
        self.context.tracks.track(self.state, function, target)
    }

    fn assign_for_now(&mut self, frame: Option<usize>, target: &str, text: &str) -> Result<Trial, EngineError> {
        let function = self.target(frame)?;
        let name = target.trim();
        if !name.contains(['.', '[']) && !scope::is_known_name(self.context.main, function, name) {
            let hint = "a global that is not there cannot be set for now".to_owned();
            return Err(EngineError::NoName { name: name.to_owned(), hint });
        }
        self.evaluating(|view| {
            view.run_for_one(frame, text)?;
            view.context.watch.quietly(|| view.context.tracks.set_for_now(view.state, function, name))
        })
    }

    fn reload(&mut self, name: &str, text: &str, mode: ReloadMode) -> Result<Option<Reload>, EngineError> {
        let top = self.state.top();
        let outcome = self.context.watch.quietly(|| self.context.reload(name, text, mode));
        self.state.cut_to(top);
        self.stacks = None;
        outcome
    }

    fn ways_on(&mut self) -> Result<WaysOn, EngineError> {
        self.looking(|view| view.context.ways_on(view.state))
    }

    fn go_from(&mut self, line: Line) -> Result<(), EngineError> {
        self.looking(|view| view.context.go_from(view.state, line))
    }

    fn run_source(&mut self, name: &str) -> Result<bool, EngineError> {
        let not_known = || EngineError::Runtime(format!("{name} cannot be run: the text that runs is not known"));
        let scripts = &self.context.scripts;
        let Some((_, source)) = scripts.now_called(name) else { return Ok(false) };
        let (text, chunk_name) = scripts.text_of(source).ok_or_else(not_known)?;
        self.evaluating(|view| {
            view.state.load(&text, &chunk_name)?;
            let allowance = view.allowance();
            view.context.evaluator.run(view.state, OF_ITS_OWN, None, &allowance).map(|_| true)
        })
    }

    fn census(&mut self, how: Counting, may_go_on: &mut dyn FnMut(u64) -> bool) -> Result<Option<Census>, EngineError> {
        self.looking(|view| {
            let (context, running) = (view.context, view.running());
            context.watch.quietly(|| match how {
                Counting::Standing => context.heap.count_standing(running, view.state, &context.scripts, may_go_on),
                Counting::Begin | Counting::GoOn => {
                    if how == Counting::Begin {
                        context.heap.give_up(view.state);
                    }
                    context.heap.count_running(view.state, &context.scripts, may_go_on)
                }
            })
        })
    }

    fn holders(
        &mut self,
        frame: Option<usize>,
        text: &str,
        most: usize,
        may_go_on: &mut dyn FnMut(u64) -> bool,
    ) -> Result<Option<Holders>, EngineError> {
        self.evaluating(|view| {
            view.run_for_one(frame, text)?;
            view.held_collector = view.state.hold_collector() || view.held_collector;
            let (context, running) = (view.context, view.running());
            let told = (&*context.scripts, &*context.shown);
            context.watch.quietly(|| Heap::holders(view.state, running, told, most, may_go_on))
        })
    }

    fn give_back(&mut self, trial: TrackId, anyway: bool) -> GivenBack {
        let top = self.state.top();
        let outcome = self.context.watch.quietly(|| self.context.tracks.give_back(self.state, trial, anyway));
        self.state.cut_to(top);
        // Tables may have other keys now.
        self.context.shown.forget_keys();
        self.context.compare_at_next_line();
        outcome.unwrap_or(GivenBack::Gone)
    }

    fn probe(&mut self, track: TrackId) -> Probe {
        let top = self.state.top();
        let probe = self.context.watch.quietly(|| self.context.tracks.probe(self.state, track));
        self.state.cut_to(top);
        probe.unwrap_or(Probe::Same)
    }

    fn passed(&mut self) -> Option<SourceLine> {
        self.context.passed.take()
    }

    fn names(&mut self, track: TrackId, text: &str) -> bool {
        let top = self.state.top();
        let target = self.innermost();
        let outcome = self.context.watch.quietly(|| self.context.tracks.names(self.state, track, target, text));
        self.state.cut_to(top);
        outcome.unwrap_or(false)
    }

    fn rules_out(&mut self, condition: &str) -> bool {
        let (state, scope) = (self.state, Names::Function(self.innermost()));
        Condition::parse(condition).and_then(|held| holds(&held, &self.context.shown, state, scope)) == Some(false)
    }

    fn untrack(&mut self, track: TrackId) {
        let top = self.state.top();
        if let Err(error) = self.context.tracks.untrack(self.state, track) {
            tracing::warn!(%error, "a watched value is kept alive");
        }
        self.state.cut_to(top);
    }

    fn cannot_step(&mut self) -> Option<&'static str> {
        // Where no hook was called, and yet none is, that is why.
        let mut is_in_finalizer = self.context.watch.at_line() == Some(false) && self.state.keeps_hooks_off();
        self.state.for_each_level(|_, function| {
            is_in_finalizer |= function.info().is_finalizer;
            !is_in_finalizer
        });
        is_in_finalizer.then_some(
            "the script is in a finalizer, for which Lua switches its hooks off: no line tells where the step ends; set a breakpoint \
             where it is to stop next, and go on",
        )
    }

    fn returned(&mut self) -> Option<Vec<Value>> {
        self.context.take_returned()
    }

    fn with_text(&mut self, path: &str, text: &str) -> Vec<SourceFacts> {
        self.context.scripts.with_text(path, text)
    }

    fn take_text(&mut self, facts: SourceFacts) {
        self.context.take_text(facts);
    }

    fn complete(&mut self, frame: Option<usize>, prefix: &str) -> Vec<String> {
        let outcome = self.looking(|view| {
            let target = view.target(frame)?;
            let context = view.context;
            context.shown.without_handles(|| {
                match prefix.rfind([LANGUAGE.notation.separator, LANGUAGE.method_separator]) {
                    Some(at) => context.shown.complete_member(view.state, target, &prefix[..at], &prefix[at..]),
                    None => context.shown.complete_name(view.state, target, prefix),
                }
            })
        });
        let mut names = outcome.unwrap_or_default();
        names.sort();
        names.dedup();
        names
    }

    fn goes_on(&mut self) {
        let top = self.state.top();
        self.context.tracks.forget_locals_for_now(self.state);
        self.state.cut_to(top);
    }

    fn release(&mut self) {
        if let Err(error) = self.context.shown.forget_handles() {
            tracing::warn!(%error, "values shown at this stop are kept alive");
        }
        if !self.context.supervisor().is_attached()
            && let Err(error) = self.context.evaluator.forget_results()
        {
            tracing::warn!(%error, "what was evaluated is kept alive");
        }
        if !self.context.supervisor().is_attached() {
            self.context.heap.give_up(self.state);
        }
        environments::forget(self.context.main);
        self.stacks = None;
        self.let_collector_go();
    }
}
