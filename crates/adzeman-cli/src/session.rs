//! A session with a host: what is known of it, and the stop being looked at.

use std::collections::HashMap;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_dap::Event;
use adzeman_dap::events::{BreakpointBody, ContinuedBody, LoadedSourceBody, OutputBody, StoppedBody};
use adzeman_dap::extra::{
    self, ArmedArguments, AttachArguments, DroppedBody, HandlerLeftBody, HostBody, LibraryArguments, RanBody, RoleBody,
    SourceMapArguments, StatusBody,
};
use adzeman_dap::requests::{
    CancelArguments, InitializeArguments, LoadedSourcesBody, StackTraceArguments, StackTraceBody, ThreadsBody,
};
use adzeman_dap::types::{Source, StackFrame, Thread};
use serde::de::DeserializeOwned;
use serde_json::json;

use crate::client::Client;
use crate::command::{self, Break, Monitor, Watch};
use crate::error::CliError;
use crate::launch::{Launch, Launched, Marked};
use crate::maps;
use crate::paths::{PathMaps, Stale};
use crate::project::Project;
use crate::reach::{self, Reached};
use crate::render::Printer;
use crate::report::{Notice, Report};
use crate::run::{MOST_BREAKPOINTS, More};
use crate::signals;

/// Frames fetched at a stop; deeper ones when they are asked for.
const FIRST_FRAMES: usize = 50;
/// Between two looks at whether Ctrl-C was pressed.
const GLANCE: Duration = Duration::from_millis(50);
/// After this time without a stop, the prompt says that it waits.
const PATIENT_FOR: Duration = Duration::from_millis(600);
/// The host says hello at once, or it is no host.
const HELLO_WITHIN: Duration = Duration::from_secs(10);

/// A breakpoint of this session.
#[derive(Debug, Clone)]
pub(crate) struct Held {
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

impl Held {
    /// How it stands, for people.
    pub(crate) fn notice(&self) -> Notice {
        Notice::Breakpoint { number: self.number, bound: self.bound, note: self.note.clone() }
    }
}

/// A watch of this session.
#[derive(Debug, Clone)]
pub(crate) struct HeldWatch {
    pub(crate) number: usize,
    pub(crate) wanted: Watch,
    /// Whether the project file holds it.
    pub(crate) is_kept: bool,
}

/// A monitor of this session.
#[derive(Debug, Clone)]
pub(crate) struct HeldMonitor {
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

pub(crate) struct Session<'a> {
    pub(crate) client: Client,
    pub(crate) printer: &'a Printer,
    pub(crate) host: HostBody,
    pub(crate) contexts: Vec<Thread>,
    /// The context that is held, if one is.
    pub(crate) stopped: Option<i64>,
    /// The context being looked at.
    pub(crate) selected: Option<i64>,
    pub(crate) frames: Vec<StackFrame>,
    pub(crate) frames_in_all: usize,
    /// The frame being looked at, counted from 0 at the innermost.
    pub(crate) frame: usize,
    /// Lines that were seen to run on the way to the stop, in the function that stopped.
    pub(crate) lines_ran: Vec<i64>,
    pub(crate) breakpoints: Vec<Held>,
    pub(crate) last_number: usize,
    pub(crate) watches: Vec<HeldWatch>,
    pub(crate) last_watch: usize,
    pub(crate) monitors: Vec<HeldMonitor>,
    pub(crate) last_monitor: usize,
    /// What `more` shows.
    pub(crate) more: Option<More>,
    /// Whether breakpoints are armed at all.
    pub(crate) armed: bool,
    /// Sources that steps pass over.
    pub(crate) library: LibraryArguments,
    /// Where the host's sources are here.
    pub(crate) paths: PathMaps,
    /// Files here that are not what the host runs, by the host's path.
    pub(crate) stale: HashMap<String, Stale>,
    pub(crate) project: Project,
    /// Breakpoints of the project file that could not be set.
    pub(crate) unset: Vec<String>,
    /// The call that a person asked for and that is under way.
    pub(crate) call: Option<String>,
    /// The number of the request that began it.
    pub(crate) call_seq: Option<i64>,
    /// How long `go` waits for a stop; for ever at the prompt.
    pub(crate) patience: Option<Duration>,
    /// A stop that was not shown yet.
    unseen: Option<StoppedBody>,
    /// Whether this client may do more than look, and who may.
    pub(crate) controls: bool,
    pub(crate) controlled_by: Option<String>,
    pub(crate) manner: Manner,
    /// What the host is found by when it is gone.
    target: String,
    how: String,
    /// The host, if it was started for this session.
    pub(crate) owned: Option<Owned>,
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
) -> Result<(Client, HostBody, RoleBody), CliError> {
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
    let role: RoleBody = client.request("attach", &arguments)?;
    client.wait_for("initialized", HELLO_WITHIN)?;
    let controls = role.role == "control";
    if !armed && controls {
        let _: serde_json::Value = client.request(extra::ARMED, &ArmedArguments { armed })?;
    }
    let has_library = !library.paths.is_empty() || library.own.as_ref().is_some_and(|own| !own.is_empty());
    if has_library && controls {
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
            stopped: None,
            selected: None,
            frames: Vec::new(),
            frames_in_all: 0,
            frame: 0,
            lines_ran: Vec::new(),
            breakpoints: Vec::new(),
            last_number: 0,
            watches: Vec::new(),
            last_watch: 0,
            monitors: Vec::new(),
            last_monitor: 0,
            more: None,
            armed,
            library,
            paths,
            stale: HashMap::new(),
            project,
            unset: Vec::new(),
            call: None,
            call_seq: None,
            patience,
            unseen: None,
            controls: role.role == "control",
            controlled_by: role.controlled_by,
            manner,
            target,
            how,
            owned: None,
        };
        session.refresh_contexts()?;
        Ok(session)
    }

    /// Takes a host that was started for this session.
    pub(crate) fn owns(&mut self, owned: Owned) {
        self.client.set_marks(owned.marked.clone());
        self.owned = Some(owned);
    }

    /// Ends the session; the host that was started for it is the caller's then.
    pub(crate) fn into_owned(self) -> Option<Owned> {
        self.owned
    }

    /// Ends the host that was started for this session, and starts it again.
    pub(crate) fn start_again(&mut self) -> Result<(), CliError> {
        let Some(mut owned) = self.owned.take() else {
            let why =
                "this host was not started by 'adzeman start'; end it as it was started, and attach with --follow";
            return Err(CliError::Refused(why.to_owned()));
        };
        owned.launched.end()?;
        let (launched, reached) = crate::batch::launch_shown(&owned.launch, &owned.marked, self.printer)?;
        self.target.clone_from(&reached.target);
        self.join(reached)?;
        self.owns(Owned { launched, ..owned });
        Ok(())
    }

    /// Tells the host that everything is set: scripts that it holds until someone is there may run.
    pub(crate) fn ready(&mut self) -> Result<(), CliError> {
        let _: serde_json::Value = self.client.request("configurationDone", &json!({}))?;
        self.hear_of_stops()
    }

    /// Sees to it that a stop that was under way before this client came is known: what a context is asked, it answers after
    /// it has told of its stop.
    fn hear_of_stops(&mut self) -> Result<(), CliError> {
        let status: StatusBody = self.client.request(extra::STATUS, &json!({}))?;
        let stopped = status.contexts.iter().filter(|context| context.state == "stopped");
        let ids =
            stopped.filter_map(|stopped| self.contexts.iter().find(|held| held.name == stopped.name)).map(|c| c.id);
        for thread_id in ids.collect::<Vec<_>>() {
            let arguments = StackTraceArguments { thread_id, start_frame: None, levels: Some(1) };
            match self.client.request::<_, StackTraceBody>("stackTrace", &arguments) {
                // It went on meanwhile.
                Err(CliError::Refused(_)) | Ok(_) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Waits until the host, which is gone, is there again, and sets everything again.
    pub(crate) fn come_back(&mut self) -> Result<(), CliError> {
        self.printer.notice(&Notice::Following { host: self.host.name.clone() });
        signals::forget_interrupt();
        let begun = Instant::now();
        loop {
            let reached = reach::wait_for(Some(&self.target), None, |waited| self.tell_waiting(waited))?;
            match self.join(reached) {
                // It was about to end, or is still busy with its start.
                Err(CliError::HostGone(_) | CliError::NotAHost { .. } | CliError::NoAnswer(_)) => {
                    self.tell_waiting(begun.elapsed())?;
                    thread::sleep(reach::LOOK_AGAIN_AFTER);
                }
                outcome => return outcome,
            }
        }
    }

    /// Attaches to a host that takes the place of the one before, and sets everything again.
    fn join(&mut self, reached: Reached) -> Result<(), CliError> {
        let (client, host, role) = open(reached, &self.manner, self.armed, &self.library)?;
        self.client = client;
        self.host = host;
        self.controls = role.role == "control";
        self.controlled_by = role.controlled_by;
        self.forget_stop();
        self.selected = None;
        self.refresh_contexts()?;
        self.compare_sources()?;
        self.give_maps()?;
        let breakpoints = self.set_again()?;
        self.ready()?;
        let (host, process_id) = (self.host.name.clone(), self.host.process_id);
        self.printer.notice(&Notice::AttachedAgain { host, process_id, breakpoints });
        for held in self.breakpoints.iter().filter(|held| held.id.is_none()) {
            self.printer.notice(&held.notice());
        }
        Ok(())
    }

    fn tell_waiting(&self, waited: Duration) -> Result<(), CliError> {
        self.printer.progress(&self.target, waited);
        if signals::take_interrupt() {
            return Err(CliError::HostGone("nobody waits for it any more".to_owned()));
        }
        Ok(())
    }

    /// Sets the breakpoints of the project file; one that cannot be set is told of, and stays in the file. Takes its watches.
    /// Answers how many breakpoints were set.
    pub(crate) fn set_kept(&mut self) -> Result<usize, CliError> {
        self.give_maps()?;
        let breaks = if self.controls { self.project.breaks() } else { Vec::new() };
        if breaks.len() > MOST_BREAKPOINTS {
            let why = format!("it has {} breakpoints, and a host takes {MOST_BREAKPOINTS} of one client", breaks.len());
            return Err(CliError::BadProject { file: self.project.shown(), why });
        }
        for line in breaks {
            let set = command::parse(&format!("break {line}")).and_then(|command| match command {
                command::Command::Break(wanted) => self.add_breakpoint(*wanted),
                _ => Err(CliError::Usage("that is no breakpoint".to_owned())),
            });
            match set {
                Ok(_) => self.breakpoints.iter_mut().last().into_iter().for_each(|held| held.is_kept = true),
                Err(error) if error.is_final() => return Err(error),
                Err(error) => {
                    let (file, why) = (self.project.shown(), error.to_string());
                    self.printer.notice(&Notice::NotSet { what: line.clone(), file, why });
                    self.unset.push(line);
                }
            }
        }
        for line in self.project.watches() {
            if let Ok(wanted) = command::parse_watch(&line) {
                self.add_watch(wanted, true);
            }
        }
        Ok(self.breakpoints.len())
    }

    /// What there is to say after attaching, with `kept` breakpoints of the project file.
    pub(crate) fn greeting(&self, kept: usize) -> Report {
        let event_name = |event: &serde_json::Value| event["name"].as_str().unwrap_or_default().to_owned();
        Report::Attached {
            by: self.how.clone(),
            controlled_by: self.controlled_by.clone().filter(|_| !self.controls),
            host: self.host.name.clone(),
            process_id: self.host.process_id,
            contexts: self.contexts.iter().map(|context| context.name.clone()).collect(),
            events: self.host.events.iter().map(event_name).collect(),
            objects: self.host.objects.iter().map(|object| object.name.clone()).collect(),
            kept,
            project: (kept > 0).then(|| self.project.shown()),
            armed: self.armed,
        }
    }

    pub(crate) fn refresh_contexts(&mut self) -> Result<(), CliError> {
        let body: ThreadsBody = self.client.request("threads", &json!({}))?;
        self.contexts = body.threads;
        Ok(())
    }

    pub(crate) fn context_name(&self, id: i64) -> String {
        let held = self.contexts.iter().find(|context| context.id == id);
        held.map_or_else(|| format!("context {id}"), |context| context.name.clone())
    }

    /// The context being looked at: the one chosen, the one that stopped, or the first.
    pub(crate) fn current_context(&self) -> Result<i64, CliError> {
        let first = || self.contexts.first().map(|context| context.id);
        let found = self.selected.or(self.stopped).or_else(first);
        found.ok_or_else(|| CliError::Refused("the host has opened no context yet; try again in a moment".to_owned()))
    }

    /// The number of the frame being looked at, if the context being looked at is the one that stopped.
    pub(crate) fn frame_id(&self) -> Option<i64> {
        (self.stopped.is_some() && self.selected == self.stopped)
            .then(|| self.frames.get(self.frame).map(|f| f.id))
            .flatten()
    }

    pub(crate) fn require_stop(&self) -> Result<i64, CliError> {
        self.stopped.ok_or_else(|| {
            CliError::Refused(
                "nothing is stopped; 'pause' stops at the next line, and 'look EXPRESSION' works while the host runs"
                    .to_owned(),
            )
        })
    }

    /// Takes notice of what happened meanwhile; a stop that came is kept to be shown. A host that is gone is waited for, if
    /// that was asked for.
    pub(crate) fn take_waiting(&mut self) -> Result<(), CliError> {
        match self.take_events() {
            Err(CliError::HostGone(_)) if self.manner.follow => self.come_back(),
            outcome => outcome,
        }
    }

    fn take_events(&mut self) -> Result<(), CliError> {
        while let Some(event) = self.client.next_event(Duration::ZERO)? {
            if let Some(Ended::Stopped(body)) = self.take(&event)? {
                self.unseen = Some(body);
            }
        }
        Ok(())
    }

    /// Shows a stop that came while nobody waited for it.
    pub(crate) fn show_unseen(&mut self) -> Result<(), CliError> {
        if let Some(report) = self.unseen_stop()? {
            self.printer.report(None, &report);
        }
        Ok(())
    }

    /// A stop that came while nobody waited for it, and was not shown yet.
    pub(crate) fn unseen_stop(&mut self) -> Result<Option<Report>, CliError> {
        self.unseen.take().map(|body| self.stopped_at(&body)).transpose()
    }

    /// Waits for a stop, or for the end of a step that left its handler. Ctrl-C asks for a pause.
    pub(crate) fn wait(&mut self) -> Result<Report, CliError> {
        let begun = Instant::now();
        let mut said_so = self.patience.is_some();
        signals::forget_interrupt();
        loop {
            if !said_so && begun.elapsed() > PATIENT_FOR {
                self.printer.waiting(&self.host.name);
                said_so = true;
            }
            if let Some(event) = self.client.next_event(GLANCE)? {
                match self.take(&event)? {
                    Some(Ended::Stopped(body)) => return self.stopped_at(&body),
                    Some(Ended::HandlerLeft(body)) => {
                        return Ok(Report::HandlerLeft {
                            host: self.host.name.clone(),
                            context: self.context_name(body.thread_id),
                            event: body.event,
                            subject: body.subject,
                            returned: body.returned,
                        });
                    }
                    Some(Ended::Ran(body)) => return self.ran(body),
                    None => {}
                }
            }
            if signals::take_interrupt() {
                self.interrupt()?;
            }
            if let Some(patience) = self.patience.filter(|patience| begun.elapsed() > *patience) {
                return Err(CliError::NoStop { seconds: patience.as_secs_f64() });
            }
        }
    }

    /// Ctrl-C while something is waited for: a call that a person asked for is cancelled, and scripts that run are stopped. A
    /// batch ends.
    fn interrupt(&mut self) -> Result<(), CliError> {
        if self.patience.is_some() {
            return Err(CliError::GivenUp("'go'".to_owned()));
        }
        if let Some(seq) = self.call_seq {
            let _: serde_json::Value = self.client.request("cancel", &CancelArguments { request_id: Some(seq) })?;
            return Ok(());
        }
        let thread_id = self.current_context()?;
        let _: serde_json::Value = self.client.request("pause", &json!({ "threadId": thread_id }))?;
        Ok(())
    }

    /// Takes notice of an event; answers what could end a wait.
    pub(crate) fn take(&mut self, event: &Event) -> Result<Option<Ended>, CliError> {
        match event.event.as_str() {
            "stopped" => {
                let body: StoppedBody = read(event)?;
                self.stopped = Some(body.thread_id);
                return Ok(Some(Ended::Stopped(body)));
            }
            "continued" => {
                let body: ContinuedBody = read(event)?;
                if self.stopped == Some(body.thread_id) {
                    self.forget_stop();
                }
            }
            extra::RAN => return Ok(Some(Ended::Ran(read(event)?))),
            extra::HANDLER_LEFT => return Ok(Some(Ended::HandlerLeft(read(event)?))),
            "output" => self.show_output(read(event)?),
            // Said in words by an output of its own.
            extra::STUCK => {}
            "breakpoint" => self.update_breakpoint(read(event)?),
            "loadedSource" => {
                let body: LoadedSourceBody = read(event)?;
                self.compare(&body.source);
            }
            "thread" => {
                self.refresh_contexts()?;
                self.set_waiting_changes()?;
            }
            "terminated" => return Err(CliError::HostGone("it has ended".to_owned())),
            extra::ROLE => {
                let body: RoleBody = read(event)?;
                self.controls = body.role == "control";
                self.controlled_by.clone_from(&body.controlled_by);
                self.printer.notice(&Notice::Role { controls: self.controls, controlled_by: body.controlled_by });
            }
            extra::DROPPED => {
                let body: DroppedBody = read(event)?;
                self.printer.notice(&Notice::Dropped { messages: body.messages });
            }
            _ => {}
        }
        Ok(None)
    }

    /// Gives the host the source maps that the project file names; one that cannot be read is told of.
    fn give_maps(&mut self) -> Result<(), CliError> {
        for (path, file) in if self.controls { self.project.maps() } else { Vec::new() } {
            match maps::read(&file) {
                Ok(map) => {
                    let _: serde_json::Value =
                        self.client.request(extra::SOURCE_MAP, &SourceMapArguments { path, map })?;
                }
                Err(why) => {
                    let what = format!("the source map {}", file.display());
                    self.printer.notice(&Notice::NotSet { what, file: self.project.shown(), why });
                }
            }
        }
        Ok(())
    }

    /// Says which files here are not what the host runs.
    pub(crate) fn compare_sources(&mut self) -> Result<(), CliError> {
        let body: LoadedSourcesBody = self.client.request("loadedSources", &json!({}))?;
        self.stale.clear();
        body.sources.iter().for_each(|source| self.compare(source));
        Ok(())
    }

    /// Says so if the file here that stands for a source has another text.
    fn compare(&mut self, source: &Source) {
        let Some(path) = source.path.clone() else { return };
        match self.paths.stale(source) {
            Some(stale) => {
                self.printer.notice(&Notice::Stale(stale.clone()));
                self.stale.insert(path, stale);
            }
            None => {
                self.stale.remove(&path);
            }
        }
    }

    fn show_output(&self, body: OutputBody) {
        let path = body.source.and_then(|source| source.path).map(|path| self.paths.to_local(&path));
        let (category, text) = (body.category, body.output);
        let bell = body.bell == Some(true);
        self.printer.notice(&Notice::Output { category, text, path, line: body.line, bell });
    }

    fn update_breakpoint(&mut self, body: BreakpointBody) {
        let now = body.breakpoint;
        let held = self.breakpoints.iter_mut().find(|held| held.id.is_some() && held.id == now.id);
        if let Some(held) = held {
            (held.bound, held.note) = (now.verified, now.message);
            self.printer.notice(&held.notice());
        }
    }

    /// Forgets what was shown of a stop: it is over. The context stays the one being looked at.
    pub(crate) fn forget_stop(&mut self) {
        self.stopped = None;
        self.frames.clear();
        self.frames_in_all = 0;
        self.frame = 0;
        self.lines_ran.clear();
        self.more = None;
        self.unseen = None;
    }

    pub(crate) fn stopped_at(&mut self, body: &StoppedBody) -> Result<Report, CliError> {
        self.unseen = None;
        self.lines_ran = body.lines_ran.clone().unwrap_or_default();
        self.stopped = Some(body.thread_id);
        self.selected = self.stopped;
        self.look_from_the_script()?;
        let stop = self.stop_report(body)?;
        Ok(Report::Stop { stop: Box::new(stop) })
    }

    /// Fetches the first frames, and looks from the innermost one that is the script's own.
    fn look_from_the_script(&mut self) -> Result<(), CliError> {
        self.frame = 0;
        self.fetch_frames(0, FIRST_FRAMES)?;
        self.frame = self.frames.iter().position(|frame| frame.line > 0).unwrap_or(0);
        Ok(())
    }

    /// A call that a person asked for is done; the stop it was asked from is there again.
    fn ran(&mut self, body: RanBody) -> Result<Report, CliError> {
        let call = self.call.take().unwrap_or_default();
        self.call_seq = None;
        let stop = if body.stopped {
            self.stopped = Some(body.thread_id);
            self.selected = self.stopped;
            self.look_from_the_script()?;
            let here = StoppedBody { thread_id: body.thread_id, reason: "here".to_owned(), ..StoppedBody::default() };
            Some(Box::new(self.stop_report(&here)?))
        } else {
            None
        };
        Ok(Report::Ran { call, success: body.success, result: body.result, type_name: body.type_name, stop })
    }

    /// Fetches frames of the stopped context, from `start` on.
    pub(crate) fn fetch_frames(&mut self, start: usize, count: usize) -> Result<(), CliError> {
        let thread_id = self.require_stop()?;
        let arguments = StackTraceArguments { thread_id, start_frame: Some(start), levels: Some(count) };
        let body: StackTraceBody = self.client.request("stackTrace", &arguments)?;
        self.frames.truncate(start);
        self.frames.extend(body.stack_frames);
        self.frames_in_all = body.total_frames;
        Ok(())
    }
}

pub(crate) fn read<T: DeserializeOwned>(event: &Event) -> Result<T, CliError> {
    serde_json::from_value(event.body.clone().unwrap_or_default())
        .map_err(|error| CliError::BadAnswer { command: event.event.clone(), why: error.to_string() })
}
