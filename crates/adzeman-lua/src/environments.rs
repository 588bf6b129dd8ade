//! What functions see as their globals where they use none, and so have no `_ENV` that would tell: what the others of their source
//! see, all of which the engine's list of objects shows.

use std::ffi::c_int;
use std::time::{Duration, Instant};

use adzeman_core::engine::EngineError;

use crate::ffi::objects::{Object, Progress, Sweep};
use crate::ffi::state::{Slot, State, Type};

/// How long it is looked for; a million objects take some tens of milliseconds.
const LOOKED_FOR: Duration = Duration::from_secs(2);

/// Pushes the globals as the functions of a chunk see them; those of the state where no function tells. What was found is kept
/// until it is [forgotten](forget); answers under which number.
///
/// # Errors
/// Where they do not see the same ones.
pub(crate) fn push(state: State, chunk_name: &str) -> Result<i64, EngineError> {
    state.push_table_in(Slot::Environments, None)?;
    let kept = state.top();
    state.raw_get_field(kept, chunk_name)?;
    if state.type_at(-1) == Type::Nil {
        state.pop(1);
        let main = state.main_thread();
        let found = find(main, chunk_name)?;
        main.move_to(state, 1);
        if !found {
            state.pop(1);
            state.push_globals();
        }
        state.push_bytes(chunk_name.as_bytes())?;
        state.push_copy(-2);
        state.raw_set(kept)?;
    }
    if state.type_at(-1) == Type::Table {
        let number = number_of(state, kept)?;
        state.remove(kept);
        return Ok(number);
    }
    state.remove(kept);
    state.pop(1);
    let why = "which global is meant is not known: this function uses none, and others of its source, which was loaded more than \
               once, see different ones";
    Err(EngineError::Runtime(why.to_owned()))
}

/// The number of the globals on top among those that are kept; numbered now, if they are not.
fn number_of(state: State, kept: c_int) -> Result<i64, EngineError> {
    for number in 1.. {
        state.raw_get_index(kept, number);
        let (is_it, is_last) = (state.raw_equal(-1, -2), state.type_at(-1) == Type::Nil);
        state.pop(1);
        if is_last {
            state.push_integer(number);
            state.push_copy(-2);
            state.raw_set(kept)?;
        }
        if is_it || is_last {
            return Ok(number);
        }
    }
    Ok(0)
}

/// Pushes what is kept under a number; false, and nothing pushed, when that was forgotten.
pub(crate) fn push_kept(state: State, number: i64) -> bool {
    if state.push_slot(Slot::Environments) == Type::Table {
        state.raw_get_index(-1, number);
        state.remove(state.top() - 1);
        if state.type_at(-1) == Type::Table {
            return true;
        }
    }
    state.pop(1);
    false
}

/// What was found is no longer so for sure: functions were made since.
pub(crate) fn forget(main: State) {
    main.clear_slot(Slot::Environments);
}

/// Pushes what the functions of a chunk see as `_ENV`, `false` where that differs; nil and `false` where none tells.
fn find(main: State, chunk_name: &str) -> Result<bool, EngineError> {
    main.push_nil();
    let found = main.top();
    let (mut seen, mut differs) = (false, false);
    let sweep = Sweep::kept_in(Slot::EnvironmentSweep);
    let progress = sweep.step(main, Instant::now() + LOOKED_FOR, &mut |object: Object<'_>| {
        let top = main.top();
        if object.kind() == Type::Function && !differs && object.body().address() != 0 && object.push(main) {
            if push_environment(main, chunk_name) {
                differs |= seen && !main.raw_equal(-1, found);
                seen = true;
                main.replace(found);
            }
            main.cut_to(top);
        }
    });
    main.cut_to(found);
    main.clear_slot(Slot::EnvironmentSweep);
    if differs {
        main.push_bool(false);
        main.replace(found);
    }
    Ok(seen && progress? == Progress::Done)
}

/// Pushes what the function on top sees as `_ENV`, if it is of the chunk and sees a table; otherwise answers false.
fn push_environment(main: State, chunk_name: &str) -> bool {
    let function: c_int = main.top();
    let is_of_chunk = main.is_whole(function) && main.function_info(function).chunk_name == chunk_name;
    let number = if is_of_chunk { main.find_captured(function, "_ENV") } else { None };
    number.is_some_and(|number| main.push_captured(function, number).is_some() && main.type_at(-1) == Type::Table)
}
