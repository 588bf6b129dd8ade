//! What the system says of this process.

use std::time::Duration;

use adzeman_core::figures::{Course, FigureNow};

/// How often this process was copied by `fork` to be what it is, as far as an engine counts that. A copy has none of the threads that a host
/// began: nobody can reach it there.
#[inline]
pub(crate) fn forks() -> u32 {
    #[cfg(feature = "lua")]
    return adzeman_lua::forks();
    #[cfg(not(feature = "lua"))]
    0
}

/// What is followed over time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Processor,
    Memory,
}

impl Kind {
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Processor => "process.processor",
            Self::Memory => "process.memory",
        }
    }

    pub(crate) fn unit(self) -> &'static str {
        match self {
            Self::Processor => "%",
            Self::Memory => "B",
        }
    }
}

/// What was counted up to a moment.
#[derive(Debug, Clone)]
pub(crate) struct Counted {
    processor: Option<Duration>,
    pub(crate) memory_bytes: Option<f64>,
    read_bytes: Option<f64>,
    written_bytes: Option<f64>,
}

impl Counted {
    /// The share of one processor since then, in percent: above 100 where several threads work.
    pub(crate) fn processor_since(&self, before: &Self, passed: Duration) -> Option<f64> {
        let took = self.processor?.saturating_sub(before.processor?);
        (passed > Duration::ZERO).then(|| took.as_secs_f64() / passed.as_secs_f64() * 100.0)
    }
}

const NOT_YET: &str = "it is known about a second after someone attaches";
const NO_NETWORK: &str = "the system does not tell for one process";

/// As it is now; `course` is what was followed.
pub(crate) fn now<'c>(course: impl Fn(Kind) -> Option<&'c Course>) -> Vec<FigureNow> {
    let followed = |kind: Kind| match course(kind) {
        Some(course) => course.now(kind.name(), "", kind.unit(), None),
        None => FigureNow::not_known(kind.name(), kind.unit(), NOT_YET),
    };
    let counted = count();
    let once = |name: &str, value: fn(&Counted) -> Option<f64>| {
        let mut figure = FigureNow::not_known(name, "B", "the system does not tell");
        match &counted {
            Ok(counted) => figure.value = value(counted),
            Err(why) => figure.why = Some(why.clone()),
        }
        if figure.value.is_some() {
            figure.why = None;
        }
        figure
    };
    vec![
        followed(Kind::Processor),
        followed(Kind::Memory),
        once("process.read", |counted| counted.read_bytes),
        once("process.written", |counted| counted.written_bytes),
        FigureNow::not_known("process.network", "B", NO_NETWORK),
    ]
}

/// Asks the system.
#[cfg(target_os = "linux")]
#[expect(clippy::cast_precision_loss, reason = "nothing here has 2^53 bytes")]
pub(crate) fn count() -> Result<Counted, String> {
    use rustix::time::{ClockId, clock_gettime};

    let process = procfs::process::Process::myself().map_err(|why| format!("the system does not tell: {why}"))?;
    // In kilobytes, whatever the size of a page is.
    let memory = process.status().ok().and_then(|status| status.vmrss).map(|kilobytes| kilobytes as f64 * 1024.0);
    let io = process.io().ok();
    Ok(Counted {
        processor: clock_gettime(ClockId::ProcessCPUTime).try_into().ok(),
        memory_bytes: memory,
        read_bytes: io.as_ref().map(|io| io.read_bytes as f64),
        written_bytes: io.map(|io| io.write_bytes as f64),
    })
}

/// Asks the system.
#[cfg(not(target_os = "linux"))]
pub(crate) fn count() -> Result<Counted, String> {
    Err("what this system tells of a process is not known here".to_owned())
}
