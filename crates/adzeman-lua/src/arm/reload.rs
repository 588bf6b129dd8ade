//! Giving the functions of a source the bodies of another text.

use std::ffi::CString;
use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::engine::EngineError;
use adzeman_core::source::SourceId;
use rustc_hash::FxHashSet as HashSet;

use super::exchange::Asked;
use super::settling::{Placed, Settling};
use super::workshop::{NOT_MADE, Order, order};
use super::{Arms, NOT_KNOWN};
use crate::ffi::body::{captured_by, with_body};
use crate::ffi::layout;
use crate::ffi::objects::{Object, Progress, Sweep};
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::watch::report;
use crate::reload::{compiled_as, planned};

/// How long all functions are looked for at once.
const FAR: Duration = Duration::from_secs(3600);

/// The functions of a source that are alive.
#[derive(Debug, Default)]
pub(crate) struct Alive {
    /// How many there are of each position in the text.
    pub(crate) count: Vec<usize>,
    /// How many of these are on a stack.
    pub(crate) running: Vec<usize>,
    /// How many are of no position that is known.
    pub(crate) strangers: usize,
}

/// Has texts read and compiled ahead, by this thread, which runs no script.
pub(crate) fn prepare_reload(name: &str, old: &str, new: &str) {
    let Ok(chunk_name) = CString::new(format!("@{name}")) else { return };
    let compiled_as = compiled_as(old);
    let Ok(plan) = planned(old, &compiled_as, new, &chunk_name) else { return };
    for text in [&compiled_as, &plan.compiled_as] {
        let asked = Asked::default();
        let order_of = Order { text: text.clone(), chunk_name: chunk_name.clone(), asked };
        // What came of it stays on the shelf for a while.
        drop(order(order_of, true, &Arc::default()));
    }
}

/// Pushes a function that has captured so many variables, all of them nil.
///
/// # Errors
/// When that are more than a text can name, or the state has no memory left.
pub(super) fn push_function_with(state: State, captured: usize) -> Result<(), EngineError> {
    let names: Vec<_> = (0..captured).map(|number| format!("v{number}")).collect();
    let names = names.join(",");
    let text = if captured == 0 {
        "return function() end".to_owned()
    } else {
        format!("local {names} return function() return {names} end")
    };
    state.load(&text, c"=kept on")?;
    if state.call_plainly(0, 1) { Ok(()) } else { Err(EngineError::Runtime("the state has no memory left".to_owned())) }
}

impl Arms {
    /// Counts the functions of a source, which has so many positions.
    ///
    /// # Errors
    /// Why they cannot be found.
    pub(crate) fn alive(&self, source: SourceId, positions: usize) -> Result<Alive, &'static str> {
        if !layout::is_known() {
            return Err(NOT_KNOWN);
        }
        let (text, chunk_name) = self.scripts.text_of(source).ok_or(NOT_MADE)?;
        self.make_plain(source, text, chunk_name)?;
        let settling = self.settling(std::iter::once(source).collect());
        let running = self.running_functions();
        let mut alive = Alive { count: vec![0; positions], running: vec![0; positions], strangers: 0 };
        self.for_each_function(settling, &mut |placed, object| match placed {
            Placed::At { source: of, position, .. } if of == source => {
                alive.count[position] += 1;
                alive.running[position] += usize::from(running.contains(&object.address()));
            }
            Placed::Stranger(_) => alive.strangers += 1,
            // What was not written any more in an earlier change.
            Placed::At { .. } | Placed::Elsewhere => {}
        })?;
        Ok(alive)
    }

    pub(super) fn for_each_function(
        &self,
        mut settling: Settling,
        look: &mut dyn FnMut(Placed, Object<'_>),
    ) -> Result<(), &'static str> {
        self.watch.find_all_threads();
        settling.begin_slice();
        let sweep = Sweep::kept_in(Slot::Reload);
        let exchanges = self.exchanges.borrow();
        let progress = sweep.step(self.main, Instant::now() + FAR, &mut |object| {
            if object.kind() == Type::Function && !exchanges.roots.contains(&object.address()) {
                look(settling.place(&exchanges, self.main, object, object.body()), object);
            }
        });
        self.main.clear_slot(Slot::Reload);
        let is_whole = matches!(progress, Ok(Progress::Done));
        if is_whole { Ok(()) } else { Err("the functions of this engine cannot all be found") }
    }

    /// Has the bodies of a source, which is compiled as this text.
    ///
    /// # Errors
    /// Why they cannot be made.
    pub(crate) fn make_plain(&self, source: SourceId, text: Arc<str>, chunk_name: CString) -> Result<(), &'static str> {
        if self.has_bodies(source) {
            return Ok(());
        }
        let asked = Asked::default();
        let made = order(Order { text, chunk_name, asked: asked.clone() }, true, &self.supervisor.attention());
        let made = made.outcome().unwrap_or(Err(NOT_MADE))?;
        self.exchanges.borrow_mut().take(self.main, source, asked, &made)
    }

    /// Gives the functions of a source the bodies of another one, which [are made](Self::make_plain), by positions; those on stacks
    /// get them when they have returned.
    pub(crate) fn succeed(&self, (old, new): (SourceId, SourceId), successors: Vec<Option<usize>>) {
        {
            let mut exchanges = self.exchanges.borrow_mut();
            exchanges.succeed(old, new, successors);
            exchanges.unsettle(new);
        }
        let until = Instant::now() + FAR;
        while self.is_looking() {
            self.advance(until);
        }
    }

    /// The prototypes of the functions of a source that run on in its text, because they are on stacks or nothing takes their place,
    /// and of all that those define. They are kept from now on, though not the functions: what is known by their addresses
    /// stays so.
    ///
    /// # Errors
    /// When the state has no memory left, or the functions cannot all be found.
    pub(crate) fn keep_those_that_stay(
        &self,
        source: SourceId,
        successors: &[Option<usize>],
    ) -> Result<Vec<usize>, EngineError> {
        let top = self.main.top();
        let outcome = self.keep_on_top(source, successors);
        self.main.cut_to(top);
        outcome
    }

    fn keep_on_top(&self, source: SourceId, successors: &[Option<usize>]) -> Result<Vec<usize>, EngineError> {
        let state = self.main;
        let settling = self.settling(std::iter::once(source).collect());
        let running = self.running_functions();
        state.push_table_in(Slot::KeptOn, None)?;
        let (kept, mut seen) = (state.top(), HashSet::default());
        let before = i64::try_from(state.raw_len(kept)).unwrap_or(0);
        let mut last = before;
        let looked = self.for_each_function(settling, &mut |placed, object| {
            let Placed::At { source: of, position, .. } = placed else { return };
            let stays = successors.get(position).copied().flatten().is_none() || running.contains(&object.address());
            if of == source && stays && seen.insert(object.body().address()) && object.push(state) {
                last += 1;
                state.push_integer(last);
                state.swap();
                report(state.raw_set(kept));
            }
        });
        looked.map_err(|why| EngineError::Runtime(why.to_owned()))?;
        let mut found = Vec::new();
        for number in before + 1..=last {
            state.raw_get_index(kept, number);
            // A function that has captured as many variables, and nothing in them, keeps the body in the place of the one that was
            // found, and of what that has captured.
            let captured = captured_by(state, -1);
            push_function_with(state, captured)?;
            with_body(state, -2, |body| {
                body.with_all_inside(&mut found);
                body.give_to(state, -1);
            });
            self.exchanges.borrow_mut().roots.insert(state.address_at(-1));
            state.push_integer(number);
            state.swap();
            state.raw_set(kept)?;
            state.pop(1);
        }
        Ok(found)
    }
}
