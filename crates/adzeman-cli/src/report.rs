//! What commands answer, as data: rendered for people, or printed as JSON.

use adzeman_dap::extra::{ChangeInfo, ReloadBody, ShapeLine, TableRow, UndoneInfo};
use serde::Serialize;

use crate::project::Stale;
use adzeman::core::figures::{FigureNow, Jump, KindSum, Point};
use adzeman::core::heap::{Census, Growth, Holders};
use adzeman::core::plan::{Outside, Overlap, Thing};
use adzeman::core::profile::FunctionTime;
use adzeman::core::trail::{Count, Entry};

/// How much of a trail there is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub(crate) struct Kept {
    pub(crate) events: usize,
    /// How many have gone for them.
    pub(crate) dropped: u64,
}

/// What a context takes.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct ContextRow {
    pub(crate) context: String,
    /// Of the time.
    pub(crate) share: f64,
    pub(crate) memory: Option<FigureNow>,
}

/// The state of a change that is given back.
pub(crate) const FOR_NOW: &str = "for now";

/// A named value.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub(crate) struct Row {
    pub(crate) name: String,
    pub(crate) value: String,
    #[serde(rename = "type")]
    pub(crate) type_name: String,
    /// A later variable of the same name hides it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) shadowed: bool,
    /// What it was when it was shown at an earlier stop, if it is another value now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) before: Option<String>,
    /// Its value is only known by running code of the host: looked at by its expression.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) computed_by: Option<String>,
    /// What the host says of it.
    #[serde(flatten)]
    pub(crate) about: AboutRow,
}

/// What the host says of a part of its objects.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub(crate) struct AboutRow {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) doc: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) unit: Option<String>,
    /// The subject and the context that it is.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) belongs_to: Vec<String>,
    /// It cannot be changed.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) read_only: bool,
}

/// How many of a list there are.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize)]
pub(crate) struct Extent {
    /// How many came before the first shown.
    pub(crate) start: usize,
    pub(crate) total: usize,
    /// There are more than `total`, too many to count.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) at_least: bool,
}

/// A row of a tree.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct TreeRow {
    pub(crate) depth: usize,
    /// Whether it is a leaf, or shown as one.
    pub(crate) is_leaf: bool,
    #[serde(flatten)]
    pub(crate) row: Row,
}

/// A watch, and what it is at this stop.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub(crate) struct WatchRow {
    pub(crate) number: usize,
    /// As it would be typed.
    pub(crate) what: String,
    pub(crate) value: Option<String>,
    #[serde(rename = "type")]
    pub(crate) type_name: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) before: Option<String>,
    /// Why there is no value.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) note: Option<String>,
    /// It is nowhere to be seen from here; otherwise, it could not be evaluated.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) out_of_scope: bool,
    pub(crate) kept: bool,
}

/// A line found in a source.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct FoundLine {
    pub(crate) path: String,
    pub(crate) line: usize,
    pub(crate) text: String,
}

/// A sample of a monitor.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct SampleRow {
    pub(crate) number: usize,
    /// As it would be typed.
    pub(crate) what: String,
    pub(crate) success: bool,
    pub(crate) value: String,
    #[serde(rename = "type")]
    pub(crate) type_name: Option<String>,
    /// Of the host's clock.
    pub(crate) seconds: f64,
    /// The event that was being handled, with its subject.
    pub(crate) during: Option<String>,
    pub(crate) count: u64,
    pub(crate) cost_microseconds: f64,
    /// Of the time, so far.
    pub(crate) share: f64,
    pub(crate) slowed: bool,
}

/// A frame of the stack.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct FrameRow {
    pub(crate) number: usize,
    pub(crate) function: String,
    pub(crate) path: Option<String>,
    pub(crate) line: Option<i64>,
    /// `script`, `native` or `boundary`.
    #[serde(rename = "is")]
    pub(crate) kind: &'static str,
    pub(crate) selected: bool,
    /// Parameters with what they hold now.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) arguments: Vec<String>,
    /// How long ago it was called, once half of a time budget is used up; and whether it was longer ago than that.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) running_milliseconds: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) running_longer: Option<bool>,
}

/// Some lines of a source.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct Listing {
    pub(crate) path: String,
    /// Number of the first line shown.
    pub(crate) first: i64,
    pub(crate) lines: Vec<String>,
    pub(crate) current: Option<i64>,
    /// Lines that were seen to run on the way to the stop.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) ran: Vec<i64>,
}

/// A breakpoint as it is.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct BreakRow {
    pub(crate) number: usize,
    /// As it would be typed.
    pub(crate) what: String,
    pub(crate) bound: bool,
    pub(crate) places: Vec<String>,
    pub(crate) hits: u64,
    pub(crate) note: Option<String>,
    /// Where it was hit last, and during what.
    pub(crate) last: Option<String>,
    pub(crate) enabled: bool,
    /// Whether it was hit as often as it ever will be.
    pub(crate) spent: bool,
    /// Whether the project file holds it.
    pub(crate) kept: bool,
}

/// A context held still.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct Stop {
    pub(crate) context: String,
    /// The host, when no line of a script is run.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) at_boundary: Option<String>,
    pub(crate) reason: String,
    /// Numbers of the breakpoints that were hit.
    pub(crate) breakpoints: Vec<usize>,
    /// More about the reason.
    pub(crate) text: Option<String>,
    /// What the function returned that a step came out of.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) returned: Option<Vec<String>>,
    pub(crate) function: String,
    /// The event being handled, its subject, and the fields of its payload.
    pub(crate) event: Vec<Row>,
    pub(crate) listing: Option<Listing>,
    pub(crate) locals: Vec<Row>,
    pub(crate) watches: Vec<WatchRow>,
}

/// An event kind of the host.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct EventRow {
    pub(crate) name: String,
    pub(crate) doc: String,
    pub(crate) fields: Vec<String>,
}

/// A host that can be attached to.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct HostRow {
    pub(crate) name: String,
    pub(crate) process_id: u32,
    pub(crate) address: String,
    /// Nothing when it does not answer.
    pub(crate) up_seconds: Option<f64>,
    /// Each with what it is doing.
    pub(crate) contexts: Vec<(String, String)>,
    /// Each with its role.
    pub(crate) clients: Vec<(String, String)>,
}

/// What a command answers.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub(crate) enum Report {
    Nothing,
    Hosts {
        hosts: Vec<HostRow>,
    },
    /// The host that was started has ended.
    Ended {
        code: u8,
    },
    /// The role of this client.
    Role {
        controls: bool,
        controlled_by: Option<String>,
    },
    /// How much evaluations may take.
    Limits {
        asked_seconds: f64,
        conditions_seconds: f64,
        memory_bytes: u64,
    },
    Attached {
        /// How the host was found.
        by: String,
        /// Who controls it, if that is not this client.
        #[serde(skip_serializing_if = "Option::is_none")]
        controlled_by: Option<String>,
        host: String,
        process_id: u32,
        /// The version of the host's library, where it is not this command's.
        #[serde(skip_serializing_if = "Option::is_none")]
        other_version: Option<String>,
        contexts: Vec<String>,
        events: Vec<String>,
        objects: Vec<String>,
        /// Breakpoints set from the project file, and the file.
        kept: usize,
        project: Option<String>,
        armed: bool,
    },
    Breakpoint {
        breakpoint: BreakRow,
    },
    Breakpoints {
        breakpoints: Vec<BreakRow>,
        armed: bool,
    },
    Armed {
        armed: bool,
        count: usize,
    },
    Kept {
        count: usize,
        file: String,
    },
    Library {
        paths: Vec<String>,
        /// What is the project's own; all others are passed over then.
        own: Vec<String>,
    },
    /// A call that a person asked for is done.
    Ran {
        call: String,
        success: bool,
        result: String,
        #[serde(rename = "type")]
        type_name: Option<String>,
        /// Where the stop is from which it was asked for, if there was one.
        #[serde(skip_serializing_if = "Option::is_none")]
        at: Option<String>,
    },
    /// Another context has stopped, and the one that was to make a step has not arrived.
    StillUnderWay {
        context: String,
    },
    Removed {
        count: usize,
    },
    Stop {
        stop: Box<Stop>,
    },
    HandlerLeft {
        host: String,
        context: String,
        event: Option<String>,
        subject: Option<String>,
        #[serde(skip_serializing_if = "Option::is_none")]
        returned: Option<Vec<String>>,
    },
    Stack {
        frames: Vec<FrameRow>,
        #[serde(flatten)]
        extent: Extent,
    },
    Scope {
        title: String,
        rows: Vec<Row>,
        #[serde(flatten)]
        extent: Extent,
    },
    Value {
        expression: String,
        value: String,
        #[serde(rename = "type")]
        type_name: String,
        /// What it was when it was shown at an earlier stop, if it is another value now.
        #[serde(skip_serializing_if = "Option::is_none")]
        before: Option<String>,
        inside: Vec<Row>,
        #[serde(flatten)]
        extent: Extent,
    },
    /// Records as rows and columns.
    Table {
        expression: String,
        columns: Vec<String>,
        rows: Vec<TableRow>,
        #[serde(flatten)]
        extent: Extent,
    },
    Shape {
        expression: String,
        rows: Vec<ShapeLine>,
    },
    /// A whole text, or its bytes.
    Text {
        expression: String,
        text: String,
        /// How many bytes there are, when not all are shown.
        bytes_in_all: Option<usize>,
    },
    /// The objects of the host.
    Tree {
        rows: Vec<TreeRow>,
    },
    Watches {
        watches: Vec<WatchRow>,
    },
    Watched {
        watch: WatchRow,
    },
    WatchesRemoved {
        count: usize,
    },
    WatchesKept {
        count: usize,
        file: String,
    },
    /// The view of monitors was left, or all samples were taken.
    Monitored {
        samples: Vec<SampleRow>,
        /// The stop that ended it.
        stop: Option<Box<Stop>>,
    },
    MonitorsRemoved {
        count: usize,
    },
    Found {
        text: String,
        paths: Vec<String>,
        lines: Vec<FoundLine>,
        more: bool,
    },
    Changed {
        target: String,
        value: String,
        /// When, for a context that runs on.
        #[serde(skip_serializing_if = "Option::is_none")]
        made: Option<String>,
        /// Whether it is given back.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        for_now: bool,
    },
    /// What a context runs: the lines of one event, the last one marked; nothing where none has run anything.
    Running {
        context: String,
        event: Option<String>,
        listing: Option<Listing>,
        /// Whether more ran than was told of.
        cut: bool,
    },
    /// Events of the trail.
    Trail {
        entries: Vec<Entry>,
        /// How many are meant.
        total: usize,
        kept: Kept,
    },
    /// One of them, with those before and behind it.
    TrailEntry {
        entry: Box<Entry>,
        around: Vec<Entry>,
    },
    TrailCounts {
        counts: Vec<Count>,
    },
    TrailWritten {
        file: String,
        events: usize,
    },
    /// One is to be delivered once more.
    TrailAgain {
        number: u64,
    },
    /// How many values a context holds.
    Census {
        number: u64,
        context: String,
        census: Census,
        /// How many groups there are in all.
        groups: usize,
        /// The earlier one, and what is more or less.
        #[serde(skip_serializing_if = "Option::is_none")]
        since: Option<u64>,
        #[serde(skip_serializing_if = "Option::is_none")]
        grown: Option<Vec<Growth>>,
        /// Whether the earlier one was counted while scripts ran.
        #[serde(skip_serializing_if = "Option::is_none")]
        since_running: Option<bool>,
        milliseconds: f64,
        /// In how many parts it was counted while scripts ran; 0 where they stood still.
        parts: u64,
    },
    /// What holds a value.
    Holders {
        expression: String,
        #[serde(flatten)]
        holders: Holders,
        /// In a sentence.
        description: String,
    },
    HoldersWritten {
        file: String,
        paths: usize,
    },
    /// Where time went.
    Profile {
        functions: Vec<FunctionTime>,
        /// In all functions.
        samples: u64,
        /// How often was looked at each thread.
        ticks: u64,
        /// While other events were handled than the one meant.
        passed_over: u64,
        milliseconds: f64,
        every_milliseconds: f64,
        /// What taking them cost, of the time.
        share: f64,
        slowed: bool,
        /// The same as lines of text: frames from the outermost on, and samples.
        folded: Vec<String>,
    },
    ProfileWritten {
        file: String,
        samples: u64,
        stacks: usize,
    },
    /// Numbers of the host since someone is attached.
    Figures {
        seconds: f64,
        followed_seconds: f64,
        events: Vec<KindSum>,
        /// Whether events are counted.
        counts_events: bool,
        contexts: Vec<ContextRow>,
        own: Vec<FigureNow>,
        process: Vec<FigureNow>,
    },
    /// The course of one.
    Figure {
        figure: FigureNow,
        points: Vec<Point>,
        jumps: Vec<Jump>,
    },
    FiguresDrawn {
        file: String,
        figures: usize,
    },
    /// Where host objects lie.
    Plan {
        things: Vec<Thing>,
        overlaps: Vec<Overlap>,
        /// How many pairs overlap.
        overlapping: usize,
        outside: Vec<Outside>,
        #[serde(skip_serializing_if = "Option::is_none")]
        unit: Option<String>,
        /// Why some have no place that is known.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        unplaced: Vec<String>,
        /// There are more than are shown.
        cut: bool,
    },
    PlanDrawn {
        file: String,
        things: usize,
        overlapping: usize,
        outside: usize,
        /// How often it was drawn.
        times: u64,
    },
    /// Files of scripts are reloaded when they are saved: how many there are; nothing where they are not any more.
    FollowsSaves {
        files: Option<usize>,
    },
    /// A script runs as its file is now, or why it does not.
    Reloaded {
        #[serde(flatten)]
        reload: ReloadBody,
    },
    /// What was changed so far.
    Changes {
        changes: Vec<ChangeInfo>,
    },
    /// What came of giving back what was set for now.
    Undone {
        undone: Vec<UndoneInfo>,
        left: Vec<UndoneInfo>,
    },
    Source {
        listing: Listing,
    },
    Sources {
        paths: Vec<String>,
    },
    Contexts {
        contexts: Vec<String>,
        selected: Option<String>,
    },
    Events {
        events: Vec<EventRow>,
    },
    Frame {
        frame: FrameRow,
        listing: Option<Listing>,
    },
    PauseAsked {
        context: String,
    },
    Left {
        host: String,
        /// Why it was gone by then, if it was.
        #[serde(skip_serializing_if = "Option::is_none")]
        gone: Option<String>,
    },
    /// One command, or all of them.
    Help {
        #[serde(skip_serializing_if = "Option::is_none")]
        verb: Option<&'static str>,
    },
}

/// Something that happened by itself.
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub(crate) enum Notice {
    /// A script printed, or an event's handler failed.
    Output {
        category: String,
        text: String,
        path: Option<String>,
        line: Option<i64>,
        /// Whether the terminal's bell is asked for.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        bell: bool,
    },
    /// A breakpoint of the project file could not be set.
    NotSet { what: String, file: String, why: String },
    /// A file here is not what the host runs.
    Stale(Stale),
    /// A script runs in another text than was loaded.
    Reloaded { path: String },
    /// The host is gone, and is waited for.
    Following { host: String },
    /// It is there again.
    AttachedAgain { host: String, process_id: u32, breakpoints: usize },
    /// Control has passed on.
    Role { controls: bool, controlled_by: Option<String> },
    /// A monitor took a sample.
    Sample(SampleRow),
    /// A breakpoint bound or moved.
    Breakpoint { number: usize, bound: bool, note: Option<String> },
    /// Another context than the one being looked at stopped.
    StoppedElsewhere {
        context: String,
        #[serde(skip_serializing_if = "Option::is_none")]
        description: Option<String>,
    },
    /// The host dropped messages that this client was too slow for.
    Dropped { messages: u64 },
}

/// A time in the unit that fits.
pub(crate) fn cost(microseconds: f64) -> String {
    if microseconds < 1000.0 { format!("{microseconds:.0} µs") } else { format!("{:.1} ms", microseconds / 1000.0) }
}
