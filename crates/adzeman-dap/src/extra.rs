//! What DAP has no message for, named `adzeman/...`; each is described in `docs/protocol.md`.

use serde::{Deserialize, Serialize};

use crate::types::{Source, dap_types};

/// Request: what the host is. Answered with [`HostBody`].
pub const HOST: &str = "adzeman/host";
/// Request: every breakpoint of this client as it is now. Answered with [`BreakpointsBody`].
pub const BREAKPOINTS: &str = "adzeman/breakpoints";
/// Request: functions of the loaded sources, by name. Arguments: [`FunctionsArguments`]; answered with [`FunctionsBody`].
pub const FUNCTIONS: &str = "adzeman/functions";
/// Request: arms the breakpoints of this client, or disarms all of them without forgetting any. Arguments:
/// [`ArmedArguments`].
pub const ARMED: &str = "adzeman/armed";
/// Request: which sources a step into a function passes over. Arguments: [`LibraryArguments`].
pub const LIBRARY: &str = "adzeman/library";
/// Request: lets a context go on to a line or an event, where it stops once. Arguments: [`GoToArguments`].
pub const GO_TO: &str = "adzeman/goTo";
/// Request: evaluates an expression as the script itself would, with breakpoints honoured. Answered at once; what comes of
/// it is told by [`RAN`]. Arguments as of `evaluate`.
pub const RUN: &str = "adzeman/run";
/// Event: what a [`RUN`] came to. Body: [`RanBody`].
pub const RAN: &str = "adzeman/ran";
/// Event: a step left its handler, and the host has taken over. Body: [`HandlerLeftBody`].
pub const HANDLER_LEFT: &str = "adzeman/handlerLeft";
/// Request: what an expression gives as rows and columns. Arguments: [`TableArguments`]; answered with [`TableBody`].
pub const TABLE: &str = "adzeman/table";
/// Request: the fields and types of what an expression gives. Arguments as of `evaluate`; answered with [`ShapeBody`].
pub const SHAPE: &str = "adzeman/shape";
/// Request: samples an expression while the host runs. Arguments: [`MonitorArguments`]; answered with [`MonitorBody`].
pub const MONITOR: &str = "adzeman/monitor";
/// Request: takes a sample now. Arguments: [`MonitorBody`].
pub const SAMPLE_NOW: &str = "adzeman/sampleNow";
/// Request: samples it no longer. Arguments: [`MonitorBody`].
pub const END_MONITOR: &str = "adzeman/endMonitor";
/// Event: a sample was taken. Body: [`SampleBody`].
pub const SAMPLE: &str = "adzeman/sample";
/// Request: the source map of a script that does not name its own. Arguments: [`SourceMapArguments`].
pub const SOURCE_MAP: &str = "adzeman/sourceMap";
/// Request: the text of a script that the host has none of. Arguments: [`SourceTextArguments`]. Answered with [`SourceTextBody`].
pub const SOURCE_TEXT: &str = "adzeman/sourceText";
/// Request: what the host is doing, and who is attached; may come before `attach`. Answered with [`StatusBody`].
pub const STATUS: &str = "adzeman/status";
/// Request: what this client has changed since it attached. Answered with [`ChangesBody`].
pub const CHANGES: &str = "adzeman/changes";
/// Request: gives back what was set for now. Arguments: [`UndoArguments`]; answered with [`UndoBody`].
pub const UNDO: &str = "adzeman/undo";
/// Request: what a context runs, while it does. Arguments: [`RunningArguments`]; answered with [`RunningBody`].
pub const RUNNING: &str = "adzeman/running";
/// Request: the last events of the host. Arguments: [`TrailArguments`]; answered with [`TrailBody`].
pub const TRAIL: &str = "adzeman/trail";
/// Request: these events summed up by kind, subject and context. Arguments: [`TrailArguments`]; answered with [`TrailCountsBody`].
pub const TRAIL_COUNTS: &str = "adzeman/trailCounts";
/// Request: has the host deliver an event of the trail once more. Arguments: [`TrailAgainArguments`].
pub const TRAIL_AGAIN: &str = "adzeman/trailAgain";
/// Request: how many values of each kind a context holds. Arguments: [`CensusArguments`]; answered with [`CensusBody`].
pub const CENSUS: &str = "adzeman/census";
/// Request: what holds a value. Arguments: [`HoldersArguments`]; answered with [`HoldersBody`].
pub const HOLDERS: &str = "adzeman/holders";
/// Request: numbers of the host: its events, its contexts, its author's, and the process. Answered with [`FiguresBody`].
pub const FIGURES: &str = "adzeman/figures";
/// Request: the course of one of them. Arguments: [`FigureArguments`]; answered with [`FigureBody`].
pub const FIGURE: &str = "adzeman/figure";
/// Request: samples stacks for a while. Arguments: [`ProfileArguments`]; answered with [`ProfileBody`] when it is over.
pub const PROFILE: &str = "adzeman/profile";
/// Request: where host objects lie. Arguments: [`PlanArguments`]; answered with [`PlanBody`].
pub const PLAN: &str = "adzeman/plan";
/// Request: gives the functions of a source the bodies of another text. Arguments: [`ReloadArguments`]; answered with
/// [`ReloadBody`].
pub const RELOAD: &str = "adzeman/reload";
/// Request: takes control from whoever has it. Answered with [`RoleBody`].
pub const TAKE_OVER: &str = "adzeman/takeOver";
/// Event: control has passed to another client. Body: [`RoleBody`].
pub const ROLE: &str = "adzeman/role";
/// Event: the host dropped messages because this client does not read them. Body: [`DroppedBody`].
pub const DROPPED: &str = "adzeman/dropped";
/// Request: how much evaluations may take from now on. What is left out stays as it is. Arguments and answer: [`LimitsBody`].
pub const LIMITS: &str = "adzeman/limits";
/// Event: an evaluation is in a call that the engine cannot interrupt, or is out of it. Body: [`StuckBody`].
pub const STUCK: &str = "adzeman/stuck";
/// Event: the connection is closed by the host, with the reason. Body: [`TurnedAwayBody`].
pub const TURNED_AWAY: &str = "adzeman/turnedAway";

dap_types! {
    /// How much evaluations may take.
    LimitsBody {
        /// Time for what is asked at a stop, in milliseconds.
        asked_milliseconds: Option<f64>,
        /// Time for conditions, log messages, statements and monitors, in milliseconds.
        aside_milliseconds: Option<f64>,
        /// By how many bytes the state may grow.
        memory_bytes: Option<u64>,
    }

    /// An evaluation that cannot be interrupted.
    StuckBody {
        /// In which context.
        thread_id: i64,
        /// Whether it still is.
        stuck: bool,
        /// The function that it is in, as far as that is known.
        native: Option<String>,
        /// For how long it has been under way, in seconds.
        seconds: f64,
        /// A sentence for people.
        description: String,
    }

    /// Why the host does not take this client.
    TurnedAwayBody {
        /// A sentence for people.
        reason: String,
    }

    /// What the host is.
    HostBody {
        /// Its name.
        name: String,
        /// Its process.
        process_id: u32,
        /// The version of the library that it is built with.
        version: Option<String>,
        /// Its event kinds, with docs.
        events: Vec<serde_json::Value>,
        /// Its objects.
        objects: Vec<ObjectInfo>,
    }

    /// A host object.
    ObjectInfo {
        /// Its name.
        name: String,
        /// Whether it can be changed.
        editable: bool,
        /// What the host says it is.
        doc: Option<String>,
    }

    /// What the host is doing.
    StatusBody {
        /// Its name.
        name: String,
        /// Its process.
        process_id: u32,
        /// How long it has been up, in seconds.
        up_seconds: f64,
        /// Its contexts.
        contexts: Vec<ContextStatus>,
        /// Who is attached.
        clients: Vec<ClientStatus>,
    }

    /// What a context is doing.
    ContextStatus {
        /// Its name.
        name: String,
        /// `running`, `stopped`, `held` (with another context of its thread, which is stopped) or `waiting` (for someone to
        /// attach).
        state: String,
        /// The context that it is held with.
        held_with: Option<String>,
    }

    /// A client that is attached.
    ClientStatus {
        /// What it calls itself.
        name: String,
        /// `control` or `observe`.
        role: String,
    }

    /// The role of a client: the answer to `attach` too.
    RoleBody {
        /// `control`, or `observe`: look, and nothing else.
        role: String,
        /// The client that controls.
        controlled_by: Option<String>,
    }

    /// `attach`; all may be left out.
    AttachArguments {
        /// What the host asks of clients that come over TCP.
        token: Option<String>,
        /// `observe` to do no more than look.
        role: Option<String>,
        /// Whether to take control from whoever has it.
        take_over: Option<bool>,
        /// How long a stop is kept when this client vanishes, in seconds.
        keep_stop_seconds: Option<f64>,
    }

    /// Which functions are wanted.
    FunctionsArguments {
        /// How their names begin, or the last parts of their names; empty for all.
        beginning: String,
    }

    /// Functions that breakpoints can be set in by name.
    FunctionsBody {
        /// In the order of their sources, and there of their lines; at most 1,000.
        functions: Vec<FunctionInfo>,
    }

    /// A function of a source.
    FunctionInfo {
        /// As it is written where it is defined, such as `tariff.fare`.
        name: String,
        /// The path of its source.
        path: String,
        /// The line that its definition begins on, counted as `initialize` said.
        line: i64,
    }

    /// Which context is looked at.
    RunningArguments {
        /// The context; it runs.
        thread_id: i64,
    }

    /// What a context runs. Nothing is there but the context where no event has run anything since it was asked for last.
    RunningBody {
        /// Whether the context is at `line` at this moment, in the middle of a long event.
        now: bool,
        /// The event whose lines these are.
        event: Option<String>,
        /// The source of the last line.
        source: Option<Source>,
        /// The line that ran last, or runs now.
        line: Option<i64>,
        /// The lines of that source that the event ran, each once.
        lines: Vec<i64>,
        /// Whether the event ran more than was told of: at most 2,000 lines, for 2 ms.
        cut: bool,
    }

    /// Which events of the trail are wanted; all may be left out.
    TrailArguments {
        /// `[EVENT] [failed | refused] [for SUBJECT] [when CONDITION]`, as the prompt takes it.
        filter: Option<String>,
        /// This one, with `count` before and behind it.
        number: Option<u64>,
        /// Those behind this number, the first ones first; the last ones otherwise.
        after: Option<u64>,
        /// Whether those that took longest are wanted, the longest first.
        slowest: Option<bool>,
        /// How many at most; 20 when absent, at most 2,000.
        count: Option<usize>,
    }

    /// Events of the trail.
    TrailBody {
        /// One object each, as in a file of the trail (`docs/protocol.md`).
        entries: Vec<serde_json::Value>,
        /// How many the filter picks.
        total: usize,
        /// How many are kept, and how many have gone for them.
        kept: usize,
        /// Those that have gone.
        dropped: u64,
        /// Bytes that they take.
        bytes: usize,
        /// Bytes that they may take.
        most_bytes: usize,
    }

    /// Events of the trail, summed up.
    TrailCountsBody {
        /// One object for each kind, subject and context, what took most first; at most 1,000.
        counts: Vec<serde_json::Value>,
        /// How many events the filter picks.
        total: usize,
    }

    /// Which event is to be delivered once more.
    TrailAgainArguments {
        /// Its number.
        number: u64,
    }

    /// Which source gets which text.
    ReloadArguments {
        /// The path of the source, or the end of it.
        path: String,
        /// Its new text; the first one that it had when absent.
        text: Option<String>,
        /// Whether those functions are changed that can be, where some cannot.
        partly: Option<bool>,
        /// Whether it is only looked what would become of them.
        check: Option<bool>,
        /// Whether what stands outside of all functions is run afterwards, too.
        run: Option<bool>,
    }

    /// What came of it.
    ReloadBody {
        /// The path of the source.
        path: String,
        /// Whether it was done.
        done: bool,
        /// The contexts that have it.
        contexts: Vec<String>,
        /// Its functions, in the order of the text, and then those that are gone.
        functions: Vec<ReloadedFunctionInfo>,
        /// Functions of it that are of no text that is known, and stay as they are.
        others: usize,
        /// Whether what stands outside of all functions is another text, which is not run unless that is asked for.
        top_level_changed: bool,
        /// What came of running that, in each context, where it was asked for.
        ran: Option<Vec<RanSourceInfo>>,
    }

    /// A source was run anew.
    RanSourceInfo {
        /// In which context.
        context: String,
        /// What it raised, or why it could not be run.
        error: Option<String>,
    }

    /// What becomes of a function.
    ReloadedFunctionInfo {
        /// What it is called where it is defined, if anything.
        name: Option<String>,
        /// The line that its definition begins on: of the new text, or of the old one where it is gone.
        line: Option<i64>,
        /// `changed`, `unchanged`, `new`, `gone` or `refused`.
        state: String,
        /// Why it is refused.
        why: Option<String>,
        /// How many of it are alive.
        alive: usize,
        /// How many of these run: they change when they return.
        running: usize,
    }

    /// What a client has changed.
    ChangesBody {
        /// In the order they were made; the last 10,000.
        changes: Vec<ChangeInfo>,
    }

    /// A change.
    ChangeInfo {
        /// Its number, from 1 on.
        id: u64,
        /// The context that it was made in.
        context: String,
        /// What was changed, as it was written; the statement, where one was run.
        target: String,
        /// What it was before, where that is known.
        before: Option<String>,
        /// What it was set to; nothing for a statement.
        value: Option<String>,
        /// Where the context was stopped then (`at scripts/lock.lua:33`), or before what it was made; empty for a statement.
        at: String,
        /// When, by the host's clock.
        seconds: f64,
        /// `kept`, `ran` (a statement), `for now`, `undone`, or `gone`: set for now, and no longer there to be given back.
        state: String,
        /// What the host says is usual there.
        usual: Option<String>,
        /// How far the value is from that, where both are numbers.
        from_usual: Option<f64>,
    }

    /// What is to be given back.
    UndoArguments {
        /// The number of the change; all that were made for now when absent.
        id: Option<u64>,
        /// Whether also where it is another value by now than was set.
        anyway: Option<bool>,
    }

    /// What came of it.
    UndoBody {
        /// What was given back, the last change first.
        undone: Vec<UndoneInfo>,
        /// What was left as it is.
        left: Vec<UndoneInfo>,
    }

    /// A change that was undone, or not.
    UndoneInfo {
        /// Its number.
        id: u64,
        /// What was changed.
        target: String,
        /// What it is now, where that is known.
        value: Option<String>,
        /// Why it was left: `changed` since, or in words.
        why: Option<String>,
    }

    /// Whose values are counted.
    CensusArguments {
        /// In which context; the one of the earlier census, or the first, when absent.
        thread_id: Option<i64>,
        /// The number of an earlier census of this client, to compare with.
        since: Option<u64>,
    }

    /// What a context holds.
    CensusBody {
        /// The number of this census, from 1, for `since`.
        number: u64,
        /// The context.
        context: String,
        /// How many there are (`docs/protocol.md`).
        census: serde_json::Value,
        /// How many groups there are; the census has those that take most.
        groups: usize,
        /// With `since`: what is more or less, what grew most first.
        grown: Option<Vec<serde_json::Value>>,
        /// With `since`: whether the earlier one was counted while scripts ran.
        since_running: Option<bool>,
        /// How long counting took, in milliseconds.
        milliseconds: f64,
        /// How often scripts ran meanwhile: 0 where they stood still.
        parts: u64,
    }

    /// What holds are looked for.
    HoldersArguments {
        /// An expression that gives the value.
        expression: String,
        /// In which frame; the globals when absent.
        frame_id: Option<i64>,
        /// In which context, when no frame is given.
        thread_id: Option<i64>,
        /// Paths at most; 20 when absent.
        count: Option<usize>,
    }

    /// What holds a value.
    HoldersBody {
        /// The paths (`docs/protocol.md`).
        holders: serde_json::Value,
        /// What they come to, in a sentence for people.
        description: String,
    }

    /// Numbers of a host, since someone is attached.
    FiguresBody {
        /// When, by the host's clock.
        seconds: f64,
        /// For how long they have been followed, in seconds.
        followed_seconds: f64,
        /// Kinds of events (`docs/protocol.md`), those that took most first.
        events: Vec<serde_json::Value>,
        /// Whether events are counted: not where the host keeps no trail.
        counts_events: bool,
        /// Each context.
        contexts: Vec<ContextFigures>,
        /// Those of the host's author.
        own: Vec<serde_json::Value>,
        /// Those of the process.
        process: Vec<serde_json::Value>,
    }

    /// What a context takes.
    ContextFigures {
        /// Its name.
        context: String,
        /// The share of the time that its events took, of all that has passed.
        share: f64,
        /// What its engine has in use; nothing where no event of it has ended yet.
        memory: Option<serde_json::Value>,
    }

    /// Which figure.
    FigureArguments {
        /// Its name, as `adzeman/figures` has it; the memory of a context is its name with `.memory`.
        name: String,
    }

    /// The course of a figure.
    FigureBody {
        /// As it is now.
        figure: serde_json::Value,
        /// Its points, from the first on.
        points: Vec<serde_json::Value>,
        /// Its largest jumps.
        jumps: Vec<serde_json::Value>,
    }

    /// What is to be sampled.
    ProfileArguments {
        /// For how long, in milliseconds; 5 s when absent, a minute at most.
        milliseconds: Option<f64>,
        /// In which context; in all when absent.
        thread_id: Option<i64>,
        /// Only while events of this kind are handled.
        event: Option<String>,
    }

    /// Where time went.
    ProfileBody {
        /// Functions and stacks (`docs/protocol.md`).
        profile: serde_json::Value,
        /// How long samples were taken, in milliseconds.
        milliseconds: f64,
        /// Between two samples, in milliseconds: the mean.
        every_milliseconds: f64,
        /// How many samples were asked for of each thread.
        ticks: u64,
        /// The share of the time of the busiest context's thread that taking them cost.
        share: f64,
        /// Whether samples were rarer than one a millisecond, so that they cost no more than 1%.
        slowed: bool,
        /// Samples outside of the events that were meant.
        passed_over: u64,
    }

    /// What a plan is of.
    PlanArguments {
        /// A part of the host's data, as the prompt takes it (`host.boats`); all that has a place when absent.
        path: Option<String>,
        /// The context in whose language the path is; the first when absent.
        thread_id: Option<i64>,
    }

    /// Where things lie.
    PlanBody {
        /// The things (`docs/protocol.md`).
        things: Vec<serde_json::Value>,
        /// Those that overlap, those that do most first.
        overlaps: Vec<serde_json::Value>,
        /// How many pairs overlap.
        overlapping: usize,
        /// Those that lie outside of where they should.
        outside: Vec<serde_json::Value>,
        /// What all of it is measured in, where that is one unit.
        unit: Option<String>,
        /// Things whose place could not be read, and why.
        unplaced: Vec<String>,
        /// Whether there are more things than are sent.
        cut: bool,
    }

    /// The breakpoints of this client.
    BreakpointsBody {
        /// One each.
        breakpoints: Vec<BreakpointInfo>,
    }

    /// A breakpoint as it is now.
    BreakpointInfo {
        /// Its number.
        id: u64,
        /// How often it was hit.
        hits: u64,
        /// Whether it can be hit.
        verified: bool,
        /// Whether it is enabled.
        enabled: bool,
        /// Whether it was hit as often as it ever will be.
        spent: bool,
        /// Where it was hit last, and during what.
        last: Option<String>,
        /// Where it bound, as `name:line`.
        places: Vec<String>,
        /// Why it is not bound, or why its condition failed.
        message: Option<String>,
    }

    /// Whether breakpoints are armed.
    ArmedArguments {
        /// Whether they are.
        armed: bool,
    }

    /// Sources that belong to a library.
    LibraryArguments {
        /// The end of a path (`json.lua`), or a folder (`lib/`).
        paths: Vec<String>,
        /// The same for the sources that are the client's own: all others belong to a library then.
        own: Option<Vec<String>>,
    }

    /// A source map.
    SourceMapArguments {
        /// The end of the path of the compiled script.
        path: String,
        /// The map (ECMA-426), as JSON.
        map: String,
    }

    /// The text of a script.
    SourceTextArguments {
        /// The end of the path of the script, as the host has it.
        path: String,
        /// The text.
        text: String,
    }

    /// What came of it.
    SourceTextBody {
        /// Whether it is the text of what runs: every function of the script that was seen is one that it compiles to.
        taken: bool,
    }

    /// Where to go on to: a line, or an event.
    GoToArguments {
        /// Which context; it goes on if it is held.
        thread_id: i64,
        /// The line, in the source of `path`.
        line: Option<i64>,
        /// The source of the line.
        path: Option<String>,
        /// The event kind; `*` for any.
        event: Option<String>,
        /// How many of these events; 1 when absent.
        count: Option<u64>,
    }

    /// What a call came to.
    RanBody {
        /// Which context.
        thread_id: i64,
        /// Whether it returned.
        success: bool,
        /// The values returned, or what was raised.
        result: String,
        /// The type of the first value.
        #[serde(rename = "type")]
        type_name: Option<String>,
        /// Whether the context is held where it was before the call.
        stopped: bool,
    }

    /// What is to be shown as rows and columns.
    TableArguments {
        /// An expression that gives a list or a map of records.
        expression: String,
        /// In which frame; the globals when absent.
        frame_id: Option<i64>,
        /// In which context, when no frame is given.
        thread_id: Option<i64>,
        /// Rows to pass over.
        start: Option<usize>,
        /// Rows at most.
        count: Option<usize>,
    }

    /// Rows and columns.
    TableBody {
        /// Field names.
        columns: Vec<String>,
        /// The records.
        rows: Vec<TableRow>,
        /// How many rows there are in all.
        total: usize,
    }

    /// A row.
    TableRow {
        /// The element's name or key.
        name: String,
        /// One for each column; null where the record has no such field.
        cells: Vec<Option<String>>,
    }

    /// A shape, from the outside in.
    ShapeBody {
        /// One for each field.
        rows: Vec<ShapeLine>,
    }

    /// A field of a shape.
    ShapeLine {
        /// How deep it is; 0 for the value itself.
        depth: usize,
        /// Its name; `[]` for the elements of a list.
        name: String,
        /// The types met there.
        types: String,
        /// How many elements it has, or in how many records it is.
        remark: Option<String>,
    }

    /// What to sample, and how often.
    MonitorArguments {
        /// An expression, in which globals, the host and the event are visible.
        expression: String,
        /// In which context; the first when absent.
        thread_id: Option<i64>,
        /// Time between two samples, in milliseconds; a second when neither this nor `event` is given.
        every_milliseconds: Option<f64>,
        /// At events of this kind instead; `*` for any.
        event: Option<String>,
        /// At each so manieth of them; 1 when absent.
        count: Option<u64>,
        /// The share of the time that samples may take, up to 1; 0.02 when absent.
        share: Option<f64>,
    }

    /// A monitor.
    MonitorBody {
        /// Its number.
        monitor_id: u64,
    }

    /// A sample.
    SampleBody {
        /// Of which monitor.
        monitor_id: u64,
        /// Whether the expression could be evaluated.
        success: bool,
        /// The value, or why there is none.
        value: String,
        /// Its type.
        #[serde(rename = "type")]
        type_name: Option<String>,
        /// When, in seconds of the host's clock.
        seconds: f64,
        /// During which event, with its subject.
        event: Option<String>,
        /// How many samples were taken.
        count: u64,
        /// What this one cost, in microseconds.
        cost_microseconds: f64,
        /// The share of the time that samples have taken so far.
        share: f64,
        /// Whether samples are rarer than was asked for, so that they take no more than their share.
        slowed: bool,
    }

    /// A step left its handler.
    HandlerLeftBody {
        /// Which context.
        thread_id: i64,
        /// The event whose handler it was.
        event: Option<String>,
        /// What that event was about.
        subject: Option<String>,
        /// The values that the handler returned, if the step came out of it.
        returned: Option<Vec<String>>,
    }

    /// Messages were dropped.
    DroppedBody {
        /// How many since the last time.
        messages: u64,
    }
}
