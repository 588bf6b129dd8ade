//! Who may do what: one client controls, any number observe.

use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::evaluation::Limits;
use adzeman_dap::Phase;
use adzeman_dap::extra::{AttachArguments, ClientStatus, ContextStatus, LimitsBody, RoleBody, StatusBody};
use crossbeam_channel::{Sender, bounded};
use serde_json::Value as Json;

use super::ask::tell;
use super::{Session, SessionError, body};
use crate::lane::{ContextLink, watchdog};
use crate::state::clients::{Client, MOST_ATTACHED};
use crate::state::notice::{Notice, Tone};
use crate::state::standing::RunState;

/// A stop is kept no longer than this for a client that vanished.
const LONGEST_KEPT_STOP: Duration = Duration::from_secs(600);

/// What a limit on the time of evaluations can be.
const SHORTEST_LIMIT: Duration = Duration::from_millis(1);
const LONGEST_LIMIT: Duration = Duration::from_secs(3600);

/// How long what is found is waited for that contexts look for once somebody has attached: a host that comes to no safe point is
/// served by then, if it runs a script.
const DISCOVERED_WITHIN: Duration = Duration::from_millis(600);

impl Session {
    pub(super) fn attach(&mut self, arguments: AttachArguments) -> Result<Option<Json>, SessionError> {
        if arguments.token.as_ref().is_some_and(|token| self.host.opening.is_token(token)) {
            self.trusted = true;
        }
        if !self.trusted {
            return Err(if arguments.token.is_some() { SessionError::WrongToken } else { SessionError::NeedsToken });
        }
        if self.phase < Phase::Attached && !self.host.clients.admit(&self.client) {
            return Err(SessionError::NoPlace { most: MOST_ATTACHED, way: self.client.way.title() });
        }
        let keep = arguments.keep_stop_seconds.and_then(|seconds| Duration::try_from_secs_f64(seconds).ok());
        self.client.keep_stop_for(keep.unwrap_or_default().min(LONGEST_KEPT_STOP));
        let wants_control = arguments.role.as_deref() != Some("observe");
        let controls = wants_control && self.host.clients.take_control(&self.client, arguments.take_over == Some(true));
        if !controls {
            // What was set before the role was known is not kept.
            self.host.remove_breakpoints_of(self.client.owner);
        }
        if self.phase < Phase::Attached {
            self.phase = Phase::Attached;
            watchdog::wake(&self.host);
            if self.host.figures.begin(self.host.clock.now()) {
                self.host.trail.sum_anew();
            }
            for trouble in self.host.sources.troubles() {
                self.client.tell(Notice::text(Tone::Important, trouble));
            }
            let contexts = self.host.contexts.all();
            let discoveries = contexts.iter().map(|context| {
                let (is_looking, has_looked) = bounded(0);
                tell(context, move |point| {
                    let _is_looking: Sender<()> = is_looking;
                    point.context.discover();
                    if let Some(hold) = point.hold.filter(|hold| hold.context == point.context.link.id) {
                        point.context.tell_stopped(hold, point.engine);
                    }
                });
                has_looked
            });
            self.discoveries = discoveries.collect();
        }
        body(self.role())
    }

    /// Waits until contexts have looked for sources that nobody reported: not for long, and once.
    pub(super) fn await_discoveries(&mut self) {
        let until = Instant::now() + DISCOVERED_WITHIN;
        for has_looked in self.discoveries.drain(..) {
            let _ = has_looked.recv_deadline(until);
        }
    }

    pub(super) fn take_over(&mut self) -> Result<RoleBody, SessionError> {
        if self.host.clients.take_control(&self.client, true) {
            Ok(self.role())
        } else {
            Err(SessionError::ObserversOnly)
        }
    }

    /// Takes how much evaluations may take from now on, and answers it.
    pub(super) fn set_limits(&self, wanted: &LimitsBody) -> LimitsBody {
        let time = |milliseconds: Option<f64>, usual: Duration| {
            let given = milliseconds.and_then(|given| Duration::try_from_secs_f64(given / 1000.0).ok());
            given.map_or(usual, |given| given.clamp(SHORTEST_LIMIT, LONGEST_LIMIT))
        };
        let before = self.host.limits();
        let memory_bytes = wanted.memory_bytes.and_then(|bytes| usize::try_from(bytes).ok());
        let now = Limits {
            asked: time(wanted.asked_milliseconds, before.asked),
            aside: time(wanted.aside_milliseconds, before.aside),
            memory_bytes: memory_bytes.unwrap_or(before.memory_bytes),
        };
        self.host.set_limits(now);
        LimitsBody {
            asked_milliseconds: Some(now.asked.as_secs_f64() * 1000.0),
            aside_milliseconds: Some(now.aside.as_secs_f64() * 1000.0),
            memory_bytes: u64::try_from(now.memory_bytes).ok(),
        }
    }

    pub(super) fn is_controller(&self) -> bool {
        self.host.clients.controller() == Some(self.client.owner)
    }

    /// Why a request is refused to an observer.
    pub(super) fn not_in_control(&self) -> SessionError {
        if self.host.clients.observers_only {
            return SessionError::ObserversOnly;
        }
        SessionError::Observes(self.host.clients.controller_name().unwrap_or_else(|| "nobody".to_owned()))
    }

    fn role(&self) -> RoleBody {
        let role = if self.is_controller() { "control" } else { "observe" };
        RoleBody { role: role.to_owned(), controlled_by: self.host.clients.controller_name() }
    }

    pub(super) fn status(&self) -> StatusBody {
        let controller = self.host.clients.controller();
        let client = |client: &Arc<Client>| ClientStatus {
            name: client.name(),
            role: if Some(client.owner) == controller { "control" } else { "observe" }.to_owned(),
        };
        let context = |(context, holder): (Arc<ContextLink>, Option<Arc<ContextLink>>)| {
            let (state, held_with) = match (context.standing.state(), holder) {
                (RunState::Running, None) => ("running", None),
                (RunState::Running, Some(holder)) => ("held", Some(holder.name.clone())),
                (RunState::Stopped, _) => ("stopped", None),
                (RunState::Waiting, _) => ("waiting", None),
            };
            ContextStatus { name: context.name.clone(), state: state.to_owned(), held_with }
        };
        StatusBody {
            name: self.host.name.clone(),
            process_id: std::process::id(),
            up_seconds: self.host.up_for().as_secs_f64(),
            contexts: self.host.contexts.with_holders().into_iter().map(context).collect(),
            clients: self.host.clients.attached().iter().map(client).collect(),
        }
    }
}
