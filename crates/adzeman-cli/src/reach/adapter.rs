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
use super::beside::Sending;
use super::launch::{Launch, Launched, Marked, ShowLine, Stream, mark};
use super::saves::Saves;
use crate::error::{CliError, plain};
use crate::project::Project;

/// Requests of the adapter's own to the host have numbers from here on.
const OWN_SEQ: i64 = 1_000_000_000;

/// What an editor says when it attaches.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
struct AttachConfiguration {
    /// Name, process id or address; the only host there is when absent.
    host: Option<Json>,
    /// Whether files of scripts are reloaded when they are saved.
    reload_on_save: bool,
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
    /// As when attaching.
    reload_on_save: bool,
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
    host: Option<Sending>,
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
        let (reached, reload_on_save) = if request.command == "launch" {
            let wanted: LaunchConfiguration = serde_json::from_value(arguments.clone()).map_err(does_not_fit)?;
            let reload_on_save = wanted.reload_on_save;
            (self.launch(wanted)?, reload_on_save)
        } else {
            let wanted: AttachConfiguration = serde_json::from_value(arguments.clone()).map_err(does_not_fit)?;
            let host = wanted.host.map(|host| host.as_str().map_or_else(|| host.to_string(), str::to_owned));
            (super::reach(host.as_deref())?, wanted.reload_on_save)
        };
        let Reached { connection, token, .. } = reached;
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
        let host = Sending::over(connection, OWN_SEQ);
        let saves = reload_on_save.then(|| Saves::begin(Project::find(None)?.paths(), host.clone())).transpose()?;
        for message in [greet, attach] {
            host.pass(message).map_err(broken)?;
        }
        let passing = Passing {
            editor: self.editor.clone(),
            marked: self.marked.clone(),
            asked: request.clone(),
            host: host.clone(),
            saves: saves.map(Arc::new),
        };
        thread::Builder::new()
            .name("adzeman-host".to_owned())
            .spawn(move || passing.pass_all(reader))
            .map_err(broken)?;
        self.host = Some(host);
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
        let Some(host) = &self.host else {
            let why = format!("'{}' came too early: 'attach' or 'launch' must come first", request.command);
            answer(&self.editor, request, Err(why));
            return;
        };
        if let Err(error) = host.pass(request.clone()) {
            answer(&self.editor, request, Err(format!("the host is gone: {}", plain(&error))));
        }
    }

    /// Leaves the host; one that was launched ends, unless the editor says otherwise.
    fn leave(&mut self, request: &Request) -> bool {
        let terminate = request.arguments.as_ref().and_then(|arguments| arguments["terminateDebuggee"].as_bool());
        if let Some(host) = self.host.take() {
            // It may be gone already.
            let _ = host.send("disconnect", json!({}));
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

/// Hands everything of the host to the editor.
struct Passing {
    editor: Editor,
    marked: Marked,
    /// The editor's request that the host is joined for.
    asked: Request,
    host: Sending,
    saves: Option<Arc<Saves>>,
}

impl Passing {
    /// All that comes, but the answer to the adapter's own greeting, which becomes news of what the host can do.
    fn pass_all(self, mut from: Connection) {
        let mut decoder = Decoder::default();
        let mut chunk = vec![0; 64 * 1024];
        loop {
            while let Ok(Some((message, _))) = decoder.next_message() {
                self.pass(message);
            }
            match from.read(&mut chunk) {
                Ok(0) | Err(_) => break,
                Ok(count) => decoder.push(&chunk[..count]),
            }
        }
        event(&self.editor, "terminated", json!({}));
    }

    fn pass(&self, message: Message) {
        match message {
            Message::Response(response) if response.request_seq == OWN_SEQ => {
                event(&self.editor, "capabilities", json!({"capabilities": response.body}));
            }
            Message::Response(response) if response.request_seq > OWN_SEQ => {
                if let Ok(event) = self.host.answered(response) {
                    tell(&self.editor, Message::Event(event));
                }
            }
            Message::Response(response) if response.request_seq == self.asked.seq => {
                let is_joined = response.success;
                tell(&self.editor, Message::Response(Response { command: self.asked.command.clone(), ..response }));
                if is_joined {
                    self.follow_saves();
                }
            }
            Message::Event(told) => {
                if told.event == "output" && told.body.as_ref().is_some_and(|body| body["category"] == "stdout") {
                    mark(&self.marked, told.body.as_ref().and_then(|body| body["output"].as_str()).unwrap_or_default());
                }
                if let Some(saves) = self.saves.as_ref().filter(|_| told.event == "loadedSource") {
                    note(saves, told.body.as_ref().map(|body| &body["source"]));
                }
                tell(&self.editor, Message::Event(told));
            }
            other => tell(&self.editor, other),
        }
    }

    /// Watches the files of the scripts that are loaded already, if that was asked for.
    fn follow_saves(&self) {
        let Some(saves) = self.saves.clone() else { return };
        let asked = self.host.ask("loadedSources", json!({}), move |response| {
            let sources = response.body.as_ref().and_then(|body| body["sources"].as_array());
            sources.into_iter().flatten().for_each(|source| note(&saves, Some(source)));
            let text = format!("files of scripts that are reloaded whenever they are saved: {}\n", saves.count());
            let body = json!({"category": "console", "output": text});
            Event { seq: 0, event: "output".to_owned(), body: Some(body) }
        });
        if let Err(error) = asked {
            let text = format!("files are not reloaded when they are saved: {}\n", plain(&error));
            event(&self.editor, "output", json!({"category": "important", "output": text}));
        }
    }
}

/// Has the file of a script watched; one that cannot be is reloaded by hand.
fn note(saves: &Saves, source: Option<&Json>) {
    if let Some(source) = source.and_then(|source| serde_json::from_value(source.clone()).ok()) {
        let _ = saves.note(&source);
    }
}
