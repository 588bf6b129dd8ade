//! What filters call ([`crate::text::filters`]): functions that read without running anything of the script, and answer nil where
//! that cannot be done. They neither raise nor allocate in the state.

use std::cell::RefCell;
use std::ffi::c_int;

use super::api as ffi;
use rustc_hash::FxHashSet;

use super::body;
use super::compared;
use super::hook::{caught, watch_of};
use super::layout;
use super::scalars::push_scalar;
use super::state::{Slot, State};
use super::watch::Sees;
use crate::dialect::natives::Natives;
use crate::dialect::{Dialect as _, Version};
use crate::text::conditions::Scalar;
use crate::text::counted::Counted;
use crate::text::filters::{TRUTH, VALUE};

/// The numbers of breakpoints that exchanged bodies count: a body that was replaced while it runs goes on, and counts nothing.
#[derive(Default)]
pub(crate) struct Counting(RefCell<FxHashSet<usize>>);

impl Counting {
    pub(crate) fn begin(&self, numbers: impl Iterator<Item = usize>) {
        self.0.borrow_mut().extend(numbers);
    }

    pub(crate) fn end(&self, numbers: impl Iterator<Item = usize>) {
        let mut held = self.0.borrow_mut();
        for number in numbers {
            held.remove(&number);
        }
    }

    fn holds(&self, number: usize) -> bool {
        self.0.borrow().contains(&number)
    }
}

/// What filters call, in the order of [`Natives::asked`].
const ASKED: [ffi::lua_CFunction; 6] = [field, test, host, count, name, globals];

/// What filters call, by the constants that stand for that.
pub(super) fn asked(natives: &Natives) -> impl Iterator<Item = (&String, ffi::lua_CFunction)> {
    natives.asked().into_iter().zip(ASKED)
}

/// All that bodies were made to call.
pub(super) fn put_in() -> impl Iterator<Item = ffi::lua_CFunction> {
    ASKED.into_iter().chain([body::at_site as ffi::lua_CFunction, body::at_assignment])
}

/// Whether a function is one of these.
pub(super) fn is_put_in(native: ffi::lua_CFunction) -> bool {
    put_in().any(|held| held as usize == native as usize)
}

/// Pushes what the table at 1 holds at the key at 2, and answers true, as long as no metamethod could have a say.
///
/// # Safety
/// `raw` runs a function with at least two arguments, and has room for two values.
#[inline]
unsafe fn push_field(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller; nothing is converted, and nothing raises: any key can be looked for.
    unsafe {
        if ffi::lua_type(raw, 1) != ffi::LUA_TTABLE {
            return false;
        }
        ffi::lua_pushvalue(raw, 2);
        // A key that is nil was read, too, and may be one that could not be.
        ffi::lua_rawget(raw, 1) != ffi::LUA_TNIL
            || ffi::lua_type(raw, 2) != ffi::LUA_TNIL && ffi::lua_getmetatable(raw, 1) == 0
    }
}

/// `field(table, key)`: what the table holds there.
pub(super) unsafe extern "C-unwind" fn field(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with two arguments and room for more.
    unsafe { c_int::from(push_field(raw)) }
}

/// `test(table, key[, constant])`: whether what the table holds there is true, or the same as the constant, as 1 or 0.
pub(super) unsafe extern "C-unwind" fn test(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with two or three arguments and room for more; nothing is converted, and constants have no metamethods.
    unsafe {
        let compares = ffi::lua_gettop(raw) == 3;
        if !push_field(raw) {
            return 0;
        }
        let is_so = if compares { ffi::lua_rawequal(raw, -1, 3) } else { ffi::lua_toboolean(raw, -1) };
        ffi::lua_pushinteger(raw, is_so.into());
        1
    }
}

/// `globals()`: the table that the calling function sees as its globals, which uses none and has no `_ENV`; nil where that was not found
/// out before, unless it is beside the function.
pub(super) unsafe extern "C-unwind" fn globals(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by a function written in Lua, without arguments and with room for some values; nothing is converted, and nothing
    // raises. The layout is known where bodies are exchanged.
    unsafe {
        let caller = layout::call_below(raw, layout::current_call(raw));
        if Version::ENVIRONMENTS_BESIDE {
            let mut record = std::mem::zeroed::<ffi::lua_Debug>();
            layout::set_call(raw, &raw mut record, caller);
            ffi::lua_getinfo(raw, c"f".as_ptr(), &raw mut record);
            State::new(raw).push_environment(-1);
            return c_int::from(ffi::lua_type(raw, -1) == ffi::LUA_TTABLE);
        }
        let sees = watch_of(raw).and_then(|watch| watch.globals_of.get(&layout::definition_of(caller)?));
        let Some(Sees::Kept(number)) = sees else { return 0 };
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Environments.key());
        c_int::from(ffi::lua_type(raw, 1) == ffi::LUA_TTABLE && ffi::lua_rawgeti(raw, 1, number) == ffi::LUA_TTABLE)
    }
}

/// `host(number, purpose, constant, globals, name)`: a number at a path of the host's data; or whether what is there is true, or the
/// same as the constant, as 1 or 0. A global of the script's own by that name comes first, in what the function sees as its globals.
pub(super) unsafe extern "C-unwind" fn host(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with five arguments and room for more; nothing is converted, pushed values are no objects of the collector,
    // and nothing raises.
    unsafe {
        // What is no table has fields by metamethods, if it has any, or is not known.
        let has_own = ffi::lua_type(raw, 4) != ffi::LUA_TTABLE || {
            ffi::lua_pushvalue(raw, 5);
            ffi::lua_rawget(raw, 4) != ffi::LUA_TNIL
        };
        let number = usize::try_from(ffi::lua_tointegerx(raw, 1, std::ptr::null_mut())).unwrap_or(usize::MAX);
        let watch = watch_of(raw).filter(|_| !has_own);
        let read = watch.and_then(|watch| caught(|| watch.told(|told| told.read_host(number))).flatten().flatten());
        let Some(read) = read else { return 0 };
        let is_so = match (ffi::lua_tointegerx(raw, 2, std::ptr::null_mut()), read) {
            (VALUE, read @ (Scalar::Integer(_) | Scalar::Float(_))) => {
                return c_int::from(push_scalar(State::new(raw), &read).is_ok());
            }
            (VALUE, _) => return 0,
            (TRUTH, read) => !matches!(read, Scalar::Nil | Scalar::Boolean(false)),
            (_, read) => is_constant(State::new(raw), &read),
        };
        ffi::lua_pushinteger(raw, is_so.into());
        1
    }
}

/// `count(number)`: counts a time that the line of a breakpoint is reached; 1 where it has to be reported, and 0 otherwise.
pub(super) unsafe extern "C-unwind" fn count(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with one argument and room for more; nothing is converted, and nothing raises.
    unsafe {
        let number = usize::try_from(ffi::lua_tointegerx(raw, 1, std::ptr::null_mut())).unwrap_or(0);
        let is_reported = match watch_of(raw) {
            // What runs was started to look at the script; or the hook watches the lines of this body.
            Some(watch) if watch.is_busy() || !watch.counting.holds(number) => false,
            // The hook has told of the line, and it was counted then: its report is passed over.
            Some(watch) if watch.reported().is_some() => true,
            Some(_) => !caught(|| Counted::passes(number)).unwrap_or(false),
            None => false,
        };
        ffi::lua_pushinteger(raw, is_reported.into());
        1
    }
}

/// `name(track, table, key)`: whether a watched field is the one of this table with this key, as 1 or 0.
pub(super) unsafe extern "C-unwind" fn name(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with three arguments and room for more; nothing is converted, and nothing raises.
    unsafe {
        let track = ffi::lua_tointegerx(raw, 1, std::ptr::null_mut());
        ffi::lua_rawgetp(raw, ffi::LUA_REGISTRYINDEX, Slot::Tracks.key());
        let entry = compared::first_entry(track);
        // What could not be read raw is nil.
        let is_read = ffi::lua_type(raw, 2) != ffi::LUA_TNIL && ffi::lua_type(raw, 3) != ffi::LUA_TNIL;
        if !is_read || ffi::lua_rawgeti(raw, 4, entry) != ffi::LUA_TTABLE {
            return 0;
        }
        let is_it = ffi::lua_rawequal(raw, -1, 2) != 0 && {
            ffi::lua_rawgeti(raw, 4, entry + 1);
            ffi::lua_rawequal(raw, -1, 3) != 0
        };
        ffi::lua_pushinteger(raw, is_it.into());
        1
    }
}

/// Whether the constant at 3 is this value.
fn is_constant(state: State, value: &Scalar) -> bool {
    match value {
        // Nothing is made of it in the state.
        Scalar::Text(text) => state.with_bytes(3, |held| held == text) == Some(true),
        // A part that holds others, as which scripts see an object.
        Scalar::Other => false,
        plain => push_scalar(state, plain).is_ok() && state.raw_equal(-1, 3),
    }
}
