//! The prompt on a terminal: pasted lines, completion, narrow ones.

use std::io::{Read as _, Write as _};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use crate::attaching::User;

const LONG: Duration = Duration::from_secs(300);

/// A command on a terminal of its own, as `script` of every Linux makes one.
struct Terminal {
    child: Child,
    parts: mpsc::Receiver<String>,
    seen: String,
}

impl Terminal {
    fn start(user: &User, columns: usize, arguments: &str) -> Self {
        let program = user.command().get_program().to_str().unwrap().to_owned();
        let mut command = Command::new("script");
        for (name, value) in user.command().get_envs() {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        let line = format!("stty cols {columns} rows 40; {program} {arguments}");
        let mut child = command
            .args(["-qfec", &line, "/dev/null"])
            .env("TERM", "xterm-256color")
            .current_dir(user.work.path())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("'script' is there");
        let mut out = child.stdout.take().unwrap();
        let (sender, parts) = mpsc::channel();
        thread::spawn(move || {
            let mut chunk = [0; 4096];
            while let Ok(count @ 1..) = out.read(&mut chunk) {
                if sender.send(String::from_utf8_lossy(&chunk[..count]).into_owned()).is_err() {
                    return;
                }
            }
        });
        Self { child, parts, seen: String::new() }
    }

    fn type_keys(&mut self, keys: &str) {
        let input = self.child.stdin.as_mut().unwrap();
        input.write_all(keys.as_bytes()).unwrap();
        input.flush().unwrap();
    }

    /// Reads until all of these have come, and answers all that came since the last time.
    #[track_caller]
    fn read_to(&mut self, wanted: &[&str]) -> String {
        let until = Instant::now() + LONG;
        let mut new = String::new();
        while !wanted.iter().all(|part| new.contains(part)) {
            match self.parts.recv_timeout(until.saturating_duration_since(Instant::now())) {
                Ok(part) => new.push_str(&part),
                Err(_) => panic!("no {wanted:?} in:\n{}{new}", self.seen),
            }
        }
        self.seen.push_str(&new);
        new
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn pasted_lines_run_one_by_one_and_what_follows_a_mistake_is_left() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let mut terminal = Terminal::start(&user, 100, "attach");
    terminal.read_to(&["is open to you", "runs ›"]);
    terminal.type_keys("\x1b[200~look 20 + 1\nlook 'two' .. 'lines'\x1b[201~\r");
    terminal.read_to(&["21", "twolines"]);
    terminal.type_keys("\x1b[200~look 30 + 1\nnonsense\nlook 'not' .. 'this'\x1b[201~\r");
    let shown = terminal.read_to(&["31", "there is no command 'nonsense'"]);
    terminal.type_keys("look 'and' .. 'on'\r");
    let shown = shown + &terminal.read_to(&["andon"]);
    assert!(!shown.contains("notthis"), "{shown}");
}

#[test]
fn tab_lists_what_could_stand_there() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let mut terminal = Terminal::start(&user, 100, "attach");
    terminal.read_to(&["is open to you", "runs ›"]);
    terminal.type_keys("break at lock.lua:3\t\t");
    terminal.read_to(&["lock.lua:31", "lock.lua:33"]);
    terminal.type_keys("3 o\t\t");
    terminal.read_to(&["once", "off"]);
    terminal.type_keys("n\t\r");
    terminal.read_to(&["breakpoint 1 at lock.lua:33 once"]);
    // Behind the first name of a condition as well.
    terminal.type_keys("break at lock.lua:33 when difference > math.ab\t(difference)\r");
    terminal.read_to(&["when difference > math.abs(difference)"]);
    terminal.type_keys("break in b\t\t");
    terminal.read_to(&["before_save", "boat_arrived"]);
    terminal.type_keys("o\t\r");
    terminal.read_to(&["breakpoint 3 in boat_arrived"]);
    terminal.type_keys("break in ledger.lua:r\t\r");
    terminal.read_to(&["breakpoint 4 in ledger.lua:rate"]);
    terminal.type_keys("help \t\t");
    terminal.read_to(&["monitors", "library"]);
}

#[test]
fn what_is_said_fits_a_narrow_terminal() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let mut terminal = Terminal::start(&user, 60, "attach");
    terminal.read_to(&["is open to you", "runs ›"]);
    terminal.type_keys("help break\r");
    let shown = terminal.read_to(&["for example", "is saved", "runs ›"]);
    let text = anstream_stripped(&shown);
    for line in text.lines().filter(|line| !line.contains('›')) {
        assert!(line.trim_end().chars().count() <= 60, "{line:?} in {text}");
    }
}

/// Without escape sequences.
fn anstream_stripped(text: &str) -> String {
    let mut plain = String::new();
    let mut characters = text.chars();
    while let Some(character) = characters.next() {
        if character != '\x1b' {
            plain.push(character);
            continue;
        }
        if characters.next() == Some('[') {
            characters.by_ref().find(char::is_ascii_alphabetic);
        }
    }
    plain
}

#[test]
fn what_comes_while_someone_types_leaves_what_was_typed() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let mut terminal = Terminal::start(&user, 100, "attach");
    terminal.read_to(&["is open to you", "runs ›"]);
    terminal.type_keys("break at lock.lua:33 every 20 say 'filling {lock.name}'\r");
    terminal.read_to(&["breakpoint 1 at lock.lua:33", "runs ›"]);
    terminal.type_keys("look 20 +");
    terminal.read_to(&["look 20 +"]);
    // It comes above, and the line is there again behind it.
    for _ in 0..2 {
        let shown = terminal.read_to(&["filling"]);
        let behind = shown.rsplit_once("filling").unwrap().1;
        if !behind.contains("look 20 +") {
            terminal.read_to(&["look 20 +"]);
        }
    }
    terminal.type_keys(" 2\r");
    terminal.read_to(&["22"]);
}

#[test]
fn what_is_saved_is_reloaded_while_someone_types() {
    let ledger = include_str!("../../../adzeman-demo/scripts/ledger.lua");
    let user = User::new();
    let _host = user.host("listen", &[]);
    let file = user.work.path().join("scripts/ledger.lua");
    std::fs::create_dir(file.parent().unwrap()).unwrap();
    std::fs::write(&file, ledger).unwrap();
    let mut terminal = Terminal::start(&user, 120, "attach");
    terminal.read_to(&["is open to you", "runs ›"]);
    terminal.type_keys("reload on save\r");
    terminal.read_to(&["the file of the script is reloaded whenever it is saved", "runs ›"]);
    terminal.type_keys("look 20 +");
    terminal.read_to(&["look 20 +"]);
    // As many editors do it: another file comes into its place.
    let save = |text: &str| {
        let beside = file.with_extension("new");
        std::fs::write(&beside, text).unwrap();
        std::fs::rename(&beside, &file).unwrap();
    };
    let wrong = ledger.replace("length > 12", "length > 13");
    assert_ne!(wrong, ledger);
    save(&wrong);
    let shown = terminal.read_to(&["scripts/ledger.lua was saved: changed: rate"]);
    assert!(!shown.contains("runs as before"), "{shown}");
    save(&wrong.replace("local function rate", "local function function"));
    let shown = terminal.read_to(&["was saved, and runs as before: ", "expected near 'function'"]);
    assert!(shown.contains("ledger.lua:"), "{shown}");
    std::fs::write(&file, ledger).unwrap();
    terminal.read_to(&["scripts/ledger.lua was saved: changed: rate", "look 20 +"]);
    terminal.type_keys(" 2\r");
    terminal.read_to(&["22", "runs ›"]);
    terminal.type_keys("reload on save off\r");
    terminal.read_to(&["not reloaded any more", "runs ›"]);
    std::fs::write(&file, &wrong).unwrap();
    terminal.type_keys("changes\r");
    let shown = terminal.read_to(&["the text of scripts/ledger.lua", "runs ›"]);
    assert_eq!(shown.matches("the text of scripts/ledger.lua").count(), 2, "{shown}");
}

#[test]
fn what_runs_is_watched_until_a_key_stops_there() {
    let user = User::new();
    let _host = user.host("listen", &[]);
    let mut terminal = Terminal::start(&user, 100, "attach");
    terminal.read_to(&["is open to you", "runs ›"]);
    terminal.type_keys("look running lock.upper\r");
    // A terminal answers where its cursor is.
    terminal.read_to(&["\x1b[6n"]);
    terminal.type_keys("\x1b[12;1R");
    // What is there already is not written again.
    terminal.read_to(&["lock.upper runs", "frame.update of lock.upper", "scripts/lock.lua", "space stops there"]);
    terminal.type_keys(" ");
    terminal.read_to(&["stopped as asked", "lock.upper:"]);
    terminal.type_keys("look running lock.lower\r");
    terminal.read_to(&["\x1b[6n"]);
    terminal.type_keys("\x1b[12;1R");
    terminal.read_to(&["lock.lower runs", "frame.update of lock.lower", "space stops there"]);
    terminal.type_keys("q");
    terminal.read_to(&["runs ›"]);
    terminal.type_keys("look 20 + 2\r");
    terminal.read_to(&["22"]);
}
