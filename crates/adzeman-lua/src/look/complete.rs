//! Names and fields that could stand at a place.

use adzeman_core::engine::EngineError;
use adzeman_core::value::{Page, Part};

use super::keys::Which;
use super::{Node, Shown, push_data};
use crate::ffi::state::{State, Type};
use crate::scope::{self, Target};

/// Tables behind each other in a chain of `__index` that are looked through.
const LONGEST_CHAIN: usize = 8;

impl Shown {
    /// Variables of the function, globals, and the names that stand for the host, that begin with `prefix`.
    pub(crate) fn complete_name(
        &self,
        state: State,
        target: Option<Target>,
        prefix: &str,
    ) -> Result<Vec<String>, EngineError> {
        let globals = |built_in| Node::Globals { of: target, built_in };
        let mut nodes = vec![globals(false), globals(true)];
        nodes.extend(target.map(Node::Locals));
        let mut names = vec!["host".to_owned(), "event".to_owned()];
        for node in nodes {
            let page = self.list_node(state, node, Part::Named, Page::first(Page::MOST))?;
            names.extend(page.items.into_iter().map(|variable| variable.name));
        }
        if let Some(target) = target {
            scope::push_function_of(target);
            if target.state.type_at(-1) == Type::Function {
                names.extend(super::captured_names(target.state, -1));
            }
            target.state.pop(1);
        }
        names.retain(|name| name.starts_with(prefix) && !name.starts_with(['[', '(']) && name != "_ENV");
        Ok(names)
    }

    /// What could stand for `member` (a `.` or `:`, and the beginning of a name) behind the value that `path` names, each
    /// with all of it. Nothing of the script runs, so nothing is found behind a call.
    pub(crate) fn complete_member(
        &self,
        state: State,
        target: Option<Target>,
        path: &str,
        member: &str,
    ) -> Result<Vec<String>, EngineError> {
        let Ok(()) = scope::read(&path.replace(':', ".")).and_then(|path| scope::push_raw_path(state, target, &path))
        else {
            return Ok(Vec::new());
        };
        let (separator, begin) = member.split_at(1);
        let mut names = Vec::new();
        let value = state.top();
        if state.type_at(value) == Type::Userdata {
            names = self.member_names(state)?;
        }
        for _ in 0..LONGEST_CHAIN {
            if state.type_at(-1) != Type::Table {
                break;
            }
            let table = state.top();
            let found = self.page_of_keys(state, table, Which::All, Page::first(Page::MOST))?;
            names.extend(found.keys.into_iter().filter(|key| !key.shown.starts_with('[')).map(|key| key.shown));
            state.cut_to(table);
            if !state.push_metatable(table) {
                break;
            }
            state.raw_get_field(-1, "__index")?;
        }
        names.retain(|name| name.starts_with(begin));
        Ok(names.into_iter().map(|name| format!("{path}{separator}{name}")).collect())
    }

    /// Pushes what a name, or a path behind one, leads to; false, and nothing to rely on, when `text` is anything else.
    pub(crate) fn push_peeked(&self, state: State, target: Option<Target>, text: &str) -> Result<bool, EngineError> {
        let is_part = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '[' | ']');
        let begins = text.starts_with(|c: char| c.is_alphabetic() || c == '_');
        if !begins || !text.chars().all(is_part) {
            return Ok(false);
        }
        let Ok(path) = scope::read(text) else { return Ok(false) };
        if let Some(place) = self.tree_place(target, &path) {
            let data = self.host.bare(&place)?;
            push_data(state, &data, place)?;
            return Ok(true);
        }
        let found = scope::push_raw_path(state, target, &path).is_ok();
        Ok(found && state.type_at(-1) != Type::Nil)
    }
}
