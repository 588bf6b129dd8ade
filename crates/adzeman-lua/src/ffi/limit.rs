//! Cutting evaluations off: the hook that asks whether there is anything left, on every thread that an evaluation runs, and
//! the ways by which it ends what runs there.
//!
//! - The thread made for an evaluation has the hook, and every thread made from there on inherits it. Threads that were there
//!   before get it when a function is called that could resume them: the one that a function of the library is given, all when
//!   a function of the host is called.
//! - What is cut off raises at every instruction, past the script's message handlers, so that no `pcall` can go on. A coroutine
//!   inside the evaluation yields instead, where it can: the script's own ones stay what they are.
//! - The collector stands still meanwhile, so that no finalizer runs, in which no hook would. A finalizer that the evaluated
//!   text itself gives to an object is limited when it runs later.

use std::ffi::{CStr, c_int};
use std::time::Duration;

use super::api as ffi;

use super::activation::Activation;
use super::collector::{self, Collector};
use super::finalizers::{limit_finalizers, note_finalizer, wrap};
use super::hook::{self, caught, watch_of};
use super::internals;
use super::library::{Effect, Native, native_at};
use super::state::State;
use super::watch::Watch;
use super::{layout, walk};

/// Instructions between two looks: the fewest at first, and where they are slow (one may make a text of many megabytes), and
/// more and more otherwise.
const FEWEST_INSTRUCTIONS: c_int = 16;
const MOST_INSTRUCTIONS: c_int = 1024;
/// Between two looks: so long is slow, and so short may be twice as many instructions.
const SLOW: Duration = Duration::from_millis(4);
const QUICK: Duration = Duration::from_millis(1);
const EVENTS: c_int = ffi::LUA_MASKCOUNT | ffi::LUA_MASKCALL;

/// A hook that a thread had before.
#[derive(Debug)]
struct SavedHook {
    thread: State,
    hook: Option<ffi::lua_Hook>,
    mask: c_int,
    count: c_int,
}

/// What an evaluation has changed and has to put back.
#[derive(Debug, Default)]
pub(crate) struct Changed {
    saved: Vec<SavedHook>,
    /// Whether every thread of the state has the hook.
    reaches_all: bool,
    collector: Option<Collector>,
    /// Whether the collector's API is open for one call that only asks.
    is_open: bool,
    /// How many metatables were noted whose finalizers are to be limited.
    pub(super) finalized: i64,
}

/// The library's name for the function at an address.
pub(crate) fn native_name(address: usize) -> Option<String> {
    native_at(address).filter(|native| native.effect != Effect::Own).map(|native| native.name.clone())
}

impl State {
    /// Has the hook of evaluations ask on this thread.
    fn limit(self) {
        self.set_hook(Some(on_limit), EVENTS, FEWEST_INSTRUCTIONS);
    }
}

/// Limits what runs on a fresh thread, and holds the collector.
pub(crate) fn begin(coroutine: State) -> Changed {
    coroutine.limit();
    // SAFETY: the thread is live.
    let collector = unsafe { collector::hold_collector(coroutine.raw()) };
    Changed { collector: Some(collector), ..Changed::default() }
}

/// Puts everything back, when the evaluation is no longer under way: hooks first, since what follows makes calls, and the
/// collector last, when every finalizer has its limit.
pub(crate) fn end(state: State, held: Changed) {
    for saved in held.saved.into_iter().rev() {
        saved.thread.set_hook(saved.hook, saved.mask, saved.count);
    }
    wrap(state, held.finalized);
    if let Some(collector) = held.collector {
        // SAFETY: the state is live; this is what `begin` answered.
        unsafe { collector::release_collector(state.raw(), collector) };
    }
}

/// Whether a hook is the one of evaluations.
pub(super) fn is_ours(hook: *const ()) -> bool {
    hook == on_limit as *const ()
}

/// Bytes that a state holds, by the collector's own count.
pub(crate) fn counted_bytes(state: State) -> usize {
    // SAFETY: the state is live; these calls take no further arguments and do not raise.
    let (kilobytes, bytes) =
        unsafe { (ffi::lua_gc(state.raw(), ffi::LUA_GCCOUNT), ffi::lua_gc(state.raw(), ffi::LUA_GCCOUNTB)) };
    usize::try_from(kilobytes).unwrap_or(0) * 1024 + usize::try_from(bytes).unwrap_or(0)
}

unsafe extern "C-unwind" fn on_limit(raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) {
    // SAFETY: Lua calls hooks on the thread of the state, with the minimum of free stack and the record of the running function.
    // Nothing in this frame owns anything when an error is raised.
    unsafe {
        layout::keep_place(raw);
        let Some(watch) = watch_of(raw) else {
            ffi::lua_sethook(raw, None, 0, 0);
            return;
        };
        if !watch.bounds.is_limited() {
            // A thread that an evaluation has left behind is one like others.
            hook::set_hook_of(watch, State::new(raw), watch.watching());
            return;
        }
        let event = (*record).event;
        let mut refused = None;
        // Calls that this makes itself, on other threads, are not what is limited.
        if watch.bounds.is_at_work.replace(true) {
            return;
        }
        caught(|| match event {
            ffi::LUA_HOOKCOUNT => spend(watch, raw),
            ffi::LUA_HOOKRET => asked(watch, raw),
            _ => refused = called(watch, raw, record),
        });
        watch.bounds.is_at_work.set(false);
        if watch.bounds.is_over() {
            give_up(watch, raw, event);
        } else if let Some(why) = refused {
            ffi::lua_pushstring(raw, why.as_ptr());
            ffi::lua_error(raw);
        }
    }
}

/// Looks whether anything is left.
///
/// # Safety
/// `raw` is the running thread.
unsafe fn spend(watch: &Watch, raw: *mut ffi::lua_State) {
    // SAFETY: given by the caller.
    let step = unsafe { ffi::lua_gethookcount(raw) };
    let is_over = watch.bounds.spend(step.unsigned_abs().into());
    let took = watch.bounds.took();
    let next = match step {
        _ if took > SLOW => FEWEST_INSTRUCTIONS,
        _ if took < QUICK => step.saturating_mul(2).min(MOST_INSTRUCTIONS),
        _ => step,
    };
    if next != step && !is_over {
        // SAFETY: given by the caller.
        unsafe { ffi::lua_sethook(raw, Some(on_limit), ffi::lua_gethookmask(raw), next) };
    }
    if let Some(most) = watch.bounds.most_bytes().filter(|_| !is_over) {
        // SAFETY: given by the caller; what is opened is closed again.
        let bytes = unsafe {
            let collector = watch.bounds.with_held(|held| held.collector).flatten();
            let is_open = collector.is_some_and(|collector| collector::open_collector(raw, collector));
            let bytes = counted_bytes(State::new(raw));
            if is_open {
                collector::close_collector(raw);
            }
            bytes
        };
        if bytes > most {
            watch.bounds.is_over_memory();
        }
    }
}

/// The call is over for which the collector's API was opened.
///
/// # Safety
/// `raw` is the running thread.
unsafe fn asked(watch: &Watch, raw: *mut ffi::lua_State) {
    let was_open = watch.bounds.with_held(|held| std::mem::take(&mut held.is_open));
    // SAFETY: given by the caller; the API was opened by `called`.
    unsafe {
        if was_open == Some(true) {
            collector::close_collector(raw);
        }
        State::new(raw).limit();
    }
}

/// A function is called. Answers why it may not be.
///
/// # Safety
/// `raw` is the running thread, and `record` that of the function called.
unsafe fn called(watch: &Watch, raw: *mut ffi::lua_State, record: *mut ffi::lua_Debug) -> Option<&'static CStr> {
    // SAFETY: given by the caller.
    let (state, function) = unsafe { (State::new(raw), Activation::of_hook(State::new(raw), record)) };
    // SAFETY: as above.
    let (address, native) = unsafe { native_called(raw, record) }?;
    watch.bounds.progress.note_native(address, || function.info().name);
    watch.bounds.spend(1);
    let Some(native) = native else {
        reach_all(watch, state);
        return None;
    };
    match native.effect {
        Effect::Plain | Effect::Own => {}
        Effect::RunsThread => reach_given(watch, state, &function),
        Effect::Collector => return ask_collector(watch, state, &function),
        Effect::SetsMetatable => note_finalizer(watch, state, &function),
        Effect::MakesProxy => {
            return Some(
                c"newproxy makes what may get a finalizer that no limit reaches, so an evaluation does not call it",
            );
        }
        Effect::SetsHook => return Some(c"an evaluation cannot set a hook: its own limit is one"),
        Effect::Exits | Effect::ReadsTerminal => return refused(native.effect),
    }
    None
}

/// What no text of a person may call, with or without a limit, and why.
fn refused(effect: Effect) -> Option<&'static CStr> {
    match effect {
        Effect::Exits => Some(c"os.exit would end the host, so it is not called from here; end the host itself"),
        Effect::ReadsTerminal => Some(c"debug.debug would hold the host until someone types where it was started"),
        _ => None,
    }
}

/// In a call that a person asked for without a limit: notes which function is called. Answers why it may not be.
///
/// # Safety
/// As [`called`].
pub(super) unsafe fn called_openly(
    watch: &Watch,
    raw: *mut ffi::lua_State,
    record: *mut ffi::lua_Debug,
) -> Option<&'static CStr> {
    // SAFETY: given by the caller.
    let (called, function) = unsafe { (native_called(raw, record)?, Activation::of_hook(State::new(raw), record)) };
    let (address, native) = called;
    watch.bounds.progress.note_native(address, || function.info().name);
    let effect = native?.effect;
    match effect {
        Effect::SetsMetatable => note_finalizer(watch, function.thread(), &function),
        // Before any of them runs.
        Effect::Collector => limit_finalizers(watch, function.thread()),
        _ => {}
    }
    refused(effect)
}

/// The address of the function called, and what is known of it; nothing for one that is written in Lua, or that evaluations are
/// made of.
///
/// # Safety
/// As [`called`].
unsafe fn native_called(
    raw: *mut ffi::lua_State,
    record: *mut ffi::lua_Debug,
) -> Option<(usize, Option<&'static Native>)> {
    // SAFETY: given by the caller; what is pushed is popped.
    let address = unsafe {
        if layout::is_known() && layout::definition_of(layout::call_of(raw, record)).is_some() {
            return None;
        }
        ffi::lua_getinfo(raw, c"f".as_ptr(), record);
        let function = ffi::lua_tocfunction(raw, -1);
        ffi::lua_settop(raw, -2);
        function? as usize
    };
    let native = native_at(address);
    (native.map(|native| native.effect) != Some(Effect::Own)).then_some((address, native))
}

/// Has the hook ask on a thread that was there before.
pub(super) fn reach(watch: &Watch, thread: State) {
    // SAFETY: the thread is live: it is on a stack, or was found among what is alive, and the collector stands still.
    let saved = unsafe {
        let (hook, mask) = (ffi::lua_gethook(thread.raw()), ffi::lua_gethookmask(thread.raw()));
        if hook.is_some_and(|hook| is_ours(hook as *const ())) {
            return;
        }
        let status = ffi::lua_status(thread.raw());
        if status != ffi::LUA_OK && status != ffi::LUA_YIELD {
            // It died while a hook ran; what it left to be closed could not be limited otherwise.
            internals::allow_hook(thread.raw());
        }
        SavedHook { thread, hook, mask, count: ffi::lua_gethookcount(thread.raw()) }
    };
    watch.bounds.with_held(|held| held.saved.push(saved));
    thread.limit();
}

/// The same on the thread that a function was given, or holds.
fn reach_given(watch: &Watch, state: State, function: &Activation) {
    let top = state.top();
    let given = function.push_local(1).and_then(|_| state.thread_at(-1));
    state.cut_to(top);
    function.push_function();
    let held = state.push_captured(-1, 1).and_then(|_| state.thread_at(-1));
    state.cut_to(top);
    given.into_iter().chain(held).for_each(|thread| reach(watch, thread));
}

/// The same on every thread there is.
fn reach_all(watch: &Watch, state: State) {
    let is_done = watch.bounds.with_held(|held| std::mem::replace(&mut held.reaches_all, true));
    if is_done != Some(false) {
        return;
    }
    let top = state.top();
    watch.find_all_threads();
    walk::for_each_thread(state, &mut |thread| {
        if thread != state {
            reach(watch, thread);
        }
    });
    state.cut_to(top);
}

/// Lets a question through to the collector that changes nothing; everything else answers that it cannot be done now. Answers
/// why it may not be asked, where questions cannot be told from orders.
fn ask_collector(watch: &Watch, state: State, function: &Activation) -> Option<&'static CStr> {
    let top = state.top();
    let option = function.push_local(1).and_then(|_| state.text_at(-1));
    state.cut_to(top);
    let only_asks = matches!(option.as_deref(), Some("count" | "isrunning"));
    if !collector::holds_all_collections() {
        return (!only_asks).then_some(c"an evaluation does not collect garbage");
    }
    let collector = watch.bounds.with_held(|held| held.collector).flatten().filter(|_| only_asks)?;
    // SAFETY: the state is live; the API is closed again when this very call returns.
    let is_open = unsafe { collector::open_collector(state.raw(), collector) };
    if is_open {
        watch.bounds.with_held(|held| held.is_open = true);
        state.set_hook(Some(on_limit), EVENTS | ffi::LUA_MASKRET, FEWEST_INSTRUCTIONS);
    }
    None
}

/// Ends what runs on a thread.
///
/// # Safety
/// `raw` is the running thread, in a hook for `event`; nothing in the frames up to Lua owns anything.
unsafe fn give_up(watch: &Watch, raw: *mut ffi::lua_State, event: c_int) {
    // SAFETY: given by the caller. Only hooks of counts may yield.
    unsafe {
        // Once is enough: setting a hook walks the whole stack.
        if ffi::lua_gethookcount(raw) != 1 {
            ffi::lua_sethook(raw, Some(on_limit), EVENTS, 1);
        }
        let is_inner = !watch.bounds.is_base(State::new(raw));
        if is_inner && ffi::lua_isyieldable(raw) != 0 {
            if event == ffi::LUA_HOOKCOUNT {
                ffi::lua_yieldk(raw, 0, 0, None);
            }
            return;
        }
        raise_through(raw, c"the evaluation was cut off");
    }
}

/// Raises past the message handlers of the script, which could go on for ever.
///
/// # Safety
/// `raw` is the running thread; nothing in the frames up to Lua owns anything.
pub(super) unsafe fn raise_through(raw: *mut ffi::lua_State, why: &CStr) {
    // SAFETY: given by the caller.
    unsafe {
        internals::without_error_handler(raw);
        ffi::lua_pushstring(raw, why.as_ptr());
        ffi::lua_error(raw);
    }
}
