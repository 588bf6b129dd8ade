//! What is done when the hooks tell of something.

use std::time::Duration;

use adzeman_core::engine::EngineError;
use adzeman_core::source::{Line, SourceId, SourceLine};
use adzeman_core::stepping::{Stack as _, StackState};

use super::stacks::is_resumed_by_script;
use super::{Context, View};
use crate::constants::Removed;
use crate::evaluate::{is_of_binding, of_tree};
use crate::ffi::activation::Activation;
use crate::ffi::hook;
use crate::ffi::layout::Definition;
use crate::ffi::natives;
use crate::ffi::one_call;
use crate::ffi::proxy::{Entry, Then};
use crate::ffi::scalars::push_scalar;
use crate::ffi::state::State;
use crate::ffi::watch::{Attendant, report};
use crate::scope::Target;
use crate::text::conditions::Scalar;
use crate::text::host_paths;

impl Attendant for Context {
    fn is_attached(&self) -> bool {
        self.supervisor.is_attached()
    }

    fn now(&self) -> Option<Duration> {
        self.supervisor.now()
    }

    fn during(&self) -> Option<String> {
        self.supervisor.during()
    }

    fn stop_asked(&self, state: State) {
        if self.supervisor.is_attached() {
            self.watch.quietly(|| self.supervisor.stop_asked(&mut View::below(self, state, 1)));
        }
    }

    fn wait_asked(&self, limit: Duration) -> bool {
        self.supervisor.wait_asked(limit)
    }

    fn said(&self, state: State, text: &str) {
        self.supervisor.said(text, self.caller(state));
    }

    fn printed(&self, state: State, text: &str) {
        self.supervisor.printed(text, self.caller(state));
    }

    fn line_reached(&self, state: State, activation: &Activation, line: u32) {
        if self.forget_reported().is_some() && !self.watch.covers(line) {
            return;
        }
        let line = Line::new(line).unwrap_or(Line::FIRST);
        let mut view = View::new(self, state);
        if self.reports_itself(activation, line) {
            let Some(body) = self.held_back(activation, line) else { return };
            self.watch.note_reported(body, line);
            view = View::instead_of_site(self, state);
        }
        let source = self.source_of(state, activation);
        if source.is_none() && activation.with_chunk_name(is_of_binding) {
            return;
        }
        self.meet(state);
        self.supervisor.line_reached(&mut view, source, line);
        if self.watch.reported().is_some() {
            self.set_hooks_again();
        }
        self.look_at_changes(state);
        if !self.watch.is_hooked() {
            self.watch.remove_hook(state);
        }
    }

    /// In a body that was replaced while it runs, the hook reports the lines.
    fn site_reached(&self, state: State, activation: &Activation, line: u32) {
        let line = Line::new(line).unwrap_or(Line::FIRST);
        let reported = self.forget_reported();
        let is_told = reported.is_some() && reported == activation.definition().map(|held| (held.prototype, line));
        if is_told || !self.reports_itself(activation, line) {
            return;
        }
        let source = self.source_of(state, activation);
        self.meet(state);
        self.watch.quietly(|| self.supervisor.line_reached(&mut View::at_site(self, state), source, line));
        self.look_at_changes(state);
    }

    fn read_host(&self, number: usize) -> Option<Scalar> {
        let path = host_paths::numbered(number)?;
        self.watch.quietly(|| of_tree(&self.shown, &path))
    }

    fn passes_line(&self, state: State, definition: Option<Definition>, line: u32) -> bool {
        let source = definition.filter(|_| state == self.watch.running()).and_then(|held| self.scripts.known(&held));
        let Some((source, line)) = source.zip(Line::new(line)) else { return false };
        let passes = self.tracks.are_same(state, &self.need.borrow().changes_of);
        if passes {
            self.passed.set(Some(SourceLine { source, line }));
            self.has_compared(true);
        }
        passes
    }

    fn assigned(&self, state: State) {
        if self.watch.confined.is_for_locals() && !self.watch.is_busy() {
            // It may be one of these, from within what its call calls.
            one_call::end(&self.watch);
            self.pass_caller(state);
            return;
        }
        if !self.changes.is_told() {
            return;
        }
        let is_same = {
            let need = self.need.borrow();
            need.changes_of.is_empty() || !self.watch.is_busy() && self.tracks.are_same(state, &need.changes_of)
        };
        if is_same {
            return;
        }
        if !self.watch.is_busy() {
            self.pass_caller(state);
        }
        self.compare_at_next_line();
    }

    fn variables_joined(&self) {
        self.changes.are_joined();
        self.compare_at_next_line();
    }

    fn has_left_call(&self, state: State) -> bool {
        let need = self.need.borrow();
        if let Some(step) = need.lines_of {
            return View::new(self, state).state_of(step.stack()) != StackState::Active;
        }
        let thread = self.tracks.call_of_all(&need.changes_of).map(|(thread, _)| thread);
        thread.is_none_or(|thread| !self.is_under_way(thread))
    }

    fn may_shadow_globals(&self, state: State, function: &Activation) -> bool {
        let text = self.source_of(state, function).and_then(|source| self.scripts.text_of(source));
        text.is_none_or(|(text, _)| text.contains("_ENV"))
    }

    fn call_begun(&self, state: State, function: &Activation, call: usize, is_tail: bool) {
        self.follow_call(state, is_tail);
        self.watch.handlers.note_call(|| {
            function.push_function();
            let address = state.address_at(-1);
            state.pop(1);
            address
        });
        self.watch.enter(call);
        self.tracks.call_begun(call);
        if self.need.borrow().call_times {
            self.watch.note_begun(call);
        }
        if self.need.borrow().new_sources {
            self.source_of(state, function);
        }
        if self.is_loaded_again(function) {
            function.push_function();
            self.note_compiled(&state.function_info(-1).chunk_name, None, || state.dump(-1));
            state.pop(1);
        }
        let handler = self.calls.host_handler.get();
        if !self.watch.watches_raises() || handler == 0 {
            return;
        }
        function.push_function();
        let is_handler = state.native_address_at(-1) == handler;
        state.pop(1);
        if is_handler && function.push_local(1).is_some() {
            self.raised(state, 1, natives::is_caught(state));
            state.pop(1);
        }
    }

    fn call_ends(&self, state: State, function: &Activation, call: usize) {
        let is_same = {
            let changes_of = &self.need.borrow().changes_of;
            !changes_of.is_empty() && self.tracks.are_same(state, changes_of)
        };
        if is_same {
            // What changes from here on, the statement does that has called.
            self.pass_caller(state);
        }
        self.tracks.call_ends(call);
        self.follow_return(state, function);
    }

    fn lagging_returns(&self, state: State, function: &Activation) {
        self.arms.take_returning(state, function);
        if self.arms.returning().is_empty() {
            self.watch.end_awaiting();
        }
    }

    fn holds_breakpoint(&self, state: State, function: &Activation, definition: &Definition) -> bool {
        let info = function.info();
        let Some(source) = self.source_of(state, function) else { return false };
        let need = self.need.borrow();
        let Some(armed) = need.lines.of_source(source) else { return false };
        let lines = self.arms.left_for_the_hook(definition, armed);
        self.supervisor.holds_line(source, &lines, info.first_line, info.last_line)
    }

    fn raised(&self, state: State, levels: usize, caught: bool) {
        if self.calls.raise_goes_on.take() {
            return;
        }
        let preview = || self.shown.preview(state, -1).map(|(_, preview)| preview).unwrap_or_default();
        let text = state.error_text().unwrap_or_else(preview);
        let message = text.strip_suffix('\n').unwrap_or(&text).to_owned();
        let script = (levels..).map_while(|level| state.level(level)).find(|function| !function.info().is_native);
        let place = script.and_then(|function| {
            let line = function.info().current_line.and_then(Line::new)?;
            Some((self.source_of(state, &function)?, line))
        });
        state.push_copy(-1);
        let raised = self.evaluator.begin_raised(state);
        self.watch.quietly(|| {
            self.supervisor.raised(&mut View::below(self, state, levels), place, &message, caught);
        });
        self.evaluator.end_raised(state, raised);
    }

    fn handler_raised(&self, times: usize) {
        self.supervisor.handler_raised(times);
    }

    fn raise_goes_on(&self) {
        self.calls.raise_goes_on.set(true);
    }

    fn dump(&self, state: State, strips: bool) -> Vec<u8> {
        self.arms.dump(state, strips)
    }

    fn compiled(&self, state: State, is_of_text: bool) {
        if self.supervisor.is_attached() {
            let text = if is_of_text { state.text_at(1) } else { None };
            self.note_compiled(&state.function_info(-1).chunk_name, text.as_deref(), || state.dump(-1));
        }
    }

    fn push_removed(&self, state: State, level: usize, name: &str) -> Option<bool> {
        if !self.scripts.may_have_constants() {
            return None;
        }
        let function = state.level(level)?;
        let source = self.source_of(state, &function)?;
        let constants = self.scripts.constants_of(source)?;
        let found = constants.at(Line::new(function.info().current_line?)?, name)?;
        let is_of_text = self.is_of_text(state, &function, source);
        Some(match found {
            Removed::Value(value) if is_of_text => push_scalar(state, &value).is_ok(),
            _ => false,
        })
    }

    fn knows_chunk(&self, chunk_name: &[u8]) -> bool {
        self.scripts.knows_chunk(chunk_name)
    }

    fn finalize(&self, state: State) {
        self.evaluator.finalize(state);
    }

    fn called(&self, entry: Entry, state: State) -> Result<Then, EngineError> {
        self.evaluator.called(entry, state)
    }
}

impl Context {
    /// Whether a name, which is no variable of a function that runs, is one of the code around it, by the text. Reads all of that the
    /// first time.
    pub(super) fn is_out_of_reach(&self, target: Target, name: &str) -> bool {
        let state = target.state;
        let is_meant = || {
            let function = state.level(target.level)?;
            let source = self.source_of(state, &function)?;
            let line = Line::new(function.info().current_line?)?;
            self.scripts.declared_in(source)?.are_in_force(line, name).then_some(())?;
            self.is_of_text(state, &function, source).then_some(())
        };
        is_meant().is_some()
    }

    /// Whether a function was compiled from the text of its source.
    fn is_of_text(&self, state: State, function: &Activation, source: SourceId) -> bool {
        let top = state.top();
        function.push_function();
        let is_of_text = function
            .definition()
            .is_some_and(|held| self.scripts.is_of_text(source, &held, || self.arms.dump(state, false)));
        state.cut_to(top);
        is_of_text
    }

    /// Where the script is that called the native function which runs.
    fn caller(&self, state: State) -> Option<(SourceId, Line)> {
        let caller = state.caller()?;
        let line = Line::new(caller.current_line())?;
        Some((self.source_of(state, &caller)?, line))
    }

    /// The line that ran last is that of the function which called the one that runs, if it is one of a script.
    fn pass_caller(&self, state: State) {
        let known = state.line_of_caller().and_then(|(held, line)| self.scripts.known(&held).zip(Line::new(line)));
        if let Some((source, line)) = known.or_else(|| self.caller(state)) {
            self.passed.set(Some(SourceLine { source, line }));
        }
    }

    /// A line of a thread is reached: it may be one that the host has resumed without a word, and perhaps with a hook of its own.
    fn meet(&self, state: State) {
        if self.watch.has_lost_newcomers() {
            self.renew();
        }
        if state != self.watch.running() {
            report(self.watch.hosted.meet(state, || is_resumed_by_script(&self.watch, state)));
        }
    }

    /// A coroutine that the host has resumed has failed, if it has: nothing of the script knows of that. Its stack is as it was
    /// where the error was raised.
    pub(crate) fn host_resumed(&self, coroutine: State, failed: Option<&mlua::Error>) {
        let Some(error) = failed.filter(|_| self.watch.watches_raises() && coroutine.has_failed()) else { return };
        let text = message_of(error);
        // What the binding adds is told by the stack.
        let text = text.split("\nstack traceback:").next().unwrap_or_default();
        if coroutine.push_bytes(text.as_bytes()).is_ok() {
            hook::caught(|| self.raised(coroutine, 0, natives::is_caught(self.watch.main)));
            coroutine.pop(1);
        }
    }

    /// The body, where a line is of interest whatever the conditions there say, and a filter may hold its report back.
    fn held_back(&self, activation: &Activation, line: Line) -> Option<usize> {
        let is_of_interest = self.watch.covers_every_line() || self.watch.wants_attention();
        let definition = activation.definition().filter(|_| is_of_interest)?;
        self.arms.has_filter(&definition, line).then_some(definition.prototype)
    }

    /// Another line is reached, or the call of the one that was reported.
    fn forget_reported(&self) -> Option<(usize, Line)> {
        let reported = self.watch.take_reported()?;
        if !self.watch.covers_every_line() {
            self.set_hooks_again();
        }
        Some(reported)
    }

    fn reports_itself(&self, activation: &Activation, line: Line) -> bool {
        activation.definition().is_some_and(|held| self.arms.reports(&held, line))
    }
}

fn message_of(error: &mlua::Error) -> String {
    match error {
        mlua::Error::RuntimeError(message) => message.clone(),
        mlua::Error::CallbackError { cause, .. } => message_of(cause),
        other => other.to_string(),
    }
}
