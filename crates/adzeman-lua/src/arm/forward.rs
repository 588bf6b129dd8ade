//! Functions that capture more than before: each gets a body that calls another function, which has what takes its place, all that
//! the first one has captured, and what is found of the rest in the functions around it.
//!
//! What is called is a constant of that body, which is compiled for one function alone. It is put there before anything could have
//! looked at the body, while the collector is held; so the collector finds it as it finds every constant. A table that keeps
//! nothing alive by itself holds the body for as long as the function lives.

use std::collections::{BTreeMap, BTreeSet};
use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::source::SourceId;

use super::Arms;
use super::reload::push_function_with;
use super::settling::Placed;
use crate::dialect::{Dialect as _, Version};
use crate::evaluate::FORWARDING;
use crate::ffi::body::{captured_by, with_body};
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::watch::report;
use crate::reload::{Forward, More};

/// What is called in such a body, until it is what is called.
const MARKER: &str = "what it is now";
/// Local variables of a text, at most.
const MOST_CAPTURED: usize = 180;

const SEVERAL: &str = "is there more than once, and which one is its own is not known";
const NOWHERE: &str = "is held by nothing that is alive";

/// The functions of a source that are alive, in a table on the stack.
struct Found {
    /// Where the table is.
    table: c_int,
    /// The number in it and the position of each.
    all: Vec<(i64, usize)>,
    /// Those on stacks.
    running: BTreeSet<i64>,
}

/// Functions that get such a body when they have returned: how many, and how many safe points pass by until it is looked whether
/// they have.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Late {
    count: usize,
    passed_by: u32,
    pass_by: u32,
}

/// Safe points between two such looks, at most.
const MOST_PASSED_BY: u32 = 1024;

/// What is done for each function that captures more than before, by its number among those that were found.
type Work<'w> = dyn FnMut(State, &Found, &Forward, i64) -> Result<(), EngineError> + 'w;

/// Where a captured variable is found: the number of a function, and which of its variables, from 0.
type Donor = (i64, usize);

impl Arms {
    /// Why functions that capture more than before cannot be given what takes their place, by their old positions.
    ///
    /// # Errors
    /// When the state has no memory left, or not all functions are found.
    pub(crate) fn hindrances(
        &self,
        source: SourceId,
        forwards: &[Forward],
    ) -> Result<BTreeMap<usize, String>, EngineError> {
        let mut hindrances = BTreeMap::new();
        self.with_found(source, forwards, &mut |state, found, forward, number| {
            if let Err(why) = donors(state, found, forward, number) {
                hindrances.insert(forward.old, why);
            }
            Ok(())
        })?;
        Ok(hindrances)
    }

    /// Gives each of these functions a body that calls a new one, which has its place in `new`.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn forward(&self, (old, new): (SourceId, SourceId), forwards: &[Forward]) -> Result<(), EngineError> {
        self.with_found(old, forwards, &mut |state, found, forward, number| {
            match donors(state, found, forward, number) {
                Ok(donors) => self.forward_one(state, found, (new, forward), number, &donors),
                // It was told of, and stays as it is.
                Err(_) => Ok(()),
            }
        })
    }

    fn with_found(&self, source: SourceId, forwards: &[Forward], work: &mut Work<'_>) -> Result<(), EngineError> {
        if forwards.is_empty() {
            return Ok(());
        }
        let state = self.main;
        let top = state.top();
        let outcome = self.find_and(source, forwards, work);
        state.cut_to(top);
        outcome
    }

    fn find_and(&self, source: SourceId, forwards: &[Forward], work: &mut Work<'_>) -> Result<(), EngineError> {
        let state = self.main;
        let on_stacks = self.running_functions();
        state.push_table()?;
        let mut found = Found { table: state.top(), all: Vec::new(), running: BTreeSet::new() };
        let settling = self.settling(std::iter::once(source).collect());
        let looked = self.for_each_function(settling, &mut |placed, object| {
            let Placed::At { source: of, position, .. } = placed else { return };
            if of == source && object.push(state) {
                let number = i64::try_from(found.all.len()).unwrap_or(0) + 1;
                state.push_integer(number);
                state.swap();
                report(state.raw_set(found.table));
                found.all.push((number, position));
                if on_stacks.contains(&object.address()) {
                    found.running.insert(number);
                }
            }
        });
        looked.map_err(|why| EngineError::Runtime(why.to_owned()))?;
        for forward in forwards {
            let meant: Vec<_> = found.all.iter().filter(|(_, position)| *position == forward.old).collect();
            for (number, _) in meant {
                let top = state.top();
                work(state, &found, forward, *number)?;
                state.cut_to(top);
            }
        }
        Ok(())
    }

    /// Whether some functions get such a body when they have returned.
    pub(crate) fn has_late(&self) -> bool {
        self.late.get().count > 0
    }

    /// Has functions that ran when they were to get such a body look whether they have returned, those that have get it.
    pub(crate) fn forward_late(&self) {
        let mut late = self.late.get();
        if late.count == 0 {
            return;
        }
        late.passed_by += 1;
        if late.passed_by < late.pass_by {
            return self.late.set(late);
        }
        let state = self.main;
        let top = state.top();
        let left = self.forward_those_that_returned(state);
        state.cut_to(top);
        let pass_by = (late.pass_by * 2).clamp(1, MOST_PASSED_BY);
        self.late.set(Late { count: left, passed_by: 0, pass_by });
        self.watch.forget_bodies();
    }

    /// Answers how many have not.
    fn forward_those_that_returned(&self, state: State) -> usize {
        self.watch.find_all_threads();
        let running = self.running_functions();
        if state.push_slot(Slot::Late) != Type::Table {
            return 0;
        }
        let (late, mut left) = (state.top(), 0);
        state.push_slot(Slot::Forwards);
        let forwards = state.top();
        state.push_nil();
        while matches!(state.next(late), Ok(true)) {
            let function = state.top() - 1;
            if running.contains(&state.address_at(function)) {
                left += 1;
            } else {
                state.push_copy(function);
                state.raw_get(forwards);
                if state.type_at(-1) == Type::Table {
                    state.raw_get_index(-1, 1);
                    with_body(state, -1, |body| body.give_to(state, function));
                }
                // An entry that is there may be taken out while the table is walked.
                state.push_copy(function);
                state.push_nil();
                report(state.raw_set(late));
            }
            state.cut_to(function);
        }
        left
    }

    /// Notes a function that gets its body when it has returned, without keeping it alive.
    fn note_late(&self, state: State, function: c_int) -> Result<(), EngineError> {
        state.push_table_in(Slot::Late, Some(b"k"))?;
        state.push_copy(function);
        state.push_bool(true);
        state.raw_set(-3)?;
        let count = self.late.get().count + 1;
        self.late.set(Late { count, passed_by: 0, pass_by: 1 });
        Ok(())
    }

    fn forward_one(
        &self,
        state: State,
        found: &Found,
        (new, forward): (SourceId, &Forward),
        number: i64,
        donors: &[Option<Donor>],
    ) -> Result<(), EngineError> {
        let was_running = state.hold_collector();
        let outcome = self.forward_held(state, found, (new, forward), number, donors);
        if was_running {
            state.release_collector();
        }
        outcome
    }

    fn forward_held(
        &self,
        state: State,
        found: &Found,
        (new, forward): (SourceId, &Forward),
        number: i64,
        donors: &[Option<Donor>],
    ) -> Result<(), EngineError> {
        let captured = forward.names.len() + donors.len();
        state.raw_get_index(found.table, number);
        let function = state.top();
        // What takes its place.
        push_function_with(state, captured)?;
        let successor = state.top();
        {
            let exchanges = self.exchanges.borrow();
            let body = exchanges.target(new, forward.new).filter(|body| body.captured() == captured);
            let Some(body) = body else { return Ok(()) };
            body.give_to(state, successor);
        }
        if Version::ENVIRONMENTS_BESIDE {
            state.push_environment(function);
            state.set_environment(successor);
        }
        for at in 0..forward.names.len() {
            state.join_captured((successor, at + 1), (function, at + 1));
        }
        for (at, donor) in (forward.names.len()..).zip(donors) {
            match donor {
                Some((holder, held)) => {
                    state.raw_get_index(found.table, *holder);
                    state.join_captured((successor, at + 1), (state.top(), held + 1));
                    state.pop(1);
                }
                None => {
                    state.push_globals();
                    state.set_captured(successor, at + 1);
                }
            }
        }
        // What calls that.
        push_forwarding(state, &forward.names)?;
        let caller = state.top();
        let address = state.address_at(successor);
        let is_put = with_body(state, caller, |body| body.put_function(state, MARKER, address)).unwrap_or(Ok(false))?;
        let fits = captured_by(state, caller) == forward.names.len();
        if !is_put || !fits {
            return Ok(());
        }
        self.keep_forwarding(state, function, caller, successor)?;
        if found.running.contains(&number) {
            return self.note_late(state, function);
        }
        with_body(state, caller, |body| body.give_to(state, function));
        Ok(())
    }

    /// Keeps what a function calls from now on for as long as it lives, and finds it again.
    fn keep_forwarding(
        &self,
        state: State,
        function: c_int,
        caller: c_int,
        successor: c_int,
    ) -> Result<(), EngineError> {
        state.push_table_in(Slot::Forwards, Some(b"k"))?;
        let kept = state.top();
        state.push_copy(function);
        state.push_table()?;
        for (number, held) in [(1, caller), (2, successor)] {
            state.push_integer(number);
            state.push_copy(held);
            state.raw_set(-3)?;
        }
        state.raw_set(kept)
    }
}

/// Where what a function captures besides is found; none where the globals of the state are meant.
fn donors(state: State, found: &Found, forward: &Forward, number: i64) -> Result<Vec<Option<Donor>>, String> {
    if forward.names.len() + forward.more.len() > MOST_CAPTURED {
        return Err("it captures more than can be given to it".to_owned());
    }
    let own: BTreeSet<usize> = (0..forward.names.len())
        .filter(|at| forward.names[*at] != "_ENV")
        .map(|at| identity(state, found, (number, at)))
        .collect();
    forward.more.iter().map(|more| donor(state, found, more, &own)).collect()
}

/// Which captured variable that is: equal for the same.
fn identity(state: State, found: &Found, (holder, at): Donor) -> usize {
    state.raw_get_index(found.table, holder);
    let identity = state.captured_identity(-1, at + 1);
    state.pop(1);
    identity
}

/// Where a variable is found that a function captures besides those of before, which are `own`.
fn donor(state: State, found: &Found, more: &More, own: &BTreeSet<usize>) -> Result<Option<Donor>, String> {
    let holders = found.all.iter().flat_map(|(number, position)| {
        let held = more.held_by.iter().filter(move |(function, _)| function == position);
        held.map(move |(_, at)| (*number, *at))
    });
    let mut candidates: BTreeMap<usize, Vec<Donor>> = BTreeMap::new();
    for holder in holders {
        candidates.entry(identity(state, found, holder)).or_default().push(holder);
    }
    let name = &more.name;
    if more.name == "_ENV" {
        // Each time a script is loaded it is given globals of its own, which are the same ones for most. What was loaded to arm it, and let
        // go of since, has none.
        let all = || candidates.values().map(|holders| holders[0]);
        let first = all().find(|one| !holds_nothing(state, found, *one)).or_else(|| all().next());
        let Some(first) = first else { return Ok(None) };
        let is_same = all().all(|one| holds_nothing(state, found, one) || holds_same(state, found, first, one));
        return if is_same {
            Ok(Some(first))
        } else {
            Err("it uses globals, and which ones are meant is not known".to_owned())
        };
    }
    let near = |holders: &[Donor]| holders.iter().any(|(holder, _)| shares(state, found, *holder, own));
    let all: Vec<Donor> = candidates.values().map(|holders| holders[0]).collect();
    match all[..] {
        [] => Err(format!("it uses '{name}', which {NOWHERE}")),
        [one] => Ok(Some(one)),
        _ => {
            let near: Vec<Donor> =
                candidates.values().filter(|holders| near(holders)).map(|holders| holders[0]).collect();
            match near[..] {
                [one] => Ok(Some(one)),
                _ => Err(format!("it uses '{name}', which {SEVERAL}")),
            }
        }
    }
}

/// Whether a captured variable holds nil.
fn holds_nothing(state: State, found: &Found, (holder, at): Donor) -> bool {
    let top = state.top();
    state.raw_get_index(found.table, holder);
    let holds_something = state.push_captured(-1, at + 1).is_some() && state.type_at(-1) != Type::Nil;
    state.cut_to(top);
    !holds_something
}

/// Whether two captured variables hold the same value.
fn holds_same(state: State, found: &Found, one: Donor, other: Donor) -> bool {
    let top = state.top();
    for (holder, at) in [one, other] {
        state.raw_get_index(found.table, holder);
        if state.push_captured(-1, at + 1).is_none() {
            state.push_nil();
        }
    }
    let is_same = state.raw_equal(-1, -3);
    state.cut_to(top);
    is_same
}

/// Whether a function has captured one of these variables.
fn shares(state: State, found: &Found, holder: i64, own: &BTreeSet<usize>) -> bool {
    state.raw_get_index(found.table, holder);
    let count = captured_by(state, -1);
    let shares = (1..=count).any(|number| own.contains(&state.captured_identity(-1, number)));
    state.pop(1);
    shares
}

/// Pushes a function that has captured variables of these names, and calls [`MARKER`] with all that it is given.
///
/// # Errors
/// When the state has no memory left.
fn push_forwarding(state: State, names: &[String]) -> Result<(), EngineError> {
    let (declared, mentioned) = match names {
        [] => (String::new(), String::new()),
        names => (format!("local {} ", names.join(",")), format!("if nil then local _={} end ", names.join(";_="))),
    };
    let text = format!("{declared}return function(...) {mentioned}return (\"{MARKER}\")(...) end");
    state.load(&text, FORWARDING)?;
    if state.call_plainly(0, 1) { Ok(()) } else { Err(EngineError::Runtime("the state has no memory left".to_owned())) }
}
