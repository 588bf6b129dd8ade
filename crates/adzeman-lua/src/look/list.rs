//! What is inside a value or a scope, in pages.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::host::Data;
use adzeman_core::value::{Children, Expand, Handle, Kind, Nature, Page, Paged, Part, Value, Variable};

use super::describe::{captured_names, has_metatable};
use super::keys::{Key, Which};
use super::{Node, Shown, position};
use crate::ffi::state::{State, Type};
use crate::scope::{self, Target};
use crate::text::display_name;

/// The name that a metatable is listed under.
const METATABLE: &str = "(metatable)";

impl Shown {
    /// A page of what a handle stands for.
    pub(crate) fn list(
        &self,
        state: State,
        handle: Handle,
        part: Part,
        page: Page,
    ) -> Result<Paged<Variable>, EngineError> {
        let node = self.node(handle)?;
        let before = self.on_show.listing.replace(position(handle));
        let listed = self.list_node(state, node, part, page);
        self.on_show.listing.set(before);
        listed
    }

    /// A page of what a node holds.
    pub(crate) fn list_node(
        &self,
        state: State,
        node: Node,
        part: Part,
        page: Page,
    ) -> Result<Paged<Variable>, EngineError> {
        if part != Part::All && !self.has_part(state, node, part) {
            return Ok(Paged::whole(Vec::new(), 0));
        }
        match node {
            Node::Locals(target) => self.list_locals(target, page),
            Node::Varargs(target) => self.list_varargs(target, page),
            Node::Globals { of, built_in } => {
                scope::push_globals_at(state, of)?;
                let which = if built_in { Which::BuiltIn } else { Which::Own };
                self.list_table(state, which, Part::Named, page)
            }
            Node::Data(number) => self.list_data(number, page),
            Node::Value(number) => {
                Self::push_kept(state, number);
                match state.type_at(-1) {
                    Type::Table => self.list_table(state, Which::All, part, page),
                    Type::Function => self.list_captured(state, page),
                    Type::Thread => self.list_coroutine(state, page),
                    _ => self.list_userdata(state, page),
                }
            }
        }
    }

    /// Whether a node can have elements, or names.
    fn has_part(&self, state: State, node: Node, part: Part) -> bool {
        match node {
            Node::Data(number) => {
                let is_list = matches!(self.on_show.data.borrow().get(number), Some(Data::List(_)));
                is_list == (part == Part::Indexed)
            }
            Node::Value(number) if part == Part::Indexed => {
                Self::push_kept(state, number);
                let is_table = state.type_at(-1) == Type::Table;
                state.pop(1);
                is_table
            }
            Node::Value(_) => true,
            Node::Locals(_) | Node::Varargs(_) | Node::Globals { .. } => part == Part::Named,
        }
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
        let total = function.varargs();
        let mut variables = Vec::new();
        for number in (1..=total).skip(page.start).take(page.count.min(Page::MOST)) {
            if function.push_local(-number).is_some() {
                let expression = format!("(select({number}, ...))");
                variables.push(self.variable(target.state, format!("[{number}]"), Some(expression))?);
                target.state.pop(1);
            }
        }
        Ok(Paged::whole(variables, usize::try_from(total).unwrap_or(0)))
    }

    /// The function is on top; it is popped.
    fn list_captured(&self, state: State, page: Page) -> Result<Paged<Variable>, EngineError> {
        let function = state.top();
        let mut variables = Vec::new();
        for (number, name) in (1..).zip(captured_names(state, function)) {
            if name != "_ENV" && state.push_captured(function, number).is_some() {
                variables.push(self.variable(state, name, None)?);
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
            let place = format!("{}{place}", display_name(&info.chunk_name));
            let text = info.name.map_or(place.clone(), |name| format!("{name} at {place}"));
            let expand = Expand::Engine(self.handle(Node::Locals(Target { state: coroutine, level })));
            let children = (!info.is_native).then_some(Children { expand, indexed: 0, named: 1, named_is_all: false });
            let value = Value { children, ..Value::plain(Kind::Function, "frame", text) };
            variables.push(Variable::new(format!("frame {level}"), value));
        }
        state.pop(1);
        Ok(Paged::whole(variables, depth))
    }

    /// The table is on top; it is popped.
    fn list_table(&self, state: State, which: Which, part: Part, page: Page) -> Result<Paged<Variable>, EngineError> {
        let table = state.top();
        let length = state.raw_len(table);
        let indexed = if part == Part::Named { 0 } else { length };
        let count = page.count.min(Page::MOST);
        let mut items = Vec::new();
        for number in (page.start..indexed).take(count) {
            state.raw_get_index(table, i64::try_from(number).unwrap_or(0) + 1);
            let name = format!("[{}]", number + 1);
            items.push(self.variable(state, name.clone(), Some(name))?);
            state.pop(1);
        }
        let mut paged = Paged::whole(items, indexed);
        if part != Part::Indexed {
            let rest = Page { start: page.start.saturating_sub(indexed), count: count - paged.items.len() };
            self.list_named(state, table, which, rest, &mut paged)?;
        }
        state.cut_to(table - 1);
        Ok(paged)
    }

    /// Adds a page of the keys that are not part of the sequence, and the metatable: behind the keys when they are in order,
    /// and else before them, since the last of very many may never be come to.
    fn list_named(
        &self,
        state: State,
        table: c_int,
        which: Which,
        page: Page,
        paged: &mut Paged<Variable>,
    ) -> Result<(), EngineError> {
        if page.count == 0 && state.raw_len(table) > 0 {
            // Only the sequence is shown; that there may be more is all that is said of the rest.
            paged.total_is_all = false;
            return Ok(());
        }
        let has_metatable = which == Which::All && has_metatable(state, table);
        let mut found = self.page_of_keys(state, table, which, page)?;
        let comes_first = has_metatable && !found.is_ordered;
        if comes_first && page.start > 0 {
            found = self.page_of_keys(state, table, which, Page { start: page.start - 1, ..page })?;
        }
        if comes_first && page.start == 0 {
            paged.items.push(self.metatable_variable(state, table)?);
            found.keys.truncate(page.count.saturating_sub(1));
        }
        for key in &found.keys {
            state.raw_get_index(found.list, key.position);
            state.raw_get(table);
            paged.items.push(self.variable(state, key.shown.clone(), expression(key, which))?);
            state.pop(1);
        }
        let covers_end = page.start <= found.total && page.start.saturating_add(page.count) > found.total;
        if has_metatable && !comes_first && covers_end {
            paged.items.push(self.metatable_variable(state, table)?);
        }
        paged.total += found.total + usize::from(has_metatable);
        paged.total_is_all &= found.total_is_all;
        Ok(())
    }

    /// The metatable of the value at `index`, as a variable.
    pub(super) fn metatable_variable(&self, state: State, index: c_int) -> Result<Variable, EngineError> {
        state.push_metatable(index);
        let variable = self.variable(state, METATABLE.to_owned(), None)?;
        state.pop(1);
        Ok(Variable { nature: Nature::Internal, ..variable })
    }
}

/// How an entry is written behind its table; a global, on its own.
fn expression(key: &Key, which: Which) -> Option<String> {
    let is_name = !key.shown.starts_with('[');
    match (which, is_name) {
        _ if !key.is_plain => None,
        (Which::All, true) => Some(format!(".{}", key.shown)),
        (Which::All, false) | (_, true) => Some(key.shown.clone()),
        (_, false) => Some(format!("_G{}", key.shown)),
    }
}
