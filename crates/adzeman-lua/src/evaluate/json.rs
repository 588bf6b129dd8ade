//! Lua values as plain data, for giving them to the host.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use serde_json::{Map, Number, Value as Json};

use crate::ffi::state::{State, Type};

/// Tables nested deeper than this are refused; it also ends cycles.
const DEEPEST: usize = 32;
/// Entries of all tables together.
const MOST_ENTRIES: usize = 100_000;

/// The value at `index` as data: a table with elements becomes a list, one with names an object. No metamethod runs.
///
/// # Errors
/// For what the host cannot be given: functions, coroutines, cycles, keys that are no names.
pub(crate) fn from_lua(state: State, index: c_int) -> Result<Json, EngineError> {
    let mut entries = 0;
    convert(state, index, 0, &mut entries)
}

fn refused(why: &str) -> EngineError {
    EngineError::Raised(format!("the host cannot be given this value: {why}"))
}

fn convert(state: State, index: c_int, depth: usize, entries: &mut usize) -> Result<Json, EngineError> {
    match state.type_at(index) {
        Type::Nil | Type::None => Ok(Json::Null),
        Type::Boolean => Ok(Json::Bool(state.bool_at(index))),
        Type::Integer => Ok(state.integer_at(index).unwrap_or(0).into()),
        Type::Float => {
            let number = Number::from_f64(state.float_at(index).unwrap_or(0.0));
            number.map(Json::Number).ok_or_else(|| refused("it is not a finite number"))
        }
        Type::String => state
            .with_bytes(index, |bytes| std::str::from_utf8(bytes).map(|text| Json::String(text.to_owned())).ok())
            .flatten()
            .ok_or_else(|| refused("its text is not UTF-8")),
        Type::Table if depth >= DEEPEST => Err(refused("its tables are nested too deep, or hold each other")),
        Type::Table => table(state, state.absolute(index), depth, entries),
        other => Err(refused(&format!("a {} has no data form", format!("{other:?}").to_lowercase()))),
    }
}

fn table(state: State, table: c_int, depth: usize, entries: &mut usize) -> Result<Json, EngineError> {
    let length = state.raw_len(table);
    let mut items = Vec::new();
    let mut fields = Map::new();
    state.push_nil();
    while state.next(table)? {
        *entries += 1;
        if *entries > MOST_ENTRIES {
            return Err(refused(&format!("it has more than {MOST_ENTRIES} entries")));
        }
        let data = convert(state, -1, depth + 1, entries)?;
        match state.type_at(-2) {
            Type::Integer if state.integer_at(-2).is_some_and(|n| n >= 1 && n.unsigned_abs() <= length as u64) => {
                items.push(data);
            }
            Type::String => {
                fields.insert(state.text_at(-2).unwrap_or_default(), data);
            }
            _ => return Err(refused("it has a key that is neither a name nor part of a list")),
        }
        state.pop(1);
    }
    match (items.is_empty(), fields.is_empty()) {
        (false, false) => Err(refused("it is a list and has names too")),
        (false, true) => Ok(Json::Array(items)),
        _ => Ok(Json::Object(fields)),
    }
}
