//! A host on its own thread and a client that speaks the protocol.

use crate::versions::adapted;
use std::collections::VecDeque;
use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex, mpsc};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use adzeman_dap::{Decoder, Message, Request, Response, encode};
use serde_json::{Value as Json, json};

/// Far more than anything here takes; only a fault reaches it.
pub(crate) const LONG: Duration = Duration::from_secs(300);

/// Waits until something is so.
#[track_caller]
pub(crate) fn until(mut is_so: impl FnMut() -> bool, what: &str) {
    let deadline = Instant::now() + LONG;
    while !is_so() {
        assert!(Instant::now() < deadline, "not so after {LONG:?}: {what}");
        thread::yield_now();
    }
}

/// What a client speaks through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Transport {
    Pipe,
    Socket,
}

/// The script that most scenarios run.
pub(crate) const SCRIPT: &str = "\
local base = 10
total = 0

local function fare(length)
  local sum = base + length
  return sum
end

function update(n)
  local length = n % 5
  local toll = fare(length)
  total = total + toll
  return total
end

-- the end
";

pub(crate) struct TestHost {
    pub(crate) host: Host,
    /// Frames done so far.
    pub(crate) frames: Arc<AtomicU64>,
    pub(crate) level: Arc<Mutex<Level>>,
    ending: Arc<AtomicBool>,
    thread: Option<JoinHandle<Option<f64>>>,
    go: Option<mpsc::Sender<()>>,
    transport: Transport,
}

#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub(crate) struct Level {
    pub(crate) metres: f64,
    pub(crate) names: Vec<String>,
}

impl TestHost {
    /// Starts a host whose thread waits for [`go`](Self::go), and then raises `frame.update` for `update(n)` again and
    /// again.
    pub(crate) fn start(transport: Transport, script: &str) -> Self {
        let level = Arc::new(Mutex::new(Level { metres: 1.5, names: vec!["upper".into(), "lower".into()] }));
        // Goes up by one every fifth frame.
        let gauge = Arc::new(Mutex::new(0_u64));
        let host = Host::builder("test")
            .event(EventKind::new("frame.update").doc("a frame").field("n", "its number"))
            .event(EventKind::new("never").doc("is not raised"))
            .event(EventKind::new("quiet").doc("no script handles it").field("n", "number of the frame"))
            .editable_object("lock", level.clone())
            .object("sealed", Arc::new(Mutex::new(7)))
            .object("gauge", gauge.clone())
            .start(if transport == Transport::Socket { Listen::ANY_PORT } else { Listen::Off })
            .unwrap();
        let (frames, ending) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let (go, may_go) = mpsc::channel();
        let (ready, is_ready) = mpsc::channel();
        let thread = thread::spawn({
            let (host, frames, ending, script) = (host.clone(), frames.clone(), ending.clone(), script.to_owned());
            move || {
                let lua = mlua::Lua::new();
                let context = LuaContext::attach(&host, &lua, "main").unwrap();
                context.load("scripts/toll.lua", &adapted(&script)).unwrap().call::<()>(()).unwrap();
                ready.send(()).unwrap();
                may_go.recv().ok()?;
                while !ending.load(SeqCst) {
                    let n = frames.load(SeqCst) + 1;
                    let update: mlua::Function = lua.globals().get("update").unwrap();
                    let event = Event::of("frame.update").subject(("frame", n)).with("n", n);
                    let _ = host.emit_repeatable(event, || update.call::<mlua::Value>(n));
                    let _ = host.emit(Event::of("quiet").with("n", n), || Ok::<_, String>(()));
                    *gauge.lock().unwrap() = n / 5;
                    frames.store(n, SeqCst);
                    thread::yield_now();
                }
                host.poll();
                lua.globals().get("total").ok()
            }
        });
        is_ready.recv_timeout(LONG).expect("the host starts");
        Self { host, frames, level, ending, thread: Some(thread), go: Some(go), transport }
    }

    /// Lets the frames begin.
    pub(crate) fn go(&self) {
        self.go.as_ref().unwrap().send(()).unwrap();
    }

    /// A client that has not said anything.
    pub(crate) fn connect(&self) -> Client {
        match self.transport {
            Transport::Pipe => {
                let (reader, writer) = self.host.connect().unwrap();
                Client::new(reader, Box::new(writer), None)
            }
            Transport::Socket => Client::connect(&self.host),
        }
    }

    /// A client that is attached.
    pub(crate) fn attach(&self) -> Client {
        self.attach_with(json!({}))
    }

    /// The same, with more to say when attaching.
    pub(crate) fn attach_with(&self, arguments: Json) -> Client {
        let mut client = self.connect();
        client.ok("initialize", json!({"clientName": "test"}));
        client.event("initialized");
        client.ok("attach", arguments);
        client.ok("configurationDone", json!({}));
        client
    }

    /// Waits until `count` more frames are done.
    pub(crate) fn wait_frames(&self, count: u64) {
        let wanted = self.frames.load(SeqCst) + count;
        until(|| self.frames.load(SeqCst) >= wanted, "the host goes on");
    }

    /// Ends the frames and answers the script's total.
    pub(crate) fn end(mut self) -> Option<f64> {
        self.ending.store(true, SeqCst);
        self.host.close();
        // A thread that was never let go ends.
        self.go = None;
        self.thread.take().and_then(|thread| thread.join().expect("the host's thread does not panic"))
    }
}

impl Drop for TestHost {
    fn drop(&mut self) {
        self.ending.store(true, SeqCst);
        self.host.close();
    }
}

/// Runs a scenario on every transport.
#[track_caller]
pub(crate) fn on_each(script: &str, scenario: impl Fn(&TestHost)) {
    for transport in [Transport::Pipe, Transport::Socket] {
        let host = TestHost::start(transport, script);
        scenario(&host);
        host.end();
    }
}

/// A host that runs on a thread of its own until it is dropped.
pub(crate) struct Works {
    pub(crate) host: Host,
    /// Set when it is to end.
    pub(crate) ending: Arc<AtomicBool>,
    running: Option<JoinHandle<()>>,
}

impl Works {
    pub(crate) fn start(host: Host, run: impl FnOnce(&Host, &Arc<AtomicBool>) + Send + 'static) -> Self {
        let ending = Arc::new(AtomicBool::new(false));
        let running = thread::spawn({
            let (host, ending) = (host.clone(), ending.clone());
            move || run(&host, &ending)
        });
        Self { host, ending, running: Some(running) }
    }

    pub(crate) fn attach(&self) -> Client {
        Client::attached(&self.host)
    }
}

impl Drop for Works {
    fn drop(&mut self) {
        self.ending.store(true, SeqCst);
        self.host.close();
        // A test that has failed may have left a script behind that never ends.
        if !thread::panicking() {
            let ended = self.running.take().map(JoinHandle::join);
            assert!(ended.is_some_and(|ended| ended.is_ok()), "the host's thread does not panic");
        }
    }
}

pub(crate) struct Client {
    messages: mpsc::Receiver<Message>,
    writer: Box<dyn Write + Send>,
    socket: Option<TcpStream>,
    events: VecDeque<adzeman_dap::Event>,
    /// Answers that came before they were waited for.
    answers: Vec<Response>,
    last_seq: i64,
    /// Shown to the host when it is greeted.
    token: Option<String>,
}

impl Client {
    fn new(mut reader: impl Read + Send + 'static, writer: Box<dyn Write + Send>, socket: Option<TcpStream>) -> Self {
        let (sender, messages) = mpsc::channel();
        thread::spawn(move || {
            let mut decoder = Decoder::default();
            let mut chunk = [0; 4096];
            loop {
                while let Some((message, _)) = decoder.next_message().expect("the host speaks the protocol") {
                    if sender.send(message).is_err() {
                        return;
                    }
                }
                match reader.read(&mut chunk) {
                    Ok(count) if count > 0 => decoder.push(&chunk[..count]),
                    _ => return,
                }
            }
        });
        Self { messages, writer, socket, events: VecDeque::new(), answers: Vec::new(), last_seq: 0, token: None }
    }

    /// One that has not said anything, within the process.
    pub(crate) fn within(reader: adzeman::PipeReader, writer: adzeman::PipeWriter) -> Self {
        Self::new(reader, Box::new(writer), None)
    }

    /// One that has not said anything, over a socket to a host that listens.
    pub(crate) fn connect(host: &Host) -> Self {
        let mut client = Self::over(TcpStream::connect(host.address().unwrap()).unwrap());
        client.token = Some(host.token());
        client
    }

    /// One over a socket that is attached, and may say yet what it wants set.
    #[track_caller]
    pub(crate) fn attached(host: &Host) -> Self {
        let mut client = Self::connect(host);
        client.ok("initialize", json!({}));
        client.event("initialized");
        client.ok("attach", json!({}));
        client
    }

    /// A client over a socket.
    pub(crate) fn over(stream: TcpStream) -> Self {
        let (reader, kept) = (stream.try_clone().unwrap(), stream.try_clone().unwrap());
        Self::new(reader, Box::new(stream), Some(kept))
    }

    pub(crate) fn send_raw(&mut self, bytes: &[u8]) {
        // The host may have hung up already, which the test then sees as the end.
        let _ = self.writer.write_all(bytes);
    }

    /// Whether the host has hung up, with nothing more to say than events.
    pub(crate) fn is_dropped(&mut self) -> bool {
        let deadline = Instant::now() + LONG;
        loop {
            match self.message_until(deadline) {
                Ok(Message::Event(event)) => self.events.push_back(event),
                Ok(_) => {}
                Err(mpsc::RecvTimeoutError::Disconnected) => return true,
                Err(mpsc::RecvTimeoutError::Timeout) => return false,
            }
        }
    }

    pub(crate) fn send(&mut self, command: &str, mut arguments: Json) -> i64 {
        if let Some(token) = self.token.as_ref().filter(|_| command == "initialize") {
            arguments["token"] = token.as_str().into();
        }
        self.last_seq += 1;
        let request = Request { seq: self.last_seq, command: command.to_owned(), arguments: Some(arguments) };
        self.writer.write_all(&encode(&Message::Request(request)).unwrap()).unwrap();
        self.last_seq
    }

    /// The next message of the host. One that goes on saying other things than what is waited for does not keep a test for ever.
    fn message_until(&self, deadline: Instant) -> Result<Message, mpsc::RecvTimeoutError> {
        self.messages.recv_timeout(deadline.saturating_duration_since(Instant::now()))
    }

    #[track_caller]
    pub(crate) fn request(&mut self, command: &str, arguments: Json) -> Response {
        let seq = self.send(command, arguments);
        let deadline = Instant::now() + LONG;
        loop {
            match self.message_until(deadline).expect("an answer") {
                Message::Response(response) if response.request_seq == seq => return response,
                Message::Response(other) => self.answers.push(other),
                Message::Event(event) => self.events.push_back(event),
                Message::Request(request) => panic!("the host asks for {request:?}"),
            }
        }
    }

    /// The answer to a request that was sent before.
    #[track_caller]
    pub(crate) fn answer_to(&mut self, seq: i64) -> Response {
        let deadline = Instant::now() + LONG;
        loop {
            if let Some(at) = self.answers.iter().position(|answer| answer.request_seq == seq) {
                return self.answers.remove(at);
            }
            match self.message_until(deadline).expect("an answer") {
                Message::Response(response) => self.answers.push(response),
                Message::Event(event) => self.events.push_back(event),
                Message::Request(request) => panic!("the host asks for {request:?}"),
            }
        }
    }

    /// A request that must succeed; answers its body. On a machine that stands still for two seconds the host comes to no safe
    /// point in time, and says so: it is asked again. So is one whose thread has not come so far that there is a context.
    #[track_caller]
    pub(crate) fn ok(&mut self, command: &str, arguments: Json) -> Json {
        const TIMES: usize = 20;
        let deadline = Instant::now() + LONG;
        let mut late = 0;
        let response = loop {
            let response = self.request(command, arguments.clone());
            let why = response.message.as_deref().unwrap_or_default();
            let is_early = why.contains("there is no context") && Instant::now() < deadline;
            let is_late = why.contains("is running; pause it first, or wait") && late < TIMES;
            late += usize::from(is_late);
            if !is_early && !is_late {
                break response;
            }
            thread::sleep(Duration::from_millis(1));
        };
        assert!(response.success, "{command}: {:?}", response.message);
        response.body.unwrap_or_default()
    }

    /// A request that must be refused; answers why.
    #[track_caller]
    pub(crate) fn refused(&mut self, command: &str, arguments: Json) -> String {
        let response = self.request(command, arguments);
        assert!(!response.success, "{command} was done: {:?}", response.body);
        response.message.expect("a refusal says why")
    }

    /// Forgets the events that have come until now.
    pub(crate) fn forget_events(&mut self) {
        self.ok("adzeman/status", json!({}));
        self.events.clear();
    }

    /// Whether an event of this name has come already.
    pub(crate) fn has_event(&self, name: &str) -> bool {
        self.events.iter().any(|event| event.event == name)
    }

    /// Waits for an event of this name and answers its body.
    #[track_caller]
    pub(crate) fn event(&mut self, name: &str) -> Json {
        self.first_of(&[name]).1
    }

    /// Waits for an event of one of these names; answers which, and its body.
    #[track_caller]
    pub(crate) fn first_of(&mut self, names: &[&str]) -> (String, Json) {
        let is_one = |event: &adzeman_dap::Event| names.contains(&event.event.as_str());
        if let Some(event) = self.events.iter().position(is_one).and_then(|at| self.events.remove(at)) {
            return (event.event, event.body.unwrap_or_default());
        }
        let deadline = Instant::now() + LONG;
        loop {
            match self.message_until(deadline).unwrap_or_else(|error| panic!("no {names:?}: {error}")) {
                Message::Event(event) if is_one(&event) => return (event.event, event.body.unwrap_or_default()),
                Message::Event(event) => self.events.push_back(event),
                Message::Response(response) => self.answers.push(response),
                Message::Request(request) => panic!("the host asks for {request:?}"),
            }
        }
    }

    /// Sets breakpoints on lines of the script, each with a condition or none.
    #[track_caller]
    pub(crate) fn break_at(&mut self, lines: &[(i64, Option<&str>)]) -> Vec<Json> {
        let wanted: Vec<_> =
            lines.iter().map(|(line, condition)| json!({"line": line, "condition": condition})).collect();
        let body = self.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": wanted}));
        body["breakpoints"].as_array().unwrap().clone()
    }

    /// Waits for a stop; answers its body and the line of the innermost frame.
    #[track_caller]
    pub(crate) fn stopped(&mut self) -> (Json, i64) {
        let body = self.event("stopped");
        let frames = self.ok("stackTrace", json!({"threadId": body["threadId"]}));
        (body, frames["stackFrames"][0]["line"].as_i64().unwrap())
    }

    #[track_caller]
    pub(crate) fn go_on(&mut self, command: &str) {
        self.ok(command, json!({"threadId": 1}));
    }

    /// The frame at a position of the stack.
    #[track_caller]
    pub(crate) fn frame(&mut self, index: usize) -> Json {
        self.ok("stackTrace", json!({"threadId": 1}))["stackFrames"][index].clone()
    }

    /// `name = value` of each variable of a scope of the innermost frame.
    #[track_caller]
    pub(crate) fn scope(&mut self, title: &str) -> String {
        let frame = self.frame(0)["id"].clone();
        let scopes = self.ok("scopes", json!({"frameId": frame}));
        let scope = scopes["scopes"].as_array().unwrap().iter().find(|scope| scope["name"] == title).cloned();
        let reference = scope.unwrap_or_else(|| panic!("no {title} in {scopes}"))["variablesReference"].clone();
        self.inside(&reference)
    }

    /// `name = value` of each variable behind a reference.
    #[track_caller]
    pub(crate) fn inside(&mut self, reference: &Json) -> String {
        let body = self.ok("variables", json!({"variablesReference": reference}));
        let variables = body["variables"].as_array().unwrap().iter();
        let shown = variables.map(|variable| {
            format!("{} = {}", variable["name"].as_str().unwrap(), variable["value"].as_str().unwrap())
        });
        shown.collect::<Vec<_>>().join("; ")
    }

    /// Evaluates in the innermost frame.
    #[track_caller]
    pub(crate) fn evaluate(&mut self, text: &str) -> String {
        let frame = self.frame(0)["id"].clone();
        self.ok("evaluate", json!({"expression": text, "frameId": frame}))["result"].as_str().unwrap().to_owned()
    }

    /// Goes without a word.
    pub(crate) fn vanish(self) {}
}

impl Drop for Client {
    fn drop(&mut self) {
        if let Some(socket) = &self.socket {
            let _ = socket.shutdown(Shutdown::Both);
        }
    }
}
