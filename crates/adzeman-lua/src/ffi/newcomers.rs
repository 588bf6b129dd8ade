//! Coroutines of a host that says nothing of them, and that may put a hook of its own onto each before it resumes it, in the place of
//! ours.
//!
//! Nothing tells of one but that memory is taken for it, and again for the first call in it (not on 5.1, where one that is new is met
//! where memory is taken next). So while a hook is wanted, an allocator of
//! this module stands before that of the state: it hands everything on, and puts our hook onto coroutines that were made since, before
//! the first line of each. Where no hook is wanted, the state's own stands there by itself.
//!
//! It is put there by whoever wants something of the state, on any thread: only the function is exchanged, one word, and never what it is
//! called with, so an allocation that is under way finds a pair that belongs together. So there is one function for each state that can be
//! watched in this way at once. What it does, it does on the thread that runs the state at that moment, whichever that is: a host may run
//! one by turns on several.

use std::ffi::c_void;
use std::ptr;
use std::sync::atomic::Ordering::SeqCst;
use std::sync::atomic::{AtomicBool, AtomicPtr, AtomicU8, AtomicU32, AtomicUsize, fence};

use super::api as ffi;

use super::forks::forks;
use super::hook::{self, caught};
use super::internals;
use super::layout;
use super::state::State;
use super::watch::Watch;
use crate::dialect::{Dialect as _, Version};

/// Coroutines that are kept in sight, the newest ones.
const IN_SIGHT: usize = 8;
/// Objects among which coroutines are looked for that were there before: they take a millisecond or so.
const LOOKED_AT: usize = 50_000;
/// What may lie in front of a thread in its memory (`LUA_EXTRASPACE`): nothing before 5.3.
const IN_FRONT: [usize; 2] = [0, size_of::<*const c_void>()];

const FREE: u8 = 0;
const TAKEN: u8 = 1;
/// The state is watched no longer.
const LEFT: u8 = 3;
/// The host has put another allocator in the place of ours, which may call it for ever.
const RETIRED: u8 = 2;

/// A coroutine that is kept in sight.
struct InSight {
    /// Where its memory begins; 0 for none.
    block: AtomicUsize,
    /// Whether it has had our hook.
    is_met: AtomicBool,
}

impl InSight {
    const fn none() -> Self {
        Self { block: AtomicUsize::new(0), is_met: AtomicBool::new(false) }
    }

    /// Keeps another one in sight, or none.
    fn set(&self, block: usize) {
        self.is_met.store(false, SeqCst);
        self.block.store(block, SeqCst);
    }
}

/// What tells this thread from others, as long as it runs.
fn here() -> usize {
    thread_local! {
        static HERE: u8 = const { 0 };
    }
    HERE.try_with(|here| ptr::from_ref(here) as usize).unwrap_or(0)
}

/// The new coroutines of one state.
pub(super) struct Newcomers {
    held: AtomicU8,
    ours: ffi::lua_Alloc,
    /// What the state allocates by, while ours stands before it, and afterwards.
    own: AtomicUsize,
    is_set: AtomicBool,
    /// Whether someone sees to that at this moment.
    is_seen_to: AtomicBool,
    /// The thread that the state was opened on, and whether another one was seen to run it.
    home: AtomicUsize,
    is_moving: AtomicBool,
    main: AtomicPtr<ffi::lua_State>,
    watch: AtomicPtr<Watch>,
    /// Where the memory of the newest coroutines begins.
    in_sight: [InSight; IN_SIGHT],
    /// Whether one of these was found under another hook than ours, which it had before.
    were_lost: AtomicBool,
    count: AtomicUsize,
    /// Whether those are looked for that were there before.
    looks_for_all: AtomicBool,
    /// How often this process was copied when the state was opened.
    forks: AtomicU32,
}

/// An allocator for each of these, by their numbers.
macro_rules! newcomers {
    ($($number:literal)*) => { [$(Newcomers::free(allocate::<$number>)),*] };
}

static ALL: [Newcomers; 32] =
    newcomers!(0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30 31);

/// The allocator that stands before that of a state.
///
/// # Safety
/// Called by Lua, or by an allocator of the host's that was put before it, as `lua_Alloc` is.
unsafe extern "C" fn allocate<const NUMBER: usize>(
    with: *mut c_void,
    block: *mut c_void,
    old: usize,
    new: usize,
) -> *mut c_void {
    let newcomers = &ALL[NUMBER];
    // It was noted before this function was put in its place, perhaps on another thread.
    let mut own = newcomers.own.load(SeqCst);
    while own == 0 {
        std::hint::spin_loop();
        own = newcomers.own.load(SeqCst);
    }
    // SAFETY: what is noted is what the state allocates by.
    let own = unsafe { std::mem::transmute::<usize, ffi::lua_Alloc>(own) };
    // SAFETY: given by the caller.
    let given = unsafe { own(with, block, old, new) };
    // Of a new object, the size before is its type, where that is told; elsewhere what is as long may be one.
    let is_thread = match Version::TELLS_TYPE_OF_NEW {
        true => old == ffi::LUA_TTHREAD as usize,
        false => old == 0 && new == Version::THREAD,
    };
    if new == 0 {
        newcomers.has_gone(block as usize);
    } else if block.is_null() && is_thread && !given.is_null() {
        newcomers.note(given as usize);
    } else {
        newcomers.look();
    }
    given
}

impl Newcomers {
    const fn free(ours: ffi::lua_Alloc) -> Self {
        Self {
            held: AtomicU8::new(FREE),
            ours,
            own: AtomicUsize::new(0),
            is_set: AtomicBool::new(false),
            is_seen_to: AtomicBool::new(false),
            home: AtomicUsize::new(0),
            is_moving: AtomicBool::new(false),
            main: AtomicPtr::new(ptr::null_mut()),
            watch: AtomicPtr::new(ptr::null_mut()),
            in_sight: [const { InSight::none() }; IN_SIGHT],
            were_lost: AtomicBool::new(false),
            count: AtomicUsize::new(0),
            looks_for_all: AtomicBool::new(false),
            forks: AtomicU32::new(0),
        }
    }

    /// Those of a state, whose layout has to be known; nothing where too many states are watched in this way. The watch
    /// [releases](Self::release) them before it is dropped.
    pub(super) fn of(main: State, watch: &Watch) -> Option<&'static Self> {
        if !layout::is_known() {
            return None;
        }
        let newcomers = ALL.iter().find(|held| held.held.compare_exchange(FREE, TAKEN, SeqCst, SeqCst).is_ok())?;
        newcomers.were_lost.store(false, SeqCst);
        newcomers.looks_for_all.store(false, SeqCst);
        newcomers.forks.store(forks(), SeqCst);
        newcomers.home.store(here(), SeqCst);
        newcomers.is_moving.store(false, SeqCst);
        newcomers.main.store(main.raw(), SeqCst);
        newcomers.watch.store(ptr::from_ref(watch).cast_mut(), SeqCst);
        Some(newcomers)
    }

    /// The state is watched no longer.
    pub(super) fn release(&self) {
        // One that is retired stays so.
        let is_left = self.held.compare_exchange(TAKEN, LEFT, SeqCst, SeqCst).is_ok();
        // In a copy of the process, whoever saw to it then is not there to end that.
        while self.is_seen_to.swap(true, SeqCst) && self.forks.load(SeqCst) == forks() {
            std::thread::yield_now();
        }
        if is_left {
            self.put_before(self.main.load(SeqCst), false);
        }
        self.watch.store(ptr::null_mut(), SeqCst);
        self.main.store(ptr::null_mut(), SeqCst);
        self.is_seen_to.store(false, SeqCst);
        let _ = self.held.compare_exchange(LEFT, FREE, SeqCst, SeqCst);
    }

    /// Has coroutines met from now on, or none. Who comes while another thread sees to that leaves it so, and has to come again.
    pub(super) fn see_to(&self, is_wanted: bool) {
        if !is_wanted && !self.is_set.load(SeqCst) || self.is_seen_to.swap(true, SeqCst) {
            return;
        }
        let main = self.main.load(SeqCst);
        if !main.is_null() && self.held.load(SeqCst) == TAKEN {
            self.put_before(main, is_wanted);
        }
        self.is_seen_to.store(false, SeqCst);
    }

    /// Puts our allocator before that of the state, or takes it away.
    fn put_before(&self, main: *mut ffi::lua_State, is_wanted: bool) {
        // SAFETY: the state is live until these are released, for which all wait that see to them. The calls read and write two words of
        // it, of which the second is what it was; hosts that exchange their allocator while scripts run are not known.
        unsafe {
            let mut with = ptr::null_mut();
            let now = ffi::lua_getallocf(main, &raw mut with);
            let is_ours = now as usize == self.ours as usize;
            if self.is_set.load(SeqCst) && !is_ours {
                self.held.store(RETIRED, SeqCst);
            } else if is_wanted && !is_ours {
                // Whose memory was given back meanwhile was not seen.
                self.in_sight.iter().for_each(|held| held.set(0));
                self.own.store(now as usize, SeqCst);
                fence(SeqCst);
                self.is_set.store(true, SeqCst);
                ffi::lua_setallocf(main, self.ours, with);
            } else if !is_wanted && is_ours {
                let own = std::mem::transmute::<usize, ffi::lua_Alloc>(self.own.load(SeqCst));
                ffi::lua_setallocf(main, own, with);
                self.is_set.store(false, SeqCst);
            }
        }
    }

    /// Something is wanted of whatever runs next: at the next allocation our hook is put onto all coroutines, also those that were there
    /// before.
    pub(super) fn ask(&self) {
        self.looks_for_all.store(true, SeqCst);
        self.see_to(true);
    }

    /// Whether the state is run by more than the thread that it was opened on.
    pub(super) fn are_moving(&self) -> bool {
        self.is_moving.load(SeqCst)
    }

    /// Who watches the state, if that runs scripts for itself at this moment.
    fn watch(&self) -> Option<&Watch> {
        // SAFETY: the watch is there until it has released these, and is used on the thread that runs the state.
        let watch = unsafe { self.watch.load(SeqCst).as_ref() }?;
        (!watch.is_busy() && !watch.bounds.is_limited()).then_some(watch)
    }

    /// Memory for a coroutine was given.
    fn note(&self, block: usize) {
        if self.watch().is_some() {
            self.in_sight[self.count.fetch_add(1, SeqCst) % IN_SIGHT].set(block);
        }
    }

    /// Memory was given back, which may have been that of a coroutine.
    fn has_gone(&self, block: usize) {
        self.in_sight.iter().filter(|held| held.block.load(SeqCst) == block).for_each(|held| held.set(0));
        if let Some(watch) = self.watch() {
            caught(|| IN_FRONT.iter().for_each(|before| watch.others.forget(block + before)));
        }
    }

    /// Has coroutines watched that are not.
    fn look(&self) {
        let Some(watch) = self.watch() else { return };
        if here() != self.home.load(SeqCst) {
            self.is_moving.store(true, SeqCst);
        }
        caught(|| {
            if self.looks_for_all.swap(false, SeqCst) {
                self.each_before(|thread| hook::meet(watch, thread));
            }
            for held in &self.in_sight {
                let Some(thread) = self.thread_in(held.block.load(SeqCst)) else { continue };
                if held.is_met.load(SeqCst) && !thread.is_hooked_by_us() && watch.is_watching() {
                    self.were_lost.store(true, SeqCst);
                }
                hook::meet(watch, thread);
                held.is_met.store(thread.is_hooked_by_us(), SeqCst);
            }
        });
    }

    /// Whether some coroutine that was met has run under another hook since: lines of it may have been missed.
    pub(super) fn were_lost(&self) -> bool {
        self.were_lost.load(SeqCst)
    }

    /// The same; from now on this is about what comes.
    pub(super) fn take_lost(&self) -> bool {
        self.were_lost.swap(false, SeqCst)
    }

    /// The coroutine whose memory begins here.
    fn thread_in(&self, block: usize) -> Option<State> {
        if block == 0 {
            return None;
        }
        let threads = IN_FRONT.map(|before| (block + before) as *mut ffi::lua_State);
        // SAFETY: a thread is longer than what may lie in front of it, and tells by its first members which state it is of: they are filled
        // in before anything else is allocated, its stack with nothing.
        let is_one = |thread: &*mut ffi::lua_State| unsafe {
            layout::state_of(*thread) == layout::state_of(self.main.load(SeqCst)) && layout::has_stack(*thread)
        };
        // SAFETY: its memory was not given back, and it has a stack, which is the last thing that it is given.
        threads.into_iter().find(is_one).map(|thread| unsafe { State::new(thread) })
    }

    /// Shows the main thread, and coroutines that are alive, among the newest objects.
    fn each_before(&self, mut show: impl FnMut(State)) {
        // SAFETY: the state is live.
        let main = unsafe { State::new(self.main.load(SeqCst)) };
        show(main);
        let Some(header) = internals::header(main) else { return };
        let mut object = header.first();
        for _ in 0..LOOKED_AT {
            if object == 0 {
                return;
            }
            let thread = object as *mut ffi::lua_State;
            let is_thread = header.tag(object) == ffi::LUA_TTHREAD as u8 && header.is_alive(object);
            // SAFETY: that is what it is.
            if is_thread && unsafe { layout::has_stack(thread) } {
                // SAFETY: this is called in the midst of an allocation: what is in a list then was allocated, and was not given back.
                show(unsafe { State::new(thread) });
            }
            object = header.next(object);
        }
    }
}
