//! What breakpoints of every kind cost on programs that nobody tuned anything for (`programs/`). `benches/prices` counts
//! instructions of it under callgrind and prints ratios and prices; by itself it runs every way once, which shows that it runs.

mod support;

use std::sync::atomic::{AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext, PipeReader, PipeWriter};
use mlua::{Function, HookTriggers, Lua, VmState};
use serde_json::{Value as Json, json};

use support::Client;

/// A program: its text, which says itself what is measured on it. `@hot` marks a line that is reached often, `@never` one of a
/// hot function that never is, `@stop` the first line of `run`; `--:` begins what conditions there are, and what is watched.
struct Program {
    name: &'static str,
    text: &'static str,
}

macro_rules! programs {
    ($($name:literal),*) => { [$(Program { name: $name, text: include_str!(concat!("programs/", $name, ".lua")) }),*] };
}

static PROGRAMS: [Program; 10] =
    programs!["drift", "branches", "gauges", "swaps", "shifts", "notices", "relay", "chains", "records", "harbour"];

/// Conditions, none of which ever holds.
const CONDITIONS: [&str; 8] = ["local", "captured", "field", "nested", "global", "call", "event", "host"];
/// Kinds of variables that are watched for a change, none of which changes.
const WATCHED: [&str; 4] = ["local", "captured", "global", "field"];
/// The other ways.
const WAYS: [&str; 10] =
    ["bare", "attached", "never", "every", "message", "error", "uncaught", "budget", "out", "reached"];

/// Frames of the program whose handlers are events of their own, in one round.
const FRAMES: i64 = 5;

impl Program {
    /// The line with this mark.
    fn line(&self, mark: &str) -> u32 {
        let at = self.text.lines().position(|line| line.ends_with(&format!("-- @{mark}"))).expect("a mark");
        u32::try_from(at).expect("a short text") + 1
    }

    /// What the text says of this, if it does.
    fn said(&self, of: &str) -> Option<&'static str> {
        self.text.lines().find_map(|line| line.strip_prefix("--: ")?.strip_prefix(of)?.strip_prefix(' '))
    }

    fn condition(&self, kind: &str) -> Option<&'static str> {
        match kind {
            "event" => Some("event.n < 0"),
            "host" => Some("host.gauge.level < 0"),
            _ => self.said(kind),
        }
    }

    /// Calls `run` with what makes up so many rounds.
    fn calls(&self, rounds: i64, mut call: impl FnMut(i64)) {
        match self.said("events").and_then(|count| count.parse::<i64>().ok()) {
            None => call(rounds),
            Some(events) => (0..rounds * FRAMES).flat_map(|_| 1..=events).for_each(call),
        }
    }

    /// The ways that it is measured in.
    fn ways(&self) -> Vec<String> {
        let conditions = CONDITIONS.iter().filter(|kind| self.condition(kind).is_some()).map(|kind| (*kind).to_owned());
        let watched = WATCHED.iter().filter(|kind| self.said(&format!("watch {kind}")).is_some());
        WAYS.iter()
            .map(|way| (*way).to_owned())
            .chain(conditions)
            .chain(watched.map(|kind| format!("change {kind}")))
            .chain(self.said("written").map(|_| "write".to_owned()))
            .collect()
    }

    fn run_bare(&self, rounds: i64) {
        let lua = Lua::new();
        let run = self.load(|text| lua.load(text).exec().expect("it runs"), &lua);
        self.calls(rounds, |argument| drop(run.call::<mlua::Value>(argument).expect("it runs")));
    }

    fn load(&self, load: impl FnOnce(&'static str), lua: &Lua) -> Function {
        load(self.text);
        lua.globals().get("run").expect("a function")
    }

    /// How often the hot line is reached.
    fn count_reached(&self, rounds: i64) -> u64 {
        let (lua, hot, count) = (Lua::new(), self.line("hot") as usize, Arc::new(AtomicU64::new(0)));
        let counted = count.clone();
        let hook = move |_: &Lua, debug: &mlua::debug::Debug| {
            if debug.current_line() == Some(hot) {
                counted.fetch_add(1, SeqCst);
            }
            Ok(VmState::Continue)
        };
        let run = self.load(|text| lua.load(text).exec().expect("it runs"), &lua);
        lua.set_global_hook(HookTriggers::EVERY_LINE, hook).expect("a hook");
        self.calls(rounds, |argument| drop(run.call::<mlua::Value>(argument).expect("it runs")));
        count.load(SeqCst)
    }

    fn run(&'static self, way: &str, rounds: i64) {
        match way {
            "bare" => return self.run_bare(rounds),
            "reached" => return println!("{}", self.count_reached(rounds)),
            _ => {}
        }
        let gauge = Arc::new(Mutex::new(json!({"level": 1.5, "name": "upper"})));
        let host = Host::builder("bench").event(EventKind::new("frame.update")).object("gauge", gauge);
        let host = host.start(Listen::Off).expect("a host");
        let lua = Lua::new();
        let context = LuaContext::attach(&host, &lua, "main").expect("a context");
        let run = self
            .load(|text| context.load("program.lua", text).expect("a script").call::<()>(()).expect("it runs"), &lua);
        let (reader, writer) = host.connect().expect("a session");
        let mut client = Client::attach(reader, writer, "");
        let (is_set_up, way) = (self.set_up(&mut client, way), way.to_owned());
        let at_stop = thread::spawn(move || {
            if !is_set_up {
                client.event("stopped");
                self.set_up_at_stop(&mut client, &way);
            }
            client
        });
        self.calls(rounds, |argument| {
            let event = Event::of("frame.update").with("n", argument);
            host.emit(event, || run.call::<mlua::Value>(argument)).expect("it runs");
        });
        drop(at_stop.join().expect("the client is done"));
    }

    /// Sets what can be set before anything runs; false if the rest is to be done at a stop.
    fn set_up(&self, client: &mut Client<PipeReader, PipeWriter>, way: &str) -> bool {
        let hot = self.line("hot");
        match way {
            "attached" => {}
            "never" => set(client, json!({"line": self.line("never")})),
            "every" => set(client, json!({"line": hot, "hitCondition": "% 1000", "logMessage": "reached"})),
            "message" => set(client, json!({"line": hot, "logMessage": "of {n}"})),
            "error" | "uncaught" => {
                client.request(
                    "setExceptionBreakpoints",
                    json!({"filters": [format!("error.{}", if way == "error" { "every" } else { way })]}),
                );
            }
            "budget" => {
                let options = json!([{"filterId": "frame.update", "adzeman": {"budgetMilliseconds": 1e9}}]);
                client.request("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
            }
            "out" | "write" => {
                set(client, json!({"line": self.line("stop")}));
                return false;
            }
            way if way.starts_with("change ") => {
                set(client, json!({"line": self.line("stop")}));
                return false;
            }
            way => set(client, json!({"line": hot, "condition": self.condition(way).expect("a condition")})),
        }
        true
    }

    fn set_up_at_stop(&self, client: &mut Client<PipeReader, PipeWriter>, way: &str) {
        let watched = match way.strip_prefix("change ") {
            Some(kind) => Some(format!("watch {kind}")),
            None => (way == "write").then(|| "written".to_owned()),
        };
        if let Some(watched) = watched {
            let frames = client.request("stackTrace", json!({"threadId": 1}));
            let name = self.said(&watched).expect("something to watch");
            let frame = frames["stackFrames"][0]["id"].clone();
            let info = client.request("dataBreakpointInfo", json!({"name": name, "frameId": frame}));
            let own = if way == "write" { json!({"on": "write"}) } else { Json::Null };
            let wanted = json!({"breakpoints": [{"dataId": info["dataId"], "adzeman": own}]});
            let body = client.request("setDataBreakpoints", wanted);
            assert_eq!(body["breakpoints"][0]["verified"], true, "{name}: {body}");
        }
        client.request("setBreakpoints", json!({"source": {"path": "program.lua"}, "breakpoints": []}));
        client.request(if way == "out" { "stepOut" } else { "continue" }, json!({"threadId": 1}));
    }
}

/// Sets one breakpoint, the only one on lines.
fn set(client: &mut Client<PipeReader, PipeWriter>, breakpoint: Json) {
    let line = breakpoint["line"].clone();
    let wanted = json!({"source": {"path": "program.lua"}, "breakpoints": [breakpoint]});
    let body = client.request("setBreakpoints", wanted);
    assert_eq!(body["breakpoints"][0]["verified"], true, "{body}");
    assert_eq!(body["breakpoints"][0]["line"], line);
}

fn main() {
    // With `COST_ONCE=PROGRAM/WAY/ROUNDS`: only that. `ways` lists the ways of a program.
    if let Ok(what) = std::env::var("COST_ONCE") {
        let mut parts = what.split('/');
        let name = parts.next().expect("a program");
        let program = PROGRAMS.iter().find(|held| held.name == name).expect("a program");
        match parts.next().expect("a way") {
            "ways" => program.ways().iter().for_each(|way| println!("{}", way.replace(' ', "_"))),
            way => {
                let rounds = parts.next().and_then(|count| count.parse().ok()).expect("rounds");
                program.run(&way.replace('_', " "), rounds);
            }
        }
        return;
    }
    for program in &PROGRAMS {
        for way in program.ways() {
            println!("{:<9} {way}", program.name);
            program.run(&way, 1);
        }
    }
}
