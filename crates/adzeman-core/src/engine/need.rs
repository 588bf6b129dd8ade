//! What an engine is asked to watch.

use std::sync::Arc;

use crate::breakpoint::{TrackId, WantedLines};
use crate::source::LineSet;
use crate::stepping::Step;

/// How closely an engine must watch its scripts.
#[derive(Debug, Clone, Default)]
pub struct Need {
    /// Report every line, whatever the breakpoints say.
    pub every_line: bool,
    /// Where every line is wanted only for this step, over or out of a call: those of what the call calls need not be reported, nor,
    /// for a step out, its own.
    pub lines_of: Option<Step>,
    /// Where every line is wanted only to see whether these watched values are what they were: lines on which they are need not be
    /// reported, if the engine tells of the [last of them](super::Engine::passed).
    pub changes_of: Vec<TrackId>,
    /// A step may go into any stack of the context, so none may be left unwatched.
    pub every_stack: bool,
    /// Keep what functions return that the step under way comes out of.
    pub returns_of: Option<Step>,
    /// Report errors where they are raised.
    pub raises: bool,
    /// Keep when each function was called.
    pub call_times: bool,
    /// Report the sources of functions that are called, as breakpoints wait for some that are not loaded.
    pub new_sources: bool,
    /// Otherwise report these lines, if there are any.
    pub lines: Arc<WantedLines>,
}

impl Need {
    /// The lines on which some source has a breakpoint.
    #[must_use]
    pub fn mask(&self) -> &LineSet {
        self.lines.of_any_source()
    }

    /// Whether lines must be reported, all or some.
    #[must_use]
    pub fn any_line(&self) -> bool {
        self.every_line || !self.mask().is_empty()
    }

    /// Whether nothing needs to be watched, so that no hook is needed at all.
    #[must_use]
    pub fn is_nothing(&self) -> bool {
        !self.any_line() && !self.raises && !self.call_times && !self.new_sources
    }
}
