//! A host while it runs: the parts of its state, its contexts, and what concerns more than one of them.

use std::collections::{HashMap, HashSet};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Mutex, OnceLock, Weak};
use std::thread;
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::{Breakpoint, BreakpointId, Rebound};
use adzeman_core::breakpoint::{BreakpointSpec, HitRule, OwnerId, Site, Status};
use adzeman_core::decide::Said;
use adzeman_core::engine::Syntax;
use adzeman_core::evaluation::Limits;
use adzeman_core::host::Data;
use adzeman_core::source::{Language, NameUse, Source, SourceFacts, SourceId};
use adzeman_core::trail::{self, Speaker};
use crossbeam_channel::{Receiver, Sender, bounded};

use super::again::RecordedEvent;
use super::budget::Timer;
use super::hold::Go;
use super::link::ContextLink;
use super::mail::Mail;
use super::monitors::Monitors;
use super::recording::note_said;
use crate::discovery::{is_token, new_token};
use crate::object::Opened;
use crate::state::breakpoints::{Breakpoints, Library};
use crate::state::clients::{Client, Clients, Way, Work};
use crate::state::clock::Clock;
use crate::state::figures::Figures;
use crate::state::lock;
use crate::state::notice::{Notice, Text, Tone};
use crate::state::sources::SourceBook;
use crate::state::standing::RunState;
use crate::state::trail::{KeepTrail, TrailBook};

/// Between two times that the trail is written: so often what writing took, and at least this long.
const TRAIL_PAUSE: u32 = 50;
const TRAIL_PAUSE_AT_LEAST: Duration = Duration::from_millis(500);

/// What breakpoints have to be bound anew for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Changed {
    /// This source is new.
    Source(SourceId),
    /// The breakpoints of this client, or whether they are armed.
    Client(OwnerId),
    /// What this client calls a library.
    Library(OwnerId),
    /// Maps of sources.
    Maps,
    /// Breakpoints that were set for one run are gone.
    Temporary,
}

impl Changed {
    /// Which breakpoints may bind otherwise then.
    fn rebound(self) -> Rebound {
        match self {
            Self::Source(new) => Rebound::By(new),
            Self::Client(_) | Self::Temporary => Rebound::New,
            Self::Library(_) | Self::Maps => Rebound::All,
        }
    }
}

/// The contexts of a host, on whatever thread they are.
#[derive(Default)]
pub(crate) struct Contexts {
    all: Mutex<Vec<Arc<ContextLink>>>,
    last: AtomicI64,
    /// How often one was closed, or came to another thread.
    changes: AtomicU64,
    /// How often one was to take notice of something.
    attention: Arc<AtomicU64>,
    /// How many have something to do at each event.
    occupied: AtomicUsize,
}

impl Contexts {
    pub(crate) fn all(&self) -> Vec<Arc<ContextLink>> {
        lock(&self.all).clone()
    }

    pub(crate) fn get(&self, id: i64) -> Option<Arc<ContextLink>> {
        lock(&self.all).iter().find(|context| context.id == id).cloned()
    }

    /// Which stop holds a context: its own, or that of another one of its thread; 0 where it waits until someone attaches. None
    /// for one that runs.
    pub(crate) fn held_by(&self, context: &ContextLink) -> Option<u64> {
        let own = (context.standing.state() != RunState::Running).then(|| context.standing.stop());
        own.or_else(|| {
            let all = lock(&self.all);
            let held = all.iter().filter(|other| other.lane() == context.lane() && other.is_stopped());
            held.map(|other| other.standing.stop()).max()
        })
    }

    /// Each context, with the one that stopped on its thread.
    pub(crate) fn with_holders(&self) -> Vec<(Arc<ContextLink>, Option<Arc<ContextLink>>)> {
        let all = self.all();
        let stopped = all.iter().filter(|context| context.is_stopped());
        let holders: HashMap<_, _> = stopped.map(|context| (context.lane(), context.clone())).collect();
        all.into_iter().map(|context| (context.clone(), holders.get(&context.lane()).cloned())).collect()
    }

    /// Whether every context is held, by stops of its own thread.
    pub(super) fn are_all_held(&self) -> bool {
        let all = lock(&self.all);
        let lanes: HashSet<_> = all.iter().filter(|context| context.is_stopped()).map(|held| held.lane()).collect();
        all.iter().all(|context| lanes.contains(&context.lane()))
    }

    /// Whether no other context will be held by a stop of its own once this one goes on.
    pub(crate) fn is_last_stopped(&self, id: i64) -> bool {
        lock(&self.all).iter().all(|other| other.id == id || other.standing.is_going())
    }

    /// The languages of those that are open, each once; only this one, if it is among them.
    pub(crate) fn syntaxes(&self, only: Option<Language>) -> Vec<Arc<dyn Syntax>> {
        let mut found: Vec<Arc<dyn Syntax>> = Vec::new();
        for context in lock(&self.all).iter() {
            let language = context.syntax.language();
            let is_wanted = only.is_none_or(|only| only.name == language.name);
            if is_wanted && found.iter().all(|held| held.language().name != language.name) {
                found.push(context.syntax.clone());
            }
        }
        found
    }

    /// Where the text of a source uses a name, as far as a context of its language is open.
    fn uses_of(&self, source: &Source, name: &str) -> Vec<NameUse> {
        let syntax = self.syntaxes(Some(source.facts.language)).into_iter().next();
        let text = source.text();
        syntax.zip(text).map(|(syntax, text)| syntax.uses_of(text, name)).unwrap_or_default()
    }

    /// A name for a new one: the one that is wanted, with a number behind it if another one that is open has it.
    pub(crate) fn own_name(&self, wanted: &str) -> String {
        let taken: HashSet<_> = lock(&self.all).iter().map(|context| context.name.clone()).collect();
        if !taken.contains(wanted) {
            return wanted.to_owned();
        }
        let mut numbered = (2_u64..).map(|number| format!("{wanted} ({number})"));
        numbered.find(|name| !taken.contains(name)).unwrap_or_else(|| wanted.to_owned())
    }

    /// A number for the next one.
    pub(crate) fn next_id(&self) -> i64 {
        self.last.fetch_add(1, SeqCst) + 1
    }

    /// How often one was closed, or came to another thread.
    pub(super) fn changes(&self) -> u64 {
        self.changes.load(SeqCst)
    }

    /// What a lane compares by to see that there is news: how often one was to take notice of something, and
    /// [changed](Self::changes).
    pub(super) fn news(&self) -> (u64, u64) {
        (self.attention.load(SeqCst), self.changes())
    }

    /// What those count by who have one take notice.
    pub(super) fn attention_counter(&self) -> Arc<AtomicU64> {
        self.attention.clone()
    }

    /// Whether any has something to do at each event.
    pub(super) fn any_occupied(&self) -> bool {
        self.occupied.load(SeqCst) > 0
    }

    /// One more has, or one less.
    pub(super) fn note_occupied(&self, more: bool) {
        if more {
            self.occupied.fetch_add(1, SeqCst)
        } else {
            self.occupied.fetch_sub(1, SeqCst)
        };
    }

    /// One is closed, or comes to another thread.
    pub(super) fn note_change(&self) {
        self.changes.fetch_add(1, SeqCst);
    }
}

/// Whether scripts are held until someone is there.
#[derive(Default)]
pub(crate) struct Opening {
    /// Whether anything was opened that someone could come by.
    pub(crate) is_open: AtomicBool,
    /// Whether scripts are held for someone to attach.
    holding_out: Mutex<Option<HoldingOut>>,
    /// What is asked of clients that come over TCP.
    token: Mutex<String>,
}

/// That scripts are held until someone is attached and ready.
#[derive(Debug, Clone, Copy)]
pub(crate) struct HoldingOut {
    until: Instant,
    /// Whether the first line stops then.
    pub(crate) stops: bool,
    /// Whether a context has met it.
    is_met: bool,
    /// Whether someone was ready before that: the first context that meets it need not wait, and is the last to meet it.
    is_over: bool,
}

impl HoldingOut {
    /// For how long at most a context is held.
    pub(crate) fn limit(&self) -> Duration {
        if self.is_over { Duration::ZERO } else { self.until.saturating_duration_since(Instant::now()) }
    }
}

impl Opening {
    /// Has scripts held, for at most `limit`, until someone is attached and ready; `stops` is whether their first line stops.
    pub(crate) fn hold_out(&self, limit: Duration, stops: bool) {
        let holding = |until| HoldingOut { until, stops, is_met: false, is_over: false };
        *lock(&self.holding_out) = Instant::now().checked_add(limit).map(holding);
    }

    /// How scripts are held, as a context meets it that is opened now.
    pub(crate) fn meet(&self) -> Option<HoldingOut> {
        let mut held = lock(&self.holding_out);
        let met = held.as_mut().map(|held| {
            held.is_met = true;
            *held
        });
        held.take_if(|held| held.is_over);
        met
    }

    /// Someone is there and ready, or the time is over.
    fn let_scripts_begin(&self) {
        let mut held = lock(&self.holding_out);
        held.take_if(|held| held.is_met);
        if let Some(held) = &mut *held {
            held.is_over = true;
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
}

/// A host while it runs.
pub(crate) struct HostState {
    pub(crate) name: String,
    pub(crate) opened: Arc<Opened>,
    pub(crate) clock: Arc<Clock>,
    pub(crate) clients: Clients,
    pub(crate) sources: SourceBook,
    pub(crate) breakpoints: Breakpoints,
    pub(crate) contexts: Contexts,
    pub(crate) opening: Opening,
    pub(crate) closing: AtomicBool,
    started: Instant,
    /// How many stops there were.
    pub(crate) stops: AtomicU64,
    /// How many outermost events there were while someone was attached.
    pub(super) events: AtomicU64,
    pub(crate) monitors: Monitors,
    pub(crate) trail: TrailBook,
    pub(crate) figures: Figures,
    /// Writes the trail, once there was a reason to.
    trail_writer: OnceLock<Sender<String>>,
    /// Who delivers events of the trail once more, by their kinds.
    again: Mutex<HashMap<String, Sender<RecordedEvent>>>,
    timer: OnceLock<Timer>,
    /// What watched parts of host objects hold.
    pub(super) watched: Mutex<Watched>,
    pub(super) evaluating: Evaluating,
    /// Kinds of events that were raised and not declared, as far as that was said.
    undeclared: Mutex<HashSet<String>>,
}

/// What is said of evaluations, wherever they run.
#[derive(Default)]
pub(crate) struct Evaluating {
    /// How much they may take.
    limits: Mutex<Limits>,
    /// Whether someone looks for those that cannot be interrupted.
    pub(super) is_watched_over: Mutex<bool>,
}

/// What watched parts of host objects held last, and who may have changed them: all threads look at the same.
#[derive(Default)]
pub(super) struct Watched {
    pub(super) values: HashMap<BreakpointId, Data>,
    /// The event that was handled last, in words.
    pub(super) last_event: Option<String>,
    /// Outermost handlers that run at this moment, and how many have begun in all.
    pub(super) running: usize,
    pub(super) begun: u64,
}

/// Writes the trail whenever that is wanted, as long as the host is there. It takes no more than its share of the time.
fn write_trail(wanted: &Receiver<String>, host: &Weak<HostState>) {
    while let Ok(why) = wanted.recv() {
        let begun = Instant::now();
        let Some(host) = host.upgrade() else { return };
        host.trail.write(&host.name, &why);
        drop(host);
        thread::sleep((begun.elapsed() * TRAIL_PAUSE).max(TRAIL_PAUSE_AT_LEAST));
    }
}

impl HostState {
    pub(crate) fn new(name: String, opened: Opened, observers_only: bool) -> Self {
        let opening = Opening::default();
        // Without randomness there is no token, and nobody comes in over TCP.
        opening.set_token(new_token().unwrap_or_default());
        Self {
            name,
            opened: Arc::new(opened),
            undeclared: Mutex::default(),
            clock: Arc::new(Clock::new()),
            clients: Clients::new(observers_only),
            sources: SourceBook::default(),
            breakpoints: Breakpoints::default(),
            contexts: Contexts::default(),
            opening,
            closing: AtomicBool::new(false),
            started: Instant::now(),
            stops: AtomicU64::new(0),
            watched: Mutex::default(),
            events: AtomicU64::new(0),
            monitors: Monitors::default(),
            trail: TrailBook::default(),
            figures: Figures::default(),
            trail_writer: OnceLock::new(),
            again: Mutex::default(),
            timer: OnceLock::new(),
            evaluating: Evaluating::default(),
        }
    }

    /// An event of this kind is raised while someone is attached: they can find it only if it was declared.
    pub(super) fn note_kind(&self, kind: &str) {
        if self.opened.kind(kind).is_some() {
            return;
        }
        {
            let mut told = lock(&self.undeclared);
            if told.contains(kind) {
                return;
            }
            told.insert(kind.to_owned());
        }
        tracing::warn!(kind, "an event is raised whose kind the host has not declared");
        let text = format!(
            "{} raises '{kind}', a kind of event that it has not declared: breakpoints on it work, and nothing lists it\n",
            self.name
        );
        self.clients.tell(Notice::text(Tone::Important, text));
    }

    /// Keeps the trail also while nobody is attached.
    pub(crate) fn keep_trail(&self, asked: KeepTrail) {
        self.trail.keep(asked);
        self.clients.note_reason(true);
    }

    /// Events of this kind are delivered once more by whoever takes them from there.
    pub(super) fn take_again(&self, kind: &str, by: Sender<RecordedEvent>) {
        lock(&self.again).insert(kind.to_owned(), by);
    }

    /// Has an event of the trail delivered once more; whether the host does that with its kind.
    pub(crate) fn ask_again(&self, entry: &trail::Entry) -> bool {
        let event = RecordedEvent {
            number: entry.number,
            kind: entry.event.clone(),
            subject: entry.subject.clone(),
            payload: entry.payload.clone(),
        };
        let by = lock(&self.again).get(&entry.event).cloned();
        by.is_some_and(|by| by.send(event).is_ok())
    }

    /// Whether events are asked for to keep the trail, and for nothing else.
    pub(super) fn only_keeps_trail(&self) -> bool {
        self.trail.is_always_kept() && self.clients.reasons() == 1
    }

    /// Has the trail written where it was asked to be, by a thread of its own.
    pub(super) fn write_trail_soon(host: &Arc<Self>, why: String) {
        if host.trail.file().is_none() {
            return;
        }
        let writer = host.trail_writer.get_or_init(|| {
            let (sender, wanted) = bounded(1);
            let host = Arc::downgrade(host);
            let started =
                thread::Builder::new().name("adzeman-trail".to_owned()).spawn(move || write_trail(&wanted, &host));
            if let Err(error) = started {
                tracing::error!(%error, "the trail is written when the host ends: no thread could be started");
            }
            sender
        });
        // One that is wanted already comes after this, too.
        let _ = writer.try_send(why);
    }

    pub(crate) fn up_for(&self) -> Duration {
        self.started.elapsed()
    }

    /// Whether anyone is attached.
    #[inline]
    pub(crate) fn is_attached(&self) -> bool {
        self.clients.is_any_attached()
    }

    /// Whether there is any reason to be told of events.
    #[inline]
    pub(crate) fn wants_events(&self) -> bool {
        self.clients.has_reason()
    }

    /// How much evaluations may take.
    pub(crate) fn limits(&self) -> Limits {
        *lock(&self.evaluating.limits)
    }

    pub(crate) fn set_limits(&self, limits: Limits) {
        *lock(&self.evaluating.limits) = limits;
    }

    /// Someone is there and ready, or the time is over.
    pub(crate) fn let_scripts_begin(&self) {
        self.clients.is_now_ready();
        self.opening.let_scripts_begin();
    }

    /// The thread that watches time budgets, started when it is first needed.
    pub(crate) fn timer(&self) -> &Timer {
        self.timer.get_or_init(|| Timer::start(self.clock.clone()))
    }

    pub(crate) fn add_context(&self, context: Arc<ContextLink>) {
        let id = context.id;
        lock(&self.contexts.all).push(context);
        self.contexts.note_change();
        self.clients.tell(Notice::Context { id, is_open: true });
    }

    pub(crate) fn remove_context(&self, id: i64) {
        lock(&self.contexts.all).retain(|context| context.id != id);
        self.figures.context_gone(id);
        self.trail.context_gone(id);
        self.are_gone(&self.sources.release_all(id));
        self.clients.tell(Notice::Context { id, is_open: false });
    }

    /// Puts a job where its context is now; with a context that is gone, it goes.
    pub(super) fn forward(&self, mail: Mail) {
        if let Some(context) = self.contexts.get(mail.context) {
            context.post(mail);
        }
    }

    /// Adds a client that has not attached yet, unless too many came its way already, or the host ends.
    pub(crate) fn add_client(&self, way: Way, work: Arc<dyn Work>) -> Option<Arc<Client>> {
        if self.closing.load(SeqCst) {
            return None;
        }
        self.clients.add(way, work)
    }

    /// Forgets a client: all that it set goes, and when it controlled, every stop is released. One that vanished may have asked
    /// for its stop to be kept for a while.
    pub(crate) fn remove_client(&self, client: &Client, has_vanished: bool) {
        let gone = self.clients.remove(client, has_vanished, |controlled| {
            self.breakpoints.forget_client(client.owner);
            self.sources.forget_maps_of(client.owner).into_iter().for_each(|id| self.map_source(id));
            if controlled {
                self.set_limits(Limits::default());
            }
        });
        if !self.is_attached() {
            self.trail.is_left();
            self.figures.is_left();
        }
        // With it go its maps, and what it called a library.
        self.rebind(Changed::Maps);
        if gone.releases {
            self.contexts.all().iter().for_each(|context| context.let_go(context.standing.stop(), Go::Freely, None));
        }
    }

    /// Finds the map of a source that was compiled from something else. A broken one is told of, and ignored.
    fn map_source(&self, id: SourceId) {
        if let Some(trouble) = self.sources.map(id) {
            self.clients.tell(Notice::text(Tone::Important, trouble));
        }
    }

    /// Takes the map of a script from a client, if there are not too many; sources that are loaded already are mapped anew.
    pub(crate) fn give_map(&self, owner: OwnerId, path: String, map: &str) -> bool {
        let Some(ids) = self.sources.give_map(owner, path, map) else { return false };
        ids.into_iter().for_each(|id| self.map_source(id));
        self.rebind(Changed::Maps);
        true
    }

    /// Takes a source that an engine loaded; breakpoints that waited for it bind.
    pub(crate) fn add_source(&self, facts: SourceFacts, context: i64) -> SourceId {
        let (id, new) = self.sources.add(facts, context);
        let Some(unbound) = new else { return id };
        self.map_source(id);
        self.clients.tell(Notice::Source(id));
        // Breakpoints may have been set by a client that is yet to attach.
        if self.breakpoints.is_concerned(&self.sources, id) {
            self.rebind_then(Changed::Source(id), || drop(unbound));
        }
        id
    }

    /// Nothing of a source is left in a context.
    pub(crate) fn release_source(&self, source: SourceId, context: i64) {
        self.are_gone(&self.sources.release(source, context));
    }

    /// Sources are forgotten.
    fn are_gone(&self, gone: &[SourceId]) {
        if !gone.is_empty() && self.breakpoints.forget_sources(&self.sources, gone) {
            self.rebind(Changed::Maps);
        }
    }

    /// Removes all breakpoints of a client.
    pub(crate) fn remove_breakpoints_of(&self, owner: OwnerId) {
        self.breakpoints.remove_of(owner);
        self.rebind(Changed::Client(owner));
    }

    /// Replaces the breakpoints of a client that `covers` picks out.
    pub(crate) fn set_breakpoints(
        &self,
        owner: OwnerId,
        covers: impl Fn(&Site) -> bool,
        specs: Vec<BreakpointSpec>,
    ) -> Vec<Arc<Breakpoint>> {
        let set = self.breakpoints.replace(owner, covers, specs);
        self.rebind(Changed::Client(owner));
        set
    }

    /// Adds a breakpoint that goes at the next stop.
    pub(crate) fn add_temporary(&self, owner: OwnerId, site: Site, hits: HitRule) -> Status {
        let added: BreakpointId = self.breakpoints.add_temporary(owner, site, hits);
        self.rebind(Changed::Client(owner));
        self.breakpoints.status_of(added)
    }

    /// Removes the breakpoints that were set for one run only.
    pub(crate) fn end_temporary(&self) {
        if self.breakpoints.remove_temporary() {
            self.rebind(Changed::Temporary);
        }
    }

    /// Arms the breakpoints of a client, or disarms all of them.
    pub(crate) fn set_armed(&self, owner: OwnerId, armed: bool) {
        if self.breakpoints.set_armed(owner, armed) {
            self.rebind(Changed::Client(owner));
        }
    }

    /// Takes what a client calls a library.
    pub(crate) fn set_library(&self, owner: OwnerId, library: Library) {
        self.breakpoints.set_library(owner, library);
        self.rebind(Changed::Library(owner));
    }

    /// Binds breakpoints anew, has every context take notice, and tells clients of what binds elsewhere.
    pub(crate) fn rebind(&self, changed: Changed) {
        self.rebind_then(changed, || ());
    }

    /// The same; `told` is done once every context has something to take notice of, before any is reached.
    fn rebind_then(&self, changed: Changed, told: impl FnOnce()) {
        tracing::debug!(?changed, "breakpoints are bound anew");
        let find_uses = |source: &Source, name: &str| self.contexts.uses_of(source, name);
        let elsewhere = self.breakpoints.bind(changed.rebound(), &self.sources, &self.opened.kind_names(), &find_uses);
        // Those that are opened from here on see what is armed now.
        ContextLink::interrupt_all(&self.contexts.all(), told);
        for now in elsewhere {
            self.clients.tell_one(now.breakpoint.owner, Notice::Breakpoint(Box::new(now)));
        }
    }

    /// Functions of a source go on in an earlier text in a context, or do not any more: clients are told what that says of their
    /// breakpoints.
    pub(super) fn note_lagging(&self, source: SourceId, context: i64, functions: &[(u32, u32)]) {
        let changed = self.breakpoints.note_lagging((source, context), functions, &self.sources.look());
        for now in changed {
            self.clients.tell_one(now.breakpoint.owner, Notice::Breakpoint(Box::new(now)));
        }
    }

    /// Sends what a breakpoint said to the client that set it.
    pub(crate) fn tell_said(&self, said: &Said) {
        let tone = if said.is_trouble { Tone::Important } else { Tone::Said };
        let (text, place) = (format!("{}\n", said.text), said.place);
        note_said(self, || trail::Said { by: Speaker::Breakpoint, of: None, text: said.text.clone() });
        self.clients.tell_one(said.owner, Notice::Text(Box::new(Text { tone, text, place, rings: said.rings })));
    }
}
