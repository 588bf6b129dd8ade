//! The targets of the fuzzer, on their corpus and on bytes from a fixed seed. `ADZEMAN_FUZZ_RUNS` says how many.

use std::path::Path;
use std::sync::{Mutex, PoisonError};

use adzeman_fuzz::{forget_panics, panics, watch_panics};

/// Bytes of one input, at most.
const MOST_BYTES: usize = 600;

/// Numbers that are as good as random, the same each time (SplitMix64, by its public-domain description).
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        mixed ^ (mixed >> 31)
    }

    fn bytes(&mut self) -> Vec<u8> {
        let length = usize::try_from(self.next()).unwrap_or(0) % MOST_BYTES;
        (0..length).map(|_| self.next().to_le_bytes()[0]).collect()
    }
}

#[track_caller]
fn run(name: &str, usual_runs: u64, target: impl Fn(&[u8])) {
    // One after the other: a panic is that of the target at hand.
    static TURN: Mutex<()> = Mutex::new(());
    let _turn = TURN.lock().unwrap_or_else(PoisonError::into_inner);
    watch_panics();
    forget_panics();
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus").join(name);
    let mut files = 0;
    for entry in std::fs::read_dir(&corpus).unwrap() {
        target(&std::fs::read(entry.unwrap().path()).unwrap());
        files += 1;
    }
    assert!(files > 0, "{} is empty", corpus.display());
    let runs = std::env::var("ADZEMAN_FUZZ_RUNS").ok().and_then(|runs| runs.parse().ok()).unwrap_or(usual_runs);
    for number in 0..runs {
        let bytes = Numbers(number).bytes();
        target(&bytes);
        assert!(panics().is_empty(), "{name} panics on the bytes of seed {number}: {:#?}", panics());
    }
}

#[test]
fn codec() {
    run("codec", 5_000, adzeman_fuzz::codec);
}

#[test]
fn expressions() {
    run("expressions", 400, adzeman_fuzz::expressions);
}

#[test]
fn source_maps() {
    run("source_maps", 2_000, adzeman_fuzz::source_maps);
}

#[test]
fn announcements() {
    run("announcements", 400, adzeman_fuzz::announcements);
}

#[test]
fn session() {
    run("session", 150, adzeman_fuzz::session);
}
