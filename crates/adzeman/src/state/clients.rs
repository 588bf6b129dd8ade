//! Who is there: clients, who of them controls, and what they are told.

use std::sync::atomic::{AtomicBool, AtomicI64, AtomicU64, AtomicUsize, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::OwnerId;

use super::lock;
use super::notice::Notice;
use super::outbox::Outbox;
use super::process::forks;

/// Clients that are attached at one time, by each way in.
pub(crate) const MOST_ATTACHED: usize = 16;
/// Clients that have not attached yet, by each way in: those who come over TCP cannot take the places of the owner.
pub(crate) const MOST_AT_THE_DOOR: usize = 32;

/// Characters of a client's name that are kept.
const MOST_NAME: usize = 60;

/// How a client came, and what is known of it by that.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    /// By the local socket, which only the host's own user can connect to.
    Local,
    /// Within the process, or dialled by the host.
    Chosen,
    /// From wherever TCP reaches: it has to show the token.
    Tcp,
}

impl Way {
    /// Whether it is known that the client is of the host's own user.
    pub(crate) fn is_trusted(self) -> bool {
        self != Self::Tcp
    }

    /// For people.
    pub(crate) fn title(self) -> &'static str {
        match self {
            Self::Local => "by the local socket",
            Self::Chosen => "from within",
            Self::Tcp => "over TCP",
        }
    }
}

/// What is being done for a client, as far as it can be given up from outside.
pub(crate) trait Work: Send + Sync {
    /// Gives up what is being carried out: another client has control now.
    fn cancel_current(&self);

    /// Nobody is there to carry anything out any more.
    fn abandon(&self);
}

/// A client as the rest of the host sees it: what it is allowed, and what it is told.
pub(crate) struct Client {
    pub(crate) owner: OwnerId,
    pub(crate) way: Way,
    pub(crate) work: Arc<dyn Work>,
    pub(crate) outbox: Outbox,
    attached: AtomicBool,
    line_base: AtomicI64,
    /// Whether it wants to know how far a long request has come.
    wants_progress: AtomicBool,
    /// What it calls itself.
    name: Mutex<String>,
    /// How long its stop is kept when it vanishes, in milliseconds.
    keeps_stop_for: AtomicU64,
}

impl Client {
    fn new(owner: OwnerId, way: Way, work: Arc<dyn Work>) -> Self {
        Self {
            owner,
            way,
            work,
            outbox: Outbox::default(),
            attached: AtomicBool::new(false),
            line_base: AtomicI64::new(1),
            wants_progress: AtomicBool::new(false),
            name: Mutex::default(),
            keeps_stop_for: AtomicU64::new(0),
        }
    }

    pub(crate) fn name(&self) -> String {
        let name = lock(&self.name).clone();
        if name.is_empty() { "a client without a name".to_owned() } else { name }
    }

    /// Takes the beginning of what a client calls itself.
    pub(crate) fn set_name(&self, name: &str) {
        *lock(&self.name) = name.chars().filter(|c| !c.is_control()).take(MOST_NAME).collect();
    }

    fn keeps_stop_for(&self) -> Duration {
        Duration::from_millis(self.keeps_stop_for.load(SeqCst))
    }

    pub(crate) fn keep_stop_for(&self, time: Duration) {
        self.keeps_stop_for.store(u64::try_from(time.as_millis()).unwrap_or(u64::MAX), SeqCst);
    }

    pub(crate) fn is_attached(&self) -> bool {
        self.attached.load(SeqCst)
    }

    /// The number that the client gives to the first line: 0 or 1.
    pub(crate) fn line_base(&self) -> i64 {
        self.line_base.load(SeqCst)
    }

    pub(crate) fn set_line_base(&self, base: i64) {
        self.line_base.store(base, SeqCst);
    }

    pub(crate) fn want_progress(&self, wants: bool) {
        self.wants_progress.store(wants, SeqCst);
    }

    pub(crate) fn wants_progress(&self) -> bool {
        self.wants_progress.load(SeqCst)
    }

    /// Tells it something, from any thread; never waits. It is told afterwards how much it missed.
    pub(crate) fn tell(&self, notice: Notice) {
        self.outbox.notice(&Arc::new(notice.cut()));
    }
}

/// What has to be done about the rest of the host when a client has gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Gone {
    /// Whether it controlled.
    pub(crate) controlled: bool,
    /// Whether stops are held for nobody now.
    pub(crate) releases: bool,
}

/// All clients of a host.
pub(crate) struct Clients {
    all: Mutex<Vec<Arc<Client>>>,
    /// How many are attached. Zero is what makes a host pay nothing.
    attached: AtomicUsize,
    /// How many reasons there are to be told of events: clients that are attached, and contexts in which something is to be put
    /// back after they have left.
    reasons: AtomicUsize,
    last_owner: AtomicU64,
    /// Whether clients may only look.
    pub(crate) observers_only: bool,
    /// The client that may do more than look.
    controller: Mutex<Option<OwnerId>>,
    /// A client that vanished at a stop asked for it to be kept until then.
    keeps_stop_until: Mutex<Option<Instant>>,
    /// Whether a client has said that it is ready since the last time that none was attached.
    ready: AtomicBool,
    /// How often one has said so.
    times_ready: AtomicU64,
    /// [`forks`] where the host began.
    forks: u32,
}

impl Clients {
    pub(crate) fn new(observers_only: bool) -> Self {
        Self {
            all: Mutex::default(),
            attached: AtomicUsize::new(0),
            reasons: AtomicUsize::new(0),
            last_owner: AtomicU64::new(0),
            observers_only,
            controller: Mutex::default(),
            keeps_stop_until: Mutex::default(),
            ready: AtomicBool::new(false),
            times_ready: AtomicU64::new(0),
            forks: forks(),
        }
    }

    /// Whether this is the process that the host began in, and no copy of it, in which there are no clients.
    #[inline]
    pub(crate) fn are_here(&self) -> bool {
        self.forks == forks()
    }

    pub(crate) fn all(&self) -> Vec<Arc<Client>> {
        lock(&self.all).clone()
    }

    /// Those that are attached.
    pub(crate) fn attached(&self) -> Vec<Arc<Client>> {
        lock(&self.all).iter().filter(|client| client.is_attached()).cloned().collect()
    }

    /// Whether anyone is attached.
    #[inline]
    pub(crate) fn is_any_attached(&self) -> bool {
        self.attached.load(std::sync::atomic::Ordering::Relaxed) > 0 && self.are_here()
    }

    /// Whether there is any reason to be told of events. What the host's own thread asks at each one: one relaxed load.
    #[inline]
    pub(crate) fn has_reason(&self) -> bool {
        self.reasons.load(std::sync::atomic::Ordering::Relaxed) > 0 && self.are_here()
    }

    /// How many there are.
    pub(crate) fn reasons(&self) -> usize {
        self.reasons.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// There is one reason more, or less.
    pub(crate) fn note_reason(&self, more: bool) {
        if more {
            self.reasons.fetch_add(1, SeqCst)
        } else {
            self.reasons.fetch_sub(1, SeqCst)
        };
    }

    /// Whether somebody is attached who has set what they want set.
    pub(crate) fn is_ready(&self) -> bool {
        self.attached.load(SeqCst) > 0 && self.ready.load(SeqCst) && self.are_here()
    }

    pub(crate) fn is_now_ready(&self) {
        self.ready.store(true, SeqCst);
        self.times_ready.fetch_add(1, SeqCst);
    }

    /// How often somebody has said so, who may have left since.
    pub(crate) fn times_ready(&self) -> u64 {
        self.times_ready.load(SeqCst)
    }

    /// Adds a client that has not attached yet, unless too many came its way already.
    pub(crate) fn add(&self, way: Way, work: Arc<dyn Work>) -> Option<Arc<Client>> {
        let owner = OwnerId(self.last_owner.fetch_add(1, SeqCst) + 1);
        let client = Arc::new(Client::new(owner, way, work));
        let mut all = lock(&self.all);
        let waiting = all.iter().filter(|held| held.way == way && !held.is_attached()).count();
        (waiting < MOST_AT_THE_DOOR).then(|| {
            all.push(client.clone());
            client
        })
    }

    /// Counts a client as attached, unless too many that came its way are.
    pub(crate) fn admit(&self, client: &Client) -> bool {
        let all = lock(&self.all);
        let attached = all.iter().filter(|held| held.way == client.way && held.is_attached()).count();
        // One that was taken off already, because the host closes, does not come back.
        let fits = attached < MOST_ATTACHED && all.iter().any(|held| held.owner == client.owner);
        if fits {
            client.attached.store(true, SeqCst);
            self.attached.fetch_add(1, SeqCst);
            self.note_reason(true);
        }
        fits
    }

    /// Takes a client off, with its control. One that vanished may have asked for its stop to be kept for a while. `between` is
    /// done when control is free, and before the client counts as gone: whoever comes when nobody is attached gets it.
    pub(crate) fn remove(&self, client: &Client, has_vanished: bool, between: impl FnOnce(bool)) -> Gone {
        let was_attached = {
            // Under this lock, so that it is counted once, however often it is taken off.
            let mut all = lock(&self.all);
            all.retain(|held| held.owner != client.owner);
            client.attached.swap(false, SeqCst)
        };
        let controlled = {
            let mut controller = lock(&self.controller);
            let controlled = *controller == Some(client.owner);
            if controlled {
                *controller = None;
            }
            controlled
        };
        let keep = client.keeps_stop_for();
        if controlled && has_vanished && !keep.is_zero() {
            *lock(&self.keeps_stop_until) = Instant::now().checked_add(keep);
        }
        between(controlled);
        if was_attached {
            self.note_reason(false);
        }
        if was_attached && self.attached.fetch_sub(1, SeqCst) == 1 {
            self.ready.store(false, SeqCst);
        }
        if controlled {
            self.tell_roles();
        }
        Gone { controlled, releases: was_attached && !self.is_controlled() }
    }

    /// The client that controls, if one does.
    pub(crate) fn controller(&self) -> Option<OwnerId> {
        *lock(&self.controller)
    }

    /// What the one that controls calls itself.
    pub(crate) fn controller_name(&self) -> Option<String> {
        let controller = self.controller()?;
        self.all().iter().find(|client| client.owner == controller).map(|client| client.name())
    }

    /// Whether somebody controls, or is expected back: contexts are held for nobody else.
    pub(crate) fn is_controlled(&self) -> bool {
        if !self.are_here() {
            return false;
        }
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
            self.all().iter().filter(|held| held.owner == before).for_each(|held| held.work.cancel_current());
            self.tell_roles();
        }
        true
    }

    /// Tells everyone who controls now.
    fn tell_roles(&self) {
        let (owner, controller) = (self.controller(), self.controller_name());
        for client in self.attached() {
            client.tell(Notice::Role { controls: Some(client.owner) == owner, controller: controller.clone() });
        }
    }

    /// Tells everyone who is attached.
    pub(crate) fn tell(&self, notice: Notice) {
        self.tell_all_but(None, notice);
    }

    /// Tells everyone who is attached, but one.
    pub(crate) fn tell_all_but(&self, owner: Option<OwnerId>, notice: Notice) {
        let notice = Arc::new(notice.cut());
        let told = self.attached().into_iter().filter(|client| Some(client.owner) != owner);
        told.for_each(|client| client.outbox.notice(&notice));
    }

    /// Tells one client, also before it has attached.
    pub(crate) fn tell_one(&self, owner: OwnerId, notice: Notice) {
        if let Some(client) = self.all().iter().find(|client| client.owner == owner) {
            client.tell(notice);
        }
    }
}
