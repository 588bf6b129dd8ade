//! Sessions: one client each, on three named threads: one reads, one carries out, one writes.

mod answer;
mod ask;
mod breakpoints;
mod changes;
mod control;
mod convert;
mod error;
mod evaluate;
mod figures;
mod going;
mod heap;
mod inbox;
mod inspect;
mod notices;
mod plan;
mod profile;
mod reload;
mod roles;
mod running;
mod seat;
mod serve;
mod shown;
mod trail;
mod values;

use std::collections::{HashMap, VecDeque};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;

use adzeman_core::evaluation::Cancel;
use adzeman_core::host::About;
use adzeman_core::source::SourceId;
use adzeman_core::stepping::StepKind;
use adzeman_dap::extra::{ArmedArguments, HostBody, LibraryArguments, ObjectInfo, SourceMapArguments};
use adzeman_dap::requests::{InitializeArguments, ThreadsBody};
use adzeman_dap::types::{Capabilities, Thread};
use adzeman_dap::{Command, Phase, Request, Response, Role};
use crossbeam_channel::Receiver;
use serde_json::Value as Json;

use answer::{arguments, body, encoded_answer, response};
use changes::Changes;
use error::SessionError;
use heap::Censuses;
use inbox::Inbox;
use shown::Shown;

use crate::lane::{ContextLink, Go, HostState};
use crate::state::breakpoints::Library;
use crate::state::clients::Client;
use crate::state::notice::Notice;
use crate::state::sources::{MOST_GIVEN_BYTES, MOST_GIVEN_MAPS};

/// Breakpoints of one client.
pub(crate) const MOST_BREAKPOINTS: usize = 5000;
/// What is said of state that is there only for the time of a handler.
const LENT: &str = "lent while an event is handled";

/// One client's session, on the thread that carries out what it asks for.
pub(crate) struct Session {
    host: Arc<HostState>,
    client: Arc<Client>,
    inbox: Arc<Inbox>,
    phase: Phase,
    /// Whether it is known that the client is of the host's own user.
    trusted: bool,
    shown: Shown,
    /// The functions of a source that make a variable of a name, as far as that was asked for.
    makers: HashMap<(SourceId, String), Vec<String>>,
    /// The contexts of this client's monitors.
    monitors: HashMap<u64, i64>,
    changes: Changes,
    censuses: Censuses,
    /// Lines that contexts can go on at, by the numbers that were given to them.
    goto_targets: VecDeque<(i64, going::Target)>,
    /// Disconnected when contexts have looked for sources that nobody reported, as they do once somebody has attached.
    discoveries: Vec<Receiver<()>>,
    /// The answer to the client that leaves, which it gets when all that it had is given back: from then on another one can have it.
    farewell: Option<Response>,
    /// Whether the client was told that it may configure.
    is_announced: bool,
    /// Gives up the request that is being carried out.
    cancel: Cancel,
    /// What is done once the answer is on its way, so that no client hears of a stop before it hears that it went on.
    afterwards: Option<Box<dyn FnOnce() + Send>>,
}

pub(crate) use serve::{close_all, start};

impl Session {
    /// A session of a client that has just come.
    fn new(host: Arc<HostState>, client: Arc<Client>, inbox: Arc<Inbox>) -> Self {
        Self {
            trusted: client.way.is_trusted(),
            host,
            client,
            inbox,
            phase: Phase::Connected,
            shown: Shown::default(),
            makers: HashMap::new(),
            monitors: HashMap::new(),
            changes: Changes::default(),
            censuses: Censuses::default(),
            goto_targets: VecDeque::new(),
            discoveries: Vec::new(),
            farewell: None,
            is_announced: false,
            cancel: Cancel::default(),
            afterwards: None,
        }
    }

    /// Answers a request; false when the client cannot be reached any more. A fault in one request ends that request.
    fn answer(&mut self, request: &Request, cancel: Cancel) -> bool {
        let is_given_up = cancel.is_cancelled() && request.command != "disconnect";
        self.cancel = cancel;
        let outcome = if is_given_up {
            Err(SessionError::Cancelled)
        } else {
            catch_unwind(AssertUnwindSafe(|| self.dispatch(request))).unwrap_or_else(|_| {
                tracing::error!(command = request.command, "a request had panicked; the session goes on");
                Err(SessionError::Fault { command: request.command.clone() })
            })
        };
        let success = outcome.is_ok();
        let answer = response(request, outcome);
        if success && Command::of(&request.command) == Some(Command::Disconnect) {
            self.farewell = Some(answer);
            return true;
        }
        let sent = self.client.outbox.answer(|seq| encoded_answer(&answer, seq), true);
        // A client configures what it may: one that has to show a token does so once it has.
        let is_ready = self.reached() >= Phase::Trusted && !self.is_announced;
        if sent && success && is_ready {
            self.is_announced = true;
            self.client.tell(Notice::MayConfigure);
        }
        if let Some(afterwards) = self.afterwards.take() {
            afterwards();
        }
        sent
    }

    /// How far the client has come.
    fn reached(&self) -> Phase {
        match self.phase {
            Phase::Greeted if self.trusted => Phase::Trusted,
            phase => phase,
        }
    }

    /// Whether the client may ask for this now.
    fn admit(&self, command: Command, request: &Request) -> Result<(), SessionError> {
        let early = |expected| Err(SessionError::TooEarly { command: request.command.clone(), expected });
        match (self.reached(), command.phase()) {
            (reached, needed) if reached >= needed => {}
            (Phase::Connected, _) => return early("'initialize'"),
            (Phase::Greeted, _) => return Err(SessionError::NeedsToken),
            (_, _) => return early("'attach'"),
        }
        // What is set before the role is known goes, if it turns out to be an observer's.
        let needs_control = self.phase == Phase::Attached && command.role_for(request) == Role::Control;
        if needs_control && !self.is_controller() { Err(self.not_in_control()) } else { Ok(()) }
    }

    fn dispatch(&mut self, request: &Request) -> Result<Option<Json>, SessionError> {
        let Some(command) = Command::of(&request.command) else {
            let needed = if self.reached() < Phase::Attached { Command::Threads } else { Command::Host };
            self.admit(needed, request)?;
            return Err(SessionError::UnknownRequest { command: request.command.clone() });
        };
        self.admit(command, request)?;
        match command {
            Command::Initialize => self.initialize(request),
            Command::Disconnect => Ok(None),
            Command::Attach => self.attach(arguments(request)?),
            Command::Status => body(self.status()),
            Command::ConfigurationDone => {
                self.host.let_scripts_begin();
                Ok(None)
            }
            Command::TakeOver => self.take_over().and_then(body),
            Command::Limits => body(self.set_limits(&arguments(request)?)),
            Command::Host => body(self.host_body()),
            Command::Threads => body(self.threads()),
            _ => self.set_or_step(command, request),
        }
    }

    /// Requests that set something, or let contexts go on.
    fn set_or_step(&mut self, command: Command, request: &Request) -> Result<Option<Json>, SessionError> {
        match command {
            Command::SetBreakpoints => self.set_breakpoints(arguments(request)?).and_then(body),
            Command::SetFunctionBreakpoints => self.set_function_breakpoints(arguments(request)?).and_then(body),
            Command::SetExceptionBreakpoints => self.set_event_breakpoints(arguments(request)?).and_then(body),
            Command::DataBreakpointInfo => self.data_breakpoint_info(arguments(request)?).and_then(body),
            Command::SetDataBreakpoints => self.set_data_breakpoints(arguments(request)?).and_then(body),
            Command::Armed => {
                let ArmedArguments { armed } = arguments(request)?;
                self.host.set_armed(self.client.owner, armed);
                Ok(None)
            }
            Command::Library => {
                let LibraryArguments { paths, own } = arguments(request)?;
                self.host.set_library(self.client.owner, Library { paths, own: own.unwrap_or_default() });
                Ok(None)
            }
            Command::SourceMap => {
                let SourceMapArguments { path, map } = arguments(request)?;
                let is_taken = self.host.give_map(self.client.owner, path, &map);
                is_taken.then_some(None).ok_or(SessionError::TooManyMaps(MOST_GIVEN_MAPS, MOST_GIVEN_BYTES))
            }
            Command::Reload => self.reload(arguments(request)?).and_then(body),
            Command::SourceText => body(self.take_text(&arguments(request)?)?),
            Command::Continue => self.resume(request, Go::Freely),
            Command::Next => self.resume(request, Go::Step(StepKind::Over)),
            Command::StepIn => self.resume(request, Go::Step(StepKind::Into)),
            Command::StepOut => self.resume(request, Go::Step(StepKind::Out)),
            Command::Pause => self.pause(arguments(request)?).map(|()| None),
            Command::RestartFrame => self.restart_frame(&arguments(request)?).map(|()| None),
            Command::GotoTargets => self.goto_targets(&arguments(request)?).and_then(body),
            Command::Goto => self.goto(&arguments(request)?).map(|()| None),
            Command::RunTo => self.go_to(arguments(request)?).map(|()| None),
            Command::Run => self.run_call(request.seq, arguments(request)?).map(|()| None),
            _ => self.look(command, request),
        }
    }

    /// Requests that look, or change a value.
    fn look(&mut self, command: Command, request: &Request) -> Result<Option<Json>, SessionError> {
        match command {
            Command::BreakpointLocations => self.breakpoint_locations(&arguments(request)?).and_then(body),
            Command::Breakpoints => body(self.breakpoints_now()),
            Command::Functions => body(self.functions(&arguments(request)?)),
            Command::LoadedSources => body(self.loaded_sources()),
            Command::Source => self.source(arguments(request)?).and_then(body),
            Command::StackTrace => self.stack_trace(&arguments(request)?).and_then(body),
            Command::Scopes => self.scopes(&arguments(request)?).and_then(body),
            Command::Variables => self.variables(&arguments(request)?).and_then(body),
            Command::SetVariable => self.set_variable(arguments(request)?).and_then(body),
            Command::SetExpression => self.set_expression(arguments(request)?).and_then(body),
            Command::Evaluate => self.evaluate(arguments(request)?).and_then(body),
            Command::Completions => self.completions(&arguments(request)?).and_then(body),
            Command::Table => self.table(arguments(request)?).and_then(body),
            Command::Shape => self.shape(arguments(request)?).and_then(body),
            Command::Monitor => self.monitor(arguments(request)?).and_then(body),
            Command::SampleNow => self.sample_now(&arguments(request)?).map(|()| None),
            Command::Running => self.running(&arguments(request)?).and_then(body),
            Command::Trail => self.trail(&arguments(request)?).and_then(body),
            Command::TrailCounts => self.trail_counts(&arguments(request)?).and_then(body),
            Command::TrailAgain => self.trail_again(&arguments(request)?).map(|()| None),
            Command::Figures => self.figures().and_then(body),
            Command::Figure => self.figure(&arguments(request)?).and_then(body),
            Command::Plan => self.plan(&arguments(request)?).and_then(body),
            Command::Profile => self.profile(&arguments(request)?).and_then(body),
            Command::Census => self.census(request.seq, &arguments(request)?).and_then(body),
            Command::Holders => self.holders(request.seq, arguments(request)?).and_then(body),
            Command::Changes => body(self.changes_so_far()),
            Command::Undo => self.undo(&arguments(request)?).and_then(body),
            Command::EndMonitor => self.end_monitor(&arguments(request)?).map(|()| None),
            _ => Err(SessionError::UnknownRequest { command: request.command.clone() }),
        }
    }

    fn initialize(&mut self, request: &Request) -> Result<Option<Json>, SessionError> {
        let arguments: InitializeArguments = arguments(request)?;
        let starts_at_1 = arguments.lines_start_at1.unwrap_or(true);
        self.client.set_line_base(i64::from(starts_at_1));
        if let Some(version) =
            arguments.client_version.as_deref().filter(|version| *version != env!("CARGO_PKG_VERSION"))
        {
            tracing::info!(version, "a client of another version; what it asks for and is not known is refused");
        }
        self.client.want_progress(arguments.supports_progress_reporting == Some(true));
        self.client.set_name(arguments.client_name.as_deref().unwrap_or_default());
        if arguments.token.is_some_and(|token| self.host.opening.is_token(&token)) {
            self.trusted = true;
        }
        if self.phase == Phase::Connected {
            self.phase = Phase::Greeted;
        }
        body(Capabilities {
            supports_configuration_done_request: true,
            supports_cancel_request: true,
            supports_function_breakpoints: true,
            supports_conditional_breakpoints: true,
            supports_set_variable: true,
            supports_set_expression: true,
            supports_completions_request: true,
            supports_loaded_sources_request: true,
            supports_breakpoint_locations_request: true,
            supports_exception_filter_options: true,
            supports_delayed_stack_trace_loading: true,
            supports_evaluate_for_hovers: true,
            supports_clipboard_context: true,
            supports_value_formatting_options: true,
            supports_hit_conditional_breakpoints: true,
            supports_log_points: true,
            supports_data_breakpoints: true,
            supports_restart_frame: true,
            supports_goto_targets_request: true,
            exception_breakpoint_filters: {
                let events = self.host.opened.kinds.iter().map(convert::filter);
                events.chain(convert::error_filters()).collect()
            },
        })
    }

    fn threads(&self) -> ThreadsBody {
        let thread = |context: &Arc<ContextLink>| Thread { id: context.id, name: context.name.clone() };
        ThreadsBody { threads: self.host.contexts.all().iter().map(thread).collect() }
    }

    fn host_body(&self) -> HostBody {
        let object = |object: &adzeman_core::host::HostObject| ObjectInfo {
            name: object.name().to_owned(),
            editable: object.is_editable(),
            doc: Some(object.about().doc.clone()).filter(|doc| !doc.is_empty()),
        };
        let lent = |(name, about): (&str, &About)| {
            let doc = if about.doc.is_empty() { LENT.to_owned() } else { format!("{}; {LENT}", about.doc) };
            ObjectInfo { name: name.to_owned(), editable: true, doc: Some(doc) }
        };
        HostBody {
            version: Some(env!("CARGO_PKG_VERSION").to_owned()),
            name: self.host.name.clone(),
            process_id: std::process::id(),
            events: self.host.opened.kinds.iter().filter_map(|kind| serde_json::to_value(kind).ok()).collect(),
            objects: self.host.opened.objects.iter().map(object).chain(self.host.opened.lent().map(lent)).collect(),
        }
    }
}
