//! What debugging costs: `cargo bench -p adzeman`. Prints ratios within the run, which are what `docs/performance.md`
//! quotes; the times themselves depend on the machine.

mod support;

use std::cell::RefCell;
use std::hint::black_box;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant, SystemTime};

use adzeman::{Event, EventKind, Host, HostBuilder, KeepTrail, Listen, LuaContext, PipeReader, PipeWriter};
use criterion::Criterion;
use mlua::{Function, HookTriggers, Lua, VmState};
use serde_json::{Value as Json, json};

use support::{Client, mean};

/// A script and its argument, with the lines that breakpoints are set on.
struct Case {
    name: &'static str,
    script: &'static str,
    argument: i64,
    /// A line of the hot function that is never reached.
    never: u32,
    /// A line of a function that is not called.
    elsewhere: u32,
    /// A line of the hot function that is always reached, and a condition that is never true there.
    hot: (u32, &'static str),
}

/// What a handler of many small events runs.
static EVENTS: Case = Case {
    name: "events",
    script: "\
local seen = 0
function run(n)
  seen = seen + n
  if n < 0 then
    seen = 0
  end
  return seen
end
function other()
  return 1
end",
    argument: 1,
    never: 5,
    elsewhere: 10,
    hot: (3, "n < 0"),
};
/// Events in one call of that case.
const EVENTS_A_CALL: i64 = 1000;

static CASES: [Case; 3] = [
    Case {
        name: "loop",
        script: "\
function run(n)
  local s = 0
  for i = 1, n do
    s = s + i % 7
    if s < 0 then
      s = 1
    end
  end
  return s
end
function other()
  return 1
end",
        argument: 100_000,
        never: 6,
        elsewhere: 12,
        hot: (4, "s < 0"),
    },
    Case {
        name: "calls",
        script: "\
local function fib(n)
  if n < 2 then return n end
  if n > 1000 then
    n = 1000
  end
  return fib(n - 1) + fib(n - 2)
end
run = fib
function other()
  return 1
end",
        argument: 22,
        never: 4,
        elsewhere: 10,
        hot: (2, "n > 1000"),
    },
    Case {
        name: "library",
        script: "\
function run(n)
  local t, x = {}, 42
  for i = 1, n do
    x = (x * 1103515245 + 12345) % 2147483648
    t[i] = x
  end
  table.sort(t, function(a, b)
    if a == nil then
      return false
    end
    return a < b
  end)
  return t[1]
end
function other()
  return 1
end",
        argument: 5_000,
        never: 9,
        elsewhere: 16,
        hot: (11, "a == nil"),
    },
];

/// Setting breakpoints in the case.
trait Breaks {
    fn break_at(&mut self, line: u32, condition: Option<&str>);
    fn break_with(&mut self, line: u32, more: Json);
    /// A thousand breakpoints in files that nothing of is called.
    fn break_everywhere_else(&mut self);
}

impl<R: Read, W: Write> Breaks for Client<R, W> {
    fn break_at(&mut self, line: u32, condition: Option<&str>) {
        self.break_with(line, json!({ "condition": condition }));
    }

    fn break_with(&mut self, line: u32, mut more: Json) {
        more["line"] = line.into();
        let breakpoints = json!([more]);
        let body = self.request("setBreakpoints", json!({"source": {"path": "case.lua"}, "breakpoints": breakpoints}));
        assert_eq!(body["breakpoints"][0]["verified"], true);
        assert_eq!(body["breakpoints"][0]["line"], line);
    }

    fn break_everywhere_else(&mut self) {
        for number in 0..OTHER_FILES {
            let lines = (0..BREAKPOINTS_A_FILE).map(|function| json!({"line": function * 4 + 2}));
            let breakpoints: Vec<_> = lines.collect();
            let source = json!({"path": format!("other{number}.lua")});
            self.request("setBreakpoints", json!({"source": source, "breakpoints": breakpoints}));
        }
    }
}

/// A host with one context that runs a case.
struct Bench {
    host: Host,
    run: Function,
    _context: LuaContext,
}

impl Bench {
    fn new(case: &Case, listen: Listen) -> Self {
        Self::of(Host::builder("bench"), case, listen)
    }

    fn of(builder: HostBuilder, case: &Case, listen: Listen) -> Self {
        let gauge = std::sync::Arc::new(std::sync::Mutex::new(json!({"level": 1.5, "name": "upper"})));
        let host = builder.event(EventKind::new("frame.update")).object("gauge", gauge).start(listen).expect("a host");
        let lua = Lua::new();
        let context = LuaContext::attach(&host, &lua, "main").expect("a context");
        context.load("case.lua", case.script).expect("a script").call::<()>(()).expect("it runs");
        for number in 0..OTHER_FILES {
            let text = "function never()\n  local x = 1\n  return x\nend\n".repeat(BREAKPOINTS_A_FILE);
            context.load(&format!("other{number}.lua"), &text).expect("a script").call::<()>(()).expect("it runs");
        }
        Self { run: lua.globals().get("run").expect("a function"), host, _context: context }
    }

    /// Runs the case up to a stop at its hot line, where a client does `setup`, and on to its end.
    fn with_setup<R, W>(
        &self,
        case: &Case,
        mut client: Client<R, W>,
        setup: impl FnOnce(&mut Client<R, W>) + Send + 'static,
    ) -> Client<R, W>
    where
        R: Read + Send + 'static,
        W: Write + Send + 'static,
    {
        client.break_at(case.hot.0, None);
        let setting_up = thread::spawn(move || {
            client.event("stopped");
            setup(&mut client);
            client.request("setBreakpoints", json!({"source": {"path": "case.lua"}, "breakpoints": []}));
            client.request("continue", json!({"threadId": 1}));
            client
        });
        // Two: a sort of one element compares nothing, and would never come to the line.
        self.call(2);
        setting_up.join().expect("the client is done")
    }

    fn call(&self, argument: i64) -> i64 {
        let event = Event::of("frame.update").with("n", argument);
        self.host.emit(event, || self.run.call::<i64>(argument)).expect("it runs")
    }
}

/// Files that nothing of is called, and how many breakpoints are set in each for the way `thousand`.
const OTHER_FILES: usize = 100;
const BREAKPOINTS_A_FILE: usize = 10;

fn bare(case: &Case) -> (Lua, Function) {
    let lua = Lua::new();
    lua.load(case.script).exec().expect("it runs");
    let run = lua.globals().get("run").expect("a function");
    (lua, run)
}

/// A case made ready in one of the ways it is measured in.
struct Ready {
    call: Box<dyn Fn()>,
    /// Kept attached meanwhile.
    _client: Option<Client<PipeReader, PipeWriter>>,
}

const WAYS: [&str; 10] =
    ["bare", "naive", "detached", "attached", "elsewhere", "thousand", "never", "condition", "field", "variable"];
/// Ways for the case of many events only: a condition on the event that is never true, a part of a host object that never
/// changes, a log message at each event; attached without a trail, and a trail with nobody attached.
const EVENT_WAYS: [&str; 5] = ["event", "host path", "message", "no trail", "trail only"];

/// Ways that are only counted: whether a variable is equal to a text, which it never is; a condition on the event that only the script's
/// language can tell, for the case of many events.
const WAYS_COUNTED: [&str; 2] = ["equal", "event call"];

fn ready(case: &'static Case, way: &str) -> Ready {
    let argument = case.argument;
    if way == "bare" || way == "naive" {
        let (lua, run) = bare(case);
        if way == "naive" {
            lua.set_hook(HookTriggers::EVERY_LINE, |_, _| Ok(VmState::Continue)).expect("a hook");
        }
        let many = if case.name == EVENTS.name { EVENTS_A_CALL } else { 1 };
        let call = Box::new(move || {
            (0..many).for_each(|_| {
                black_box((&lua, run.call::<i64>(black_box(argument)).expect("it runs")));
            });
        });
        return Ready { call, _client: None };
    }
    let builder = match way {
        "no trail" => Host::builder("bench").without_trail(),
        "trail only" => Host::builder("bench").keep_trail(KeepTrail::new()),
        _ => Host::builder("bench"),
    };
    let bench = Bench::of(builder, case, Listen::Off);
    let client = (way != "detached" && way != "trail only").then(|| {
        let (reader, writer) = bench.host.connect().expect("a session");
        let mut client = Client::attach(reader, writer, "");
        match way {
            "elsewhere" => client.break_at(case.elsewhere, None),
            "never" => client.break_at(case.never, None),
            "condition" => client.break_at(case.hot.0, Some(case.hot.1)),
            "equal" => {
                let (variable, _) = case.hot.1.split_once(' ').expect("a variable");
                client.break_at(case.hot.0, Some(&format!("{variable} == 'none'")));
            }
            "field" => client.break_at(case.hot.0, Some("event.n == nil")),
            "message" => client.break_with(case.hot.0, json!({"logMessage": "seen {seen}"})),
            "thousand" => client.break_everywhere_else(),
            "event" | "event call" => {
                let condition = if way == "event" { "event.n < 0" } else { "event.n < math.min(0, 1)" };
                let options = json!([{"filterId": "frame.update", "condition": condition}]);
                client.request("setExceptionBreakpoints", json!({"filters": [], "filterOptions": options}));
            }
            "host path" => {
                client.request("setDataBreakpoints", json!({"breakpoints": [{"dataId": "host.gauge.level"}]}));
            }
            "variable" => {
                return bench.with_setup(case, client, |client| {
                    let arguments = json!({"name": "other", "threadId": 1});
                    let info = client.request("dataBreakpointInfo", arguments);
                    client.request("setDataBreakpoints", json!({"breakpoints": [{"dataId": info["dataId"]}]}));
                });
            }
            _ => {}
        }
        client
    });
    let many = if case.name == EVENTS.name { EVENTS_A_CALL } else { 1 };
    let call = Box::new(move || {
        (0..many).for_each(|_| {
            black_box(bench.call(black_box(argument)));
        });
    });
    Ready { call, _client: client }
}

fn scripts(criterion: &mut Criterion) {
    for case in CASES.iter().chain([&EVENTS]) {
        let mut group = criterion.benchmark_group(case.name);
        group.sample_size(20).measurement_time(Duration::from_secs(1)).warm_up_time(Duration::from_millis(300));
        for way in ways(case) {
            let ready = ready(case, way);
            group.bench_function(way, |b| b.iter(|| (ready.call)()));
        }
        group.finish();
    }
}

/// The ways a case is measured in.
fn ways(case: &Case) -> impl Iterator<Item = &'static str> + use<> {
    let more: &[&str] = if case.name == EVENTS.name { &EVENT_WAYS } else { &[] };
    WAYS.into_iter().chain(more.iter().copied())
}

fn emit(criterion: &mut Criterion) {
    let host = Host::builder("bench").event(EventKind::new("frame.update")).start(Listen::Off).expect("a host");
    let counter = RefCell::new(0_u64);
    let handler = || {
        *counter.borrow_mut() += 1;
        Ok::<_, String>(())
    };
    let mut group = criterion.benchmark_group("emit");
    group.sample_size(50).measurement_time(Duration::from_secs(2)).warm_up_time(Duration::from_millis(300));
    group.bench_function("bare", |b| b.iter(|| black_box(handler)()));
    group.bench_function("detached", |b| {
        b.iter(|| {
            let event = Event::of("frame.update").subject(("lock", 7)).with("dt", black_box(0.5)).with("n", 3);
            host.emit(event, black_box(handler))
        });
    });
    group.finish();
}

/// From the stop to the first stack and locals at the client, over a socket.
fn stop(criterion: &mut Criterion) {
    let (ready, is_ready) = mpsc::channel();
    let script = thread::spawn(move || {
        let bench = Bench::new(&CASES[1], Listen::ANY_PORT);
        ready.send((bench.host.address().expect("an address"), bench.host.token())).expect("the bench waits");
        while !bench.host.is_attached() {
            thread::yield_now();
        }
        while bench.host.is_attached() {
            bench.call(1);
        }
    });
    let (address, token) = is_ready.recv().expect("an address");
    let stream = TcpStream::connect(address).expect("the host listens");
    stream.set_nodelay(true).expect("a socket");
    let mut client = Client::attach(stream.try_clone().expect("a socket"), stream, &token);
    client.break_at(2, None);
    client.event("stopped");
    let mut group = criterion.benchmark_group("stop");
    group.sample_size(50).measurement_time(Duration::from_secs(2)).warm_up_time(Duration::from_millis(300));
    group.bench_function("to first stack and locals", |b| {
        b.iter_custom(|rounds| {
            let mut spent = Duration::ZERO;
            for _ in 0..rounds {
                client.request("continue", json!({"threadId": 1}));
                let begun = Instant::now();
                client.event("stopped");
                let frames = client.request("stackTrace", json!({"threadId": 1, "levels": 20}));
                let scopes = client.request("scopes", json!({"frameId": frames["stackFrames"][0]["id"]}));
                let locals = scopes["scopes"][0]["variablesReference"].clone();
                black_box(client.request("variables", json!({"variablesReference": locals})));
                spent += begun.elapsed();
            }
            spent
        });
    });
    let frames = client.request("stackTrace", json!({"threadId": 1, "levels": 1}));
    let frame = frames["stackFrames"][0]["id"].clone();
    for (name, expression) in [("evaluate a name", "n"), ("evaluate a call", "math.max(n, 1)")] {
        group.bench_function(name, |b| {
            b.iter(|| client.request("evaluate", json!({"frameId": frame, "expression": expression})));
        });
    }
    // What the way there and back takes.
    group.bench_function("ask for threads", |b| b.iter(|| client.request("threads", Json::Null)));
    group.finish();
    client.break_at(10, None);
    client.request("disconnect", json!({}));
    drop(client);
    script.join().expect("the host ends");
}

fn print_ratios(begun: SystemTime) {
    let mean = |group: &str, name: &str| mean(begun, group, name);
    println!("\nratios to the bare engine, in this run");
    for case in CASES.iter().chain([&EVENTS]) {
        let Some(bare) = mean(case.name, "bare") else { continue };
        for name in ways(case).skip(1) {
            if let Some(time) = mean(case.name, name) {
                println!("  {:<8} {name:<10} {:.2}x", case.name, time / bare);
            }
        }
    }
    if let (Some(time), Some(bare)) = (mean("loop", "condition"), mean("loop", "bare")) {
        let each = (time - bare) / 100_000.0;
        println!("  a condition on a hot line: {each:.0} ns each, {:.1} million a second", 1e3 / each);
    }
    if let (Some(bare), Some(detached)) = (mean("emit", "bare"), mean("emit", "detached")) {
        println!("  emit     detached   {:.2} ns over the bare call", detached - bare);
    }
    if let Some(time) = mean("stop", "to first stack and locals") {
        println!("  stop     to first stack and locals at the client: {:.3} ms", time / 1e6);
    }
}

/// With `COST_ONCE=CASE/WAY/CALLS`: only that, without measuring, for counting instructions (`benches/instructions`).
fn run_once(what: &str) -> Option<()> {
    let mut parts = what.split('/');
    let (case, way, calls) = (parts.next()?, parts.next()?, parts.next()?.parse::<u32>().ok()?);
    let case = CASES.iter().chain([&EVENTS]).find(|held| held.name == case)?;
    let way = ways(case).chain(WAYS_COUNTED).find(|held| *held == way)?;
    let ready = ready(case, way);
    (0..calls).for_each(|_| (ready.call)());
    Some(())
}

fn main() {
    if let Ok(what) = std::env::var("COST_ONCE") {
        run_once(&what).expect("COST_ONCE is CASE/WAY/CALLS");
        return;
    }
    let begun = SystemTime::now();
    let mut criterion = Criterion::default().configure_from_args();
    emit(&mut criterion);
    scripts(&mut criterion);
    stop(&mut criterion);
    criterion.final_summary();
    print_ratios(begun);
}
