//! Finding functions and coroutines by walking everything a Lua state holds, from the registry on. Nothing of the script
//! runs.

use std::collections::HashSet;
use std::ffi::c_int;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::activation::Activation;
use super::internals;
use super::state::{Slot, State, Type};

/// The most values looked at in one walk; a larger state is walked as far as this.
pub(crate) const MOST_VALUES: usize = 200_000;

/// Walks, showing each Lua function and each thread once, on top of the stack. Answers whether it came to everything.
///
/// # Errors
/// When the list of what is still to be looked at cannot grow.
pub(crate) fn walk(state: State, show: &mut dyn FnMut(State, Type)) -> Result<bool, EngineError> {
    let top = state.top();
    let was_running = state.hold_collector();
    let outcome = Walk::new(state).and_then(|mut walk| walk.run(show));
    state.cut_to(top);
    if was_running {
        state.release_collector();
    }
    outcome
}

struct Walk {
    state: State,
    /// Index of the table that holds what is still to be looked at.
    waiting: c_int,
    count: i64,
    seen: HashSet<usize>,
}

impl Walk {
    fn new(state: State) -> Result<Self, EngineError> {
        state.push_table()?;
        Ok(Self { state, waiting: state.top(), count: 0, seen: HashSet::new() })
    }

    fn run(&mut self, show: &mut dyn FnMut(State, Type)) -> Result<bool, EngineError> {
        self.state.push_copy(ffi::LUA_REGISTRYINDEX);
        self.add()?;
        self.state.push_self();
        self.add()?;
        while self.count > 0 && self.seen.len() < MOST_VALUES {
            let top = self.state.top();
            self.state.raw_get_index(self.waiting, self.count);
            self.count -= 1;
            let kind = self.state.type_at(-1);
            match kind {
                Type::Table => self.table()?,
                Type::Function => self.function(show)?,
                Type::Userdata => self.userdata()?,
                Type::Thread => {
                    show(self.state, kind);
                    self.thread()?;
                }
                _ => {}
            }
            self.state.cut_to(top);
        }
        Ok(self.count == 0)
    }

    /// Takes the value on top into the list, if it can hold others and was not seen.
    fn add(&mut self) -> Result<(), EngineError> {
        let holds = matches!(self.state.type_at(-1), Type::Table | Type::Function | Type::Userdata | Type::Thread);
        if !holds || !self.seen.insert(self.state.address_at(-1)) {
            self.state.pop(1);
            return Ok(());
        }
        self.count += 1;
        self.state.push_integer(self.count);
        self.state.swap();
        self.state.raw_set(self.waiting)
    }

    fn metatable(&mut self) -> Result<(), EngineError> {
        if self.state.push_metatable(-1) { self.add() } else { Ok(()) }
    }

    fn table(&mut self) -> Result<(), EngineError> {
        self.metatable()?;
        let table = self.state.top();
        self.state.push_nil();
        while self.state.next(table)? {
            self.add()?;
            self.state.push_copy(-1);
            self.add()?;
        }
        Ok(())
    }

    fn function(&mut self, show: &mut dyn FnMut(State, Type)) -> Result<(), EngineError> {
        if !self.state.is_native_function(-1) {
            show(self.state, Type::Function);
        }
        let function = self.state.top();
        for number in 1.. {
            if self.state.push_captured(function, number).is_none() {
                break;
            }
            self.add()?;
        }
        Ok(())
    }

    fn userdata(&mut self) -> Result<(), EngineError> {
        self.metatable()?;
        let userdata = self.state.top();
        for number in 1.. {
            // SAFETY: the value at this index is a full userdata; its slot is pushed into the room that `add` keeps.
            let kind = unsafe { ffi::lua_getiuservalue(self.state.raw(), userdata, number) };
            if kind == ffi::LUA_TNONE {
                self.state.pop(1);
                break;
            }
            self.add()?;
        }
        Ok(())
    }

    fn thread(&mut self) -> Result<(), EngineError> {
        let Some(thread) = self.state.thread_at(-1) else { return Ok(()) };
        if thread == self.state {
            for index in 1..self.waiting {
                thread.push_copy(index);
                self.add()?;
            }
        } else {
            for index in 1..=thread.top() {
                thread.push_copy(index);
                thread.move_to(self.state, 1);
                self.add()?;
            }
        }
        let mut outcome = Ok(());
        thread.for_each_level(|_, function| {
            outcome = self.activation(thread, function);
            outcome.is_ok()
        });
        outcome
    }

    fn activation(&mut self, thread: State, function: &Activation) -> Result<(), EngineError> {
        function.push_function();
        thread.move_to(self.state, 1);
        self.add()?;
        for number in 1.. {
            if function.push_local(number).is_none() {
                break;
            }
            thread.move_to(self.state, 1);
            self.add()?;
        }
        Ok(())
    }
}

/// Notes a thread in the list of known ones, which does not keep it alive. The thread is on top of `state`; it is popped.
pub(crate) fn note_thread(state: State) -> Result<(), EngineError> {
    let Some(thread) = state.thread_at(-1) else {
        state.pop(1);
        return Ok(());
    };
    if state.push_slot(Slot::Threads) != Type::Table {
        state.pop(2);
        return Ok(());
    }
    state.swap();
    state.push_integer(i64::try_from(thread.address()).unwrap_or(0));
    state.swap();
    state.raw_set(-3)?;
    state.pop(1);
    Ok(())
}

/// What came of a look for new threads.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Met {
    /// All are known.
    All,
    /// There are more objects since the last look than were to be gone through.
    TooMany,
    /// The engine's own list of objects is not known.
    NotKnown,
}

/// Notes the threads that were made since this was called last, and shows each, without walking anything else, unless more than
/// `most` objects were.
pub(crate) fn note_new_threads(state: State, most: usize, show: &mut dyn FnMut(State)) -> Result<Met, EngineError> {
    let top = state.top();
    let was_running = state.hold_collector();
    let found = note_threads_on(state, most, show);
    if was_running {
        state.release_collector();
    }
    state.cut_to(top);
    found
}

fn note_threads_on(state: State, most: usize, show: &mut dyn FnMut(State)) -> Result<Met, EngineError> {
    let mark = (state.push_slot(Slot::Newest) == Type::Table).then(|| state.address_at(-1));
    state.push_table()?;
    let newest = state.address_at(-1);
    let Some(list) = internals::header(state).filter(|list| list.first() == newest) else {
        return Ok(Met::NotKnown);
    };
    // Nothing is behind the end of the list.
    let objects = std::iter::successors(Some(newest), |object| (*object != 0).then(|| list.next(*object)));
    let new = objects.take_while(|object| *object != 0 && Some(*object) != mark);
    let mut threads: Vec<usize> = Vec::new();
    for (count, object) in new.enumerate() {
        if count >= most {
            return Ok(Met::TooMany);
        }
        if list.tag(object) == ffi::LUA_TTHREAD as u8 && list.is_alive(object) {
            threads.push(object);
        }
    }
    state.set_slot(Slot::Newest)?;
    for thread in threads {
        // SAFETY: the thread was found alive, and the collector is held.
        let thread = unsafe { State::new(thread as *mut ffi::lua_State) };
        thread.push_self();
        thread.move_to(state, 1);
        note_thread(state)?;
        show(thread);
    }
    Ok(Met::All)
}

/// Runs `work`, which notes no threads, on each known thread that is still alive.
pub(crate) fn for_each_thread(state: State, work: &mut dyn FnMut(State)) {
    let top = state.top();
    if state.push_slot(Slot::Threads) == Type::Table {
        let table = state.top();
        state.push_nil();
        // Its keys are numbers, which the collector takes out of no table.
        while state.next_of_unchanged(table) {
            if let Some(thread) = state.thread_at(-1) {
                work(thread);
            }
            state.pop(1);
        }
    }
    state.cut_to(top);
}

/// Runs `look` on the known thread with this address, if it is still alive. What it pushes onto `state` stays there.
pub(crate) fn with_thread<T>(state: State, address: usize, look: impl FnOnce(State) -> T) -> Option<T> {
    let top = state.top();
    let mut found = None;
    if state.push_slot(Slot::Threads) == Type::Table {
        state.raw_get_index(-1, i64::try_from(address).unwrap_or(0));
        let thread = state.thread_at(-1);
        // The thread is below what is pushed, and goes afterwards.
        state.remove(top + 1);
        found = thread.map(look);
        state.remove(top + 1);
        return found;
    }
    state.cut_to(top);
    found
}

/// Makes the list of known threads.
pub(crate) fn prepare_threads(state: State) -> Result<(), EngineError> {
    state.push_table()?;
    state.make_weak(b"v")?;
    state.set_slot(Slot::Threads)
}
