//! Interrupting a script from another thread, without touching its state from there: a signal is sent to the script's own
//! thread, whose handler sets the line hook on the main Lua thread, and on the coroutine that runs. Linux only; elsewhere
//! the request is seen at the next safe point.
//!
//! Lua has no way to tell from a signal handler which coroutine runs, so it is noted when a script resumes one
//! ([`natives`](super::natives)). One that the host itself resumes is seen if it was under the hook already.

#[cfg(target_os = "linux")]
mod linux {
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicBool, AtomicI32, AtomicPtr, AtomicUsize, Ordering::SeqCst};
    use std::time::{Duration, Instant};
    use std::{ptr, thread};

    use adzeman_core::evaluation::Inside;
    use mlua::ffi;

    use crate::ffi::hook;
    use crate::ffi::layout;
    use crate::ffi::library::native_at;
    use crate::ffi::state::State;
    use crate::ffi::whereabouts::{self, FINALIZER, HOST, NOT_FOUND, SCRIPT};

    /// Contexts that can be interrupted at one time in a process.
    const MOST_CONTEXTS: usize = 256;
    /// Ignored by default, so that a late one does no harm.
    const SIGNAL: i32 = libc::SIGURG;
    const FREE: i32 = 0;
    const CLAIMED: i32 = -1;
    /// How long the answer may take what a thread is in, and between two looks for it.
    const ANSWERS_WITHIN: Duration = Duration::from_millis(100);
    const GLANCE: Duration = Duration::from_millis(1);

    struct Entry {
        thread: AtomicI32,
        /// The main Lua thread.
        state: AtomicPtr<ffi::lua_State>,
        /// The coroutine that was resumed last and is not done, or null.
        running: AtomicPtr<ffi::lua_State>,
        wanted: AtomicBool,
        /// Whether someone asks what the thread is in, and the answer.
        is_asked: AtomicBool,
        inside: AtomicUsize,
    }

    static ENTRIES: [Entry; MOST_CONTEXTS] = [const {
        Entry {
            thread: AtomicI32::new(FREE),
            state: AtomicPtr::new(ptr::null_mut()),
            running: AtomicPtr::new(ptr::null_mut()),
            wanted: AtomicBool::new(false),
            is_asked: AtomicBool::new(false),
            inside: AtomicUsize::new(NOT_FOUND),
        }
    }; MOST_CONTEXTS];

    extern "C" fn on_signal(_: i32) {
        // SAFETY: `gettid` is async-signal-safe and has no other conditions.
        let me = unsafe { libc::gettid() };
        for entry in &ENTRIES {
            if entry.thread.load(SeqCst) != me {
                continue;
            }
            let [main, running] = [&entry.state, &entry.running].map(|held| held.load(SeqCst));
            if entry.is_asked.swap(false, SeqCst) && !main.is_null() {
                let thread = if running.is_null() { main } else { running };
                // SAFETY: as below; who asks has found that the layout is known. The calls that are made may fail, and say so
                // by what they return: `errno` is what it was.
                unsafe {
                    let errno = *libc::__errno_location();
                    entry.inside.store(whereabouts::look(thread), SeqCst);
                    *libc::__errno_location() = errno;
                }
            }
            if entry.wanted.swap(false, SeqCst) {
                for state in [main, running] {
                    if !state.is_null() {
                        // SAFETY: the entry is this thread's own, and is cleared on this thread before its state is
                        // closed; a running coroutine is on the stack of the one that resumed it, and is taken out of
                        // the entry before that lets go of it.
                        unsafe { hook::watch_from_signal(state) };
                    }
                }
            }
        }
    }

    /// Installs the handler once; false when the process uses the signal for something else.
    fn installed() -> bool {
        static INSTALLED: OnceLock<bool> = OnceLock::new();
        // SAFETY: an all-zero `sigaction` is valid; the handler only uses async-signal-safe operations, keeps `errno`,
        // and restarts interrupted calls.
        *INSTALLED.get_or_init(|| unsafe {
            let mut held = std::mem::zeroed::<libc::sigaction>();
            if libc::sigaction(SIGNAL, ptr::null(), &raw mut held) != 0
                || (held.sa_sigaction != libc::SIG_DFL && held.sa_sigaction != libc::SIG_IGN)
            {
                return false;
            }
            let mut action = std::mem::zeroed::<libc::sigaction>();
            action.sa_sigaction = on_signal as *const () as usize;
            action.sa_flags = libc::SA_RESTART;
            libc::sigaction(SIGNAL, &raw const action, ptr::null_mut()) == 0
        })
    }

    /// The place of one context in the table that the handler reads.
    pub(crate) struct Registration(Option<&'static Entry>);

    /// Enters the main thread of a state; called on the script's thread.
    pub(crate) fn register(main: State) -> Registration {
        if !installed() {
            return Registration(None);
        }
        let free = |entry: &&Entry| entry.thread.compare_exchange(FREE, CLAIMED, SeqCst, SeqCst).is_ok();
        let entry = ENTRIES.iter().find(free);
        if let Some(entry) = entry {
            entry.wanted.store(false, SeqCst);
            entry.is_asked.store(false, SeqCst);
            entry.running.store(ptr::null_mut(), SeqCst);
            entry.state.store(main.raw(), SeqCst);
            // SAFETY: `gettid` has no conditions.
            entry.thread.store(unsafe { libc::gettid() }, SeqCst);
        }
        Registration(entry)
    }

    impl Registration {
        /// Notes which coroutine runs now (`None` for the main thread); answers which did.
        pub(crate) fn set_running(&self, coroutine: Option<State>) -> Option<State> {
            let now = coroutine.map_or(ptr::null_mut(), State::raw);
            let before = self.0.map_or(ptr::null_mut(), |entry| entry.running.swap(now, SeqCst));
            // SAFETY: the coroutine that was noted has resumed the one noted now, and is alive as long as that runs.
            (!before.is_null()).then(|| unsafe { State::new(before) })
        }

        /// What other threads interrupt by.
        pub(crate) fn remote(&self) -> Remote {
            Remote(self.0.map(|entry| (entry, entry.state.load(SeqCst) as usize)))
        }
    }

    impl Drop for Registration {
        fn drop(&mut self) {
            if let Some(entry) = self.0 {
                entry.state.store(ptr::null_mut(), SeqCst);
                entry.running.store(ptr::null_mut(), SeqCst);
                entry.thread.store(FREE, SeqCst);
            }
        }
    }

    /// Interrupts from any thread; does nothing once the context is gone.
    pub(crate) struct Remote(Option<(&'static Entry, usize)>);

    impl Remote {
        pub(crate) fn interrupt(&self) -> bool {
            self.signal(|entry| &entry.wanted).is_some()
        }

        /// What the thread is in at this moment, as far as it can be told.
        pub(crate) fn inside(&self) -> Option<Inside> {
            if !layout::is_known() {
                return None;
            }
            self.0?.0.inside.store(NOT_FOUND, SeqCst);
            let entry = self.signal(|entry| &entry.is_asked)?;
            let asked = Instant::now();
            while entry.inside.load(SeqCst) == NOT_FOUND && asked.elapsed() < ANSWERS_WITHIN {
                thread::sleep(GLANCE);
            }
            match entry.inside.load(SeqCst) {
                NOT_FOUND => None,
                HOST => Some(Inside::Host),
                SCRIPT => Some(Inside::Script),
                FINALIZER => Some(Inside::Finalizer),
                code => Some(Inside::Native(native_at(code).map(|native| native.name.clone()))),
            }
        }

        /// Sends the signal, for what `flag` stands for; `None` once the context is gone.
        fn signal(&self, flag: impl Fn(&Entry) -> &AtomicBool) -> Option<&'static Entry> {
            let (entry, state) = self.0?;
            let thread = entry.thread.load(SeqCst);
            if thread <= 0 || entry.state.load(SeqCst) as usize != state {
                return None;
            }
            flag(entry).store(true, SeqCst);
            // SAFETY: the call sends a signal whose handler is installed; a thread that has ended gives an error.
            let sent = unsafe { libc::syscall(libc::SYS_tgkill, libc::getpid(), thread, SIGNAL) == 0 };
            sent.then_some(entry)
        }
    }
}

#[cfg(not(target_os = "linux"))]
mod elsewhere {
    use adzeman_core::evaluation::Inside;

    use crate::ffi::state::State;

    pub(crate) struct Registration;
    pub(crate) struct Remote;

    pub(crate) fn register(_: State) -> Registration {
        Registration
    }

    impl Registration {
        pub(crate) fn set_running(&self, _: Option<State>) -> Option<State> {
            None
        }

        pub(crate) fn remote(&self) -> Remote {
            Remote
        }
    }

    impl Remote {
        pub(crate) fn interrupt(&self) -> bool {
            false
        }

        pub(crate) fn inside(&self) -> Option<Inside> {
            None
        }
    }
}

#[cfg(not(target_os = "linux"))]
pub(crate) use elsewhere::{Registration, Remote, register};
#[cfg(target_os = "linux")]
pub(crate) use linux::{Registration, Remote, register};
