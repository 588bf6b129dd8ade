//! Scripts alone in a process that knows nothing of anyone who watches, and the same scripts watched in every way: what they write,
//! how they fail and what they exit with is the same, and what is told of them is what their own hook sees.
#![allow(unsafe_code)]

use std::collections::BTreeSet;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::mpsc;
use std::thread;

use adzeman::{Host, Listen, LuaContext};
use mlua::Lua;
use serde_json::{Value as Json, json};

use crate::harness::Client;
use crate::versions::{NOT_TOLD_TO_SCRIPTS, adapted, by_short_names, is_refused_before, is_since};

/// What a script writes comes behind this.
const BEGIN: &str = "=====\n";

/// How a script is run: alone, alone with a hook of its own, or watched.
const ALONE: &str = "alone";
const TRACED: &str = "traced";
const WATCHED: [&str; 9] = ["attached", "never", "locals", "messages", "errors", "changes", "into", "over", "left"];

/// The hook of the script itself: each line, and what the function returned that the line before was in, if it has.
const TRACE: &str = r#"
local path, script = ...
local file = io.open(path, "w")
local getinfo, getlocal, sethook, running = debug.getinfo, debug.getlocal, debug.sethook, coroutine.running
local create, resume, unpack, format, type, tostring = coroutine.create, coroutine.resume, table.unpack, string.format, type, tostring
local last
local function depth()
  local low, high = 2, 4
  while getinfo(high, "l") do low, high = high, high * 2 end
  while high - low > 1 do
    local middle = (low + high - (low + high) % 2) / 2
    if getinfo(middle, "l") then low = middle else high = middle end
  end
  return low
end
local function shown(value)
  local kind = type(value)
  if kind == "string" then return #value > 50 and "long" or '"' .. value .. '"' end
  return (kind == "number" or kind == "boolean" or kind == "nil") and tostring(value) or "other"
end
local function see(event, line)
  if event == "line" then
    local source = getinfo(2, "S").source
    if source == "=trace" then return end
    if source == script then
      file:write(line, last and last.values and " after " .. last.values or "", "\n")
    end
    last = { thread = running(), depth = depth(), open = true }
    return
  end
  if not last or not last.open or last.thread ~= running() then return end
  local at = depth()
  if event == "return" then
    if at == last.depth then
      -- Before 5.4 a script cannot tell.
      local tells, info = pcall(getinfo, 3, "r")
      local values = {}
      if not tells then info = { ftransfer = 1, ntransfer = 0 } end
      for i = info.ftransfer, info.ftransfer + info.ntransfer - 1 do
        local _, value = getlocal(2, i)
        values[#values + 1] = shown(value)
      end
      last.values = table.concat(values, ", ")
    end
    last.open = at > last.depth
  elseif at < last.depth or at == last.depth and event ~= "tail call" then
    last.open = false
  end
end
local function pass_on(fine, ...) if not fine then error(..., 0) end return ... end
function coroutine.create(f) local co = create(f) sethook(co, see, "crl") return co end
function coroutine.wrap(f) local co = coroutine.create(f) return function(...) return pass_on(resume(co, ...)) end end
debug.sethook = function() end
debug.gethook = function() end
sethook(see, "crl")
"#;

fn corpus() -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/session/corpus");
    let mut files: Vec<_> = fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    files.sort();
    files
}

/// What came of a run.
#[derive(Debug, PartialEq, Eq)]
struct Outcome {
    written: String,
    errors: String,
    code: Option<i32>,
}

/// Runs a script in a process of its own; also answers what was seen of it.
fn run(script: &Path, how: &str) -> (Outcome, Vec<String>) {
    let seen = tempfile::NamedTempFile::new().unwrap();
    let returned =
        |line: &str| if is_since("5.4") { line.to_owned() } else { line.split(" after ").next().unwrap().to_owned() };
    let output = Command::new(std::env::current_exe().unwrap())
        .args(["unnoticed::child", "--exact", "--ignored", "--nocapture"])
        .env("UNNOTICED", how)
        .env("UNNOTICED_SCRIPT", script)
        .env("UNNOTICED_SEEN", seen.path())
        .env_remove("RUST_BACKTRACE")
        .output()
        .unwrap();
    let written = String::from_utf8_lossy(&output.stdout).into_owned();
    let (_, written) = written.split_once(BEGIN).unwrap_or_else(|| panic!("{how}: {output:?}"));
    let outcome = Outcome {
        written: without_addresses(written),
        errors: without_addresses(&String::from_utf8_lossy(&output.stderr)),
        code: output.status.code(),
    };
    (outcome, fs::read_to_string(seen.path()).unwrap().lines().map(returned).collect())
}

/// Addresses differ from run to run.
fn without_addresses(text: &str) -> String {
    let text = by_short_names(text);
    let mut parts = text.split("0x");
    let first = parts.next().unwrap_or_default().to_owned();
    parts.fold(first, |text, part| text + "0x" + part.trim_start_matches(|c: char| c.is_ascii_hexdigit()))
}

#[test]
#[ignore = "the tests below run it"]
fn child() {
    let variable = |name: &str| std::env::var(name).unwrap();
    let (how, script, seen) = (variable("UNNOTICED"), variable("UNNOTICED_SCRIPT"), variable("UNNOTICED_SEEN"));
    let text = adapted(&fs::read_to_string(&script).unwrap());
    let name = Path::new(&script).file_name().unwrap().to_str().unwrap().to_owned();
    // SAFETY: the scripts of the corpus use the library's debug functions as they are meant.
    let lua = unsafe { Lua::unsafe_new() };
    lua.load(format!("io.write({BEGIN:?})")).exec().unwrap();
    let chunk_name = format!("@{name}");
    // The one thing that a context adds, and leaves.
    if matches!(how.as_str(), ALONE | TRACED) {
        lua.globals().set("adzeman", lua.create_table().unwrap()).unwrap();
    }
    let outcome = match how.as_str() {
        ALONE => lua.load(&text).set_name(&chunk_name).exec(),
        TRACED => {
            lua.load(TRACE).set_name("=trace").call::<()>((seen, chunk_name.as_str())).unwrap();
            lua.load(&text).set_name(&chunk_name).exec()
        }
        _ => watched(&lua, &how, &name, &text, seen),
    };
    if let Err(error) = &outcome {
        eprintln!("{error}");
    }
    // What the script has written is in a buffer of the C library still.
    std::process::exit(i32::from(outcome.is_err()));
}

fn watched(lua: &Lua, how: &str, name: &str, text: &str, seen: String) -> mlua::Result<()> {
    let host = Host::builder("alone").start(Listen::ANY_PORT).unwrap();
    let context = LuaContext::attach(&host, lua, "main").unwrap();
    let script = context.load(name, text).unwrap();
    let (ready, begin) = mpsc::channel();
    let watching = thread::spawn({
        let (host, how, name, lines) = (host.clone(), how.to_owned(), name.to_owned(), text.lines().count());
        move || {
            let client = Client::attached(&host);
            drop(host);
            watch(client, &how, &name, lines, &seen, &ready);
        }
    });
    // Who asks for a variable before the script runs is answered by a host that waits.
    while begin.try_recv().is_err() {
        host.poll();
        thread::sleep(std::time::Duration::from_millis(1));
    }
    if how == "left" {
        while host.is_attached() {
            thread::yield_now();
        }
    }
    let outcome = script.call::<()>(());
    // What was told is read to its end.
    drop((script, context, host));
    watching.join().unwrap();
    outcome
}

/// Watches a script, and notes what is told of it.
fn watch(mut client: Client, how: &str, name: &str, lines: usize, seen: &str, ready: &mpsc::Sender<()>) {
    let mut seen = fs::File::create(seen).unwrap();
    let source = json!({"path": name});
    let places = client.ok("breakpointLocations", json!({"source": source, "line": 1, "endLine": lines}));
    let places: Vec<i64> =
        places["breakpoints"].as_array().unwrap().iter().map(|place| place["line"].as_i64().unwrap()).collect();
    let on_each = |what: Json| {
        let one = |line: &i64| {
            let mut breakpoint = json!({"line": line});
            breakpoint.as_object_mut().unwrap().extend(what.as_object().unwrap().clone());
            breakpoint
        };
        json!({"source": source, "breakpoints": places.iter().map(one).collect::<Vec<_>>()})
    };
    match how {
        "never" => client.ok("setBreakpoints", on_each(json!({"condition": "1 == 2"}))),
        "locals" => client.ok("setBreakpoints", on_each(json!({"condition": "x == 'never' or i == 0.5 or how == 7"}))),
        "messages" => {
            for place in &places {
                writeln!(seen, "may {place}").unwrap();
            }
            client.ok("setBreakpoints", on_each(json!({"logMessage": "ran {1 + 1}"})))
        }
        "errors" => client.ok("setExceptionBreakpoints", json!({"filters": ["error.every"]})),
        "changes" => {
            let info = client.ok("dataBreakpointInfo", json!({"name": "watched"}));
            client.ok("setDataBreakpoints", json!({"breakpoints": [{"dataId": info["dataId"], "accessType": "write"}]}))
        }
        "into" | "over" => client
            .ok("setBreakpoints", json!({"source": source, "breakpoints": [{"line": places[0], "hitCondition": "1"}]})),
        _ => Json::Null,
    };
    client.ok("configurationDone", json!({}));
    if how == "left" {
        client.ok("setBreakpoints", on_each(json!({})));
        client.ok("disconnect", json!({}));
    }
    ready.send(()).unwrap();
    if how == "left" {
        return;
    }
    let go = match how {
        "into" => "stepIn",
        "over" => "next",
        _ => "continue",
    };
    loop {
        let (event, body) = client.first_of(&["stopped", "output", "terminated"]);
        if event == "terminated" {
            return;
        }
        if event == "output" {
            if body["output"].as_str().is_some_and(|text| text.starts_with("ran 2")) {
                writeln!(seen, "{}", body["line"]).unwrap();
            }
            continue;
        }
        let frame = client.ok("stackTrace", json!({"threadId": 1, "levels": 1}))["stackFrames"][0].clone();
        if frame["source"]["name"] == name {
            let returned = body["returned"].as_array().map(|values| {
                let shown = |value: &Json| match value.as_str().unwrap() {
                    text if text.starts_with('"') && text.len() > 52 => "long".to_owned(),
                    text if text.starts_with('"') || ["nil", "true", "false"].contains(&text) => text.to_owned(),
                    text if text.parse::<f64>().is_ok() => text.to_owned(),
                    _ => "other".to_owned(),
                };
                format!(" after {}", values.iter().map(shown).collect::<Vec<_>>().join(", "))
            });
            writeln!(seen, "{}{}", frame["line"], returned.unwrap_or_default()).unwrap();
        }
        client.go_on(go);
    }
}

/// What stands behind a line on which a statement of several lines begins: it is told of once, where the engine's own hook comes back
/// to it. And behind one that runs where nobody is to see it: in a hook of the script.
const UNLIKE: &str = "--{";

/// Whether what messages have told of is each line that can tell, as often and in the order that it ran.
fn check_messages(seen: &[String], traced: &[String], script: &str) -> Result<(), String> {
    let unlike = |line: &str| {
        let number: usize = line.parse().unwrap_or(0);
        script.lines().nth(number - 1).is_some_and(|text| text.ends_with(UNLIKE))
    };
    let may = seen.iter().filter_map(|line| line.strip_prefix("may "));
    let may: BTreeSet<&str> = may.filter(|line| !unlike(line)).collect();
    let told: Vec<&str> = seen.iter().map(String::as_str).filter(|line| may.contains(line)).collect();
    let ran = traced.iter().map(|line| line.split(' ').next().unwrap_or_default());
    let ran: Vec<&str> = ran.filter(|line| may.contains(line)).collect();
    same(&told, &ran)
}

/// Whether steps have come to what ran, from the first stop on, with what was returned.
fn check_steps(seen: &[String], traced: &[String]) -> Result<(), String> {
    let first = seen.first().ok_or("there was no stop")?;
    let from = traced.iter().position(|line| line == first).ok_or_else(|| format!("{first} never ran"))?;
    let (told, ran): (Vec<&str>, Vec<&str>) =
        (seen.iter().map(String::as_str).collect(), traced[from..].iter().map(String::as_str).collect());
    same(&told, &ran)
}

fn same(told: &[&str], ran: &[&str]) -> Result<(), String> {
    let differs = (0..told.len().max(ran.len())).find(|at| told.get(*at) != ran.get(*at));
    differs.map_or(Ok(()), |at| {
        let around = |all: &[&str]| all[at.saturating_sub(5).min(all.len())..(at + 3).min(all.len())].join(" | ");
        Err(format!("at {at} of {}: told {}; ran {}", ran.len(), around(told), around(ran)))
    })
}

#[track_caller]
fn check(script: &Path) {
    let name = script.file_name().unwrap().to_string_lossy();
    let (alone, nothing) = run(script, ALONE);
    assert!(nothing.is_empty() && !alone.written.is_empty(), "{alone:?}");
    // A hundred thousand calls inside each other take too long to look at one by one.
    let is_deep = name == "overflow.lua";
    let traced = if is_deep { Vec::new() } else { run(script, TRACED).1 };
    assert!(is_deep || traced.len() > 4, "{name}: {traced:?}");
    for how in WATCHED.into_iter().filter(|how| !is_deep || !["locals", "messages", "into", "over"].contains(how)) {
        let (watched, seen) = run(script, how);
        assert_eq!(watched, alone, "{name}, {how}");
        let told = match how {
            _ if name == "exits.lua" => Ok(()),
            "messages" => check_messages(&seen, &traced, &fs::read_to_string(script).unwrap()),
            "into" => check_steps(&seen, &traced),
            _ => Ok(()),
        };
        assert_eq!(told, Ok(()), "{name}, {how}");
    }
}

macro_rules! unnoticed {
    ($($script:ident)+) => {$(
        #[test]
        fn $script() {
            let file = concat!(stringify!($script), ".lua");
            check(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/session/corpus").join(file));
        }
    )+

    #[test]
    fn every_script_of_the_corpus_is_run() {
        let named = [$(concat!(stringify!($script), ".lua")),+];
        let there: Vec<_> = corpus().iter().map(|file| file.file_name().unwrap().to_str().unwrap().to_owned()).collect();
        assert_eq!(there, named);
    }};
}

unnoticed!(busy constructs coroutines errors exits introspection library loading objects overflow uncaught);

#[test]
fn what_is_wrong_is_found() {
    if is_refused_before("5.4", NOT_TOLD_TO_SCRIPTS) {
        return;
    }
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/session/corpus/busy.lua");
    let (_, traced) = run(&script, TRACED);
    let (_, stepped) = run(&script, "into");
    assert_eq!(check_steps(&stepped, &traced), Ok(()));
    let returned = stepped.iter().position(|line| line.contains(" after ")).expect("something was returned");
    let lines: Vec<String> = stepped.iter().map(|line| line.split(' ').next().unwrap_or_default().to_owned()).collect();
    let messages: Vec<String> = lines.iter().map(|line| format!("may {line}")).chain(lines.clone()).collect();
    let ran = &traced[traced.iter().position(|line| *line == stepped[0]).unwrap()..];
    assert_eq!(check_messages(&messages, ran, ""), Ok(()));
    for at in [returned, stepped.len() / 2, stepped.len() - 1] {
        let (mut lost, mut twice, mut other, mut unsaid) =
            (stepped.clone(), stepped.clone(), stepped.clone(), messages.clone());
        lost.remove(at);
        twice.insert(at, stepped[at].clone());
        other[at] = format!("{} after 999", lines[at]);
        unsaid.remove(lines.len() + at);
        assert!(check_steps(&lost, &traced).is_err() && check_steps(&twice, &traced).is_err());
        assert!(check_steps(&other, &traced).is_err() && check_messages(&unsaid, ran, "").is_err());
    }
}
