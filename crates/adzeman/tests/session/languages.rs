//! A host that runs scripts in two languages, by two engines: each text is read by the rules of its own.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::mpsc;
use std::thread::{self, JoinHandle};

use adzeman::core::engine::{Interrupt, Syntax};
use adzeman::core::sharing::Shared;
use adzeman::core::source::Language;
use adzeman::core::test_engine::{LANGUAGE, TestEngine};
use adzeman::{ContextHandle, Host, Listen, LuaContext};
use serde_json::json;

use crate::harness::Client;

const PROGRAM: &str = "fn main\n  boat! = 0\n  loop 4 lift\nfn lift\n  level! = 3\n  say level!\n";
const SCRIPT: &str = "local boat = 1\nboat = boat + 1\nreturn boat\n";

/// What the test engine can evaluate: a name, which may end with `!`, or two of them with an operator.
struct Programs;

impl Syntax for Programs {
    fn language(&self) -> Language {
        LANGUAGE
    }

    fn check_expression(&self, text: &str) -> Result<(), String> {
        let is_word = |word: &str| word.chars().all(|c| c.is_alphanumeric() || "!<>=+-".contains(c));
        if text.split_whitespace().all(is_word) { Ok(()) } else { Err("no program says that".to_owned()) }
    }

    fn check_statement(&self, _: &str) -> Result<(), String> {
        Err("programs have no statements to type".to_owned())
    }
}

/// The test engine looks at its attention on each line by itself.
struct NoInterrupt;

impl Interrupt for NoInterrupt {
    fn prepare(&self) {}

    fn reach(&self, _: &mut BTreeSet<i64>) -> bool {
        true
    }
}

/// A thread that loads a program and a script, waits for a client, and runs the program, then the script.
fn host_of_two() -> (Host, JoinHandle<i64>) {
    let host = Host::builder("test").start(Listen::ANY_PORT).unwrap();
    let (loaded, all_loaded) = mpsc::channel();
    let running = thread::spawn({
        let host = host.clone();
        move || {
            let engine = Shared::new(TestEngine::new("lift.program", PROGRAM));
            let opened = ContextHandle::open(&host, "programs", Arc::new(Programs), |supervisor, _| {
                engine.attach(supervisor);
                let interrupt: Arc<dyn Interrupt> = Arc::new(NoInterrupt);
                Ok::<_, String>((engine.clone(), interrupt))
            });
            let (_programs, engine) = opened.unwrap();
            let lua = mlua::Lua::new();
            let scripts = LuaContext::attach(&host, &lua, "scripts").unwrap();
            let body = scripts.load("toll.lua", SCRIPT).unwrap();
            let waits = lua.load("adzeman.wait(20)").into_function().unwrap();
            loaded.send(()).unwrap();
            waits.call::<()>(()).unwrap();
            engine.call("main");
            body.call::<i64>(()).unwrap()
        }
    });
    all_loaded.recv().unwrap();
    (host, running)
}

fn breakpoint(client: &mut Client, path: &str, line: i64, condition: &str) -> serde_json::Value {
    let arguments = json!({"source": {"path": path}, "breakpoints": [{"line": line, "condition": condition}]});
    client.ok("setBreakpoints", arguments)["breakpoints"][0].clone()
}

#[test]
fn a_condition_is_read_in_the_language_of_its_source() {
    let (host, running) = host_of_two();
    let mut client = Client::attached(&host);
    let refused = breakpoint(&mut client, "toll.lua", 2, "level! > 2");
    assert_eq!(refused["verified"], false, "{refused}");
    assert!(refused["message"].as_str().unwrap().contains("cannot be read"), "{refused}");
    let refused = breakpoint(&mut client, "lift.program", 6, "#{1} ~= 2");
    assert!(refused["message"].as_str().unwrap().contains("no program says that"), "{refused}");
    // Not known before it is loaded: whichever can be read.
    let pending = breakpoint(&mut client, "other.program", 6, "level! > 2");
    assert!(!pending["message"].as_str().unwrap().contains("cannot be read"), "{pending}");
    assert_eq!(breakpoint(&mut client, "lift.program", 6, "level! > 2")["verified"], true);
    assert_eq!(breakpoint(&mut client, "toll.lua", 3, "boat ~= 1")["verified"], true);
    client.ok("configurationDone", json!({}));
    for _ in 0..4 {
        client.stopped();
        let frame = client.frame(0);
        assert_eq!((frame["line"].as_i64(), frame["source"]["name"].as_str()), (Some(6), Some("lift.program")));
        assert_eq!(client.evaluate("level!"), "3");
        client.go_on("continue");
    }
    let (stop, line) = client.stopped();
    assert_eq!((&stop["threadId"], line), (&json!(2), 3));
    client.ok("continue", json!({"threadId": 2}));
    assert_eq!(running.join().unwrap(), 2);
}
