//! A session: any requests with any arguments, in any order, on a host that stops at breakpoints.

use std::sync::atomic::{AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex, OnceLock};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use arbitrary::Unstructured;
use serde_json::{Map, Value as Json, json};

use crate::client::Client;
use crate::generate::{data, number, text};
use crate::panics::{panics, watch_panics};

/// Far more than any request takes: those that evaluate are cut off long before.
const ANSWERED_WITHIN: Duration = Duration::from_secs(60);
/// Requests in one session.
const MOST_REQUESTS: usize = 60;

const SCRIPT: &str = "\
local base = 10
total = 0
local worker = coroutine.create(function() while true do total = total + 1 coroutine.yield(total) end end)
local function fare(length)
  local sum = base + length
  pcall(error, setmetatable({}, {__tostring = function() return 'text' end}))
  return sum
end
function update(n)
  local length, names = n % 5, {'Heron', 'Swan', size = {1, 2, {3}}}
  local toll = fare(length)
  coroutine.resume(worker)
  total = total + toll
  return total, names
end";

/// Every request that a host knows, with the names of what it takes.
const REQUESTS: [(&str, &[&str]); 42] = [
    ("initialize", &["linesStartAt1", "clientName", "token"]),
    ("attach", &["role", "takeOver", "token"]),
    ("configurationDone", &[]),
    ("cancel", &["requestId"]),
    ("threads", &[]),
    ("stackTrace", &["threadId", "startFrame", "levels"]),
    ("scopes", &["frameId"]),
    ("variables", &["variablesReference", "filter", "start", "count", "format"]),
    ("evaluate", &["expression", "frameId", "threadId", "context", "format"]),
    ("evaluate", &["expression", "frameId"]),
    ("setVariable", &["variablesReference", "name", "value"]),
    ("setExpression", &["expression", "value", "frameId", "threadId"]),
    ("completions", &["text", "column", "frameId"]),
    ("setBreakpoints", &["source", "breakpoints"]),
    ("setBreakpoints", &["source", "breakpoints"]),
    ("setFunctionBreakpoints", &["breakpoints"]),
    ("setExceptionBreakpoints", &["filters", "filterOptions"]),
    ("dataBreakpointInfo", &["name", "variablesReference", "frameId", "threadId"]),
    ("setDataBreakpoints", &["breakpoints"]),
    ("continue", &["threadId"]),
    ("continue", &["threadId"]),
    ("next", &["threadId"]),
    ("stepIn", &["threadId"]),
    ("stepOut", &["threadId"]),
    ("pause", &["threadId"]),
    ("restartFrame", &["frameId"]),
    ("source", &["source", "sourceReference"]),
    ("loadedSources", &[]),
    ("breakpointLocations", &["source", "line", "endLine"]),
    ("adzeman/host", &[]),
    ("adzeman/status", &[]),
    ("adzeman/table", &["expression", "frameId", "threadId", "start", "count"]),
    ("adzeman/shape", &["expression", "frameId", "threadId"]),
    ("adzeman/monitor", &["expression", "threadId", "everyMilliseconds", "event", "count", "share"]),
    ("adzeman/sampleNow", &["monitorId"]),
    ("adzeman/endMonitor", &["monitorId"]),
    ("adzeman/goTo", &["threadId", "line", "path", "event", "count"]),
    ("adzeman/run", &["expression", "frameId", "threadId"]),
    ("adzeman/armed", &["armed"]),
    ("adzeman/library", &["paths", "own"]),
    ("adzeman/limits", &["memoryBytes"]),
    ("adzeman/sourceMap", &["path", "map"]),
];

/// A host whose thread raises `frame.update` again and again; one for all sessions of a process.
struct Target {
    host: Host,
    frames: Arc<AtomicU64>,
}

fn target() -> &'static Target {
    static TARGET: OnceLock<Target> = OnceLock::new();
    TARGET.get_or_init(|| {
        let lock = Arc::new(Mutex::new(json!({"metres": 1.5, "names": ["upper", "lower"]})));
        let host = Host::builder("fuzz")
            .event(EventKind::new("frame.update").doc("a frame").field("n", "its number"))
            .event(EventKind::new("never").doc("is not raised"))
            .editable_object("lock", lock)
            .start(Listen::Off)
            .expect("a host that opens nothing starts");
        let frames = Arc::new(AtomicU64::new(0));
        let counted = (host.clone(), frames.clone());
        // As small a stack as threads of hosts have.
        let running = thread::Builder::new().name("script".to_owned()).stack_size(256 * 1024);
        running.spawn(move || run(&counted.0, &counted.1)).expect("a thread");
        Target { host, frames }
    })
}

fn run(host: &Host, frames: &AtomicU64) {
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(host, &lua, "main").expect("a context");
    context.load("scripts/toll.lua", SCRIPT).and_then(|body| body.call::<()>(())).expect("a script that runs");
    loop {
        let n = frames.fetch_add(1, SeqCst) + 1;
        let event = Event::of("frame.update").subject(("frame", n)).with("n", n);
        let _ = host.emit_repeatable(event, || {
            // What a client has put into the name may be anything.
            let update: mlua::Value = lua.globals().get("update")?;
            match update {
                mlua::Value::Function(update) => update.call::<mlua::MultiValue>(n),
                _ => Ok(mlua::MultiValue::new()),
            }
        });
        thread::yield_now();
    }
}

/// What was told before, to be asked for again.
#[derive(Default)]
struct Known {
    frames: Vec<i64>,
    references: Vec<i64>,
    monitors: Vec<i64>,
}

impl Known {
    /// Takes the numbers out of an answer.
    fn learn(&mut self, body: &Json) {
        match body {
            Json::Object(fields) => {
                for (name, value) in fields {
                    match (name.as_str(), value.as_i64()) {
                        ("id", Some(number)) => self.frames.push(number),
                        ("variablesReference", Some(number)) if number > 0 => self.references.push(number),
                        ("monitorId", Some(number)) => self.monitors.push(number),
                        _ => self.learn(value),
                    }
                }
            }
            Json::Array(items) => items.iter().for_each(|item| self.learn(item)),
            _ => {}
        }
    }

    fn one_of(input: &mut Unstructured<'_>, known: &[i64]) -> i64 {
        match known.len() {
            0 => number(input),
            length => known[input.int_in_range(0..=length - 1).unwrap_or(0)],
        }
    }

    /// A value for an argument: mostly one that fits.
    fn value(&self, input: &mut Unstructured<'_>, name: &str) -> Json {
        if input.ratio(1, 8).unwrap_or(false) {
            return data(input, 2);
        }
        match name {
            "threadId" => json!(1),
            "frameId" => json!(Self::one_of(input, &self.frames)),
            "variablesReference" => json!(Self::one_of(input, &self.references)),
            "monitorId" => json!(Self::one_of(input, &self.monitors)),
            "requestId" | "startFrame" | "levels" | "start" | "count" | "column" | "line" | "endLine"
            | "sourceReference" | "everyMilliseconds" | "memoryBytes" => json!(number(input)),
            "source" => json!({"path": "toll.lua", "sourceReference": number(input)}),
            "armed" | "takeOver" | "linesStartAt1" => json!(input.arbitrary::<bool>().unwrap_or(true)),
            "breakpoints" => (0..2).map(|_| breakpoint(input)).collect(),
            "filters" => json!([text(input), "frame.update"]),
            "filterOptions" => json!([{"filterId": "frame.update", "condition": text(input)}]),
            "paths" | "own" => json!([text(input)]),
            "format" => json!({"hex": true, "base": number(input)}),
            _ => json!(text(input)),
        }
    }
}

fn breakpoint(input: &mut Unstructured<'_>) -> Json {
    let own = json!({"say": text(input), "run": text(input), "hits": text(input), "subject": text(input)});
    let mut wanted = json!({
        "line": input.int_in_range(0..=16).unwrap_or(11),
        "name": "fare",
        "dataId": text(input),
    });
    match input.int_in_range(0..=4).unwrap_or(0) {
        0 => wanted["condition"] = json!(text(input)),
        1 => wanted["logMessage"] = json!(format!("{{{}}}", text(input))),
        2 => wanted["hitCondition"] = json!(text(input)),
        3 => wanted["adzeman"] = own,
        _ => {}
    }
    wanted
}

/// Carries out the requests that the bytes stand for.
///
/// # Panics
/// When a request is not answered, when the host does not go on afterwards, and when anything panicked, on whatever thread.
pub fn session(bytes: &[u8]) {
    watch_panics();
    let target = target();
    let (reader, writer) = target.host.connect().expect("a session within the process");
    let mut client = Client::over(reader, writer);
    let mut input = Unstructured::new(bytes);
    let (mut known, mut said) = (Known::default(), Vec::new());
    if input.ratio(7, 8).unwrap_or(true) {
        client.attach("", ANSWERED_WITHIN).expect("attaching is answered");
        let limits = json!({"askedMilliseconds": 20.0, "asideMilliseconds": 10.0});
        client.request("adzeman/limits", limits, ANSWERED_WITHIN).expect("limits are answered");
        let stop = json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 5}]});
        client.request("setBreakpoints", stop, ANSWERED_WITHIN).expect("a breakpoint is answered");
        if input.ratio(3, 4).unwrap_or(true) && client.event("stopped", ANSWERED_WITHIN).is_some() {
            let stack = client.request("stackTrace", json!({"threadId": 1}), ANSWERED_WITHIN);
            known.learn(&stack.expect("a stack is answered").body.unwrap_or_default());
        }
    }
    while !input.is_empty() && said.len() < MOST_REQUESTS {
        let (command, names) = REQUESTS[input.int_in_range(0..=REQUESTS.len() - 1).unwrap_or(0)];
        let mut arguments = Map::new();
        for name in names {
            if input.ratio(5, 6).unwrap_or(true) {
                arguments.insert((*name).to_owned(), known.value(&mut input, name));
            }
        }
        let shown: String = format!("{command} {}", Json::Object(arguments.clone())).chars().take(300).collect();
        said.push(shown);
        let seq = client.send(command, Json::Object(arguments));
        if input.ratio(1, 8).unwrap_or(false) {
            // The next one is sent before this one is answered.
            continue;
        }
        let answer = client.answer(seq, ANSWERED_WITHIN);
        let Some(answer) = answer else { panic!("no answer to the last of {said:#?}; {:?}", panics()) };
        known.learn(&answer.body.unwrap_or_default());
    }
    drop(client);
    goes_on(target, &said);
    assert!(panics().is_empty(), "{:#?} after {said:#?}", panics());
}

/// Waits until the host does frames again, with nobody attached.
fn goes_on(target: &Target, said: &[String]) {
    let until = Instant::now() + ANSWERED_WITHIN;
    let before = target.frames.load(SeqCst);
    while target.host.is_attached() || target.frames.load(SeqCst) < before + 5 {
        assert!(Instant::now() < until, "the host does not go on after {said:#?}; {:?}", panics());
        thread::yield_now();
    }
}
