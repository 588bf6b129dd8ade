//! What values have in common: what they are counted by.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::heap::{Tally, Written};
use mlua::ffi;
use rustc_hash::{FxHashMap as HashMap, FxHashSet as HashSet};

use super::{definition, written};
use crate::ffi::body::with_body;
use crate::ffi::sizes::size_of;
use crate::ffi::state::{State, Type};
use crate::look::{key_text, type_name_of};
use crate::scripts::Scripts;
use crate::text::{LANGUAGE, display_name};

/// Fields that make a shape; a table with more of them is a map.
const MOST_FIELDS: usize = 12;
/// Texts up to this many bytes are kept once by the engine, whoever has them (`LUAI_MAXSHORTLEN`).
const SHORT_TEXT: usize = 40;
/// Entries of a metatable that are looked at for where its functions are defined.
const LOOKED_THROUGH: usize = 64;

/// Sorts values into groups. What it notes of addresses holds for as long as the collector is held.
pub(super) struct Groups<'a> {
    scripts: &'a Scripts,
    tally: &'a mut Tally,
    by_metatable: HashMap<usize, usize>,
    by_body: HashMap<usize, usize>,
    by_shape: HashMap<ShapeKey, usize>,
    by_type: HashMap<usize, usize>,
    /// Coroutines, by the chunk and the line where what they begin with is defined.
    by_beginning: HashMap<(String, u32), usize>,
    texts: [Option<usize>; 2],
    /// Names of global tables, by their addresses.
    names: &'a HashMap<usize, String>,
}

/// Modules keep their types in fields.
const DEPTH: usize = 2;
/// Entries that are looked at for names, of one table, and of all: a table with more of them is no module.
const MOST_ENTRIES: usize = 1_000;
const MOST_IN_ALL: usize = 20_000;

/// Global tables, and those in them, as far as names lead to them: they, and metatables, are called by these names.
pub(super) fn names_of_tables(state: State) -> Result<HashMap<usize, String>, EngineError> {
    let mut names = HashMap::default();
    // The registry is called by what is said of it elsewhere.
    names.insert(state.address_at(ffi::LUA_REGISTRYINDEX), "(registry)".to_owned());
    state.push_globals();
    names.insert(state.address_at(-1), "_G".to_owned());
    state.pop(1);
    for_each_name(state, &mut |name| {
        if state.type_at(-1) == Type::Table {
            names.entry(state.address_at(-1)).or_insert_with(name);
        }
    })?;
    Ok(names)
}

/// Native functions that are global, or fields of global tables, by their addresses.
pub(crate) fn names_of_natives(state: State) -> HashMap<usize, String> {
    let mut names = HashMap::default();
    let outcome = for_each_name(state, &mut |name| {
        if state.type_at(-1) == Type::Function && state.is_native_function(-1) {
            names.entry(state.address_at(-1)).or_insert_with(name);
        }
    });
    if let Err(why) = outcome {
        tracing::info!(%why, "some functions of the host have no name in a profile");
    }
    names
}

/// What is shown of what has a name: how it is called. The value is on top of the stack.
type See<'s> = dyn FnMut(&dyn Fn() -> String) + 's;

/// Shows each global, and what is in global tables, that is called by a name.
fn for_each_name(state: State, see: &mut See<'_>) -> Result<(), EngineError> {
    let top = state.top();
    state.push_globals();
    let mut entered = HashSet::from_iter([state.address_at(-1)]);
    let outcome = names_in(state, "", (0, &mut { MOST_IN_ALL }), &mut entered, see);
    state.cut_to(top);
    outcome
}

/// The same of the table on top, which is called `of`. `left` is how many entries may be looked at yet; each table is entered once.
fn names_in(
    state: State,
    of: &str,
    (depth, left): (usize, &mut usize),
    entered: &mut HashSet<usize>,
    see: &mut See<'_>,
) -> Result<(), EngineError> {
    let table = state.top();
    let mut entries = 0;
    state.push_nil();
    while entries < MOST_ENTRIES && *left > 0 && state.next(table)? {
        entries += 1;
        *left -= 1;
        if state.type_at(-2) == Type::String {
            let key = || state.text_at(-2).unwrap_or_default();
            let name = || if of.is_empty() { key() } else { format!("{of}.{}", key()) };
            see(&name);
            let is_next = state.type_at(-1) == Type::Table && depth + 1 < DEPTH;
            if is_next && entered.insert(state.address_at(-1)) {
                names_in(state, &name(), (depth + 1, left), entered, see)?;
            }
        }
        state.pop(1);
    }
    state.cut_to(table);
    Ok(())
}

impl<'a> Groups<'a> {
    pub(super) fn new(scripts: &'a Scripts, tally: &'a mut Tally, names: &'a HashMap<usize, String>) -> Self {
        Self {
            scripts,
            tally,
            by_metatable: HashMap::default(),
            by_body: HashMap::default(),
            by_shape: HashMap::default(),
            by_type: HashMap::default(),
            by_beginning: HashMap::default(),
            texts: [None; 2],
            names,
        }
    }

    /// Counts the value on top.
    pub(super) fn count(&mut self, state: State) {
        let top = state.top();
        let group = match state.type_at(-1) {
            Type::Table => self.of_table(state),
            Type::String => self.of_text(state),
            // One whose text did not compile has less than it says.
            Type::Function if !state.is_native_function(-1) && !state.is_whole(-1) => return,
            Type::Function => self.of_function(state),
            Type::Userdata => self.of_userdata(state),
            Type::Thread => self.of_coroutine(state),
            _ => return,
        };
        let (bytes, measured) = size_of(state, top);
        self.tally.more(group, bytes, measured);
        state.cut_to(top);
    }

    fn of_text(&mut self, state: State) -> usize {
        let is_long = state.raw_len(-1) > SHORT_TEXT;
        let tally = &mut *self.tally;
        *self.texts[usize::from(is_long)].get_or_insert_with(|| {
            let group =
                if is_long { format!("longer than {SHORT_TEXT} bytes") } else { format!("up to {SHORT_TEXT} bytes") };
            tally.group("text", group, None)
        })
    }

    fn of_userdata(&mut self, state: State) -> usize {
        let metatable = if state.push_metatable(-1) { state.address_at(-1) } else { 0 };
        state.pop(i32::from(metatable != 0));
        if let Some(group) = self.by_type.get(&metatable) {
            return *group;
        }
        let name = type_name_of(state, -1).unwrap_or_default();
        let group = self.tally.group("userdata", name, None);
        self.by_type.insert(metatable, group);
        group
    }

    /// By where it is defined: every instance of one definition has the same body.
    fn of_function(&mut self, state: State) -> usize {
        let mut body = None;
        with_body(state, -1, |held| body = Some(held.address()));
        let Some(body) = body else {
            return self.tally.group("function", "of the host or of Lua's library".to_owned(), None);
        };
        if let Some(group) = self.by_body.get(&body) {
            return *group;
        }
        let defined = definition(state, self.scripts);
        let name = match &defined {
            Some(at) if state.function_info(-1).is_main => format!("{} {}", LANGUAGE.whole_script, at.source),
            Some(at) => at.to_string(),
            None => String::new(),
        };
        let group = self.tally.group("function", name, defined);
        self.by_body.insert(body, group);
        group
    }

    /// By the function that it has begun with, or is to.
    fn of_coroutine(&mut self, state: State) -> usize {
        let Some(thread) = state.thread_at(-1) else { return self.tally.group("coroutine", String::new(), None) };
        let mut first = None;
        thread.for_each_level(|_, function| {
            let info = function.info();
            if !info.is_native {
                first = Some((info.chunk_name, info.first_line));
            }
            true
        });
        if first.is_none() && thread.is_yet_to_begin() {
            thread.push_copy(1);
            if thread.type_at(-1) == Type::Function && !thread.is_native_function(-1) {
                let info = thread.function_info(-1);
                first = Some((info.chunk_name, info.first_line));
            }
            thread.pop(1);
        }
        let Some(first) = first else {
            let group = if thread.top() > 1 { "of the host" } else { "ended, or of the host" };
            return self.tally.group("coroutine", group.to_owned(), None);
        };
        if let Some(group) = self.by_beginning.get(&first) {
            return *group;
        }
        let (chunk_name, line) = &first;
        let text = self.scripts.named(chunk_name).and_then(|source| self.scripts.written(source));
        let defined = written(chunk_name, *line, text.as_deref());
        let name = format!("that begins in {}:{}", display_name(chunk_name), defined.line);
        let group = self.tally.group("coroutine", name, Some(defined));
        self.by_beginning.insert(first, group);
        group
    }

    fn of_table(&mut self, state: State) -> usize {
        let table = state.top();
        if state.push_metatable(table) {
            let address = state.address_at(-1);
            if let Some(group) = self.by_metatable.get(&address) {
                return *group;
            }
            let (name, defined) = self.name_of_metatable(state, address);
            state.cut_to(table);
            let name = name.unwrap_or_else(|| format!("with a metatable; {}", shape_text(state, table)));
            let group = self.tally.group("table", name, defined);
            self.by_metatable.insert(address, group);
            return group;
        }
        if let Some(name) = self.names.get(&state.address_at(table)) {
            return self.tally.group("table", format!("global {name}"), None);
        }
        let tally = &mut *self.tally;
        let key = Shape::of(state, table, |_| ()).key();
        *self.by_shape.entry(key).or_insert_with(|| tally.group("table", shape_text(state, table), None))
    }

    /// What the metatable on top is called: by its own word, by the global that it is, or by where its functions are defined.
    fn name_of_metatable(&self, state: State, address: usize) -> (Option<String>, Option<Written>) {
        let metatable = state.top();
        for field in ["__name", "__type"] {
            if state.raw_get_field(metatable, field).is_ok()
                && let Some(name) = state.text_at(-1).filter(|name| !name.is_empty())
            {
                return (Some(name), None);
            }
            state.cut_to(metatable);
        }
        if let Some(name) = self.names.get(&address) {
            return (Some(name.clone()), None);
        }
        let index = state.raw_get_field(metatable, "__index").is_ok() && state.type_at(-1) == Type::Table;
        let methods = index.then(|| state.address_at(-1));
        if let Some(name) = methods.and_then(|address| self.names.get(&address)) {
            return (Some(name.clone()), None);
        }
        let table = if index { state.top() } else { metatable };
        let first = self.first_function(state, table).or_else(|| self.first_function(state, metatable));
        match first {
            Some(first) => (Some(format!("with the methods of {first}")), Some(first)),
            None => (None, None),
        }
    }

    /// Where the first of the functions in the table is defined.
    fn first_function(&self, state: State, table: c_int) -> Option<Written> {
        let top = state.top();
        let (mut first, mut entries) = (None::<Written>, 0);
        state.push_nil();
        while entries < LOOKED_THROUGH && matches!(state.next(table), Ok(true)) {
            entries += 1;
            let defined = definition(state, self.scripts);
            if let Some(defined) = defined.filter(|defined| first.as_ref().is_none_or(|held| defined < held)) {
                first = Some(defined);
            }
            state.pop(1);
        }
        state.cut_to(top);
        first
    }
}

/// What a table is like, as far as it is looked at.
struct Shape {
    /// Of the first element, if there is a sequence.
    elements: Option<Type>,
    /// What the fields are, in no order: their sum tells them from others.
    fields: u64,
    count: usize,
    /// Of the first entry that is no element, where they are too many to be fields or not all are named: key and value.
    map: Option<(Type, Type)>,
}

impl Shape {
    /// Of the table at an index. `name` is shown each name, on top of the stack.
    fn of(state: State, table: c_int, mut name: impl FnMut(State)) -> Self {
        /// Of the golden ratio: spreads addresses over all bits.
        const ODD: u64 = 0x9e37_79b9_7f4a_7c15;
        let (top, length) = (state.top(), state.raw_len(table));
        let mut shape = Self { elements: None, fields: 0, count: 0, map: None };
        if length > 0 {
            state.raw_get_index(table, 1);
            shape.elements = Some(state.type_at(-1));
            state.pop(1);
        }
        let mut first = None;
        // What stands behind a long sequence is told without walking through it.
        if length > MOST_FIELDS {
            state.push_integer(i64::try_from(length).unwrap_or(i64::MAX));
        } else {
            state.push_nil();
        }
        while state.next_of_unchanged(table) {
            let kinds = (state.type_at(-2), state.type_at(-1));
            state.pop(1);
            if kinds.0 == Type::Integer && length > 0 {
                continue;
            }
            shape.count += 1;
            let first = first.get_or_insert(kinds);
            if kinds.0 != Type::String || shape.count > MOST_FIELDS {
                shape.map = Some(*first);
                break;
            }
            let key = u64::try_from(state.address_at(-1)).unwrap_or(0);
            shape.fields = shape.fields.wrapping_add(key.wrapping_mul(ODD).rotate_left(23).wrapping_mul(ODD));
            name(state);
        }
        state.cut_to(top);
        if shape.map.is_some() {
            (shape.fields, shape.count) = (0, 0);
        }
        shape
    }

    fn key(&self) -> ShapeKey {
        let kind = |kind: Type| kind as u8;
        let map = self.map.map(|(key, value)| (kind(key), kind(value)));
        (self.elements.map(kind), self.fields, self.count, map)
    }
}

/// What tells shapes apart for as long as no text is collected.
type ShapeKey = (Option<u8>, u64, usize, Option<(u8, u8)>);

/// What a table is like: the names of its fields, what its elements are.
fn shape_text(state: State, table: c_int) -> String {
    let mut names: Vec<String> = Vec::new();
    let shape = Shape::of(state, table, |state| names.push(key_text(state)));
    names.sort();
    let elements = shape.elements.map(|kind| format!("list of {}", plural(kind)));
    let fields = match shape.map {
        Some((key, value)) => Some(format!("map of {} by {}", plural(value), plural(key))),
        None if names.is_empty() => None,
        None => Some(format!("{{{}}}", names.join(", "))),
    };
    match (elements, fields) {
        (Some(elements), Some(fields)) => format!("{elements}, with {fields}"),
        (Some(text), None) | (None, Some(text)) => text,
        (None, None) => "empty".to_owned(),
    }
}

fn plural(kind: Type) -> &'static str {
    match kind {
        Type::Nil | Type::None => "nothing",
        Type::Boolean => "truths",
        Type::Integer | Type::Float => "numbers",
        Type::String => "texts",
        Type::Table => "tables",
        Type::Function => "functions",
        Type::Userdata | Type::LightUserdata => "userdata",
        Type::Thread => "coroutines",
    }
}
