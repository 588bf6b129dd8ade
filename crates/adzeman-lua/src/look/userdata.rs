//! Values of the host inside the script: what they hold, by serde, and what their type offers.

use std::ffi::c_int;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use adzeman_core::engine::EngineError;
use adzeman_core::host::{self, About, Aspect, Data, Outline};
use adzeman_core::path::Path;
use adzeman_core::path::{Root, TreePath};
use adzeman_core::value::{Children, Expand, Kind, Nature, Page, Paged, Value, Variable};
use mlua::{AnyUserData, Lua};
use serde::Serialize;

use super::describe::has_metatable;
use super::{Node, Shown};
use crate::error::LuaError;
use crate::ffi;
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::tables::KeyScan;
use crate::scope::NOTATION;

/// Methods and computed fields of one type that are listed.
const MOST_MEMBERS: usize = 500;

type Told = Result<Data, String>;
type ShowType = dyn Fn(&AnyUserData) -> Option<Told> + Send;

/// The types of the host that show what they hold. The binding keeps a function that has a copy.
#[derive(Clone, Default)]
pub(crate) struct ShownTypes {
    types: Arc<Mutex<Vec<Box<ShowType>>>>,
    found: Arc<Mutex<Option<Told>>>,
}

/// A host's own code may have failed while it was asked; what is held is whole all the same.
fn lock<T>(held: &Mutex<T>) -> MutexGuard<'_, T> {
    held.lock().unwrap_or_else(PoisonError::into_inner)
}

impl ShownTypes {
    /// Has values of the type `T` show what they hold.
    pub(crate) fn add<T: Serialize + 'static>(&self, lua: &Lua, about: About) -> Result<(), LuaError> {
        about.check().map_err(mlua::Error::external)?;
        if lock(&self.types).is_empty() {
            let held = self.clone();
            let look = lua.create_function(move |_, value: AnyUserData| {
                let found = lock(&held.types).iter().find_map(|show| show(&value));
                *lock(&held.found) = found;
                Ok(())
            })?;
            ffi::keep_function(lua, &look, Slot::Types)?;
        }
        lock(&self.types).push(Box::new(move |value| {
            value.is::<T>().then(|| {
                let held = value.borrow::<T>().map_err(|_| "in use by the host at this moment".to_owned())?;
                let data = host::to_data(&*held).map_err(|why| format!("cannot be shown: {why}"))?;
                Ok(about.sealed(&Path::default(), data))
            })
        }));
        Ok(())
    }
}

/// A place for data that is in no tree.
fn nowhere() -> TreePath {
    TreePath { root: Root::Host, path: Path::default() }
}

impl Shown {
    /// What the userdata at `index` holds, if the host has said how to tell. No code of the script runs.
    pub(super) fn data_of(&self, state: State, index: c_int) -> Option<Told> {
        if lock(&self.types.types).is_empty() || state.type_at(index) != Type::Userdata {
            return None;
        }
        let top = state.top();
        state.push_copy(index);
        state.push_slot(Slot::Types);
        let called = state.call_below(1, 0);
        state.cut_to(top);
        let found = lock(&self.types.found).take();
        called.ok().and(found)
    }

    /// The userdata is on top; it is popped. What it holds, what it can compute, its methods, and its metatable.
    pub(super) fn list_userdata(&self, state: State, page: Page) -> Result<Paged<Variable>, EngineError> {
        let userdata = state.top();
        let members = members(state, userdata)?;
        let mut rows: Vec<Variable> = Vec::new();
        if let Some(Ok(data)) = self.data_of(state, userdata) {
            rows = self.data_rows(&data);
            for row in rows.iter_mut().filter(|row| members.computed.contains(&row.name)) {
                row.evaluate_name = Some(format!(".{}", row.name));
            }
        }
        for name in
            members.computed.iter().filter(|name| !rows.iter().any(|row| row.name == **name)).collect::<Vec<_>>()
        {
            let value = Value::plain(Kind::Userdata, "computed", "");
            let variable = Variable::new(name, value).named_by(format!(".{name}"));
            rows.push(Variable { nature: Nature::Computed, ..variable });
        }
        for name in &members.methods {
            let value = Value::plain(Kind::Function, "function", "method of the host");
            rows.push(Variable { nature: Nature::Method, ..Variable::new(name, value).named_by(format!(".{name}")) });
        }
        if has_metatable(state, userdata) {
            rows.push(self.metatable_variable(state, userdata)?);
        }
        state.cut_to(userdata - 1);
        Ok(page.of(rows.len(), rows.into_iter(), |row| row))
    }

    /// What is inside data, each with a handle to look further.
    fn data_rows(&self, data: &Data) -> Vec<Variable> {
        let outline = Outline::of_data(data, Aspect::Inside(Page::first(Page::MOST)));
        let listed = host::list(outline, &nowhere(), NOTATION).items;
        let inside: Vec<&Data> = match data {
            Data::Object(fields) => fields.values().collect(),
            Data::List(items) => items.iter().collect(),
            _ => Vec::new(),
        };
        let row = |(variable, data): (Variable, &Data)| {
            let children =
                variable.value.children.map(|children| Children { expand: self.data_handle(data), ..children });
            Variable { evaluate_name: None, value: Value { children, ..variable.value }, ..variable }
        };
        listed.into_iter().zip(inside).map(row).collect()
    }

    fn data_handle(&self, data: &Data) -> Expand {
        let mut held = self.on_show.data.borrow_mut();
        held.push(data.clone());
        Expand::Engine(self.handle(Node::Data(held.len() - 1)))
    }

    pub(super) fn list_data(&self, number: usize, page: Page) -> Result<Paged<Variable>, EngineError> {
        let data = self.on_show.data.borrow().get(number).cloned().ok_or(EngineError::StaleHandle)?;
        let rows = self.data_rows(&data);
        Ok(page.of(rows.len(), rows.into_iter(), |row| row))
    }

    /// Names that can stand behind a `.` or `:` of the value on top.
    pub(crate) fn member_names(&self, state: State) -> Result<Vec<String>, EngineError> {
        let members = members(state, state.top())?;
        Ok(members.computed.into_iter().chain(members.methods).collect())
    }
}

/// What a type offers by name.
#[derive(Default)]
struct Members {
    /// Fields that a function of the host computes.
    computed: Vec<String>,
    methods: Vec<String>,
}

/// The members of the value at `value`: entries of the table `__index`, or of the tables that a function `__index` captures,
/// where the binding keeps computed fields and methods apart by name. What a native function captures has no names: there, computed fields
/// are those of the table that is the metatable's `__getters` as well, as several bindings have it.
fn members(state: State, value: c_int) -> Result<Members, EngineError> {
    let top = state.top();
    let mut members = Members::default();
    if state.push_metatable(value) {
        state.raw_get_field(-1, "__index")?;
        match state.type_at(-1) {
            Type::Table => members.methods = function_names(state)?,
            Type::Function => {
                let function = state.top();
                state.raw_get_field(function - 1, "__getters")?;
                let getters = state.top();
                for number in 1.. {
                    let Some(name) = state.push_captured(function, number) else { break };
                    match (state.type_at(-1), name.as_str()) {
                        (Type::Table, "field_getters") => members.computed = function_names(state)?,
                        (Type::Table, _) if state.raw_equal(-1, getters) => members.computed = function_names(state)?,
                        (Type::Table, _) => members.methods.extend(function_names(state)?),
                        _ => {}
                    }
                    state.pop(1);
                }
            }
            _ => {}
        }
    }
    state.cut_to(top);
    Ok(members)
}

/// What a type of the host is called that has no name.
pub(super) const NO_TYPE_NAME: &str = "userdata";

/// The names under which the table on top holds functions, sorted.
fn function_names(state: State) -> Result<Vec<String>, EngineError> {
    let table = state.top();
    state.push_table()?;
    let list = state.top();
    let mut scan = KeyScan::new(0, MOST_MEMBERS, MOST_MEMBERS);
    state.push_nil();
    state.scan_keys(table, list, None, &mut scan)?;
    let mut names = Vec::new();
    for position in 1..=i64::try_from(scan.kept).unwrap_or(0) {
        state.raw_get_index(list, position);
        let name = state.text_at(-1);
        state.raw_get(table);
        names.extend(name.filter(|_| state.type_at(-1) == Type::Function));
        state.pop(1);
    }
    state.cut_to(table);
    names.sort();
    Ok(names)
}

/// The name of the type of the userdata at `index`.
pub(crate) fn type_name_of(state: State, index: c_int) -> Result<String, EngineError> {
    let top = state.top();
    let mut name = None;
    if state.push_metatable(index) {
        state.raw_get_field(-1, "__name")?;
        name = state.text_at(-1);
    }
    state.cut_to(top);
    Ok(name.unwrap_or_else(|| NO_TYPE_NAME.to_owned()))
}
