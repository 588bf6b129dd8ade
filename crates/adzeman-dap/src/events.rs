//! Bodies of events (DAP, "Events").

use crate::types::{Breakpoint, Source, dap_types};
use serde::{Deserialize, Serialize};

impl crate::types::Absent for Breakpoint {
    fn is_absent(&self) -> bool {
        false
    }
}

dap_types! {
    /// `stopped`.
    StoppedBody {
        /// `breakpoint`, `function breakpoint`, `data breakpoint`, `exception`, `step`, `goto` (the line or event to run to
        /// is reached), `pause`, or Adzeman's `event`, `time` and `condition failed`.
        reason: String,
        /// A sentence for people.
        description: Option<String>,
        /// More of it.
        text: Option<String>,
        /// Which context.
        thread_id: i64,
        /// Whether the other contexts are held too.
        all_threads_stopped: bool,
        /// The breakpoints that were hit.
        hit_breakpoint_ids: Vec<u64>,
        /// Adzeman's own: the values returned by the function that the step came out of.
        returned: Option<Vec<String>>,
        /// Adzeman's own: lines of the innermost function that were seen to run since its event began, counted as `initialize`
        /// said. Steps see all lines, breakpoints only their own.
        lines_ran: Option<Vec<i64>>,
    }

    /// `continued`.
    ContinuedBody {
        /// Which context.
        thread_id: i64,
        /// Whether all go on.
        all_threads_continued: bool,
    }

    /// `thread`.
    ThreadBody {
        /// `started` or `exited`.
        reason: String,
        /// Which context.
        thread_id: i64,
    }

    /// `output`.
    OutputBody {
        /// `stdout` for what scripts print, `stderr` for errors, `console` for what breakpoints say, `important` for trouble
        /// with them.
        category: String,
        /// The text, line break included.
        output: String,
        /// What printed it.
        source: Option<Source>,
        /// Line, counted as `initialize` said.
        line: Option<i64>,
        /// Adzeman's own: whether a breakpoint asks for the terminal's bell.
        bell: Option<bool>,
    }

    /// `progressStart`.
    ProgressStartBody {
        /// Tells it from others.
        progress_id: String,
        /// What goes on.
        title: String,
        /// The request that it is done for.
        request_id: Option<i64>,
        /// Whether that request can be cancelled.
        cancellable: Option<bool>,
    }

    /// `progressUpdate`, and `progressEnd`.
    ProgressBody {
        /// Which one.
        progress_id: String,
        /// How far it has come.
        message: Option<String>,
    }

    /// `breakpoint`.
    BreakpointBody {
        /// `changed`.
        reason: String,
        /// The breakpoint as it is now.
        breakpoint: Breakpoint,
    }

    /// `loadedSource`.
    LoadedSourceBody {
        /// `new`.
        reason: String,
        /// The source.
        source: Source,
    }
}
