//! An editor, by the adapter.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::process::{Child, Stdio};

use serde_json::{Value as Json, json};

use crate::attaching::{SCRIPT, User};

/// An editor that speaks to the adapter.
struct Editor {
    child: Child,
    output: BufReader<std::process::ChildStdout>,
    seq: i64,
    /// The number of the adapter's last message.
    told: i64,
    events: Vec<Json>,
}

impl Editor {
    fn start(user: &User) -> Self {
        let mut child = user.command().arg("adapter").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let output = BufReader::new(child.stdout.take().unwrap());
        Self { child, output, seq: 0, told: 0, events: Vec::new() }
    }

    fn send(&mut self, command: &str, arguments: Json) -> i64 {
        self.seq += 1;
        let body = json!({"seq": self.seq, "type": "request", "command": command, "arguments": arguments}).to_string();
        let framed = format!("Content-Length: {}\r\n\r\n{body}", body.len());
        self.child.stdin.as_mut().unwrap().write_all(framed.as_bytes()).unwrap();
        self.seq
    }

    fn message(&mut self) -> Json {
        let mut header = String::new();
        self.output.read_line(&mut header).unwrap();
        let length: usize = header.trim().strip_prefix("Content-Length: ").unwrap().parse().unwrap();
        self.output.read_line(&mut String::new()).unwrap();
        let mut body = vec![0; length];
        self.output.read_exact(&mut body).unwrap();
        let message: Json = serde_json::from_slice(&body).unwrap();
        self.told += 1;
        assert_eq!(message["seq"], self.told, "what the adapter says, of itself or of the host, is counted: {message}");
        message
    }

    #[track_caller]
    fn answer(&mut self, seq: i64) -> Json {
        loop {
            let message = self.message();
            if message["type"] == "response" && message["request_seq"] == seq {
                return message;
            }
            self.events.push(message);
        }
    }

    #[track_caller]
    fn ok(&mut self, command: &str, arguments: Json) -> Json {
        let seq = self.send(command, arguments);
        let answer = self.answer(seq);
        assert_eq!((&answer["success"], &answer["command"]), (&json!(true), &json!(command)), "{answer}");
        answer["body"].clone()
    }

    fn event(&mut self, name: &str) -> Json {
        let known = self.events.iter().position(|message| message["event"] == name);
        if let Some(at) = known {
            return self.events.remove(at)["body"].clone();
        }
        loop {
            let message = self.message();
            if message["event"] == name {
                return message["body"].clone();
            }
            self.events.push(message);
        }
    }
}

impl Drop for Editor {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn an_editor_attaches_through_the_adapter() {
    let user = User::new();
    let host = user.host("dormant", &[]);
    let mut editor = Editor::start(&user);
    editor.ok("initialize", json!({"clientID": "editor", "clientName": "an editor"}));
    let early = editor.send("threads", json!({}));
    let early = editor.answer(early);
    assert!(early["message"].as_str().unwrap().contains("'attach' or 'launch' must come first"), "{early}");
    let wrong = editor.send("attach", json!({"host": "weir"}));
    assert!(editor.answer(wrong)["message"].as_str().unwrap().contains("no host is called 'weir'"));
    assert_eq!(editor.ok("attach", json!({"host": host.0.id()}))["role"], "control");
    let capabilities = editor.event("capabilities");
    assert_eq!(capabilities["capabilities"]["exceptionBreakpointFilters"][0]["filter"], "frame.update");
    editor.event("initialized");
    editor.ok("setExceptionBreakpoints", json!({"filters": ["frame.update"]}));
    editor.ok("configurationDone", json!({}));
    assert_eq!(editor.event("stopped")["reason"], "event");
    editor.ok("disconnect", json!({}));
    assert!(editor.child.wait().unwrap().success());
    assert_eq!(user.hosts()[0]["clients"], json!([]), "the host runs on");
}

#[test]
fn an_editor_launches_through_the_adapter() {
    let user = User::new();
    std::fs::write(user.work.path().join("hello.lua"), SCRIPT).unwrap();
    let program = assert_cmd::cargo::cargo_bin!("adzeman").display().to_string();
    let mut editor = Editor::start(&user);
    editor.ok("initialize", json!({}));
    let launch = json!({"program": program, "args": ["script", "hello.lua", "Heron"], "cwd": user.work.path(), "stopOnEntry": true});
    editor.ok("launch", launch);
    editor.event("initialized");
    editor.ok("setBreakpoints", json!({"source": {"path": "hello.lua"}, "breakpoints": [{"line": 7}]}));
    editor.ok("configurationDone", json!({}));
    assert_eq!(editor.event("stopped")["reason"], "pause");
    let shown = editor.event("output");
    assert!(shown["output"].as_str().unwrap().starts_with("ADZEMAN=first "), "{shown}");
    editor.ok("continue", json!({"threadId": 1}));
    let printed = editor.event("output");
    assert_eq!((&printed["output"], &printed["line"]), (&json!("hello Heron\n"), &json!(2)));
    assert_eq!(editor.event("stopped")["reason"], "breakpoint");
    editor.ok("disconnect", json!({}));
    assert!(editor.child.wait().unwrap().success());
    assert_eq!(user.hosts(), Vec::<Json>::new(), "what was launched has ended");
}

#[test]
fn what_the_editor_saves_is_reloaded_by_the_adapter() {
    let ledger = include_str!("../../../adzeman-demo/scripts/ledger.lua");
    let user = User::new();
    let host = user.host("dormant", &[]);
    let file = user.work.path().join("scripts/ledger.lua");
    std::fs::create_dir(file.parent().unwrap()).unwrap();
    std::fs::write(&file, ledger).unwrap();
    let mut editor = Editor::start(&user);
    editor.ok("initialize", json!({"clientID": "editor", "clientName": "an editor"}));
    editor.ok("attach", json!({"host": host.0.id(), "reloadOnSave": true}));
    editor.ok("configurationDone", json!({}));
    assert_eq!(editor.event("output")["output"], "files of scripts that are reloaded whenever they are saved: 1\n");
    std::fs::write(&file, ledger.replace("length > 12", "length > 13")).unwrap();
    let told = editor.event("output");
    assert_eq!(told["output"], "scripts/ledger.lua was saved: changed: rate\n", "{told}");
    let changed = editor.event("loadedSource");
    assert_eq!((&changed["reason"], &changed["source"]["path"]), (&json!("changed"), &json!("scripts/ledger.lua")));
    // The editor's own requests are answered as before.
    assert_eq!(editor.ok("loadedSources", json!({}))["sources"].as_array().map(Vec::len), Some(2));
    editor.ok("disconnect", json!({}));
}
