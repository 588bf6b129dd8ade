//! Tables in a line: the first elements and names, and a look into the tables among them.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::value::{Preview, short_float};

use super::keys::{begin_of_walk, read_keys, sort};
use crate::ffi::state::{State, Type};
use crate::ffi::tables::KeyScan;

/// Elements and names in a preview, and in that of a table inside it.
const SHOWN: [usize; 2] = [8, 3];
/// Keys counted for a preview, and for that of a table inside it.
const COUNTED: [usize; 2] = [250, 32];
/// Of these, the first in order are shown.
const CHOSEN_FROM: usize = 64;

/// How many entries a table has, as far as that was counted.
pub(super) struct Counts {
    pub(super) indexed: usize,
    pub(super) named: usize,
    pub(super) all: bool,
}

/// Writes the first elements and names; looks at a bounded number of entries.
pub(super) fn preview_table(state: State, table: c_int, out: &mut Preview) -> Result<Counts, EngineError> {
    preview_at(state, table, 0, out)
}

fn preview_at(state: State, table: c_int, depth: usize, out: &mut Preview) -> Result<Counts, EngineError> {
    let (top, table) = (state.top(), state.absolute(table));
    let indexed = state.raw_len(table);
    state.push_table()?;
    let list = state.top();
    let mut scan = KeyScan::new(indexed, COUNTED[depth], CHOSEN_FROM);
    let passed = begin_of_walk(state, indexed);
    state.scan_keys(table, list, None, &mut scan)?;
    out.push("{");
    for number in 1..=indexed.min(SHOWN[depth]) {
        separate(out, number > 1);
        state.raw_get_index(table, i64::try_from(number).unwrap_or(0));
        preview_entry(state, table, depth, out)?;
        state.pop(1);
    }
    if indexed > SHOWN[depth] {
        out.push(&format!(", … {indexed} in all"));
    }
    let mut keys = read_keys(state, list, 1..=scan.kept);
    sort(&mut keys);
    for (position, key) in keys.iter().take(SHOWN[depth]).enumerate() {
        separate(out, position > 0 || indexed > 0);
        out.push(&key.shown);
        out.push(" = ");
        state.raw_get_index(list, key.position);
        state.raw_get(table);
        preview_entry(state, table, depth, out)?;
        state.pop(1);
        if out.is_full() {
            break;
        }
    }
    if scan.found > SHOWN[depth] {
        out.push(", …");
    }
    out.push("}");
    state.cut_to(top);
    Ok(Counts { indexed, named: scan.found, all: scan.finished && !passed })
}

fn separate(out: &mut Preview, needed: bool) {
    if needed {
        out.push(", ");
    }
}

/// The value on top, which is in the table at `table`, in few characters.
fn preview_entry(state: State, table: c_int, depth: usize, out: &mut Preview) -> Result<(), EngineError> {
    if out.is_full() {
        return Ok(());
    }
    match state.type_at(-1) {
        Type::Nil | Type::None => out.push("nil"),
        Type::Boolean => out.push(if state.bool_at(-1) { "true" } else { "false" }),
        Type::Integer => out.push(&state.integer_at(-1).unwrap_or(0).to_string()),
        Type::Float => out.push(&short_float(state.float_at(-1).unwrap_or(0.0))),
        Type::String => {
            state.with_bytes(-1, |bytes| out.text_or_bytes(bytes));
        }
        Type::Table if state.address_at(-1) == state.address_at(table) => out.push("itself"),
        Type::Table if depth == 0 => {
            preview_at(state, -1, 1, out)?;
        }
        Type::Table => out.push("{…}"),
        Type::Function => out.push("function"),
        Type::Thread => out.push("coroutine"),
        Type::Userdata | Type::LightUserdata => out.push("userdata"),
    }
    Ok(())
}

/// A float in full, never looking whole.
pub(super) fn full_float(float: f64) -> String {
    match float {
        _ if float.is_nan() => "nan".to_owned(),
        _ if float.is_infinite() => if float > 0.0 { "inf" } else { "-inf" }.to_owned(),
        _ => format!("{float:?}"),
    }
}
