//! Scripts that `require`, a loader of the host's own, or a script itself brought in: what is known of them is what runs.

use std::path::PathBuf;
use std::sync::mpsc;
use std::thread::{self, JoinHandle};

use adzeman::{Event, EventKind, Host, Listen, LuaContext};
use mlua::{Function, Lua, Table};
use serde_json::{Value as Json, json};

use crate::harness::{Client, on_each};
use crate::versions::{adapted, is_since};

const MODULE: &str = "\
local M = {}
local function hidden(x)
  local twice = 2 * x
  return twice
end
function M.shown(x)
  local sum = hidden(x) + 1
  return sum
end
function M.unused(x)
  local never = x
  return never
end
return M
";
const MAIN: &str = "\
local mod = bring('mod')
mod.unused = nil
collectgarbage()
function update(n)
  return mod.shown(n)
end
";

/// A host whose script brings the module in before anybody comes, by `bring`, and then runs it in each event.
struct Works {
    folder: PathBuf,
    host: Host,
    running: Option<JoinHandle<()>>,
}

impl Works {
    fn start(name: &str, bring: fn(&Lua, PathBuf) -> Function) -> Self {
        let folder = std::env::temp_dir().join(format!("adzeman-found-{name}-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("mod.lua"), MODULE).unwrap();
        let host = Host::builder("works").event(EventKind::new("shift")).start(Listen::ANY_PORT).unwrap();
        let (ready, is_ready) = mpsc::channel();
        let running = thread::spawn({
            let (host, folder) = (host.clone(), folder.clone());
            move || {
                let lua = Lua::new();
                let context = LuaContext::attach(&host, &lua, "main").unwrap();
                lua.globals().set("bring", bring(&lua, folder)).unwrap();
                context.load("main.lua", MAIN).unwrap().call::<()>(()).unwrap();
                let update: Function = lua.globals().get("update").unwrap();
                ready.send(()).unwrap();
                while !host.is_attached() {
                    thread::yield_now();
                }
                while host.is_attached() {
                    host.emit(Event::of("shift"), || update.call::<i64>(20)).unwrap();
                }
            }
        });
        is_ready.recv().unwrap();
        Self { folder, host, running: Some(running) }
    }

    fn attach(&self) -> Client {
        let mut client = Client::attached(&self.host);
        client.ok("configurationDone", json!({}));
        // What is there is found within the first events.
        while !client.ok("loadedSources", json!({}))["sources"].to_string().contains("mod") {
            thread::yield_now();
        }
        client
    }
}

impl Drop for Works {
    fn drop(&mut self) {
        let ended = self.running.take().map(JoinHandle::join);
        let _ = std::fs::remove_dir_all(&self.folder);
        if !thread::panicking() {
            ended.unwrap().unwrap();
        }
    }
}

/// By `require`, as a file.
fn by_require(lua: &Lua, folder: PathBuf) -> Function {
    let path = format!("package.path = '{}/?.lua'\nreturn require", folder.display());
    lua.load(path).eval().unwrap()
}

/// By a loader of the host's own, which names the chunk as it likes, and keeps the text to itself.
fn by_own_loader(lua: &Lua, folder: PathBuf) -> Function {
    let load = move |lua: &Lua, name: String| {
        let text = std::fs::read_to_string(folder.join(format!("{name}.lua"))).unwrap();
        lua.load(text).set_name(format!("=works/{name}.lua")).eval::<mlua::Value>()
    };
    lua.create_function(load).unwrap()
}

fn set(client: &mut Client, lines: &[i64]) -> Vec<Json> {
    let wanted: Vec<_> = lines.iter().map(|line| json!({ "line": line })).collect();
    let body = client.ok("setBreakpoints", json!({"source": {"path": "mod.lua"}, "breakpoints": wanted}));
    body["breakpoints"].as_array().unwrap().clone()
}

/// The breakpoint on each line that is known is there, and is hit where it runs.
fn hits(client: &mut Client, lines: &[i64]) {
    // Between two events: in one that is half over, the first line may be past.
    let shift = json!([{"filterId": "shift", "adzeman": {"atBoundary": true}}]);
    client.ok("setExceptionBreakpoints", json!({"filters": [], "filterOptions": shift}));
    assert_eq!(client.event("stopped")["reason"], "event");
    client.ok("setExceptionBreakpoints", json!({"filters": []}));
    let placed = set(client, lines);
    client.go_on("continue");
    for (line, held) in lines.iter().zip(&placed) {
        assert_eq!((&held["verified"], held["line"].as_i64()), (&json!(true), Some(*line)), "{held}");
    }
    for line in [7, 3, 7, 3] {
        assert_eq!(client.stopped().1, line);
        client.go_on("continue");
    }
    // Held at this one, until it is let go.
    assert_eq!(client.stopped().1, 7);
}

#[test]
fn a_module_is_known_whole_by_its_file_whatever_of_it_is_alive() {
    let works = Works::start("whole", by_require);
    let mut client = works.attach();
    // The function on line 10 is gone; its lines are those of the file all the same.
    hits(&mut client, &[3, 7, 11]);
    let moved = set(&mut client, &[9])[0].clone();
    assert_eq!(moved["line"], 9, "the end of a function is a line of its own: {moved}");
    client.ok("setFunctionBreakpoints", json!({"breakpoints": [{"name": "hidden"}]}));
    set(&mut client, &[]);
    client.go_on("continue");
    assert_eq!(client.stopped().1, 3);
    client.ok("disconnect", json!({}));
}

#[test]
fn a_file_that_is_not_what_runs_is_not_shown_and_nothing_is_moved_by_it() {
    let works = Works::start("other", by_require);
    std::fs::write(works.folder.join("mod.lua"), format!("-- a line more\n\n{MODULE}")).unwrap();
    known_by_its_functions(&works);
}

#[test]
fn a_script_without_a_text_is_what_its_functions_say_that_are_alive() {
    let works = Works::start("loader", by_own_loader);
    known_by_its_functions(&works);
}

fn known_by_its_functions(works: &Works) {
    let mut client = works.attach();
    hits(&mut client, &[3, 7]);
    for line in [1, 11] {
        let unknown = set(&mut client, &[line])[0].clone();
        assert_eq!(unknown["verified"], false, "{unknown}");
        let why = unknown["message"].as_str().unwrap();
        assert!(why.contains(&format!("nothing is known of line {line} of mod.lua")), "{why}");
    }
    let sources = client.ok("loadedSources", json!({}))["sources"].clone();
    let module = sources.as_array().unwrap().iter().find(|held| held["name"] == "mod.lua").unwrap().clone();
    let why = client.refused("source", json!({"source": module, "sourceReference": module["sourceReference"]}));
    assert!(why.contains("text"), "{why}");
    set(&mut client, &[]);
    client.ok("disconnect", json!({}));
}

#[test]
fn a_text_that_the_client_has_is_taken_if_it_is_that_of_what_runs() {
    let works = Works::start("given", by_own_loader);
    let mut client = works.attach();
    let unknown = set(&mut client, &[11])[0].clone();
    assert_eq!(unknown["verified"], false, "{unknown}");
    let give = |client: &mut Client, text: &str| {
        client.ok("adzeman/sourceText", json!({"path": "mod.lua", "text": text}))["taken"].clone()
    };
    let changed = MODULE.replace("hidden(x) + 1", "hidden(x) + 2 + x");
    for other in [changed.as_str(), "return", "", "does not compile", &format!("\n{MODULE}"), "\u{1b}Lua"] {
        assert_eq!(give(&mut client, other), false, "{other:?}");
    }
    assert_eq!(give(&mut client, MODULE), true);
    assert_eq!(give(&mut client, MODULE), false, "it has one now");
    // Also of the function on line 10, which is gone.
    hits(&mut client, &[3, 7, 11]);
    let sources = client.ok("loadedSources", json!({}))["sources"].clone();
    let module = sources.as_array().unwrap().iter().rfind(|held| held["name"] == "mod.lua").unwrap().clone();
    let text = client.ok("source", json!({"source": module, "sourceReference": module["sourceReference"]}));
    assert_eq!(text["content"], MODULE);
    let body = client.ok("adzeman/breakpoints", json!({}));
    assert!(!body.to_string().contains("line hook"), "with its text lines are armed by bodies: {body}");
    set(&mut client, &[]);
    client.ok("disconnect", json!({}));
}

/// A script that keeps two texts which no file has, and compiles one of them by `load`.
const COMPILES: &str = "\
local first = 'local function later(x)\\n  return x + 1\\nend\\nlocal function now(x)\\n  return x\\nend\\nreturn now'
local second = 'return function(x)\\n  local y = x\\n\\n  return y\\nend'
local kept = {}
function update(n)
  if n == 3 then kept[1] = load(first, '=mem/mod.lua')() end
  if n == 6 and two then kept[2] = load(second, '=mem/mod.lua')() end
  for _, body in ipairs(kept) do body(n) end
  return n
end
";

#[test]
fn a_text_that_a_script_compiles_while_someone_is_attached_is_known_whole_unless_another_is_called_the_same() {
    for two in [false, true] {
        let host = Host::builder("works").event(EventKind::new("shift")).start(Listen::ANY_PORT).unwrap();
        let running = thread::spawn({
            let host = host.clone();
            move || {
                let lua = Lua::new();
                let context = LuaContext::attach(&host, &lua, "main").unwrap();
                lua.globals().set("two", two).unwrap();
                context.load("main.lua", &adapted(COMPILES)).unwrap().call::<()>(()).unwrap();
                let update: Function = lua.globals().get("update").unwrap();
                while !host.is_attached() {
                    thread::yield_now();
                }
                let mut n = 0;
                while host.is_attached() {
                    n += 1;
                    host.emit(Event::of("shift").with("n", n), || update.call::<i64>(n)).unwrap();
                }
            }
        });
        let mut client = Client::connect(&host);
        client.ok("initialize", json!({}));
        client.event("initialized");
        let wait = json!({"source": {"path": "main.lua"}, "breakpoints": [{"line": 5}]});
        client.ok("setBreakpoints", wait);
        client.ok("attach", json!({}));
        client.ok("configurationDone", json!({}));
        client.stopped();
        client.ok("setBreakpoints", json!({"source": {"path": "main.lua"}, "breakpoints": []}));
        // Before its first line runs: the main chunk's own.
        set(&mut client, &[7]);
        client.go_on("continue");
        assert_eq!(client.stopped().1, 7);
        let known = |client: &mut Client| {
            let sources = client.ok("loadedSources", json!({}))["sources"].clone();
            sources.as_array().unwrap().iter().find(|held| held["name"] == "mod.lua").unwrap().clone()
        };
        let source = known(&mut client);
        let text = client.ok("source", json!({"source": source, "sourceReference": source["sourceReference"]}));
        assert!(text["content"].as_str().unwrap().starts_with("local function later(x)"), "{text}");
        // One is hit, and one waits for a function that nobody has called yet.
        let placed = set(&mut client, &[2, 5]);
        assert!(placed.iter().all(|held| held["verified"] == true), "{placed:?}");
        client.go_on("continue");
        assert_eq!(client.stopped().1, 5);
        if two {
            let wait = json!({"source": {"path": "main.lua"}, "breakpoints": [{"line": 8, "condition": "n == 6"}]});
            client.ok("setBreakpoints", wait);
            set(&mut client, &[]);
            client.go_on("continue");
            client.stopped();
            let source = known(&mut client);
            let source = json!({"source": source, "sourceReference": source["sourceReference"]});
            let why = client.refused("source", source);
            assert!(why.contains("text"), "which of the two runs is not known: {why}");
        }
        client.ok("disconnect", json!({}));
        running.join().unwrap();
    }
}

/// A script that loads its module again in each event, by one of the ways there are.
#[test]
fn a_module_that_is_loaded_again_and_again_is_hit_each_time() {
    for again in ["dofile(file)", "loadfile(file)()", "reload('mod')"] {
        let folder = std::env::temp_dir().join(format!("adzeman-again-{}-{}", again.len(), std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let file = folder.join("mod.lua");
        std::fs::write(&file, MODULE).unwrap();
        let host = Host::builder("works").event(EventKind::new("shift")).start(Listen::ANY_PORT).unwrap();
        let running = thread::spawn({
            let (host, file, folder) = (host.clone(), file.clone(), folder.clone());
            move || {
                let lua = Lua::new();
                let context = LuaContext::attach(&host, &lua, "main").unwrap();
                lua.globals().set("file", file.to_str().unwrap()).unwrap();
                let script = format!(
                    "package.path = '{}/?.lua'\nfunction reload(name)\n  package.loaded[name] = nil\n  return require(name)\n\
                     end\nfunction update(n)\n  local mod = {again}\n  return mod.shown(n)\nend",
                    folder.display()
                );
                context.load("main.lua", &script).unwrap().call::<()>(()).unwrap();
                let update: Function = lua.globals().get("update").unwrap();
                while !host.is_attached() {
                    thread::yield_now();
                }
                let mut count = 0_i64;
                while host.is_attached() {
                    count += 1;
                    host.emit(Event::of("shift").with("n", count), || update.call::<i64>(count)).unwrap();
                }
            }
        });
        let mut client = Client::connect(&host);
        client.ok("initialize", json!({}));
        client.event("initialized");
        set(&mut client, &[7]);
        client.ok("attach", json!({}));
        client.ok("configurationDone", json!({}));
        let mut last = 0;
        for _ in 0..20 {
            assert_eq!(client.stopped().1, 7, "{again}");
            let n: i64 = client.evaluate("x").parse().unwrap();
            assert_eq!(n, last + 1, "{again}: each event has one");
            last = n;
            client.go_on("continue");
        }
        client.stopped();
        client.ok("disconnect", json!({}));
        running.join().unwrap();
        std::fs::remove_dir_all(&folder).unwrap();
    }
}

/// A module's file, loaded by the host's own loader in each of twenty events that take a while, and another chunk in each.
#[test]
fn a_module_that_a_loader_of_the_host_loads_again_is_hit_each_time_but_for_a_first_that_is_told_of() {
    for from_file in [true, false] {
        let folder = std::env::temp_dir().join(format!("adzeman-own-loader-{from_file}-{}", std::process::id()));
        std::fs::create_dir_all(&folder).unwrap();
        let file = folder.join("mod.lua");
        std::fs::write(&file, MODULE).unwrap();
        let host = Host::builder("works").event(EventKind::new("shift")).start(Listen::ANY_PORT).unwrap();
        let running = thread::spawn({
            let (host, file) = (host.clone(), file.clone());
            move || {
                let lua = Lua::new();
                let context = LuaContext::attach(&host, &lua, "main").unwrap();
                let load = move |lua: &Lua, ()| {
                    if from_file {
                        return lua.load(file.as_path()).call::<Table>(());
                    }
                    lua.load(MODULE).set_name(format!("@{}", file.display())).call(())
                };
                lua.globals().set("own", lua.create_function(load).unwrap()).unwrap();
                let script = "local mod = own()\nfunction update(n, again)\n  if again then mod = own() end\n  return mod.shown(n)\nend";
                context.load("main.lua", script).unwrap().call::<()>(()).unwrap();
                let update: Function = lua.globals().get("update").unwrap();
                while !host.is_attached() {
                    thread::yield_now();
                }
                let mut count = 0_i64;
                while host.is_attached() {
                    count += 1;
                    let again = count > 3;
                    host.emit(Event::of("shift").with("n", count), || update.call::<i64>((count, again))).unwrap();
                    lua.load(format!("return {count}")).eval::<i64>().unwrap();
                    thread::sleep(std::time::Duration::from_millis(5));
                }
            }
        });
        let mut client = Client::connect(&host);
        client.ok("initialize", json!({}));
        client.event("initialized");
        set(&mut client, &[7]);
        client.ok("attach", json!({}));
        client.ok("configurationDone", json!({}));
        let mut met = Vec::new();
        while met.len() < 20 {
            assert_eq!(client.stopped().1, 7);
            met.push(client.evaluate("x").parse::<i64>().unwrap());
            client.go_on("continue");
        }
        client.stopped();
        let sources = client.ok("loadedSources", json!({}))["sources"].clone();
        assert!(sources.as_array().unwrap().len() <= 3, "all of the chunks in each event have one name: {sources}");
        let mut told = 0;
        while client.has_event("output") {
            let text = client.event("output")["output"].clone();
            told += usize::from(text.as_str().unwrap().contains("mod.lua again in main: breakpoints could be missed"));
        }
        client.ok("disconnect", json!({}));
        running.join().unwrap();
        std::fs::remove_dir_all(&folder).unwrap();
        let missed: Vec<_> = met.windows(2).filter(|two| two[1] != two[0] + 1).collect();
        assert!(missed.iter().all(|two| two[0] == 3), "all that were missed are before it was told of: {met:?}");
        assert_eq!(told, 1, "{met:?}");
    }
}

#[test]
fn what_is_armed_in_a_sandbox_is_decided_by_its_globals() {
    let script = "\
local text = [[
local seen = 0
function frame(n)
  seen = seen + 1
  local number = n
  return number
end
function other() return level end
]]
level = 'of the host'
local sandbox = {level = 7}
function update(n)
  if not sandbox.frame then load(text, '@keeper.lua', 't', sandbox)() end
  return sandbox.frame(n)
end
";
    on_each(script, |host| {
        let mut client = host.attach();
        // Neither is a variable of the function there: 'number' is one from the next line on.
        let when = [(4, "number == nil and level == 7"), (5, "number == 3")];
        let lines = when.map(|(line, condition)| json!({"line": line, "condition": condition}));
        client.ok("setBreakpoints", json!({"source": {"path": "keeper.lua"}, "breakpoints": lines}));
        host.go();
        for _ in 0..2 {
            assert_eq!(client.stopped().1, 4);
            assert_eq!(client.evaluate("level"), "7");
            client.go_on("continue");
        }
    });
}

#[test]
fn a_function_without_globals_sees_those_of_its_sandbox() {
    let script = "\
depth = 'of the host'
local text = [[
config = {depth = 7}
depth = 7
function frame(n)
  local twice = 2 * n
  return twice
end
function other() return config end
]]
local once, first, second = {}, {}, {}
load(text, '@once.lua', 't', once)()
load(text, '@twice.lua', 't', first)()
load(text, '@twice.lua', 't', second)()
function update(n)
  once.frame(n)
  first.frame(n)
  return second.frame and n
end
";
    on_each(script, |host| {
        let mut client = host.attach();
        for name in ["once.lua", "twice.lua"] {
            let set = json!({"source": {"path": name}, "breakpoints": [{"line": 5}]});
            client.ok("setBreakpoints", set);
        }
        let set = json!({"source": {"path": "toll.lua"}, "breakpoints": [{"line": 18, "condition": "depth == 'of the host'"}]});
        client.ok("setBreakpoints", set);
        host.go();
        for _ in 0..3 {
            client.stopped();
            assert_eq!(client.frame(0)["source"]["path"], "once.lua");
            assert_eq!((client.evaluate("depth"), client.evaluate("config.depth")), ("7".to_owned(), "7".to_owned()));
            assert!(client.scope("Globals").contains("depth = 7"));
            let frame = client.frame(0)["id"].clone();
            client.ok("setExpression", json!({"expression": "depth", "value": "7", "frameId": frame}));
            client.go_on("continue");
            client.stopped();
            assert_eq!(client.frame(0)["source"]["path"], "twice.lua");
            assert_eq!(client.evaluate("twice - n == n"), "true", "what is near is seen");
            let frame = client.frame(0)["id"].clone();
            // Where functions have their globals beside them, each has its own.
            if !is_since("5.2") {
                assert_eq!(client.evaluate("depth"), "7");
            }
            for (command, arguments) in [
                ("evaluate", json!({"expression": "depth", "frameId": frame})),
                ("setExpression", json!({"expression": "depth", "value": "8", "frameId": frame})),
            ]
            .into_iter()
            .filter(|_| is_since("5.2"))
            {
                let why = client.refused(command, arguments);
                assert!(why.contains("which global is meant is not known"), "{why}");
            }
            client.go_on("continue");
            assert_eq!(client.stopped().1, 18);
            assert_eq!(client.evaluate("depth"), "\"of the host\"");
            client.go_on("continue");
        }
    });
}
