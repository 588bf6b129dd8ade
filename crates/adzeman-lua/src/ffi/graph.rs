//! What a value of a state leads to, and all that can be reached from what the state itself holds on to. Nothing of the script runs,
//! and nothing is made in the state but a thread to work on.
//!
//! What this crate keeps in the state is passed over: it is none of the script's.

use std::collections::hash_map::Entry;
use std::ffi::c_int;

use super::api as ffi;
use adzeman_core::engine::EngineError;
use rustc_hash::FxHashMap as HashMap;

use super::layout;
use super::objects::Object;
use super::sizes;
use super::state::{Slot, State, Type};

/// Values between two looks whether to go on.
const GLANCE: usize = 256;
/// Entries of a table between two such looks.
const ENTRIES: usize = 4096;
/// No node: what is at the beginning of a path.
const NONE: u32 = u32::MAX;

/// How one value leads to another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum How {
    /// As an entry of a table; its key is below the value.
    Entry,
    /// As a key of one.
    Key,
    Metatable,
    /// As the captured variable of this number, from 1.
    Captured(usize),
    /// As the value of this number that the host has attached to a userdata, from 1.
    Attached(usize),
    /// As a function that runs on a thread, at this level.
    Running(usize),
    /// As its local variable, or extra argument, of this number.
    Local(usize, c_int),
    /// As the value of this number on the stack of a thread on which nothing runs, from 1.
    Stacked(c_int),
}

/// A hold: the value that is held is on top of the stack of the thread that is worked on.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Edge {
    pub(crate) how: How,
    pub(crate) kind: Type,
    pub(crate) address: usize,
    /// Whether it keeps nothing alive.
    pub(crate) is_weak: bool,
    /// Where it holds only for as long as a key lives: that one.
    while_lives: Option<usize>,
}

/// What is held on to without anything of the script.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Root {
    Globals,
    /// The main thread, or one that runs.
    Thread,
    Registry,
    /// The metatable of all texts.
    OfTexts,
    /// The value that paths are looked for from.
    Given,
}

#[derive(Debug, Clone, Copy)]
struct Node {
    address: usize,
    from: u32,
    root: Option<Root>,
}

/// A hold on what is looked for.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Found {
    pub(crate) node: u32,
    pub(crate) is_weak: bool,
}

/// All that was reached so far.
pub(crate) struct Graph {
    /// Where values are looked at; kept in the registry.
    pub(crate) work: State,
    nodes: Vec<Node>,
    reached: HashMap<usize, u32>,
    next: usize,
    /// Whether tables with this metatable have weak keys, and weak values.
    weak: HashMap<usize, (bool, bool)>,
    /// Values that are held while a key lives: by which table, the key, and the value.
    waiting: Vec<(u32, usize, usize)>,
    /// What holds on are looked for.
    target: Option<usize>,
    pub(crate) found: Vec<Found>,
    /// Threads that run, and how many values there were on the stack of the innermost one.
    running: Vec<State>,
    top: c_int,
    has_rest: bool,
}

/// Keeps the thread to work on until it is dropped.
pub(crate) struct Work(State);

impl Work {
    /// Makes one.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn new(state: State) -> Result<Self, EngineError> {
        unsafe extern "C-unwind" fn new(raw: *mut ffi::lua_State) -> c_int {
            // SAFETY: called by `protect`; nothing owned here.
            unsafe { ffi::lua_newthread(raw) };
            1
        }
        state.protect(new, 0, 1)?;
        let thread = state.thread_at(-1);
        state.set_slot(Slot::Work)?;
        let thread = thread.ok_or_else(|| EngineError::Runtime("no thread could be made".to_owned()))?;
        // Whatever hook it has inherited is none for what is done here.
        thread.set_hook(None, 0, 0);
        Ok(Self(thread))
    }

    pub(crate) fn thread(&self) -> State {
        self.0
    }
}

impl Drop for Work {
    fn drop(&mut self) {
        self.0.cut_to(0);
        self.0.clear_slot(Slot::Work);
    }
}

impl Graph {
    /// One in which nothing was reached yet, of a state in which these threads run, the innermost first; with the value on top of
    /// `work`, which stays there, as what is looked for.
    pub(crate) fn new(work: &Work, running: Vec<State>, target: Option<usize>) -> Self {
        let top = running.first().map_or(0, |state| state.top());
        Self {
            work: work.thread(),
            nodes: Vec::new(),
            reached: HashMap::default(),
            next: 0,
            weak: HashMap::default(),
            waiting: Vec::new(),
            target,
            found: Vec::new(),
            running,
            top,
            has_rest: true,
        }
    }

    /// Whether it is known how to come from one value to the next.
    pub(crate) fn is_possible() -> bool {
        layout::is_known() && sizes::are_known()
    }

    /// Bytes that it takes.
    pub(crate) fn own_bytes(&self) -> u64 {
        let nodes = self.nodes.capacity() * size_of::<Node>();
        let reached = self.reached.capacity() * (size_of::<(usize, u32)>() + 1);
        u64::try_from(nodes + reached + self.waiting.capacity() * size_of::<(u32, usize, usize)>()).unwrap_or(0)
    }

    /// How many values were reached.
    pub(crate) fn count(&self) -> u64 {
        u64::try_from(self.reached.len()).unwrap_or(0)
    }

    /// Adds the globals and the threads that run.
    pub(crate) fn begin(&mut self, visit: &mut dyn FnMut(State)) {
        let work = self.work;
        work.push_globals();
        self.add_root(Root::Globals, visit);
        for thread in self.running.clone() {
            thread.push_self();
            thread.move_to(work, 1);
            self.add_root(Root::Thread, visit);
        }
    }

    /// Adds the value on top, which is what is looked for, as what paths begin at.
    pub(crate) fn begin_with_target(&mut self) {
        let address = sizes::object_address(self.work, -1);
        self.nodes.push(Node { address, from: NONE, root: Some(Root::Given) });
        self.has_rest = false;
    }

    /// What the names of the script do not lead to: what the host keeps, and the engine.
    fn begin_rest(&mut self, visit: &mut dyn FnMut(State)) -> Result<(), EngineError> {
        let work = self.work;
        work.push_copy(ffi::LUA_REGISTRYINDEX);
        self.add_root(Root::Registry, visit);
        work.push_bytes(b"")?;
        if work.push_metatable(-1) {
            self.add_root(Root::OfTexts, visit);
        }
        work.pop(1);
        Ok(())
    }

    /// The value on top is popped.
    fn add_root(&mut self, root: Root, visit: &mut dyn FnMut(State)) {
        let address = sizes::object_address(self.work, -1);
        if Some(address) != self.target {
            self.add(address, NONE, Some(root), visit);
        }
        self.work.pop(1);
    }

    /// Adds the value on top, unless it was reached.
    fn add(&mut self, address: usize, from: u32, root: Option<Root>, visit: &mut dyn FnMut(State)) {
        let number = u32::try_from(self.nodes.len()).unwrap_or(NONE);
        if number == NONE || self.reached.contains_key(&address) {
            return;
        }
        self.reached.insert(address, number);
        self.nodes.push(Node { address, from, root });
        visit(self.work);
    }

    /// Goes on until all was reached; false where `may_go_on`, which is told how many were, ended it. `visit` is shown each value once, on
    /// top of the stack, where it leaves it.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn run(
        &mut self,
        may_go_on: &mut dyn FnMut(u64) -> bool,
        visit: &mut dyn FnMut(State),
    ) -> Result<bool, EngineError> {
        loop {
            while let Some(node) = self.nodes.get(self.next).copied() {
                let number = u32::try_from(self.next).unwrap_or(NONE);
                self.next += 1;
                if self.next.is_multiple_of(GLANCE) && !may_go_on(self.count()) {
                    return Ok(false);
                }
                if !self.look_into(number, node, may_go_on, visit)? {
                    return Ok(false);
                }
            }
            if self.take_waiting(visit) {
                continue;
            }
            if !std::mem::take(&mut self.has_rest) {
                return Ok(true);
            }
            self.begin_rest(visit)?;
        }
    }

    /// Adds values whose keys live; whether there were any.
    fn take_waiting(&mut self, visit: &mut dyn FnMut(State)) -> bool {
        let (mut taken, count) = (false, self.nodes.len());
        for (table, key, value) in std::mem::take(&mut self.waiting) {
            if !self.reached.contains_key(&key) {
                self.waiting.push((table, key, value));
            } else if Some(value) == self.target {
                self.found.push(Found { node: table, is_weak: false });
            } else if !self.reached.contains_key(&value) && push(self.work, value) {
                self.add(value, table, None, visit);
                self.work.pop(1);
                taken = true;
            }
        }
        taken && self.nodes.len() > count
    }

    fn look_into(
        &mut self,
        number: u32,
        node: Node,
        may_go_on: &mut dyn FnMut(u64) -> bool,
        visit: &mut dyn FnMut(State),
    ) -> Result<bool, EngineError> {
        let work = self.work;
        let top = work.top();
        if !push(work, node.address) {
            return Ok(true);
        }
        let (mut entries, mut is_given_up) = (0, false);
        let (stop, innermost) = (self.top, self.running.first().copied());
        let weak = self.weak_of(work)?;
        let limits = Limits {
            weak,
            stop: innermost.map(|thread| (thread, stop)),
            is_registry: node.root == Some(Root::Registry),
        };
        for_each_edge(work, limits, &mut |edge| {
            entries += 1;
            if entries % ENTRIES == 0 && !may_go_on(self.count()) {
                is_given_up = true;
                return false;
            }
            self.take(number, edge, visit);
            true
        });
        work.cut_to(top);
        Ok(!is_given_up)
    }

    fn take(&mut self, number: u32, edge: Edge, visit: &mut dyn FnMut(State)) {
        let yet_to_live = edge.while_lives.filter(|key| !self.reached.contains_key(key));
        if let Some(key) = yet_to_live.filter(|_| !edge.is_weak) {
            self.waiting.push((number, key, edge.address));
        } else if Some(edge.address) == self.target {
            self.found.push(Found { node: number, is_weak: edge.is_weak });
        } else if edge.is_weak || edge.address == self.work.address() {
            // It keeps nothing alive, or is none of the script's.
        } else if edge.kind == Type::String {
            // A text leads to nothing.
            if let Entry::Vacant(new) = self.reached.entry(edge.address) {
                new.insert(NONE);
                visit(self.work);
            }
        } else {
            self.add(edge.address, number, None, visit);
        }
    }

    /// Whether the table on top has weak keys, and weak values.
    fn weak_of(&mut self, work: State) -> Result<(bool, bool), EngineError> {
        if work.type_at(-1) != Type::Table || !work.push_metatable(-1) {
            return Ok((false, false));
        }
        let metatable = work.address_at(-1);
        let weak = match self.weak.get(&metatable) {
            Some(weak) => *weak,
            None => {
                work.raw_get_field(-1, "__mode")?;
                let mode = work.with_bytes(-1, |mode| (mode.contains(&b'k'), mode.contains(&b'v')));
                work.pop(1);
                let weak = mode.unwrap_or_default();
                self.weak.insert(metatable, weak);
                weak
            }
        };
        work.pop(1);
        Ok(weak)
    }

    /// The nodes from the beginning of a path to one, each with the root that it is.
    pub(crate) fn way_to(&self, node: u32) -> Vec<(u32, Option<Root>)> {
        let mut way = Vec::new();
        let mut at = node;
        while let Some(held) = self.nodes.get(at as usize) {
            way.push((at, held.root));
            at = held.from;
        }
        way.reverse();
        way
    }

    /// Pushes the value of a node; false, and nothing pushed, where that cannot be.
    pub(crate) fn push_node(&self, node: u32) -> bool {
        self.nodes.get(node as usize).is_some_and(|node| push(self.work, node.address))
    }

    /// Shows how a node leads to the value at an address, which is on top then: by the hold behind so many others that do.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn with_edge<T>(
        &mut self,
        from: u32,
        (to, mut passed): (usize, usize),
        look: impl FnOnce(State, &Edge) -> T,
    ) -> Result<Option<T>, EngineError> {
        let work = self.work;
        let top = work.top();
        let (mut look, mut found) = (Some(look), None);
        let is_registry = self.nodes.get(from as usize).is_some_and(|node| node.root == Some(Root::Registry));
        if self.push_node(from) {
            let weak = self.weak_of(work)?;
            let stop = self.running.first().map(|thread| (*thread, self.top));
            for_each_edge(work, Limits { weak, stop, is_registry }, &mut |edge| {
                if edge.address == to {
                    if passed == 0 {
                        found = look.take().map(|look| look(work, &edge));
                    }
                    passed = passed.saturating_sub(1);
                }
                found.is_none()
            });
        }
        work.cut_to(top);
        Ok(found)
    }

    pub(crate) fn address_of(&self, node: u32) -> usize {
        self.nodes.get(node as usize).map_or(0, |node| node.address)
    }
}

/// Pushes the object at an address that was reached.
fn push(work: State, address: usize) -> bool {
    // SAFETY: what was reached is alive, and the collector is held for as long as the script stands still.
    unsafe { Object::at(address) }.push(work)
}

/// What is looked at, and what is not.
#[derive(Clone, Copy)]
struct Limits {
    /// Whether the table has weak keys, and weak values.
    weak: (bool, bool),
    /// The innermost thread, and how many values there were on its stack.
    stop: Option<(State, c_int)>,
    is_registry: bool,
}

/// Shows all that the value on top holds, each on top of the stack, until `show` answers false.
fn for_each_edge(work: State, limits: Limits, show: &mut dyn FnMut(Edge) -> bool) {
    let top = work.top();
    match work.type_at(-1) {
        Type::Table => table_edges(work, limits, show),
        Type::Function => function_edges(work, show),
        Type::Userdata => userdata_edges(work, show),
        Type::Thread => thread_edges(work, limits.stop, show),
        _ => {}
    }
    work.cut_to(top);
}

/// Shows the value on top, if it is an object; answers whether to go on.
fn show_top(work: State, how: How, show: &mut dyn FnMut(Edge) -> bool) -> bool {
    edge_at_top(work, how).is_none_or(show)
}

/// What there is to be held in the value on top; nothing for what is no object.
fn edge_at_top(work: State, how: How) -> Option<Edge> {
    let kind = work.type_at(-1);
    let is_object = match kind {
        Type::String | Type::Table | Type::Userdata | Type::Thread => true,
        Type::Function => !is_light(work),
        _ => false,
    };
    is_object.then(|| Edge { how, kind, address: sizes::object_address(work, -1), is_weak: false, while_lives: None })
}

/// Whether the function on top is a native one without captured variables, which is no object.
fn is_light(work: State) -> bool {
    // SAFETY: the function is on top; what may be pushed is popped, and there is room.
    unsafe {
        work.room(1);
        if ffi::lua_iscfunction(work.raw(), -1) == 0 {
            return false;
        }
        let is_closure = !ffi::lua_getupvalue(work.raw(), -1, 1).is_null();
        if is_closure {
            ffi::lua_settop(work.raw(), -2);
        }
        !is_closure
    }
}

fn table_edges(work: State, limits: Limits, show: &mut dyn FnMut(Edge) -> bool) {
    let table = work.top();
    if work.push_metatable(table) {
        if !show_top(work, How::Metatable, show) {
            return;
        }
        work.pop(1);
    }
    let (weak_keys, weak_values) = limits.weak;
    work.push_nil();
    while work.next_of_unchanged(table) {
        work.push_copy(-2);
        let key = edge_at_top(work, How::Key);
        let is_ours = limits.is_registry && Slot::is_one(work);
        if let Some(key) = key.filter(|_| !is_ours) {
            // A text is as good as a number: no weak table lets go of it.
            if !show(Edge { is_weak: weak_keys && key.kind != Type::String, ..key }) {
                return;
            }
        }
        work.pop(1);
        if let Some(entry) = edge_at_top(work, How::Entry).filter(|_| !is_ours) {
            let is_weak = weak_values && entry.kind != Type::String;
            let while_lives = key.filter(|key| weak_keys && !weak_values && key.kind != Type::String);
            if !show(Edge { is_weak, while_lives: while_lives.map(|key| key.address), ..entry }) {
                return;
            }
        }
        work.pop(1);
    }
}

fn function_edges(work: State, show: &mut dyn FnMut(Edge) -> bool) {
    let function = work.top();
    // A function whose text did not compile has less than it says.
    if !work.is_native_function(function) && !work.is_whole(function) {
        return;
    }
    for number in 1.. {
        if work.push_captured(function, number).is_none() || !show_top(work, How::Captured(number), show) {
            return;
        }
        work.pop(1);
    }
}

fn userdata_edges(work: State, show: &mut dyn FnMut(Edge) -> bool) {
    let userdata = work.top();
    if work.push_metatable(userdata) {
        if !show_top(work, How::Metatable, show) {
            return;
        }
        work.pop(1);
    }
    for number in 1..=sizes::user_values(work, userdata) {
        // SAFETY: the value at this index is a full userdata, which has a value of this number; there is room for it.
        unsafe {
            work.room(1);
            ffi::lua_getiuservalue(work.raw(), userdata, c_int::try_from(number).unwrap_or(0));
        }
        if !show_top(work, How::Attached(number), show) {
            return;
        }
        work.pop(1);
    }
}

fn thread_edges(work: State, stop: Option<(State, c_int)>, show: &mut dyn FnMut(Edge) -> bool) {
    let Some(thread) = work.thread_at(-1).filter(|thread| *thread != work) else { return };
    let mut show_moved = |how: How| {
        thread.move_to(work, 1);
        let goes_on = show_top(work, how, show);
        work.pop(1);
        goes_on
    };
    let (mut goes_on, mut has_levels) = (true, false);
    thread.for_each_level(|level, function| {
        has_levels = true;
        function.push_function();
        goes_on = show_moved(How::Running(level));
        // Local variables, then extra arguments.
        for sign in [1, -1] {
            let mut number = sign;
            while goes_on && function.push_local(number).is_some() {
                goes_on = show_moved(How::Local(level, number));
                number += sign;
            }
        }
        goes_on
    });
    if has_levels || !goes_on {
        return;
    }
    let top = stop.filter(|(innermost, _)| *innermost == thread).map_or_else(|| thread.top(), |(_, top)| top);
    for number in 1..=top {
        thread.push_copy(number);
        if !show_moved(How::Stacked(number)) {
            return;
        }
    }
}
