//! Whether this process is a copy of the one that something began in: of all its threads, a copy has only the one that called `fork`.

use std::sync::Once;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

static FORKS: AtomicU32 = AtomicU32::new(0);

/// How often this process was copied to be what it is; two loads, once that is counted. What was begun at another number belongs to another process.
#[must_use]
pub fn forks() -> u32 {
    static COUNTING: Once = Once::new();
    COUNTING.call_once(count);
    FORKS.load(Relaxed)
}

#[cfg(unix)]
fn count() {
    extern "C" fn in_copy() {
        FORKS.fetch_add(1, Relaxed);
    }
    // SAFETY: what is called in the copy does one atomic addition; the library that it is in is not taken out of a process (the module is
    // linked so).
    let outcome = unsafe { libc::pthread_atfork(None, None, Some(in_copy)) };
    if outcome != 0 {
        tracing::warn!(outcome, "a copy of this process will take itself for this one");
    }
}

#[cfg(not(unix))]
fn count() {}
