//! The command as its users run it, against the demo host in a process of its own.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::process::{Child, ChildStdin, Command, ExitStatus, Output, Stdio};
use std::thread;

mod attaching;
mod compiled;
mod editor;
#[cfg(target_os = "linux")]
mod folders;
mod going;
mod inspecting;
#[cfg(unix)]
mod reloading;
mod trail;
mod typing;
mod waiting;

use serde_json::Value as Json;

/// The command, for which hosts are announced in a folder of these tests.
fn adzeman() -> Command {
    let user = std::env::var("USER").unwrap_or_default();
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("adzeman"));
    let runtime = std::env::temp_dir().join(format!("adzeman-tests-{user}"));
    command.env_remove("ADZEMAN").env("NO_COLOR", "1").env("XDG_RUNTIME_DIR", runtime);
    command
}

/// What comes of a command that is given lines to read.
fn answered(command: &mut Command, lines: &str) -> Output {
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(lines.as_bytes()).unwrap();
    child.wait_with_output().unwrap()
}

/// The demo host in its own process, ended when dropped.
struct Lockside {
    child: Child,
    address: String,
}

impl Lockside {
    /// Starts it; it waits with its first frame until someone is attached.
    fn start(options: &[&str]) -> Self {
        let mut child = adzeman()
            .args(["lockside", "--listen", "0", "--hold"])
            .args(options)
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
        let first = lines.next().unwrap().unwrap();
        let address = first.strip_prefix("lockside listens on ").unwrap().to_owned();
        thread::spawn(move || lines.map_while(Result::ok).for_each(drop));
        Self { child, address }
    }

    /// Runs commands against it.
    fn batch(&self, options: &[&str], commands: &str) -> Output {
        answered(adzeman().args(["attach", &self.address, "--batch", "-"]).args(options), commands)
    }

    /// Waits for its end and answers its summary.
    fn summary(mut self) -> String {
        let mut text = String::new();
        self.child.stdout.take().unwrap().read_to_string(&mut text).unwrap();
        assert!(self.child.wait().unwrap().success());
        text
    }
}

impl Drop for Lockside {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8(bytes.to_vec()).unwrap()
}

#[track_caller]
fn has(text: &str, parts: &[&str]) {
    for part in parts {
        assert!(text.contains(part), "'{part}' is missing in:\n{text}");
    }
}

/// What `adzeman lockside` prints when nobody attaches.
fn alone(options: &[&str]) -> String {
    let output = adzeman().arg("lockside").args(options).output().unwrap();
    assert!(output.status.success());
    text(&output.stdout)
}

fn line_with<'a>(text: &'a str, start: &str) -> &'a str {
    text.lines().find(|line| line.trim_start().starts_with(start)).unwrap_or_else(|| panic!("no '{start}' in:\n{text}"))
}

#[test]
fn the_demo_plays_to_its_end() {
    let output = adzeman().arg("demo").output().unwrap();
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}\n{}", text(&output.stderr));
    has(
        &shown,
        &[
            "breakpoint 1 at lock.lua:31 → scripts/lock.lua:31",
            "stopped by breakpoint 1, in level_with",
            // Which lock is the first one depends on when in a frame the breakpoint is set.
            "during frame.update of lock.",
            " stopped after a step, in update",
            "lock.upper stopped by breakpoint 2, in update",
            "ledger stopped by breakpoint 3, in before_save",
            "tariff.base is now 100",
            "105.0  float",
            "left; lockside runs on",
            "lockside closes after 1600 frames",
        ],
    );
    let takings: f64 = line_with(&shown, "takings").split_whitespace().nth(1).unwrap().parse().unwrap();
    assert!(takings > 1000.0, "the changed base toll is in the takings: {takings}");
}

#[test]
fn a_batch_breaks_steps_looks_and_changes() {
    let host = Lockside::start(&["--fps", "0", "--frames", "2000"]);
    let commands = "\
# an own comment
break on record.before_save when event.record.length > 12
go
look event.record.boat
break in rate
go
look stack
out
look locals
let tariff.per_metre.middle = 2
use frame 1
look toll
breaks
remove all
leave
";
    let output = host.batch(&[], commands);
    let shown = text(&output.stdout);
    assert!(output.status.success(), "{shown}\n{}", text(&output.stderr));
    has(
        &shown,
        &[
            "lockside runs › break on record.before_save when event.record.length > 12",
            "stopped by breakpoint 1, in before_save",
            "2 in rate → scripts/ledger.lua:13",
            "1  fare",
            "2  before_save",
            "tariff.per_metre.middle is now 2",
            "2 breakpoints removed",
            "left; lockside runs on",
        ],
    );
    has(&host.summary(), &["lockside closes after 2000 frames"]);
}

#[test]
fn with_json_every_line_is_an_object() {
    let host = Lockside::start(&["--fps", "0"]);
    let output =
        host.batch(&["--json"], "break at lock.lua:42\ngo\nlook wanted\nover\nlook stack\nlook contexts\nleave\n");
    assert!(output.status.success(), "{}", text(&output.stderr));
    let lines: Vec<Json> = text(&output.stdout).lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let kinds: Vec<_> = lines.iter().map(|line| line["report"]["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["attached", "breakpoint", "stop", "value", "stop", "stack", "contexts", "left"]);
    assert!(lines.iter().all(|line| line["ok"] == true));
    assert_eq!(lines[2]["command"], "go");
    assert_eq!(lines[2]["report"]["stop"]["listing"]["current"], 42);
    assert_eq!(lines[3]["report"]["value"], "nil", "not assigned yet");
    assert_eq!(lines[4]["report"]["stop"]["reason"], "step");
    assert_eq!(lines[5]["report"]["frames"][0]["line"], 43);
}

#[test]
fn what_fails_has_its_own_exit_code_and_a_way_forward() {
    let host = Lockside::start(&["--fps", "100"]);
    let fails = |options: &[&str], commands: &str, code: i32, parts: &[&str]| {
        let output = host.batch(options, commands);
        assert_eq!(output.status.code(), Some(code), "{commands}: {}", text(&output.stderr));
        has(&text(&output.stderr), parts);
    };
    fails(&[], "look event\n", 1, &["line 1 of standard input: nothing is stopped; 'pause' stops"]);
    fails(&[], "\nbrake\n", 1, &["line 2 of standard input: there is no command 'brake'"]);
    fails(&[], "let nobody = 1\n", 1, &["there is no 'nobody' here; to make a new global"]);
    fails(&[], "break at lock.lua:31 when )\n", 1, &["the condition ')' cannot be read"]);
    fails(&[], "use context cellar\n", 1, &["there is no context 'cellar'; there is lock.lower"]);
    fails(&[], "remove 3\n", 1, &["there is no breakpoint 3; 'breaks' lists them"]);
    fails(&[], "look 1 +\n", 1, &["cannot read that: unexpected symbol near <eof>"]);
    fails(
        &["--patience", "0.2"],
        "break at lock.lua:999\ngo\n",
        5,
        &["nothing stopped within 0.2 seconds; check 'breaks'"],
    );
}

#[test]
fn without_a_host_the_exit_code_says_so() {
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().to_string();
    let output = adzeman().args(["attach", &free, "--batch", "-"]).stdin(Stdio::null()).output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    has(&text(&output.stderr), &["no host answers at", "connection refused", "is it running"]);

    let output = adzeman().args(["attach", "the-lock", "--batch", "-"]).stdin(Stdio::null()).output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    has(&text(&output.stderr), &["no host is called 'the-lock', is process the-lock or listens there"]);

    let output = adzeman().args(["attach", "1", "--batch", "no-such-file"]).output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    has(&text(&output.stderr), &["cannot read no-such-file"]);
}

#[test]
fn what_is_no_host_is_told_from_one() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let server = thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n");
        let _ = stream.read(&mut [0; 512]);
    });
    let output = adzeman().args(["attach", &address, "--batch", "-"]).stdin(Stdio::null()).output().unwrap();
    server.join().unwrap();
    assert_eq!(output.status.code(), Some(3));
    has(&text(&output.stderr), &["is not a host of scripts", "this one with 'HTTP/1.1 400"]);
}

/// A session that is fed line by line.
fn open_session(address: &str) -> (Child, ChildStdin) {
    let mut child = adzeman()
        .args(["attach", address, "--batch", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let input = child.stdin.take().unwrap();
    (child, input)
}

/// Reads up to a line with `part`.
fn read_to(output: &mut impl std::io::BufRead, part: &str) {
    for line in output.lines() {
        if line.unwrap().contains(part) {
            return;
        }
    }
    panic!("no '{part}'");
}

#[test]
fn a_host_that_is_killed_is_noticed() {
    let mut host = Lockside::start(&["--fps", "0"]);
    let (mut session, mut input) = open_session(&host.address);
    let mut output = BufReader::new(session.stdout.take().unwrap());
    input.write_all(b"break at lock.lua:42\ngo\n").unwrap();
    read_to(&mut output, "stopped by breakpoint 1");
    host.child.kill().unwrap();
    host.child.wait().unwrap();
    input.write_all(b"over\n").unwrap();
    let status: ExitStatus = session.wait().unwrap();
    assert_eq!(status.code(), Some(4));
    let mut trouble = String::new();
    session.stderr.take().unwrap().read_to_string(&mut trouble).unwrap();
    has(&trouble, &["the host is gone", "start it again and attach anew"]);
}

#[test]
fn a_client_that_is_killed_at_a_record_loses_none() {
    let folder = tempfile::tempdir().unwrap();
    let options = |name: &str| {
        let file = folder.path().join(name).to_str().unwrap().to_owned();
        ["--fps", "0", "--frames", "3000", "--seed", "3", "--db"]
            .map(str::to_owned)
            .into_iter()
            .chain([file])
            .collect::<Vec<_>>()
    };
    let (undisturbed, disturbed) = (options("alone.db"), options("killed.db"));
    let undisturbed = alone(&undisturbed.iter().map(String::as_str).collect::<Vec<_>>());
    let host = Lockside::start(&disturbed.iter().map(String::as_str).collect::<Vec<_>>());
    let (mut session, mut input) = open_session(&host.address);
    let mut output = BufReader::new(session.stdout.take().unwrap());
    input.write_all(b"break on record.before_save\ngo\n").unwrap();
    read_to(&mut output, "stopped by breakpoint 1, in before_save");
    session.kill().unwrap();
    session.wait().unwrap();
    let summary = host.summary();
    assert_eq!(summary, undisturbed, "every record is there once, and the run went the same way");
    let size = |name: &str| std::fs::metadata(folder.path().join(name)).unwrap().len();
    assert_eq!(size("alone.db"), size("killed.db"));
}

#[test]
fn breakpoints_that_never_fire_change_nothing() {
    let options = ["--fps", "0", "--frames", "2500", "--seed", "9"];
    let host = Lockside::start(&options);
    let mut commands = "pause\n".to_owned();
    for line in 1..60 {
        commands.push_str(&format!("break at lock.lua:{line} when lock == {line}\n"));
        commands.push_str(&format!("break at lock.lua:{line} for nobody when #host.boats > 0 every {line}\n"));
    }
    for number in 1..80 {
        commands.push_str(&format!("break on frame.update when event.level < -{number}\n"));
    }
    commands.push_str(
        "break at ledger.lua:26 when length < 0\nbreak in fare when minutes < 0 say \"{length}\"\nbreak on error\n\
         break on every error containing \"no such text\"\nbreak on frame.update over 60s\n\
         break on change of type host.office.passages\nbreaks\ngo\n",
    );
    let output = host.batch(&[], &commands);
    assert_eq!(output.status.code(), Some(4), "the host ends while the batch waits: {}", text(&output.stderr));
    let set = text(&output.stdout).lines().filter(|line| line.starts_with("breakpoint ")).count();
    assert!(set >= 200, "{set} breakpoints");
    assert_eq!(host.summary(), alone(&options));
}

#[test]
fn the_same_seed_gives_the_same_run() {
    let run = |seed: &str| alone(&["--fps", "0", "--frames", "1500", "--seed", seed]);
    assert_eq!(run("5"), run("5"));
    assert_ne!(line_with(&run("5"), "state"), line_with(&run("6"), "state"));
}

#[test]
fn lockside_says_what_it_cannot_use() {
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = taken.local_addr().unwrap().to_string();
    let fails = |options: &[&str], parts: &[&str]| {
        let output = adzeman().args(["lockside", "--frames", "1", "--fps", "0"]).args(options).output().unwrap();
        assert_eq!(output.status.code(), Some(1));
        has(&text(&output.stderr), parts);
    };
    fails(&["--listen", &address], &["cannot listen on", "choose another port"]);
    fails(&["--listen", "0.0.0.0:0"], &["can be reached from other machines"]);
    fails(&["--listen", "nowhere"], &["'nowhere' is not an address; use a port"]);
    fails(&["--db", "no-such-folder/canal.db"], &["the database no-such-folder/canal.db cannot be used"]);
}

/// Ctrl-C, also while a script is held.
#[cfg(unix)]
#[test]
fn lockside_ends_cleanly_on_ctrl_c() {
    let host = Lockside::start(&["--fps", "0"]);
    let (session, mut input) = open_session(&host.address);
    let mut session = session;
    let mut output = BufReader::new(session.stdout.take().unwrap());
    input.write_all(b"break at lock.lua:42\ngo\n").unwrap();
    read_to(&mut output, "stopped by breakpoint 1");
    let process = host.child.id().to_string();
    assert!(Command::new("kill").args(["-INT", &process]).status().unwrap().success());
    has(&host.summary(), &["lockside closes after"]);
    drop(input);
    session.wait().unwrap();
}

#[test]
fn a_web_page_gets_nothing() {
    let host = Lockside::start(&["--fps", "0"]);
    let mut stream = TcpStream::connect(&host.address).unwrap();
    stream.write_all(b"POST / HTTP/1.1\r\nContent-Length: 20\r\n\r\n").unwrap();
    let mut answer = Vec::new();
    // An end or a reset: either way there is nothing.
    let _ = stream.read_to_end(&mut answer);
    let _ = stream.shutdown(Shutdown::Both);
    assert_eq!(answer, b"");
    let output = host.batch(&[], "look contexts\n");
    assert!(output.status.success());
}

/// The commands of `docs/tutorial.md`, chapter by chapter, and what each chapter promises.
#[test]
fn the_tutorial_comes_out_as_it_says() {
    let page = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/tutorial.md")).unwrap();
    let promised: [&[&str]; 2] = [
        &[
            "during record.before_save of passage 1   record {boat: \"Kingfisher\"",
            "true, true  boolean",
            "→ 14 ┃     return tariff.per_metre.middle",
            "rate(24) returned 0.8",
            "rate(14) returned 0.8",
            "» Kingfisher: 34.1",
        ],
        &[
            "lockside is held after a change, by breakpoint 1",
            "host.locks.upper.gate_refusals was 0, and is 1, after frame.update of lock.upper",
            "wind  10.140322",
            "lock.upper stopped after a change, by breakpoint 2, in weather_changed",
            "margin was 0.10140321552633438, and is 0.08",
            "stopped, as it was to go on to here",
            " 4  0     on change host.locks.upper.gate_refusals",
        ],
    ];
    let chapters: Vec<&str> = page.split("\n## ").filter(|chapter| chapter.contains("```adzeman")).collect();
    assert_eq!(chapters.len(), promised.len());
    for (chapter, promised) in chapters.iter().zip(promised) {
        let blocks = chapter.split("```adzeman\n").skip(1).filter_map(|block| block.split("```").next());
        let host = Lockside::start(&["--fps", "0"]);
        let output = host.batch(&["--patience", "60"], &blocks.collect::<String>());
        assert!(output.status.success(), "{}\n{}", text(&output.stdout), text(&output.stderr));
        has(&text(&output.stdout), promised);
    }
}
