//! The host: what it opens, and for how long.

use std::fmt::Display;
use std::future::poll_fn;
use std::io;
use std::marker::PhantomData;
use std::net::SocketAddr;
use std::pin::pin;
use std::sync::atomic::Ordering;
use std::sync::{Arc, Weak};
use std::time::Duration;

use adzeman_core::host::{About, ByFunctions, EventKind, HostObject, Lending, SharedObject};
use adzeman_core::path::Path;
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;
use thiserror::Error;

use crate::event::{Event, Payload};
use crate::lane::{self, HostState, Lane, RecordedEvent};
use crate::listen::{Listen, ListenError, Server};
use crate::object::{OpenError, Opened};
use crate::session;
use crate::state::clients::Way;
use crate::state::figures::Figure;
use crate::state::trail::KeepTrail;
use crate::transport::{Line, Pipe, PipeReader, PipeWriter};

/// Describes a host before it starts.
pub struct HostBuilder {
    name: String,
    kinds: Vec<EventKind>,
    objects: Vec<HostObject>,
    /// The names of what is lent for the time of handlers.
    lent: Vec<String>,
    /// What is said of objects, by their names.
    said: Vec<(String, About)>,
    observers_only: bool,
    trail: Option<KeepTrail>,
    is_without_trail: bool,
}

/// Why a host does not start.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StartError {
    /// What it opens does not go together.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// It cannot listen.
    #[error(transparent)]
    Listen(#[from] ListenError),
}

impl HostBuilder {
    /// Adds a kind of event.
    #[must_use]
    pub fn event(mut self, kind: EventKind) -> Self {
        self.kinds.push(kind);
        self
    }

    /// Opens an object for looking.
    #[must_use]
    pub fn object<O>(mut self, name: &str, object: O) -> Self
    where
        O: SharedObject,
        O::State: Serialize,
    {
        self.objects.push(HostObject::read_only(name, object));
        self
    }

    /// Opens an object for looking and changing.
    #[must_use]
    pub fn editable_object<O>(mut self, name: &str, object: O) -> Self
    where
        O: SharedObject,
        O::State: Serialize + DeserializeOwned,
    {
        self.objects.push(HostObject::editable(name, object));
        self
    }

    /// Opens an object for looking and changing, with a last word: `check` is shown the state as it is and as it would be, and
    /// may refuse with a reason. The object's lock is held meanwhile.
    ///
    /// ```
    /// use adzeman::{Host, HostError, Listen};
    /// use std::sync::{Arc, Mutex};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let level = Arc::new(Mutex::new(2.0_f64));
    /// let host = Host::builder("canal")
    ///     .guarded_object("level", level.clone(), |_, wanted: &f64| match wanted {
    ///         0.0..=6.0 => Ok(()),
    ///         _ => Err("the walls are 6 m high".to_owned()),
    ///     })
    ///     .start(Listen::Off)?;
    /// # Ok(())
    /// # }
    /// ```
    #[must_use]
    pub fn guarded_object<O>(
        mut self,
        name: &str,
        object: O,
        check: impl Fn(&O::State, &O::State) -> Result<(), String> + Send + Sync + 'static,
    ) -> Self
    where
        O: SharedObject,
        O::State: Serialize + DeserializeOwned,
    {
        self.objects.push(HostObject::guarded(name, object, check));
        self
    }

    /// Opens an object for looking, and for changing by a function of the host, which is given the state, the path to the part
    /// from the object on, and the new value. For types that cannot be read back from data as a whole.
    ///
    /// ```
    /// use adzeman::{Host, Listen};
    /// use std::sync::{Arc, Mutex};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let level = Arc::new(Mutex::new(2.0_f64));
    /// let host = Host::builder("canal")
    ///     .object_changed_by("level", level.clone(), |level: &mut f64, _, value| {
    ///         *level = value.as_f64().ok_or("it is a number of metres")?;
    ///         Ok(())
    ///     })
    ///     .start(Listen::Off)?;
    /// # Ok(())
    /// # }
    /// ```
    #[must_use]
    pub fn object_changed_by<O>(
        mut self,
        name: &str,
        object: O,
        change: impl Fn(&mut O::State, &Path, Json) -> Result<(), String> + Send + Sync + 'static,
    ) -> Self
    where
        O: SharedObject,
        O::State: Serialize,
    {
        self.objects.push(HostObject::changed_by(name, object, change));
        self
    }

    /// Opens an object by functions of the host, for state that serde does not know; see [`ByFunctions`].
    #[must_use]
    pub fn object_by(mut self, name: &str, functions: ByFunctions) -> Self {
        self.objects.push(HostObject::by_functions(name, functions));
        self
    }

    /// Says that state of this name will be lent for the time of handlers, by [`Host::emit_with`].
    #[must_use]
    pub fn lends(mut self, name: &str) -> Self {
        self.lent.push(name.to_owned());
        self
    }

    /// Says what the parts of an object are, which belong to a subject of events, and which are secret. It may stand before or
    /// behind the object; a name that no object has is an error of [`start`](Self::start).
    ///
    /// ```
    /// use adzeman::{About, Host, Listen};
    /// use std::collections::BTreeMap;
    /// use std::sync::{Arc, Mutex};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let locks = Arc::new(Mutex::new(BTreeMap::from([("upper".to_owned(), 2.5)])));
    /// let host = Host::builder("canal")
    ///     .editable_object("locks", locks)
    ///     .about("locks", About::new("the flight").measured("*", "water above the sill", "m").subject("*", "lock.*"))
    ///     .start(Listen::Off)?;
    /// # Ok(())
    /// # }
    /// ```
    #[must_use]
    pub fn about(mut self, object: &str, about: About) -> Self {
        self.said.push((object.to_owned(), about));
        self
    }

    /// Lets whoever attaches look, and nothing else: no evaluation, no change, no breakpoint, no step.
    #[must_use]
    pub fn observers_only(mut self) -> Self {
        self.observers_only = true;
        self
    }

    /// Keeps the trail also while nobody is attached; without this, where the variable `ADZEMAN_TRAIL` says so
    /// ([`KeepTrail::from_env`]). What each event costs for it is told in `docs/performance.md`.
    #[must_use]
    pub fn keep_trail(mut self, trail: KeepTrail) -> Self {
        self.trail = Some(trail);
        self
    }

    /// Keeps no trail, also while someone is attached: events cost less then, and nobody can look back at what they carried.
    #[must_use]
    pub fn without_trail(mut self) -> Self {
        self.is_without_trail = true;
        self
    }

    /// Starts the host's debugging side, and listens if asked to.
    ///
    /// # Errors
    /// When what is opened does not go together, or the address cannot be listened on; nothing is started then.
    pub fn start(self, listen: Listen) -> Result<Host, StartError> {
        let opened = Opened::new(self.kinds, self.objects, self.lent, self.said)?;
        let state = Arc::new(HostState::new(self.name, opened, self.observers_only));
        match listen {
            Listen::Wait(limit) => state.opening.hold_out(limit, false),
            Listen::First(limit) => state.opening.hold_out(limit, true),
            _ => {}
        }
        if self.is_without_trail {
            state.trail.never_keep();
        } else if let Some(trail) = self.trail.or_else(KeepTrail::from_env) {
            state.keep_trail(trail);
        }
        state.opening.is_open.store(listen != Listen::Off, Ordering::Relaxed);
        let server = Server::start(&state, &listen)?;
        Ok(Host { inner: Arc::new(Inner { state, server }) })
    }
}

struct Inner {
    state: Arc<HostState>,
    server: Option<Server>,
}

impl Drop for Inner {
    fn drop(&mut self) {
        if !self.state.clients.are_here() {
            // In a copy of the process: its threads, its note and its socket are the other one's.
            std::mem::forget(self.server.take());
            return;
        }
        session::close_all(&self.state);
        self.state.trail.write(&self.state.name, "the host has ended");
        if let Some(server) = self.server.take() {
            server.stop();
        }
    }
}

/// A host application, opened to people who attach. Copies stand for the same host; it closes when the last one goes.
#[derive(Clone)]
pub struct Host {
    inner: Arc<Inner>,
}

/// An event that has [begun](Host::begin), on this thread. Dropped, it ends as one that was done.
pub struct EventUnderWay {
    number: u64,
    /// It ends on the thread where it began.
    stays: PhantomData<*const ()>,
}

impl EventUnderWay {
    /// Ends it, with the reason if it has failed.
    pub fn end(self, outcome: Result<(), String>) {
        lane::end(self.number, &outcome);
    }

    /// Whether it has not ended, with one around it or as it was left.
    #[must_use]
    pub fn is_under_way(&self) -> bool {
        lane::is_under_way(self.number)
    }
}

impl Drop for EventUnderWay {
    fn drop(&mut self) {
        lane::end(self.number, &Ok(()));
    }
}

/// A host that may have ended meanwhile.
#[derive(Clone)]
pub struct WeakHost {
    inner: Weak<Inner>,
}

impl WeakHost {
    /// The host, if it is still there.
    #[must_use]
    pub fn upgrade(&self) -> Option<Host> {
        self.inner.upgrade().map(|inner| Host { inner })
    }
}

// Every thread may raise events and open contexts.
const _: fn() = || {
    fn is_shared<T: Send + Sync>() {}
    is_shared::<Host>();
};

impl Host {
    /// Begins to describe a host.
    #[must_use]
    pub fn builder(name: &str) -> HostBuilder {
        HostBuilder {
            name: name.to_owned(),
            kinds: Vec::new(),
            objects: Vec::new(),
            lent: Vec::new(),
            said: Vec::new(),
            observers_only: false,
            trail: None,
            is_without_trail: false,
        }
    }

    pub(crate) fn state(&self) -> &Arc<HostState> {
        &self.inner.state
    }

    /// The address it listens on, if it does.
    #[must_use]
    pub fn address(&self) -> Option<SocketAddr> {
        self.inner.server.as_ref().and_then(Server::address)
    }

    /// What is asked of clients that come over TCP. Commands of the same user find it by themselves; show it to nobody else.
    #[must_use]
    pub fn token(&self) -> String {
        self.state().opening.token()
    }

    /// Whether anyone is attached.
    #[must_use]
    pub fn is_attached(&self) -> bool {
        self.state().is_attached()
    }

    /// Whether anyone wants to know of events: who is attached, or a trail that is kept.
    #[must_use]
    pub fn wants_events(&self) -> bool {
        self.state().wants_events()
    }

    /// Time since the host started, without the time spent at stops: the first frame after a stop does not see minutes
    /// pass.
    #[must_use]
    pub fn clock(&self) -> Duration {
        self.state().clock.now()
    }

    /// Ends debugging: every context that is held goes on, every client is told and dropped. Scripts run on as before. May
    /// be called from any thread, for instance when the host is told to end.
    pub fn close(&self) {
        if !self.state().clients.are_here() {
            return;
        }
        session::close_all(self.state());
        self.state().trail.write(&self.state().name, "the host ends debugging");
    }

    /// Says that the event which is handled on this thread is refused, by its script or by the host, and why: the trail tells it
    /// from one that was done. Elsewhere it does nothing.
    ///
    /// ```
    /// # use adzeman::{Event, Host, Listen};
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let may_save = host.emit(Event::of("record.before_save").subject(("passage", 118)), || {
    ///     host.note_refused("there is no toll");
    ///     Ok::<_, String>(false)
    /// })?;
    /// # Ok(())
    /// # }
    /// ```
    pub fn note_refused(&self, why: &str) {
        lane::note_refused(self.state(), why);
    }

    /// Opens a number of the host to those who ask for its figures; one of the same name goes. What it is, and when it is asked for, is said
    /// at [`Figure`].
    pub fn figure(&self, figure: Figure) {
        self.state().figures.add(figure);
    }

    /// Calls `pump` about 60 times a second while a context of this thread is held at a stop, so that the host can keep
    /// painting. Scripts that it runs do not stop.
    pub fn on_pause(&self, pump: impl FnMut() + 'static) {
        *Lane::of(self.state()).pump.borrow_mut() = Some(Box::new(pump));
    }

    /// Takes events of this kind from the trail once more: `deliver` raises such an event again, with what was recorded of it, so
    /// that a rare one can be stepped through as often as needed. It is called on this thread, between two events or in
    /// [`poll`](Self::poll); what it holds stays until the host has ended and this thread too.
    ///
    /// ```
    /// use adzeman::{Event, EventKind, Host, Listen};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # fn save(passage: u64) -> Result<(), String> { Ok(()) }
    /// let host = Host::builder("canal").event(EventKind::new("record.before_save")).start(Listen::Off)?;
    /// let again = host.downgrade();
    /// host.on_again("record.before_save", move |recorded| {
    ///     let passage = recorded.payload["passage"].as_u64().ok_or("it has no number")?;
    ///     let host = again.upgrade().ok_or("the host has ended")?;
    ///     let event = Event::of("record.before_save").with("passage", passage);
    ///     host.emit_repeatable(event, || save(passage))
    /// });
    /// # Ok(())
    /// # }
    /// ```
    pub fn on_again(&self, kind: &str, deliver: impl FnMut(&RecordedEvent) -> Result<(), String> + 'static) {
        Lane::of(self.state()).on_again(kind, Box::new(deliver));
    }

    /// The host, without keeping it open.
    #[must_use]
    pub fn downgrade(&self) -> WeakHost {
        WeakHost { inner: Arc::downgrade(&self.inner) }
    }

    /// Raises an event: runs `handler`, which calls the scripts that handle it, and lets whoever is attached stop there.
    /// With nobody attached, this costs one relaxed load more than calling `handler`.
    ///
    /// # Errors
    /// Those of `handler`, unchanged; they are shown to whoever is attached.
    #[inline]
    pub fn emit<P: Payload, T, E: Display>(
        &self,
        event: Event<'_, P>,
        handler: impl FnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        if !self.state().wants_events() {
            return handler();
        }
        let mut handler = Some(handler);
        lane::emit(self.state(), &event, (false, None), || handler.take().map(|handler| handler()))
    }

    /// Begins an event whose handler cannot be given as one function, as that of a host which is told of the beginning and of the end by
    /// two calls; until the end is told, on the same thread, it is the one that is handled. Where it can be, [`emit`](Self::emit) is better:
    /// it knows of every end. Nothing where nobody wants to know of it.
    ///
    /// `was_left` says how it ended if it did so without a word, as by an error that passes by whoever would have told: with `Ok` or why
    /// it failed; nothing while it is under way. It is asked before anything is decided by the event, also in the midst of scripts, on this
    /// thread. `above` is how many of the innermost frames of the script that runs are of whoever tells, if one does: on a stack, the event
    /// stands below those of its handler. Events that were begun inside one end with it. One that is begun inside the handler of one that is
    /// emitted does not show that as the event around it.
    ///
    /// ```
    /// use adzeman::{Event, Host, Listen};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let passed = host.begin(Event::of("gate.opened").subject("upper"), 0, || None);
    /// // ... the gate's scripts run ...
    /// if let Some(passed) = passed {
    ///     passed.end(Ok(()));
    /// }
    /// # Ok(())
    /// # }
    /// ```
    pub fn begin<P: Payload + 'static>(
        &self,
        event: Event<'_, P>,
        above: usize,
        was_left: impl Fn() -> Option<Result<(), String>> + 'static,
    ) -> Option<EventUnderWay> {
        if !self.state().wants_events() {
            return None;
        }
        let number = lane::begin(self.state(), event, above, Box::new(was_left))?;
        Some(EventUnderWay { number, stays: PhantomData })
    }

    /// The same as [`emit`](Self::emit), lending state for the time of the handler, as `host.NAME`: what the host has by `&mut` or in a
    /// cell of its own. People look at it and change it in place, while the handler has not borrowed it; behind the handler it is gone.
    /// With nobody attached nothing is done with it.
    ///
    /// Say that it will be lent by [`HostBuilder::lends`]: then who looks for it elsewhere is told when it is there.
    ///
    /// # Errors
    /// Those of `handler`, unchanged.
    ///
    /// ```
    /// use adzeman::{Event, Host, Lent, Listen};
    /// use std::cell::RefCell;
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").lends("flight").start(Listen::Off)?;
    /// let mut flight = vec![2.0, 4.5]; // The host's own, without a lock.
    /// let lent = RefCell::new(&mut flight);
    /// host.emit_with(Event::of("frame.update"), &Lent::of_mut("flight", &lent), || {
    ///     lent.borrow_mut()[0] += 0.5;
    ///     Ok::<_, String>(())
    /// })?;
    /// assert_eq!(flight, [2.5, 4.5]);
    /// # Ok(())
    /// # }
    /// ```
    #[inline]
    pub fn emit_with<P: Payload, T, E: Display>(
        &self,
        event: Event<'_, P>,
        lent: &dyn Lending,
        handler: impl FnOnce() -> Result<T, E>,
    ) -> Result<T, E> {
        if !self.state().wants_events() {
            return handler();
        }
        let mut handler = Some(handler);
        lane::emit(self.state(), &event, (false, Some(lent)), || handler.take().map(|handler| handler()))
    }

    /// The same for a handler that can be run more than once, so that a person may have the event delivered again while it
    /// is being handled. What the handler did up to then stays done, unless it undoes that itself when it begins.
    ///
    /// # Errors
    /// Those of the last run of `handler`, unchanged.
    #[inline]
    pub fn emit_repeatable<P: Payload, T, E: Display>(
        &self,
        event: Event<'_, P>,
        mut handler: impl FnMut() -> Result<T, E>,
    ) -> Result<T, E> {
        if !self.state().wants_events() {
            return handler();
        }
        lane::emit(self.state(), &event, (true, None), || Some(handler()))
    }

    /// Raises an event whose handler is asynchronous: awaits `handler`, and lets whoever is attached stop there. Whatever other
    /// tasks do while it waits is none of its business; its subject and payload, budgets and conditions, and steps that begin in
    /// it, go on with it. With nobody attached, each poll costs one relaxed load more than that of `handler`.
    ///
    /// A context that stops holds the thread that polls it, and with it every task that is to run on that thread. Where tasks
    /// move between threads, poll it by [`LuaContext::enter_async`](crate::LuaContext::enter_async), and have coroutines resumed
    /// by `LuaContext::resume_async` where a step is to know its task.
    ///
    /// # Errors
    /// Those of `handler`, unchanged; they are shown to whoever is attached.
    ///
    /// ```
    /// use adzeman::{Event, Host, Listen};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// # let executor = |work: std::pin::Pin<Box<dyn Future<Output = Result<u32, String>>>>| {
    /// #     let (mut work, mut cx) = (work, std::task::Context::from_waker(std::task::Waker::noop()));
    /// #     loop { if let std::task::Poll::Ready(done) = work.as_mut().poll(&mut cx) { return done; } }
    /// # };
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let saving = async move {
    ///     let event = Event::of("record.save").subject(("passage", 118));
    ///     host.emit_async(event, async { Ok::<_, String>(118) }).await
    /// };
    /// assert_eq!(executor(Box::pin(saving))?, 118);
    /// # Ok(())
    /// # }
    /// ```
    pub async fn emit_async<P: Payload, T, E: Display>(
        &self,
        event: Event<'_, P>,
        handler: impl Future<Output = Result<T, E>>,
    ) -> Result<T, E> {
        let (mut handler, mut progress) = (pin!(handler), lane::Progress::default());
        poll_fn(|cx| {
            let mut poll = || handler.as_mut().poll(cx);
            if !self.state().wants_events() {
                progress.pass_unseen();
                return poll();
            }
            lane::emit_bit(self.state(), &event, &mut progress, poll)
        })
        .await
    }

    /// A safe point between events: does what sessions wait for. Call it in long pauses, such as a menu.
    pub fn poll(&self) {
        if self.state().wants_events() {
            lane::poll(self.state());
        }
    }

    /// Opens a session within the process, without a socket, speaking the same protocol. Whatever a person can look at from
    /// outside, a program can from here.
    ///
    /// # Errors
    /// When no thread can be started for it.
    ///
    /// ```
    /// use adzeman::dap::{Decoder, Message, Request, encode};
    /// use adzeman::{Host, Listen, LuaContext};
    /// use std::io::{Read, Write};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let lua = mlua::Lua::new();
    /// let context = LuaContext::attach(&host, &lua, "keeper")?;
    /// context.load("keeper.lua", "boats = {{name = 'Heron', length = 24}}")?.call::<()>(())?;
    ///
    /// let (mut reader, mut writer) = host.connect()?;
    /// let asking = std::thread::spawn(move || {
    ///     for (seq, command, arguments) in [
    ///         (1, "initialize", "{}"),
    ///         (2, "attach", "{}"),
    ///         (3, "adzeman/table", r#"{"expression": "boats"}"#),
    ///     ] {
    ///         let arguments = serde_json::from_str(arguments).ok();
    ///         let request = Request { seq, command: command.to_owned(), arguments };
    ///         writer.write_all(&encode(&Message::Request(request)).unwrap()).unwrap();
    ///     }
    ///     let (mut decoder, mut chunk) = (Decoder::default(), [0; 4096]);
    ///     loop {
    ///         while let Some((message, _)) = decoder.next_message().unwrap() {
    ///             if let Message::Response(response) = message
    ///                 && response.request_seq == 3
    ///             {
    ///                 return response.body.unwrap();
    ///             }
    ///         }
    ///         let count = reader.read(&mut chunk).unwrap();
    ///         decoder.push(&chunk[..count]);
    ///     }
    /// });
    /// while !asking.is_finished() {
    ///     host.poll();
    /// }
    /// let table = asking.join().unwrap();
    /// assert_eq!(table["columns"], serde_json::json!(["length", "name"]));
    /// assert_eq!(table["rows"][0]["cells"], serde_json::json!(["24", "\"Heron\""]));
    /// # Ok(())
    /// # }
    /// ```
    pub fn connect(&self) -> io::Result<(PipeReader, PipeWriter)> {
        self.state().opening.is_open.store(true, Ordering::Relaxed);
        let (mine, theirs) = Pipe::pair();
        session::start(self.state(), Line::of_pipe(theirs), Way::Chosen)?;
        Ok(mine)
    }
}
