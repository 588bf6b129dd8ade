//! Programs that know nothing of Adzeman: the plain interpreters of Lua, as the system has them, with a script that loads the module.
//!
//! They need the interpreters (`lua5.2`, `lua5.3`, `lua5.4`) and the command, which is built before (`cargo build -p adzeman-cli`), or is
//! the one of `ADZEMAN_COMMAND`. Interpreters that are not there are left out, by name; none may be with `ADZEMAN_ALL_HOSTS=1`.

use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::{Duration, Instant};

use serde_json::Value as Json;
use tempfile::TempDir;

const VERSIONS: [&str; 3] = ["5.2", "5.3", "5.4"];

/// A loop that a person ends.
const SCRIPT: &str = r#"local adzeman = require "adzeman"
local level = 2
is_open = true

local function rise(by)
  level = level + by
  return level
end

local until_then = os.time() + 300
while is_open and os.time() < until_then do
  rise(0)
end
print("level " .. level)
"#;

/// The folder that the module is put together in, once.
fn folder() -> &'static Path {
    static FOLDER: OnceLock<PathBuf> = OnceLock::new();
    FOLDER.get_or_init(|| {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("target/module");
        let mut assemble = Command::new(Path::new(env!("CARGO_MANIFEST_DIR")).join("assemble"));
        // The features of this test are none of theirs.
        let status = assemble.arg(&folder).env_remove("CARGO_ENCODED_RUSTFLAGS").status().unwrap();
        assert!(status.success(), "the module could not be put together");
        folder
    })
}

fn command() -> PathBuf {
    let built = || Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/debug/adzeman");
    let path = std::env::var_os("ADZEMAN_COMMAND").map_or_else(built, PathBuf::from);
    assert!(path.exists(), "{} is not there: 'cargo build -p adzeman-cli' builds it", path.display());
    path
}

/// The versions whose interpreters are there.
fn each_version(test: impl Fn(&str)) {
    for version in VERSIONS {
        let is_there = Command::new(format!("lua{version}")).arg("-v").output().is_ok();
        if is_there {
            test(version);
        } else {
            eprintln!("left out: there is no lua{version}");
            assert!(std::env::var_os("ADZEMAN_ALL_HOSTS").is_none(), "there is no lua{version}");
        }
    }
}

/// A folder of a script's, with hosts that are announced to its user only.
struct User(TempDir);

impl User {
    fn new(script: &str) -> Self {
        let work = tempfile::tempdir().unwrap();
        std::fs::create_dir(work.path().join("run")).unwrap();
        std::fs::write(work.path().join("canal.lua"), script).unwrap();
        Self(work)
    }

    fn prepared(&self, program: impl AsRef<std::ffi::OsStr>) -> Command {
        let mut command = Command::new(program);
        command.current_dir(self.0.path()).env("XDG_RUNTIME_DIR", self.0.path().join("run"));
        command.env_remove("ADZEMAN").env_remove("ADZEMAN_TOKEN").stdin(Stdio::null());
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        command
    }

    fn interpreter(&self, version: &str) -> Command {
        let mut command = self.prepared(format!("lua{version}"));
        command.env("LUA_PATH", format!("{}/?.lua;;", folder().display())).arg("canal.lua");
        command
    }

    /// Starts the script, open as `choice` says, and waits until it is announced.
    fn start(&self, version: &str, choice: &str) -> Program {
        let program = Program(Some(self.interpreter(version).env("ADZEMAN", choice).spawn().unwrap()));
        self.await_host(version);
        program
    }

    fn await_host(&self, version: &str) {
        let until = Instant::now() + Duration::from_secs(120);
        while self.hosts().is_empty() {
            assert!(Instant::now() < until, "lua{version} does not announce itself");
        }
    }

    fn hosts(&self) -> Vec<Json> {
        let output = self.prepared(command()).args(["--json", "hosts"]).output().unwrap();
        let line: Json = serde_json::from_slice(&output.stdout).unwrap();
        line["report"]["hosts"].as_array().unwrap().clone()
    }

    /// Has the script end once nobody is attached.
    fn close(&self) {
        self.ended("break at canal.lua:6\ngo\nremove all\nlet is_open = false\n");
    }

    /// The same after some commands. The script may have ended before it has answered that the client leaves.
    fn ended(&self, commands: &str) -> String {
        let shown = text(&self.session(commands).stdout);
        has(&shown, &["is_open is now false"]);
        shown
    }

    /// Attaches, does this, and leaves.
    fn attached(&self, commands: &str) -> String {
        let output = self.session(commands);
        assert!(output.status.success(), "{}{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    }

    fn session(&self, commands: &str) -> Output {
        let mut attach = self.prepared(command());
        let mut child = attach.args(["attach", "--batch", "-"]).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(commands.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }
}

/// How a whole number is shown.
fn whole(number: &str, version: &str) -> String {
    format!("{number}  {}", if version == "5.2" { "number" } else { "integer" })
}

struct Program(Option<Child>);

impl Program {
    fn ended(mut self) -> Output {
        self.0.take().unwrap().wait_with_output().unwrap()
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        if let Some(child) = &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

#[track_caller]
fn has(text: &str, parts: &[&str]) {
    parts.iter().for_each(|part| assert!(text.contains(part), "'{part}' is not in:\n{text}"));
}

#[test]
fn a_plain_interpreter_is_attached_to_stopped_looked_at_and_changed() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "dormant");
        let shown = user.ended(
            "break at canal.lua:6\ngo\nlook level\nlook stack\ngo over\nlet level = 7\nremove all\nlet is_open = false\n",
        );
        has(
            &shown,
            &[
                "canal stopped by breakpoint 1, in rise",
                &whole("2", version),
                "whole script canal.lua",
                "canal:7",
                "level is now 7",
            ],
        );
        let ended = program.ended();
        assert!(ended.status.success(), "{}", text(&ended.stderr));
        assert_eq!(text(&ended.stdout), "level 7\n");
        assert!(user.hosts().is_empty());
    });
}

#[test]
fn a_script_that_says_nothing_of_it_is_attached_to_by_what_the_interpreter_is_told() {
    each_version(|version| {
        let user = User::new(&SCRIPT.replace("local adzeman = require \"adzeman\"", "-- A script like any other."));
        let mut interpreter = user.interpreter(version);
        interpreter.env("LUA_INIT", "require 'adzeman'").env("ADZEMAN", "dormant");
        let program = Program(Some(interpreter.spawn().unwrap()));
        user.await_host(version);
        has(
            &user.ended("break in rise\ngo\nlook by\nremove all\nlet is_open = false\n"),
            &["in rise", &whole("0", version)],
        );
        assert_eq!(text(&program.ended().stdout), "level 2\n");
    });
}

#[test]
fn a_condition_is_decided_in_a_plain_interpreter() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "listen");
        let shown = user.attached("break at canal.lua:6 when by == 0 and level < 3\ngo\nlet level = 3\nlook level\n");
        has(&shown, &[&whole("3", version)]);
        // It is false from now on.
        user.attached("break at canal.lua:6 when by == 0 and level < 3\n");
        user.close();
        assert_eq!(text(&program.ended().stdout), "level 3\n");
    });
}

#[test]
fn without_a_word_nothing_is_opened_and_a_script_may_open_and_close_itself() {
    each_version(|version| {
        let user =
            User::new("local adzeman = require 'adzeman' adzeman.stop() adzeman.say('x') print(adzeman.wait(0))");
        let output = user.interpreter(version).output().unwrap();
        assert_eq!((text(&output.stdout), text(&output.stderr)), ("\n".to_owned(), String::new()));
        assert_eq!(std::fs::read_dir(user.0.path().join("run")).unwrap().count(), 0, "no socket, no file");

        let user = User::new(
            "local adzeman = require 'adzeman'
            print(pcall(adzeman.open))
            print(pcall(adzeman.open, {nmae = 'x'}))
            print(pcall(adzeman.open, {listen = 'yes'}))
            print(adzeman.open {name = 'mygame', listen = 'dormant'})
            print(pcall(adzeman.open, {listen = 'dormant'}))
            for turn = 1, 3 do print(adzeman.close(), adzeman.open {listen = 'dormant'}) end
            print(adzeman.close(), adzeman.close())",
        );
        let output = user.interpreter(version).output().unwrap();
        let shown = text(&output.stdout);
        assert!(output.status.success(), "{}", text(&output.stderr));
        let expected = [
            "ADZEMAN is not set",
            "there is no option 'nmae'",
            "ADZEMAN is 'yes', which means nothing",
            "\nmygame\n",
            "open already, as 'mygame'",
            "true\tcanal\ntrue\tcanal\ntrue\tcanal\n",
            "true\tfalse",
        ];
        has(&shown, &expected);
    });
}

#[test]
fn a_library_of_another_lua_and_a_bad_choice_are_refused_and_the_script_goes_on() {
    each_version(|version| {
        let user = User::new("print(pcall(require, 'adzeman')) print(1 + 1)");
        let elsewhere = user.0.path().join("elsewhere");
        std::fs::create_dir(&elsewhere).unwrap();
        let run = |choice: &str| {
            let path = format!("{}/?.lua;;", elsewhere.display());
            let output = user.interpreter(version).env("LUA_PATH", path).env("ADZEMAN", choice).output().unwrap();
            assert!(output.status.success());
            text(&output.stdout)
        };
        let copy = |from: &str, to: &str| std::fs::copy(folder().join(from), elsewhere.join(to)).unwrap();
        copy("adzeman.lua", "adzeman.lua");
        has(&run(""), &[&format!("this is Lua {version}; there is no library beside"), "\n2\n"]);
        let (own, other) = (version.replace('.', ""), if version == "5.4" { "53" } else { "54" });
        copy(&format!("adzeman_lua{other}.so"), &format!("adzeman_lua{own}.so"));
        has(&run(""), &["undefined symbol", "\n2\n"]);
        copy(&format!("adzeman_lua{own}.so"), &format!("adzeman_lua{own}.so"));
        has(&run("yes"), &["ADZEMAN is 'yes', which means nothing", "\n2\n"]);
        has(&run("dormant"), &["true\ttable: ", "\n2\n"]);
    });
}

#[test]
fn a_client_that_is_killed_at_a_stop_and_many_that_come_and_go_leave_the_script_running() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "dormant");
        let mut attach = user.prepared(command());
        let mut child = attach.args(["attach", "--batch", "-"]).stdin(Stdio::piped()).spawn().unwrap();
        child.stdin.as_ref().unwrap().write_all(b"break at canal.lua:6\ngo\n").unwrap();
        let until = Instant::now() + Duration::from_secs(120);
        while !user.hosts().iter().any(|host| host.to_string().contains("stopped")) {
            assert!(Instant::now() < until, "it does not stop");
        }
        child.kill().unwrap();
        child.wait().unwrap();
        // The host has to find out.
        while user.hosts().iter().any(|host| host.to_string().contains("control")) {
            assert!(Instant::now() < until, "it is held by one that is gone");
        }
        for turn in 0..20 {
            let armed = ["break at canal.lua:6\ngo\n", "break at canal.lua:7 when level < 0\n", "look threads\n", ""];
            user.attached(armed[turn % 4]);
        }
        user.close();
        assert_eq!(text(&program.ended().stdout), "level 2\n");
    });
}

#[test]
fn a_function_that_always_runs_is_corrected_and_stopped_in_by_whoever_comes_next() {
    each_version(|version| {
        let user = User::new(SCRIPT);
        let program = user.start(version, "dormant");
        // The first thing that is asked of a host that never rests; from then on the text that it runs is known.
        has(&user.attached("reload canal.lua\n"), &["1 unchanged"]);
        let changed = SCRIPT.replace("level = level + by", "-- Höher als zuvor: 水位\n  level = level + by + 1");
        std::fs::write(user.0.path().join("canal.lua"), changed).unwrap();
        // Who did that leaves at once.
        has(&user.attached("reload canal.lua\n"), &["rise", "changed"]);
        let shown = user.ended(
            "break at canal.lua:7 when level > 100\ngo\nlook line\nlook level\nlet level = 1000\nremove all\nlet is_open = false\n",
        );
        has(&shown, &["breakpoint 1, in rise", "level is now 1000"]);
        assert!(text(&program.ended().stdout).starts_with("level 100"));
    });
}

#[test]
fn coroutines_and_texts_of_other_scripts_are_stopped_in_and_looked_at() {
    let script = r#"local adzeman = require "adzeman"
is_open, boats = true, 0
local gate = coroutine.wrap(function(name)
  while true do
    local said = "Grüß Gott, " .. name
    boats = boats + #said
    name = coroutine.yield(said)
  end
end)
local until_then = os.time() + 300
while is_open and os.time() < until_then do
  gate("Ægir 水")
end
print(gate("Ægir"))
"#;
    each_version(|version| {
        let user = User::new(script);
        let program = user.start(version, "dormant");
        let shown = user.ended("break at canal.lua:6\ngo\nlook said\nlook stack\nremove all\nlet is_open = false\n");
        has(&shown, &["Grüß Gott, Ægir 水", "canal.lua:6"]);
        assert_eq!(text(&program.ended().stdout), "Grüß Gott, Ægir\n");
    });
}
