//! Arguments and answers of the requests that Adzeman understands (DAP, "Requests").

use crate::types::{
    Breakpoint, BreakpointLocation, CompletionItem, DataBreakpoint, ExceptionFilterOptions, FunctionBreakpoint,
    GotoTarget, Scope, Source, SourceBreakpoint, StackFrame, Thread, ValueFormat, Variable, dap_types,
};
use serde::{Deserialize, Serialize};

dap_types! {
    /// Arguments of `cancel`.
    CancelArguments {
        /// The number of the request that is to be given up.
        request_id: Option<i64>,
    }

    /// `initialize`.
    InitializeArguments {
        /// Who the client is, for people.
        client_name: Option<String>,
        /// Adzeman's own: the version of the client.
        client_version: Option<String>,
        /// Whether lines count from 1; they do when absent.
        lines_start_at1: Option<bool>,
        /// Whether columns count from 1; they do when absent.
        columns_start_at1: Option<bool>,
        /// Whether the client wants to be told how far a long request has come.
        supports_progress_reporting: Option<bool>,
        /// Adzeman's own: what the host asks of clients that come over TCP. May be given with `attach` instead.
        token: Option<String>,
    }

    /// `setBreakpoints`.
    SetBreakpointsArguments {
        /// In which source.
        source: Source,
        /// All breakpoints of that source; those not named are removed.
        breakpoints: Option<Vec<SourceBreakpoint>>,
    }

    /// `setFunctionBreakpoints`.
    SetFunctionBreakpointsArguments {
        /// All function breakpoints.
        breakpoints: Vec<FunctionBreakpoint>,
    }

    /// `setExceptionBreakpoints`.
    SetExceptionBreakpointsArguments {
        /// Event kinds without a condition.
        filters: Vec<String>,
        /// Event kinds with one.
        filter_options: Option<Vec<ExceptionFilterOptions>>,
    }

    /// `dataBreakpointInfo`.
    DataBreakpointInfoArguments {
        /// Inside what; the name is an expression when absent.
        variables_reference: Option<i64>,
        /// Which variable, or an expression that names one.
        name: String,
        /// In which frame; the globals when absent.
        frame_id: Option<i64>,
        /// Adzeman's own: in which context, when no frame is given.
        thread_id: Option<i64>,
    }

    /// The answer to `dataBreakpointInfo`.
    DataBreakpointInfoBody {
        /// What to ask `setDataBreakpoints` for; null when it cannot be watched.
        data_id: serde_json::Value,
        /// What it is, or why it cannot be watched.
        description: String,
        /// `write`, and `read` for values of scripts.
        access_types: Option<Vec<String>>,
        /// Whether it is good for another session too.
        can_persist: bool,
        /// Adzeman's own: that a variable of this name is nowhere yet, and in which context was looked; it is waited for.
        waits: Option<String>,
    }

    /// `setDataBreakpoints`.
    SetDataBreakpointsArguments {
        /// All data breakpoints.
        breakpoints: Vec<DataBreakpoint>,
    }

    /// `restartFrame`.
    RestartFrameArguments {
        /// Any frame of the context whose event is to be delivered again.
        frame_id: i64,
    }

    /// `gotoTargets`.
    GotoTargetsArguments {
        /// The source of the line.
        source: Source,
        /// The line, counted as `initialize` said.
        line: i64,
    }

    /// The answer to `gotoTargets`: one for each stopped context whose innermost function can go on at the line.
    GotoTargetsBody {
        /// They.
        targets: Vec<GotoTarget>,
    }

    /// `goto`.
    GotoArguments {
        /// The context.
        thread_id: i64,
        /// One of its targets.
        target_id: i64,
    }

    /// The answer to each `set...Breakpoints`: one for each asked for, in that order.
    SetBreakpointsBody {
        /// The breakpoints.
        breakpoints: Vec<Breakpoint>,
    }

    /// `breakpointLocations`.
    BreakpointLocationsArguments {
        /// In which source.
        source: Source,
        /// First line.
        line: i64,
        /// Last line; the first when absent.
        end_line: Option<i64>,
    }

    /// The answer to `breakpointLocations`.
    BreakpointLocationsBody {
        /// Lines that can hold a breakpoint.
        breakpoints: Vec<BreakpointLocation>,
    }

    /// The answer to `threads`.
    ThreadsBody {
        /// The contexts.
        threads: Vec<Thread>,
    }

    /// `continue`, `next`, `stepIn`, `stepOut`, `pause`.
    ThreadArguments {
        /// Which context.
        thread_id: i64,
    }

    /// The answer to `continue`.
    ContinueBody {
        /// Whether all contexts go on.
        all_threads_continued: bool,
    }

    /// `stackTrace`.
    StackTraceArguments {
        /// Which context.
        thread_id: i64,
        /// Frames to pass over.
        start_frame: Option<usize>,
        /// Frames to give at most; 0 or absent for all that one page holds.
        levels: Option<usize>,
    }

    /// The answer to `stackTrace`.
    StackTraceBody {
        /// The frames, innermost first.
        stack_frames: Vec<StackFrame>,
        /// How many there are in all.
        total_frames: usize,
    }

    /// `scopes`.
    ScopesArguments {
        /// Of which frame.
        frame_id: i64,
    }

    /// The answer to `scopes`.
    ScopesBody {
        /// The scopes, the nearest first.
        scopes: Vec<Scope>,
    }

    /// `variables`.
    VariablesArguments {
        /// Of what.
        variables_reference: i64,
        /// `indexed` or `named`; both when absent.
        filter: Option<String>,
        /// How many to pass over.
        start: Option<usize>,
        /// How many at most; 0 or absent for all that one page holds.
        count: Option<usize>,
        /// How to write values.
        format: Option<ValueFormat>,
    }

    /// The answer to `variables`.
    VariablesBody {
        /// The variables.
        variables: Vec<Variable>,
        /// Adzeman's own: how many there are in all.
        total: usize,
        /// Adzeman's own: whether there are more than `total`, too many to count.
        total_is_least: Option<bool>,
    }

    /// `setVariable`.
    SetVariableArguments {
        /// Inside what.
        variables_reference: i64,
        /// Which.
        name: String,
        /// An expression for the new value.
        value: String,
    }

    /// `setExpression`.
    SetExpressionArguments {
        /// What can stand left of an assignment.
        expression: String,
        /// An expression for the new value.
        value: String,
        /// In which frame; the globals when absent.
        frame_id: Option<i64>,
        /// Adzeman's own: in which context, when no frame is given.
        thread_id: Option<i64>,
        /// Adzeman's own: whether it is given back when the client leaves, or by `adzeman/undo`.
        for_now: Option<bool>,
    }

    /// `evaluate`.
    EvaluateArguments {
        /// An expression or a statement.
        expression: String,
        /// In which frame; the globals when absent.
        frame_id: Option<i64>,
        /// `repl`, `watch`, `hover`, `clipboard`, `variables`, or Adzeman's `bytes`.
        context: Option<String>,
        /// Adzeman's own: in which context, when no frame is given.
        thread_id: Option<i64>,
        /// How to write values.
        format: Option<ValueFormat>,
    }

    /// The answer to `setVariable` (which calls the value `value`), `setExpression` and `evaluate` (`result`).
    ValueBody {
        /// One line, for `evaluate`.
        result: Option<String>,
        /// One line, for the other two.
        value: Option<String>,
        /// Its type.
        #[serde(rename = "type")]
        type_name: Option<String>,
        /// What to ask `variables` for; 0 when nothing is inside.
        variables_reference: i64,
        /// How many elements.
        indexed_variables: Option<usize>,
        /// How many names.
        named_variables: Option<usize>,
        /// Adzeman's own: what it was at the last stop before this one at which it was shown, if it is another value now.
        before: Option<String>,
        /// Adzeman's own, for `watch`: whether it uses variables of the function, so that it is worth nothing elsewhere.
        of_function: Option<bool>,
        /// Adzeman's own, for `clipboard` and `bytes`: how many bytes there are, when not all are given.
        bytes_in_all: Option<usize>,
        /// Adzeman's own, for a change while the context runs: when it was made.
        made: Option<String>,
    }

    /// `completions`.
    CompletionsArguments {
        /// In which frame.
        frame_id: Option<i64>,
        /// The text so far.
        text: String,
        /// Column of the cursor.
        column: i64,
    }

    /// The answer to `completions`.
    CompletionsBody {
        /// What it could become.
        targets: Vec<CompletionItem>,
    }

    /// `source`.
    SourceArguments {
        /// Which.
        source: Option<Source>,
        /// Its number.
        source_reference: i64,
    }

    /// The answer to `source`.
    SourceBody {
        /// The text.
        content: String,
    }

    /// The answer to `loadedSources`.
    LoadedSourcesBody {
        /// The sources.
        sources: Vec<Source>,
    }
}
