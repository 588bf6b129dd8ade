//! `adzeman adapter`: the protocol on standard input and output, for editors that start an adapter. Joins them to a host, found as
//! `adzeman attach` finds it (`attach`), or started (`launch`).

use std::collections::BTreeMap;
use std::io::{self, Read as _, Write as _};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

use adzeman::discovery::Connection;
use adzeman_dap::{Decoder, Event, Message, Request, Response, encode};
use serde::Deserialize;
use serde_json::{Value as Json, json};

use super::Reached;
use super::launch::{Launch, Launched, Marked, ShowLine, Stream, mark};
use crate::error::{CliError, plain};

/// Requests of the adapter's own to the host have numbers from here on.
const OWN_SEQ: i64 = 1_000_000_000;

/// What an editor says when it attaches.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct AttachConfiguration {
    /// Name, process id or address; the only host there is when absent.
    host: Option<Json>,
}

/// What an editor says when it launches.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct LaunchConfiguration {
    program: String,
    args: Vec<String>,
    cwd: Option<PathBuf>,
    env: BTreeMap<String, String>,
    stop_on_entry: bool,
}

/// To the editor; several threads write.
type Editor = Arc<Mutex<ToEditor>>;

struct ToEditor {
    out: io::Stdout,
    last_seq: i64,
}

/// Tells the editor, by a number of the adapter's own: what it says itself and what the host says is one row of messages.
fn tell(editor: &Editor, message: Message) {
    let mut to = editor.lock().unwrap_or_else(PoisonError::into_inner);
    let seq = to.last_seq + 1;
    let message = match message {
        Message::Request(request) => Message::Request(Request { seq, ..request }),
        Message::Response(response) => Message::Response(Response { seq, ..response }),
        Message::Event(event) => Message::Event(Event { seq, ..event }),
    };
    if let Ok(bytes) = encode(&message) {
        to.last_seq = seq;
        // An editor that is gone is told nothing more; its standard input ends as well.
        let _ = to.out.write_all(&bytes).and_then(|()| to.out.flush());
    }
}

fn answer(editor: &Editor, request: &Request, outcome: Result<Json, String>) {
    let (success, message, body) = match outcome {
        Ok(body) => (true, None, body),
        Err(why) => (false, Some(why.clone()), json!({"error": {"id": 1, "format": why}})),
    };
    let (request_seq, command) = (request.seq, request.command.clone());
    tell(editor, Message::Response(Response { seq: 0, request_seq, success, command, message, body: Some(body) }));
}

fn event(editor: &Editor, name: &str, body: Json) {
    tell(editor, Message::Event(Event { seq: 0, event: name.to_owned(), body: Some(body) }));
}

struct Adapter {
    editor: Editor,
    hello: Json,
    host: Option<Connection>,
    launched: Option<Launched>,
    marked: Marked,
}

/// Serves one editor, until it goes.
pub(crate) fn serve() -> Result<(), CliError> {
    let mut adapter = Adapter {
        editor: Arc::new(Mutex::new(ToEditor { out: io::stdout(), last_seq: 0 })),
        hello: json!({}),
        host: None,
        launched: None,
        marked: Marked::default(),
    };
    let mut decoder = Decoder::default();
    let mut chunk = vec![0; 64 * 1024];
    let mut input = io::stdin().lock();
    loop {
        loop {
            match decoder.next_message() {
                Ok(None) => break,
                Ok(Some((message, _))) => {
                    if let Message::Request(request) = message
                        && !adapter.take(request)
                    {
                        return Ok(());
                    }
                }
                Err(error) => return Err(CliError::Usage(format!("the editor does not speak the protocol: {error}"))),
            }
        }
        match input.read(&mut chunk) {
            Ok(0) | Err(_) => return Ok(()),
            Ok(count) => decoder.push(&chunk[..count]),
        }
    }
}

impl Adapter {
    /// Takes a request of the editor; false when that was the last.
    fn take(&mut self, request: Request) -> bool {
        match request.command.as_str() {
            "initialize" if self.host.is_none() => {
                self.hello = request.arguments.clone().unwrap_or_default();
                // What the host itself can do is told once it is known.
                answer(&self.editor, &request, Ok(json!({"supportsConfigurationDoneRequest": true})));
            }
            "attach" | "launch" if self.host.is_none() => {
                if let Err(error) = self.join(&request) {
                    answer(&self.editor, &request, Err(error.to_string()));
                }
            }
            "disconnect" | "terminate" => return self.leave(&request),
            _ => self.forward(&request),
        }
        true
    }

    /// Finds or starts the host, and lets the editor and it speak with each other from here on.
    fn join(&mut self, request: &Request) -> Result<(), CliError> {
        let arguments = request.arguments.clone().unwrap_or_else(|| json!({}));
        let does_not_fit =
            |error: serde_json::Error| CliError::Usage(format!("the configuration does not fit: {error}"));
        let reached = if request.command == "launch" {
            let wanted: LaunchConfiguration = serde_json::from_value(arguments.clone()).map_err(does_not_fit)?;
            self.launch(wanted)?
        } else {
            let wanted: AttachConfiguration = serde_json::from_value(arguments.clone()).map_err(does_not_fit)?;
            let host = wanted.host.map(|host| host.as_str().map_or_else(|| host.to_string(), str::to_owned));
            super::reach(host.as_deref())?
        };
        let Reached { mut connection, token, .. } = reached;
        let broken = |why: io::Error| CliError::HostGone(plain(&why));
        let reader = connection.try_clone().map_err(broken)?;
        let mut hello = self.hello.clone();
        hello["token"] = json!(token);
        let mut arguments = arguments;
        if token.is_some() {
            arguments["token"] = json!(token);
        }
        let greet = Request { seq: OWN_SEQ, command: "initialize".to_owned(), arguments: Some(hello) };
        let attach = Request { seq: request.seq, command: "attach".to_owned(), arguments: Some(arguments) };
        for message in [greet, attach] {
            let bytes = encode(&Message::Request(message)).map_err(|error| CliError::Usage(error.to_string()))?;
            connection.write_all(&bytes).map_err(broken)?;
        }
        let (editor, marked, asked) = (self.editor.clone(), self.marked.clone(), request.clone());
        thread::Builder::new()
            .name("adzeman-host".to_owned())
            .spawn(move || pass_to_editor(reader, &editor, &marked, &asked))
            .map_err(broken)?;
        self.host = Some(connection);
        Ok(())
    }

    fn launch(&mut self, wanted: LaunchConfiguration) -> Result<Reached, CliError> {
        let launch = Launch {
            command: [wanted.program].into_iter().chain(wanted.args).collect(),
            folder: wanted.cwd,
            environment: wanted.env.into_iter().collect(),
            stops_first: wanted.stop_on_entry,
        };
        let editor = self.editor.clone();
        event(&editor, "output", json!({"category": "console", "output": format!("{}\n", launch.shown())}));
        let show: ShowLine = Arc::new(move |stream, line| {
            let category = if stream == Stream::Errors { "stderr" } else { "stdout" };
            event(&editor, "output", json!({"category": category, "output": format!("{line}\n")}));
        });
        let (launched, reached) = Launched::start(&launch, &self.marked, &show)?;
        self.launched = Some(launched);
        Ok(reached)
    }

    fn forward(&mut self, request: &Request) {
        let Some(host) = &mut self.host else {
            let why = format!("'{}' came too early: 'attach' or 'launch' must come first", request.command);
            answer(&self.editor, request, Err(why));
            return;
        };
        let written = encode(&Message::Request(request.clone()))
            .map_err(io::Error::other)
            .and_then(|bytes| host.write_all(&bytes));
        if let Err(error) = written {
            answer(&self.editor, request, Err(format!("the host is gone: {}", plain(&error))));
        }
    }

    /// Leaves the host; one that was launched ends, unless the editor says otherwise.
    fn leave(&mut self, request: &Request) -> bool {
        let terminate = request.arguments.as_ref().and_then(|arguments| arguments["terminateDebuggee"].as_bool());
        if let Some(host) = self.host.take() {
            let goodbye = Request { seq: OWN_SEQ + 1, command: "disconnect".to_owned(), arguments: None };
            let mut host = host;
            if let Ok(bytes) = encode(&Message::Request(goodbye)) {
                // It may be gone already.
                let _ = host.write_all(&bytes);
            }
        }
        match self.launched.take() {
            Some(mut launched) if terminate != Some(false) || request.command == "terminate" => {
                let code = launched.end().ok().and_then(|status| status.code()).unwrap_or(1);
                event(&self.editor, "exited", json!({"exitCode": code}));
            }
            Some(mut launched) => {
                answer(&self.editor, request, Ok(json!({})));
                // It goes on, and its output with it.
                let _ = launched.wait();
                return false;
            }
            None => {}
        }
        answer(&self.editor, request, Ok(json!({})));
        false
    }
}

/// Hands everything of the host to the editor, but the answer to the adapter's own greeting, which becomes news of what the host
/// can do.
fn pass_to_editor(mut host: Connection, editor: &Editor, marked: &Marked, asked: &Request) {
    let mut decoder = Decoder::default();
    let mut chunk = vec![0; 64 * 1024];
    loop {
        while let Ok(Some((message, _))) = decoder.next_message() {
            match message {
                Message::Response(response) if response.request_seq == OWN_SEQ => {
                    event(editor, "capabilities", json!({"capabilities": response.body}));
                }
                Message::Response(response) if response.request_seq > OWN_SEQ => {}
                Message::Response(response) if response.request_seq == asked.seq => {
                    tell(editor, Message::Response(Response { command: asked.command.clone(), ..response }));
                }
                Message::Event(told) => {
                    if told.event == "output" && told.body.as_ref().is_some_and(|body| body["category"] == "stdout") {
                        mark(marked, told.body.as_ref().and_then(|body| body["output"].as_str()).unwrap_or_default());
                    }
                    tell(editor, Message::Event(told));
                }
                other => tell(editor, other),
            }
        }
        match host.read(&mut chunk) {
            Ok(0) | Err(_) => break,
            Ok(count) => decoder.push(&chunk[..count]),
        }
    }
    event(editor, "terminated", json!({}));
}
