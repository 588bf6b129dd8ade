//! `adzeman demo`: starts `lockside` in a process of its own, attaches, and plays a short session.

use std::io::{BufRead as _, BufReader, Read as _};
use std::process::{Child, ChildStdout, Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use crate::args::Demo;
use crate::error::CliError;
use crate::project::Project;
use crate::prompt;
use crate::reach::{self, launch};
use crate::render::Printer;
use crate::session::{Manner, Opening, Session, run_line};
use crate::signals;

/// How long the demo host may take to say where it listens.
const STARTED_WITHIN: Duration = Duration::from_secs(10);
/// How long the session waits for each stop.
const PATIENCE: Duration = Duration::from_secs(20);

/// What is typed, with a word on what to watch.
const PLAY: &[(&str, &str)] = &[
    ("How does the keeper of a lock move the water? Stop on a line of its script.", "break at lock.lua:31"),
    ("", "go"),
    ("Who called, and what do they know?", "look stack"),
    ("", "look locals"),
    ("", "look captured"),
    ("The host's own objects are as open as the script's.", "look host.locks.lower"),
    ("A step over the line, and one out to the caller.", "over"),
    ("", "out"),
    ("", "remove 1"),
    (
        "Break on what the host does, and only when it matters: a lock is worked that holds a boat, high up.",
        "break on frame.update when event.boat and event.level > 5",
    ),
    ("", "go"),
    ("", "look event"),
    ("A step into the function that is called here.", "into"),
    (
        "Change the host: half a metre less in this chamber. In the next frame the event says so itself.",
        "look event.level",
    ),
    ("", "let host.locks.upper.level = event.level - 0.5"),
    ("", "go"),
    ("", "remove all"),
    ("Every boat that clears a lock is put in the books; the ledger sets its toll.", "break on record.before_save"),
    ("", "go"),
    ("", "look event.record"),
    ("", "break in fare"),
    ("", "go"),
    ("Change a script variable, one the function captured: from now on the base toll is 100.", "let tariff.base = 100"),
    ("", "look fare(10, 0)"),
    ("", "out"),
    ("What the ledger answered is what the books get:", "break on record.after_save"),
    ("", "go"),
    ("", "look event.toll"),
    ("", "breaks"),
    ("", "leave"),
];

const SUGGESTIONS: &str = "Three things to try:
  break on frame.update for lock.upper     then: go, look event, look stack, over
  break in fare when length > 20           then: go, look tariff, let tariff.base = 100, out
  look host.locks                          while it runs; then: let host.weather.rain = 12
'help' lists all commands, 'leave' ends.";

pub(crate) fn run(demo: &Demo, printer: &Printer) -> Result<(), CliError> {
    let hands_on = demo.hands_on;
    let mut lockside =
        Lockside::start(if hands_on { &["--fps", "120"] } else { &["--fps", "400", "--frames", "1600"] })?;
    let patience = (!hands_on).then_some(PATIENCE);
    let reached = reach::reach(Some(&lockside.address))?;
    let opening = Opening { project: Project::none(), armed: true, patience, manner: Manner::default() };
    let mut session = Session::attach(reached, opening, printer)?;
    session.ready()?;
    printer.remark(&format!("lockside runs as process {} and listens on {}\n", lockside.child.id(), lockside.address));
    printer.report(None, &session.greeting(0));
    if hands_on {
        printer.remark(&format!("\n{SUGGESTIONS}"));
        // Leaving ends the host too: it was started for this.
        return prompt::talk(&mut session);
    }
    for (remark, line) in PLAY {
        if !remark.is_empty() {
            printer.remark(&format!("\n{remark}"));
        }
        run_line(&mut session, line, true)?;
    }
    printer.remark(&format!("\n{}", lockside.wait()?.trim_end()));
    Ok(())
}

/// The demo host in its own process; ended when dropped.
struct Lockside {
    child: Child,
    stdout: Option<ChildStdout>,
    address: String,
}

impl Lockside {
    /// Starts this very program as `lockside`, on any free port, and waits until it says which.
    fn start(options: &[&str]) -> Result<Self, CliError> {
        let no_demo = |why: std::io::Error| CliError::NoDemo(why.to_string());
        let program = std::env::current_exe().map_err(no_demo)?;
        let mut command = Command::new(program);
        command.args(["lockside", "--listen", "0", "--hold"]).args(options);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        launch::apart(&mut command);
        let mut child = command.spawn().map_err(no_demo)?;
        signals::own(child.id());
        let (stdout, stderr) = (child.stdout.take(), child.stderr.take());
        let mut lockside = Self { child, stdout, address: String::new() };
        let Some(stderr) = stderr else { return Err(CliError::NoDemo("it has no standard error".to_owned())) };
        let (found, address) = mpsc::channel();
        let reading = move || {
            for line in BufReader::new(stderr).lines().map_while(Result::ok) {
                match line.strip_prefix("lockside listens on ") {
                    // Nobody waits any more when it is said twice.
                    Some(address) => drop(found.send(address.to_owned())),
                    None => eprintln!("{line}"),
                }
            }
        };
        thread::Builder::new().name("lockside-stderr".to_owned()).spawn(reading).map_err(no_demo)?;
        lockside.address = address.recv_timeout(STARTED_WITHIN).map_err(|_| {
            CliError::NoDemo("it did not say where it listens; its own message is above, if it had one".to_owned())
        })?;
        Ok(lockside)
    }

    /// Waits for its end and answers what it printed.
    fn wait(&mut self) -> Result<String, CliError> {
        let mut text = String::new();
        if let Some(mut stdout) = self.stdout.take() {
            stdout.read_to_string(&mut text).map_err(|error| CliError::NoDemo(error.to_string()))?;
        }
        self.child.wait().map_err(|error| CliError::NoDemo(error.to_string()))?;
        Ok(text)
    }
}

impl Drop for Lockside {
    fn drop(&mut self) {
        if matches!(self.child.try_wait(), Ok(None)) {
            // It may end between the look and the signal; either way it is gone afterwards.
            let _ = self.child.kill();
            let _ = self.child.wait();
        }
        signals::own(0);
    }
}
