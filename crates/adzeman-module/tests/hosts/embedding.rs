//! A program in C that embeds the Lua of the system ([`host.c`](host.c)).

use std::path::PathBuf;
use std::process::Command;
use std::sync::Mutex;

use crate::user::{Program, User, each_version, folder, has, leave_out, text};

/// The program for a version, built once; nothing where it cannot be.
fn program(version: &str) -> Option<PathBuf> {
    static BUILDING: Mutex<()> = Mutex::new(());
    let _building = BUILDING.lock();
    let package = format!("lua{version}");
    let found = Command::new("pkg-config").args(["--cflags", "--libs", &package]).output();
    let Some(flags) = found.ok().filter(|found| found.status.success()) else {
        leave_out(&format!("there is no library of Lua {version} to embed (liblua{version}-dev)"));
        return None;
    };
    let root = PathBuf::from(env!("CARGO_MANIFEST_DIR"));
    let path = root.join("target").join(format!("host{version}"));
    let flags = text(&flags.stdout);
    let mut cc = Command::new("cc");
    cc.arg("-O1").arg("-rdynamic").arg("-o").arg(&path).arg(root.join("tests/hosts/host.c"));
    let status = cc.args(flags.split_whitespace()).arg("-lpthread").status().unwrap();
    assert!(status.success(), "the program could not be built");
    Some(path)
}

/// Ends when the test has written that it is over.
const SCRIPT: &str = r#"local adzeman = require "adzeman"
local level, rounds = 2, 0
local function rise(by)
  level = level + by
  rounds = rounds + 1
  return level
end
local function is_over()
  local file = io.open("over")
  if file then file:close() end
  return file ~= nil
end
"#;

struct Embedded {
    user: User,
    version: String,
}

impl Embedded {
    fn each(script: &str, test: impl Fn(&Embedded, PathBuf)) {
        each_version(|version| {
            if let Some(program) = program(version) {
                let user = User::new(&format!("{SCRIPT}{script}"));
                test(&Embedded { user, version: version.to_owned() }, program);
            }
        });
    }

    fn start(&self, program: PathBuf, how: &str) -> Program {
        let mut host = self.user.prepared(program);
        host.env("LUA_PATH", format!("{}/?.lua;;", folder().display())).env("ADZEMAN", "dormant");
        let program = Program(Some(host.args([how, "canal.lua"]).spawn().unwrap()));
        self.user.await_host(&self.version);
        program
    }

    /// Tells the script to end; what it has printed.
    fn end(&self, program: Program) -> String {
        std::fs::write(self.user.0.path().join("over"), "").unwrap();
        let ended = program.ended();
        assert!(ended.status.success(), "{}: {}{}", self.version, ended.status, text(&ended.stderr));
        assert!(self.user.hosts().is_empty());
        text(&ended.stdout)
    }
}

/// A breakpoint that is hit, what is there, and on.
const STOP: &str = "break at canal.lua:5\ngo\nlook rounds\nlook stack\nremove all\n";

#[test]
fn states_of_several_threads_are_contexts_of_one_host() {
    Embedded::each("repeat rise(0) until is_over()\n", |host, program| {
        let program = host.start(program, "threads");
        while host.user.hosts()[0]["contexts"].as_array().unwrap().len() < 4 {
            assert!(!host.user.hosts().is_empty());
        }
        for _ in 0..5 {
            has(&host.user.attached(STOP), &["stopped by breakpoint 1, in rise"]);
        }
        host.end(program);
    });
}

#[test]
fn states_that_come_and_go_are_attached_to_while_they_are_there() {
    Embedded::each("for i = 1, 30000 do rise(0) end return not is_over()\n", |host, program| {
        let program = host.start(program, "states");
        // One is armed whenever it is opened.
        let shown =
            host.user.attached("break at canal.lua:5 when rounds == 1\ngo\nlook rounds\ngo\nlook rounds\nremove all\n");
        assert_eq!(shown.matches("stopped by breakpoint 1, in rise").count(), 2, "{shown}");
        host.end(program);
    });
}

#[test]
fn a_process_that_forks_stays_the_host_and_its_copies_go_on_whatever_was_armed() {
    let script = "adzeman.wait(60)\nreturn function()\n  for i = 1, 300000 do rise(0) end\n  \
                  print(pcall(adzeman.open, {listen = 'dormant', name = 'copy'}))\n  io.stdout:flush()\nend\n";
    Embedded::each(script, |host, program| {
        let program = host.start(program, "forks");
        // Armed in all three, and met in the one that was attached to.
        let shown = host.user.attached("break at canal.lua:5 when rounds == 1000\ngo\nlook rounds\nremove all\n");
        has(&shown, &["stopped by breakpoint 1, in rise"]);
        let printed = host.end(program);
        let copies = printed.matches("true\tcopy\n").count();
        assert_eq!(copies, 2, "{}: {printed}", host.version);
        has(&printed, &["children done\n", "open already"]);
    });
}

#[test]
fn a_hook_of_the_host_goes_on_counting() {
    let script = "return function()\n  for i = 1, 10000 do rise(0) end\n  return not is_over()\nend\n";
    Embedded::each(script, |host, program| {
        let program = host.start(program, "hooks");
        for _ in 0..5 {
            has(&host.user.attached(STOP), &["stopped by breakpoint 1, in rise"]);
        }
        has(&host.end(program), &["hook is the host's\n", "counted on\n"]);
    });
}

#[test]
fn what_is_taken_from_an_allocator_of_the_host_is_given_back() {
    Embedded::each("repeat rise(0) until is_over()\n", |host, program| {
        let program = host.start(program, "allocator");
        for _ in 0..5 {
            has(&host.user.attached(STOP), &["stopped by breakpoint 1, in rise"]);
        }
        has(&host.end(program), &["left 0 bytes\n"]);
    });
}

#[test]
fn a_host_that_takes_its_libraries_away_afterwards_is_stopped_and_looked_at() {
    let script =
        "debug, package, require, load, pcall = nil\ncoroutine.wrap(function() repeat rise(0) until is_over() end)()\n";
    Embedded::each(script, |host, program| {
        let program = host.start(program, "allocator");
        has(&host.user.attached(STOP), &["stopped by breakpoint 1, in rise"]);
        has(&host.end(program), &["left 0 bytes\n"]);
    });
}

/// Handles a request, in two bits.
const REQUEST: &str = "return function()
  local by = 0
  rise(by)
  coroutine.yield()
  local log = {by}
  rise(by)
  for i = 1, 2000 do by = by + 0 end
  return not is_over()
end
";

/// Attaches to requests, in ways that need the hook and in ways that do not.
fn requests_are_stopped_in(host: &Embedded, program: PathBuf, how: &str) {
    let program = host.start(program, how);
    for round in 0..4 {
        has(&host.user.attached(STOP), &["stopped by breakpoint 1, in rise"]);
        // From the first bit into the second, whichever thread runs that. The host puts its own hook in the place of ours in between,
        // which is found out where memory is taken: the line that does so is passed, and that is said.
        let shown = host.user.attached(
            "break at canal.lua:15 when by == 0\ngo\nremove all\ngo over\ngo over\nlook by\n\
             break at canal.lua:18 when log and log[1] == 0\ngo\nremove all\nlook log\ngo out\n",
        );
        let expected = ["15 ┃   rise(by)", "16 ┃   coroutine.yield()", "18 ┃   rise(by)", "has set a hook of its own"];
        assert!(expected.iter().all(|part| shown.contains(part)), "round {round} of {}: {shown}", host.version);
    }
    // Nobody leaves anything behind; the signal that the host has come to use is its own.
    let printed = host.end(program);
    has(&printed, &["0 signals\n", "allocator is the host's\n", "counted on\n", "left 0 bytes\n"]);
}

#[test]
fn requests_in_coroutines_that_the_host_makes_and_hooks_itself_are_stopped_in() {
    Embedded::each(REQUEST, |host, program| requests_are_stopped_in(host, program, "requests"));
}

#[test]
fn requests_that_several_threads_serve_by_turns_are_stopped_in() {
    Embedded::each(REQUEST, |host, program| requests_are_stopped_in(host, program, "turns"));
}
