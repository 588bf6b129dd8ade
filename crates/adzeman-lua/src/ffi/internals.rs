//! Members of the engine's own records that the C API has no way to: where they lie is found out by watching them change, on
//! states of this module's own, for the very library that runs. Whatever is not found stays unused, and callers do without.
//!
//! The names are the engine's (`lstate.h`).

use std::ffi::{c_int, c_void};
use std::ptr;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use super::api as ffi;

use super::apart::in_new_state;
use super::layout;
use super::state::State;
use crate::dialect::{Dialect as _, Version};

/// Bytes of the record that all threads of a state share that are looked at; it is far longer in every version.
const SHARED_BYTES: usize = 384;
/// Bytes of a thread's own record that are looked at.
const THREAD_BYTES: usize = Version::THREAD;
/// The bits of an object's mark that are its colour while it is white (`lgc.h`).
const WHITE: u8 = Version::WHITE;
/// Where an object's mark is, behind the pointer to the next one and its type (`CommonHeader`).
const MARK_OF_OBJECT: usize = 9;
const TYPE_OF_OBJECT: usize = 8;
/// The type of a native function with captured variables, as headers have it (`LUA_VCCL`); here, of any where they do not tell.
pub(super) const NATIVE_CLOSURE: u8 = 6 | 2 << 4;
/// `MAX_LUMEM` (`llimits.h`).
#[cfg(feature = "lua51")]
const NEVER_REACHED: usize = usize::MAX - 2;
/// Rounds in which a member has to behave as it should.
const ROUNDS: usize = 6;
/// `GCSTPGC`: set while the collector itself runs; the whole API of the collector is closed then (`lgc.h`).
pub(super) const IN_COLLECTOR: u8 = 2;

/// Where the members are.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Internals {
    /// `lua_State.errfunc`: the message handler of the call under way; 0 for none.
    error_handler: Option<usize>,
    /// `lua_State.errorJmp`: what the innermost protected call under way keeps on the stack of the OS thread; null for none.
    protected_call: Option<usize>,
    /// `lua_State.allowhook`: 0 while a hook runs.
    allows_hook: Option<usize>,
    /// `global_State.gcstp`: 0 while the collector may run.
    collector_stop: Option<usize>,
    /// `global_State.GCthreshold`, which nothing reaches while the collector is stopped.
    #[cfg(feature = "lua51")]
    threshold: Option<usize>,
    /// `global_State.allgc`, and `currentwhite`.
    objects: Option<(usize, usize)>,
    /// `global_State.finobj`: the objects that have finalizers.
    finalized: Option<usize>,
}

fn internals() -> &'static Internals {
    static FOUND: OnceLock<Internals> = OnceLock::new();
    FOUND.get_or_init(|| {
        if !layout::is_known() {
            return Internals::default();
        }
        // SAFETY: the state is used here alone, on one thread.
        let found = in_new_state(|state| unsafe {
            let raw = state.raw();
            Internals {
                error_handler: find_error_handler(raw),
                protected_call: find_protected_call(raw),
                allows_hook: find_allows_hook(raw),
                collector_stop: find_collector_stop(raw),
                #[cfg(feature = "lua51")]
                threshold: find_threshold(raw),
                objects: find_objects(raw),
                finalized: Version::HAS_FINALIZER.and_then(|bit| find_finalized(raw, bit)),
            }
        });
        let Some(found) = found else { return Internals::default() };
        let is_whole = found.error_handler.is_some()
            && found.protected_call.is_some()
            && found.allows_hook.is_some()
            && found.collector_stop.is_some()
            && found.objects.is_some()
            && (found.finalized.is_some() || Version::HAS_FINALIZER.is_none());
        if !is_whole {
            tracing::info!(?found, "some of the engine's records are not known; what needs them is done in other ways");
        }
        found
    })
}

/// The only element, if there is exactly one.
fn only<T>(mut all: impl Iterator<Item = T>) -> Option<T> {
    let first = all.next()?;
    all.next().is_none().then_some(first)
}

/// # Safety
/// `raw` is a live thread of this OS thread, in which nothing runs.
unsafe fn find_error_handler(raw: *mut ffi::lua_State) -> Option<usize> {
    /// Notes which words of the running thread hold what is expected; the expectation is the only captured value.
    unsafe extern "C-unwind" fn look(raw: *mut ffi::lua_State) -> c_int {
        // SAFETY: called by `lua_pcall` below with a pointer to the candidates and what they must hold.
        unsafe {
            let candidates = &mut *ffi::lua_touserdata(raw, 1).cast::<Vec<usize>>();
            let wanted = ffi::lua_tointegerx(raw, 2, ptr::null_mut());
            candidates.retain(|at| read::<isize>(raw.cast(), *at) as i64 == wanted);
        }
        0
    }
    unsafe extern "C-unwind" fn handler(_: *mut ffi::lua_State) -> c_int {
        1
    }
    let mut candidates: Vec<usize> = (0..THREAD_BYTES).step_by(8).collect();
    // SAFETY: given by the caller; the thread is kept on the stack while it is used, and has room for some values.
    unsafe {
        let thread = ffi::lua_newthread(raw);
        for slot in [0, 1, 2, 4, 8, 0] {
            ffi::lua_settop(thread, 0);
            for _ in 0..slot.max(1) - 1 {
                ffi::lua_pushnil(thread);
            }
            if slot > 0 {
                ffi::lua_pushcfunction(thread, handler);
            }
            ffi::lua_pushcfunction(thread, look);
            ffi::lua_pushlightuserdata(thread, (&raw mut candidates).cast());
            // A slot lies that many values above the base of the stack (`savestack`).
            ffi::lua_pushinteger(thread, i64::from(slot) * layout::SIZE_OF_VALUE as i64);
            if ffi::lua_pcall(thread, 2, 0, slot) != ffi::LUA_OK {
                candidates.clear();
            }
        }
        ffi::lua_settop(raw, -2);
    }
    only(candidates.into_iter())
}

/// # Safety
/// As [`find_error_handler`].
unsafe fn find_protected_call(raw: *mut ffi::lua_State) -> Option<usize> {
    /// What is looked for, and the end of the part of the stack that it points into.
    struct Search {
        candidates: Vec<usize>,
        above: usize,
    }
    fn here() -> usize {
        let local = 0_u8;
        std::hint::black_box(&raw const local) as usize
    }
    /// Keeps what points to between here and where the call was made; then does the same one call further in.
    unsafe extern "C-unwind" fn look(raw: *mut ffi::lua_State) -> c_int {
        // SAFETY: called by `lua_pcall` below with a pointer to the search, and whether it is to call itself.
        unsafe {
            let search = ffi::lua_touserdata(raw, 1).cast::<Search>();
            let (below, above) = (here(), (*search).above);
            (*search).candidates.retain(|at| (below..above).contains(&read::<usize>(raw.cast(), *at)));
            if ffi::lua_toboolean(raw, 2) != 0 {
                (*search).above = below;
                ffi::lua_pushcfunction(raw, look);
                ffi::lua_pushvalue(raw, 1);
                ffi::lua_pcall(raw, 1, 0, 0);
            }
        }
        0
    }
    // SAFETY: given by the caller; the thread is kept on the stack while it is used, and has room for some values.
    unsafe {
        let thread = ffi::lua_newthread(raw);
        let words = || (0..THREAD_BYTES).step_by(8);
        let is_null = |at: &usize| read::<usize>(thread.cast(), *at) == 0;
        let mut search = Search { candidates: words().filter(is_null).collect(), above: here() };
        ffi::lua_pushcfunction(thread, look);
        ffi::lua_pushlightuserdata(thread, (&raw mut search).cast());
        ffi::lua_pushboolean(thread, 1);
        let called = ffi::lua_pcall(thread, 2, 0, 0);
        search.candidates.retain(is_null);
        ffi::lua_settop(raw, -2);
        if called == ffi::LUA_OK { only(search.candidates.into_iter()) } else { None }
    }
}

/// # Safety
/// As [`find_error_handler`].
unsafe fn find_allows_hook(raw: *mut ffi::lua_State) -> Option<usize> {
    use std::cell::RefCell;
    thread_local! {
        static CANDIDATES: RefCell<Vec<usize>> = const { RefCell::new(Vec::new()) };
    }
    fn keep(raw: *mut ffi::lua_State, wanted: u8) {
        // SAFETY: `raw` is live, and its record is not shorter than what is looked at.
        CANDIDATES.with_borrow_mut(|held| held.retain(|at| unsafe { read::<u8>(raw.cast(), *at) } == wanted));
    }
    unsafe extern "C-unwind" fn outside(raw: *mut ffi::lua_State) -> c_int {
        keep(raw, 1);
        0
    }
    unsafe extern "C-unwind" fn inside(raw: *mut ffi::lua_State, _: *mut ffi::lua_Debug) {
        keep(raw, 0);
    }
    CANDIDATES.set((0..THREAD_BYTES).collect());
    // SAFETY: given by the caller; the hook is removed again.
    unsafe {
        for _ in 0..ROUNDS {
            ffi::lua_sethook(raw, Some(inside), ffi::LUA_MASKCALL, 0);
            ffi::lua_pushcfunction(raw, outside);
            let called = ffi::lua_pcall(raw, 0, 0, 0);
            ffi::lua_sethook(raw, None, 0, 0);
            if called != ffi::LUA_OK {
                return None;
            }
        }
    }
    only(CANDIDATES.take().into_iter())
}

/// # Safety
/// As [`find_error_handler`].
unsafe fn find_collector_stop(raw: *mut ffi::lua_State) -> Option<usize> {
    if !Version::CLOSES_COLLECTOR {
        return None;
    }
    // SAFETY: given by the caller; the collector runs again afterwards.
    unsafe {
        let shared = shared_of(raw);
        let mut candidates: Vec<usize> = (0..SHARED_BYTES).collect();
        for _ in 0..ROUNDS {
            for (what, wanted) in [(ffi::LUA_GCSTOP, 1), (ffi::LUA_GCRESTART, 0)] {
                ffi::lua_gc(raw, what);
                candidates.retain(|at| read::<u8>(shared, *at) == wanted);
            }
        }
        let at = only(candidates.into_iter())?;
        // The other bit of it has to close the API, and to open it again.
        write(shared, at, IN_COLLECTOR);
        let is_closed = ffi::lua_gc(raw, ffi::LUA_GCCOUNT) == -1;
        write(shared, at, 0_u8);
        (is_closed && ffi::lua_gc(raw, ffi::LUA_GCCOUNT) >= 0).then_some(at)
    }
}

/// # Safety
/// As [`find_error_handler`].
#[cfg(feature = "lua51")]
unsafe fn find_threshold(raw: *mut ffi::lua_State) -> Option<usize> {
    // SAFETY: given by the caller; the collector runs again afterwards.
    unsafe {
        let shared = shared_of(raw);
        let mut candidates: Vec<usize> = (0..SHARED_BYTES).step_by(8).collect();
        for _ in 0..ROUNDS {
            for (what, is_stopped) in [(ffi::LUA_GCSTOP, true), (ffi::LUA_GCRESTART, false)] {
                ffi::lua_gc(raw, what);
                candidates.retain(|at| (read::<usize>(shared, *at) == NEVER_REACHED) == is_stopped);
            }
        }
        only(candidates.into_iter())
    }
}

/// Whether the collector of a state is stopped, where that is told by what is never reached.
///
/// # Safety
/// `raw` is a live thread.
#[cfg(feature = "lua51")]
pub(super) unsafe fn is_collector_stopped(raw: *mut ffi::lua_State) -> bool {
    // SAFETY: given by the caller; the member was found at this place.
    internals().threshold.is_some_and(|at| unsafe { read::<usize>(shared_of(raw), at) } == NEVER_REACHED)
}

/// # Safety
/// As [`find_error_handler`].
unsafe fn find_objects(raw: *mut ffi::lua_State) -> Option<(usize, usize)> {
    // SAFETY: given by the caller; objects are on the stack while they are looked at.
    unsafe {
        let shared = shared_of(raw);
        let mut heads: Vec<usize> = (0..SHARED_BYTES).step_by(8).collect();
        let mut whites: Vec<usize> = (0..SHARED_BYTES).collect();
        let mut colours = [0, 0];
        for round in 0..ROUNDS {
            ffi::lua_gc(raw, ffi::LUA_GCCOLLECT);
            ffi::lua_gc(raw, ffi::LUA_GCSTOP);
            let mut before = 0_usize;
            for number in 0..2 {
                ffi::lua_createtable(raw, 0, 0);
                let object = ffi::lua_topointer(raw, -1);
                heads.retain(|at| read::<usize>(shared, *at) == object as usize);
                let is_linked = number == 0 || read::<usize>(object, 0) == before;
                if !is_linked || read::<u8>(object, TYPE_OF_OBJECT) != ffi::LUA_TTABLE as u8 {
                    heads.clear();
                }
                before = object as usize;
                let colour = read::<u8>(object, MARK_OF_OBJECT) & WHITE;
                colours[round % 2] = colour;
                whites.retain(|at| read::<u8>(shared, *at) & WHITE == colour);
            }
            ffi::lua_settop(raw, -3);
            ffi::lua_gc(raw, ffi::LUA_GCRESTART);
        }
        // Each collection turns the colour over.
        let turns = colours[0] | colours[1] == WHITE;
        let thread = ffi::lua_newthread(raw);
        let is_thread = read::<u8>(thread.cast(), TYPE_OF_OBJECT) == ffi::LUA_TTHREAD as u8;
        ffi::lua_settop(raw, -2);
        if turns && is_thread { only(heads.into_iter()).zip(only(whites.into_iter())) } else { None }
    }
}

/// # Safety
/// As [`find_error_handler`].
unsafe fn find_finalized(raw: *mut ffi::lua_State, in_other_list: u8) -> Option<usize> {
    unsafe extern "C-unwind" fn finalizer(_: *mut ffi::lua_State) -> c_int {
        0
    }
    // SAFETY: given by the caller; objects are on the stack while they are looked at.
    unsafe {
        let shared = shared_of(raw);
        let top = ffi::lua_gettop(raw);
        let mut heads: Vec<usize> = (0..SHARED_BYTES).step_by(8).collect();
        ffi::lua_createtable(raw, 0, 1);
        ffi::lua_pushcfunction(raw, finalizer);
        ffi::lua_setfield(raw, -2, c"__gc".as_ptr());
        for _ in 0..ROUNDS {
            ffi::lua_createtable(raw, 0, 0);
            let object = ffi::lua_topointer(raw, -1);
            let head = |at: &usize| read::<usize>(shared, *at) == object as usize;
            heads.retain(|at| !head(at));
            ffi::lua_pushvalue(raw, top + 1);
            ffi::lua_setmetatable(raw, -2);
            heads.retain(head);
            if read::<u8>(object, MARK_OF_OBJECT) & in_other_list == 0 {
                heads.clear();
            }
            ffi::lua_settop(raw, -2);
        }
        ffi::lua_settop(raw, top);
        only(heads.into_iter())
    }
}

/// # Safety
/// `raw` is live, and the layout is known.
pub(super) unsafe fn shared_of(raw: *mut ffi::lua_State) -> *const c_void {
    // SAFETY: given by the caller.
    unsafe { layout::state_of(raw) as *const c_void }
}

/// # Safety
/// The member lies within the record.
pub(super) unsafe fn read<T>(record: *const c_void, offset: usize) -> T {
    // SAFETY: given by the caller.
    unsafe { ptr::read_unaligned(record.byte_add(offset).cast()) }
}

/// # Safety
/// The member lies within the record, and is of this type.
pub(super) unsafe fn write<T>(record: *const c_void, offset: usize, value: T) {
    // SAFETY: given by the caller.
    unsafe { ptr::write_unaligned(record.byte_add(offset).cast_mut().cast(), value) };
}

/// What there is to read of the objects of a state, while its collector is held.
pub(super) struct Header {
    shared: usize,
    head: usize,
    finalized: Option<usize>,
    other_white: u8,
}

/// The same for a state; nothing where the members are not known.
pub(super) fn header(state: State) -> Option<Header> {
    let (head, white) = internals().objects?;
    // SAFETY: the state is live; the member was found at this place.
    unsafe {
        let shared = shared_of(state.raw());
        let other_white = (read::<u8>(shared, white) & WHITE) ^ WHITE;
        Some(Header { shared: shared as usize, head, finalized: internals().finalized, other_white })
    }
}

/// An object that is marked to be finalized is in a list of its own (`FINALIZEDBIT`, `lgc.h`).
const IN_OTHER_LIST: Option<u8> = Version::HAS_FINALIZER;

impl Header {
    fn member<T>(object: usize, offset: usize) -> T {
        // SAFETY: the address is one of the list, whose objects are allocated, alive or not, as only a sweep frees them, and the
        // collector is held; the members read are in the header that all have.
        unsafe { read(object as *const c_void, offset) }
    }

    /// The newest object.
    pub(super) fn first(&self) -> usize {
        Self::member(self.shared, self.head)
    }

    /// The newest one of those that have finalizers, 0 for none; `None` where that is not known.
    pub(super) fn first_finalized(&self) -> Option<usize> {
        if IN_OTHER_LIST.is_none() {
            return Some(0);
        }
        self.finalized.map(|at| Self::member(self.shared, at))
    }

    /// The one behind; 0 for none.
    pub(super) fn next(&self, object: usize) -> usize {
        Self::member(object, 0)
    }

    pub(super) fn tag(&self, object: usize) -> u8 {
        let tag: u8 = Self::member(object, TYPE_OF_OBJECT);
        let is_native = |at| Self::member::<u8>(object, at) != 0;
        let is_function = c_int::from(tag) == ffi::LUA_TFUNCTION;
        if is_function && Version::TAGS.is_native_of_closure.is_some_and(is_native) { NATIVE_CLOSURE } else { tag }
    }

    pub(super) fn is_alive(&self, object: usize) -> bool {
        Self::member::<u8>(object, MARK_OF_OBJECT) & self.other_white == 0
    }

    /// Whether an object that is alive has been taken out of the list.
    pub(super) fn is_elsewhere(&self, object: usize) -> bool {
        IN_OTHER_LIST.is_some_and(|bit| Self::member::<u8>(object, MARK_OF_OBJECT) & bit != 0)
    }
}

/// The type of an object, as its header has it.
///
/// # Safety
/// There is an object at the address.
pub(super) unsafe fn tag_of(object: usize) -> u8 {
    // SAFETY: given by the caller; the member is in the header that all objects have.
    unsafe { read(object as *const c_void, TYPE_OF_OBJECT) }
}

/// Has errors that are raised on this thread from now on, up to the next protected call, pass by the message handler of the
/// script. False where that cannot be done.
///
/// # Safety
/// `raw` is the running thread.
pub(super) unsafe fn without_error_handler(raw: *mut ffi::lua_State) -> bool {
    let Some(at) = internals().error_handler else { return false };
    // SAFETY: given by the caller; the member was found at this place. Protected calls keep what was there before and put it
    // back when they end (`luaD_pcall`, `finishpcallk`).
    unsafe { write(raw.cast(), at, 0_isize) };
    true
}

/// Where `global_State.gcstp` is.
pub(super) fn collector_stop() -> Option<usize> {
    internals().collector_stop
}

/// Where `lua_State.errorJmp` is, for [`protected_call_of`].
pub(super) fn protected_call() -> Option<usize> {
    internals().protected_call
}

/// The address, on the stack of whatever OS thread it is, of what the innermost protected call under way on a Lua thread keeps; 0
/// for none. Async-signal-safe.
///
/// # Safety
/// `raw` is a live thread, which another OS thread may run, and `at` was answered by [`protected_call`].
pub(super) unsafe fn protected_call_of(raw: *mut ffi::lua_State, at: usize) -> usize {
    // SAFETY: given by the caller; the member is a pointer, which is aligned.
    unsafe { (*raw.byte_add(at).cast::<AtomicUsize>()).load(Relaxed) }
}

/// Lets hooks fire on a thread that died while one ran, so that what is closed on it can be limited.
///
/// # Safety
/// `raw` is a live object, and no hook runs on it.
pub(super) unsafe fn allow_hook(raw: *mut ffi::lua_State) {
    if let Some(at) = internals().allows_hook {
        // SAFETY: given by the caller; the member was found at this place.
        unsafe { write(raw.cast(), at, 1_u8) };
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::{Dialect as _, Version};

    #[test]
    fn the_members_of_the_vendored_engine_are_found() {
        let found = super::internals();
        assert!(found.error_handler.is_some(), "{found:?}");
        assert!(found.protected_call.is_some(), "{found:?}");
        assert!(found.allows_hook.is_some(), "{found:?}");
        assert_eq!(found.collector_stop.is_some(), Version::CLOSES_COLLECTOR, "{found:?}");
        assert!(found.objects.is_some(), "{found:?}");
        assert_eq!(found.finalized.is_some(), Version::HAS_FINALIZER.is_some(), "{found:?}");
    }
}
