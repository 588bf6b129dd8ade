//! Lua values as plain data, without running anything of the script.

mod assign;
mod built_in;
mod complete;
mod describe;
mod keys;
mod list;
mod preview;
pub(crate) mod track;
mod tree;
mod trial;
mod userdata;

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::host::HostView;
use adzeman_core::sharing::Shared;
use adzeman_core::value::{Children, Expand, Handle, Variable};

use crate::ffi::state::{Slot, State, Type};

use crate::scope::Target;

pub(crate) use describe::captured_names;
pub(crate) use keys::key_text;
pub(crate) use tree::push_data;
pub(crate) use userdata::type_name_of;

use keys::{KeyList, Which};
use userdata::ShownTypes;

/// Handles that are kept while the scripts run on.
const MOST_HELD: usize = 100_000;

/// What a handle stands for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Node {
    /// The local variables of a function on a stack.
    Locals(Target),
    /// Its extra arguments.
    Varargs(Target),
    /// The globals that a function sees, or those of the state: the scripts' own, or the runtime's.
    Globals { of: Option<Target>, built_in: bool },
    /// The inside of the value kept under this number: entries, captured variables, or frames of a coroutine.
    Value(i64),
    /// Part of what a userdata holds, as data.
    Data(usize),
}

/// A node that someone may look into.
struct ShownNode {
    node: Node,
    /// The address of the value, which tells it from others; 0 for what has none.
    address: usize,
    /// The node that it was listed in.
    parent: Option<usize>,
}

/// What is on show at a stop. All of it is forgotten when the context goes on.
#[derive(Default)]
struct OnShow {
    held: RefCell<Vec<ShownNode>>,
    /// The node that is being listed.
    listing: Cell<Option<usize>>,
    /// Keys of tables as far as they were walked, by the table's address.
    key_lists: RefCell<HashMap<(usize, Which), KeyList>>,
    /// The number that the list of keys made last is kept under.
    last_list: Cell<i64>,
    data: RefCell<Vec<adzeman_core::host::Data>>,
}

/// What is shown of one state.
pub(crate) struct Shown {
    main: State,
    host: Shared<dyn HostView>,
    on_show: OnShow,
    pub(crate) types: ShownTypes,
}

impl Shown {
    pub(crate) fn new(main: State, host: Shared<dyn HostView>) -> Self {
        Self { main, host, on_show: OnShow::default(), types: ShownTypes::default() }
    }

    pub(crate) fn host(&self) -> &dyn HostView {
        &*self.host
    }

    pub(crate) fn main(&self) -> State {
        self.main
    }

    /// Makes a handle for a node.
    pub(crate) fn handle(&self, node: Node) -> Handle {
        self.hold(node, 0)
    }

    fn hold(&self, node: Node, address: usize) -> Handle {
        let mut held = self.on_show.held.borrow_mut();
        held.push(ShownNode { node, address, parent: self.on_show.listing.get() });
        Handle(held.len() as u64)
    }

    pub(crate) fn node(&self, handle: Handle) -> Result<Node, EngineError> {
        let held = self.on_show.held.borrow();
        position(handle).and_then(|at| held.get(at)).map(|held| held.node).ok_or(EngineError::StaleHandle)
    }

    /// Forgets all handles and what they kept alive.
    pub(crate) fn forget_handles(&self) -> Result<(), EngineError> {
        self.forget_keys();
        self.on_show.data.borrow_mut().clear();
        self.on_show.last_list.set(0);
        if std::mem::take(&mut *self.on_show.held.borrow_mut()).is_empty() {
            return Ok(());
        }
        self.main.push_table()?;
        self.main.set_slot(Slot::Anchors)
    }

    /// Forgets what was shown while the scripts run, once it is very much: nothing else would end its life.
    pub(crate) fn forget_surplus(&self) -> Result<(), EngineError> {
        if self.on_show.held.borrow().len() > MOST_HELD { self.forget_handles() } else { Ok(()) }
    }

    /// Forgets which keys tables have: something of the script has run, or is about to.
    pub(crate) fn forget_keys(&self) {
        let lists = std::mem::take(&mut *self.on_show.key_lists.borrow_mut());
        let forgotten = lists.values().try_for_each(|list| {
            self.main.push_nil();
            let outcome = Self::anchor(self.main, -1, list.anchor());
            self.main.pop(1);
            outcome
        });
        if let Err(error) = forgotten {
            tracing::warn!(%error, "a list of keys is kept until the context goes on");
        }
    }

    /// Keeps the value at `index` for a handle.
    fn keep(&self, state: State, index: c_int) -> Result<Handle, EngineError> {
        let number = i64::try_from(self.on_show.held.borrow().len()).unwrap_or(i64::MAX) + 1;
        let index = state.absolute(index);
        Self::anchor(state, index, number)?;
        Ok(self.hold(Node::Value(number), state.address_at(index)))
    }

    /// Keeps the value at `index` alive under a number.
    fn anchor(state: State, index: c_int, number: i64) -> Result<(), EngineError> {
        let index = state.absolute(index);
        state.push_slot(Slot::Anchors);
        state.push_integer(number);
        state.push_copy(index);
        state.raw_set(-3)?;
        state.pop(1);
        Ok(())
    }

    /// Pushes a value kept by [`keep`](Self::keep) or [`anchor`](Self::anchor).
    fn push_kept(state: State, number: i64) {
        state.push_slot(Slot::Anchors);
        state.raw_get_index(-1, number);
        state.swap();
        state.pop(1);
    }

    /// Does `work` without leaving a handle.
    pub(crate) fn without_handles<T>(&self, work: impl FnOnce() -> T) -> T {
        let handles = self.on_show.held.borrow().len();
        let outcome = work();
        self.on_show.held.borrow_mut().truncate(handles);
        outcome
    }

    /// The type and the preview of the value at `index`; no handle is left.
    pub(crate) fn preview(&self, state: State, index: c_int) -> Result<(String, String), EngineError> {
        let value = self.without_handles(|| self.describe(state, index));
        value.map(|value| (value.type_name, value.preview))
    }

    /// That there is something inside the value at `index`.
    fn inside(&self, state: State, index: c_int, indexed: usize, named: usize) -> Result<Children, EngineError> {
        let expand = Expand::Engine(self.keep(state, index)?);
        Ok(Children { expand, indexed, named, named_is_all: true })
    }

    /// The value on top, as a variable.
    fn variable(&self, state: State, name: String, expression: Option<String>) -> Result<Variable, EngineError> {
        let cycle = self.levels_up(state);
        Ok(Variable { evaluate_name: expression, cycle, ..Variable::new(name, self.describe(state, -1)?) })
    }

    /// How many levels up the value on top is being looked into already.
    fn levels_up(&self, state: State) -> Option<usize> {
        if !matches!(state.type_at(-1), Type::Table | Type::Function | Type::Thread | Type::Userdata) {
            return None;
        }
        let address = state.address_at(-1);
        let held = self.on_show.held.borrow();
        let mut at = self.on_show.listing.get();
        let mut levels = 0;
        while let Some(node) = at.and_then(|at| held.get(at)) {
            levels += 1;
            if node.address == address {
                return Some(levels);
            }
            at = node.parent;
        }
        None
    }
}

fn position(handle: Handle) -> Option<usize> {
    usize::try_from(handle.0).ok()?.checked_sub(1)
}
