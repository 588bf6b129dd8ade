//! The few instructions of the engine that have to be told apart (`lopcodes.h` of Lua 5.4), and the proof that they are
//! what they are called here, for the library that runs.

use std::ffi::c_int;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use mlua::ffi;

use super::exchange::{address_of_text, with_body};
use super::layout;
use super::state::State;
use crate::bodies::call;
use crate::chunk::prototypes;
use crate::filters::{Filter, jumps};

/// What an instruction does: its lowest seven bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Operation(u32);

const MOVE: u32 = 0;
const LOAD_CONSTANT: u32 = 3;
const LOAD_NIL: u32 = 8;
const GET_CAPTURED: u32 = 9;
const ADD_NUMBER: u32 = 21;
const DIVIDE_WHOLE_BY_CONSTANT: u32 = 28;
const ADD: u32 = 34;
const DIVIDE_WHOLE: u32 = 40;
const FIRST_FALLBACK: u32 = 46;
const LAST_FALLBACK: u32 = 48;
const NOT: u32 = 51;
const JUMP: u32 = 56;
const EQUAL: u32 = 57;
const LAST_TEST: u32 = 67;

/// Bits of an instruction that say what it does, and those of its first operand.
const OPERATION_BITS: u32 = 7;
const OPERAND_BITS: u32 = 8;
/// What is added to the distance of a jump, so that it is never negative.
const JUMP_OFFSET: usize = (1 << 24) - 1;

impl Operation {
    pub(crate) fn of(instruction: u32) -> Self {
        Self(instruction & ((1 << OPERATION_BITS) - 1))
    }

    /// The number of the constant that an instruction loads.
    pub(crate) fn constant_loaded(instruction: u32) -> Option<usize> {
        let loads = Self::of(instruction) == Self(LOAD_CONSTANT);
        loads.then_some((instruction >> (OPERATION_BITS + OPERAND_BITS)) as usize)
    }

    /// Whether it stands behind a calculation, for what is no number.
    pub(crate) fn hands_on(self) -> bool {
        (FIRST_FALLBACK..=LAST_FALLBACK).contains(&self.0)
    }

    /// Whether it neither raises nor runs anything, once those that [hand on](Self::hands_on) are jumps: it moves, loads,
    /// calculates with numbers, tests and jumps. (`==` runs a metamethod only for two tables or two userdata, and filters
    /// compare no two of those.)
    pub(crate) fn is_harmless(self) -> bool {
        let loads = MOVE..=LOAD_NIL;
        let calculates = [ADD_NUMBER..=DIVIDE_WHOLE_BY_CONSTANT, ADD..=DIVIDE_WHOLE];
        let tests = EQUAL..=LAST_TEST;
        loads.contains(&self.0)
            || calculates.iter().any(|range| range.contains(&self.0))
            || tests.contains(&self.0)
            || [GET_CAPTURED, NOT, JUMP].contains(&self.0)
            || self.hands_on()
    }
}

/// The instruction that jumps over `count` others.
pub(crate) fn jump_over(count: usize) -> u32 {
    let distance = u32::try_from(JUMP_OFFSET + count).unwrap_or(u32::MAX);
    JUMP | distance << OPERATION_BITS
}

/// Whether instructions are as this module says: found out once, by a filter with one of each, in a state of its own.
pub(crate) fn are_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| {
        if !layout::is_known() {
            return false;
        }
        // SAFETY: the state is made, used and closed here, on one thread.
        let known = unsafe {
            let raw = ffi::luaL_newstate();
            if raw.is_null() {
                return false;
            }
            let known = behaves(State::new(raw)).unwrap_or(false);
            ffi::lua_close(raw);
            known
        };
        if !known {
            tracing::info!("the engine's instructions are not known: conditions are evaluated apart");
        }
        known
    })
}

const MARKER: &str = "sample";
const CONDITION: &str =
    "(x % 7 == 3 and y ~= nil or not (x >= 2) or x - y > 100 or y == 'text') and (x + x) * 2 // 3 / 4 ~= z";

/// Runs a function with a filter: whether it calls for the arguments for which it must, and for no others.
fn behaves(state: State) -> Option<bool> {
    let script = |call: &str| format!("local z = 1\nreturn function(x, y) {call} return z end");
    let filter = Filter::of(CONDITION)?;
    state.load(&script(&call(MARKER, None)), c"=sample").ok()?;
    let calls = state.dump(-1);
    state.load(&script(&call(MARKER, Some(&filter))), c"=sample").ok()?;
    let filtered = state.dump(-1);
    let jumps = jumps(&prototypes(&calls)?, &prototypes(&filtered)?, MARKER).ok()?;
    // SAFETY: the function on top is called under `lua_pcall`, with room on a fresh stack.
    if jumps.len() < 6 || unsafe { ffi::lua_pcall(state.raw(), 0, 1, 0) } != ffi::LUA_OK {
        return Some(false);
    }
    let marker = address_of_text(state, MARKER).ok()?;
    with_body(state, -1, |body| {
        jumps.iter().filter(|jump| jump.body == 1).for_each(|jump| body.put_jump(*jump));
        body.report_with(marker, noted);
    })?;
    let function = state.top();
    let (number, text) = (Argument::Number, Argument::Text("text"));
    let expected = [
        // Numbers only: decided in place.
        (number(3.0), number(1.0), 0),
        (number(10.0), number(1.0), 1),
        (number(11.0), number(1.0), 0),
        (number(1.0), number(1.0), 1),
        (number(5.5), number(1.0), 0),
        (number(500.0), number(1.0), 1),
        // Where something is no number, and would be calculated with: the condition is for the call to decide.
        (Argument::Nil, number(1.0), 1),
        (Argument::Text("3"), number(1.0), 1),
        (number(11.0), Argument::Nil, 1),
        (number(11.0), text, 1),
        (Argument::Table, Argument::Table, 1),
    ];
    for (x, y, calls) in expected {
        let before = NOTED.load(Relaxed);
        state.push_copy(function);
        x.push(state)?;
        y.push(state)?;
        // SAFETY: as above.
        if unsafe { ffi::lua_pcall(state.raw(), 2, 0, 0) } != ffi::LUA_OK || NOTED.load(Relaxed) - before != calls {
            return Some(false);
        }
    }
    Some(true)
}

static NOTED: AtomicUsize = AtomicUsize::new(0);

unsafe extern "C-unwind" fn noted(_: *mut ffi::lua_State) -> c_int {
    NOTED.fetch_add(1, Relaxed);
    0
}

#[derive(Clone, Copy)]
enum Argument {
    Nil,
    Number(f64),
    Text(&'static str),
    Table,
}

impl Argument {
    fn push(self, state: State) -> Option<()> {
        match self {
            Self::Nil => state.push_nil(),
            Self::Number(number) => state.push_float(number),
            Self::Text(text) => state.push_bytes(text.as_bytes()).ok()?,
            Self::Table => state.push_table().ok()?,
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_instructions_of_the_vendored_engine_are_known() {
        assert!(super::are_known());
    }
}
