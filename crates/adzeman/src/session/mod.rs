//! Sessions: one client each, on three named threads: one reads, one carries out, one writes.

mod ask;
mod breakpoints;
mod control;
pub(crate) mod convert;
mod evaluate;
mod inspect;
mod roles;
mod serve;
mod values;

use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;

use adzeman_core::engine::EngineError;
use adzeman_core::evaluation::Cancel;
use adzeman_core::host::HostError;
use adzeman_core::source::SourceId;
use adzeman_core::value::Memory;
use adzeman_dap::extra::{self, ArmedArguments, HostBody, LibraryArguments, ObjectInfo, SourceMapArguments};
use adzeman_dap::requests::{InitializeArguments, ThreadsBody};
use adzeman_dap::types::{Capabilities, Thread};
use adzeman_dap::{Request, Response};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;
use thiserror::Error;

use crate::client::Client;
use crate::shared::{Library, Shared};
use crate::source_maps::{MOST_GIVEN_BYTES, MOST_GIVEN_MAPS};
use roles::needs_control;
use values::Reference;

/// Breakpoints of one client.
pub(crate) const MOST_BREAKPOINTS: usize = 5000;

/// Why a request was not done; turned into a response in one place.
#[derive(Debug, Error)]
#[non_exhaustive]
pub(crate) enum SessionError {
    #[error("'{command}' is not understood here; see the capabilities in the answer to 'initialize'")]
    UnknownRequest { command: String },
    #[error("the arguments of '{command}' do not fit: {why}")]
    BadArguments { command: String, why: String },
    #[error("'{command}' came too early: {expected} must come first")]
    TooEarly { command: String, expected: &'static str },
    #[error("there is no context {0}; ask 'threads' for those that are there")]
    NoContext(i64),
    #[error("{0} is running; pause it first, or wait until it stops")]
    Running(String),
    #[error("{0} is not stopped, so it cannot go on; it is held only while another context of its thread is stopped")]
    NotStopped(String),
    #[error("{0} has not come to a point where it can be looked at; is it waiting for something, or in a long call?")]
    NoSafePoint(String),
    #[error(
        "{0} runs no script, and its host has not looked here for a while; it may be busy, or not call `poll` while it waits"
    )]
    NoScriptRuns(String),
    #[error("{0} is gone")]
    Gone(String),
    #[error("the value {0} was shown at an earlier stop and is gone; look again from the stack or the scopes")]
    StaleReference(i64),
    #[error("there is no source {0}")]
    NoSource(String),
    #[error("the text of {0} is not known to the host")]
    NoText(String),
    #[error("line {0} is not a line; lines count from {1}")]
    BadLine(i64, i64),
    #[error("no event is being handled here, so none can be delivered again")]
    NoEvent,
    #[error("the host says that {0} cannot be delivered again: what handles it can run only once")]
    NotRepeatable(String),
    #[error("it was not said where to go on to: give a line with the path of its source, or an event")]
    NowhereToGo,
    #[error("that cannot be reached: {0}")]
    Unreachable(String),
    #[error(
        "this host asks for its token: 'adzeman attach' finds it for hosts of the same user; an editor gives it as 'token' \
         in its 'attach' request"
    )]
    NeedsToken,
    #[error("that is not this host's token; it is a new one at each start")]
    WrongToken,
    #[error("this client observes, and {0} controls: it may look, and nothing else; 'take over' takes control")]
    Observes(String),
    #[error("this host lets clients look, and nothing else")]
    ObserversOnly,
    #[error("not in scope here: {0}")]
    NotInScope(String),
    #[error("'{0}' is no variable here; only names and fields are looked up under the pointer, nothing is run")]
    NothingToHover(String),
    #[error("{0} has nothing inside that could be a row")]
    NoRows(String),
    #[error("cannot read that: {0}")]
    BadExpression(String),
    #[error("{0} monitors are as many as there can be; end some first")]
    TooManyMonitors(usize),
    #[error("{0} source maps, of {1} bytes in all, are as many as a host takes from its clients")]
    TooManyMaps(usize, usize),
    #[error("there is no monitor {0} of this client")]
    NoMonitor(u64),
    #[error("this host has no contexts yet; scripts show up here when it opens them")]
    NoContexts,
    #[error(transparent)]
    Engine(#[from] EngineError),
    #[error(transparent)]
    Host(#[from] HostError),
    #[error("it was cancelled")]
    Cancelled,
    #[error("a fault inside the debugger ended '{command}'; the session goes on")]
    Fault { command: String },
    #[error("{0} requests wait for their answers already; wait for some of them, or cancel them")]
    TooManyWaiting(usize),
    #[error("{context} is in {native}, in one call that cannot be interrupted; it is released the moment that returns")]
    Stuck { context: String, native: String },
    #[error("{most} clients are attached {way} already, as many as there can be; one of them must leave first")]
    NoPlace { most: usize, way: &'static str },
    #[error("the answer could not be written: {0}")]
    Unwritable(#[from] serde_json::Error),
}

/// How far a client has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd)]
enum Phase {
    Connected,
    Initialized,
    Attached,
}

pub(crate) struct Session {
    shared: Arc<Shared>,
    client: Arc<Client>,
    phase: Phase,
    /// Whether it is known that the client is of the host's own user.
    trusted: bool,
    references: HashMap<i64, Reference>,
    last_reference: i64,
    /// What was shown at which stop.
    memory: Memory,
    /// The stop that was noticed last.
    seen_stop: u64,
    /// What tells the function of a frame from others at later stops, by the frame's number at this stop.
    frame_keys: HashMap<i64, String>,
    /// The functions of a source that make a variable of a name, as far as that was asked for.
    makers: HashMap<(SourceId, String), Vec<String>>,
    /// The contexts of this client's monitors.
    monitors: HashMap<u64, i64>,
    leaving: bool,
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
    fn new(shared: Arc<Shared>, client: Arc<Client>) -> Self {
        Self {
            trusted: client.way.is_trusted(),
            shared,
            client,
            phase: Phase::Connected,
            references: HashMap::new(),
            last_reference: 0,
            memory: Memory::default(),
            seen_stop: 0,
            frame_keys: HashMap::new(),
            makers: HashMap::new(),
            monitors: HashMap::new(),
            leaving: false,
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
        let sent = self.client.respond(response(request, outcome));
        // A client configures what it may: one that has to show a token does so once it has.
        let is_ready = self.trusted && self.phase >= Phase::Initialized && !self.is_announced;
        if sent && success && is_ready {
            self.is_announced = true;
            self.client.event("initialized", &serde_json::json!({}));
        }
        if let Some(afterwards) = self.afterwards.take() {
            afterwards();
        }
        sent
    }

    fn dispatch(&mut self, request: &Request) -> Result<Option<Json>, SessionError> {
        let command = request.command.as_str();
        match command {
            "initialize" => return self.initialize(request),
            "disconnect" => {
                self.leaving = true;
                return Ok(None);
            }
            _ if self.phase < Phase::Initialized => return Err(self.too_early(command, "'initialize'")),
            "attach" => return self.attach(arguments(request)?),
            _ if !self.trusted => return Err(SessionError::NeedsToken),
            extra::STATUS => return body(self.status()),
            "configurationDone" => {
                self.shared.let_scripts_begin();
                return Ok(None);
            }
            _ if self.phase == Phase::Attached && needs_control(request) && !self.is_controller() => {
                return Err(self.not_in_control());
            }
            "setBreakpoints" => return self.set_breakpoints(arguments(request)?).and_then(body),
            "setFunctionBreakpoints" => return self.set_function_breakpoints(arguments(request)?).and_then(body),
            "setExceptionBreakpoints" => return self.set_event_breakpoints(arguments(request)?).and_then(body),
            extra::ARMED => {
                let ArmedArguments { armed } = arguments(request)?;
                self.shared.set_armed(self.client.owner, armed);
                return Ok(None);
            }
            extra::LIBRARY => {
                let LibraryArguments { paths, own } = arguments(request)?;
                self.shared.set_library(self.client.owner, Library { paths, own: own.unwrap_or_default() });
                return Ok(None);
            }
            _ if self.phase < Phase::Attached => return Err(self.too_early(command, "'attach'")),
            _ => {}
        }
        self.dispatch_attached(request)
    }

    fn dispatch_attached(&mut self, request: &Request) -> Result<Option<Json>, SessionError> {
        match request.command.as_str() {
            "threads" => body(self.threads()),
            "breakpointLocations" => self.breakpoint_locations(&arguments(request)?).and_then(body),
            "loadedSources" => body(self.loaded_sources()),
            "source" => self.source(arguments(request)?).and_then(body),
            "continue" => self.resume(request, crate::hold::Go::Freely),
            "next" => self.resume(request, step(adzeman_core::stepping::StepKind::Over)),
            "stepIn" => self.resume(request, step(adzeman_core::stepping::StepKind::Into)),
            "stepOut" => self.resume(request, step(adzeman_core::stepping::StepKind::Out)),
            "pause" => self.pause(arguments(request)?).map(|()| None),
            "restartFrame" => self.restart_frame(&arguments(request)?).map(|()| None),
            "dataBreakpointInfo" => self.data_breakpoint_info(arguments(request)?).and_then(body),
            "setDataBreakpoints" => self.set_data_breakpoints(arguments(request)?).and_then(body),
            extra::GO_TO => self.go_to(arguments(request)?).map(|()| None),
            extra::RUN => self.run_call(request.seq, arguments(request)?).map(|()| None),
            "stackTrace" => self.stack_trace(&arguments(request)?).and_then(body),
            "scopes" => self.scopes(&arguments(request)?).and_then(body),
            "variables" => self.variables(&arguments(request)?).and_then(body),
            "setVariable" => self.set_variable(arguments(request)?).and_then(body),
            "setExpression" => self.set_expression(arguments(request)?).and_then(body),
            "evaluate" => self.evaluate(arguments(request)?).and_then(body),
            "completions" => self.completions(&arguments(request)?).and_then(body),
            extra::TABLE => self.table(arguments(request)?).and_then(body),
            extra::SHAPE => self.shape(arguments(request)?).and_then(body),
            extra::MONITOR => self.monitor(arguments(request)?).and_then(body),
            extra::SAMPLE_NOW => self.sample_now(&arguments(request)?).map(|()| None),
            extra::END_MONITOR => self.end_monitor(&arguments(request)?).map(|()| None),
            extra::SOURCE_MAP => {
                let SourceMapArguments { path, map } = arguments(request)?;
                let is_taken = self.shared.give_map(self.client.owner, path, &map);
                is_taken.then_some(None).ok_or(SessionError::TooManyMaps(MOST_GIVEN_MAPS, MOST_GIVEN_BYTES))
            }
            extra::TAKE_OVER => self.take_over().and_then(body),
            extra::LIMITS => body(self.set_limits(&arguments(request)?)),
            extra::HOST => body(self.host_body()),
            extra::BREAKPOINTS => body(self.breakpoints_now()),
            other => Err(SessionError::UnknownRequest { command: other.to_owned() }),
        }
    }

    fn too_early(&self, command: &str, expected: &'static str) -> SessionError {
        SessionError::TooEarly { command: command.to_owned(), expected }
    }

    fn initialize(&mut self, request: &Request) -> Result<Option<Json>, SessionError> {
        let arguments: InitializeArguments = arguments(request)?;
        let starts_at_1 = arguments.lines_start_at1.unwrap_or(true);
        self.client.set_line_base(i64::from(starts_at_1));
        self.client.set_name(arguments.client_name.as_deref().unwrap_or_default());
        if arguments.token.is_some_and(|token| self.shared.is_token(&token)) {
            self.trusted = true;
        }
        if self.phase == Phase::Connected {
            self.phase = Phase::Initialized;
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
            exception_breakpoint_filters: {
                let events = self.shared.opened.kinds.iter().map(convert::filter);
                events.chain(convert::error_filters()).collect()
            },
        })
    }

    fn threads(&self) -> ThreadsBody {
        let thread =
            |context: &Arc<crate::context::ContextShared>| Thread { id: context.id, name: context.name.clone() };
        ThreadsBody { threads: self.shared.contexts().iter().map(thread).collect() }
    }

    fn host_body(&self) -> HostBody {
        let object = |object: &adzeman_core::host::HostObject| ObjectInfo {
            name: object.name().to_owned(),
            editable: object.is_editable(),
            doc: Some(object.about().doc.clone()).filter(|doc| !doc.is_empty()),
        };
        HostBody {
            name: self.shared.name.clone(),
            process_id: std::process::id(),
            events: self.shared.opened.kinds.iter().filter_map(|kind| serde_json::to_value(kind).ok()).collect(),
            objects: self.shared.opened.objects.iter().map(object).collect(),
        }
    }
}

fn step(kind: adzeman_core::stepping::StepKind) -> crate::hold::Go {
    crate::hold::Go::Step(kind)
}

/// The answer to a request.
fn response(request: &Request, outcome: Result<Option<Json>, SessionError>) -> Response {
    let (success, message, body) = match outcome {
        Ok(body) => (true, None, body),
        Err(error) => {
            let text = error.to_string();
            // DAP, `Response`: `message` of a request that was given up is this very word.
            let is_cancelled = matches!(error, SessionError::Cancelled | SessionError::Engine(EngineError::Cancelled));
            let message = if is_cancelled { "cancelled".to_owned() } else { text.clone() };
            // DAP, `ErrorResponse`: the text for people is in `body.error.format`.
            (false, Some(message), Some(serde_json::json!({"error": {"id": 1, "format": text}})))
        }
    };
    Response { seq: 0, request_seq: request.seq, success, command: request.command.clone(), message, body }
}

fn arguments<T: DeserializeOwned>(request: &Request) -> Result<T, SessionError> {
    let given = request.arguments.clone().unwrap_or_else(|| Json::Object(serde_json::Map::new()));
    serde_json::from_value(given)
        .map_err(|error| SessionError::BadArguments { command: request.command.clone(), why: error.to_string() })
}

fn body<T: Serialize>(value: T) -> Result<Option<Json>, SessionError> {
    Ok(Some(serde_json::to_value(&value)?))
}
