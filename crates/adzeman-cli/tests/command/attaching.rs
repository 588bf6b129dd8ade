//! Every way in: by name, process or address, alone, after a restart, as an observer, started under control, as an adapter.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::TcpListener;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread;
use std::time::{Duration, Instant};

use serde_json::{Value as Json, json};
use tempfile::TempDir;

use crate::{adzeman, answered, has, text};

/// A user of their own: the hosts that are announced to them, and a folder to work in.
pub(crate) struct User {
    pub(crate) runtime: TempDir,
    pub(crate) work: TempDir,
}

impl User {
    pub(crate) fn new() -> Self {
        Self { runtime: tempfile::tempdir().unwrap(), work: tempfile::tempdir().unwrap() }
    }

    pub(crate) fn command(&self) -> Command {
        let mut command = adzeman();
        command.env("XDG_RUNTIME_DIR", self.runtime.path()).env_remove("ADZEMAN_TOKEN").current_dir(self.work.path());
        command
    }

    /// The demo host, opened as `choice` says; it is announced when this returns.
    pub(crate) fn host(&self, choice: &str, options: &[&str]) -> Host {
        let child = self
            .command()
            .env("ADZEMAN", choice)
            .arg("lockside")
            .args(options)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let host = Host(child);
        let until = Instant::now() + Duration::from_secs(300);
        while !self.hosts().iter().any(|held| held["process_id"] == host.0.id()) {
            assert!(Instant::now() < until, "the host does not announce itself");
        }
        host
    }

    pub(crate) fn hosts(&self) -> Vec<Json> {
        let output = self.command().args(["--json", "hosts"]).output().unwrap();
        let line: Json = serde_json::from_str(text(&output.stdout).trim()).unwrap();
        line["report"]["hosts"].as_array().unwrap().clone()
    }

    pub(crate) fn session(&self, arguments: &[&str], commands: &str) -> Output {
        answered(self.command().args(arguments), commands)
    }

    #[track_caller]
    pub(crate) fn attached(&self, arguments: &[&str], commands: &str) -> String {
        let output = self.session(&[&["attach", "--batch", "-"], arguments].concat(), commands);
        assert!(output.status.success(), "{}\n{}", text(&output.stdout), text(&output.stderr));
        text(&output.stdout)
    }

    #[track_caller]
    pub(crate) fn refused(&self, arguments: &[&str], code: i32, parts: &[&str]) {
        let output = self.session(&[&["attach", "--batch", "-"], arguments].concat(), "");
        assert_eq!(output.status.code(), Some(code), "{}", text(&output.stderr));
        has(&text(&output.stderr), parts);
    }
}

pub(crate) struct Host(pub(crate) Child);

impl Host {
    pub(crate) fn id(&self) -> String {
        self.0.id().to_string()
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn hosts_are_found_alone_by_name_by_process_and_by_address() {
    let user = User::new();
    user.refused(&[], 3, &["no host can be attached to; start one with ADZEMAN=listen"]);
    let quiet = user.host("dormant", &[]);
    has(&user.attached(&[], "look host.weather\n"), &["lockside (process", "mm/h"]);
    let open = user.host("listen", &[]);
    let rows = user.hosts();
    assert_eq!(rows.len(), 2);
    let row = |host: &Host| rows.iter().find(|row| row["process_id"] == host.0.id()).unwrap();
    assert_eq!(row(&quiet)["address"], "local socket", "nothing else is open");
    let address = row(&open)["address"].as_str().unwrap().to_owned();
    assert_eq!(row(&open)["contexts"][2], json!(["lock.upper", "running"]));
    assert!(row(&open)["up_seconds"].as_f64().unwrap() >= 0.0);
    user.refused(&[], 2, &["more than one host is meant: lockside (process", "give the process id"]);
    user.refused(&["lockside"], 2, &["more than one host is meant"]);
    user.refused(&["weir"], 3, &["no host is called 'weir'", "there is lockside"]);
    has(&user.attached(&[&quiet.id()], ""), &[&format!("lockside (process {})", quiet.id())]);
    let port = address.rsplit(':').next().unwrap();
    for by in [address.as_str(), port] {
        has(&user.attached(&[by], ""), &[&format!("lockside (process {})", open.id())]);
    }
    let shown = text(&user.command().arg("hosts").output().unwrap().stdout);
    has(&shown, &["host", "process", "4 running", "local socket", &address]);
    // Another user finds nothing, and has no token.
    let other = User::new();
    assert_eq!(other.hosts(), Vec::<Json>::new());
    other.refused(&[&address], 1, &["this host asks for its token"]);
    // One that is killed leaves a note, which the next look takes away.
    drop(quiet);
    assert_eq!(user.hosts().len(), 1);
    let notes = std::fs::read_dir(user.runtime.path().join("adzeman")).unwrap().count();
    assert_eq!(notes, 2, "the note and the socket of the one that is left");
}

/// What killed hosts left hides nobody.
#[cfg(unix)]
#[test]
fn a_folder_full_of_what_dead_hosts_left_is_cleaned() {
    let user = User::new();
    let host = user.host("listen", &[]);
    let folder = user.runtime.path().join("adzeman");
    for number in 0..1_200 {
        let socket = folder.join(format!("weir.{number}.sock"));
        let note = json!({"name": "weir", "processId": number, "started": 0, "socket": socket, "token": "0"});
        std::fs::write(folder.join(format!("weir.{number}.json")), note.to_string()).unwrap();
    }
    has(&user.attached(&["lockside"], ""), &[&format!("lockside (process {})", host.id())]);
    assert_eq!(std::fs::read_dir(&folder).unwrap().count(), 2, "the note and the socket of the live one");
}

#[cfg(unix)]
#[test]
fn what_is_written_is_for_the_owner_only() {
    use std::os::unix::fs::PermissionsExt as _;
    let user = User::new();
    let _host = user.host("listen", &[]);
    let folder = user.runtime.path().join("adzeman");
    let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!(mode(&folder), 0o700);
    for entry in std::fs::read_dir(&folder).unwrap() {
        assert_eq!(mode(&entry.unwrap().path()), 0o600);
    }
}

#[test]
fn one_controls_another_looks_and_may_take_over() {
    let user = User::new();
    let _host = user.host("dormant", &[]);
    let mut first = user
        .command()
        .args(["attach", "--batch", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = first.stdin.take().unwrap();
    let mut output = BufReader::new(first.stdout.take().unwrap()).lines();
    input.write_all(b"break on frame.update for lock.upper\ngo\n").unwrap();
    assert!(output.any(|line| line.unwrap().contains("stopped by breakpoint 1")));
    let clients = user.hosts()[0]["clients"].clone();
    assert_eq!(clients[0][1], "control");
    let shown = user.attached(&["--observe"], "look locals\nlook host.weather\nlook stack\n");
    has(
        &shown,
        &["controls; this client looks, and nothing else", "lock  {above", "mm/h", "frame.update of lock.upper"],
    );
    let output_of =
        |arguments: &[&str], commands: &str| user.session(&[&["attach", "--batch", "-"], arguments].concat(), commands);
    let refused = output_of(&["--observe"], "let host.weather.rain = 3\n");
    has(&text(&refused.stderr), &["this client observes, and adzeman", "'take over' takes control"]);
    let taken = output_of(&[], "take over\nlet host.weather.rain = 3\n");
    assert!(taken.status.success(), "{}", text(&taken.stderr));
    has(&text(&taken.stdout), &["this client controls now", "host.weather.rain is now 3.0"]);
    drop(input);
    first.wait().unwrap();
}

#[test]
fn a_session_follows_its_host_through_a_restart() {
    let user = User::new();
    let mut session = user
        .command()
        .args(["attach", "lockside", "--follow", "--batch", "-", "--patience", "60"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = session.stdin.take().unwrap();
    let mut output = BufReader::new(session.stdout.take().unwrap()).lines();
    let mut read_to = |part: &str| {
        let mut seen = Vec::new();
        let found = output.any(|line| {
            seen.push(line.unwrap());
            seen.last().is_some_and(|line| line.contains(part))
        });
        assert!(found, "no '{part}' in {seen:#?}");
    };
    // It is waited for the first time too.
    let first = user.host("dormant", &[]);
    read_to("is open to you");
    input
        .write_all(b"break in choose when lock.name == 'upper'\nbreak on change host.office.passages off\ngo\n")
        .unwrap();
    read_to("lock.upper stopped by breakpoint 1, in choose");
    input.write_all(b"disable 1\ngo\n").unwrap();
    read_to("› go");
    drop(first);
    read_to("lockside is gone; waiting until it is there again");
    let second = user.host("dormant", &[]);
    read_to(&format!("attached again to lockside (process {}); set again: 2 breakpoints", second.id()));
    drop(second);
    read_to("lockside is gone; waiting until it is there again");
    session.kill().unwrap();
    session.wait().unwrap();
}

/// A host within this process, which handles events in a script until it is told to end.
struct Weir {
    host: adzeman::Host,
    ends: Arc<AtomicBool>,
    script: Option<thread::JoinHandle<()>>,
}

impl Weir {
    fn start(name: &str) -> Self {
        let host = adzeman::Host::builder(name).event(adzeman::EventKind::new("frame.update"));
        Self { host: host.start(adzeman::Listen::Dormant).unwrap(), ends: Arc::default(), script: None }
    }

    fn open_context(&mut self) {
        let (host, ends) = (self.host.clone(), self.ends.clone());
        self.script = Some(thread::spawn(move || {
            let lua = mlua::Lua::new();
            let context = adzeman::LuaContext::attach(&host, &lua, "weir").unwrap();
            context
                .load("weir.lua", "turns = 0\nfunction update() turns = turns + 1 end")
                .unwrap()
                .call::<()>(())
                .unwrap();
            let update: mlua::Function = lua.globals().get("update").unwrap();
            while !ends.load(SeqCst) {
                host.emit(adzeman::Event::of("frame.update"), || update.call::<()>(())).unwrap();
                thread::sleep(Duration::from_millis(1));
            }
        }));
    }

    fn end(self) {
        self.ends.store(true, SeqCst);
        self.host.close();
        self.script.into_iter().for_each(|script| script.join().unwrap());
    }
}

#[test]
fn a_change_is_waited_for_in_a_host_that_has_opened_no_script_yet() {
    let name = format!("weir-{}", std::process::id());
    let mut weir = Weir::start(&name);
    weir.open_context();
    // The host is announced where this process looks for hosts, and so is it to the command.
    let mut session = Command::new(assert_cmd::cargo::cargo_bin!("adzeman"))
        .env("NO_COLOR", "1")
        .args(["attach", &name, "--follow", "--batch", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut input = session.stdin.take().unwrap();
    let mut output = BufReader::new(session.stdout.take().unwrap()).lines().map(Result::unwrap);
    let mut read_to = |part: &str| assert!(output.any(|line| line.contains(part)), "no '{part}'");
    input.write_all(b"break on change turns say \"turn {turns}\"\ngo\n").unwrap();
    read_to("turn 3");
    weir.end();
    read_to("is gone; waiting");
    let mut weir = Weir::start(&name);
    read_to("set again: 0 breakpoints");
    read_to("breakpoint 1 is not bound any more: the host has opened no context yet");
    weir.open_context();
    read_to("breakpoint 1 is bound now");
    read_to("turn ");
    session.kill().unwrap();
    session.wait().unwrap();
    weir.end();
}

#[test]
fn a_host_that_dials_out_is_waited_for() {
    let user = User::new();
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    let mut session = user
        .command()
        .args(["attach", "--await", &free, "--batch", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    session.stdin.take().unwrap().write_all(b"break on frame.update\ngo\nlook host.weather\n").unwrap();
    let _host = user.host(&format!("dial:{free}"), &[]);
    let output = session.wait_with_output().unwrap();
    assert!(output.status.success());
    has(&text(&output.stdout), &["waiting for a host at", "is open to you", "mm/h"]);
}

#[test]
fn a_host_is_started_ended_and_started_again() {
    let user = User::new();
    let program = assert_cmd::cargo::cargo_bin!("adzeman").display().to_string();
    let start = ["start", "--batch", "-", "--", program.as_str(), "lockside", "--frames", "400", "--fps", "0"];
    let output = user.session(&start, "break on boat.arrived\ngo\nrestart\ngo\nremove all\ngo\n");
    let shown = text(&output.stdout);
    assert_eq!(output.status.code(), Some(0), "{shown}\n{}", text(&output.stderr));
    has(
        &shown,
        &[
            "ADZEMAN=wait ",
            "lockside --frames 400 --fps 0",
            "stopped by breakpoint 1, in boat_arrived",
            "| lockside closes after 400 frames",
            "the host has ended with exit code 0",
        ],
    );
    assert_eq!(shown.matches("started as process").count(), 2);
    assert_eq!(shown.matches("stopped by breakpoint 1, in boat_arrived").count(), 2, "set again after the restart");

    let output = user.session(&["start", "--batch", "-", "--", "no-such-program"], "");
    assert_eq!(output.status.code(), Some(3));
    has(&text(&output.stderr), &["'no-such-program' could not be started under control"]);
    let output = user.session(&["start", "--batch", "-", "--", "true"], "");
    has(&text(&output.stderr), &["it has ended already (exit status: 0), without opening itself to anyone"]);
}

pub(crate) const SCRIPT: &str =
    "local name = ...\nprint('hello ' .. name)\nlocal sum = 0\nfor i = 1, 3 do\n  sum = sum + i\nend\nos.exit(sum)\n";

#[test]
fn a_plain_script_runs_in_a_host_of_its_own() {
    let user = User::new();
    std::fs::write(user.work.path().join("hello.lua"), SCRIPT).unwrap();
    let output = user.session(
        &["run", "--batch", "-", "hello.lua", "Heron"],
        "look name\nbreak at hello.lua:7\ngo\nlet sum = sum + 1\nremove all\ngo\n",
    );
    let shown = text(&output.stdout);
    assert_eq!(output.status.code(), Some(7), "{shown}\n{}", text(&output.stderr));
    has(
        &shown,
        &[
            "hello stopped as asked, in whole script hello.lua",
            "┆ hello Heron (hello.lua:2)",
            "hello stopped by breakpoint 1",
            "sum is now 7",
            "the host has ended with exit code 7",
        ],
    );
    assert!(!shown.contains("| hello Heron"), "what is shown with its line is not shown again");
    let output = user.session(&["run", "--batch", "-", "none.lua"], "");
    assert_eq!(output.status.code(), Some(2));
    std::fs::write(user.work.path().join("bad.lua"), "error('no water')").unwrap();
    let output = user.session(&["run", "--batch", "-", "bad.lua"], "go\n");
    assert_eq!(output.status.code(), Some(1), "{}", text(&output.stdout));
    has(&text(&output.stdout), &["! adzeman: runtime error: bad.lua:1: no water"]);
}

#[test]
fn paths_are_mapped_and_a_stale_file_is_said_so() {
    let user = User::new();
    let _host = user.host("dormant", &[]);
    let folder = user.work.path().join("canal");
    std::fs::create_dir(&folder).unwrap();
    let own = |name: &str| format!("{}/../adzeman-demo/scripts/{name}", env!("CARGO_MANIFEST_DIR"));
    std::fs::copy(own("ledger.lua"), folder.join("ledger.lua")).unwrap();
    let changed = std::fs::read_to_string(own("lock.lua")).unwrap().replace("0.02", "0.03");
    std::fs::write(folder.join("lock.lua"), changed).unwrap();
    let project = "own = [\"scripts/\"]\n\n[[paths]]\nhost = \"scripts/\"\nlocal = \"canal/\"\n";
    std::fs::write(user.work.path().join("adzeman.toml"), project).unwrap();
    let commands = "break at canal/lock.lua:42\nbreak at canal/ledger.lua:22\ngo\nlook stack\nbreaks\nlibrary\n";
    let shown = user.attached(&[], commands);
    has(
        &shown,
        &[
            "canal/lock.lua here is not what the host runs as scripts/lock.lua (",
            "breakpoint 1 at canal/lock.lua:42 → canal/lock.lua:42\n  canal/lock.lua here is another text than the host runs",
            "breakpoint 2 at canal/ledger.lua:22 → canal/ledger.lua:22\n\n",
            "→ 42 ┃",
            "last hit canal/lock.lua:42, during ",
            "'into' passes over all but scripts/",
        ],
    );
    assert!(!shown.contains("canal/ledger.lua here is"), "the same text is not spoken of");
    std::fs::write(user.work.path().join("adzeman.toml"), "[[paths]]\nhost = \"scripts/\"\n").unwrap();
    user.refused(&[], 2, &["each of [[paths]] must have the texts 'host' and 'local'"]);
}

/// The whole example of `docs/configuration.md` is one that the command takes.
#[test]
fn the_documented_project_file_works() {
    let user = User::new();
    let _host = user.host("dormant", &[]);
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/configuration.md")).unwrap();
    let example = page.split("```toml\n").nth(1).and_then(|block| block.split("```").next()).unwrap();
    std::fs::write(user.work.path().join("adzeman.toml"), example).unwrap();
    let shown = user.attached(&[], "breaks\nwatches\nlibrary\n");
    has(
        &shown,
        &[
            "2 breakpoints set from",
            "in fare when length > 20",
            "on record.before_save for passage 118",
            "1  host.locks.upper.level",
            "2  apart * 2 in update",
            "'into' passes over all but scripts/, lib/json.lua",
        ],
    );
}
