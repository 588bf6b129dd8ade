//! What all threads of a host share: plain data behind locks that are held for moments.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::{
    Armed, Breakpoint, BreakpointSpec, BreakpointStore, HitRule, OwnerId, Resolved, Site, Status,
};
use adzeman_core::decide::Said;
use adzeman_core::evaluation::Limits;
use adzeman_core::source::SourceLine;

use adzeman_core::source::{Source, SourceFacts, SourceId, Sources, tail_agreement};
use adzeman_dap::events::{BreakpointBody, LoadedSourceBody, OutputBody};
use adzeman_dap::extra::{ROLE, RoleBody};

use crate::budget::Timer;
use crate::client::Client;
use crate::clock::Clock;
use crate::context::ContextShared;
use crate::discovery::{is_token, new_token};
use crate::hold::Go;
use crate::objects::Opened;
use crate::session::convert;
use crate::source_maps::{self, Given, MOST_GIVEN_BYTES, MOST_GIVEN_MAPS};

fn trouble_with_map(output: String) -> OutputBody {
    OutputBody { category: "important".to_owned(), output, ..OutputBody::default() }
}

/// Locks, whatever happened to another holder: all data here is valid between two statements.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

pub(crate) struct Shared {
    pub(crate) name: String,
    pub(crate) opened: Opened,
    pub(crate) clock: Arc<Clock>,
    /// How many clients are attached. Zero is what makes a host pay nothing.
    pub(crate) attached: AtomicUsize,
    pub(crate) closing: AtomicBool,
    sources: Mutex<Sources>,
    store: Mutex<BreakpointStore>,
    resolved: Mutex<Vec<Resolved>>,
    armed: Mutex<Arc<Armed>>,
    contexts: Mutex<Vec<Arc<ContextShared>>>,
    clients: Mutex<Vec<Arc<Client>>>,
    last_context: AtomicI64,
    last_owner: AtomicU64,
    last_monitor: AtomicU64,
    /// How many stops there were.
    pub(crate) stops: AtomicU64,
    /// Clients whose breakpoints are disarmed, all of them.
    disarmed: Mutex<HashSet<OwnerId>>,
    /// What each client calls a library.
    libraries: Mutex<HashMap<OwnerId, Library>>,
    /// Lines with breakpoints that are armed by watching lines, and why.
    watched: Mutex<HashMap<SourceLine, &'static str>>,
    /// Maps that clients gave, and what is wrong with maps.
    given_maps: Mutex<Vec<Given>>,
    map_troubles: Mutex<BTreeMap<String, String>>,
    timer: OnceLock<Timer>,
    /// What is asked of clients that come over TCP.
    token: Mutex<String>,
    /// Whether clients may only look.
    pub(crate) observers_only: bool,
    /// Whether anything was opened that someone could come by.
    pub(crate) is_open: AtomicBool,
    /// Scripts are held until this time for someone to attach, and whether the first line stops then.
    holding_out: Mutex<Option<(Instant, bool)>>,
    started: Instant,
    /// Whether a client has said that it is ready since the last time that none was attached.
    ready: AtomicBool,
    /// The client that may do more than look.
    controller: Mutex<Option<OwnerId>>,
    /// A client that vanished at a stop asked for it to be kept until then.
    keeps_stop_until: Mutex<Option<Instant>>,
    /// How much evaluations may take.
    limits: Mutex<Limits>,
    /// Whether someone looks for evaluations that cannot be interrupted.
    pub(crate) is_watched_over: Mutex<bool>,
}

impl Shared {
    pub(crate) fn new(name: String, opened: Opened, observers_only: bool) -> Self {
        Self {
            name,
            opened,
            clock: Arc::new(Clock::new()),
            attached: AtomicUsize::new(0),
            closing: AtomicBool::new(false),
            sources: Mutex::default(),
            store: Mutex::default(),
            resolved: Mutex::default(),
            armed: Mutex::default(),
            contexts: Mutex::default(),
            clients: Mutex::default(),
            last_context: AtomicI64::new(0),
            last_owner: AtomicU64::new(0),
            last_monitor: AtomicU64::new(0),
            stops: AtomicU64::new(0),
            disarmed: Mutex::default(),
            libraries: Mutex::default(),
            watched: Mutex::default(),
            given_maps: Mutex::default(),
            map_troubles: Mutex::default(),
            timer: OnceLock::new(),
            // Without randomness there is no token, and nobody comes in over TCP.
            token: Mutex::new(new_token().unwrap_or_default()),
            observers_only,
            is_open: AtomicBool::new(false),
            holding_out: Mutex::default(),
            started: Instant::now(),
            ready: AtomicBool::new(false),
            controller: Mutex::default(),
            keeps_stop_until: Mutex::default(),
            limits: Mutex::default(),
            is_watched_over: Mutex::default(),
        }
    }

    /// The client that controls, if one does.
    pub(crate) fn controller(&self) -> Option<OwnerId> {
        *lock(&self.controller)
    }

    /// Whether somebody controls, or is expected back: contexts are held for nobody else.
    pub(crate) fn is_controlled(&self) -> bool {
        self.controller().is_some() || lock(&self.keeps_stop_until).is_some_and(|until| Instant::now() < until)
    }

    /// Gives control to a client if nobody has it, or if it is to be taken over; answers whether the client has it now.
    pub(crate) fn take_control(&self, client: &Client, take_over: bool) -> bool {
        if self.observers_only {
            return false;
        }
        let before = {
            let mut controller = lock(&self.controller);
            if controller.is_some_and(|held| held != client.owner) && !take_over {
                return false;
            }
            controller.replace(client.owner)
        };
        *lock(&self.keeps_stop_until) = None;
        if let Some(before) = before.filter(|before| *before != client.owner) {
            // What the one before is waiting for holds the host for nobody.
            let clients = self.clients();
            clients.iter().filter(|held| held.owner == before).for_each(|held| held.inbox.cancel_current());
            self.tell_roles();
        }
        true
    }

    /// How much evaluations may take.
    pub(crate) fn limits(&self) -> Limits {
        *lock(&self.limits)
    }

    pub(crate) fn set_limits(&self, limits: Limits) {
        *lock(&self.limits) = limits;
    }

    /// Tells every client who controls now.
    fn tell_roles(&self) {
        let controller = self.controller();
        let clients = self.clients();
        let name = clients.iter().find(|client| Some(client.owner) == controller).map(|client| client.name());
        for client in clients.iter().filter(|client| client.is_attached()) {
            let role = if Some(client.owner) == controller { "control" } else { "observe" };
            client.event(ROLE, &RoleBody { role: role.to_owned(), controlled_by: name.clone() });
        }
    }

    pub(crate) fn token(&self) -> String {
        lock(&self.token).clone()
    }

    pub(crate) fn set_token(&self, token: String) {
        *lock(&self.token) = token;
    }

    /// Whether a client that came over TCP has the right token.
    pub(crate) fn is_token(&self, given: &str) -> bool {
        let right = self.token();
        !right.is_empty() && is_token(given, &right)
    }

    pub(crate) fn up_for(&self) -> Duration {
        self.started.elapsed()
    }

    /// Has scripts held, for at most `limit`, until someone is attached and ready; `stops` is whether their first line stops.
    pub(crate) fn hold_out(&self, limit: Duration, stops: bool) {
        *lock(&self.holding_out) = Instant::now().checked_add(limit).map(|until| (until, stops));
    }

    /// Until when scripts are held, and whether their first line stops then.
    pub(crate) fn holds_out(&self) -> Option<(Instant, bool)> {
        *lock(&self.holding_out)
    }

    /// Someone is there and ready, or the time is over.
    pub(crate) fn let_scripts_begin(&self) {
        self.ready.store(true, SeqCst);
        *lock(&self.holding_out) = None;
    }

    /// Whether someone is attached who has set what they want set.
    pub(crate) fn is_ready(&self) -> bool {
        self.is_attached() && self.ready.load(SeqCst)
    }

    pub(crate) fn is_attached(&self) -> bool {
        self.attached.load(SeqCst) > 0
    }

    pub(crate) fn sources(&self) -> MutexGuard<'_, Sources> {
        lock(&self.sources)
    }

    /// The thread that watches time budgets, started when it is first needed.
    pub(crate) fn timer(&self) -> &Timer {
        self.timer.get_or_init(|| Timer::start(self.clock.clone()))
    }

    pub(crate) fn armed(&self) -> Arc<Armed> {
        lock(&self.armed).clone()
    }

    pub(crate) fn kind_names(&self) -> Vec<String> {
        self.opened.kinds.iter().map(|kind| kind.name.clone()).collect()
    }

    pub(crate) fn next_context_id(&self) -> i64 {
        self.last_context.fetch_add(1, SeqCst) + 1
    }

    pub(crate) fn next_owner(&self) -> OwnerId {
        OwnerId(self.last_owner.fetch_add(1, SeqCst) + 1)
    }

    pub(crate) fn next_monitor(&self) -> u64 {
        self.last_monitor.fetch_add(1, SeqCst) + 1
    }

    pub(crate) fn contexts(&self) -> Vec<Arc<ContextShared>> {
        lock(&self.contexts).clone()
    }

    pub(crate) fn context(&self, id: i64) -> Option<Arc<ContextShared>> {
        lock(&self.contexts).iter().find(|context| context.id == id).cloned()
    }

    pub(crate) fn add_context(&self, context: Arc<ContextShared>) {
        let id = context.id;
        lock(&self.contexts).push(context);
        self.tell("thread", &convert::thread_event("started", id));
    }

    pub(crate) fn remove_context(&self, id: i64) {
        lock(&self.contexts).retain(|context| context.id != id);
        self.tell("thread", &convert::thread_event("exited", id));
    }

    pub(crate) fn clients(&self) -> Vec<Arc<Client>> {
        lock(&self.clients).clone()
    }

    /// Adds a client that has not attached yet, unless `most` came its way already.
    pub(crate) fn add_client(&self, client: Arc<Client>, most: usize) -> bool {
        let mut clients = lock(&self.clients);
        let waiting = clients.iter().filter(|held| held.way == client.way && !held.is_attached()).count();
        let fits = waiting < most && !self.closing.load(SeqCst);
        if fits {
            clients.push(client);
        }
        fits
    }

    /// Counts a client as attached, unless `most` that came its way are.
    pub(crate) fn admit(&self, client: &Client, most: usize) -> bool {
        let clients = lock(&self.clients);
        let attached = clients.iter().filter(|held| held.way == client.way && held.is_attached()).count();
        // One that was taken off already, because the host closes, does not come back.
        let fits = attached < most && clients.iter().any(|held| held.owner == client.owner);
        if fits {
            client.set_attached(true);
            self.attached.fetch_add(1, SeqCst);
        }
        fits
    }

    /// Forgets a client: its breakpoints go, and when it controlled, every stop is released. One that vanished may have asked
    /// for its stop to be kept for a while.
    pub(crate) fn remove_client(&self, client: &Client, has_vanished: bool) {
        let was_attached = {
            // Under this lock, so that it is counted once, however often it is taken off.
            let mut clients = lock(&self.clients);
            clients.retain(|held| held.owner != client.owner);
            let was_attached = client.is_attached();
            client.set_attached(false);
            was_attached
        };
        lock(&self.store).remove_owner(client.owner);
        self.forget_maps_of(client.owner);
        lock(&self.disarmed).remove(&client.owner);
        lock(&self.libraries).remove(&client.owner);
        let controlled = {
            let mut controller = lock(&self.controller);
            let controlled = *controller == Some(client.owner);
            if controlled {
                *controller = None;
            }
            controlled
        };
        if controlled {
            self.set_limits(Limits::default());
        }
        let keep = client.keeps_stop_for();
        if controlled && has_vanished && !keep.is_zero() {
            *lock(&self.keeps_stop_until) = Instant::now().checked_add(keep);
        }
        // Not before control is free: whoever comes when nobody is attached gets it.
        if was_attached && self.attached.fetch_sub(1, SeqCst) == 1 {
            self.ready.store(false, SeqCst);
        }
        self.rearm();
        if controlled {
            self.tell_roles();
        }
        if was_attached && !self.is_controlled() {
            self.contexts().iter().for_each(|context| context.let_go(context.standing.stop(), Go::Freely));
        }
    }

    /// Sends an event to every attached client.
    pub(crate) fn tell<T: serde::Serialize>(&self, event: &str, body: &T) {
        for client in self.clients().iter().filter(|client| client.is_attached()) {
            client.event(event, body);
        }
    }

    /// Finds the map of a source that was compiled from something else. A broken one is told of, and ignored.
    fn map_source(&self, id: SourceId) {
        let source = self.sources().get(id).cloned();
        let Some((source, text)) = source.and_then(|source| Some((source.clone(), source.facts.text.clone()?))) else {
            return;
        };
        let name = &source.facts.name;
        let given =
            lock(&self.given_maps).iter().find(|given| belongs_to(name, &given.path)).map(|given| given.of(name));
        let found = given.or_else(|| source_maps::find(name, &text));
        match found {
            Some(Ok(map)) => {
                lock(&self.map_troubles).remove(name);
                self.sources().set_map(id, map);
            }
            Some(Err(why)) => {
                let trouble = format!("the source map of {name} cannot be used: {why}; its own lines are shown\n");
                self.tell("output", &trouble_with_map(trouble.clone()));
                let mut troubles = lock(&self.map_troubles);
                if troubles.len() < MOST_GIVEN_MAPS {
                    troubles.insert(name.clone(), trouble);
                }
            }
            None => {}
        }
    }

    /// Takes the map of a script from a client, if there are not too many; sources that are loaded already are mapped anew.
    pub(crate) fn give_map(&self, owner: OwnerId, path: String, map: &str) -> bool {
        let mut given = lock(&self.given_maps);
        // The last one for a path is the one that counts.
        given.retain(|held| held.path != path);
        let bytes: usize = given.iter().map(|held| held.bytes).sum();
        if given.len() >= MOST_GIVEN_MAPS || bytes + map.len() > MOST_GIVEN_BYTES {
            return false;
        }
        given.push(Given::read(owner, path.clone(), map));
        drop(given);
        self.sources_of(&path).into_iter().for_each(|id| self.map_source(id));
        self.rearm();
        true
    }

    /// The newest sources that a path means.
    fn sources_of(&self, path: &str) -> Vec<SourceId> {
        let sources = self.sources();
        let newest = sources.newest();
        newest.iter().filter(|source| belongs_to(&source.facts.name, path)).map(|source| source.id).collect()
    }

    /// Forgets the maps that a client gave; scripts that have one of their own are shown by that.
    fn forget_maps_of(&self, owner: OwnerId) {
        let gone: Vec<Given> = lock(&self.given_maps).extract_if(.., |held| held.owner == owner).collect();
        for id in gone.iter().flat_map(|held| self.sources_of(&held.path)) {
            self.sources().forget_map(id);
            self.map_source(id);
        }
    }

    /// What is wrong with maps of sources that are loaded already.
    pub(crate) fn map_troubles(&self) -> Vec<OutputBody> {
        lock(&self.map_troubles).values().cloned().map(trouble_with_map).collect()
    }

    /// Takes a source that an engine loaded; breakpoints that waited for it bind.
    pub(crate) fn add_source(&self, facts: SourceFacts) -> SourceId {
        let (id, is_new) = {
            let mut sources = self.sources();
            let before = sources.newest().len();
            let known = sources.named(&facts.name).map(|source| source.id);
            let id = sources.add(facts);
            (id, known != Some(id) || sources.newest().len() != before)
        };
        if is_new {
            self.map_source(id);
        }
        if is_new && self.is_attached() {
            let source = self.sources().get(id).map(|source| convert::source(source));
            if let Some(source) = source {
                self.tell("loadedSource", &LoadedSourceBody { reason: "new".to_owned(), source });
            }
        }
        // Breakpoints may have been set by a client that is yet to attach.
        if is_new && !lock(&self.store).is_empty() {
            self.rearm();
        }
        id
    }

    /// Removes all breakpoints of a client.
    pub(crate) fn remove_breakpoints_of(&self, owner: OwnerId) {
        lock(&self.store).remove_owner(owner);
        self.rearm();
    }

    /// Replaces the breakpoints of a client that `covers` picks out.
    pub(crate) fn set_breakpoints(
        &self,
        owner: OwnerId,
        covers: impl Fn(&Site) -> bool,
        specs: Vec<BreakpointSpec>,
    ) -> Vec<Arc<Breakpoint>> {
        let set = lock(&self.store).replace(owner, covers, specs);
        self.rearm();
        set
    }

    /// Adds a breakpoint that goes at the next stop.
    pub(crate) fn add_temporary(&self, owner: OwnerId, site: Site, hits: HitRule) -> Status {
        let spec = BreakpointSpec { hits, temporary: true, ..BreakpointSpec::at(site) };
        let added = lock(&self.store).add(owner, spec);
        self.rearm();
        let resolved = self.resolved().into_iter().find(|now| now.breakpoint.id == added.id);
        resolved.map_or(Status::Bound(Vec::new()), |now| now.status)
    }

    /// Removes the breakpoints that were set for one run only.
    pub(crate) fn end_temporary(&self) {
        let had_some = lock(&self.store).remove_temporary();
        if had_some {
            self.rearm();
        }
    }

    /// Arms the breakpoints of a client, or disarms all of them.
    pub(crate) fn set_armed(&self, owner: OwnerId, armed: bool) {
        let changed = if armed { lock(&self.disarmed).remove(&owner) } else { lock(&self.disarmed).insert(owner) };
        if changed {
            self.rearm();
        }
    }

    /// Takes what a client calls a library.
    pub(crate) fn set_library(&self, owner: OwnerId, library: Library) {
        lock(&self.libraries).insert(owner, library);
        self.rearm();
    }

    /// The sources that steps pass over.
    fn library(&self) -> HashSet<SourceId> {
        let libraries = lock(&self.libraries);
        let sources = self.sources();
        let newest = sources.newest();
        let is_held = |source: &&&Arc<Source>| {
            let originals: Vec<_> = sources.originals(source.id).collect();
            libraries.values().any(|library| library.holds(&source.facts.name, &originals))
        };
        newest.iter().filter(is_held).map(|source| source.id).collect()
    }

    /// How breakpoints bind now.
    pub(crate) fn resolved(&self) -> Vec<Resolved> {
        lock(&self.resolved).clone()
    }

    /// Binds all breakpoints anew, has every context take notice, and tells clients of what changed.
    pub(crate) fn rearm(&self) {
        let syntax = self.contexts().first().map(|context| context.syntax.clone());
        let find_uses =
            |text: &str, name: &str| syntax.as_ref().map(|syntax| syntax.uses_of(text, name)).unwrap_or_default();
        let library = self.library();
        // Held throughout: of two who arm at once, the one who saw more sources or breakpoints must come last.
        let mut last = lock(&self.resolved);
        let resolved = lock(&self.store).resolve(&self.sources(), &self.kind_names(), &find_uses);
        let armed = {
            let disarmed = lock(&self.disarmed);
            let is_armed = |held: &&Resolved| !disarmed.contains(&held.breakpoint.owner);
            Armed::new(&resolved.iter().filter(is_armed).cloned().collect::<Vec<_>>(), library)
                .with_maps(self.sources().maps().clone())
        };
        *lock(&self.armed) = Arc::new(armed);
        let before = std::mem::replace(&mut *last, resolved.clone());
        drop(last);
        for context in self.contexts() {
            context.interrupt();
        }
        for now in &resolved {
            let held = before.iter().find(|held| held.breakpoint.id == now.breakpoint.id);
            if held.is_some_and(|held| held.status != now.status) {
                self.tell_owner(now);
            }
        }
    }

    /// Notes how a line is armed.
    pub(crate) fn note_armed(&self, place: SourceLine, watched_because: Option<&'static str>) {
        let mut watched = lock(&self.watched);
        match watched_because {
            Some(why) => watched.insert(place, why),
            None => watched.remove(&place),
        };
    }

    /// Why a line is armed by watching lines, if it is.
    pub(crate) fn watched_because(&self, place: SourceLine) -> Option<&'static str> {
        lock(&self.watched).get(&place).copied()
    }

    /// Sends what a breakpoint said to the client that set it.
    pub(crate) fn tell_said(&self, said: &Said) {
        let place = said.place.map(|place| self.sources().shown(place));
        let source = place.and_then(|place| self.sources().get(place.source).map(|held| convert::source(held)));
        let clients = self.clients();
        for client in clients.iter().filter(|client| client.owner == said.owner && client.is_attached()) {
            client.event(
                "output",
                &OutputBody {
                    category: if said.is_trouble { "important" } else { "console" }.to_owned(),
                    output: format!("{}\n", said.text),
                    source: source.clone(),
                    line: place.map(|place| convert::line_number(place.line, client.line_base())),
                    bell: said.rings.then_some(true),
                },
            );
        }
    }

    fn tell_owner(&self, resolved: &Resolved) {
        for client in self.clients().iter().filter(|client| client.owner == resolved.breakpoint.owner) {
            let breakpoint =
                convert::breakpoint(resolved, &self.sources(), client.line_base(), |place| self.watched_because(place));
            client.event("breakpoint", &BreakpointBody { reason: "changed".to_owned(), breakpoint });
        }
    }
}

/// What a client calls a library: some sources, or all but its own.
#[derive(Debug, Default)]
pub(crate) struct Library {
    pub(crate) paths: Vec<String>,
    pub(crate) own: Vec<String>,
}

impl Library {
    /// Whether a source, with what it was written as, is in it. A compiled one is one's own if some of it is.
    fn holds(&self, name: &str, originals: &[&str]) -> bool {
        let is_in = |paths: &[String], name: &str| paths.iter().any(|path| belongs_to(name, path));
        let is_own = is_in(&self.own, name) || originals.iter().any(|name| is_in(&self.own, name));
        let is_passed =
            is_in(&self.paths, name) || !originals.is_empty() && originals.iter().all(|name| is_in(&self.paths, name));
        is_passed || !self.own.is_empty() && !is_own
    }
}

/// Whether a source is named by `path`: the end of its name, or with a slash at the end, a folder that it is in.
fn belongs_to(name: &str, path: &str) -> bool {
    match path.strip_suffix(['/', '\\']) {
        Some(folder) => {
            let name = name.replace('\\', "/");
            let folder = folder.replace('\\', "/");
            name.starts_with(&format!("{folder}/")) || name.contains(&format!("/{folder}/"))
        }
        None => tail_agreement(name, path).is_some(),
    }
}
