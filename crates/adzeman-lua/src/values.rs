//! Lua values as plain data, without running anything of the script.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::host;
use adzeman_core::source::Line;
use adzeman_core::value::{Children, Expand, Handle, Kind, Page, Paged, Part, Preview, Value, Variable, short_float};

use crate::context::{Context, display_name};
use crate::evaluate::{Target, push_globals_of};
use crate::ffi::proxy;
use crate::ffi::state::{Slot, State, Type};

/// A table with more keys than this beside its sequence is not counted or sorted: its keys come in the table's own order.
const MOST_SORTED_KEYS: usize = 10_000;
/// A sequence longer than this is passed over as a whole when names are looked for.
const LONG_SEQUENCE: usize = 4096;
/// Elements and names in a preview.
const PREVIEW_ELEMENTS: usize = 8;

/// What a handle stands for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Node {
    /// The local variables of a function on a stack.
    Locals(Target),
    /// Its extra arguments.
    Varargs(Target),
    /// The globals it sees.
    Globals(Target),
    /// The globals of the state, when no function runs.
    StateGlobals,
    /// The inside of the value kept under this number: entries, captured variables, or frames of a coroutine.
    Value(i64),
}

/// A key of a table that is not part of its sequence.
struct Key {
    shown: String,
    order: Order,
    /// Where it stands in the list of keys made by the scan, from 1.
    position: i64,
}

#[derive(PartialEq, PartialOrd)]
enum Order {
    Number(f64),
    Text(Vec<u8>),
    Other(String),
}

impl Context {
    /// Makes a handle for a node.
    pub(crate) fn handle(&self, node: Node) -> Handle {
        let mut nodes = self.nodes.borrow_mut();
        nodes.push(node);
        Handle(nodes.len() as u64)
    }

    pub(crate) fn node(&self, handle: Handle) -> Result<Node, EngineError> {
        let index = usize::try_from(handle.0).ok().and_then(|handle| handle.checked_sub(1));
        index.and_then(|index| self.nodes.borrow().get(index).copied()).ok_or(EngineError::StaleHandle)
    }

    /// Forgets all handles and what they kept alive.
    pub(crate) fn forget_handles(&self) -> Result<(), EngineError> {
        if std::mem::take(&mut *self.nodes.borrow_mut()).is_empty() {
            return Ok(());
        }
        self.main.push_table()?;
        self.main.set_slot(Slot::Anchors)
    }

    /// Keeps the value at `index` for a handle.
    fn keep(&self, state: State, index: c_int) -> Result<Handle, EngineError> {
        let number = i64::try_from(self.nodes.borrow().len()).unwrap_or(i64::MAX) + 1;
        let index = state.absolute(index);
        state.push_slot(Slot::Anchors);
        state.push_integer(number);
        state.push_copy(index);
        state.raw_set(-3)?;
        state.pop(1);
        Ok(self.handle(Node::Value(number)))
    }

    /// Pushes a value kept by [`keep`](Self::keep).
    pub(crate) fn push_kept(state: State, number: i64) {
        state.push_slot(Slot::Anchors);
        state.raw_get_index(-1, number);
        state.swap();
        state.pop(1);
    }

    /// The type and the preview of the value at `index`; no handle is left.
    pub(crate) fn preview(&self, state: State, index: c_int) -> Result<(String, String), EngineError> {
        let handles = self.nodes.borrow().len();
        let value = self.describe(state, index);
        self.nodes.borrow_mut().truncate(handles);
        value.map(|value| (value.type_name, value.preview))
    }

    /// The value at `index`, as shown.
    pub(crate) fn describe(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        let index = state.absolute(index);
        let mut preview = Preview::default();
        let plain = |kind, type_name: &str, preview: String| Ok(Value::plain(kind, type_name, preview));
        match state.type_at(index) {
            Type::Nil | Type::None => plain(Kind::Nil, "nil", "nil".to_owned()),
            Type::Boolean => plain(Kind::Boolean, "boolean", state.bool_at(index).to_string()),
            Type::Integer => plain(Kind::Integer, "integer", state.integer_at(index).unwrap_or(0).to_string()),
            Type::Float => plain(Kind::Float, "float", full_float(state.float_at(index).unwrap_or(0.0))),
            Type::String => {
                let length = state.with_bytes(index, |bytes| {
                    preview.quoted(bytes);
                    bytes.len()
                });
                let is_cut = preview.is_full();
                let mut text = preview.finish();
                if is_cut {
                    text.push_str(&format!(" ({} bytes)", length.unwrap_or(0)));
                }
                plain(Kind::String, "string", text)
            }
            Type::Table => self.describe_table(state, index),
            Type::Function => self.describe_function(state, index),
            Type::Thread => {
                let text = state.thread_at(index).map_or("coroutine", coroutine_status);
                let children = Some(self.inside(state, index, 0, 1, true)?);
                Ok(Value { children, ..Value::plain(Kind::Coroutine, "coroutine", text) })
            }
            Type::Userdata | Type::LightUserdata => self.describe_userdata(state, index),
        }
    }

    fn inside(
        &self,
        state: State,
        index: c_int,
        indexed: usize,
        named: usize,
        named_is_all: bool,
    ) -> Result<Children, EngineError> {
        let expand = Expand::Engine(self.keep(state, index)?);
        Ok(Children { expand, indexed, named, named_is_all })
    }

    fn describe_table(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        let mut preview = Preview::default();
        let counts = preview_table(state, index, &mut preview)?;
        let has_metatable = state.push_metatable(index);
        if has_metatable {
            state.pop(1);
        }
        let named = counts.named + usize::from(has_metatable);
        let children = (counts.indexed + named > 0 || !counts.all)
            .then(|| self.inside(state, index, counts.indexed, named, counts.all))
            .transpose()?;
        Ok(Value { children, ..Value::plain(Kind::Table, "table", preview.finish()) })
    }

    fn describe_function(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        let captures = captured_names(state, index);
        let count = captures.iter().filter(|name| *name != "_ENV").count();
        let children = (count > 0).then(|| self.inside(state, index, 0, count, true)).transpose()?;
        Ok(Value { children, ..Value::plain(Kind::Function, "function", function_text(state, index)) })
    }

    fn describe_userdata(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        if let Some(place) = proxy::place_at(state, index) {
            return Ok(host::describe(&self.host().get(&place)?, &place));
        }
        let name = type_name_of(state, index)?;
        let children = match state.push_metatable(index) {
            true => {
                state.pop(1);
                Some(self.inside(state, index, 0, 1, true)?)
            }
            false => None,
        };
        Ok(Value { children, ..Value::plain(Kind::Userdata, &name, format!("{name} (a value of the host)")) })
    }

    /// A page of what a node holds.
    pub(crate) fn list(
        &self,
        state: State,
        node: Node,
        part: Part,
        page: Page,
    ) -> Result<Paged<Variable>, EngineError> {
        match node {
            Node::Locals(target) => self.list_locals(target, page),
            Node::Varargs(target) => self.list_varargs(target, page),
            Node::Globals(target) => {
                push_globals_of(target, state);
                self.list_table(state, Part::Named, page)
            }
            Node::StateGlobals => {
                state.push_globals();
                self.list_table(state, Part::Named, page)
            }
            Node::Value(number) => {
                Self::push_kept(state, number);
                match state.type_at(-1) {
                    Type::Table => self.list_table(state, part, page),
                    Type::Function => self.list_captured(state, page),
                    Type::Thread => self.list_coroutine(state, page),
                    _ => self.list_metatable(state, page),
                }
            }
        }
    }

    fn variable(&self, state: State, name: String, evaluate_name: Option<String>) -> Result<Variable, EngineError> {
        Ok(Variable { value: self.describe(state, -1)?, name, evaluate_name, shadowed: false })
    }

    fn list_locals(&self, target: Target, page: Page) -> Result<Paged<Variable>, EngineError> {
        let mut variables: Vec<Variable> = Vec::new();
        let Some(function) = target.state.level(target.level) else { return Err(EngineError::StaleHandle) };
        for number in 1.. {
            let Some(name) = function.push_local(number) else { break };
            // Names in parentheses are the engine's own.
            if !name.starts_with('(') {
                for hidden in variables.iter_mut().filter(|held| held.name == name) {
                    hidden.shadowed = true;
                    hidden.evaluate_name = None;
                }
                variables.push(self.variable(target.state, name.clone(), Some(name))?);
            }
            target.state.pop(1);
        }
        Ok(page.of(variables.len(), variables.into_iter(), |variable| variable))
    }

    fn list_varargs(&self, target: Target, page: Page) -> Result<Paged<Variable>, EngineError> {
        let Some(function) = target.state.level(target.level) else { return Err(EngineError::StaleHandle) };
        let mut variables = Vec::new();
        for number in 1.. {
            if function.push_local(-number).is_none() {
                break;
            }
            let expression = format!("(select({number}, ...))");
            variables.push(self.variable(target.state, format!("[{number}]"), Some(expression))?);
            target.state.pop(1);
        }
        Ok(page.of(variables.len(), variables.into_iter(), |variable| variable))
    }

    /// The function is on top; it is popped.
    fn list_captured(&self, state: State, page: Page) -> Result<Paged<Variable>, EngineError> {
        let function = state.top();
        let mut variables = Vec::new();
        for (number, name) in (1..).zip(captured_names(state, function)) {
            if name != "_ENV" && state.push_captured(function, number).is_some() {
                variables.push(self.variable(state, name.clone(), Some(name))?);
                state.pop(1);
            }
        }
        state.pop(1);
        Ok(page.of(variables.len(), variables.into_iter(), |variable| variable))
    }

    /// The coroutine is on top; it is popped. Its own stack, one entry a function, with the locals inside.
    fn list_coroutine(&self, state: State, page: Page) -> Result<Paged<Variable>, EngineError> {
        let Some(coroutine) = state.thread_at(-1) else { return Err(EngineError::StaleHandle) };
        let mut variables = Vec::new();
        let depth = coroutine.depth();
        for level in (0..depth).skip(page.start).take(page.count.min(Page::MOST)) {
            let Some(function) = coroutine.level(level) else { break };
            let info = function.info();
            let place = info.current_line.map_or(String::new(), |line| format!(":{line}"));
            let text = format!("{}{place}", display_name(&info.chunk_name));
            let expand = Expand::Engine(self.handle(Node::Locals(Target { state: coroutine, level })));
            let children = (!info.is_native).then_some(Children { expand, indexed: 0, named: 1, named_is_all: false });
            let name = format!("frame {level}");
            let value = Value { children, ..Value::plain(Kind::Function, "frame", text) };
            variables.push(Variable { name, value, evaluate_name: None, shadowed: false });
        }
        state.pop(1);
        Ok(Paged { items: variables, total: depth })
    }

    fn list_metatable(&self, state: State, page: Page) -> Result<Paged<Variable>, EngineError> {
        let mut variables = Vec::new();
        if state.push_metatable(-1) {
            variables.push(self.variable(state, "(metatable)".to_owned(), None)?);
            state.pop(1);
        }
        state.pop(1);
        Ok(page.of(variables.len(), variables.into_iter(), |variable| variable))
    }

    /// The table is on top; it is popped.
    fn list_table(&self, state: State, part: Part, page: Page) -> Result<Paged<Variable>, EngineError> {
        let table = state.top();
        let length = state.raw_len(table);
        let indexed = if part == Part::Named { 0 } else { length };
        let mut items = Vec::new();
        let count = page.count.min(Page::MOST);
        for number in (page.start..indexed).take(count) {
            state.raw_get_index(table, i64::try_from(number).unwrap_or(0) + 1);
            items.push(self.variable(state, format!("[{}]", number + 1), None)?);
            state.pop(1);
        }
        let mut total = indexed;
        if part != Part::Indexed {
            let rest = Page { start: page.start.saturating_sub(indexed), count: count - items.len() };
            total += self.list_named(state, table, rest, &mut items)?;
        }
        state.cut_to(table - 1);
        Ok(Paged { items, total })
    }

    /// Adds a page of the keys that are not part of the sequence, and last the metatable; answers how many there are.
    fn list_named(
        &self,
        state: State,
        table: c_int,
        page: Page,
        items: &mut Vec<Variable>,
    ) -> Result<usize, EngineError> {
        let (keys, list) = sorted_keys(state, table)?;
        let has_metatable = state.push_metatable(table);
        if has_metatable {
            state.pop(1);
        }
        for key in keys.iter().skip(page.start).take(page.count) {
            state.raw_get_index(list, key.position);
            state.raw_get(table);
            items.push(self.variable(state, key.shown.clone(), None)?);
            state.pop(1);
        }
        let room_left = page.start + page.count > keys.len() && page.start <= keys.len();
        if has_metatable && room_left && page.count > 0 && state.push_metatable(table) {
            items.push(self.variable(state, "(metatable)".to_owned(), None)?);
            state.pop(1);
        }
        Ok(keys.len() + usize::from(has_metatable))
    }

    /// Gives the child `name` of a node the value on top, which is popped.
    pub(crate) fn set_child(&self, state: State, node: Node, name: &str) -> Result<(), EngineError> {
        let missing = || EngineError::NoName {
            name: name.to_owned(),
            hint: "look again: it may have gone out of scope or been removed".to_owned(),
        };
        match node {
            Node::Locals(target) => {
                let number = visible_local(target, name).ok_or_else(missing)?;
                state.move_to(target.state, 1);
                target.state.level(target.level).ok_or_else(missing)?.set_local(number);
                Ok(())
            }
            Node::Varargs(target) => {
                let number: i32 = name.trim_matches(['[', ']']).parse().map_err(|_| missing())?;
                let function = target.state.level(target.level).ok_or_else(missing)?;
                function.push_local(-number).ok_or_else(missing)?;
                target.state.pop(1);
                state.move_to(target.state, 1);
                function.set_local(-number);
                Ok(())
            }
            Node::Globals(target) => {
                push_globals_of(target, state);
                set_entry(state, name).map_err(|error| error.unwrap_or_else(missing))
            }
            Node::StateGlobals => {
                state.push_globals();
                set_entry(state, name).map_err(|error| error.unwrap_or_else(missing))
            }
            Node::Value(number) => {
                Self::push_kept(state, number);
                match state.type_at(-1) {
                    Type::Table => set_entry(state, name).map_err(|error| error.unwrap_or_else(missing)),
                    Type::Function => set_capture(state, name).ok_or_else(missing),
                    _ => Err(EngineError::NotAssignable {
                        name: name.to_owned(),
                        why: "only variables and table entries can be changed".to_owned(),
                    }),
                }
            }
        }
    }
}

/// The number of the local that the script itself would see under this name.
fn visible_local(target: Target, name: &str) -> Option<i32> {
    let function = target.state.level(target.level)?;
    let mut found = None;
    for number in 1.. {
        let Some(held) = function.push_local(number) else { break };
        target.state.pop(1);
        found = if held == name { Some(number) } else { found };
    }
    found
}

/// With a value and a table on top: sets the entry shown as `name`; `Err(None)` when there is none.
fn set_entry(state: State, name: &str) -> Result<(), Option<EngineError>> {
    let table = state.top();
    let element = name.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).and_then(|n| n.parse::<i64>().ok());
    match element {
        Some(number) => state.push_integer(number),
        None => {
            let (keys, list) = sorted_keys(state, table).map_err(Some)?;
            let key = keys.iter().find(|key| key.shown == name).ok_or(None)?;
            state.raw_get_index(list, key.position);
        }
    }
    state.push_copy(table - 1);
    state.raw_set(table).map_err(Some)
}

/// With a value and a function on top: sets the captured variable `name`.
fn set_capture(state: State, name: &str) -> Option<()> {
    let function = state.top();
    let number = captured_names(state, function).iter().position(|held| held == name)? + 1;
    state.push_copy(function - 1);
    state.set_captured(function, number);
    Some(())
}

pub(crate) fn captured_names(state: State, index: c_int) -> Vec<String> {
    let mut names = Vec::new();
    if state.is_native_function(index) {
        return names;
    }
    while let Some(name) = state.push_captured(index, names.len() + 1) {
        state.pop(1);
        names.push(name);
    }
    names
}

fn function_text(state: State, index: c_int) -> String {
    let info = state.function_info(index);
    match Line::new(info.first_line) {
        _ if info.is_native => "function of the host or of Lua's library".to_owned(),
        Some(line) => format!("function at {}:{line}", display_name(&info.chunk_name)),
        None => format!("whole script {}", display_name(&info.chunk_name)),
    }
}

fn coroutine_status(coroutine: State) -> &'static str {
    if coroutine.is_suspended() {
        "coroutine, suspended"
    } else if coroutine.depth() > 0 {
        "coroutine, active"
    } else if coroutine.top() > 0 {
        "coroutine, not started"
    } else {
        "coroutine, finished"
    }
}

fn type_name_of(state: State, index: c_int) -> Result<String, EngineError> {
    let top = state.top();
    let mut name = None;
    if state.push_metatable(index) {
        state.raw_get_field(-1, "__name")?;
        name = state.text_at(-1);
    }
    state.cut_to(top);
    Ok(name.unwrap_or_else(|| "userdata".to_owned()))
}

/// How many entries a table has, as far as that was counted.
struct Counts {
    indexed: usize,
    named: usize,
    all: bool,
}

/// Writes the first elements and names; looks at a bounded number of entries.
fn preview_table(state: State, table: c_int, out: &mut Preview) -> Result<Counts, EngineError> {
    let top = state.top();
    let indexed = state.raw_len(table);
    let scan = state.scan_keys(table, indexed, indexed > LONG_SEQUENCE, MOST_SORTED_KEYS, PREVIEW_ELEMENTS)?;
    let list = state.top();
    out.push("{");
    for number in 1..=indexed.min(PREVIEW_ELEMENTS) {
        separate(out, number > 1);
        state.raw_get_index(table, i64::try_from(number).unwrap_or(0));
        preview_entry(state, out);
        state.pop(1);
    }
    if indexed > PREVIEW_ELEMENTS {
        out.push(&format!(", … {indexed} in all"));
    }
    let mut keys = read_keys(state, list, scan.kept);
    sort(&mut keys);
    for (position, key) in keys.iter().enumerate() {
        separate(out, position > 0 || indexed > 0);
        out.push(&key.shown);
        out.push(" = ");
        state.raw_get_index(list, key.position);
        state.raw_get(table);
        preview_entry(state, out);
        state.pop(1);
    }
    if scan.named > scan.kept {
        out.push(", …");
    }
    out.push("}");
    state.cut_to(top);
    Ok(Counts { indexed, named: scan.named, all: scan.finished })
}

fn separate(out: &mut Preview, needed: bool) {
    if needed {
        out.push(", ");
    }
}

/// The value on top, in few characters.
fn preview_entry(state: State, out: &mut Preview) {
    match state.type_at(-1) {
        Type::Nil | Type::None => out.push("nil"),
        Type::Boolean => out.push(if state.bool_at(-1) { "true" } else { "false" }),
        Type::Integer => out.push(&state.integer_at(-1).unwrap_or(0).to_string()),
        Type::Float => out.push(&short_float(state.float_at(-1).unwrap_or(0.0))),
        Type::String => {
            state.with_bytes(-1, |bytes| out.quoted(bytes));
        }
        Type::Table => out.push("{…}"),
        Type::Function => out.push("function"),
        Type::Thread => out.push("coroutine"),
        Type::Userdata | Type::LightUserdata => out.push("userdata"),
    }
}

/// Pushes a list of the keys beside the sequence and answers them in a stable order: numbers, then texts, then others;
/// in the table's own order when there are very many.
fn sorted_keys(state: State, table: c_int) -> Result<(Vec<Key>, c_int), EngineError> {
    let length = state.raw_len(table);
    let scan = state.scan_keys(table, length, false, usize::MAX, usize::MAX)?;
    let list = state.top();
    let mut keys = read_keys(state, list, scan.kept);
    if keys.len() <= MOST_SORTED_KEYS {
        sort(&mut keys);
    }
    Ok((keys, list))
}

fn read_keys(state: State, list: c_int, count: usize) -> Vec<Key> {
    let read = |position| {
        state.raw_get_index(list, position);
        let key = key_at_top(state, position);
        state.pop(1);
        key
    };
    (1..=i64::try_from(count).unwrap_or(0)).map(read).collect()
}

fn key_at_top(state: State, position: i64) -> Key {
    let (shown, order) = match state.type_at(-1) {
        Type::Integer => {
            let number = state.integer_at(-1).unwrap_or(0);
            #[expect(clippy::cast_precision_loss, reason = "only the order is made from it")]
            (format!("[{number}]"), Order::Number(number as f64))
        }
        Type::Float => {
            let number = state.float_at(-1).unwrap_or(0.0);
            (format!("[{}]", full_float(number)), Order::Number(number))
        }
        Type::String => state
            .with_bytes(-1, |bytes| (shown_key(bytes), Order::Text(bytes[..bytes.len().min(256)].to_vec())))
            .unwrap_or((String::new(), Order::Text(Vec::new()))),
        Type::Boolean => {
            let text = format!("[{}]", state.bool_at(-1));
            (text.clone(), Order::Other(text))
        }
        other => {
            let text = format!("[{} {:#x}]", format!("{other:?}").to_lowercase(), state.address_at(-1));
            (text.clone(), Order::Other(text))
        }
    };
    Key { shown, order, position }
}

fn shown_key(bytes: &[u8]) -> String {
    let is_name = bytes.first().is_some_and(|first| !first.is_ascii_digit())
        && bytes.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'_');
    if is_name && bytes.len() < 64 {
        return String::from_utf8_lossy(bytes).into_owned();
    }
    let mut preview = Preview::default();
    preview.quoted(bytes);
    format!("[{}]", preview.finish())
}

fn sort(keys: &mut [Key]) {
    keys.sort_by(|a, b| a.order.partial_cmp(&b.order).unwrap_or(std::cmp::Ordering::Equal));
}

/// A float in full, never looking whole.
fn full_float(float: f64) -> String {
    match float {
        _ if float.is_nan() => "nan".to_owned(),
        _ if float.is_infinite() => if float > 0.0 { "inf" } else { "-inf" }.to_owned(),
        _ => format!("{float:?}"),
    }
}
