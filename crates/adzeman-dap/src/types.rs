//! Types that several messages share (DAP, "Types"). Absent fields are left out.

use serde::{Deserialize, Serialize};

macro_rules! dap_types {
    ($($(#[$doc:meta])* $name:ident { $($(#[$field_doc:meta])* $field:ident : $type:ty,)* })*) => {$(
        $(#[$doc])*
        #[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
        #[serde(rename_all = "camelCase", default)]
        pub struct $name {
            $($(#[$field_doc])* #[serde(skip_serializing_if = "crate::types::Absent::is_absent")] pub $field: $type,)*
        }
    )*};
}
pub(crate) use dap_types;

/// Whether a field carries nothing and is left out of the JSON.
pub(crate) trait Absent {
    fn is_absent(&self) -> bool;
}

impl<T> Absent for Option<T> {
    fn is_absent(&self) -> bool {
        self.is_none()
    }
}

macro_rules! always_present {
    ($($type:ty),*) => {$(impl Absent for $type {
        fn is_absent(&self) -> bool {
            false
        }
    })*};
}
always_present!(bool, i64, u64, u32, usize, f64, String, serde_json::Value);

impl<T> Absent for Vec<T> {
    fn is_absent(&self) -> bool {
        false
    }
}

impl Absent for Source {
    fn is_absent(&self) -> bool {
        false
    }
}

dap_types! {
    /// What the host can do; only what works is true.
    Capabilities {
        /// `configurationDone` is understood.
        supports_configuration_done_request: bool,
        /// `cancel` is understood, for requests.
        supports_cancel_request: bool,
        /// Function breakpoints.
        supports_function_breakpoints: bool,
        /// Conditions on breakpoints.
        supports_conditional_breakpoints: bool,
        /// `setVariable`.
        supports_set_variable: bool,
        /// `setExpression`.
        supports_set_expression: bool,
        /// `completions`.
        supports_completions_request: bool,
        /// `loadedSources`.
        supports_loaded_sources_request: bool,
        /// `breakpointLocations`.
        supports_breakpoint_locations_request: bool,
        /// `filterOptions` in `setExceptionBreakpoints`.
        supports_exception_filter_options: bool,
        /// `stackTrace` may be asked for pages.
        supports_delayed_stack_trace_loading: bool,
        /// `evaluate` with context `hover` has no side effects of its own.
        supports_evaluate_for_hovers: bool,
        /// `hitCondition` on breakpoints.
        supports_hit_conditional_breakpoints: bool,
        /// `logMessage` on breakpoints.
        supports_log_points: bool,
        /// `dataBreakpointInfo` and `setDataBreakpoints`.
        supports_data_breakpoints: bool,
        /// `restartFrame`: delivers the event again.
        supports_restart_frame: bool,
        /// `gotoTargets` and `goto`, in the function that is stopped in.
        supports_goto_targets_request: bool,
        /// `evaluate` with context `clipboard` answers the whole text.
        supports_clipboard_context: bool,
        /// `format` is understood.
        supports_value_formatting_options: bool,
        /// One filter for each event kind of the host, and for errors.
        exception_breakpoint_filters: Vec<ExceptionBreakpointsFilter>,
    }

    /// An event kind, as something to break on.
    ExceptionBreakpointsFilter {
        /// The kind's name.
        filter: String,
        /// The text beside the checkbox.
        label: String,
        /// A sentence.
        description: Option<String>,
        /// Whether a condition may be given.
        supports_condition: bool,
        /// What to write as condition.
        condition_description: Option<String>,
    }

    /// A source.
    Source {
        /// Name without folders.
        name: Option<String>,
        /// Runtime name with folders.
        path: Option<String>,
        /// Number to ask its text by; absent or 0 when only the path can be used.
        source_reference: Option<i64>,
        /// Digests of the text.
        checksums: Option<Vec<Checksum>>,
        /// Of our own: where its functions were given their bodies while they were alive, the number of the source before.
        replaces: Option<i64>,
        /// Of our own: the number of the source that was loaded, where this one has come into its place and is another text.
        loaded_as: Option<i64>,
    }

    /// A line that a stopped function can go on at.
    GotoTarget {
        /// Its number, for `goto` at this stop.
        id: i64,
        /// The line, and what is nil there, for people.
        label: String,
        /// The line.
        line: i64,
    }

    /// A digest of a text.
    Checksum {
        /// `SHA256`.
        algorithm: String,
        /// Hexadecimal digits; Adzeman gives the first sixteen.
        checksum: String,
    }

    /// A breakpoint as asked for.
    SourceBreakpoint {
        /// Line, counted as `initialize` said.
        line: i64,
        /// Expression that must be true.
        condition: Option<String>,
        /// Which times count: `5`, `>= 5`, `% 5`, or Adzeman's `after 5 every 2 once`.
        hit_condition: Option<String>,
        /// Text to say instead of stopping, with expressions in braces.
        log_message: Option<String>,
        /// What DAP has no words for.
        adzeman: Option<Own>,
    }

    /// A function breakpoint as asked for.
    FunctionBreakpoint {
        /// The function.
        name: String,
        /// Expression that must be true.
        condition: Option<String>,
        /// Which times count.
        hit_condition: Option<String>,
        /// What DAP has no words for.
        adzeman: Option<Own>,
    }

    /// A data breakpoint as asked for.
    DataBreakpoint {
        /// What the answer to `dataBreakpointInfo` called it.
        data_id: String,
        /// `write` stops when the value is another one, `read` at a statement that reads it.
        access_type: Option<String>,
        /// Expression that must be true.
        condition: Option<String>,
        /// Which times count.
        hit_condition: Option<String>,
        /// What DAP has no words for.
        adzeman: Option<Own>,
    }

    /// What DAP has no words for, on every kind of breakpoint.
    Own {
        /// Only in the context of this name, or while an event about this subject is handled.
        subject: Option<String>,
        /// A name for people and for `until`.
        name: Option<String>,
        /// What the client calls it in its own list, for what it says; its number of the host's otherwise.
        label: Option<String>,
        /// Only until the breakpoint of this name or number was hit.
        until: Option<String>,
        /// Kept, but does nothing.
        disabled: Option<bool>,
        /// Which times count, where DAP has no `hitCondition`.
        hits: Option<String>,
        /// Text to say instead of stopping, where DAP has no `logMessage`.
        say: Option<String>,
        /// Statement to run instead of stopping.
        run: Option<String>,
        /// Whether to ring the terminal's bell instead of stopping.
        ring: Option<bool>,
        /// On an event: before any handler runs.
        at_boundary: Option<bool>,
        /// On an event: stop when its handler takes longer than this, in milliseconds.
        budget_milliseconds: Option<f64>,
        /// On an error: only when its text contains this.
        containing: Option<String>,
        /// On a change: `type` for one to a value of another type, `write` for every statement that assigns to it.
        on: Option<String>,
    }

    /// A breakpoint as it is.
    Breakpoint {
        /// Its number.
        id: Option<u64>,
        /// Whether it can be hit.
        verified: bool,
        /// Why not, or what is worth knowing.
        message: Option<String>,
        /// Where.
        source: Option<Source>,
        /// Line, counted as `initialize` said.
        line: Option<i64>,
    }

    /// An event or error breakpoint as asked for.
    ExceptionFilterOptions {
        /// The event kind, `error.uncaught` or `error.every`.
        filter_id: String,
        /// Expression that must be true.
        condition: Option<String>,
        /// What DAP has no words for.
        adzeman: Option<Own>,
    }

    /// A context.
    Thread {
        /// Its number.
        id: i64,
        /// Its name.
        name: String,
    }

    /// A frame of the stack.
    StackFrame {
        /// Its number, for `scopes` and `evaluate`.
        id: i64,
        /// The function.
        name: String,
        /// Where it is.
        source: Option<Source>,
        /// Line, counted as `initialize` said; 0 when it has none.
        line: i64,
        /// Column; the engines know none, so always the first.
        column: i64,
        /// `normal`, `label` for a boundary between stacks, `subtle` for native code.
        presentation_hint: Option<String>,
        /// Adzeman's own: where it is in the script that the source was compiled to.
        compiled: Option<CompiledPlace>,
        /// Adzeman's own: its parameters with what they hold now, as `name = value`.
        arguments: Option<Vec<String>>,
        /// Adzeman's own: how long ago it was called, in milliseconds, time at stops left out; only once half of a time budget on
        /// the event is used up.
        running_milliseconds: Option<f64>,
        /// Adzeman's own: whether it was called longer ago than that, as it ran already when half of the budget was used up.
        running_longer: Option<bool>,
    }

    /// A place in a compiled script.
    CompiledPlace {
        /// The script.
        source: Source,
        /// Line, counted as `initialize` said.
        line: i64,
    }

    /// A scope of a frame.
    Scope {
        /// `Locals`, `Captured`, ...
        name: String,
        /// `locals`, `arguments` or absent.
        presentation_hint: Option<String>,
        /// What to ask `variables` for.
        variables_reference: i64,
        /// How many names.
        named_variables: Option<usize>,
        /// Whether it is large or slow.
        expensive: bool,
    }

    /// A variable.
    Variable {
        /// Its name.
        name: String,
        /// One line.
        value: String,
        /// Its type.
        #[serde(rename = "type")]
        type_name: Option<String>,
        /// An expression that gives it.
        evaluate_name: Option<String>,
        /// What to ask `variables` for; 0 when nothing is inside.
        variables_reference: i64,
        /// How many elements.
        indexed_variables: Option<usize>,
        /// How many names.
        named_variables: Option<usize>,
        /// How to show it.
        presentation_hint: Option<VariablePresentationHint>,
        /// Adzeman's own: what it was at the last stop before this one at which it was shown, if it is another value now.
        before: Option<String>,
        /// Adzeman's own: what the host says it is.
        doc: Option<String>,
        /// Adzeman's own: what it is measured in.
        unit: Option<String>,
        /// Adzeman's own: the subject of events that it is, and the context of that name, as `subject lock.upper`.
        belongs_to: Option<Vec<String>>,
    }

    /// How to show a variable.
    VariablePresentationHint {
        /// `property`, `method`, `data`.
        kind: Option<String>,
        /// `readOnly` when it cannot be changed; Adzeman's own are `shadowed` when a later variable of the same name hides it,
        /// and `cycle` when it is a value that is being looked into already.
        attributes: Option<Vec<String>>,
        /// `internal` for what the script does not see.
        visibility: Option<String>,
        /// Whether the value is left out until its one child is asked for, because code runs to get it.
        lazy: Option<bool>,
    }

    /// How to write values.
    ValueFormat {
        /// Whole numbers in hexadecimal.
        hex: Option<bool>,
        /// Adzeman's own: in this base, of 2, 8 and 16.
        base: Option<u32>,
    }

    /// Something to complete a text with.
    CompletionItem {
        /// The whole word.
        label: String,
    }

    /// A line that can hold a breakpoint.
    BreakpointLocation {
        /// Line, counted as `initialize` said.
        line: i64,
    }
}
