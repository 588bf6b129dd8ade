//! Samples of the stack, as functions and stacks of core.

use adzeman_core::engine::EngineError;
use adzeman_core::heap::Written;
use adzeman_core::profile::{Frame, Function, Profile, Stack};
use rustc_hash::FxHashMap as HashMap;

use super::Context;
use crate::evaluate::is_of_binding;
use crate::ffi::layout;
use crate::ffi::library::native_at;
use crate::ffi::profile::{Met, Samples};
use crate::ffi::whereabouts::FINALIZER;
use crate::heap::{names_of_natives, written};
use crate::text::{LANGUAGE, display_name};

/// What runs in the place of a script while its finalizers do.
const OF_FINALIZER: &str = "(a finalizer)";
/// Of stacks that were too many to be told apart.
const OTHERS: &str = "(others)";

impl Context {
    /// # Errors
    /// Where it is not known which function runs.
    pub(crate) fn begin_profile(&self) -> Result<(), EngineError> {
        if !layout::is_known() {
            let why = "samples cannot be taken: which function runs is not known for this build of Lua".to_owned();
            return Err(EngineError::Runtime(why));
        }
        self.watch.begin_profile();
        Ok(())
    }

    pub(crate) fn end_profile(&self) -> Profile {
        let (samples, idle, spent) = self.watch.end_profile();
        self.set_hooks_again();
        let spent = spent + samples.spent;
        let names = names_of_natives(self.main);
        let mut profile = Profile {
            idle,
            spent_nanoseconds: u64::try_from(spent.as_nanos()).unwrap_or(u64::MAX),
            ..Profile::default()
        };
        let mut known: HashMap<usize, Option<usize>> = HashMap::default();
        let Samples { stacks, functions, events, .. } = samples;
        for ((event, frames), count) in stacks {
            let mut place = |key: usize| {
                *known.entry(key).or_insert_with(|| {
                    let function = self.function(key, functions.get(&key), &names)?;
                    let at = profile.functions.iter().position(|held| *held == function);
                    Some(at.unwrap_or_else(|| {
                        profile.functions.push(function);
                        profile.functions.len() - 1
                    }))
                })
            };
            let placed =
                frames.iter().rev().filter_map(|(key, line)| Some(Frame { function: place(*key)?, line: *line }));
            let mut frames: Vec<Frame> = placed.collect();
            if frames.is_empty() {
                let others = Function { name: Some(OTHERS.to_owned()), defined: None };
                profile.functions.push(others);
                frames.push(Frame { function: profile.functions.len() - 1, line: 0 });
            }
            let event = events.get(event).cloned().flatten();
            profile.stacks.push(Stack { context: String::new(), event, frames, samples: count });
        }
        profile.stacks.sort_by_key(|stack| std::cmp::Reverse(stack.samples));
        profile
    }

    /// What a function is; nothing for one of the binding, which is between the host and its functions.
    fn function(&self, key: usize, met: Option<&Met>, names: &HashMap<usize, String>) -> Option<Function> {
        if key == FINALIZER {
            return Some(Function { name: Some(OF_FINALIZER.to_owned()), defined: None });
        }
        let Some(Met { name, defined: Some((chunk_name, line)), is_main }) = met else {
            let name = names.get(&key).cloned();
            let name = name.or_else(|| native_at(key).map(|native| native.name.clone()));
            return Some(Function { name: name.or_else(|| met?.name.clone()), defined: None });
        };
        if is_of_binding(chunk_name.as_bytes()) {
            return None;
        }
        let text = self.scripts.named(chunk_name).and_then(|source| self.scripts.written(source));
        let defined: Written = written(chunk_name, *line, text.as_deref());
        let name = if *is_main {
            Some(format!("{} {}", LANGUAGE.whole_script, display_name(chunk_name)))
        } else {
            name.clone()
        };
        Some(Function { name, defined: Some(defined) })
    }
}
