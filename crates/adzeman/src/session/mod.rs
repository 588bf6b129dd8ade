//! Sessions: one client each, on two named threads, one that reads and one that writes.

mod ask;
mod breakpoints;
mod control;
pub(crate) mod convert;
mod evaluate;
mod inspect;
mod roles;
mod values;

use std::collections::HashMap;
use std::io::{self, Read, Write};
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::thread;

use adzeman_core::engine::EngineError;
use adzeman_core::host::HostError;
use adzeman_core::source::SourceId;
use adzeman_core::value::Memory;
use adzeman_dap::extra::{self, ArmedArguments, HostBody, LibraryArguments, ObjectInfo, SourceMapArguments};
use adzeman_dap::requests::{InitializeArguments, ThreadsBody};
use adzeman_dap::types::{Capabilities, Thread};
use adzeman_dap::{Decoded, FrameError, Message, Request, Response, decode, encode};
use crossbeam_channel::{Receiver, bounded};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;
use thiserror::Error;

use crate::client::{Client, MOST_QUEUED};
use crate::shared::{Library, Shared};
use crate::source_maps::MOST_GIVEN_MAPS;
use roles::needs_control;
use values::Reference;

/// Clients at one time.
const MOST_CLIENTS: usize = 16;
/// Breakpoints of one client.
pub(crate) const MOST_BREAKPOINTS: usize = 5000;
/// Bytes read at once.
const READ_BYTES: usize = 16 * 1024;

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
    #[error("{0} source maps are as many as a host takes")]
    TooManyMaps(usize),
    #[error("there is no monitor {0} of this client")]
    NoMonitor(u64),
    #[error("this host has no contexts yet; scripts show up here when it opens them")]
    NoContexts,
    #[error(transparent)]
    Engine(#[from] EngineError),
    #[error(transparent)]
    Host(#[from] HostError),
    #[error("the answer could not be written: {0}")]
    Unwritable(#[from] serde_json::Error),
}

/// Whether it is known that a client is of the host's own user.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Trust {
    /// It is: by the local socket, or within the process.
    Known,
    /// It has to show the host's token.
    NeedsToken,
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
    trust: Trust,
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
    /// What is done once the answer is on its way, so that no client hears of a stop before it hears that it went on.
    afterwards: Option<Box<dyn FnOnce() + Send>>,
}

/// Starts a session on a connection; `settled` is called when the first message has come.
///
/// # Errors
/// When no thread can be started.
pub(crate) fn start(
    shared: Arc<Shared>,
    reader: impl Read + Send + 'static,
    writer: impl Write + Send + 'static,
    trust: Trust,
    settled: impl FnOnce() + Send + 'static,
) -> io::Result<()> {
    let owner = shared.next_owner();
    let (queue, messages) = bounded(MOST_QUEUED);
    let client = Arc::new(Client::new(owner, queue));
    if !shared.add_client(client.clone(), MOST_CLIENTS) {
        tracing::warn!("a client was turned away: {MOST_CLIENTS} are connected already");
        return Ok(());
    }
    let session = Session {
        shared: shared.clone(),
        client: client.clone(),
        phase: Phase::Connected,
        trust,
        references: HashMap::new(),
        last_reference: 0,
        memory: Memory::default(),
        seen_stop: 0,
        frame_keys: HashMap::new(),
        makers: HashMap::new(),
        monitors: HashMap::new(),
        leaving: false,
        is_announced: false,
        afterwards: None,
    };
    let names = (format!("adzeman-read-{}", owner.0), format!("adzeman-write-{}", owner.0));
    let writing = thread::Builder::new().name(names.1).spawn(move || write_all(&messages, writer));
    let reading = writing.and_then(|writing| {
        thread::Builder::new().name(names.0).spawn(move || {
            session.run(reader, settled);
            // The session held the last queue to the writer, which ends when it has written what is left.
            if writing.join().is_err() {
                tracing::error!("a writing thread had panicked");
            }
        })
    });
    if reading.is_err() {
        shared.remove_client(&client, false);
    }
    reading.map(|_| ())
}

/// Tells every client that the host ends.
pub(crate) fn close_all(shared: &Shared) {
    shared.closing.store(true, SeqCst);
    for client in shared.clients() {
        client.event("terminated", &serde_json::json!({}));
        shared.remove_client(&client, false);
    }
}

/// Writes messages in order, numbering them from 1, until the session is over or the client is gone.
fn write_all(messages: &Receiver<Message>, mut writer: impl Write) {
    for (number, mut message) in (1..).zip(messages) {
        match &mut message {
            Message::Event(event) => event.seq = number,
            Message::Response(response) => response.seq = number,
            Message::Request(request) => request.seq = number,
        }
        let bytes = encode(&message).or_else(|error| encode(&too_long(&message, &error)));
        let written = bytes.map_err(io::Error::other).and_then(|bytes| {
            writer.write_all(&bytes)?;
            writer.flush()
        });
        if let Err(error) = written {
            tracing::info!(%error, "a client does not read any more");
            return;
        }
    }
}

/// What is sent instead of a message that is too long.
fn too_long(message: &Message, error: &FrameError) -> Message {
    match message {
        Message::Response(response) => Message::Response(Response {
            success: false,
            message: Some(error.to_string()),
            body: None,
            ..response.clone()
        }),
        other => other.clone(),
    }
}

impl Session {
    fn run(mut self, reader: impl Read, settled: impl FnOnce()) {
        if let Err(error) = self.read_all(reader, settled) {
            tracing::warn!(%error, "a client was dropped");
        }
        self.shared.remove_client(&self.client, !self.leaving);
    }

    fn read_all(&mut self, mut reader: impl Read, settled: impl FnOnce()) -> Result<(), FrameError> {
        let mut settled = Some(settled);
        let mut held = Vec::new();
        let mut chunk = vec![0; READ_BYTES];
        while !self.leaving {
            while let Decoded::Message { message, consumed } = decode(&held)? {
                held.drain(..consumed);
                if let Some(settled) = settled.take() {
                    settled();
                }
                if let Message::Request(request) = message
                    && (!self.answer(&request) || self.leaving)
                {
                    return Ok(());
                }
            }
            match reader.read(&mut chunk) {
                Ok(0) => return Ok(()),
                Ok(count) => held.extend_from_slice(&chunk[..count]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => {
                    tracing::info!(%error, "a client is gone");
                    return Ok(());
                }
            }
        }
        Ok(())
    }

    /// Answers a request; false when the client cannot be reached any more.
    fn answer(&mut self, request: &Request) -> bool {
        let outcome = self.dispatch(request);
        let (success, message, body) = match outcome {
            Ok(body) => (true, None, body),
            Err(error) => {
                let text = error.to_string();
                // DAP, `ErrorResponse`: the text for people is in `body.error.format`.
                (false, Some(text.clone()), Some(serde_json::json!({"error": {"id": 1, "format": text}})))
            }
        };
        let (command, request_seq) = (request.command.clone(), request.seq);
        let sent = self.client.respond(Response { seq: 0, request_seq, success, command, message, body });
        // A client configures what it may: one that has to show a token does so once it has.
        let is_ready = self.trust == Trust::Known && self.phase >= Phase::Initialized && !self.is_announced;
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
            _ if self.trust == Trust::NeedsToken => return Err(SessionError::NeedsToken),
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
            extra::RUN => self.run_call(arguments(request)?).map(|()| None),
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
                let is_taken = self.shared.give_map(path, map);
                is_taken.then_some(None).ok_or(SessionError::TooManyMaps(MOST_GIVEN_MAPS))
            }
            extra::TAKE_OVER => self.take_over().and_then(body),
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
            self.trust = Trust::Known;
        }
        if self.phase == Phase::Connected {
            self.phase = Phase::Initialized;
        }
        body(Capabilities {
            supports_configuration_done_request: true,
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
                let events = self.shared.kinds.iter().map(convert::filter);
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
            name: object.name.clone(),
            editable: object.is_editable(),
            doc: Some(object.about.doc.clone()).filter(|doc| !doc.is_empty()),
        };
        HostBody {
            name: self.shared.name.clone(),
            process_id: std::process::id(),
            events: self.shared.kinds.iter().filter_map(|kind| serde_json::to_value(kind).ok()).collect(),
            objects: self.shared.objects.iter().map(object).collect(),
        }
    }
}

fn step(kind: adzeman_core::stepping::StepKind) -> crate::hold::Go {
    crate::hold::Go::Step(kind)
}

fn arguments<T: DeserializeOwned>(request: &Request) -> Result<T, SessionError> {
    let given = request.arguments.clone().unwrap_or_else(|| Json::Object(serde_json::Map::new()));
    serde_json::from_value(given)
        .map_err(|error| SessionError::BadArguments { command: request.command.clone(), why: error.to_string() })
}

fn body<T: Serialize>(value: T) -> Result<Option<Json>, SessionError> {
    Ok(Some(serde_json::to_value(&value)?))
}
