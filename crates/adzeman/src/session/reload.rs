//! Giving the functions of a source the bodies of a changed text.

use std::sync::Arc;

use adzeman_core::engine::{FunctionFate, Reload, ReloadMode, ReloadedFunction};
use adzeman_core::source::Source;
use adzeman_dap::extra::{RanSourceInfo, ReloadArguments, ReloadBody, ReloadedFunctionInfo};

use super::{Session, SessionError, convert};
use crate::lane::ContextLink;

impl Session {
    /// Gives a source another text, in every context that has it, or in none.
    pub(super) fn reload(&mut self, arguments: ReloadArguments) -> Result<ReloadBody, SessionError> {
        if self.host.sources.look().matching(&arguments.path).is_empty() {
            self.await_discoveries();
        }
        let (source, text) = self.text_for(&arguments)?;
        let name = source.facts.name.clone();
        let mode = match (arguments.check.unwrap_or(false), arguments.partly.unwrap_or(false)) {
            (true, _) => ReloadMode::Check,
            (false, true) => ReloadMode::Partly,
            (false, false) => ReloadMode::Whole,
        };
        if let Some(old) = source.text() {
            let syntaxes = self.host.contexts.syntaxes(Some(source.facts.language));
            syntaxes.iter().for_each(|syntax| syntax.prepare_reload(&name, old, &text));
        }
        let mut concerned = Vec::new();
        for context in self.host.contexts.all() {
            if let Some(found) = self.reload_in(&context, &name, &text, ReloadMode::Check)? {
                concerned.push((context, found));
            }
        }
        if concerned.is_empty() {
            return Err(SessionError::NoSource(name));
        }
        if concerned.iter().all(|(_, found)| found.is_to_be(mode)) {
            for (context, found) in &mut concerned {
                if let Some(done) = self.reload_in(context, &name, &text, mode)? {
                    *found = done;
                }
            }
            self.shown.forget_references();
            if let Some((context, found)) = concerned.iter().find(|(_, found)| found.source != source.id) {
                self.note_reload(context, &source, found);
            }
        }
        let wants_run = arguments.run.unwrap_or(false) && mode != ReloadMode::Check;
        let base = self.client.line_base();
        let done = concerned.iter().all(|(_, found)| found.is_done);
        let ran =
            (done && wants_run).then(|| concerned.iter().map(|(context, _)| self.run_in(context, &name)).collect());
        let functions = merged(concerned.iter().map(|(_, found)| found));
        Ok(ReloadBody {
            path: name,
            done,
            contexts: concerned.iter().map(|(context, _)| context.name.clone()).collect(),
            functions: functions.into_iter().map(|function| info(function, base)).collect(),
            others: concerned.iter().map(|(_, found)| found.others).sum(),
            top_level_changed: concerned.iter().any(|(_, found)| found.top_level_changed),
            ran,
        })
    }

    /// Runs a source anew, in one context.
    fn run_in(&self, context: &Arc<ContextLink>, name: &str) -> RanSourceInfo {
        let source = name.to_owned();
        let outcome = self.ask(context, move |point| point.engine.run_source(&source));
        let error = match outcome {
            Ok(Ok(_)) => None,
            Ok(Err(error)) => Some(error.to_string()),
            Err(error) => Some(error.to_string()),
        };
        RanSourceInfo { context: context.name.clone(), error }
    }

    /// Lists a change of a text, by what tells the texts apart.
    fn note_reload(&mut self, context: &Arc<ContextLink>, before: &Source, found: &Reload) {
        let digest = |source: &Source| source.digest().map(|digest| digest.as_str().to_owned());
        let now = self.host.sources.look().get(found.source).and_then(|source| digest(source));
        self.note_text(context, &before.facts.name, (digest(before), now));
    }

    fn reload_in(
        &self,
        context: &Arc<ContextLink>,
        name: &str,
        text: &Arc<str>,
        mode: ReloadMode,
    ) -> Result<Option<Reload>, SessionError> {
        let (name, text) = (name.to_owned(), text.clone());
        let outcome = self.ask(context, move |point| {
            let outcome = point.engine.reload(&name, &text, mode);
            point.context.note_reloaded();
            outcome
        });
        Ok(outcome??)
    }

    /// The source that is meant, and the text that it is to have.
    fn text_for(&self, arguments: &ReloadArguments) -> Result<(Arc<Source>, Arc<str>), SessionError> {
        let sources = self.host.sources.look();
        let meant = sources.matching(&arguments.path);
        let source = match meant[..] {
            [source] => source.clone(),
            [] => return Err(SessionError::NoSource(arguments.path.clone())),
            _ => {
                let names: Vec<_> = meant.iter().map(|source| source.facts.name.clone()).collect();
                return Err(SessionError::SeveralSources(names.join(", ")));
            }
        };
        if sources.maps().contains_key(&source.id) || sources.is_written(source.id) {
            return Err(SessionError::Compiled(source.facts.name.clone()));
        }
        let text = match &arguments.text {
            Some(text) => text.as_str().into(),
            None => {
                let first = sources.first_named(&source.facts.name);
                let text = first.and_then(|first| first.text().cloned());
                text.ok_or_else(|| SessionError::NoText(source.facts.name.clone()))?
            }
        };
        Ok((source, text))
    }
}

/// The functions of all contexts: those of one place and fate are counted together.
fn merged<'r>(all: impl Iterator<Item = &'r Reload>) -> Vec<ReloadedFunction> {
    let mut functions: Vec<ReloadedFunction> = Vec::new();
    for function in all.flat_map(|found| &found.functions) {
        let is_same = |held: &&mut ReloadedFunction| {
            (&held.name, held.line, &held.fate) == (&function.name, function.line, &function.fate)
        };
        match functions.iter_mut().find(is_same) {
            Some(held) => {
                held.alive += function.alive;
                held.running += function.running;
            }
            None => functions.push(function.clone()),
        }
    }
    functions
}

fn info(function: ReloadedFunction, base: i64) -> ReloadedFunctionInfo {
    let (state, why) = match function.fate {
        FunctionFate::Changed => ("changed", None),
        FunctionFate::Unchanged => ("unchanged", None),
        FunctionFate::New => ("new", None),
        FunctionFate::Gone => ("gone", None),
        FunctionFate::Refused(why) => ("refused", Some(why)),
    };
    ReloadedFunctionInfo {
        name: function.name,
        line: function.line.map(|line| convert::line_number(line, base)),
        state: state.to_owned(),
        why,
        alive: function.alive,
        running: function.running,
    }
}
