//! What a host author relies on.

use std::cell::Cell;
use std::rc::Rc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::SeqCst};
use std::sync::{Arc, Mutex};
use std::thread;

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use serde_json::json;

use crate::harness::{Client, LONG, SCRIPT, Works, until};
use crate::versions::adapted;

/// A payload that notes when it is serialised.
struct Watched(Rc<Cell<u32>>);

impl serde::Serialize for Watched {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.0.set(self.0.get() + 1);
        serializer.serialize_str("looked at")
    }
}

#[test]
fn detached_a_payload_is_never_serialised_and_the_outcome_is_the_handlers() {
    let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::Off).unwrap();
    let looked = Rc::new(Cell::new(0));
    let event = || Event::of("frame.update").with("load", Watched(looked.clone()));
    assert_eq!(host.emit(event(), || Ok::<_, String>(5)), Ok(5));
    assert_eq!(host.emit(event(), || Err::<(), _>("no")), Err("no"));
    assert_eq!(looked.get(), 0);
}

#[test]
fn attached_a_payload_is_copied_once_for_the_trail_and_else_only_when_someone_looks() {
    let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::Off).unwrap();
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(&host, &lua, "main").unwrap();
    context.load("a.lua", "function update() return 1 end").unwrap().call::<()>(()).unwrap();
    let (mut reader, mut writer) = host.connect().unwrap();
    for command in ["initialize", "attach"] {
        let request = adzeman_dap::Request { seq: 1, command: command.into(), arguments: None };
        let bytes = adzeman_dap::encode(&adzeman_dap::Message::Request(request)).unwrap();
        std::io::Write::write_all(&mut writer, &bytes).unwrap();
        let mut answer = [0; 64];
        std::io::Read::read_exact(&mut reader, &mut answer).unwrap();
    }
    while !host.is_attached() {
        thread::yield_now();
    }
    let looked = Rc::new(Cell::new(0));
    let update: mlua::Function = lua.globals().get("update").unwrap();
    for _ in 0..10 {
        let event = Event::of("frame.update").with("load", Watched(looked.clone()));
        host.emit(event, || update.call::<()>(())).unwrap();
    }
    assert_eq!(looked.get(), 10);
}

#[test]
fn the_clock_stands_still_at_a_stop_and_the_pump_runs() {
    let (pumped, seen) = std::sync::mpsc::channel();
    let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::ANY_PORT).unwrap();
    let script_host = host.clone();
    let script = thread::spawn(move || {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(&script_host, &lua, "main").unwrap();
        context.load("scripts/toll.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
        let update: mlua::Function = lua.globals().get("update").unwrap();
        let clock_host = script_host.clone();
        let inner = update.clone();
        script_host.on_pause(move || {
            // Scripts that the pump runs stop nowhere.
            inner.call::<()>(99).unwrap();
            let _ = pumped.send(clock_host.clock());
        });
        while !script_host.is_attached() {
            thread::yield_now();
        }
        for n in 0..50 {
            script_host.emit(Event::of("frame.update").with("n", n), || update.call::<()>(n)).unwrap();
        }
        script_host.on_pause(|| ());
    });
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok(
        "setBreakpoints",
        json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11, "condition": "n == 7"}]}),
    );
    client.ok("attach", json!({}));
    client.event("stopped");
    let times: Vec<_> = seen.iter().take(5).collect();
    assert!(times.windows(2).all(|pair| pair[0] == pair[1]), "{times:?}");
    client.go_on("continue");
    script.join().unwrap();
}

#[test]
fn dropping_a_context_takes_the_hook_and_the_thread_entry_away() {
    let host = Host::builder("test").start(Listen::Off).unwrap();
    let lua = mlua::Lua::new();
    for _ in 0..300 {
        let context = LuaContext::attach(&host, &lua, "main").unwrap();
        assert_eq!(context.name(), "main");
    }
    lua.load("local s = 0 for i = 1, 1000 do s = s + i end assert(s == 500500)").exec().unwrap();
}

#[test]
fn a_read_write_lock_serves_as_an_object_too() {
    let state = Arc::new(std::sync::RwLock::new(vec![1, 2, 3]));
    let host = Host::builder("test")
        .editable_object("numbers", state.clone())
        .object("texts", Arc::new(Mutex::new(vec!["a"])))
        .start(Listen::Off)
        .unwrap();
    assert!(host.address().is_none());
    assert!(!host.is_attached());
    assert_eq!(state.read().unwrap().len(), 3);
}

#[test]
fn scripts_loaded_again_stop_too_and_contexts_that_never_loaded_them_are_left_alone() {
    let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::ANY_PORT).unwrap();
    let script_host = host.clone();
    let script = thread::spawn(move || {
        let (lua, ledger_lua) = (mlua::Lua::new(), mlua::Lua::new());
        let context = LuaContext::attach(&script_host, &lua, "main").unwrap();
        let ledger = LuaContext::attach(&script_host, &ledger_lua, "ledger").unwrap();
        ledger.load("scripts/ledger.lua", "function book() end").unwrap().call::<()>(()).unwrap();
        context.load("scripts/toll.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
        while !script_host.is_attached() {
            thread::yield_now();
        }
        let book: mlua::Function = ledger_lua.globals().get("book").unwrap();
        for n in (0..10).cycle().take(2000) {
            // The functions of every second frame are compiled while the breakpoint is armed.
            if n % 2 == 0 {
                context.load("scripts/toll.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
            }
            let update: mlua::Function = lua.globals().get("update").unwrap();
            script_host.emit(Event::of("frame.update"), || update.call::<()>(n)).unwrap();
            script_host.emit(Event::of("frame.update"), || book.call::<()>(())).unwrap();
        }
    });
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    let wanted = json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11, "condition": "n > 3 and n < 8"}]});
    client.ok("setBreakpoints", wanted.clone());
    client.ok("attach", json!({}));
    let mut last = 3;
    for _ in 0..10 {
        client.event("stopped");
        let n = client.evaluate("n").parse().unwrap();
        assert_eq!(n, if last == 7 || last == 3 { 4 } else { last + 1 });
        last = n;
        let answer = client.ok("setBreakpoints", wanted.clone());
        assert!(!answer.to_string().contains("line hook"), "{answer}");
        client.go_on("continue");
    }
    client.ok("disconnect", json!({}));
    script.join().unwrap();
}

#[test]
fn a_breakpoint_set_before_its_script_is_loaded_and_before_attaching_is_armed() {
    let host = Host::builder("test").start(Listen::ANY_PORT).unwrap();
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok("setBreakpoints", json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 11}]}));
    let script_host = host.clone();
    let (loaded, is_loaded) = std::sync::mpsc::channel();
    let script = thread::spawn(move || {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(&script_host, &lua, "main").unwrap();
        context.load("scripts/toll.lua", SCRIPT).unwrap().call::<()>(()).unwrap();
        loaded.send(()).unwrap();
        while !script_host.is_attached() {
            thread::yield_now();
        }
        script_host.poll();
        lua.globals().get::<mlua::Function>("update").unwrap().call::<i64>(1).unwrap()
    });
    is_loaded.recv().unwrap();
    client.ok("attach", json!({}));
    assert_eq!(client.stopped().1, 11);
    client.go_on("continue");
    assert_eq!(script.join().unwrap(), 11);
}

/// A host that handles an event in which its script waits, in line 2, until it is let through to line 3.
struct Gated {
    host: Host,
    open: crossbeam_channel::Sender<()>,
    script: thread::JoinHandle<i64>,
}

impl Gated {
    /// Starts it; the script waits when this returns.
    fn start() -> Self {
        let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::ANY_PORT).unwrap();
        let (waits, is_waiting) = crossbeam_channel::bounded(1);
        let (open, is_open) = crossbeam_channel::bounded(1);
        let script_host = host.clone();
        let script = thread::spawn(move || {
            let lua = mlua::Lua::new();
            let context = LuaContext::attach(&script_host, &lua, "main").unwrap();
            let gate = lua.create_function(move |_, ()| {
                waits.send(()).unwrap();
                is_open.recv_timeout(LONG).map_err(mlua::Error::external)
            });
            lua.globals().set("gate", gate.unwrap()).unwrap();
            let text = "function update()\n  gate()\n  return 1\nend";
            context.load("gate.lua", text).unwrap().call::<()>(()).unwrap();
            let update = lua.globals().get::<mlua::Function>("update").unwrap();
            script_host.emit(Event::of("frame.update"), || update.call::<i64>(())).unwrap()
        });
        is_waiting.recv_timeout(LONG).unwrap();
        Self { host, open, script }
    }

    fn attach(&self) -> Client {
        Client::attached(&self.host)
    }

    /// Lets the script through.
    fn open(&self) {
        self.open.send(()).unwrap();
    }

    fn end(self) {
        assert_eq!(self.script.join().unwrap(), 1);
    }
}

fn break_behind_the_gate(client: &mut Client) {
    client.ok("setBreakpoints", json!({"source": {"path": "gate.lua"}, "breakpoints": [{"line": 3}]}));
}

#[test]
fn a_client_that_comes_right_before_a_stop_is_told_of_it_once() {
    let gated = Gated::start();
    let (mut first, mut second) = (gated.attach(), gated.attach());
    break_behind_the_gate(&mut first);
    gated.open();
    assert_eq!((first.stopped().1, second.stopped().1), (3, 3));
    assert!(!second.has_event("stopped"), "what was asked for at the stop is answered, and there was no more");
    first.go_on("continue");
    gated.end();
}

#[test]
fn what_lets_one_stop_go_does_not_reach_a_later_one() {
    let gated = Gated::start();
    // The script hears of this one's leaving when it is stopped for the other one.
    gated.attach().vanish();
    while gated.host.is_attached() {
        thread::yield_now();
    }
    let mut client = gated.attach();
    break_behind_the_gate(&mut client);
    gated.open();
    assert_eq!(client.stopped().1, 3);
    assert_eq!(client.evaluate("1 + 1"), "2", "it is still stopped");
    client.go_on("continue");
    gated.end();
}

#[test]
fn a_chunk_that_a_script_loads_itself_binds_the_breakpoint_that_waits_for_it() {
    let host = Host::builder("test").event(EventKind::new("frame.update")).start(Listen::ANY_PORT).unwrap();
    let mut client = Client::connect(&host);
    client.ok("initialize", json!({}));
    client.ok("setBreakpoints", json!({"source": {"path": "made.lua"}, "breakpoints": [{"line": 2}]}));
    let script_host = host.clone();
    let script = thread::spawn(move || {
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(&script_host, &lua, "main").unwrap();
        let text = r"function update() return load('local a = 1\nlocal b = a\nreturn a + b', '@made.lua')() end";
        context.load("scripts/toll.lua", &adapted(text)).unwrap().call::<()>(()).unwrap();
        while !script_host.is_attached() {
            thread::yield_now();
        }
        let update = lua.globals().get::<mlua::Function>("update").unwrap();
        let many = (0..3).map(|_| script_host.emit(Event::of("frame.update"), || update.call::<i64>(1)).unwrap());
        many.sum::<i64>()
    });
    client.ok("attach", json!({}));
    for _ in 0..3 {
        assert_eq!(client.stopped().1, 2);
        client.go_on("continue");
    }
    assert_eq!(script.join().unwrap(), 6);
}

#[test]
fn contexts_of_one_name_are_told_apart_by_a_number() {
    let host = Host::builder("works").start(Listen::ANY_PORT).unwrap();
    let lua = mlua::Lua::new();
    let open = |name: &str| {
        let state = mlua::Lua::new();
        (LuaContext::attach(&host, &state, name).unwrap(), state)
    };
    let first = LuaContext::attach(&host, &lua, "job").unwrap();
    let (second, third) = (open("job"), open("job"));
    let names = |client: &mut Client| {
        let threads = client.ok("threads", json!({}))["threads"].clone();
        threads.as_array().unwrap().iter().map(|held| held["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let mut client = Client::attached(&host);
    assert_eq!(names(&mut client), ["job", "job (2)", "job (3)"]);
    drop((first, second));
    let again = open("job");
    assert_eq!(names(&mut client), ["job (3)", "job"]);
    drop((third, again));
}

/// A script that spends many instructions in a function whose entry can only be watched by the hook.
const BUSY: &str = "\
local function spin(n)
  for i = 1, 300 do n = n + i end
  return n
end
function update(n)
  local sum = 0
  for i = 1, 20 do sum = sum + spin(i) end
  local co = coroutine.wrap(function() for i = 1, 20 do sum = sum + spin(i) end return sum end)
  return co()
end
function endless() while true do end end
";

/// A host whose own hook limits its scripts: what never ends is ended by it.
struct Limited {
    host: Host,
    /// How often the hook was called in each turn, and whether what never ends was ended.
    turns: Arc<Mutex<Vec<(u64, bool)>>>,
    ends: Arc<AtomicBool>,
    running: Option<thread::JoinHandle<()>>,
}

impl Limited {
    fn start(is_of_all_threads: bool) -> Limited {
        let host = Host::builder("works").event(EventKind::new("turn")).start(Listen::ANY_PORT).unwrap();
        let (turns, ends) = (Arc::new(Mutex::new(Vec::new())), Arc::new(AtomicBool::new(false)));
        let running = thread::spawn({
            let (host, turns, ends) = (host.clone(), turns.clone(), ends.clone());
            move || Limited::run(&host, is_of_all_threads, &turns, &ends)
        });
        Limited { host, turns, ends, running: Some(running) }
    }

    fn run(host: &Host, is_of_all_threads: bool, turns: &Mutex<Vec<(u64, bool)>>, ends: &AtomicBool) {
        let (calls, is_strict) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let lua = mlua::Lua::new();
        let context = LuaContext::attach(host, &lua, "main").unwrap();
        let triggers = mlua::HookTriggers::new().every_nth_instruction(100);
        let (counted, strict) = (calls.clone(), is_strict.clone());
        let limit = move || {
            let spent = counted.fetch_add(1, SeqCst);
            let is_over = strict.load(SeqCst) && spent > 2_000;
            if is_over { Err(mlua::Error::runtime("the script takes too long")) } else { Ok(mlua::VmState::Continue) }
        };
        match is_of_all_threads {
            true => lua.set_global_hook(triggers, move |_, _| limit()),
            false => lua.set_hook(triggers, move |_, _| limit()),
        }
        .unwrap();
        context.load("busy.lua", BUSY).unwrap().call::<()>(()).unwrap();
        let [update, endless] = ["update", "endless"].map(|name| lua.globals().get::<mlua::Function>(name).unwrap());
        while !ends.load(SeqCst) {
            calls.store(0, SeqCst);
            host.emit(Event::of("turn"), || update.call::<i64>(1)).unwrap();
            let spent = calls.swap(0, SeqCst);
            is_strict.store(true, SeqCst);
            let is_ended = host.emit(Event::of("turn"), || endless.call::<()>(())).is_err();
            is_strict.store(false, SeqCst);
            turns.lock().unwrap().push((spent, is_ended));
        }
    }

    /// Some turns that began after this was called: those that are over when it begins are left out.
    fn settle(&self) -> Vec<(u64, bool)> {
        let count = || self.turns.lock().unwrap().len();
        let seen = count();
        until(|| count() >= seen + 4, "turns go on");
        self.turns.lock().unwrap()[seen + 2..].to_vec()
    }

    fn end(mut self) {
        self.ends.store(true, SeqCst);
        self.running.take().unwrap().join().unwrap();
    }
}

/// Also where a test has failed: it is not to keep a processor busy while others run.
impl Drop for Limited {
    fn drop(&mut self) {
        self.ends.store(true, SeqCst);
    }
}

#[test]
fn the_hook_of_the_host_goes_on_whoever_is_attached_and_whatever_is_armed() {
    for is_of_all_threads in [false, true] {
        let limited = Limited::start(is_of_all_threads);
        the_hook_goes_on(&limited);
        limited.end();
    }
}

fn the_hook_goes_on(limited: &Limited) {
    let alone = limited.settle();
    let usual = alone[0].0;
    assert!(usual > 100 && alone.iter().all(|(_, is_ended)| *is_ended), "{alone:?}");
    let check = |what: &str| {
        for (calls, is_ended) in limited.settle() {
            assert!(calls >= usual * 9 / 10 && calls <= usual * 13 / 10, "{what}: {calls} calls of {usual}");
            assert!(is_ended, "{what}: what never ends was not ended");
        }
    };
    let mut client = Client::attached(&limited.host);
    check("attached");
    let never = json!({"breakpoints": [{"name": "spin", "condition": "n < -1"}]});
    client.ok("setFunctionBreakpoints", never);
    check("watched by the hook");
    let never = json!({"source": {"path": "busy.lua"}, "breakpoints": [{"line": 3, "condition": "n < -1"}]});
    client.ok("setFunctionBreakpoints", json!({"breakpoints": []}));
    client.ok("setBreakpoints", never);
    check("by an exchanged body");
    client.ok("pause", json!({"threadId": 1}));
    client.stopped();
    for step in ["next", "stepIn", "next"] {
        client.go_on(step);
        // The limit of the host may end the handler before the step has ended.
        if client.first_of(&["stopped", "adzeman/handlerLeft"]).0 != "stopped" {
            client.ok("pause", json!({"threadId": 1}));
            client.stopped();
        }
    }
    client.go_on("continue");
    check("after a pause and steps");
    client.ok("disconnect", json!({}));
    until(|| !limited.host.is_attached(), "it is detached");
    check("after leaving");
}

/// What a client is told where a host sets a hook in each `turn` while a line is watched for by ours.
fn told_of_hook(turn: fn(&mlua::Lua, &mlua::Function)) -> String {
    let host = Host::builder("works").event(EventKind::new("turn")).start(Listen::ANY_PORT).unwrap();
    let works = Works::start(host, move |host, ending| {
        let lua = mlua::Lua::new();
        let triggers = mlua::HookTriggers::new().every_nth_instruction(1000);
        lua.set_global_hook(triggers, |_, _| Ok(mlua::VmState::Continue)).unwrap();
        let context = LuaContext::attach(host, &lua, "main").unwrap();
        let script = "function turn(n)\n  for i = 1, n do\n    n = n - i\n  end\nend";
        context.load("turn.lua", script).unwrap().call::<()>(()).unwrap();
        let function: mlua::Function = lua.globals().get("turn").unwrap();
        while !ending.load(SeqCst) {
            let _ = host.emit(Event::of("turn"), || function.call::<()>(3));
            if host.is_attached() {
                turn(&lua, &function);
            }
        }
        host.poll();
    });
    let mut client = works.attach();
    // The head of a loop is watched for by the hook.
    let lines = json!([{"line": 2, "condition": "n > 1000"}]);
    client.ok("setBreakpoints", json!({"source": {"path": "turn.lua"}, "breakpoints": lines}));
    client.ok("configurationDone", json!({}));
    loop {
        let text = client.event("output")["output"].as_str().unwrap().to_owned();
        if text.contains("hook") {
            break text;
        }
    }
}

#[test]
fn a_hook_that_the_host_sets_in_place_of_ours_is_told_of() {
    let on_the_state = told_of_hook(|lua, _| {
        let triggers = mlua::HookTriggers::new().every_nth_instruction(1000);
        lua.set_hook(triggers, |_, _| Ok(mlua::VmState::Continue)).unwrap();
    });
    // The binding puts the hook of all coroutines onto each that it makes.
    let on_a_coroutine = told_of_hook(|lua, function| {
        lua.create_thread(function.clone()).unwrap().resume::<()>(3).unwrap();
    });
    for told in [on_the_state, on_a_coroutine] {
        assert!(told.starts_with("the host has set a hook of its own on main, or on a coroutine there"), "{told}");
    }
}
