//! A session with a host: what is known of it, and the stop being looked at.

mod again;
mod breakpoints;
mod commands;
mod completing;
mod heap;
mod hearing;
mod joining;
mod line;
mod looking;
mod monitoring;
mod profile;
mod records;
mod reloading;
mod running;
mod sources;
mod trail;
mod values;
mod watching;

use std::collections::HashMap;
use std::time::Duration;

use adzeman_dap::Event;
use adzeman_dap::events::StoppedBody;
use adzeman_dap::extra::{
    self, ArmedArguments, AttachArguments, HandlerLeftBody, HostBody, LibraryArguments, RanBody, RoleBody,
};
use adzeman_dap::requests::{InitializeArguments, ThreadsBody};
use adzeman_dap::types::{StackFrame, Thread};
use serde::de::DeserializeOwned;
use serde_json::json;

use crate::client::Client;
use crate::command::{Break, Monitor, Watch};
use crate::error::CliError;
use crate::project::{PathMaps, Project, Stale};
use crate::reach::Reached;
use crate::reach::launch::{Launch, Launched, Marked};
use crate::render::Printer;
use crate::report::{Notice, Report};
use crate::signals;

pub(crate) use joining::launch_shown;
pub(crate) use line::{Next, run_line};

use values::More;

/// The version of this command.
const VERSION: &str = env!("CARGO_PKG_VERSION");

/// The host says hello at once, or it is no host.
const HELLO_WITHIN: Duration = Duration::from_secs(10);

/// A breakpoint of this session.
#[derive(Debug, Clone)]
pub(crate) struct KnownBreakpoint {
    pub(crate) number: usize,
    pub(crate) wanted: Break,
    /// The host's number for it.
    pub(crate) id: Option<u64>,
    pub(crate) bound: bool,
    pub(crate) note: Option<String>,
    /// What the host calls the value whose changes it waits for.
    pub(crate) data_id: Option<String>,
    /// Whether the project file holds it.
    pub(crate) is_kept: bool,
}

impl KnownBreakpoint {
    /// How it stands, for people.
    pub(crate) fn notice(&self) -> Notice {
        Notice::Breakpoint { number: self.number, bound: self.bound, note: self.note.clone() }
    }
}

/// A watch of this session.
#[derive(Debug, Clone)]
pub(crate) struct KnownWatch {
    pub(crate) number: usize,
    pub(crate) wanted: Watch,
    /// Whether the project file holds it.
    pub(crate) is_kept: bool,
}

/// A monitor of this session.
#[derive(Debug, Clone)]
pub(crate) struct KnownMonitor {
    pub(crate) number: usize,
    /// In which context it is evaluated.
    pub(crate) context: i64,
    pub(crate) wanted: Monitor,
}

/// What ends a wait.
pub(crate) enum Ended {
    Stopped(StoppedBody),
    HandlerLeft(HandlerLeftBody),
    Ran(RanBody),
}

/// A session with a host.
pub(crate) struct Session<'a> {
    pub(crate) client: Client,
    pub(crate) printer: &'a Printer,
    host: HostBody,
    contexts: Vec<Thread>,
    /// What is being looked at.
    at: Looking,
    /// Stops that are not being looked at, the first one first.
    elsewhere: Vec<StoppedBody>,
    breakpoints: Breakpoints,
    watches: Numbered<KnownWatch>,
    monitors: Numbered<KnownMonitor>,
    files: Files,
    /// The call that a person asked for and that is under way, and the number of the request that began it.
    call: Option<(String, i64)>,
    /// How long `go` waits for a stop; for ever at the prompt.
    patience: Option<Duration>,
    role: WhoControls,
    origin: Origin,
    /// Whether the host was told that everything is set.
    pub(crate) is_ready: bool,
}

/// The stop, and what of it is being looked at.
#[derive(Default)]
struct Looking {
    /// The context that is held, if one is.
    stopped: Option<i64>,
    /// The context being looked at.
    selected: Option<i64>,
    frames: Vec<StackFrame>,
    frames_in_all: usize,
    /// The frame being looked at, counted from 0 at the innermost.
    frame: usize,
    /// Lines that were seen to run on the way to the stop, in the function that stopped.
    lines_ran: Vec<i64>,
    /// What `more` shows.
    more: Option<More>,
    /// What the host said of the stop.
    stop: Option<StoppedBody>,
}

/// The breakpoints of this session.
#[derive(Default)]
struct Breakpoints {
    all: Vec<KnownBreakpoint>,
    last_number: usize,
    /// Whether they are armed at all.
    armed: bool,
    /// Those of the project file that could not be set.
    unset: Vec<String>,
}

/// Things that a person calls by their numbers.
struct Numbered<T> {
    all: Vec<T>,
    last_number: usize,
}

impl<T> Default for Numbered<T> {
    fn default() -> Self {
        Self { all: Vec::new(), last_number: 0 }
    }
}

/// What is known of the files of a project.
struct Files {
    project: Project,
    /// Sources that steps pass over.
    library: LibraryArguments,
    /// Where the host's sources are here.
    paths: PathMaps,
    /// Files here that are not what the host runs, by the host's path.
    stale: HashMap<String, Stale>,
}

/// Whether this client may do more than look, and who may.
struct WhoControls {
    controls: bool,
    controlled_by: Option<String>,
}

impl From<RoleBody> for WhoControls {
    fn from(role: RoleBody) -> Self {
        Self { controls: role.role == "control", controlled_by: role.controlled_by }
    }
}

/// Where the host comes from.
struct Origin {
    manner: Manner,
    /// What it is found by when it is gone.
    target: String,
    how: String,
    /// The host, if it was started for this session.
    owned: Option<Owned>,
}

/// A host that was started for a session.
pub(crate) struct Owned {
    pub(crate) launch: Launch,
    pub(crate) launched: Launched,
    pub(crate) marked: Marked,
}

/// How to attach, also when the host has been started again.
#[derive(Debug, Clone, Default)]
pub(crate) struct Manner {
    /// Look, and nothing else.
    pub(crate) observe: bool,
    pub(crate) take_over: bool,
    /// Whether to wait for a host that is gone.
    pub(crate) follow: bool,
    /// The only context to break in.
    pub(crate) only: Option<String>,
}

/// What a session begins with.
pub(crate) struct Opening {
    pub(crate) project: Project,
    pub(crate) armed: bool,
    pub(crate) patience: Option<Duration>,
    pub(crate) manner: Manner,
}

/// How long a stop is kept for a client that follows, when the client itself vanishes.
const KEPT_STOP_SECONDS: f64 = 10.0;

/// Greets a host and attaches to it.
fn open(
    reached: Reached,
    manner: &Manner,
    armed: bool,
    library: &LibraryArguments,
) -> Result<(Client, HostBody, WhoControls), CliError> {
    let (address, token) = (reached.how, reached.token);
    let mut client = Client::over(reached.connection, &reached.target)?;
    let not_a_host = |error: CliError| match error {
        CliError::HostGone(why) | CliError::BadAnswer { why, .. } => {
            CliError::NotAHost { address: address.clone(), why }
        }
        CliError::NoAnswer(_) => {
            let why = format!("it has said nothing for {} s; it may be stopped, or busy", HELLO_WITHIN.as_secs());
            CliError::NotAHost { address: address.clone(), why }
        }
        other => other,
    };
    let hello = InitializeArguments {
        client_name: Some(format!("adzeman {}", std::process::id())),
        supports_progress_reporting: Some(true),
        client_version: Some(VERSION.to_owned()),
        ..InitializeArguments::default()
    };
    signals::begin_session();
    let _: serde_json::Value = client.request_within("initialize", &hello, HELLO_WITHIN).map_err(not_a_host)?;
    let arguments = AttachArguments {
        token,
        role: manner.observe.then(|| "observe".to_owned()),
        take_over: manner.take_over.then_some(true),
        keep_stop_seconds: manner.follow.then_some(KEPT_STOP_SECONDS),
    };
    let role: WhoControls = client.request::<_, RoleBody>("attach", &arguments)?.into();
    client.wait_for("initialized", HELLO_WITHIN)?;
    if !armed && role.controls {
        let _: serde_json::Value = client.request(extra::ARMED, &ArmedArguments { armed })?;
    }
    let has_library = !library.paths.is_empty() || library.own.as_ref().is_some_and(|own| !own.is_empty());
    if has_library && role.controls {
        let _: serde_json::Value = client.request(extra::LIBRARY, library)?;
    }
    let host: HostBody = client.request(extra::HOST, &json!({}))?;
    Ok((client, host, role))
}

impl<'a> Session<'a> {
    /// Attaches to a host that was reached. Nothing is told to be ready yet: see [`ready`](Self::ready).
    pub(crate) fn attach(reached: Reached, opening: Opening, printer: &'a Printer) -> Result<Self, CliError> {
        let target = reached.target.clone();
        let how = reached.how.clone();
        let Opening { project, armed, patience, manner } = opening;
        let library = LibraryArguments { paths: project.library(), own: Some(project.own()) };
        let (client, host, role) = open(reached, &manner, armed, &library)?;
        let paths = project.paths();
        let mut session = Self {
            client,
            printer,
            host,
            contexts: Vec::new(),
            at: Looking::default(),
            elsewhere: Vec::new(),
            breakpoints: Breakpoints { armed, ..Breakpoints::default() },
            watches: Numbered::default(),
            monitors: Numbered::default(),
            files: Files { project, library, paths, stale: HashMap::new() },
            call: None,
            patience,
            role,
            origin: Origin { manner, target, how, owned: None },
            is_ready: false,
        };
        session.refresh_contexts()?;
        Ok(session)
    }

    /// Tells the host that everything is set: scripts that it holds until someone is there may run.
    pub(crate) fn ready(&mut self) -> Result<(), CliError> {
        let _: serde_json::Value = self.client.request("configurationDone", &json!({}))?;
        self.is_ready = true;
        self.hear_of_stops()
    }

    /// Takes in, and tells, what has happened since the person was asked last.
    pub(crate) fn catch_up(&mut self) -> Result<(), CliError> {
        let heard = self.take_waiting().and_then(|()| self.show_own_stop());
        self.tell_failure(heard)
    }

    /// Tells what came of something that nobody typed, so that Ctrl-C there gives the prompt back, as anywhere. What ends the
    /// session is handed on.
    pub(crate) fn tell_failure(&self, outcome: Result<(), CliError>) -> Result<(), CliError> {
        match outcome {
            Err(error) if !error.is_final() => self.printer.error(None, &error),
            other => return other,
        }
        Ok(())
    }

    /// What there is to say after attaching, with `kept` breakpoints of the project file.
    pub(crate) fn greeting(&self, kept: usize) -> Report {
        let event_name = |event: &serde_json::Value| event["name"].as_str().unwrap_or_default().to_owned();
        Report::Attached {
            by: self.origin.how.clone(),
            controlled_by: self.role.controlled_by.clone().filter(|_| !self.role.controls),
            host: self.host.name.clone(),
            process_id: self.host.process_id,
            other_version: self.host.version.clone().filter(|version| version != VERSION),
            contexts: self.contexts.iter().map(|context| context.name.clone()).collect(),
            events: self.host.events.iter().map(event_name).collect(),
            objects: self.host.objects.iter().map(|object| object.name.clone()).collect(),
            kept,
            project: (kept > 0).then(|| self.files.project.shown()),
            armed: self.breakpoints.armed,
        }
    }

    pub(crate) fn refresh_contexts(&mut self) -> Result<(), CliError> {
        let body: ThreadsBody = self.client.request("threads", &json!({}))?;
        self.contexts = body.threads;
        Ok(())
    }

    /// What the prompt shows: the context and line being looked at, or that the host runs.
    pub(crate) fn prompt(&self) -> String {
        let Some(stopped) = self.at.stopped else { return format!("{} runs ›", self.host.name) };
        if !self.at.frames.is_empty() && self.at.frames.iter().all(|frame| frame.line <= 0) {
            return format!("{} ›", self.host.name);
        }
        let context = self.at.selected.unwrap_or(stopped);
        let place = self.at.frames.get(self.at.frame).filter(|frame| frame.line > 0 && context == stopped);
        let line = place.map_or(String::new(), |frame| format!(":{}", frame.line));
        format!("{}{line} ›", self.context_name(context))
    }

    pub(crate) fn context_name(&self, id: i64) -> String {
        let held = self.contexts.iter().find(|context| context.id == id);
        held.map_or_else(|| format!("context {id}"), |context| context.name.clone())
    }

    /// The context being looked at: the one chosen, the one that stopped, or the first.
    pub(crate) fn current_context(&self) -> Result<i64, CliError> {
        let first = || self.contexts.first().map(|context| context.id);
        let found = self.at.selected.or(self.at.stopped).or_else(first);
        found.ok_or_else(|| CliError::Refused("the host has opened no context yet; try again in a moment".to_owned()))
    }

    /// The context of this name.
    pub(crate) fn context_named(&mut self, name: &str) -> Result<i64, CliError> {
        self.refresh_contexts()?;
        let found = self.contexts.iter().find(|context| context.name == name).map(|context| context.id);
        found.ok_or_else(|| {
            let names: Vec<_> = self.contexts.iter().map(|context| context.name.as_str()).collect();
            CliError::Refused(format!("there is no context '{name}'; there is {}", names.join(", ")))
        })
    }

    /// The number of the frame being looked at, if the context being looked at is the one that stopped.
    pub(crate) fn frame_id(&self) -> Option<i64> {
        (self.at.stopped.is_some() && self.at.selected == self.at.stopped)
            .then(|| self.at.frames.get(self.at.frame).map(|f| f.id))
            .flatten()
    }

    /// The context that stopped, if it is the one being looked at.
    pub(crate) fn require_stop(&self) -> Result<i64, CliError> {
        let why = match (self.at.stopped, self.at.selected) {
            (Some(stopped), Some(selected)) if stopped != selected => {
                let (name, stopped) = (self.context_name(selected), self.context_name(stopped));
                format!("{name} is at no stop of its own; 'use context {stopped}' goes back to the one that is")
            }
            (Some(stopped), _) => return Ok(stopped),
            (None, _) => {
                "nothing is stopped; 'pause' stops at the next line, and 'look EXPRESSION' works while the host runs"
                    .to_owned()
            }
        };
        Err(CliError::Refused(why))
    }
}

pub(crate) fn read<T: DeserializeOwned>(event: &Event) -> Result<T, CliError> {
    serde_json::from_value(event.body.clone().unwrap_or_default())
        .map_err(|error| CliError::BadAnswer { command: event.event.clone(), why: error.to_string() })
}
