//! `pcall`, `xpcall`, `coroutine.resume` and `coroutine.wrap` as the library has them, with two things more: an error is
//! reported where it is raised, with the stack as it is there, while someone waits for errors; and the coroutine that runs
//! is known. `string.dump` hands out functions as they were loaded; `load`, `loadfile`, `dofile` and what `require` finds files by
//! tell of what they have compiled while someone is attached; `debug.setupvalue` and `debug.upvaluejoin` of what they change;
//! and the functions of [`own_hooks`] and [`levels`] are put in place here as well.
//! All take the place of the library's own only where the state has those.
//!
//! While someone waits for errors, a handler given to `xpcall` has one native function more above it.

use std::ffi::{CStr, c_int};
use std::ptr;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::apart::in_new_state;
use super::calls::close;
use super::hook::{self, watch_of};
use super::levels;
use super::offered::ask;
use super::own_hooks;
use super::state::{State, Type};
use super::watch::Watch;
use crate::dialect::{Dialect as _, Version};

/// What replaces a function of the library.
const REPLACED: [(&CStr, &CStr, ffi::lua_CFunction); 18] = [
    (c"_G", c"pcall", pcall),
    (c"_G", c"xpcall", xpcall),
    (c"coroutine", c"resume", resume),
    (c"coroutine", c"wrap", wrap),
    (c"string", c"dump", dump),
    (c"debug", c"sethook", own_hooks::set_hook),
    (c"debug", c"gethook", own_hooks::get_hook),
    (c"_G", c"load", load),
    (c"_G", c"loadstring", load_text),
    (c"_G", c"setfenv", set_environment),
    (c"_G", c"loadfile", load_file),
    (c"_G", c"dofile", do_file),
    (c"debug", c"setupvalue", set_captured),
    (c"debug", c"upvaluejoin", join_captured),
    levels::REPLACED[0],
    levels::REPLACED[1],
    levels::REPLACED[2],
    levels::REPLACED[3],
];

/// The functions that take the place of the library's, by the names of those.
pub(super) fn own() -> impl Iterator<Item = (String, usize)> {
    let replaced = REPLACED.into_iter().map(|(table, name, function)| {
        let (table, name) = (table.to_string_lossy(), name.to_string_lossy());
        let name = if table == "_G" { name.into_owned() } else { format!("{table}.{name}") };
        (name, function as usize)
    });
    replaced.chain([("a function of coroutine.wrap".to_owned(), wrapped as *const () as usize)])
}

/// The addresses of the library's own functions.
struct Originals {
    /// Those that are [`REPLACED`].
    replaced: [usize; REPLACED.len()],
    print: usize,
}

/// The library's own functions, from a state of its own.
fn originals() -> &'static Originals {
    static FOUND: OnceLock<Originals> = OnceLock::new();
    FOUND.get_or_init(|| {
        // SAFETY: the state is used here alone, on one thread.
        let found = in_new_state(|state| unsafe {
            let raw = state.raw();
            ffi::luaL_requiref(raw, c"_G".as_ptr(), ffi::luaopen_base, 1);
            #[cfg(not(feature = "lua51"))]
            ffi::luaL_requiref(raw, c"coroutine".as_ptr(), ffi::luaopen_coroutine, 1);
            ffi::luaL_requiref(raw, c"debug".as_ptr(), ffi::luaopen_debug, 1);
            ffi::luaL_requiref(raw, c"string".as_ptr(), ffi::luaopen_string, 1);
            let replaced = REPLACED.map(|(table, name, _)| address_in(raw, table, name));
            Originals { replaced, print: address_in(raw, c"_G", c"print") }
        });
        found.unwrap_or(Originals { replaced: [0; REPLACED.len()], print: 0 })
    })
}

/// The address of the library's `print`; 0 when it is not known.
pub(super) fn library_print() -> usize {
    originals().print
}

/// The address of the native function `table.name`; 0 for anything else.
///
/// # Safety
/// `raw` is a live thread of this OS thread, with room for two values, whose globals have no metatable.
unsafe fn address_in(raw: *mut ffi::lua_State, table: &CStr, name: &CStr) -> usize {
    // SAFETY: given by the caller; the stack is left as it was.
    unsafe {
        let top = ffi::lua_gettop(raw);
        let mut address = 0;
        if ffi::lua_getglobal(raw, table.as_ptr()) == ffi::LUA_TTABLE {
            ffi::lua_getfield(raw, -1, name.as_ptr());
            address = ffi::lua_tocfunction(raw, -1).map_or(0, |function| function as usize);
        }
        ffi::lua_settop(raw, top);
        address
    }
}

/// Puts the functions in place, for as long as the state lives: without a watch they do what the library's do.
pub(crate) fn take_over(state: State) -> Result<(), EngineError> {
    unsafe extern "C-unwind" fn replace(raw: *mut ffi::lua_State) -> c_int {
        let originals = originals().replaced;
        // SAFETY: called by `protect`; nothing owned here.
        unsafe {
            for ((table, name, function), original) in REPLACED.into_iter().zip(originals) {
                if original != 0 && address_in(raw, table, name) == original {
                    ffi::lua_getglobal(raw, table.as_ptr());
                    ffi::lua_pushcfunction(raw, function);
                    ffi::lua_setfield(raw, -2, name.as_ptr());
                    ffi::lua_settop(raw, -2);
                }
            }
            take_over_search(raw);
        }
        0
    }
    state.protect(replace, 0, 0)
}

/// Who watches this state, if someone waits for its errors.
///
/// # Safety
/// As [`watch_of`].
pub(super) unsafe fn reporting<'a>(raw: *mut ffi::lua_State) -> Option<&'a Watch> {
    // SAFETY: given by the caller.
    unsafe { watch_of(raw) }.filter(|watch| watch.watches_raises())
}

unsafe extern "C-unwind" fn pcall(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises or yields. As `luaB_pcall` (`lbaselib.c`), with a message
    // handler below everything while errors are waited for.
    unsafe {
        ffi::luaL_checkany(raw, 1);
        let reports = reporting(raw).is_some();
        ffi::lua_pushboolean(raw, 1);
        ffi::lua_rotate(raw, 1, 1);
        if reports {
            ffi::lua_pushcfunction(raw, on_caught);
            ffi::lua_rotate(raw, 1, 1);
        }
        let (below, handler) = if reports { (1, 1) } else { (0, 0) };
        let arguments = ffi::lua_gettop(raw) - 2 - below;
        let status =
            ffi::lua_pcallk(raw, arguments, ffi::LUA_MULTRET, handler, below as ffi::lua_KContext, Some(finish_pcall));
        finish_pcall(raw, status, below as ffi::lua_KContext)
    }
}

/// As `finishpcall` (`lbaselib.c`): `below` values on the stack are not results.
unsafe extern "C-unwind" fn finish_pcall(raw: *mut ffi::lua_State, status: c_int, below: ffi::lua_KContext) -> c_int {
    // SAFETY: called by Lua, or by the two functions beside it, with the stack they left.
    unsafe {
        if status != ffi::LUA_OK && status != ffi::LUA_YIELD {
            ffi::lua_pushboolean(raw, 0);
            ffi::lua_pushvalue(raw, -2);
            return 2;
        }
        ffi::lua_gettop(raw) - below as c_int
    }
}

unsafe extern "C-unwind" fn xpcall(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; as `luaB_xpcall`, with the handler wrapped while errors are waited for.
    unsafe {
        if !Version::HANDS_ON_TO_PROTECTED {
            ffi::luaL_checkany(raw, 2);
            ffi::lua_settop(raw, 2);
        }
        let count = ffi::lua_gettop(raw);
        if Version::TAKES_ANY_HANDLER {
            ffi::luaL_checkany(raw, 2);
        } else {
            ffi::luaL_checktype(raw, 2, ffi::LUA_TFUNCTION);
        }
        if reporting(raw).is_some() {
            ffi::lua_pushvalue(raw, 2);
            ffi::lua_pushcclosure(raw, on_handled, 1);
            ffi::lua_copy(raw, -1, 2);
            ffi::lua_settop(raw, -2);
        }
        ffi::lua_pushboolean(raw, 1);
        ffi::lua_pushvalue(raw, 1);
        ffi::lua_rotate(raw, 3, 2);
        let status = ffi::lua_pcallk(raw, count - 2, ffi::LUA_MULTRET, HANDLER, 2, Some(finish_xpcall));
        finish_xpcall(raw, status, 2)
    }
}

/// Where in its frame `xpcall` has its handler.
const HANDLER: c_int = 2;

unsafe extern "C-unwind" fn finish_xpcall(raw: *mut ffi::lua_State, status: c_int, below: ffi::lua_KContext) -> c_int {
    // SAFETY: as `finish_pcall`.
    unsafe {
        if status != ffi::LUA_OK
            && status != ffi::LUA_YIELD
            && let Some(watch) = watch_of(raw)
            && let Some(times) = watch.handlers.end()
        {
            hook::caught(|| watch.told(|told| told.handler_raised(times)));
        }
        finish_pcall(raw, status, below)
    }
}

/// The message handler of [`pcall`]: reports the error and leaves it as it is.
unsafe extern "C-unwind" fn on_caught(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with the error, at the place of the raise, one level above it.
    unsafe {
        report(raw, raw, 1, true);
        ffi::lua_settop(raw, 1);
    }
    1
}

/// The same for what a person runs, which no script catches.
pub(super) unsafe extern "C-unwind" fn on_uncaught(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `on_caught`.
    unsafe {
        report(raw, raw, 1, false);
        ffi::lua_settop(raw, 1);
    }
    1
}

/// The message handler of [`xpcall`]: reports the error, and calls the script's own handler.
unsafe extern "C-unwind" fn on_handled(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `on_caught`; the script's handler is the captured value.
    unsafe { handle(raw, |raw| ffi::lua_pushcclosure(raw, on_handled_again, 1)) }
}

/// The same for an error of that handler, for which it is called in turn. What it raises from then on is counted: it may go on as
/// long as the stack lasts.
unsafe extern "C-unwind" fn on_handled_again(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `on_handled`.
    unsafe {
        handle(raw, |raw| {
            let handler = ffi::lua_topointer(raw, -1) as usize;
            if let Some(watch) = watch_of(raw) {
                watch.handlers.begin(handler);
            }
        })
    }
}

/// Reports an error, and calls the script's handler, which is the captured value. Errors of that go to what `next` makes of the
/// handler on top.
///
/// # Safety
/// As [`on_caught`].
unsafe fn handle(raw: *mut ffi::lua_State, next: fn(*mut ffi::lua_State)) -> c_int {
    // SAFETY: given by the caller.
    unsafe {
        report(raw, raw, 1, true);
        ffi::lua_settop(raw, 1);
        ffi::lua_pushvalue(raw, ffi::lua_upvalueindex(1));
        next(raw);
        give_handler(raw);
        ffi::lua_pushvalue(raw, ffi::lua_upvalueindex(1));
        ffi::lua_rotate(raw, 1, 1);
        // One that a script has kept from before passes over nothing by itself.
        let traceback = original(levels::REPLACED[0].2).map_or(0, |traceback| traceback as usize);
        let is_traceback = ffi::lua_tocfunction(raw, 1).is_some_and(|native| native as usize == traceback);
        if is_traceback {
            // This function is none of the script's.
            ffi::lua_pushinteger(raw, 2);
        }
        ffi::lua_callk(raw, 1 + c_int::from(is_traceback), 1, 0, None);
    }
    1
}

/// Whether a function is one that calls the script's handler.
pub(super) fn on_handling(native: ffi::lua_CFunction) -> bool {
    [on_handled as *const () as usize, on_handled_again as *const () as usize].contains(&(native as usize))
}

/// Gives the innermost [`xpcall`] the function on top as its handler.
///
/// # Safety
/// `raw` runs, above a call of `xpcall`.
unsafe fn give_handler(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller; the frame of a native function has its values as variables without a name.
    unsafe {
        let mut record = std::mem::zeroed::<ffi::lua_Debug>();
        for level in 1.. {
            if ffi::lua_getstack(raw, level, &raw mut record) == 0 {
                return ffi::lua_settop(raw, -2);
            }
            ffi::lua_getinfo(raw, c"f".as_ptr(), &raw mut record);
            let is_it =
                ffi::lua_tocfunction(raw, -1).is_some_and(|native| native as usize == xpcall as *const () as usize);
            ffi::lua_settop(raw, -2);
            if is_it {
                ffi::lua_setlocal(raw, &raw const record, HANDLER);
                return;
            }
        }
    }
}

/// Reports an error on top of `failed`, whose stack is as it was at the raise, `levels` below its innermost function.
///
/// # Safety
/// `raw` runs, `failed` is it or a coroutine that it resumed; both are of the same state.
unsafe fn report(raw: *mut ffi::lua_State, failed: *mut ffi::lua_State, levels: usize, caught: bool) {
    // SAFETY: given by the caller.
    let (watch, failed) = unsafe { (reporting(raw), State::new(failed)) };
    if let Some(watch) = watch {
        hook::caught(|| watch.told(|told| told.raised(failed, levels, caught)));
    }
}

/// Why a coroutine cannot be resumed, as `costatus` has it (`lbaselib.c` of 5.1).
///
/// # Safety
/// As [`resume_with`].
unsafe fn no_resume(raw: *mut ffi::lua_State, coroutine: *mut ffi::lua_State) -> Option<&'static CStr> {
    // SAFETY: given by the caller; an all-zero record is valid.
    unsafe {
        let has_level = || {
            let mut record = std::mem::zeroed::<ffi::lua_Debug>();
            ffi::lua_getstack(coroutine, 0, &raw mut record) > 0
        };
        match ffi::lua_status(coroutine) {
            _ if raw == coroutine => Some(c"cannot resume running coroutine"),
            ffi::LUA_YIELD => None,
            ffi::LUA_OK if has_level() => Some(c"cannot resume normal coroutine"),
            ffi::LUA_OK if ffi::lua_gettop(coroutine) > 0 => None,
            _ => Some(c"cannot resume dead coroutine"),
        }
    }
}

/// Resumes a coroutine with the `arguments` values on top; answers how many values came back on top, or `None` for an
/// error value. As `auxresume` (`lcorolib.c`). `catches` is whether the script gets the error as a value.
///
/// # Safety
/// `raw` runs and `coroutine` is a thread of the same state, kept alive by its stack.
unsafe fn resume_with(
    raw: *mut ffi::lua_State,
    coroutine: *mut ffi::lua_State,
    arguments: c_int,
    catches: bool,
) -> Option<c_int> {
    // SAFETY: given by the caller; `lua_resume` catches raises of the coroutine itself, and nothing is owned here when
    // another call raises.
    unsafe {
        if ffi::lua_checkstack(coroutine, arguments) == 0 {
            if Version::SAYS_STATUS_OF_COROUTINE {
                ffi::luaL_error(raw, c"too many arguments to resume".as_ptr());
            }
            ffi::lua_pushstring(raw, c"too many arguments to resume".as_ptr());
            return None;
        }
        if Version::SAYS_STATUS_OF_COROUTINE
            && let Some(why) = no_resume(raw, coroutine)
        {
            ffi::lua_settop(raw, -arguments - 1);
            ffi::lua_pushstring(raw, why.as_ptr());
            return None;
        }
        // The library asks itself only from 5.4 on.
        if ffi::lua_status(coroutine) == ffi::LUA_OK && ffi::lua_gettop(coroutine) == 0 {
            ffi::lua_settop(raw, -arguments - 1);
            ffi::lua_pushstring(raw, c"cannot resume dead coroutine".as_ptr());
            return None;
        }
        ffi::lua_xmove(raw, coroutine, arguments);
        let watch = watch_of(raw);
        let before = watch.and_then(|watch| watch.script_resumes(State::new(raw), State::new(coroutine)));
        let mut results = 0;
        let status = ffi::lua_resume(coroutine, raw, arguments, &raw mut results);
        if let Some(watch) = watch_of(raw) {
            watch.script_has_resumed(before);
        }
        if status == ffi::LUA_OK || status == ffi::LUA_YIELD {
            if ffi::lua_checkstack(raw, results + 1) == 0 {
                if Version::SAYS_STATUS_OF_COROUTINE {
                    ffi::luaL_error(raw, c"too many results to resume".as_ptr());
                }
                ffi::lua_settop(coroutine, -results - 1);
                ffi::lua_pushstring(raw, c"too many results to resume".as_ptr());
                return None;
            }
            ffi::lua_xmove(coroutine, raw, results);
            return Some(results);
        }
        report(raw, coroutine, 0, catches || is_caught(State::new(raw)));
        ffi::lua_xmove(coroutine, raw, 1);
        None
    }
}

unsafe extern "C-unwind" fn resume(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; as `luaB_coresume`.
    unsafe {
        match Version::NO_THREAD {
            None => ffi::luaL_checktype(raw, 1, ffi::LUA_TTHREAD),
            Some(why) if ffi::lua_type(raw, 1) != ffi::LUA_TTHREAD => _ = ffi::luaL_argerror(raw, 1, why.as_ptr()),
            Some(_) => {}
        }
        let coroutine = ffi::lua_tothread(raw, 1);
        match resume_with(raw, coroutine, ffi::lua_gettop(raw) - 1, true) {
            None => {
                ffi::lua_pushboolean(raw, 0);
                ffi::lua_rotate(raw, -2, 1);
                2
            }
            Some(count) => {
                ffi::lua_pushboolean(raw, 1);
                ffi::lua_rotate(raw, -(count + 1), 1);
                count + 1
            }
        }
    }
}

unsafe extern "C-unwind" fn wrap(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; as `luaB_cowrap` with `luaB_cocreate`.
    unsafe {
        if Version::WRAPS_SCRIPTS_ONLY {
            if ffi::lua_type(raw, 1) != ffi::LUA_TFUNCTION || ffi::lua_iscfunction(raw, 1) != 0 {
                ffi::luaL_argerror(raw, 1, c"Lua function expected".as_ptr());
            }
        } else {
            ffi::luaL_checktype(raw, 1, ffi::LUA_TFUNCTION);
        }
        let coroutine = ffi::lua_newthread(raw);
        ffi::lua_pushvalue(raw, 1);
        ffi::lua_xmove(raw, coroutine, 1);
        ffi::lua_pushcclosure(raw, wrapped, 1);
    }
    1
}

unsafe extern "C-unwind" fn wrapped(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua with the coroutine as captured value; as `auxwrap`.
    unsafe {
        let coroutine = ffi::lua_tothread(raw, ffi::lua_upvalueindex(1));
        if let Some(count) = resume_with(raw, coroutine, ffi::lua_gettop(raw), false) {
            return count;
        }
        let mut status = ffi::lua_status(coroutine);
        if status != ffi::LUA_OK && status != ffi::LUA_YIELD {
            status = close(coroutine, raw);
            ffi::lua_xmove(coroutine, raw, 1);
            // It was reported where it was raised.
            if let Some(watch) = reporting(raw) {
                watch.told(|told| told.raise_goes_on());
            }
        }
        if status != ffi::LUA_ERRMEM && ffi::lua_type(raw, -1) == ffi::LUA_TSTRING {
            ffi::luaL_where(raw, 1);
            ffi::lua_rotate(raw, -2, 1);
            ffi::lua_concat(raw, 2);
        }
        ffi::lua_error(raw)
    }
}

/// As `str_dump` (`lstrlib.c`): a function whose body was exchanged is dumped as it was loaded.
unsafe extern "C-unwind" fn dump(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; the vector is dropped before anything can raise again, and the body is put back before that.
    unsafe {
        let strips = ffi::lua_toboolean(raw, 2) != 0;
        ffi::luaL_checktype(raw, 1, ffi::LUA_TFUNCTION);
        ffi::lua_settop(raw, 1);
        if ffi::lua_iscfunction(raw, 1) != 0 {
            return ffi::luaL_error(raw, c"unable to dump given function".as_ptr());
        }
        let state = State::new(raw);
        let chunk = match watch_of(raw) {
            Some(watch) => watch.told(|told| told.dump(state, strips)).unwrap_or_default(),
            None => state.dump_as(1, strips),
        };
        let pushed = state.push_bytes(&chunk).is_ok();
        drop(chunk);
        if !pushed {
            return ffi::luaL_error(raw, c"not enough memory".as_ptr());
        }
    }
    1
}

/// The library's own `debug.setupvalue`: a variable may have another value then.
unsafe extern "C-unwind" fn set_captured(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua, in whose place it stands only where that was the library's; nothing is owned here when it raises.
    unsafe {
        let results = original(set_captured).map_or(0, |original| original(raw));
        ask(raw, |told, state| told.assigned(state));
        results
    }
}

/// The library's own `debug.upvaluejoin`: functions may share variables then that do not by the text.
unsafe extern "C-unwind" fn join_captured(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `set_captured`.
    unsafe {
        let results = original(join_captured).map_or(0, |original| original(raw));
        ask(raw, |told, _| told.variables_joined());
        results
    }
}

/// The library's own function, in whose place `function` stands, one of [`REPLACED`]: it does so only where that was found.
pub(super) fn original(function: ffi::lua_CFunction) -> Option<ffi::lua_CFunction> {
    let stands_there = |(_, _, held): &(_, _, ffi::lua_CFunction)| *held as usize == function as usize;
    native(originals().replaced[REPLACED.iter().position(stands_there)?])
}

/// The native function at an address of [`originals`], or nothing at 0.
pub(super) fn native(address: usize) -> Option<ffi::lua_CFunction> {
    // SAFETY: what is kept there is the address of such a function, from the same library, or 0 for none.
    (address != 0).then(|| unsafe { std::mem::transmute::<usize, ffi::lua_CFunction>(address) })
}

/// The library's own `load`, as it is in the frame that it has been called in. A text that it has compiled is told of while someone
/// is attached: no file has it.
unsafe extern "C-unwind" fn load(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua.
    unsafe { compile(raw, load, is_text(raw)) }
}

/// The same for `loadstring`, of versions that have it.
unsafe extern "C-unwind" fn load_text(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua.
    unsafe { compile(raw, load_text, is_text(raw)) }
}

/// The same for `loadfile`.
unsafe extern "C-unwind" fn load_file(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua.
    unsafe { compile(raw, load_file, false) }
}

/// Whether the first argument is a text.
///
/// # Safety
/// `raw` runs a native function.
unsafe fn is_text(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller.
    unsafe { ffi::lua_type(raw, 1) == ffi::LUA_TSTRING }
}

/// Has the library's own function compile, in whose place `function` stands, and tells of what it has compiled, from its first argument
/// if `is_of_text`.
///
/// # Safety
/// Called by Lua as `function`, which stands in that place only where it was the library's; nothing is owned by the caller. The library's
/// functions leave their first argument where it was.
unsafe fn compile(raw: *mut ffi::lua_State, function: ffi::lua_CFunction, is_of_text: bool) -> c_int {
    let Some(original) = original(function) else { return 0 };
    // SAFETY: given by the caller; nothing is owned here when it raises.
    unsafe {
        let results = original(raw);
        if results == 1 {
            tell_compiled(raw, is_of_text);
        }
        results
    }
}

/// The library's own `setfenv`, of versions that have it: functions may have other globals then.
unsafe extern "C-unwind" fn set_environment(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: as `set_captured`.
    unsafe {
        let results = original(set_environment).map_or(0, |original| original(raw));
        ask(raw, |told, _| told.variables_joined());
        results
    }
}

/// As `luaB_dofile` (`lbaselib.c`): what was compiled is told of before it runs.
unsafe extern "C-unwind" fn do_file(raw: *mut ffi::lua_State) -> c_int {
    unsafe extern "C-unwind" fn done(raw: *mut ffi::lua_State, _: c_int, _: ffi::lua_KContext) -> c_int {
        // SAFETY: called by Lua, or below.
        unsafe { ffi::lua_gettop(raw) - 1 }
    }
    // SAFETY: called by Lua; nothing owned here when it raises or yields.
    unsafe {
        let file = ffi::luaL_optstring(raw, 1, ptr::null());
        ffi::lua_settop(raw, 1);
        if ffi::luaL_loadfilex(raw, file, ptr::null()) != ffi::LUA_OK {
            ffi::lua_error(raw);
        }
        tell_compiled(raw, false);
        ffi::lua_callk(raw, 0, ffi::LUA_MULTRET, 0, Some(done));
        done(raw, ffi::LUA_OK, 0)
    }
}

/// What stands in the place of the function by which `require` finds files of Lua, the captured value: what that has compiled is told
/// of.
unsafe extern "C-unwind" fn search(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing owned here when it raises.
    unsafe {
        let arguments = ffi::lua_gettop(raw);
        ffi::lua_pushvalue(raw, ffi::lua_upvalueindex(1));
        ffi::lua_rotate(raw, 1, 1);
        ffi::lua_call(raw, arguments, ffi::LUA_MULTRET);
        let results = ffi::lua_gettop(raw);
        if results > 0 && ffi::lua_type(raw, 1) == ffi::LUA_TFUNCTION {
            ffi::lua_pushvalue(raw, 1);
            tell_compiled(raw, false);
            ffi::lua_settop(raw, results);
        }
        results
    }
}

/// Puts [`search`] in its place, where the state has a table of such functions.
///
/// # Safety
/// Called in protected mode.
unsafe fn take_over_search(raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller; the stack is left as it was. Nothing of the script runs.
    unsafe {
        let top = ffi::lua_gettop(raw);
        ffi::lua_pushglobaltable(raw);
        ffi::lua_pushstring(raw, c"package".as_ptr());
        if ffi::lua_rawget(raw, -2) == ffi::LUA_TTABLE {
            ffi::lua_pushstring(raw, Version::SEARCHERS.as_ptr());
            if ffi::lua_rawget(raw, -2) == ffi::LUA_TTABLE && ffi::lua_rawgeti(raw, -1, 2) == ffi::LUA_TFUNCTION {
                let held = ffi::lua_tocfunction(raw, -1);
                if held.is_some_and(|held| held as usize != search as *const () as usize) {
                    ffi::lua_pushcclosure(raw, search, 1);
                    ffi::lua_rawseti(raw, -2, 2);
                }
            }
        }
        ffi::lua_settop(raw, top);
    }
}

/// Tells of the function on top, which was just compiled, from the text at the bottom or from a file.
///
/// # Safety
/// `raw` runs, with a value on top.
unsafe fn tell_compiled(raw: *mut ffi::lua_State, is_of_text: bool) {
    // SAFETY: given by the caller.
    unsafe {
        let is_function = ffi::lua_type(raw, -1) == ffi::LUA_TFUNCTION && ffi::lua_iscfunction(raw, -1) == 0;
        if let Some(watch) = watch_of(raw).filter(|watch| is_function && !watch.is_busy()) {
            hook::caught(|| watch.told(|told| told.compiled(State::new(raw), is_of_text)));
        }
    }
}

/// Functions looked at for one that catches errors: each look walks the stack from its top.
const MOST_LEVELS: usize = 1000;

/// Whether one of the innermost functions on a stack catches errors.
pub(crate) fn is_caught(state: State) -> bool {
    let catching = [pcall as *const () as usize, xpcall as *const () as usize, resume as *const () as usize];
    (0..MOST_LEVELS).map_while(|level| state.level(level)).any(|function| {
        function.push_function();
        let address = state.native_address_at(-1);
        state.pop(1);
        address != 0 && (catching.contains(&address) || originals().replaced[..3].contains(&address))
    })
}

/// The message handler with which the binding calls scripts, found by raising an error under a call hook: the last native
/// function that is called is the handler. 0 when it cannot be found.
pub(crate) fn host_handler() -> usize {
    static LAST_CALLED: AtomicUsize = AtomicUsize::new(0);
    unsafe extern "C-unwind" fn note(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
        // SAFETY: called by Lua as a hook; the function is pushed and popped.
        unsafe {
            ffi::lua_getinfo(raw, c"f".as_ptr(), record);
            let address = ffi::lua_tocfunction(raw, -1).map_or(0, |function| function as usize);
            ffi::lua_settop(raw, -2);
            if address != 0 {
                LAST_CALLED.store(address, Relaxed);
            }
        }
    }
    static FOUND: OnceLock<usize> = OnceLock::new();
    *FOUND.get_or_init(|| {
        let lua = mlua::Lua::new();
        // Raised by the engine itself, so that no native function but the handler is called.
        let Ok(probe) = lua.load("local nothing; return nothing.field").into_function() else { return 0 };
        // SAFETY: a hook is set on the main thread of a state that is dropped below.
        let hooked = unsafe {
            lua.exec_raw::<()>((), |raw| {
                let main = State::new(raw).main_thread();
                ffi::lua_sethook(main.raw(), Some(note), ffi::LUA_MASKCALL, 0);
            })
        };
        LAST_CALLED.store(0, Relaxed);
        let failed = probe.call::<()>(()).is_err();
        let found = LAST_CALLED.load(Relaxed);
        if hooked.is_err() || !failed || found == 0 {
            tracing::warn!(
                "how the host calls scripts is not known: errors that it gets are not seen where they are raised"
            );
            return 0;
        }
        found
    })
}

impl State {
    /// The address of a function written in C or Rust; 0 for anything else.
    pub(crate) fn native_address_at(self, index: c_int) -> usize {
        // SAFETY: the index is checked.
        unsafe { ffi::lua_tocfunction(self.raw(), self.check(index)).map_or(0, |function| function as usize) }
    }

    /// Whether the values at two indices are the same, without metamethods.
    pub(crate) fn raw_equal(self, one: c_int, other: c_int) -> bool {
        // SAFETY: the indices are checked.
        unsafe { ffi::lua_rawequal(self.raw(), self.check(one), self.check(other)) != 0 }
    }

    /// The text of an error value on top, as far as it is told without the script: a string as itself, a value of the host by its
    /// own conversion.
    pub(crate) fn error_text(self) -> Option<String> {
        if self.type_at(-1) == Type::String { self.text_at(-1) } else { self.native_text_at(-1) }
    }
}
