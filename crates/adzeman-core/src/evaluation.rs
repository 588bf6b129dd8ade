//! What an evaluation may take of the host's time and memory, and cancelling it.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::time::Duration;

/// Time for what a person asks at a stop.
pub const ASKED_TIME: Duration = Duration::from_secs(5);
/// Instructions for that: more than any engine does in that time.
pub const ASKED_INSTRUCTIONS: u64 = 2_000_000_000;
/// Time for what runs beside the script: conditions, log messages, statements of breakpoints, monitors, and what is asked
/// while the host runs.
pub const ASIDE_TIME: Duration = Duration::from_millis(200);
/// Instructions for that: some tens of milliseconds.
pub const ASIDE_INSTRUCTIONS: u64 = 5_000_000;
/// Bytes that an evaluation may make the script state grow by.
pub const MEMORY_BYTES: usize = 256 * 1024 * 1024;

/// Has an evaluation give up at once, from any thread. Copies stand for the same evaluation.
#[derive(Debug, Clone, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Has it give up.
    pub fn cancel(&self) {
        self.0.store(true, SeqCst);
    }

    /// Whether it is to give up.
    #[must_use]
    pub fn is_cancelled(&self) -> bool {
        self.0.load(SeqCst)
    }
}

/// What an evaluation may take before it is cut off. Whatever is used up first ends it.
#[derive(Debug, Clone)]
pub struct Allowance {
    /// Time.
    pub time: Duration,
    /// Instructions of the engine.
    pub instructions: u64,
    /// Bytes beyond what the script state held before.
    pub memory_bytes: usize,
    /// A way to end it before.
    pub cancel: Cancel,
}

/// How much evaluations of a host may take: what the client in control can change.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Time for what a person asks at a stop.
    pub asked: Duration,
    /// Time for what runs beside the script.
    pub aside: Duration,
    /// Bytes beyond what the script state held before.
    pub memory_bytes: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { asked: ASKED_TIME, aside: ASIDE_TIME, memory_bytes: MEMORY_BYTES }
    }
}

impl Limits {
    /// For what a person asks at a stop.
    #[must_use]
    pub fn for_asked(&self, cancel: Cancel) -> Allowance {
        let instructions = scaled(ASKED_INSTRUCTIONS, self.asked, ASKED_TIME);
        Allowance { time: self.asked, instructions, memory_bytes: self.memory_bytes, cancel }
    }

    /// For what runs beside the script.
    #[must_use]
    pub fn for_aside(&self, cancel: Cancel) -> Allowance {
        let instructions = scaled(ASIDE_INSTRUCTIONS, self.aside, ASIDE_TIME);
        Allowance { time: self.aside, instructions, memory_bytes: self.memory_bytes, cancel }
    }
}

/// Who gives more time means to give more instructions with it; less time cuts off by itself.
fn scaled(instructions: u64, time: Duration, usual: Duration) -> u64 {
    let times = time.as_nanos() / usual.as_nanos();
    instructions.saturating_mul(u64::try_from(times.saturating_add(1)).unwrap_or(u64::MAX)).max(instructions)
}

/// An evaluation that has begun and is not done, as other threads see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnderWay {
    /// Tells it from others of the same context.
    pub number: u64,
    /// The time it may take; nothing for one without a limit.
    pub time: Option<Duration>,
    /// Whether it was told to give up.
    pub is_cancelled: bool,
    /// The function called last that is not written in the script's language, as far as that is known.
    pub native: Option<String>,
}

/// What the thread of a context is in, where the script itself runs and nothing is evaluated, as other threads see it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Inside {
    /// A function that is not written in the script's language, by name as far as it has one.
    Native(Option<String>),
    /// A finalizer of the script, which the engine does not interrupt.
    Finalizer,
    /// The script, which is interrupted at its next instruction.
    Script,
    /// Nothing of the script: the host does something else.
    Host,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_time_allows_more_instructions_and_none_overflows() {
        let usual = Limits::default();
        assert!(usual.for_aside(Cancel::default()).instructions >= ASIDE_INSTRUCTIONS);
        let patient = Limits { aside: ASIDE_TIME * 10, ..usual };
        assert!(patient.for_aside(Cancel::default()).instructions >= 10 * ASIDE_INSTRUCTIONS);
        let endless = Limits { asked: Duration::MAX, aside: Duration::MAX, memory_bytes: usize::MAX };
        assert_eq!(endless.for_asked(Cancel::default()).instructions, u64::MAX);
        assert_eq!(
            Limits { aside: Duration::ZERO, ..usual }.for_aside(Cancel::default()).instructions,
            ASIDE_INSTRUCTIONS
        );
    }

    #[test]
    fn copies_of_a_cancel_are_one() {
        let (one, other) = (Cancel::default(), Cancel::default());
        let copy = one.clone();
        copy.cancel();
        assert!(one.is_cancelled() && !other.is_cancelled());
    }
}
