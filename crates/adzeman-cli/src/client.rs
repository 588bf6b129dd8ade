//! A client of the Debug Adapter Protocol over a connection: sends requests, keeps events for later.

use std::collections::VecDeque;
use std::io::{self, Read as _};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::discovery::Connection;
use adzeman_dap::events::LoadedSourceBody;
use adzeman_dap::extra::{TURNED_AWAY, TurnedAwayBody};
use adzeman_dap::requests::CancelArguments;
use adzeman_dap::types::Source;
use adzeman_dap::{Decoder, ErrorCode, Event, Message, Response};
use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, unbounded};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::error::{CliError, plain};
use crate::project::PathMaps;
use crate::reach::beside::Sending;
use crate::reach::launch::{self, Marked};
use crate::reach::saves::Saves;
use crate::render::Progress;
use crate::signals;

/// Longer than the host itself waits for a busy script, and for what may take as long as it is allowed to.
const ANSWER_WITHIN: Duration = Duration::from_secs(40);
/// For what nobody would miss: names to complete with.
const ANSWER_SOON: Duration = Duration::from_secs(1);
/// After this time without an answer, the person is told, and then every second.
const QUIET_FOR: Duration = Duration::from_secs(3);
/// Between two looks whether Ctrl-C was pressed.
const GLANCE: Duration = Duration::from_millis(50);
/// How long a request that was given up is waited for.
const GIVEN_UP_WITHIN: Duration = Duration::from_secs(2);
/// How long a host may take to take a request in.
const TAKEN_WITHIN: Duration = Duration::from_secs(10);

/// From the host.
enum Incoming {
    Response(Response),
    Event(Event),
    /// The host does not take this client, and says why.
    TurnedAway(String),
    End(String),
}

/// Is shown each event as it comes in, on another thread; true when that is all that should be done with it.
pub(crate) type Onlooker = Box<dyn FnMut(&Event) -> bool + Send>;

pub(crate) struct Client {
    sending: Sending,
    incoming: Receiver<Incoming>,
    events: VecDeque<Event>,
    ended: Option<String>,
    last_seq: i64,
    /// What the host is called while it does not answer.
    host: String,
    answer_within: Duration,
    onlooker: Arc<Mutex<Option<Onlooker>>>,
    /// Notes what scripts print, for a host whose own output is shown too.
    marks: Arc<Mutex<Option<Marked>>>,
    /// Watches the files of the scripts, if that was asked for.
    saves: Arc<Mutex<Option<Saves>>>,
}

impl Client {
    /// Speaks through a connection.
    pub(crate) fn over(connection: Connection, host: &str) -> Result<Self, CliError> {
        let broken = |why: io::Error| CliError::HostGone(plain(&why));
        connection.set_write_timeout(Some(TAKEN_WITHIN)).map_err(broken)?;
        let reader = connection.try_clone().map_err(broken)?;
        let sending = Sending::over(connection, 0);
        let (sender, incoming) = unbounded();
        let onlooker = Arc::new(Mutex::new(None));
        let looking = onlooker.clone();
        let marks = Arc::new(Mutex::new(None));
        let marking = marks.clone();
        let saves = Arc::new(Mutex::new(None));
        let reading = Reading {
            sending: sending.clone(),
            sender,
            onlooker: looking.clone(),
            marks: marking,
            saves: saves.clone(),
        };
        thread::Builder::new()
            .name("adzeman-client".to_owned())
            .spawn(move || {
                let end = reading.read_all(reader);
                let gone = Event { seq: 0, event: "terminated".to_owned(), body: None };
                if let Some(look) = looking.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                    look(&gone);
                }
                // The session may be over already.
                let _ = reading.sender.send(Incoming::End(end));
            })
            .map_err(broken)?;
        Ok(Self {
            sending,
            incoming,
            events: VecDeque::new(),
            ended: None,
            last_seq: 0,
            host: host.to_owned(),
            answer_within: ANSWER_WITHIN,
            onlooker,
            marks,
            saves,
        })
    }

    /// Has what scripts print noted.
    pub(crate) fn set_marks(&self, marks: Marked) {
        *self.marks.lock().unwrap_or_else(PoisonError::into_inner) = Some(marks);
    }

    /// Has the host given the text of each file of a script that is saved from now on; answers how many there are.
    pub(crate) fn follow_saves(&self, paths: PathMaps, sources: &[Source]) -> Result<usize, CliError> {
        let saves = Saves::begin(paths, self.sending.clone())?;
        sources.iter().try_for_each(|source| saves.note(source))?;
        let count = saves.count();
        *self.saves.lock().unwrap_or_else(PoisonError::into_inner) = Some(saves);
        Ok(count)
    }

    /// Whether that was asked for.
    pub(crate) fn follows_saves(&self) -> bool {
        self.saves.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }

    /// Ends that.
    pub(crate) fn pass_over_saves(&self) {
        let saves = self.saves.lock().unwrap_or_else(PoisonError::into_inner).take();
        drop(saves);
    }

    /// Has events shown as they come, or no longer.
    pub(crate) fn set_onlooker(&self, onlooker: Option<Onlooker>) {
        *self.onlooker.lock().unwrap_or_else(PoisonError::into_inner) = onlooker;
    }

    /// The host may take this much longer for its answers from now on.
    pub(crate) fn be_patient(&mut self, longer: Duration) {
        self.answer_within = ANSWER_WITHIN.saturating_add(longer);
    }

    /// The number of the last request.
    pub(crate) fn last_seq(&self) -> i64 {
        self.last_seq
    }

    /// Sends a request and waits for its answer. Ctrl-C gives it up, here and in the host.
    pub(crate) fn request<A: Serialize, B: DeserializeOwned>(
        &mut self,
        command: &str,
        arguments: &A,
    ) -> Result<B, CliError> {
        self.request_within(command, arguments, self.answer_within)
    }

    /// The same with another limit.
    pub(crate) fn request_within<A: Serialize, B: DeserializeOwned>(
        &mut self,
        command: &str,
        arguments: &A,
        limit: Duration,
    ) -> Result<B, CliError> {
        let seq = self.send(command, serde_json::to_value(arguments).map_err(|why| bad(command, &why))?)?;
        let response = self.response_to(seq, command, limit)?;
        understood(command, response)
    }

    /// The same for what takes so much longer than others.
    pub(crate) fn request_longer<A: Serialize, B: DeserializeOwned>(
        &mut self,
        command: &str,
        arguments: &A,
        longer: Duration,
    ) -> Result<B, CliError> {
        self.request_within(command, arguments, self.answer_within + longer)
    }

    /// The same for what the prompt can do without: nothing is said of it, and it is not waited for for long.
    pub(crate) fn ask_soon<A: Serialize, B: DeserializeOwned>(
        &mut self,
        command: &str,
        arguments: &A,
    ) -> Result<B, CliError> {
        let seq = self.send(command, serde_json::to_value(arguments).map_err(|why| bad(command, &why))?)?;
        let deadline = Instant::now() + ANSWER_SOON;
        match self.take_until(seq, deadline)? {
            Some(response) => understood(command, response),
            None => {
                self.cancel(seq)?;
                Err(CliError::NoAnswer(command.to_owned()))
            }
        }
    }

    fn send(&mut self, command: &str, arguments: serde_json::Value) -> Result<i64, CliError> {
        match self.sending.send(command, arguments) {
            Ok(seq) => {
                self.last_seq = seq;
                Ok(seq)
            }
            Err(error) if error.kind() == io::ErrorKind::Other => Err(CliError::Usage(error.to_string())),
            Err(error) => Err(CliError::HostGone(self.ended.clone().unwrap_or_else(|| plain(&error)))),
        }
    }

    /// Has the host give a request up; its answer is passed over when it comes.
    fn cancel(&mut self, seq: i64) -> Result<(), CliError> {
        let arguments = CancelArguments { request_id: Some(seq) };
        self.send("cancel", serde_json::to_value(arguments).map_err(|why| bad("cancel", &why))?).map(|_| ())
    }

    fn response_to(&mut self, seq: i64, command: &str, limit: Duration) -> Result<Response, CliError> {
        let asked = Instant::now();
        let mut progress = Progress::default();
        // What may take longer than usual is not late before that.
        let quiet_for = limit.saturating_sub(self.answer_within) + QUIET_FOR;
        while asked.elapsed() < limit {
            if let Some(response) = self.take_until(seq, Instant::now() + GLANCE)? {
                return Ok(response);
            }
            self.take_progress().into_iter().for_each(|message| progress.show(&message));
            if signals::take_interrupt() {
                self.cancel(seq)?;
                self.take_until(seq, Instant::now() + GIVEN_UP_WITHIN)?;
                return Err(CliError::GivenUp(format!("'{command}'")));
            }
            if asked.elapsed() > quiet_for {
                progress.tell(&self.host, asked.elapsed());
            }
        }
        self.cancel(seq)?;
        Err(CliError::NoAnswer(command.to_owned()))
    }

    /// How far what is waited for has come, as far as the host has said so since the last time.
    fn take_progress(&mut self) -> Vec<String> {
        let (told, rest) =
            self.events.drain(..).partition::<VecDeque<_>, _>(|event| event.event.starts_with("progress"));
        self.events = rest;
        told.into_iter().filter_map(|event| Some(event.body?["message"].as_str()?.to_owned())).collect()
    }

    /// The answer to a request, if it comes in time; what else comes is kept.
    fn take_until(&mut self, seq: i64, deadline: Instant) -> Result<Option<Response>, CliError> {
        loop {
            match self.incoming.recv_deadline(deadline) {
                Ok(Incoming::Response(response)) if response.request_seq == seq => return Ok(Some(response)),
                // An answer that nobody waits for any more.
                Ok(Incoming::Response(_)) => {}
                Ok(Incoming::Event(event)) => self.events.push_back(event),
                Ok(Incoming::TurnedAway(why)) => return Err(CliError::TurnedAway(why)),
                Ok(Incoming::End(why)) => {
                    self.ended = Some(why.clone());
                    return Err(CliError::HostGone(why));
                }
                Err(RecvTimeoutError::Timeout) => return Ok(None),
                Err(RecvTimeoutError::Disconnected) => {
                    return Err(CliError::HostGone("it closed the connection".to_owned()));
                }
            }
        }
    }

    /// The next event, waiting for at most `wait`.
    pub(crate) fn next_event(&mut self, wait: Duration) -> Result<Option<Event>, CliError> {
        if let Some(event) = self.events.pop_front() {
            return Ok(Some(event));
        }
        if let Some(why) = &self.ended {
            return Err(CliError::HostGone(why.clone()));
        }
        match self.incoming.recv_timeout(wait) {
            Ok(Incoming::Event(event)) => Ok(Some(event)),
            Ok(Incoming::Response(_)) | Err(RecvTimeoutError::Timeout) => Ok(None),
            Ok(Incoming::TurnedAway(why)) => Err(CliError::TurnedAway(why)),
            Ok(Incoming::End(why)) => {
                self.ended = Some(why.clone());
                Err(CliError::HostGone(why))
            }
            Err(RecvTimeoutError::Disconnected) => Err(CliError::HostGone("it closed the connection".to_owned())),
        }
    }

    /// Waits for the event `name`, putting others aside.
    pub(crate) fn wait_for(&mut self, name: &str, within: Duration) -> Result<(), CliError> {
        let deadline = Instant::now() + within;
        let mut aside = VecDeque::new();
        let mut found = false;
        while !found && Instant::now() < deadline {
            if signals::take_interrupt() {
                return Err(CliError::GivenUp("attaching".to_owned()));
            }
            match self.next_event(Duration::from_millis(50))? {
                Some(event) if event.event == name => found = true,
                Some(event) => aside.push_back(event),
                None => {}
            }
        }
        aside.append(&mut self.events);
        self.events = aside;
        if found { Ok(()) } else { Err(CliError::NoAnswer(name.to_owned())) }
    }
}

/// An answer, understood.
fn understood<B: DeserializeOwned>(command: &str, response: Response) -> Result<B, CliError> {
    if !response.success {
        let code = response.body.as_ref().and_then(|body| body["error"]["id"].as_i64()).map(ErrorCode::of);
        let why = response.message.unwrap_or_else(|| format!("'{command}' was refused"));
        return Err(CliError::RefusedByHost { why, code: code.unwrap_or(ErrorCode::Other) });
    }
    serde_json::from_value(response.body.unwrap_or_default()).map_err(|why| bad(command, &why))
}

fn bad(command: &str, why: &serde_json::Error) -> CliError {
    CliError::BadAnswer { command: command.to_owned(), why: why.to_string() }
}

impl Drop for Client {
    fn drop(&mut self) {
        // Ends the thread that reads, too.
        self.sending.close();
    }
}

/// What the thread that reads hands on to.
struct Reading {
    sending: Sending,
    sender: Sender<Incoming>,
    onlooker: Arc<Mutex<Option<Onlooker>>>,
    marks: Arc<Mutex<Option<Marked>>>,
    saves: Arc<Mutex<Option<Saves>>>,
}

impl Reading {
    /// Reads until the end; answers why it ended.
    fn read_all(&self, mut reader: Connection) -> String {
        let mut decoder = Decoder::default();
        let mut chunk = vec![0; 64 * 1024];
        loop {
            loop {
                match decoder.next_message() {
                    Ok(None) => break,
                    Ok(Some((message, _))) => {
                        if !self.pass_on(message) {
                            return "the session is over".to_owned();
                        }
                    }
                    Err(error) => return error.to_string(),
                }
            }
            match reader.read(&mut chunk) {
                Ok(0) => return "it closed the connection".to_owned(),
                Ok(count) => decoder.push(&chunk[..count]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return plain(&error),
            }
        }
    }

    fn pass_on(&self, message: Message) -> bool {
        match message {
            Message::Response(response) => match self.sending.answered(response) {
                Ok(event) => self.show(event),
                Err(response) => self.sender.send(Incoming::Response(response)).is_ok(),
            },
            Message::Event(event) if event.event == TURNED_AWAY => {
                let told = event.body.and_then(|body| serde_json::from_value::<TurnedAwayBody>(body).ok());
                self.sender.send(Incoming::TurnedAway(told.unwrap_or_default().reason)).is_ok()
            }
            Message::Event(event) => {
                if let Some(marked) = &*self.marks.lock().unwrap_or_else(PoisonError::into_inner) {
                    note_output(&event, marked);
                }
                note_source(&event, &self.saves);
                self.show(event)
            }
            // A host asks nothing of this client.
            Message::Request(_) => true,
        }
    }

    fn show(&self, event: Event) -> bool {
        let mut onlooker = self.onlooker.lock().unwrap_or_else(PoisonError::into_inner);
        let is_done = onlooker.as_mut().is_some_and(|look| look(&event));
        is_done || self.sender.send(Incoming::Event(event)).is_ok()
    }
}

fn note_output(event: &Event, marked: &Marked) {
    let body = event.body.as_ref().filter(|body| event.event == "output" && body["category"] == "stdout");
    if let Some(text) = body.and_then(|body| body["output"].as_str()) {
        launch::mark(marked, text);
    }
}

/// Has the file of a script watched that was loaded just now, if files are.
fn note_source(event: &Event, saves: &Mutex<Option<Saves>>) {
    if event.event != "loadedSource" {
        return;
    }
    let saves = saves.lock().unwrap_or_else(PoisonError::into_inner);
    let body = event.body.clone().and_then(|body| serde_json::from_value::<LoadedSourceBody>(body).ok());
    if let (Some(saves), Some(body)) = (&*saves, body) {
        // A folder that cannot be watched was said when the first ones were.
        let _ = saves.note(&body.source);
    }
}
