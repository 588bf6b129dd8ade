//! Interrupting a script from another thread, without touching its state from there: a signal is sent to the script's own
//! thread, whose handler sets the line hook on the main Lua thread, and on the coroutine that runs. Linux only; elsewhere
//! the request is seen at the next safe point.
//!
//! A state that may move between threads (the feature `send`) is looked for on the thread that ran it last as far as is known.
//! The handler does nothing unless that runs it now: it has said so ([`Registration::here`]), or a protected call of the state is
//! under way on its own stack.
//!
//! Lua has no way to tell from a signal handler which coroutine runs, so it is noted when a script resumes one
//! ([`natives`](super::natives)). One that the host itself resumes is seen if it was under the hook already, or by what it allocates
//! ([`newcomers`](super::newcomers)), where the host is one that says nothing of those.

#[cfg(target_os = "linux")]
mod linux {
    use std::cell::Cell;
    use std::collections::BTreeSet;
    use std::ffi::c_void;
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicBool, AtomicI32, AtomicPtr, AtomicU64, AtomicUsize, Ordering::SeqCst};
    use std::time::{Duration, Instant};
    use std::{ptr, thread};

    use adzeman_core::evaluation::Inside;
    use mlua::ffi;

    use crate::ffi::forks::forks;
    use crate::ffi::hook;
    use crate::ffi::internals;
    use crate::ffi::layout;
    use crate::ffi::library::native_at;
    use crate::ffi::new_line;
    use crate::ffi::newcomers::Newcomers;
    use crate::ffi::others::Other;
    use crate::ffi::state::State;
    use crate::ffi::whereabouts::{self, FINALIZER, HOST, NOT_FOUND, SCRIPT};

    /// Contexts for which there is room at once.
    const ENTRIES: usize = 128;
    /// Ignored by default, so that a late one does no harm.
    const SIGNAL: i32 = libc::SIGURG;
    const FREE: i32 = 0;
    const CLAIMED: i32 = -1;
    /// How long the answer may take what a thread is in, and between two looks for it.
    const ANSWERS_WITHIN: Duration = Duration::from_millis(100);
    const GLANCE: Duration = Duration::from_millis(1);

    struct Entry {
        /// The thread that runs the state, or ran it last as far as is known.
        thread: AtomicI32,
        /// The thread that has said so, and has the state locked; 0 for none.
        entered: AtomicI32,
        /// The main Lua thread.
        state: AtomicPtr<ffi::lua_State>,
        /// The coroutine that was resumed last and is not done, or null.
        running: AtomicPtr<ffi::lua_State>,
        wanted: AtomicBool,
        /// Whether someone asks what the thread is in, and the answer.
        is_asked: AtomicBool,
        inside: AtomicUsize,
        sampling: Sampling,
        /// Handlers that look at the state at this moment.
        looking: AtomicUsize,
        /// Hooks of others that the handler has put ours in the place of: on the main thread, and on the one that ran.
        taken: [Taken; 2],
        /// Coroutines of a host that says nothing of them, or null.
        newcomers: AtomicPtr<Newcomers>,
    }

    /// Samples of the stack that are wanted, and what the handler has seen.
    struct Sampling {
        is_wanted: AtomicBool,
        /// How many the hook has to take, and what ran at the first of them.
        due: AtomicUsize,
        inside: AtomicUsize,
        /// How many found no script that runs.
        idle: AtomicUsize,
        /// What the handler took, in nanoseconds.
        spent: AtomicU64,
    }

    impl Sampling {
        const fn none() -> Self {
            Self {
                is_wanted: AtomicBool::new(false),
                due: AtomicUsize::new(0),
                inside: AtomicUsize::new(0),
                idle: AtomicUsize::new(0),
                spent: AtomicU64::new(0),
            }
        }

        /// No script runs: neither does one of which the hook has not taken the sample, as it has ended by an error.
        fn is_idle(&self) {
            let lost = self.due.swap(0, SeqCst);
            self.idle.fetch_add(1 + lost, SeqCst);
        }

        /// Has a hook take the sample at the next instruction. Async-signal-safe.
        ///
        /// # Safety
        /// As [`look`]: this thread runs the state.
        unsafe fn take(&self, main: *mut ffi::lua_State, running: *mut ffi::lua_State) {
            let begun = now();
            let thread = if running.is_null() { main } else { running };
            // SAFETY: given by the caller; as in `look`.
            let inside = unsafe {
                let errno = *libc::__errno_location();
                let inside = whereabouts::look_at_function(thread);
                *libc::__errno_location() = errno;
                inside
            };
            if inside == HOST {
                self.is_idle();
            } else if self.due.fetch_add(1, SeqCst) == 0 {
                self.inside.store(inside, SeqCst);
                for state in [main, running] {
                    // SAFETY: given by the caller; a running coroutine is alive.
                    if !state.is_null() && !unsafe { hook::sample_from_signal(state) } {
                        // Another's hook stands there, and is not disturbed for this.
                        self.is_idle();
                    }
                }
            } else if inside > FINALIZER && self.inside.load(SeqCst) == SCRIPT {
                // The hook waits for a native function that was called just then.
                self.inside.store(inside, SeqCst);
            }
            self.spent.fetch_add(now().saturating_sub(begun), SeqCst);
        }
    }

    /// Nanoseconds of a clock that only goes forward. Async-signal-safe.
    fn now() -> u64 {
        let mut time = libc::timespec { tv_sec: 0, tv_nsec: 0 };
        // SAFETY: the clock is always there, and is async-signal-safe to read.
        unsafe { libc::clock_gettime(libc::CLOCK_MONOTONIC, &raw mut time) };
        u64::try_from(time.tv_sec).unwrap_or(0) * 1_000_000_000 + u64::try_from(time.tv_nsec).unwrap_or(0)
    }

    /// A hook of another's that stood on a thread.
    struct Taken {
        thread: AtomicPtr<ffi::lua_State>,
        hook: AtomicPtr<c_void>,
        mask: AtomicI32,
        count: AtomicI32,
    }

    impl Taken {
        const fn none() -> Self {
            Self {
                thread: AtomicPtr::new(ptr::null_mut()),
                hook: AtomicPtr::new(ptr::null_mut()),
                mask: AtomicI32::new(0),
                count: AtomicI32::new(0),
            }
        }

        /// Notes the hook of a thread, if it is another's. Async-signal-safe.
        ///
        /// # Safety
        /// `raw` is a live thread of a state that the calling thread runs.
        unsafe fn note(&self, raw: *mut ffi::lua_State) {
            // SAFETY: given by the caller; what is asked only reads.
            unsafe {
                let Some(held) = ffi::lua_gethook(raw).filter(|held| !hook::is_ours(*held)) else { return };
                self.hook.store(held as *mut c_void, SeqCst);
                self.mask.store(ffi::lua_gethookmask(raw), SeqCst);
                self.count.store(ffi::lua_gethookcount(raw), SeqCst);
                self.thread.store(raw, SeqCst);
            }
        }

        /// Takes what was noted.
        fn take(&self) -> Option<(*mut ffi::lua_State, Other)> {
            let thread = self.thread.swap(ptr::null_mut(), SeqCst);
            let held = self.hook.load(SeqCst);
            if thread.is_null() || held.is_null() {
                return None;
            }
            // SAFETY: what is stored there was a hook.
            let hook = unsafe { std::mem::transmute::<*mut c_void, ffi::lua_Hook>(held) };
            Some((thread, Other::of(hook, self.mask.load(SeqCst), self.count.load(SeqCst))))
        }
    }

    impl Entry {
        const fn free() -> Self {
            Self {
                thread: AtomicI32::new(FREE),
                entered: AtomicI32::new(0),
                state: AtomicPtr::new(ptr::null_mut()),
                running: AtomicPtr::new(ptr::null_mut()),
                wanted: AtomicBool::new(false),
                is_asked: AtomicBool::new(false),
                inside: AtomicUsize::new(NOT_FOUND),
                sampling: Sampling::none(),
                looking: AtomicUsize::new(0),
                taken: [const { Taken::none() }; 2],
                newcomers: AtomicPtr::new(ptr::null_mut()),
            }
        }

        /// The coroutines of a host that says nothing of them, if it is one.
        fn newcomers(&self) -> Option<&'static Newcomers> {
            // SAFETY: what is put there is static.
            unsafe { self.newcomers.load(SeqCst).as_ref() }
        }
    }

    /// Some entries, and more of them, once there were not enough. None is ever given back: the handler may look at any time.
    struct Block {
        entries: [Entry; ENTRIES],
        more: AtomicPtr<Block>,
    }

    static FIRST: Block = Block::empty();

    impl Block {
        const fn empty() -> Self {
            Self { entries: [const { Entry::free() }; ENTRIES], more: AtomicPtr::new(ptr::null_mut()) }
        }

        /// The block behind, if there is one.
        fn more(&self) -> Option<&'static Self> {
            // SAFETY: what is put there is a block that is never given back.
            unsafe { self.more.load(SeqCst).as_ref() }
        }

        /// The same; a new one is made if there is none.
        fn make_more(&self) -> &'static Self {
            let new = Box::into_raw(Box::new(Self::empty()));
            match self.more.compare_exchange(ptr::null_mut(), new, SeqCst, SeqCst) {
                // SAFETY: as in `more`; this one was just put there.
                Ok(_) => unsafe { &*new },
                Err(other) => {
                    // SAFETY: nobody has seen the new one; the other was put there as in `more`.
                    unsafe {
                        drop(Box::from_raw(new));
                        &*other
                    }
                }
            }
        }
    }

    /// How many entries of the first block were ever taken: the handler looks at no more of them, for each is a cache miss or two.
    static TAKEN: AtomicUsize = AtomicUsize::new(0);

    /// All entries that were ever taken, and more where there are further blocks. Async-signal-safe.
    fn entries() -> impl Iterator<Item = &'static Entry> {
        let first = FIRST.entries.iter().take(TAKEN.load(SeqCst));
        let more = std::iter::successors(FIRST.more(), |block| block.more()).flat_map(|block| &block.entries);
        first.chain(more)
    }

    /// Takes a free entry, whatever it takes.
    fn take_entry() -> &'static Entry {
        let is_free = |entry: &&Entry| entry.thread.compare_exchange(FREE, CLAIMED, SeqCst, SeqCst).is_ok();
        let mut block = &FIRST;
        loop {
            if let Some((at, entry)) = block.entries.iter().enumerate().find(|(_, entry)| is_free(entry)) {
                if ptr::eq(block, &raw const FIRST) {
                    TAKEN.fetch_max(at + 1, SeqCst);
                }
                return entry;
            }
            block = block.more().unwrap_or_else(|| block.make_more());
        }
    }

    /// Where [`internals::protected_call_of`] looks.
    static PROTECTED_CALL: AtomicUsize = AtomicUsize::new(NOT_KNOWN);
    const NOT_KNOWN: usize = usize::MAX;

    thread_local! {
        /// The number of this thread, and the end of its stack; set before it is in any entry, so that the handler only reads it.
        static THIS: Cell<(i32, usize)> = const { Cell::new((0, 0)) };
    }

    extern "C" fn on_signal(_: i32) {
        let (me, _) = THIS.get();
        for entry in entries() {
            if me == 0 || entry.thread.load(SeqCst) != me {
                continue;
            }
            // Whoever takes the state out waits until it is not looked at any more.
            entry.looking.fetch_add(1, SeqCst);
            let [main, running] = [&entry.state, &entry.running].map(|held| held.load(SeqCst));
            if !main.is_null() && is_run_here(entry, main) {
                look(entry, main, running);
            } else if entry.sampling.is_wanted.swap(false, SeqCst) {
                entry.sampling.is_idle();
            } else if !main.is_null() && is_idle(entry, main) && entry.is_asked.swap(false, SeqCst) {
                entry.inside.store(HOST, SeqCst);
            }
            entry.looking.fetch_sub(1, SeqCst);
        }
    }

    /// Whether this thread runs a state, whose main thread is live.
    fn is_run_here(entry: &Entry, main: *mut ffi::lua_State) -> bool {
        let (me, stack_end) = THIS.get();
        if !cfg!(feature = "send") || entry.entered.load(SeqCst) == me {
            return true;
        }
        let at = PROTECTED_CALL.load(SeqCst);
        // SAFETY: `at` is where it was found. A protected call keeps what it returns to on the stack of the thread that makes
        // it; one that lies on this stack, above this frame, is under way on this thread, which has the state locked.
        at != NOT_KNOWN
            && unsafe { (ptr::from_ref(&me) as usize..stack_end).contains(&internals::protected_call_of(main, at)) }
    }

    /// Whether no thread runs a state, whose main thread is live; also where that cannot be told.
    fn is_idle(entry: &Entry, main: *mut ffi::lua_State) -> bool {
        let at = PROTECTED_CALL.load(SeqCst);
        // SAFETY: `at` is where it was found.
        entry.entered.load(SeqCst) == 0 && (at == NOT_KNOWN || unsafe { internals::protected_call_of(main, at) } == 0)
    }

    /// Does what is asked for.
    fn look(entry: &Entry, main: *mut ffi::lua_State, running: *mut ffi::lua_State) {
        if entry.is_asked.swap(false, SeqCst) {
            let thread = if running.is_null() { main } else { running };
            // SAFETY: as below; who asks has found that the layout is known. The calls that are made may fail, and say so
            // by what they return: `errno` is what it was.
            unsafe {
                let errno = *libc::__errno_location();
                entry.inside.store(whereabouts::look(thread), SeqCst);
                *libc::__errno_location() = errno;
            }
        }
        if entry.sampling.is_wanted.swap(false, SeqCst) {
            // SAFETY: as below.
            unsafe { entry.sampling.take(main, running) };
        }
        if entry.wanted.swap(false, SeqCst) {
            for (state, taken) in [main, running].into_iter().zip(&entry.taken) {
                if !state.is_null() {
                    // SAFETY: this thread runs the state, and is the one that takes it out of the entry before it is closed; a
                    // running coroutine is on the stack of the one that resumed it, and is taken out of the entry before
                    // that lets go of it.
                    unsafe {
                        taken.note(state);
                        hook::watch_from_signal(state);
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

    /// The place of one context in the table that the handler reads, and how often this process was copied when it was taken.
    pub(crate) struct Registration(Option<&'static Entry>, u32);

    /// Enters the main thread of a state; called on the thread that runs it.
    pub(crate) fn register(main: State) -> Registration {
        if !installed() {
            return Registration(None, forks());
        }
        PROTECTED_CALL.store(internals::protected_call().unwrap_or(NOT_KNOWN), SeqCst);
        new_line::prepare();
        let entry = take_entry();
        entry.wanted.store(false, SeqCst);
        entry.is_asked.store(false, SeqCst);
        entry.entered.store(0, SeqCst);
        entry.running.store(ptr::null_mut(), SeqCst);
        entry.newcomers.store(ptr::null_mut(), SeqCst);
        for taken in &entry.taken {
            taken.take();
        }
        entry.state.store(main.raw(), SeqCst);
        entry.thread.store(this_thread(), SeqCst);
        Registration(Some(entry), forks())
    }

    /// The number of this thread; from now on the handler knows it.
    fn this_thread() -> i32 {
        if THIS.get().0 == 0 {
            // SAFETY: `gettid` has no conditions.
            THIS.set((unsafe { libc::gettid() }, end_of_stack().unwrap_or(0)));
        }
        THIS.get().0
    }

    /// The end of the stack of this thread, which grows down from there.
    fn end_of_stack() -> Option<usize> {
        // SAFETY: the attributes are filled in before they are read, and given back.
        unsafe {
            let mut attributes = std::mem::zeroed::<libc::pthread_attr_t>();
            if libc::pthread_getattr_np(libc::pthread_self(), &raw mut attributes) != 0 {
                return None;
            }
            let (mut start, mut size) = (ptr::null_mut(), 0);
            let found = libc::pthread_attr_getstack(&raw const attributes, &raw mut start, &raw mut size) == 0;
            libc::pthread_attr_destroy(&raw mut attributes);
            found.then(|| start as usize + size)
        }
    }

    /// While this is there, the thread that made it runs the state.
    pub(crate) struct Here(Option<(&'static Entry, i32)>);

    impl Drop for Here {
        fn drop(&mut self) {
            if let Some((entry, before)) = self.0 {
                entry.entered.store(before, SeqCst);
            }
        }
    }

    impl Registration {
        /// This thread runs the state, which it has locked, for as long as the answer is there.
        pub(crate) fn here(&self) -> Here {
            let entry = self.0.filter(|_| cfg!(feature = "send"));
            Here(entry.map(|entry| {
                entry.thread.store(this_thread(), SeqCst);
                (entry, entry.entered.swap(this_thread(), SeqCst))
            }))
        }

        /// Begins to count samples anew.
        pub(crate) fn begin_samples(&self) {
            if let Some(entry) = self.0 {
                entry.sampling.is_wanted.store(false, SeqCst);
                entry.sampling.due.store(0, SeqCst);
                entry.sampling.idle.store(0, SeqCst);
                entry.sampling.spent.store(0, SeqCst);
            }
        }

        /// How many samples are to be taken now, and what ran at the first of them.
        pub(crate) fn take_samples(&self) -> Option<(usize, usize)> {
            let sampling = &self.0?.sampling;
            let due = sampling.due.swap(0, SeqCst);
            (due > 0).then(|| (due, sampling.inside.load(SeqCst)))
        }

        /// Samples that found no script, and the nanoseconds that the handler took.
        pub(crate) fn sampled(&self) -> (u64, u64) {
            self.0.map_or((0, 0), |entry| {
                let idle = u64::try_from(entry.sampling.idle.load(SeqCst)).unwrap_or(0);
                (idle, entry.sampling.spent.load(SeqCst))
            })
        }

        /// Takes the hooks of others that the signal's handler has put ours in the place of.
        pub(crate) fn take_others(&self) -> impl Iterator<Item = (*mut ffi::lua_State, Other)> {
            self.0.into_iter().flat_map(|entry| &entry.taken).filter_map(Taken::take)
        }

        /// Has the handler see to the coroutines of a host that says nothing of them, or to none.
        pub(in crate::ffi) fn tell_newcomers(&self, newcomers: Option<&'static Newcomers>) {
            if let Some(entry) = self.0 {
                let newcomers = newcomers.map_or(ptr::null_mut(), |held| ptr::from_ref(held).cast_mut());
                entry.newcomers.store(newcomers, SeqCst);
            }
        }

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
                // In a copy of the process, whoever looked then is not there to end that.
                while entry.looking.load(SeqCst) != 0 && self.1 == forks() {
                    thread::yield_now();
                }
                entry.thread.store(FREE, SeqCst);
            }
        }
    }

    /// Interrupts from any thread; does nothing once the context is gone.
    pub(crate) struct Remote(Option<(&'static Entry, usize)>);

    impl Remote {
        /// Notes that the state is to be looked at.
        pub(crate) fn prepare(&self) {
            if let Some(entry) = self.entry() {
                entry.wanted.store(true, SeqCst);
            }
        }

        /// Notes that a sample of the stack is wanted.
        pub(crate) fn prepare_sample(&self) -> bool {
            self.entry().is_some_and(|entry| {
                entry.sampling.is_wanted.store(true, SeqCst);
                true
            })
        }

        /// What a signal costs the thread that it reaches, measured once: from another thread, since one processor has to interrupt
        /// another, which can take several times what a thread takes that sends one to itself.
        pub(crate) fn reach_costs(&self) -> Duration {
            static COSTS: OnceLock<Duration> = OnceLock::new();
            *COSTS.get_or_init(|| if installed() { measured() } else { Duration::ZERO })
        }

        /// Has whatever the state runs next met by what it allocates, where its host says nothing of coroutines; whether that is so.
        pub(crate) fn meet_newcomers(&self) -> bool {
            let Some((entry, state)) = self.0 else { return false };
            // Who takes the state out waits until it is not looked at any more.
            entry.looking.fetch_add(1, SeqCst);
            let newcomers = entry.newcomers().filter(|_| entry.state.load(SeqCst) as usize == state);
            newcomers.inspect(|newcomers| newcomers.ask());
            entry.looking.fetch_sub(1, SeqCst);
            newcomers.is_some()
        }

        /// Sends the signal to the thread, unless it is among those that it was sent to since the first state was prepared.
        /// False where there is no way, or the context is gone.
        pub(crate) fn reach(&self, reached: &mut BTreeSet<i64>) -> bool {
            let Some(entry) = self.entry() else { return false };
            if entry.newcomers().is_some_and(Newcomers::are_moving) {
                // Another thread may run the state than the one that would be told.
                return false;
            }
            let thread = entry.thread.load(SeqCst);
            // One to which it cannot be sent is not tried again.
            !reached.insert(thread.into()) || signal(thread)
        }

        /// What the thread is in at this moment, as far as it can be told.
        pub(crate) fn inside(&self) -> Option<Inside> {
            if !layout::is_known() {
                return None;
            }
            self.0?.0.inside.store(NOT_FOUND, SeqCst);
            let entry = self.entry()?;
            entry.is_asked.store(true, SeqCst);
            if !signal(entry.thread.load(SeqCst)) {
                return None;
            }
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

        /// Whether no thread seems to run the state at this moment.
        #[cfg(feature = "send")]
        pub(crate) fn is_idle(&self) -> bool {
            self.0.is_some_and(|(entry, state)| {
                entry.looking.fetch_add(1, SeqCst);
                let main = entry.state.load(SeqCst);
                let is_idle = main as usize == state && is_idle(entry, main);
                entry.looking.fetch_sub(1, SeqCst);
                is_idle
            })
        }

        /// Its entry; nothing once the context is gone.
        fn entry(&self) -> Option<&'static Entry> {
            let (entry, state) = self.0?;
            (entry.thread.load(SeqCst) > 0 && entry.state.load(SeqCst) as usize == state).then_some(entry)
        }
    }

    /// What it costs a thread that does nothing but look at the clock to be reached: how much longer one of its looks takes then.
    fn measured() -> Duration {
        /// Signals, and for how long each is waited for.
        const COUNT: usize = 64;
        const WAITED: Duration = Duration::from_micros(50);
        let (thread, round) = (AtomicI32::new(0), AtomicUsize::new(0));
        let mut longest = thread::scope(|scope| {
            let reached = scope.spawn(|| {
                // SAFETY: `gettid` has no conditions.
                thread.store(unsafe { libc::gettid() }, SeqCst);
                let longest_look = |number: usize| {
                    round.store(number, SeqCst);
                    let (begun, mut last, mut longest) = (now(), now(), 0);
                    while last.saturating_sub(begun) < WAITED.as_nanos() as u64 {
                        let time = now();
                        longest = longest.max(time.saturating_sub(last));
                        last = time;
                    }
                    longest
                };
                (1..=COUNT).map(longest_look).collect::<Vec<u64>>()
            });
            let mut last = 0;
            while !reached.is_finished() {
                let number = round.load(SeqCst);
                if number > last {
                    last = number;
                    signal(thread.load(SeqCst));
                }
                thread::yield_now();
            }
            reached.join().unwrap_or_default()
        });
        // In most rounds nothing else came between.
        longest.sort_unstable();
        longest.get(COUNT / 2).map_or(Duration::ZERO, |typical| Duration::from_nanos(*typical))
    }

    /// Sends the signal to a thread of this process; false when it has ended, and where the host has come to use that signal itself.
    fn signal(thread: i32) -> bool {
        // SAFETY: the call sends a signal whose handler is installed; a thread that has ended gives an error.
        thread > 0 && is_still_ours() && unsafe { libc::syscall(libc::SYS_tgkill, libc::getpid(), thread, SIGNAL) == 0 }
    }

    /// Whether the handler is the one that was installed: what a host does that has put its own there is none of ours to set off.
    fn is_still_ours() -> bool {
        // SAFETY: an all-zero `sigaction` is valid; the call fills it in.
        unsafe {
            let mut held = std::mem::zeroed::<libc::sigaction>();
            libc::sigaction(SIGNAL, ptr::null(), &raw mut held) == 0
                && held.sa_sigaction == on_signal as *const () as usize
        }
    }
}

#[cfg(not(target_os = "linux"))]
mod elsewhere {
    use std::collections::BTreeSet;

    use adzeman_core::evaluation::Inside;

    use crate::ffi::newcomers::Newcomers;
    use crate::ffi::others::Other;
    use crate::ffi::state::State;

    pub(crate) struct Registration;
    pub(crate) struct Here;
    pub(crate) struct Remote;

    pub(crate) fn register(_: State) -> Registration {
        Registration
    }

    impl Registration {
        pub(crate) fn here(&self) -> Here {
            Here
        }

        pub(crate) fn set_running(&self, _: Option<State>) -> Option<State> {
            None
        }

        pub(crate) fn take_others(&self) -> impl Iterator<Item = (*mut mlua::ffi::lua_State, Other)> {
            std::iter::empty()
        }

        pub(in crate::ffi) fn tell_newcomers(&self, _: Option<&'static Newcomers>) {}

        pub(crate) fn begin_samples(&self) {}

        pub(crate) fn take_samples(&self) -> Option<(usize, usize)> {
            None
        }

        pub(crate) fn sampled(&self) -> (u64, u64) {
            (0, 0)
        }

        pub(crate) fn remote(&self) -> Remote {
            Remote
        }
    }

    impl Remote {
        #[cfg(feature = "send")]
        pub(crate) fn is_idle(&self) -> bool {
            true
        }

        pub(crate) fn prepare(&self) {}

        pub(crate) fn meet_newcomers(&self) -> bool {
            false
        }

        pub(crate) fn prepare_sample(&self) -> bool {
            false
        }

        pub(crate) fn reach_costs(&self) -> std::time::Duration {
            std::time::Duration::ZERO
        }

        pub(crate) fn reach(&self, _: &mut BTreeSet<i64>) -> bool {
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
