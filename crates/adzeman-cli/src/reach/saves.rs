//! Files of scripts that are saved while a session is there: the host is given their texts.

use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use adzeman_dap::extra::{self, ReloadArguments, ReloadBody};
use adzeman_dap::types::Source;
use adzeman_dap::{Event, Response};
use notify::event::{AccessKind, AccessMode, ModifyKind};
use notify::{EventKind, RecommendedWatcher, RecursiveMode, Watcher as _};
use serde_json::json;

use super::beside::Sending;
use crate::error::CliError;
use crate::project::PathMaps;

/// A file counts as saved when nothing has happened to it for this long: editors write in several steps.
const QUIET: Duration = Duration::from_millis(80);
/// It is not waited for longer than this, however much is written.
const AT_MOST: Duration = Duration::from_secs(2);

/// Watches the files of a host's scripts. It ends when it is dropped.
pub(crate) struct Saves {
    paths: PathMaps,
    watched: Arc<Mutex<Watched>>,
}

struct Watched {
    watcher: RecommendedWatcher,
    folders: HashSet<PathBuf>,
    /// Files, and what the host calls them.
    files: HashMap<PathBuf, String>,
}

fn unwatchable(error: &dyn std::fmt::Display) -> CliError {
    CliError::Refused(format!("files cannot be watched: {error}; 'reload FILE' reloads one"))
}

impl Saves {
    /// Begins to watch; every text that is saved is sent.
    ///
    /// # Errors
    /// When the system does not let files be watched.
    pub(crate) fn begin(paths: PathMaps, to: Sending) -> Result<Self, CliError> {
        let (sender, happened) = channel();
        let watcher = notify::recommended_watcher(move |event: notify::Result<notify::Event>| {
            if let Ok(event) = event
                && is_written(&event.kind)
            {
                // Nobody reads any more once this is dropped.
                let _ = sender.send(event.paths);
            }
        });
        let watcher = watcher.map_err(|error| unwatchable(&error))?;
        let watched = Watched { watcher, folders: HashSet::new(), files: HashMap::new() };
        let watched = Arc::new(Mutex::new(watched));
        let looked_at = Arc::downgrade(&watched);
        let host_path_of = move |file: &Path| {
            let watched = looked_at.upgrade()?;
            let watched = watched.lock().unwrap_or_else(PoisonError::into_inner);
            watched.files.get(file).cloned()
        };
        thread::Builder::new()
            .name("adzeman-saves".to_owned())
            .spawn(move || send_saved(&happened, &to, host_path_of))
            .map_err(|error| unwatchable(&error))?;
        Ok(Self { paths, watched })
    }

    /// Watches the file of a script, if there is one here.
    ///
    /// # Errors
    /// When the system does not let its folder be watched.
    pub(crate) fn note(&self, source: &Source) -> Result<(), CliError> {
        let Some(path) = &source.path else { return Ok(()) };
        let Ok(file) = self.paths.file_of(path).canonicalize() else { return Ok(()) };
        let Some(folder) = file.parent().map(Path::to_owned) else { return Ok(()) };
        let mut watched = self.watched.lock().unwrap_or_else(PoisonError::into_inner);
        // The folder, since many editors put a new file in the place of the old one.
        if !watched.folders.contains(&folder) {
            watched.watcher.watch(&folder, RecursiveMode::NonRecursive).map_err(|error| unwatchable(&error))?;
            watched.folders.insert(folder);
        }
        watched.files.insert(file, path.clone());
        Ok(())
    }

    /// How many files are watched.
    pub(crate) fn count(&self) -> usize {
        self.watched.lock().unwrap_or_else(PoisonError::into_inner).files.len()
    }
}

/// Whether a text may be another one now. Reading a file is no reason to read it again.
fn is_written(kind: &EventKind) -> bool {
    match kind {
        EventKind::Create(_) | EventKind::Access(AccessKind::Close(AccessMode::Write)) => true,
        EventKind::Modify(what) => !matches!(what, ModifyKind::Metadata(_)),
        _ => false,
    }
}

/// Sends each text once its file is quiet, until the watcher goes.
fn send_saved(happened: &Receiver<Vec<PathBuf>>, to: &Sending, host_path_of: impl Fn(&Path) -> Option<String>) {
    while let Ok(first) = happened.recv() {
        let begun = Instant::now();
        let mut files: Vec<PathBuf> = first;
        let is_over = loop {
            match happened.recv_timeout(QUIET) {
                Ok(more) => files.extend(more),
                Err(RecvTimeoutError::Timeout) => break false,
                Err(RecvTimeoutError::Disconnected) => break true,
            }
            if begun.elapsed() > AT_MOST {
                break false;
            }
        };
        files.sort();
        files.dedup();
        for (file, path) in files.into_iter().filter_map(|file| host_path_of(&file).map(|path| (file, path))) {
            // One that is gone again is none that was saved.
            if let Ok(text) = std::fs::read_to_string(&file) {
                send(to, path, text);
            }
        }
        if is_over {
            return;
        }
    }
}

fn send(to: &Sending, path: String, text: String) {
    let arguments = ReloadArguments { path: path.clone(), text: Some(text), ..ReloadArguments::default() };
    let Ok(arguments) = serde_json::to_value(&arguments) else { return };
    // A host that is gone ends the session, which says so.
    let _ = to.ask(extra::RELOAD, arguments, move |response| told(&path, response));
}

/// What came of it, in a line.
fn told(path: &str, response: Response) -> Event {
    let Response { success, message, body, .. } = response;
    let body = body.and_then(|body| serde_json::from_value::<ReloadBody>(body).ok()).filter(|_| success);
    let (category, text) = match body {
        None => {
            let why = message.unwrap_or_else(|| "the host refused it".to_owned());
            ("important", format!("{path} was saved, and runs as before: {why}"))
        }
        Some(body) if body.done => ("console", format!("{path} was saved: {}", changed(&body))),
        Some(body) => ("important", format!("{path} was saved, and runs as before: {}", refused(path, &body))),
    };
    let body = json!({"category": category, "output": format!("{text}\n")});
    Event { seq: 0, event: "output".to_owned(), body: Some(body) }
}

/// `changed: fare, rate; new: toll_of`.
fn changed(body: &ReloadBody) -> String {
    let names = |state: &str| {
        let of_state = body.functions.iter().filter(|held| held.state == state);
        let names: Vec<_> = of_state
            .map(|held| held.name.clone().unwrap_or_else(|| format!("the function at {}", held.line.unwrap_or(0))))
            .collect();
        (!names.is_empty()).then(|| format!("{state}: {}", names.join(", ")))
    };
    let mut parts: Vec<_> = ["changed", "new", "gone"].into_iter().filter_map(names).collect();
    if parts.is_empty() {
        parts.push("no function is written otherwise".to_owned());
    }
    if body.top_level_changed {
        parts.push("what stands outside of functions is not run again".to_owned());
    }
    parts.join("; ")
}

fn refused(path: &str, body: &ReloadBody) -> String {
    let hindered = body.functions.iter().filter(|held| held.state == "refused");
    let mut why: Vec<_> = hindered
        .map(|held| {
            let name = held.name.as_deref().unwrap_or("a function");
            format!("{name}: {}", held.why.as_deref().unwrap_or("it cannot be changed"))
        })
        .collect();
    if body.others > 0 {
        why.push(format!("{} of its functions are of a text that is not known", body.others));
    }
    format!("{}; 'reload {path} --partly' changes what can be", why.join("; "))
}
