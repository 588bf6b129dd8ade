//! Every request there is, as a table: how far a client must have come for it, and who may make it.

use serde_json::Value as Json;

use crate::base::Request;
use crate::extra;

/// How far a client has come, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// It is connected.
    Connected,
    /// It has said who it is, by `initialize`.
    Greeted,
    /// It is known to be allowed in: by the way it came, or by the token that it showed.
    Trusted,
    /// It is attached.
    Attached,
}

/// What an attached client may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Role {
    /// Look, and run nothing.
    Observe,
    /// Everything.
    Control,
}

macro_rules! commands {
    ($($(#[$doc:meta])* $variant:ident = $name:expr, $phase:ident, $role:ident;)*) => {
        /// A request, by its command.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        #[non_exhaustive]
        pub enum Command {
            $($(#[$doc])* $variant,)*
        }

        impl Command {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$variant),*];

            /// How it is written.
            #[must_use]
            pub fn name(self) -> &'static str {
                match self {
                    $(Self::$variant => $name,)*
                }
            }

            /// How far a client must have come to ask for it.
            #[must_use]
            pub fn phase(self) -> Phase {
                match self {
                    $(Self::$variant => Phase::$phase,)*
                }
            }

            /// Who may ask for it, once attached.
            #[must_use]
            pub fn role(self) -> Role {
                match self {
                    $(Self::$variant => Role::$role,)*
                }
            }
        }
    };
}

commands! {
    /// DAP `initialize`.
    Initialize = "initialize", Connected, Observe;
    /// DAP `disconnect`.
    Disconnect = "disconnect", Connected, Observe;
    /// DAP `cancel`.
    Cancel = "cancel", Connected, Observe;
    /// DAP `attach`: what makes a client a trusted one, too, if it shows the token.
    Attach = "attach", Greeted, Observe;
    /// Who is there, and what runs.
    Status = extra::STATUS, Trusted, Observe;
    /// DAP `configurationDone`.
    ConfigurationDone = "configurationDone", Trusted, Observe;
    /// DAP `setBreakpoints`.
    SetBreakpoints = "setBreakpoints", Trusted, Control;
    /// DAP `setFunctionBreakpoints`.
    SetFunctionBreakpoints = "setFunctionBreakpoints", Trusted, Control;
    /// DAP `setExceptionBreakpoints`.
    SetExceptionBreakpoints = "setExceptionBreakpoints", Trusted, Control;
    /// Arms or disarms all breakpoints of the client.
    Armed = extra::ARMED, Trusted, Control;
    /// What the client calls a library.
    Library = extra::LIBRARY, Trusted, Control;
    /// DAP `threads`.
    Threads = "threads", Attached, Observe;
    /// DAP `breakpointLocations`.
    BreakpointLocations = "breakpointLocations", Attached, Observe;
    /// DAP `loadedSources`.
    LoadedSources = "loadedSources", Attached, Observe;
    /// DAP `source`.
    Source = "source", Attached, Observe;
    /// DAP `stackTrace`.
    StackTrace = "stackTrace", Attached, Observe;
    /// DAP `scopes`.
    Scopes = "scopes", Attached, Observe;
    /// DAP `variables`.
    Variables = "variables", Attached, Observe;
    /// DAP `completions`.
    Completions = "completions", Attached, Observe;
    /// DAP `evaluate`. A hover runs nothing, so whoever may look may ask for it.
    Evaluate = "evaluate", Attached, Control;
    /// DAP `setVariable`.
    SetVariable = "setVariable", Attached, Control;
    /// DAP `setExpression`.
    SetExpression = "setExpression", Attached, Control;
    /// DAP `continue`.
    Continue = "continue", Attached, Control;
    /// DAP `next`.
    Next = "next", Attached, Control;
    /// DAP `stepIn`.
    StepIn = "stepIn", Attached, Control;
    /// DAP `stepOut`.
    StepOut = "stepOut", Attached, Control;
    /// DAP `pause`.
    Pause = "pause", Attached, Control;
    /// DAP `restartFrame`.
    RestartFrame = "restartFrame", Attached, Control;
    /// DAP `gotoTargets`.
    GotoTargets = "gotoTargets", Attached, Control;
    /// DAP `goto`.
    Goto = "goto", Attached, Control;
    /// DAP `dataBreakpointInfo`.
    DataBreakpointInfo = "dataBreakpointInfo", Attached, Control;
    /// DAP `setDataBreakpoints`.
    SetDataBreakpoints = "setDataBreakpoints", Attached, Control;
    /// Goes on to a line, or to an event.
    RunTo = extra::GO_TO, Attached, Control;
    /// Runs a call as the script would.
    Run = extra::RUN, Attached, Control;
    /// A list of records as a table.
    Table = extra::TABLE, Attached, Control;
    /// What data looks like.
    Shape = extra::SHAPE, Attached, Control;
    /// Begins to sample an expression.
    Monitor = extra::MONITOR, Attached, Control;
    /// Takes a sample now.
    SampleNow = extra::SAMPLE_NOW, Attached, Control;
    /// Ends that.
    EndMonitor = extra::END_MONITOR, Attached, Control;
    /// Gives the map of a compiled script.
    SourceMap = extra::SOURCE_MAP, Attached, Control;
    /// Gives the text of a script that the host has none of.
    SourceText = extra::SOURCE_TEXT, Attached, Control;
    /// Gives functions the bodies of another text.
    Reload = extra::RELOAD, Attached, Control;
    /// What a context runs.
    Running = extra::RUNNING, Attached, Control;
    /// The last events.
    Trail = extra::TRAIL, Attached, Observe;
    /// They, summed up.
    TrailCounts = extra::TRAIL_COUNTS, Attached, Observe;
    /// Has one delivered once more.
    TrailAgain = extra::TRAIL_AGAIN, Attached, Control;
    /// How many values a context holds.
    Census = extra::CENSUS, Attached, Control;
    /// What holds a value.
    Holders = extra::HOLDERS, Attached, Control;
    /// Numbers of the host.
    Figures = extra::FIGURES, Attached, Observe;
    /// The course of one.
    Figure = extra::FIGURE, Attached, Observe;
    /// Where host objects lie.
    Plan = extra::PLAN, Attached, Observe;
    /// Where time goes.
    Profile = extra::PROFILE, Attached, Control;
    /// What was changed.
    Changes = extra::CHANGES, Attached, Observe;
    /// Gives back what was set for now.
    Undo = extra::UNDO, Attached, Control;
    /// Takes control.
    TakeOver = extra::TAKE_OVER, Attached, Observe;
    /// How much evaluations may take.
    Limits = extra::LIMITS, Attached, Control;
    /// What the host is.
    Host = extra::HOST, Attached, Observe;
    /// Which functions there are.
    Functions = extra::FUNCTIONS, Attached, Observe;
    /// How breakpoints stand.
    Breakpoints = extra::BREAKPOINTS, Attached, Observe;
}

impl Command {
    /// The one that is written so.
    #[must_use]
    pub fn of(name: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|command| command.name() == name)
    }

    /// Who may make a request, with its arguments looked at.
    #[must_use]
    pub fn role_for(self, request: &Request) -> Role {
        let is_hover = || request.arguments.as_ref().is_some_and(|arguments: &Json| arguments["context"] == "hover");
        if self == Self::Evaluate && is_hover() { Role::Observe } else { self.role() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_is_found_by_its_name_and_by_no_other() {
        for command in Command::ALL {
            assert_eq!(Command::of(command.name()), Some(*command));
        }
        assert_eq!(Command::of("launch"), None);
    }

    #[test]
    fn who_only_looks_changes_nothing() {
        let allowed: Vec<_> = Command::ALL
            .iter()
            .filter(|command| command.role() == Role::Observe)
            .map(|command| command.name())
            .collect();
        let expected = "initialize disconnect cancel attach adzeman/status configurationDone threads breakpointLocations \
                        loadedSources source stackTrace scopes variables completions adzeman/trail adzeman/trailCounts adzeman/figures adzeman/figure adzeman/plan adzeman/changes adzeman/takeOver \
                        adzeman/host adzeman/functions adzeman/breakpoints";
        assert_eq!(allowed.join(" "), expected);
        let evaluate = |context: &str| Request {
            seq: 1,
            command: "evaluate".to_owned(),
            arguments: Some(serde_json::json!({"context": context})),
        };
        assert_eq!(Command::Evaluate.role_for(&evaluate("hover")), Role::Observe);
        assert_eq!(Command::Evaluate.role_for(&evaluate("repl")), Role::Control);
    }

    #[test]
    fn before_it_is_let_in_a_client_can_only_introduce_itself() {
        let early: Vec<_> = Command::ALL
            .iter()
            .filter(|command| command.phase() < Phase::Trusted)
            .map(|command| command.name())
            .collect();
        assert_eq!(early, ["initialize", "disconnect", "cancel", "attach"]);
    }
}
