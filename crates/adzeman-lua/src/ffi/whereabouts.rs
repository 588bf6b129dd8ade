//! What a script's thread is in, read from a signal handler on that very thread, at whatever instruction it is.
//!
//! The engine may be about to move the stack of the script at that moment, so that the pointer to the function that runs is one
//! to memory given back. So what it points to is never read here: the kernel copies it, and refuses what is not there. What is copied is only compared with the addresses of known functions.

use std::ffi::{c_int, c_void};

use super::api as ffi;

use super::layout;
use crate::dialect::{Dialect as _, Version};

/// What was found, as one number: one of these, or the address of a native function.
pub(super) const NOT_FOUND: usize = 0;
pub(super) const HOST: usize = 1;
pub(crate) const SCRIPT: usize = 2;
pub(crate) const FINALIZER: usize = 3;

/// What runs on `raw`, and whether it is anything of Lua.
///
/// # Safety
/// [`layout::is_known`] has answered true, `raw` is a live thread of the calling OS thread, which may be in the middle of
/// changing it. Only async-signal-safe calls are made.
pub(super) unsafe fn look(raw: *mut ffi::lua_State) -> usize {
    // SAFETY: given by the caller.
    unsafe { look_for(raw, false) }
}

/// The same; a native function with captured variables is told by its own address, and not by that of its code, which several have.
///
/// # Safety
/// As [`look`].
pub(super) unsafe fn look_at_function(raw: *mut ffi::lua_State) -> usize {
    // SAFETY: given by the caller.
    unsafe { look_for(raw, true) }
}

/// # Safety
/// As [`look`].
unsafe fn look_for(raw: *mut ffi::lua_State, wants_function: bool) -> usize {
    // SAFETY: given by the caller. Records of calls stay where they are for as long as their thread lives, or until it is
    // between two calls, and each is linked only when it is filled in.
    unsafe {
        let call = layout::current_call(raw);
        if call.is_null() || layout::call_below(raw, call).is_null() {
            return HOST;
        }
        let function = if Version::CALLS_ARE_NUMBERED {
            // The array of records may be moved at this moment.
            let Some(bytes) = copy::<8>(layout::function_in(call)) else { return NOT_FOUND };
            address_in(&bytes, 0) as *const c_void
        } else {
            layout::function_of_call(call)
        };
        let Some(value) = copy::<{ layout::SIZE_OF_VALUE }>(function) else { return NOT_FOUND };
        let held = address_in(&value, 0);
        let is_script = || match Version::TAGS.is_native_of_closure {
            Some(at) => {
                copy::<1>((held as *const c_void).wrapping_byte_add(at)).is_none_or(|[is_native]| is_native == 0)
            }
            None => false,
        };
        let code = match value[layout::TAG_OF_VALUE] {
            layout::NATIVE_FUNCTION => Some(held),
            layout::NATIVE_CLOSURE if is_script() => None,
            layout::NATIVE_CLOSURE if wants_function => Some(held),
            layout::NATIVE_CLOSURE => {
                copy::<8>((held as *const c_void).wrapping_byte_add(layout::CODE_OF_NATIVE_CLOSURE))
                    .map(|bytes| address_in(&bytes, 0))
            }
            _ => None,
        };
        match code {
            Some(code) => code.max(FINALIZER + 1),
            None if layout::keeps_hooks_off(raw) => FINALIZER,
            None => SCRIPT,
        }
    }
}

fn address_in(bytes: &[u8], at: usize) -> usize {
    let mut address = [0; 8];
    address.copy_from_slice(&bytes[at..at + 8]);
    usize::from_ne_bytes(address)
}

/// Has the kernel copy `N` bytes, if they are there: by one call, or, where that is not allowed, through a pipe.
fn copy<const N: usize>(from: *const c_void) -> Option<[u8; N]> {
    let mut into = [0_u8; N];
    let local = libc::iovec { iov_base: into.as_mut_ptr().cast(), iov_len: N };
    let remote = libc::iovec { iov_base: from.cast_mut(), iov_len: N };
    // SAFETY: the call only makes a system call, of this process about itself; the kernel answers with an error for bytes that are
    // not there, and writes at most `N` of them into the array.
    let copied = unsafe { libc::process_vm_readv(libc::getpid(), &raw const local, 1, &raw const remote, 1, 0) };
    if libc::ssize_t::try_from(N) == Ok(copied) {
        return Some(into);
    }
    // SAFETY: `errno` is that of this thread.
    let why = unsafe { *libc::__errno_location() };
    if why == libc::EFAULT { None } else { copy_through_pipe(from) }
}

/// The same with what every system has.
fn copy_through_pipe<const N: usize>(from: *const c_void) -> Option<[u8; N]> {
    let mut ends: [c_int; 2] = [-1; 2];
    let mut into = [0_u8; N];
    // SAFETY: `pipe2`, `write`, `read` and `close` are async-signal-safe; the ends are used and closed here only. The kernel
    // answers with an error for bytes that are not there, and writes at most `N` of them into the array.
    unsafe {
        if libc::pipe2(ends.as_mut_ptr(), libc::O_CLOEXEC | libc::O_NONBLOCK) != 0 {
            return None;
        }
        let wrote = libc::write(ends[1], from, N);
        let whole =
            libc::ssize_t::try_from(N) == Ok(wrote) && libc::read(ends[0], into.as_mut_ptr().cast(), N) == wrote;
        for end in ends {
            libc::close(end);
        }
        whole.then_some(into)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_there_is_not_read() {
        let held = *b"eight by";
        for copy in [copy::<8>, copy_through_pipe::<8>] {
            assert_eq!(copy(held.as_ptr().cast()), Some(held));
            assert_eq!(copy(std::ptr::null()), None);
            assert_eq!(copy(std::ptr::without_provenance(usize::MAX - 4096)), None);
        }
    }
}
