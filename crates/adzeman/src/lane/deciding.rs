//! What a context decides by, and what it remembers of the lines that ran.

use std::collections::{BTreeSet, VecDeque};
use std::time::{Duration, Instant};

use adzeman_core::decide::{Decider, Reason};
use adzeman_core::source::{Line, SourceLine, Sources};

/// Lines that are remembered to have run.
const MOST_LINES_NOTED: usize = 1024;

/// Lines of one event that are told of to see which run, and the time that may take: the rest of it runs at its usual speed.
const MOST_LINES_TRACED: usize = 2000;
const TRACED_FOR: Duration = Duration::from_millis(2);
/// Lines between two looks at the clock.
const TRACED_BETWEEN: usize = 16;
/// How long an event is waited for that runs anything: who looks on asks again before.
const TRACE_WANTED_FOR: Duration = Duration::from_secs(2);

/// The lines of an event, to see which run.
#[derive(Debug, Clone, Default)]
pub(crate) struct Trace {
    /// The event.
    pub(crate) event: String,
    /// The lines, in order, each as often as it ran.
    pub(crate) lines: Vec<SourceLine>,
    /// Whether there were more.
    pub(crate) is_cut: bool,
}

/// Which events are traced.
#[derive(Default)]
pub(super) struct Tracing {
    /// Until when the next event that runs anything here is.
    wanted_until: Option<Instant>,
    /// The one that is, since when, and how many events were being handled when it began.
    under_way: Option<(Trace, Instant, usize)>,
    /// The last one that was.
    last: Option<Trace>,
}

impl Tracing {
    /// Has the next event told of; answers the last one that was.
    pub(super) fn ask(&mut self) -> Option<Trace> {
        self.wanted_until = Some(Instant::now() + TRACE_WANTED_FOR);
        self.last.take()
    }

    pub(super) fn is_wanted(&self) -> bool {
        self.wanted_until.is_some()
    }
}

/// What is decided by, and what is remembered of it.
pub(super) struct Deciding {
    pub(super) decider: Decider,
    /// Lines that were seen to run since the outermost event began, the last ones, and which event that is.
    pub(super) ran: VecDeque<SourceLine>,
    ran_in: u64,
    pub(super) tracing: Tracing,
}

/// What came of a decision.
pub(crate) struct Decided {
    pub(super) reason: Option<Reason>,
    /// Whether the engine watches for what is needed from here on.
    pub(super) is_watched_for: bool,
}

impl Deciding {
    /// For the context with this number.
    pub(super) fn of(context: i64) -> Self {
        Self { decider: Decider::of(context), ran: VecDeque::new(), ran_in: 0, tracing: Tracing::default() }
    }

    /// Nobody looks on any more.
    pub(super) fn forget_traces(&mut self) {
        self.tracing = Tracing::default();
        self.decider.trace(false);
    }

    /// An event begins: its lines are told of, if that is wanted. `depth` is how many are being handled. Whether it is wanted no
    /// longer.
    pub(super) fn begin_trace(&mut self, event: impl FnOnce() -> String, depth: usize) -> bool {
        let Some(until) = self.tracing.wanted_until.filter(|_| self.tracing.under_way.is_none()) else { return false };
        let is_over = Instant::now() > until;
        if is_over {
            self.tracing.wanted_until = None;
        } else {
            let trace = Trace { event: event(), ..Trace::default() };
            self.tracing.under_way = Some((trace, Instant::now(), depth));
            self.decider.trace(true);
        }
        is_over
    }

    /// An event ends. One that ran nothing here tells nothing: the next one is traced.
    pub(super) fn end_trace(&mut self, depth: usize) {
        let Some((trace, ..)) = self.tracing.under_way.take_if(|(.., begun)| *begun >= depth) else { return };
        self.decider.trace(false);
        if !trace.lines.is_empty() {
            self.tracing.last = Some(trace);
            self.tracing.wanted_until = None;
        }
    }

    fn trace(&mut self, place: SourceLine) {
        let Some((trace, since, _)) = &mut self.tracing.under_way else { return };
        if trace.is_cut {
            return;
        }
        trace.lines.push(place);
        let is_late = || trace.lines.len().is_multiple_of(TRACED_BETWEEN) && since.elapsed() > TRACED_FOR;
        if trace.lines.len() >= MOST_LINES_TRACED || is_late() {
            trace.is_cut = true;
            self.decider.trace(false);
        }
    }

    /// Notes a line that runs.
    pub(super) fn note(&mut self, place: Option<SourceLine>, outermost: u64) {
        place.into_iter().for_each(|place| self.trace(place));
        let ran = &mut self.ran;
        if std::mem::replace(&mut self.ran_in, outermost) != outermost {
            ran.clear();
        }
        if let Some(place) = place.filter(|place| ran.back() != Some(place)) {
            if ran.len() >= MOST_LINES_NOTED {
                ran.pop_front();
            }
            ran.push_back(place);
        }
    }

    /// The line that was noted last does not run after all.
    pub(super) fn pass_over(&mut self) {
        self.ran.pop_back();
    }

    /// The lines that were seen to run of the function that holds a line, in order.
    pub(super) fn lines_ran(&self, sources: &Sources, place: SourceLine) -> Vec<Line> {
        let function = sources.get(place.source).and_then(|source| source.function_at(place.line));
        let is_inside = |line: &Line| function.is_none_or(|function| function.first <= *line && *line <= function.last);
        let own = self.ran.iter().filter(|held| held.source == place.source && is_inside(&held.line));
        let shown = own.map(|held| sources.shown(*held));
        let shown_in = sources.shown(place).source;
        let lines: BTreeSet<_> = shown.filter(|held| held.source == shown_in).map(|held| held.line).collect();
        lines.into_iter().collect()
    }
}
