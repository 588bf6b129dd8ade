//! Hosts that do not answer, and Ctrl-C.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpListener;
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use crate::attaching::User;
use crate::{has, text};

const LONG: Duration = Duration::from_secs(300);

fn signal(name: &str, process: &str) {
    assert!(Command::new("kill").args([name, "--", process]).status().unwrap().success());
}

/// A command whose output is read as it comes.
struct Session {
    child: Child,
    lines: mpsc::Receiver<String>,
    seen: String,
}

impl Session {
    /// In a process group of its own, as in a terminal.
    fn start(command: &mut Command) -> Self {
        let mut child = command
            .process_group(0)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (sender, lines) = mpsc::channel();
        let (out, err) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
        let other = sender.clone();
        thread::spawn(move || BufReader::new(out).lines().map_while(Result::ok).try_for_each(|line| sender.send(line)));
        thread::spawn(move || BufReader::new(err).lines().map_while(Result::ok).try_for_each(|line| other.send(line)));
        Self { child, lines, seen: String::new() }
    }

    fn type_line(&mut self, line: &str) {
        let input = self.child.stdin.as_mut().unwrap();
        input.write_all(format!("{line}\n").as_bytes()).unwrap();
    }

    #[track_caller]
    fn read_to(&mut self, part: &str) {
        let until = Instant::now() + LONG;
        loop {
            let left = until.saturating_duration_since(Instant::now());
            match self.lines.recv_timeout(left) {
                Ok(line) => {
                    self.seen.push_str(&line);
                    self.seen.push('\n');
                    if line.contains(part) {
                        return;
                    }
                }
                Err(_) => panic!("no '{part}' in:\n{}", self.seen),
            }
        }
    }

    /// What a terminal sends on Ctrl-C: a signal to the whole group.
    fn press_ctrl_c(&self) {
        signal("-INT", &format!("-{}", self.child.id()));
    }

    #[track_caller]
    fn ends(&mut self) -> i32 {
        let until = Instant::now() + LONG;
        loop {
            if let Some(status) = self.child.try_wait().unwrap() {
                return status.code().unwrap_or(-1);
            }
            assert!(Instant::now() < until, "it does not end:\n{}", self.seen);
            thread::sleep(Duration::from_millis(10));
        }
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn a_stopped_host_is_told_of_and_ctrl_c_gives_the_prompt_back() {
    let user = User::new();
    let host = user.host("listen", &[]);
    let mut session = Session::start(user.command().arg("attach"));
    session.read_to("is open to you");
    signal("-STOP", &host.id());
    session.type_line("look host.weather");
    session.read_to("lockside has not answered for 3 s; Ctrl-C gives up");
    session.press_ctrl_c();
    session.read_to("was given up; what the host was doing for it ends");
    signal("-CONT", &host.id());
    session.type_line("look host.weather");
    session.read_to("mm/h");
    session.type_line("leave");
    session.read_to("left; lockside runs on");
    assert_eq!(session.ends(), 0);
}

#[test]
fn attaching_to_what_does_not_answer_ends_by_itself_and_by_ctrl_c() {
    let user = User::new();
    let host = user.host("listen", &[]);
    signal("-STOP", &host.id());
    let begun = Instant::now();
    let shown = text(&user.command().arg("hosts").output().unwrap().stdout);
    has(&shown, &["lockside"]);
    assert!(begun.elapsed() < LONG, "{:?}", begun.elapsed());
    let mut session = Session::start(user.command().args(["attach", "lockside"]));
    session.read_to("has not answered for 3 s");
    session.press_ctrl_c();
    session.read_to("was given up");
    assert_eq!(session.ends(), 1);
    signal("-CONT", &host.id());
    // Something that takes connections and says nothing.
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = silent.local_addr().unwrap().to_string();
    let output = user.session(&["attach", &address, "--batch", "-"], "");
    assert_eq!(output.status.code(), Some(3));
    has(&text(&output.stderr), &["has not answered for 3 s", "is not a host of scripts: it has said nothing for 10 s"]);
}

#[test]
fn an_evaluation_and_a_call_are_given_up_by_ctrl_c() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let mut session = Session::start(user.command().arg("attach"));
    session.read_to("is open to you");
    session.type_line("limit 3000s");
    session.read_to("an evaluation may take 3000 s at a stop, 0.2 s beside the script, and 256 MiB of memory");
    session.type_line("break on frame.update for lock.upper");
    session.type_line("go");
    session.read_to("stopped by breakpoint 1");
    session.type_line("look (function() while true do pcall(error) end end)()");
    session.read_to("has not answered for 3 s");
    session.press_ctrl_c();
    session.read_to("'evaluate' was given up");
    session.type_line("run xpcall(function() while true do end end, function() while true do end end)");
    session.read_to("Ctrl-C");
    session.press_ctrl_c();
    session.read_to("it was cancelled");
    session.type_line("look 6 * 7");
    session.read_to("42");
}

#[test]
fn ctrl_c_stops_the_scripts_of_a_host_that_was_started_and_leaves_the_host() {
    let user = User::new();
    let script = user.work.path().join("loop.lua");
    std::fs::write(&script, "local turns = 0\nwhile turns >= 0 do\n  turns = turns + 1\nend\nprint('done')\n").unwrap();
    let mut session = Session::start(user.command().args(["run", "loop.lua"]));
    session.read_to("turns = 0");
    session.type_line("go");
    session.read_to("Ctrl-C stops it at its next line");
    session.press_ctrl_c();
    session.read_to("stopped");
    session.type_line("let turns = -2");
    session.type_line("go");
    session.read_to("done");
    session.read_to("the host has ended with exit code 0");
    assert_eq!(session.ends(), 0);
}

#[test]
fn a_command_that_is_told_to_end_ends_the_host_that_it_started() {
    let user = User::new();
    std::fs::write(user.work.path().join("loop.lua"), "while true do end\n").unwrap();
    let mut session = Session::start(user.command().args(["run", "loop.lua"]));
    session.read_to("started as process ");
    let line = session.seen.lines().find(|line| line.contains("started as process ")).unwrap();
    let process = line.rsplit(' ').next().unwrap().to_owned();
    signal("-TERM", &session.child.id().to_string());
    assert_eq!(session.ends(), 128 + 15);
    let until = Instant::now() + LONG;
    while std::path::Path::new(&format!("/proc/{process}")).exists() {
        assert!(Instant::now() < until, "the host is still there");
        thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_client_that_finds_no_place_is_told_why() {
    let user = User::new();
    let host = user.host("listen", &[]);
    let mut held: Vec<_> = (0..16)
        .map(|_| {
            let mut session = Session::start(user.command().args(["attach", "--observe", &host.id()]));
            session.read_to("is open to you");
            session
        })
        .collect();
    user.refused(
        &[&host.id()],
        1,
        &["16 clients are attached by the local socket already", "one of them must leave first"],
    );
    held.pop();
    let until = Instant::now() + LONG;
    while !user.session(&["attach", "--batch", "-", &host.id()], "").status.success() {
        assert!(Instant::now() < until);
    }
}

#[test]
fn too_many_kept_breakpoints_and_a_full_disk_are_said_so() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let lines: Vec<_> = (1..=100_000).map(|number| format!("\"at toll.lua:{number}\"")).collect();
    let file = user.work.path().join("adzeman.toml");
    std::fs::write(&file, format!("breaks = [{}]\n", lines.join(", "))).unwrap();
    user.refused(&[], 2, &["it has 100000 breakpoints, and a host takes 5000 of one client"]);
    std::fs::write(&file, "brakes = [\"in fare\"]\n").unwrap();
    user.refused(&[], 2, &["it has a key 'brakes', which means nothing; the keys are breaks, watches"]);
    std::fs::remove_file(&file).unwrap();
    // A limit on the size of files is what a full disk looks like.
    let shell = format!("ulimit -f 0; trap '' XFSZ; exec {} attach --batch -", user.command().get_program().display());
    let mut command = Command::new("sh");
    command.args(["-c", &shell]).current_dir(user.work.path());
    command.envs(user.command().get_envs().filter_map(|(name, value)| Some((name.to_owned(), value?.to_owned()))));
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"break in fare\nkeep all\n").unwrap();
    let output = child.wait_with_output().unwrap();
    has(&text(&output.stderr), &["cannot write"]);
    let left: Vec<_> = std::fs::read_dir(user.work.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert!(left.is_empty(), "{left:?}");
}

#[test]
fn a_script_that_waits_for_someone_is_free_where_nobody_can_come() {
    let user = User::new();
    std::fs::write(user.work.path().join("wait.lua"), "print(adzeman.wait(600))\n").unwrap();
    let begun = Instant::now();
    let mut child = user.command().args(["script", "wait.lua"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut shown = String::new();
    child.stdout.take().unwrap().read_to_string(&mut shown).unwrap();
    assert!(child.wait().unwrap().success());
    assert_eq!(shown, "false\n");
    assert!(begun.elapsed() < LONG, "it waited");
}
