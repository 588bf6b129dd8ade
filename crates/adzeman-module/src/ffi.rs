//! What is done when the process ends by itself, and what is read of Lua's threads in the midst of hooks.

use std::ffi::c_void;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};

use mlua::{Thread, ffi};

/// Has `work` done when the process exits (`atexit`), on the thread that ends it, while others may run still. Not where it is killed.
#[cfg(unix)]
pub(crate) fn at_exit(work: extern "C" fn()) {
    // SAFETY: the function stays where it is: this library is not taken out of a process (it is linked so).
    if unsafe { libc::atexit(work) } != 0 {
        eprintln!("adzeman: what this process leaves behind is taken away by whoever looks for it next");
    }
}

/// The same; nothing is done.
#[cfg(not(unix))]
pub(crate) fn at_exit(_: extern "C" fn()) {}

/// What a Lua thread does at this moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Standing {
    /// It runs, or has resumed what runs.
    Runs,
    /// It waits in a yield to be resumed.
    Waits,
    /// An error has ended it.
    Died,
    /// Its state was closed.
    Gone,
}

/// What a thread does, also in the midst of a hook; `is_there` says whether its state is.
pub(crate) fn standing_of(thread: &Thread, is_there: &AtomicBool) -> Standing {
    if !is_there.load(SeqCst) {
        return Standing::Gone;
    }
    // SAFETY: the handle keeps the thread alive while its state is there; only its record is read.
    match unsafe { ffi::lua_status(raw(thread)) } {
        ffi::LUA_OK => Standing::Runs,
        ffi::LUA_YIELD => Standing::Waits,
        _ => Standing::Died,
    }
}

/// How many calls of a function are under way on a thread, also in the midst of a hook.
pub(crate) fn calls_of(thread: &Thread, function: *const c_void) -> usize {
    let raw = raw(thread);
    // SAFETY: the handle keeps the thread alive, and it is one of the state that this OS thread runs. Each record is filled in before it is
    // read; the value that is pushed has room, and is popped.
    unsafe {
        if ffi::lua_checkstack(raw, 1) == 0 {
            return usize::MAX;
        }
        let mut record = std::mem::zeroed::<ffi::lua_Debug>();
        let mut calls = 0;
        for level in 0.. {
            if ffi::lua_getstack(raw, level, &raw mut record) == 0 {
                break;
            }
            // A call that is lost has no function (5.1).
            ffi::lua_getinfo(raw, c"f".as_ptr(), &raw mut record);
            calls += usize::from(ffi::lua_topointer(raw, -1) == function);
            ffi::lua_settop(raw, -2);
        }
        calls
    }
}

fn raw(thread: &Thread) -> *mut ffi::lua_State {
    thread.to_pointer().cast_mut().cast()
}

/// Whether a file belongs to the user whose process this is, or to the system, and so do the folders that it is in, as far as its path
/// names them.
#[cfg(unix)]
pub(crate) fn is_own(file: &Path) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    // SAFETY: it only answers a number.
    let user = unsafe { libc::geteuid() };
    let belongs = |path: &Path| {
        let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
        std::fs::metadata(path).is_ok_and(|held| held.uid() == user || held.uid() == 0)
    };
    // Whoever may write into the folder may put another file there; so much is for who runs programs in such a folder.
    file.ancestors().take(3).filter(|path| !path.as_os_str().is_empty()).all(belongs)
}

/// The same; everything is.
#[cfg(not(unix))]
pub(crate) fn is_own(_: &Path) -> bool {
    true
}
