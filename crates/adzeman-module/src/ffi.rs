//! What is done when the process ends by itself.

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
