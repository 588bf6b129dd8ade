//! Giving what is on show another value.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::value::Page;

use super::describe::captured_names;
use super::keys::Which;
use super::{Node, Shown};
use crate::ffi::state::{State, Type};
use crate::scope::{self, Target};

impl Shown {
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
            Node::Globals { of, .. } => {
                scope::push_globals_at(state, of)?;
                self.set_entry(state, name).map_err(|error| error.unwrap_or_else(missing))
            }
            Node::Data(_) => Err(of_the_host(name)),
            Node::Value(number) => {
                Self::push_kept(state, number);
                match state.type_at(-1) {
                    Type::Table => self.set_entry(state, name).map_err(|error| error.unwrap_or_else(missing)),
                    Type::Function => set_capture(state, name).ok_or_else(missing),
                    Type::Userdata => Err(of_the_host(name)),
                    _ => Err(EngineError::NotAssignable {
                        name: name.to_owned(),
                        why: "only variables and table entries can be changed".to_owned(),
                    }),
                }
            }
        }
    }

    /// With a value and a table on top: sets the entry shown as `name`; `Err(None)` when there is none.
    fn set_entry(&self, state: State, name: &str) -> Result<(), Option<EngineError>> {
        let table = state.top();
        let element =
            name.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).and_then(|n| n.parse::<i64>().ok());
        match element {
            Some(number) => state.push_integer(number),
            None => {
                let all = Page { start: 0, count: usize::MAX };
                let found = self.page_of_keys(state, table, Which::All, all).map_err(Some)?;
                let key = found.keys.iter().find(|key| key.shown == name).ok_or(None)?;
                state.raw_get_index(found.list, key.position);
            }
        }
        state.push_copy(table - 1);
        state.raw_set(table).map_err(Some)?;
        self.forget_keys();
        Ok(())
    }
}

/// What is shown of a value of the host is a copy.
fn of_the_host(name: &str) -> EngineError {
    EngineError::NotAssignable {
        name: name.to_owned(),
        why: "it is inside a value of the host; assign to a field that its type lets scripts set".to_owned(),
    }
}

/// The number of the local that the script itself would see under this name.
fn visible_local(target: Target, name: &str) -> Option<i32> {
    target.state.level(target.level)?.find_local(name)
}

/// With a value and a function on top: sets the captured variable `name`.
fn set_capture(state: State, name: &str) -> Option<()> {
    let function: c_int = state.top();
    let number = captured_names(state, function).iter().position(|held| held == name)? + 1;
    state.push_copy(function - 1);
    state.set_captured(function, number);
    Some(())
}
