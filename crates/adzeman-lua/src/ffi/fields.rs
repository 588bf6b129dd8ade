//! Where a field of a table lies, so that on each line it is known by a few comparisons that it holds what it held: read from the engine's
//! own records, where it is known how they are for the very library that runs. Elsewhere the C API is asked.
//!
//! The names are the engine's (`lobject.h`). As long as a table has the same nodes, and one of them the same key, that is the one of this
//! key; nodes that are moved, freed or used for another key differ in one of these.

use std::ffi::{c_int, c_void};
use std::sync::OnceLock;

use super::api as ffi;

use super::apart::in_new_state;
use super::internals::read;
use super::layout::{self, TAG_OF_VALUE};
use super::sizes;
use super::state::{State, Type};
use crate::dialect::{Dialect as _, Version};

/// `Table.lsizenode`, in every version, and `Table.node`.
const LOG_OF_NODES: usize = 11;
const NODES: usize = Version::NODES_OF_TABLE;
/// Tables of more nodes than two to the power of this are not gone through.
const MOST_NODES: u8 = 16;
/// In the tag of a value: its type.
const TYPE: u8 = 0xf;

/// A value as the engine has it: its eight bytes and its tag.
type Bits = (u64, u8);

/// Where a field lies, and what it held.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Field {
    table: usize,
    nodes: usize,
    log_of_nodes: u8,
    node: usize,
    key: Bits,
    value: Bits,
}

/// Why a field is not found in the nodes of its table, as long as these are the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Nowhere {
    nodes: usize,
    log_of_nodes: u8,
}

impl Field {
    /// The field of the key at an index in the table at an index, which is kept alive for as long as this is asked. What it holds is raw
    /// equal to the value at the index `held`, which is kept alive as well.
    pub(crate) fn find(state: State, table: c_int, key: c_int, held: c_int) -> Result<Self, Nowhere> {
        if state.type_at(table) != Type::Table || !are_known() {
            return Err(Nowhere { nodes: 0, log_of_nodes: 0 });
        }
        // SAFETY: the records are known; the indices are those of values on the stack of a live thread.
        unsafe { find(state, table, key, held) }
    }

    /// Whether it is known that the field holds what it held.
    ///
    /// # Safety
    /// The table is alive, and so is what the field held when it was found, if that is an object.
    #[inline]
    pub(crate) unsafe fn is_as_it_was(&self) -> bool {
        // SAFETY: given by the caller; the nodes are read only where the table still has them.
        unsafe {
            let table = self.table as *const c_void;
            if read::<usize>(table, NODES) != self.nodes || read::<u8>(table, LOG_OF_NODES) != self.log_of_nodes {
                return false;
            }
            let node = self.node as *const c_void;
            key_of(node) == self.key && value_at(node) == self.value
        }
    }
}

impl Nowhere {
    /// Whether the table at an index has the same nodes still.
    pub(crate) fn is_still_so(&self, state: State, table: c_int) -> bool {
        // SAFETY: the records are known, and the value is a table.
        state.type_at(table) == Type::Table && are_known() && *self == unsafe { nodes_of(state, table) }
    }
}

/// # Safety
/// The records are known, and the value is a table.
unsafe fn nodes_of(state: State, table: c_int) -> Nowhere {
    let table = state.address_at(table) as *const c_void;
    // SAFETY: given by the caller.
    unsafe { Nowhere { nodes: read(table, NODES), log_of_nodes: read(table, LOG_OF_NODES) } }
}

/// # Safety
/// As [`Field::find`], with the records known and a table at the index.
unsafe fn find(state: State, table: c_int, key: c_int, held: c_int) -> Result<Field, Nowhere> {
    let (table, key_at, held) = (state.absolute(table), state.absolute(key), state.absolute(held));
    let top = state.top();
    // SAFETY: given by the caller; nodes are read within their number, and nothing runs meanwhile.
    unsafe {
        let nowhere = nodes_of(state, table);
        let Nowhere { nodes, log_of_nodes } = nowhere;
        if log_of_nodes > MOST_NODES {
            return Err(nowhere);
        }
        state.push_copy(key_at);
        state.raw_get(table);
        let is_same = state.raw_equal(-1, held);
        let (now, before) = (on_stack(state, state.top()), on_stack(state, held));
        state.cut_to(top);
        // An object is known to be alive only if it is the one that is kept.
        if !is_same || is_object(now.1) && now != before {
            return Err(nowhere);
        }
        let key = on_stack(state, key_at);
        let all = (0..1_usize << log_of_nodes).map(|at| nodes + at * Version::NODE.size);
        let found = all.map(|node| node as *const c_void).find(|node| key_of(*node) == key);
        let Some((node, value)) = found.map(|node| (node as usize, value_at(node))) else { return Err(nowhere) };
        // What has no bytes of its own may have any.
        let is_it = if has_bytes(now.1) { value == now } else { value.1 & TYPE == now.1 & TYPE };
        let table = state.address_at(table);
        if is_it { Ok(Field { table, nodes, log_of_nodes, node, key, value }) } else { Err(nowhere) }
    }
}

fn is_object(tag: u8) -> bool {
    match Version::TAGS.is_object {
        0 => c_int::from(tag & TYPE) >= ffi::LUA_TSTRING,
        bit => tag & bit != 0,
    }
}

fn has_bytes(tag: u8) -> bool {
    ![ffi::LUA_TNIL, ffi::LUA_TBOOLEAN].contains(&c_int::from(tag & TYPE))
}

/// # Safety
/// It is a node of a table.
#[inline]
unsafe fn key_of(node: *const c_void) -> Bits {
    // SAFETY: given by the caller.
    unsafe { (read(node, Version::NODE.key), read(node, Version::NODE.tag_of_key)) }
}

/// # Safety
/// It points to a value, as a node does.
#[inline]
unsafe fn value_at(value: *const c_void) -> Bits {
    // SAFETY: given by the caller.
    unsafe { (read(value, 0), read(value, TAG_OF_VALUE)) }
}

/// # Safety
/// The layout is known, and the index is that of a value on the stack, counted from its bottom.
unsafe fn on_stack(state: State, index: c_int) -> Bits {
    // SAFETY: given by the caller.
    unsafe { value_at(layout::value_at(state.raw(), index)) }
}

/// Whether fields are found and read as the C API has them, for the library that runs.
pub(super) fn are_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| {
        let known = sizes::are_known() && in_new_state(are_as_told) == Some(true);
        if !known {
            tracing::info!("it is not known where the fields of tables lie: watched ones are asked for");
        }
        known
    })
}

/// Whether fields of all kinds of keys are found, and seen to change and to move.
fn are_as_told(state: State) -> bool {
    const MANY: i64 = 60;
    let push_key = |number: i64| match number % 3 {
        0 => state.push_integer(-number),
        1 => state.push_float(number as f64 + 0.5),
        _ => state.push_bytes(format!("key {number}").as_bytes()).unwrap_or_else(|_| state.push_nil()),
    };
    let push_value = |number: i64| match number % 5 {
        0 => state.push_integer(number),
        1 => state.push_float(number as f64 / 3.0),
        2 => state.push_bool(number % 2 == 0),
        3 => state.push_bytes(format!("value {number}").as_bytes()).unwrap_or_else(|_| state.push_nil()),
        // SAFETY: there is room for a table in a state of its own.
        _ => unsafe { ffi::lua_createtable(state.raw(), 0, 0) },
    };
    let set = |table: c_int, number: i64, value: &dyn Fn()| {
        push_key(number);
        value();
        state.raw_set(table).is_ok()
    };
    // SAFETY: as above.
    unsafe { ffi::lua_createtable(state.raw(), 0, 0) };
    let table = state.top();
    for number in 0..MANY {
        push_value(number);
        let held = state.top();
        if !set(table, number, &|| state.push_copy(held)) {
            return false;
        }
        push_key(number);
        // SAFETY: what is read is a table, whose record is as long as that; it is on the stack, with all that it holds.
        let is_right = unsafe {
            match find(state, table, held + 1, held) {
                Ok(field) => {
                    let is_found = field.is_as_it_was();
                    let other = set(table, number, &|| state.push_bool(number % 10 == 7)) && !field.is_as_it_was();
                    let is_back = set(table, number, &|| state.push_copy(held)) && field.is_as_it_was();
                    let is_gone = set(table, number, &|| state.push_nil()) && !field.is_as_it_was();
                    is_found && other && is_back && is_gone && set(table, number, &|| state.push_copy(held))
                }
                Err(_) => false,
            }
        };
        state.cut_to(table);
        if !is_right {
            return false;
        }
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Whatever is done to a table, a field that is known to be as it was is raw equal to what was held.
    #[test]
    fn what_is_said_to_be_as_it_was_is() {
        assert!(are_known());
        let mut seed = 1_u64;
        let mut next = move |most: u64| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33) % most
        };
        let (mut known, mut asked) = (0, 0);
        let outcome = in_new_state(|state| {
            let push = |number: u64| match number {
                0..2 => state.push_nil(),
                2..4 => state.push_bool(number == 2),
                4..8 => state.push_integer(number as i64 % 2),
                8..12 => state.push_float(number as f64 % 2.0),
                12..14 => state.push_float(f64::NAN),
                14..20 => state.push_bytes(format!("text {}", number % 3).as_bytes()).unwrap(),
                20..24 => state.push_bytes("long ".repeat(20 + number as usize % 2).as_bytes()).unwrap(),
                // SAFETY: there is room for a table in a state of its own.
                _ => unsafe { ffi::lua_createtable(state.raw(), 0, 0) },
            };
            // SAFETY: as above.
            unsafe { ffi::lua_createtable(state.raw(), 0, 0) };
            let (table, key, held) = (1, 2, 3);
            state.push_bytes(b"watched").unwrap();
            state.push_nil();
            let mut field = None;
            for _ in 0..60_000 {
                match next(12) {
                    0..3 => {
                        state.push_copy(key);
                        push(next(30));
                    }
                    3..11 => {
                        state.push_bytes(format!("key {}", next(40)).as_bytes()).unwrap();
                        push(next(30));
                    }
                    _ => {
                        // Another table, so that what is freed is used again.
                        // SAFETY: as above.
                        unsafe { ffi::lua_createtable(state.raw(), 0, 1 << next(6)) };
                        state.pop(1);
                        continue;
                    }
                }
                state.raw_set(table).unwrap();
                if next(20) == 0 {
                    // SAFETY: nothing else uses the state.
                    unsafe { ffi::lua_gc(state.raw(), ffi::LUA_GCCOLLECT) };
                }
                state.push_copy(key);
                state.raw_get(table);
                asked += 1;
                // SAFETY: the table and what was held are on the stack.
                if field.is_some_and(|field: Field| unsafe { field.is_as_it_was() }) {
                    known += 1;
                    let both_no_number = !state.raw_equal(-1, -1) && !state.raw_equal(held, held);
                    assert!(state.raw_equal(-1, held) || both_no_number);
                    state.pop(1);
                    continue;
                }
                // SAFETY: both are indices of this stack.
                unsafe { ffi::lua_replace(state.raw(), held) };
                field = Field::find(state, table, key, held).ok();
            }
        });
        assert!(outcome.is_some() && known * 3 > asked, "{known} of {asked}");
    }
}
