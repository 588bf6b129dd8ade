//! The host's trail: when it is kept, how much of the time it takes, and where it is written.

use std::collections::HashMap;
use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::{Duration, Instant};

use adzeman_core::trail::{Happened, Ring, Trail};
use serde_json::json;

use super::lock;

/// Bytes that are kept where nothing else is said.
const MOST_BYTES: usize = 8 << 20;
/// The share of the time that copies of payloads may take together, in any case, and for each kind of event besides.
const SHARE: f64 = 0.02;
const KIND_SHARE: f64 = 0.002;
/// They may take this long before shares are looked at.
const FIRST: Duration = Duration::from_millis(5);
const KIND_FIRST: Duration = Duration::from_millis(1);
/// Kinds of events that have a share of their own.
const MOST_KINDS: usize = 1000;
/// The version of what a file of a trail looks like.
const FORMAT: u32 = 1;

/// How a host keeps its trail: the last events with what they cost, what came of them and what they carried. While someone is
/// attached it is kept anyway.
///
/// ```
/// use adzeman::{Host, KeepTrail, Listen};
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// # let folder = tempfile::tempdir()?;
/// # let file = folder.path().join("canal.trail");
/// let trail = KeepTrail::new().most_bytes(1 << 20).write_to(&file);
/// let host = Host::builder("canal").keep_trail(trail).start(Listen::Off)?;
/// host.emit(adzeman::Event::of("record.save"), || Ok::<_, String>(()))?;
/// drop(host); // When the host ends, and when an event fails, it is written.
/// assert!(std::fs::read_to_string(&file)?.contains("record.save"));
/// # Ok(())
/// # }
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeepTrail {
    most_bytes: usize,
    file: Option<PathBuf>,
}

impl Default for KeepTrail {
    fn default() -> Self {
        Self { most_bytes: MOST_BYTES, file: None }
    }
}

impl KeepTrail {
    /// Also while nobody is attached, 8 MiB of it.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// How much of it is kept, in bytes.
    #[must_use]
    pub fn most_bytes(mut self, bytes: usize) -> Self {
        self.most_bytes = bytes;
        self
    }

    /// Writes it to this file, readable by its owner alone, when an event fails and when the host ends. What was there is replaced.
    #[must_use]
    pub fn write_to(mut self, file: impl AsRef<Path>) -> Self {
        self.file = Some(file.as_ref().to_owned());
        self
    }

    /// What the variable `ADZEMAN_TRAIL` says: `keep`, or the path of the file that it is written to. Nothing without it.
    #[must_use]
    pub fn from_env() -> Option<Self> {
        let said = std::env::var_os("ADZEMAN_TRAIL").filter(|said| !said.is_empty())?;
        Some(if said == "keep" { Self::new() } else { Self::new().write_to(PathBuf::from(said)) })
    }
}

/// The trail of a host.
pub(crate) struct TrailBook {
    state: Mutex<State>,
    /// How it is kept while nobody is attached, if it is.
    asked: OnceLock<KeepTrail>,
    is_always_kept: AtomicBool,
    last: AtomicU64,
    /// One writes at a time.
    writing: Mutex<()>,
}

struct State {
    ring: Ring,
    since: Instant,
    spent: Duration,
    spent_on: HashMap<String, Duration>,
}

impl Default for TrailBook {
    fn default() -> Self {
        let state = State {
            ring: Ring::new(MOST_BYTES),
            since: Instant::now(),
            spent: Duration::ZERO,
            spent_on: HashMap::new(),
        };
        Self {
            state: Mutex::new(state),
            asked: OnceLock::new(),
            is_always_kept: AtomicBool::new(false),
            last: AtomicU64::new(0),
            writing: Mutex::default(),
        }
    }
}

impl TrailBook {
    /// Keeps it also while nobody is attached.
    pub(crate) fn keep(&self, asked: KeepTrail) {
        lock(&self.state).ring.set_most_bytes(asked.most_bytes);
        self.is_always_kept.store(self.asked.set(asked).is_ok(), Ordering::SeqCst);
    }

    pub(crate) fn is_always_kept(&self) -> bool {
        self.is_always_kept.load(Ordering::Relaxed)
    }

    /// The number of an event that begins.
    pub(crate) fn next_number(&self) -> u64 {
        self.last.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Whether what an event of this kind carries may be copied now.
    pub(crate) fn may_copy(&self, kind: &str, now: Instant) -> bool {
        let state = lock(&self.state);
        let passed = now.saturating_duration_since(state.since);
        let on_kind = state.spent_on.get(kind).copied().unwrap_or_default();
        state.spent <= passed.mul_f64(SHARE) + FIRST || on_kind <= passed.mul_f64(KIND_SHARE) + KIND_FIRST
    }

    /// Takes an event that has ended, for whose copy so much time was taken.
    pub(crate) fn add(&self, happened: Happened<'_>, spent: Duration) {
        let mut state = lock(&self.state);
        let state = &mut *state;
        state.spent += spent;
        let has_room = state.spent_on.len() < MOST_KINDS;
        match state.spent_on.get_mut(happened.kind) {
            Some(on_kind) => *on_kind += spent,
            None if has_room => {
                state.spent_on.insert(happened.kind.to_owned(), spent);
            }
            None => {}
        }
        state.ring.add(happened);
    }

    pub(crate) fn look(&self) -> Trail {
        lock(&self.state).ring.look()
    }

    /// Nobody is attached any more.
    pub(crate) fn is_left(&self) {
        if !self.is_always_kept() {
            lock(&self.state).ring.clear();
        }
    }

    /// The file that it is to be written to, if there is one.
    pub(crate) fn file(&self) -> Option<&Path> {
        self.asked.get().and_then(|asked| asked.file.as_deref())
    }

    /// Writes it where it was asked to be, if it was: `why` is what for.
    pub(crate) fn write(&self, host: &str, why: &str) {
        let Some(file) = self.file() else { return };
        let _one = lock(&self.writing);
        let trail = self.look();
        if let Err(error) = replace(file, |out| write_lines(out, host, why, &trail)) {
            tracing::error!(file = %file.display(), %error, "the trail could not be written");
        }
    }
}

/// What a file of a trail begins with.
fn write_lines(out: &mut dyn Write, host: &str, why: &str, trail: &Trail) -> io::Result<()> {
    let (host, process, version) = (host, std::process::id(), env!("CARGO_PKG_VERSION"));
    let head = json!({
        "trail": FORMAT, "host": host, "processId": process, "version": version, "why": why, "dropped": trail.dropped,
    });
    writeln!(out, "{head}")?;
    for entry in trail.entries() {
        serde_json::to_writer(&mut *out, &entry)?;
        writeln!(out)?;
    }
    Ok(())
}

/// Puts a new file, which only its owner can read, in the place of this one.
fn replace(file: &Path, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> io::Result<()> {
    let name = file.file_name().ok_or(io::ErrorKind::InvalidInput)?.to_string_lossy().into_owned();
    let beside = file.with_file_name(format!(".{name}.{}", std::process::id()));
    // One of a process that was killed meanwhile, which had this number.
    let _ = std::fs::remove_file(&beside);
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let written = options.open(&beside).and_then(|opened| {
        let mut out = BufWriter::new(opened);
        write(&mut out)?;
        out.flush()?;
        std::fs::rename(&beside, file)
    });
    if written.is_err() {
        let _ = std::fs::remove_file(&beside);
    }
    written
}

#[cfg(test)]
mod tests {
    use adzeman_core::trail::{Carried, Outcome};

    use super::*;

    #[test]
    fn a_flood_takes_no_more_than_its_share_and_what_is_rare_is_still_copied() {
        let book = TrailBook::default();
        let begun = lock(&book.state).since;
        let event = |kind, spent| {
            let happened = Happened {
                number: book.next_number(),
                within: 0,
                at: Duration::ZERO,
                kind,
                contexts: &[],
                cost: Duration::ZERO,
                budget: None,
                outcome: Outcome::Done,
                why: None,
                runs: 1,
                said: Vec::new(),
                carried: Carried::default(),
            };
            book.add(happened, spent);
        };
        // One event each microsecond for a second, of which copying would take a fifth.
        let mut spent = Duration::ZERO;
        for at in 1..=1_000_000 {
            if book.may_copy("frame.update", begun + Duration::from_micros(at)) {
                event("frame.update", Duration::from_nanos(200));
                spent += Duration::from_nanos(200);
            }
        }
        let share = spent.as_secs_f64();
        assert!((0.015..0.03).contains(&share), "{share}");
        assert!(!book.may_copy("frame.update", begun + Duration::from_secs(1)));
        assert!(book.may_copy("record.before_save", begun + Duration::from_secs(1)));
    }
}
