//! A host that is started under control: with the environment that opens it, its output passed on, ended and started again on
//! request.

use std::collections::{HashMap, HashSet};
use std::io::{BufRead as _, BufReader, Read};
use std::path::PathBuf;
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use adzeman::discovery;

use super::Reached;
use crate::error::{CliError, plain};
use crate::signals;

/// How long a host may take to announce itself.
const ANNOUNCED_WITHIN: Duration = Duration::from_secs(20);
/// How long it may take to end when it is asked to, before it is made to.
const ENDS_WITHIN: Duration = Duration::from_secs(5);
/// How long a line that was printed waits for the script's line that printed it.
const MARKED_WITHIN: Duration = Duration::from_millis(200);
const GLANCE: Duration = Duration::from_millis(20);

/// What is to be started.
#[derive(Debug, Clone, Default)]
pub(crate) struct Launch {
    pub(crate) command: Vec<String>,
    pub(crate) folder: Option<PathBuf>,
    pub(crate) environment: Vec<(String, String)>,
    /// Stop at the first line of a script.
    pub(crate) stops_first: bool,
}

impl Launch {
    /// What the host is told by its environment.
    fn choice(&self) -> &'static str {
        if self.stops_first { "first" } else { "wait" }
    }

    /// What is run, and with which environment, as it would be typed.
    pub(crate) fn shown(&self) -> String {
        let own = self.environment.iter().map(|(name, value)| format!("{name}={} ", quoted(value)));
        let command: Vec<_> = self.command.iter().map(|word| quoted(word)).collect();
        format!("{}ADZEMAN={} {}", own.collect::<String>(), self.choice(), command.join(" "))
    }
}

/// A word as a shell would take it.
fn quoted(word: &str) -> String {
    let is_plain = !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || "-_./:=,+@".contains(c));
    if is_plain { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}

/// Starts a host in a group of its own: Ctrl-C is for this command, which stops the scripts.
#[cfg(unix)]
pub(crate) fn apart(command: &mut Command) {
    std::os::unix::process::CommandExt::process_group(command, 0);
}

/// The same.
#[cfg(windows)]
pub(crate) fn apart(command: &mut Command) {
    /// `CREATE_NEW_PROCESS_GROUP`.
    const NEW_GROUP: u32 = 0x0000_0200;
    std::os::windows::process::CommandExt::creation_flags(command, NEW_GROUP);
}

/// Lines that scripts have printed, as the host told, which are shown with where they come from.
pub(crate) type Marked = Arc<Mutex<HashMap<String, usize>>>;

/// Notes lines that are shown with their place already.
pub(crate) fn mark(marked: &Marked, text: &str) {
    let mut marked = marked.lock().unwrap_or_else(PoisonError::into_inner);
    for line in text.lines() {
        *marked.entry(line.to_owned()).or_default() += 1;
    }
}

/// Whether a line is shown with its place already.
fn take_mark(marked: &Marked, line: &str) -> bool {
    let until = Instant::now() + MARKED_WITHIN;
    loop {
        {
            let mut marked = marked.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some(count) = marked.get_mut(line) {
                *count -= 1;
                if *count == 0 {
                    marked.remove(line);
                }
                return true;
            }
        }
        if Instant::now() >= until {
            return false;
        }
        thread::sleep(GLANCE);
    }
}

/// Where a line of output comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stream {
    Output,
    Errors,
}

/// Shows a line of the host's output.
pub(crate) type ShowLine = Arc<dyn Fn(Stream, &str) + Send + Sync>;

/// A host that was started.
pub(crate) struct Launched {
    child: Child,
    readers: Vec<thread::JoinHandle<()>>,
}

impl Launched {
    /// Starts it, and waits until it can be attached to.
    pub(crate) fn start(launch: &Launch, marked: &Marked, show: &ShowLine) -> Result<(Self, Reached), CliError> {
        let failed = |why: String| CliError::NotStarted { command: launch.command.join(" "), why };
        let before: HashSet<_> = discovery::announced()
            .map_err(|why| CliError::NoFolder(why.to_string()))?
            .iter()
            .map(|found| (found.announcement.process_id, found.announcement.started))
            .collect();
        let Some((program, arguments)) = launch.command.split_first() else {
            return Err(failed("no command is given".to_owned()));
        };
        let mut command = Command::new(program);
        command.args(arguments).envs(launch.environment.iter().cloned()).env("ADZEMAN", launch.choice());
        if let Some(folder) = &launch.folder {
            command.current_dir(folder);
        }
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
        apart(&mut command);
        let mut child = command.spawn().map_err(|why| failed(plain(&why)))?;
        signals::own(child.id());
        let (output, errors) = (child.stdout.take(), child.stderr.take());
        let mut launched = Self { child, readers: Vec::new() };
        launched.pass_on(output, Stream::Output, marked, show);
        launched.pass_on(errors, Stream::Errors, marked, show);
        let reached = launched.wait_until_announced(&before).map_err(|error| match error {
            CliError::NotStarted { why, .. } => failed(why),
            other => other,
        })?;
        Ok((launched, reached))
    }

    fn pass_on(&mut self, stream: Option<impl Read + Send + 'static>, which: Stream, marked: &Marked, show: &ShowLine) {
        let (marked, show) = (marked.clone(), show.clone());
        let Some(stream) = stream else { return };
        let reading = thread::Builder::new().name("adzeman-output".to_owned()).spawn(move || {
            for line in BufReader::new(stream).lines().map_while(Result::ok) {
                if which == Stream::Errors || !take_mark(&marked, &line) {
                    show(which, &line);
                }
            }
        });
        self.readers.extend(reading);
    }

    fn wait_until_announced(&mut self, before: &HashSet<(u32, u64)>) -> Result<Reached, CliError> {
        let failed = |why: String| CliError::NotStarted { command: String::new(), why };
        let until = Instant::now() + ANNOUNCED_WITHIN;
        while Instant::now() < until {
            if let Some(status) = self.has_ended() {
                return Err(failed(format!("it has ended already ({status}), without opening itself to anyone")));
            }
            let found = discovery::announced().unwrap_or_default();
            let own = found.iter().find(|found| found.announcement.process_id == self.child.id());
            // A command may start the host as a process of its own.
            let new = || {
                found
                    .iter()
                    .find(|found| !before.contains(&(found.announcement.process_id, found.announcement.started)))
            };
            if let Some(found) = own.or_else(new) {
                return super::reach(Some(&found.announcement.process_id.to_string()));
            }
            thread::sleep(GLANCE);
        }
        Err(failed("it runs, but did not open itself; does it take what ADZEMAN says (Listen::from_env)?".to_owned()))
    }

    pub(crate) fn id(&self) -> u32 {
        self.child.id()
    }

    /// How it ended, if it has.
    pub(crate) fn has_ended(&mut self) -> Option<ExitStatus> {
        self.child.try_wait().ok().flatten()
    }

    /// Waits for its end, and for the last of its output.
    pub(crate) fn wait(&mut self) -> Result<ExitStatus, CliError> {
        let status = self.child.wait().map_err(|why| CliError::HostGone(plain(&why)))?;
        signals::own(0);
        for reader in self.readers.drain(..) {
            // One that panicked has nothing more to show.
            let _ = reader.join();
        }
        Ok(status)
    }

    /// Asks it to end, and makes it end if it does not.
    pub(crate) fn end(&mut self) -> Result<ExitStatus, CliError> {
        self.ask_to_end();
        let until = Instant::now() + ENDS_WITHIN;
        while self.has_ended().is_none() && Instant::now() < until {
            thread::sleep(GLANCE);
        }
        if self.has_ended().is_none() {
            // It may end just now.
            let _ = self.child.kill();
        }
        self.wait()
    }

    #[cfg(unix)]
    fn ask_to_end(&self) {
        let id = i32::try_from(self.child.id()).ok().and_then(rustix::process::Pid::from_raw);
        if let Some(id) = id {
            // It may have ended already.
            let _ = rustix::process::kill_process(id, rustix::process::Signal::TERM);
        }
    }

    #[cfg(not(unix))]
    fn ask_to_end(&self) {}
}

impl Drop for Launched {
    fn drop(&mut self) {
        if self.has_ended().is_none() {
            let _ = self.end();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_run_is_shown_as_it_would_be_typed() {
        let launch = Launch {
            command: ["./canal", "--name", "two words", "it's"].map(str::to_owned).to_vec(),
            environment: vec![("LEVEL".to_owned(), "2".to_owned())],
            ..Launch::default()
        };
        assert_eq!(launch.shown(), "LEVEL=2 ADZEMAN=wait ./canal --name 'two words' 'it'\\''s'");
    }

    #[test]
    fn a_line_is_taken_once_for_each_time_it_was_marked() {
        let marked = Marked::default();
        mark(&marked, "one\ntwo\none\n");
        assert_eq!(["one", "one", "two"].map(|line| take_mark(&marked, line)), [true; 3]);
        assert!(!take_mark(&marked, "one"));
    }
}
