//! Giving the functions of a script the bodies of a changed text, in place.

use std::collections::BTreeMap;
use std::ffi::CString;
use std::sync::Arc;

use adzeman_core::engine::{EngineError, FunctionFate, Reload, ReloadMode, ReloadedFunction};
use adzeman_core::source::{Line, SourceFacts};

use super::Context;
use crate::arm::Alive;
use crate::environments;
use crate::facts::of_text;
use crate::ffi::apart::in_new_state;
use crate::reload::{Plan, Row, planned};

impl Context {
    /// Gives the functions of the source of this name the bodies of another text, all of them or none, unless the mode says
    /// otherwise. `None` where this state has no such source.
    ///
    /// # Errors
    /// Why that cannot be; nothing is changed then, unless the memory of the state has run out half-way.
    pub(crate) fn reload(&self, name: &str, text: &str, mode: ReloadMode) -> Result<Option<Reload>, EngineError> {
        let refused = |why: &str| EngineError::Runtime(format!("{name} cannot be changed: {why}"));
        let Some((chunk_name, source)) = self.scripts.now_called(name) else { return Ok(None) };
        let c_name = CString::new(chunk_name.as_str()).map_err(|_| refused("its name is none"))?;
        let written = self.scripts.written(source).ok_or_else(|| refused("the text that runs is not known"))?;
        let (compiled_as, _) =
            self.scripts.text_of(source).ok_or_else(|| refused("the text that runs is not known"))?;
        let held = planned(&written, &compiled_as, text, &c_name).map_err(|why| {
            // What does not compile is told with its line.
            let compiles = in_new_state(|state| state.load(text, &c_name));
            compiles.and_then(Result::err).unwrap_or_else(|| refused(why))
        })?;
        let alive = self.arms.alive(source, held.successors.len()).map_err(refused)?;
        let hindrances = self.arms.hindrances(source, &held.forwards)?;
        let functions: Vec<_> = held.rows.iter().skip(1).map(|row| row_of(row, &alive, &hindrances)).collect();
        let mut answer = Reload {
            source,
            functions,
            others: alive.strangers,
            top_level_changed: held.top_level_changed,
            is_done: false,
        };
        if answer.is_to_be(mode) {
            answer.is_done = true;
            if *written != *text {
                answer.source =
                    self.succeed(name, (chunk_name, c_name), text, source, &held).map_err(|why| match why {
                        Refusal::Engine(error) => error,
                        Refusal::Why(why) => refused(why),
                    })?;
            }
        }
        Ok(Some(answer))
    }

    fn succeed(
        &self,
        name: &str,
        (chunk_name, c_name): (String, CString),
        text: &str,
        source: adzeman_core::source::SourceId,
        plan: &Plan,
    ) -> Result<adzeman_core::source::SourceId, Refusal> {
        let text: Arc<str> = text.into();
        let staying = self.arms.keep_those_that_stay(source, &plan.successors).map_err(Refusal::Engine)?;
        let facts = SourceFacts { replaces: Some(source), ..of_text(name, &c_name, text.clone()) };
        let new = self.supervisor.source_loaded(facts);
        self.scripts.succeed(&chunk_name, text, plan.compiled_as.clone(), new);
        // While its functions still are what they were.
        self.arms.make_plain(new, plan.compiled_as.clone(), c_name).map_err(Refusal::Why)?;
        self.arms.forward((source, new), &plan.forwards).map_err(Refusal::Engine)?;
        self.arms.succeed((source, new), plan.successors.clone());
        self.scripts.keep_on(&staying, source);
        self.arms.tell_progress();
        self.evaluator.forget_kept();
        environments::forget(self.main);
        Ok(new)
    }
}

enum Refusal {
    Engine(EngineError),
    Why(&'static str),
}

fn row_of(row: &Row, alive: &Alive, hindrances: &BTreeMap<usize, String>) -> ReloadedFunction {
    let count = |counts: &[usize]| row.old.and_then(|old| counts.get(old)).copied().unwrap_or(0);
    let hindered = row.old.and_then(|old| hindrances.get(&old)).filter(|_| row.fate != FunctionFate::Gone);
    let fate = hindered.map_or_else(|| row.fate.clone(), |why| FunctionFate::Refused(why.clone()));
    ReloadedFunction {
        name: row.name.clone(),
        line: Line::new(row.line),
        fate,
        alive: count(&alive.count),
        running: count(&alive.running),
    }
}
