//! The host's trail: when it is kept, how much of the time it takes, and where it is written.

use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::Duration;

use adzeman_core::figures::Sums;
use adzeman_core::trail::{FORMAT, Happened, Ring, Trail};
use serde_json::json;

use super::lock;

/// Bytes that are kept where nothing else is said.
const MOST_BYTES: usize = 8 << 20;
/// The share of the time that copies of payloads may take together, in any case, and for each kind of event besides: one part
/// of so many.
const SHARE: u32 = 50;
const KIND_SHARE: u32 = 500;
/// They may take this long before shares are looked at.
const FIRST: Duration = Duration::from_millis(5);
const KIND_FIRST: Duration = Duration::from_millis(1);
/// Kinds of events that have a share of their own.
const MOST_KINDS: usize = 100;
/// Each so manieth copy is measured.
const MEASURED: u64 = 8;

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
    is_never_kept: AtomicBool,
    /// Whether copies have taken more than their share altogether.
    is_over_share: AtomicBool,
    last: AtomicU64,
    /// One writes at a time.
    writing: Mutex<()>,
}

struct State {
    ring: Ring,
    /// What copies have taken altogether, and for each kind of event, in the order in which kinds were met first.
    spent: Duration,
    spent_on: Vec<(Box<str>, Duration)>,
    /// When the last event that was measured ended, by the host's clock.
    now: Duration,
    /// Of all events since someone is attached.
    sums: Sums,
}

impl Default for TrailBook {
    fn default() -> Self {
        let state = State {
            ring: Ring::new(MOST_BYTES),
            spent: Duration::ZERO,
            spent_on: Vec::new(),
            now: Duration::ZERO,
            sums: Sums::default(),
        };
        Self {
            state: Mutex::new(state),
            asked: OnceLock::new(),
            is_always_kept: AtomicBool::new(false),
            is_never_kept: AtomicBool::new(false),
            is_over_share: AtomicBool::new(false),
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

    /// Keeps none, whoever is attached.
    pub(crate) fn never_keep(&self) {
        self.is_never_kept.store(true, Ordering::SeqCst);
    }

    pub(crate) fn is_never_kept(&self) -> bool {
        self.is_never_kept.load(Ordering::Relaxed)
    }

    pub(crate) fn is_always_kept(&self) -> bool {
        self.is_always_kept.load(Ordering::Relaxed)
    }

    /// The number of an event that begins.
    pub(crate) fn next_number(&self) -> u64 {
        self.last.fetch_add(1, Ordering::Relaxed) + 1
    }

    /// Whether what an event of this kind carries may be copied now.
    pub(crate) fn may_copy(&self, kind: &str) -> bool {
        if !self.is_over_share.load(Ordering::Relaxed) {
            return true;
        }
        let state = lock(&self.state);
        let on_kind =
            state.spent_on.iter().find(|(held, _)| **held == *kind).map_or(Duration::ZERO, |(_, spent)| *spent);
        on_kind <= state.now / KIND_SHARE + KIND_FIRST
    }

    /// Whether it is to be measured how long the copy of the event of this number takes.
    pub(crate) fn is_measured(number: u64) -> bool {
        number.is_multiple_of(MEASURED)
    }

    /// A copy of an event of this kind was measured: it stands for those that were not.
    pub(crate) fn has_copied(&self, kind: &str, took: Duration) {
        let took = took * u32::try_from(MEASURED).unwrap_or(u32::MAX);
        let mut state = lock(&self.state);
        state.spent += took;
        let has_room = state.spent_on.len() < MOST_KINDS;
        match state.spent_on.iter_mut().find(|(held, _)| **held == *kind) {
            Some((_, spent)) => *spent += took,
            None if has_room => state.spent_on.push((kind.into(), took)),
            None => {}
        }
        self.look_at_share(&state);
    }

    fn look_at_share(&self, state: &State) {
        let is_over = state.spent > FIRST && state.spent > state.now / SHARE + FIRST;
        self.is_over_share.store(is_over, Ordering::Relaxed);
    }

    /// Takes an event that has ended, with what was said meanwhile; the buffer that its copy was made in is left.
    pub(crate) fn add(&self, happened: &mut Happened<'_>) {
        let mut state = lock(&self.state);
        if Self::is_measured(happened.number) {
            state.now = happened.at + happened.cost;
            self.look_at_share(&state);
        }
        let Happened { kind, number, contexts, cost, budget, within, .. } = *happened;
        state.sums.add(kind, number, (cost, budget), contexts, within == 0);
        state.ring.add(happened);
    }

    /// Someone attaches, and nobody was there before.
    pub(crate) fn sum_anew(&self) {
        lock(&self.state).sums = Sums::default();
    }

    /// A context is closed.
    pub(crate) fn context_gone(&self, id: i64) {
        lock(&self.state).sums.forget_context(id);
    }

    /// What events and contexts took since someone is attached.
    pub(crate) fn sums(&self) -> Sums {
        lock(&self.state).sums.clone()
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

/// A line that says whose trail it is, and one for each event.
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
        let event = |kind, at| {
            let mut happened = Happened {
                number: book.next_number(),
                within: 0,
                at,
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
            book.add(&mut happened);
        };
        // One event each microsecond for a second, of which copying would take a fifth.
        let mut spent = Duration::ZERO;
        for at in 1..=1_000_000 {
            let may = book.may_copy("frame.update");
            if may && TrailBook::is_measured(at) {
                book.has_copied("frame.update", Duration::from_nanos(200));
            }
            spent += Duration::from_nanos(200) * u32::from(may);
            event("frame.update", Duration::from_micros(at));
        }
        let share = spent.as_secs_f64();
        assert!((0.015..0.03).contains(&share), "{share}");
        // A copy that took long, after which nothing is copied for a while but what is rare.
        book.has_copied("frame.update", Duration::from_millis(10));
        event("frame.update", Duration::from_secs(1));
        assert!(!book.may_copy("frame.update"));
        assert!(book.may_copy("record.before_save"));
    }
}
