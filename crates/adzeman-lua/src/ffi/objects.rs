//! Everything that a state holds, by the engine's own list of objects, newest first: a walk in slices, between which the script
//! runs on. Nothing of the script runs for it, and nothing is made but what the walk is kept by.
//!
//! A walk is over when a pass has come from the newest object of this moment to what an earlier pass began with: so all objects
//! there are were shown, those made between two slices too. What is dead and not swept yet is passed over. Where a slice ends,
//! an object that is alive is kept in the registry until the next one, so that what is behind it is found again.

use std::cell::Cell;
use std::ffi::{c_int, c_void};
use std::marker::PhantomData;
use std::time::Instant;

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::body::{Body, body_of};
use super::internals::{self, Header};
use super::layout;
use super::sizes::object_address;
use super::state::{Slot, State, Type};
use crate::dialect::{Dialect as _, Version};

/// Objects that are always gone through, which takes a millisecond and a half at the most, and then between two looks at the time.
pub(crate) const LEAST: usize = 8192;
const GLANCE: usize = 128;
/// The same where each of them is looked into.
const LEAST_VALUES: usize = 1024;
/// What the walk keeps in its table: what this pass began with, what it ends at, and where it goes on.
const BEGAN_WITH: i64 = 1;
const ENDS_AT: i64 = 2;
const GOES_ON_AT: i64 = 3;

/// An object of a state, alive while it is shown.
#[derive(Clone, Copy)]
pub(crate) struct Object<'a> {
    address: usize,
    /// Its type, as its header has it.
    tag: u8,
    alive: PhantomData<&'a ()>,
}

impl<'a> Object<'a> {
    /// The function or thread on top of `state`, which stays there meanwhile.
    pub(crate) fn on_top(state: &'a State, kind: Type) -> Self {
        let tag = if kind == Type::Function { LUA_FUNCTION } else { THREAD };
        Self { address: state.address_at(-1), tag, alive: PhantomData }
    }

    /// What was found at an address.
    ///
    /// # Safety
    /// There is an object, which stays alive for as long as the answer is used, of a state whose collector is held.
    pub(super) unsafe fn at(address: usize) -> Self {
        // SAFETY: given by the caller.
        let tag = unsafe { internals::tag_of(address) };
        Self { address, tag, alive: PhantomData }
    }

    /// Its type; [`Type::None`] for what no script can have.
    pub(crate) fn kind(self) -> Type {
        match self.tag {
            SHORT_STRING | LONG_STRING => Type::String,
            TABLE => Type::Table,
            LUA_FUNCTION | NATIVE_CLOSURE => Type::Function,
            USERDATA => Type::Userdata,
            THREAD => Type::Thread,
            _ => Type::None,
        }
    }

    pub(crate) fn address(self) -> usize {
        self.address
    }

    /// The body of a function written in Lua; only where the layout is known.
    pub(crate) fn body(self) -> Body<'a> {
        // SAFETY: the object is an alive Lua function.
        unsafe { body_of(self.address) }
    }

    /// Gives a function written in Lua, which is on no stack, another body, that was paired with its own.
    pub(crate) fn give(self, body: Body<'_>) {
        // SAFETY: as in `body`; the rest is said of the caller (see the text of `body.rs`).
        unsafe { body.give_to_closure(self.address) };
    }

    /// Pushes it; false, and nothing pushed, where that cannot be done.
    pub(crate) fn push(self, state: State) -> bool {
        push_object(state, self.address, self.tag)
    }
}

/// The types of objects, as their headers have them (`lobject.h`).
const SHORT_STRING: u8 = 4;
const LONG_STRING: u8 = 4 | 1 << 4;
const LUA_FUNCTION: u8 = 6;
const NATIVE_CLOSURE: u8 = internals::NATIVE_CLOSURE;
const TABLE: u8 = ffi::LUA_TTABLE as u8;
const USERDATA: u8 = ffi::LUA_TUSERDATA as u8;
const THREAD: u8 = ffi::LUA_TTHREAD as u8;
/// Of a value on a stack that is an object.
const IS_OBJECT: u8 = Version::TAGS.is_object;
/// What is in the tag of a value where nothing but the type is.
const TYPE: u8 = 0xf;

/// Pushes the object at an address, which is alive; false, and nothing pushed, where the stack is not as it should be.
fn push_object(state: State, address: usize, tag: u8) -> bool {
    state.push_pointer(address as *mut c_void);
    let position = state.top();
    // SAFETY: the layout is known, as objects are; the value above the running function's is the one pushed just now, which is
    // checked before it is changed. An object that is alive may be on a stack; stacks are looked at once more before a sweep.
    unsafe {
        let value = layout::value_at(state.raw(), position).cast_mut();
        let held = value.cast::<usize>();
        let kind = value.wrapping_byte_add(layout::TAG_OF_VALUE).cast::<u8>();
        if held.read() != address || kind.read() != ffi::LUA_TLIGHTUSERDATA as u8 {
            state.pop(1);
            return false;
        }
        kind.write(if IS_OBJECT == 0 { tag & TYPE } else { tag | IS_OBJECT });
    }
    true
}

/// Whether a pass has begun.
enum Begun {
    Yes,
    /// There is no object.
    Empty,
    NotKnown,
}

/// How far a walk has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Progress {
    /// All there is was shown.
    Done,
    /// The time was up.
    Going,
    /// The engine's list is not known.
    NotKnown,
}

/// Which objects a walk is over.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Over {
    /// Functions written in Lua and threads, none of which has a finalizer.
    Code,
    /// All values without a finalizer that the engine allocates.
    Values,
    /// Those with one.
    Finalized,
}

/// A walk over objects of one state.
#[derive(Debug)]
pub(crate) struct Sweep {
    /// Where what it is kept by is kept.
    slot: Slot,
    over: Over,
    /// Whether a pass has begun that is to go on.
    is_going: Cell<bool>,
    /// Whether the walk under way, if one is, was given up.
    is_given_up: Cell<bool>,
    /// Objects of the walk under way so far, and of the last one that came to its end.
    count: Cell<usize>,
    last_count: Cell<Option<usize>>,
}

impl Sweep {
    /// One over functions written in Lua and threads, that is kept in this slot.
    pub(crate) fn kept_in(slot: Slot) -> Self {
        Self::over(Over::Code, slot)
    }

    /// Two that show all values together, each kept in a slot: those without a finalizer and those with one.
    pub(crate) fn of_all_values(slots: [Slot; 2]) -> [Self; 2] {
        [Self::over(Over::Values, slots[0]), Self::over(Over::Finalized, slots[1])]
    }

    fn over(over: Over, slot: Slot) -> Self {
        Self {
            slot,
            over,
            is_going: Cell::new(false),
            is_given_up: Cell::new(false),
            count: Cell::new(0),
            last_count: Cell::new(None),
        }
    }

    /// If none is under way, has the next walk come to what was made since the last one began, and to nothing else.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn only_new(&self, state: State) -> Result<(), EngineError> {
        if self.is_going.get() || self.last_count.get().is_none() || self.is_given_up.get() {
            return Ok(());
        }
        let top = state.top();
        let ended = if state.push_slot(self.slot) == Type::Table {
            let kept = state.top();
            state.raw_get_index(kept, BEGAN_WITH);
            set(state, kept, ENDS_AT)
        } else {
            Ok(())
        };
        state.cut_to(top);
        ended
    }

    /// Goes on, or begins, until it is over or the time is up. Each object that it is over is shown at least once; `show` makes none,
    /// and leaves the stack as it was.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn step(
        &self,
        state: State,
        until: Instant,
        show: &mut dyn FnMut(Object<'_>),
    ) -> Result<Progress, EngineError> {
        let top = state.top();
        let was_running = state.hold_collector();
        let outcome = self.step_held(state, until, show);
        state.cut_to(top);
        if was_running {
            state.release_collector();
        }
        if outcome.is_err() {
            self.give_up();
        }
        outcome
    }

    /// Gives up the walk under way: the next step begins another one.
    pub(crate) fn give_up(&self) {
        self.is_going.set(false);
        self.is_given_up.set(true);
        self.count.set(0);
    }

    /// Objects of the last walk that came to its end.
    pub(crate) fn size(&self) -> Option<usize> {
        self.last_count.get()
    }

    /// Notes that threads are known up to what the last pass began with.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn note_newest(&self, state: State) -> Result<(), EngineError> {
        let top = state.top();
        let noted = if state.push_slot(self.slot) == Type::Table {
            state.raw_get_index(-1, BEGAN_WITH);
            state.set_slot(Slot::Newest)
        } else {
            Ok(())
        };
        state.cut_to(top);
        noted
    }

    fn step_held(
        &self,
        state: State,
        until: Instant,
        show: &mut dyn FnMut(Object<'_>),
    ) -> Result<Progress, EngineError> {
        let Some(header) = internals::header(state) else { return Ok(Progress::NotKnown) };
        state.push_table_in(self.slot, None)?;
        let kept = state.top();
        if self.is_given_up.take() {
            state.push_nil();
            set(state, kept, ENDS_AT)?;
        }
        let mut has_begun = false;
        loop {
            let Some(from) = self.position(state, kept, &header) else {
                match self.begin(state, kept, &header, show)? {
                    Begun::Yes => has_begun = true,
                    Begun::Empty => {
                        self.last_count.set(Some(self.count.take()));
                        return Ok(Progress::Done);
                    }
                    Begun::NotKnown => return Ok(Progress::NotKnown),
                }
                continue;
            };
            let end = address_in(state, kept, ENDS_AT);
            if let Some((address, tag)) = self.walk(&header, from, end, until, show) {
                if push_object(state, address, tag) {
                    set(state, kept, GOES_ON_AT)?;
                    return Ok(Progress::Going);
                }
                return Ok(Progress::NotKnown);
            }
            self.is_going.set(false);
            if has_begun {
                state.push_nil();
                set(state, kept, ENDS_AT)?;
                self.last_count.set(Some(self.count.take()));
                return Ok(Progress::Done);
            }
            state.raw_get_index(kept, BEGAN_WITH);
            set(state, kept, ENDS_AT)?;
        }
    }

    /// Where the pass under way goes on, if one is, and that is still in the list.
    fn position(&self, state: State, kept: c_int, header: &Header) -> Option<usize> {
        if !self.is_going.get() {
            return None;
        }
        let is_in_list = |at: &usize| header.is_elsewhere(*at) == (self.over == Over::Finalized);
        let at = address_in(state, kept, GOES_ON_AT).filter(is_in_list);
        self.is_going.set(at.is_some());
        at
    }

    /// Begins a pass: at a new object, or at the newest one with a finalizer, which is shown.
    fn begin(
        &self,
        state: State,
        kept: c_int,
        header: &Header,
        show: &mut dyn FnMut(Object<'_>),
    ) -> Result<Begun, EngineError> {
        let is_first = if self.over == Over::Finalized {
            match header.first_finalized() {
                None => return Ok(Begun::NotKnown),
                Some(0) => return Ok(Begun::Empty),
                Some(address) => {
                    let first = Object { address, tag: header.tag(address), alive: PhantomData };
                    let is_new = address_in(state, kept, ENDS_AT) != Some(address);
                    if header.is_alive(address) && is_new {
                        show(first);
                    }
                    header.is_alive(address) && first.push(state)
                }
            }
        } else {
            state.push_table()?;
            header.first() == state.address_at(-1)
        };
        if !is_first {
            return Ok(Begun::NotKnown);
        }
        state.push_copy(-1);
        set(state, kept, BEGAN_WITH)?;
        set(state, kept, GOES_ON_AT)?;
        self.is_going.set(true);
        Ok(Begun::Yes)
    }

    /// Walks from behind an object to `end`, or the end of the list; where the time is up, answers an object to go on at, and its tag.
    fn walk(
        &self,
        header: &Header,
        from: usize,
        end: Option<usize>,
        until: Instant,
        show: &mut dyn FnMut(Object<'_>),
    ) -> Option<(usize, u8)> {
        let mut at = header.next(from);
        // One that it began with, and that is where it ends too, has been shown.
        if Some(from) == end {
            at = 0;
        }
        let least = if self.over == Over::Code { LEAST } else { LEAST_VALUES };
        let (mut kept, mut count, mut is_over) = (None, 0_usize, true);
        while at != 0 && Some(at) != end {
            let tag = header.tag(at);
            if header.is_alive(at) {
                let object = Object { address: at, tag, alive: PhantomData };
                match (self.over, tag) {
                    (_, LUA_FUNCTION | THREAD) => show(object),
                    (Over::Values | Over::Finalized, _) if object.kind() != Type::None => show(object),
                    _ => {}
                }
                if object.kind() != Type::None {
                    kept = Some((at, tag));
                }
            }
            count += 1;
            if count >= least && count % GLANCE == 0 && kept.is_some() && Instant::now() >= until {
                is_over = false;
                break;
            }
            at = header.next(at);
        }
        self.count.set(self.count.get() + count);
        kept.filter(|_| !is_over)
    }
}

/// Takes the value on top into the table of the walk.
fn set(state: State, kept: c_int, entry: i64) -> Result<(), EngineError> {
    state.push_integer(entry);
    state.swap();
    state.raw_set(kept)
}

fn address_in(state: State, kept: c_int, entry: i64) -> Option<usize> {
    state.raw_get_index(kept, entry);
    let address = (state.type_at(-1) != Type::Nil).then(|| object_address(state, -1));
    state.pop(1);
    address
}

#[cfg(test)]
mod tests {
    use crate::versions::adapted;
    use mlua::{Function, Lua, Table};

    use super::*;
    use crate::ffi::main_thread_of;

    /// Makes, drops and moves things between two slices: closures, threads, tables that get finalizers.
    const TURN: &str = "\
local keep, turn = ...
local made = {}
for i = 1, 400 do
  local captured = { i }
  made[i] = function() return captured end
  if i % 7 == 0 then keep[#keep + 1] = made[i] end
  if i % 11 == 0 then keep[#keep + 1] = coroutine.create(made[i]) end
  if i % 5 == 0 then setmetatable(captured, { __gc = function() end }) end
end
for i = 1, 40 do
  local at = (turn * 7919 + i * 104729) % #keep + 1
  keep[at] = keep[#keep]
  keep[#keep] = nil
end
-- What the walk may go on at is among these: it moves to another list when it gets a finalizer.
for i = turn % 2 + 1, #later, 2 do setmetatable(later[i], finalized) end
if turn % 3 == 0 then collectgarbage('step', 200) end
if turn % 5 == 0 then collectgarbage() end
";

    fn walked(mode: &str) {
        let lua = Lua::new();
        let main = main_thread_of(&lua).unwrap();
        let globals = lua.globals();
        lua.load(format!("{mode}\nlater, finalized = {{}}, {{ __gc = function() end }}")).exec().unwrap();
        let keep: Table = lua.create_table().unwrap();
        lua.load("local keep = ... for i = 1, 20000 do later[i] = { i } keep[i] = i % 3 == 0 and print or function() return i end end")
            .call::<()>(&keep)
            .unwrap();
        let turn: Function = lua.load(TURN).into_function().unwrap();
        let is_shown: Function = lua
            .load("shown = setmetatable({}, { __mode = 'k' }) return function(f) shown[f] = true end")
            .call(())
            .unwrap();
        drop(is_shown);
        for round in 0..2 {
            lua.load("for f in pairs(shown) do shown[f] = nil end for i = 1, 12000 do later[i] = { i } end")
                .exec()
                .unwrap();
            let sweep = Sweep::kept_in(Slot::Sweep);
            let (mut slices, past) = (0, Instant::now());
            loop {
                let top = main.top();
                main.push_globals();
                main.raw_get_field(-1, "shown").unwrap();
                let marks = main.top();
                let progress = sweep.step(main, past, &mut |object| {
                    assert!(object.push(main), "the stack is as it should be");
                    main.push_integer(1);
                    main.raw_set(marks).unwrap();
                });
                main.cut_to(top);
                slices += 1;
                match progress.unwrap() {
                    Progress::Done => break,
                    Progress::Going => turn.call::<()>((&keep, slices)).unwrap(),
                    Progress::NotKnown => panic!("the list of the vendored engine is known"),
                }
            }
            assert!(slices > 3, "{slices}: a state of this size takes several");
            let missed: i64 = lua
                .load("local keep, missed = ..., 0 for _, f in ipairs(keep) do if f ~= print and not shown[f] then missed = missed + 1 end end return missed")
                .call(&keep)
                .unwrap();
            assert_eq!(missed, 0, "{mode}, round {round}");
        }
        drop(globals);
    }

    #[test]
    fn every_function_and_thread_is_shown_whatever_happens_between_two_slices() {
        walked(&adapted("collectgarbage('incremental', 20, 1000, 2)"));
        walked(&adapted("collectgarbage('generational')"));
    }
}
