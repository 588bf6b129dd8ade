//! Carrying commands out.

use std::time::Duration;

use serde_json::{Value as Json, json};

use adzeman_dap::extra::{self, ChangesBody, GoToArguments, LimitsBody, RoleBody, UndoArguments, UndoBody};
use adzeman_dap::requests::{
    EvaluateArguments, GotoArguments, GotoTargetsArguments, GotoTargetsBody, SetExpressionArguments, ValueBody,
};

use super::Session;
use crate::command::{Command, Go, Limit, Undo};
use crate::error::CliError;
use crate::report::{FOR_NOW, Report};

impl Session<'_> {
    /// Carries a command out and answers what came of it. A host that is gone is waited for, if that was asked for; who let it
    /// go on waits for its next stop.
    pub(crate) fn run(&mut self, command: Command) -> Result<Report, CliError> {
        let goes_on = matches!(command, Command::Go(_));
        let mut outcome = self.carry_out(command);
        while self.origin.manner.follow && matches!(outcome, Err(CliError::HostGone(_))) {
            self.come_back()?;
            let again = || CliError::Refused("the host was started anew meanwhile; say it again".to_owned());
            outcome = if goes_on { self.wait() } else { Err(again()) };
        }
        outcome
    }

    fn carry_out(&mut self, command: Command) -> Result<Report, CliError> {
        match command {
            Command::Nothing => Ok(Report::Nothing),
            Command::Break(wanted) => self.add_breakpoint(*wanted),
            Command::Breaks => self.list_breakpoints(),
            Command::Arm(armed) => self.arm(armed),
            Command::Enable(which, enabled) => self.enable(&which, enabled),
            Command::Remove(which) => self.remove_breakpoints(&which),
            Command::Keep(which) => self.keep(&which),
            Command::KeepWatches => self.keep_watches(),
            Command::Watch(wanted) => self.watch(wanted),
            Command::Watches => self.list_watches(),
            Command::RemoveWatch(number) => self.remove_watch(number),
            Command::Monitor(wanted) => self.monitor(wanted),
            Command::Monitors => self.show_monitors(),
            Command::RemoveMonitor(number) => self.remove_monitor(number),
            Command::More => self.more(),
            Command::Library(paths) => self.library(paths),
            Command::Go(go) => self.go(go),
            Command::Run(call) => self.call(call),
            Command::Look(what) => self.look(what),
            Command::Let { target, value, for_now } => self.change(target, value, for_now),
            Command::Reload(wanted) => self.reload(&wanted),
            Command::ReloadOnSave(follows) => self.reload_on_save(follows),
            Command::Edit(place) => self.edit(place),
            Command::Changes => {
                let body: ChangesBody = self.client.request(extra::CHANGES, &json!({}))?;
                Ok(Report::Changes { changes: body.changes })
            }
            Command::Undo { which, anyway } => self.undo(which, anyway),
            Command::Trail(wanted) => self.trail(wanted),
            Command::Census(wanted) => self.census(&wanted),
            Command::Holders(wanted) => self.holders(wanted),
            Command::Figures(wanted) => self.figures(&wanted),
            Command::Profile(wanted) => self.profile(&wanted),
            Command::Plan(wanted) => self.plan(&wanted),
            Command::UseFrame(number) => self.use_frame(number),
            Command::UseContext(name) => self.use_context(&name),
            Command::Pause => self.pause(),
            Command::Restart => self.restart(),
            Command::End => self.end(),
            Command::TakeOver => self.take_over(),
            Command::Limit(wanted) => self.limit(&wanted),
            Command::Leave => self.leave(),
            Command::Help(verb) => Ok(Report::Help { verb }),
        }
    }

    /// Lets the stopped context go on, and waits for the next stop. With nothing stopped, it only waits; a stop that came
    /// meanwhile is shown first.
    fn go(&mut self, go: Go) -> Result<Report, CliError> {
        if let Some(report) = self.next_stop()? {
            return Ok(report);
        }
        // A step is one of its context; who lets scripts run waits for whichever stops.
        let mut of_context = None;
        match self.at.stopped {
            Some(thread_id) => {
                if matches!(go, Go::Over | Go::Into | Go::Out | Go::Again | Go::From(_) | Go::Line { path: None, .. }) {
                    self.require_stop()?;
                }
                of_context = matches!(go, Go::Over | Go::Into | Go::Out | Go::Again | Go::From(_)).then_some(thread_id);
                let (command, arguments) = self.request_to_go(go, thread_id)?;
                let _: Json = self.client.request(command, &arguments)?;
                self.forget_stop();
            }
            None if go == Go::Freely => {}
            None if matches!(go, Go::Event { .. } | Go::Line { path: Some(_), .. }) => {
                let (command, arguments) = self.request_to_go(go, self.current_context()?)?;
                let _: Json = self.client.request(command, &arguments)?;
            }
            None => {
                self.require_stop()?;
            }
        }
        self.wait_in(of_context)
    }

    /// The request for a way to go on.
    fn request_to_go(&mut self, go: Go, thread_id: i64) -> Result<(&'static str, Json), CliError> {
        let thread = json!({ "threadId": thread_id });
        Ok(match go {
            Go::Freely => ("continue", thread),
            Go::Over => ("next", thread),
            Go::Into => ("stepIn", thread),
            Go::Out => ("stepOut", thread),
            Go::Again => ("restartFrame", json!({ "frameId": self.frame_id().unwrap_or_default() })),
            Go::From(line) => ("goto", json!(self.target(thread_id, line)?)),
            Go::Event { kind, count } => {
                let arguments =
                    GoToArguments { thread_id, event: Some(kind), count: Some(count), ..GoToArguments::default() };
                (extra::GO_TO, json!(arguments))
            }
            Go::Line { path, line } => {
                let here = self.at.frames.get(self.at.frame).and_then(|frame| frame.source.as_ref()?.path.clone());
                let path = path.map(|path| self.files.paths.to_host(&path)).or(here).ok_or_else(|| {
                    CliError::Refused("this frame has no source; write 'go line N in FILE'".to_owned())
                })?;
                let arguments =
                    GoToArguments { thread_id, line: Some(line), path: Some(path), ..GoToArguments::default() };
                (extra::GO_TO, json!(arguments))
            }
        })
    }

    /// Calls a function of the script, and waits for its end or for a stop in it.
    fn call(&mut self, call: String) -> Result<Report, CliError> {
        let arguments = EvaluateArguments {
            expression: call.clone(),
            frame_id: self.frame_id(),
            thread_id: Some(self.current_context()?),
            ..EvaluateArguments::default()
        };
        let _: Json = self.client.request(extra::RUN, &arguments)?;
        self.call = Some((call, self.client.last_seq()));
        self.wait()
    }

    fn pause(&mut self) -> Result<Report, CliError> {
        if let Some(stopped) = self.at.stopped {
            let name = self.context_name(stopped);
            return Err(CliError::Refused(format!("{name} is stopped already; 'look' shows where")));
        }
        let thread_id = self.current_context()?;
        let _: Json = self.client.request("pause", &json!({ "threadId": thread_id }))?;
        self.printer.report(None, &Report::PauseAsked { context: self.context_name(thread_id) });
        self.wait()
    }

    /// Gives back what was set for now.
    fn undo(&mut self, which: Undo, anyway: bool) -> Result<Report, CliError> {
        let id = match which {
            Undo::All => None,
            Undo::Number(id) => Some(id),
            Undo::Last => {
                let body: ChangesBody = self.client.request(extra::CHANGES, &json!({}))?;
                let last = body.changes.iter().rev().find(|change| change.state == FOR_NOW);
                let why = "nothing is set for now; 'let TARGET = EXPRESSION for now' does that";
                Some(last.map(|change| change.id).ok_or_else(|| CliError::Refused(why.to_owned()))?)
            }
        };
        let body: UndoBody = self.client.request(extra::UNDO, &UndoArguments { id, anyway: Some(anyway) })?;
        Ok(Report::Undone { undone: body.undone, left: body.left })
    }

    fn change(&mut self, target: String, value: String, for_now: bool) -> Result<Report, CliError> {
        let arguments = SetExpressionArguments {
            expression: target.clone(),
            value,
            frame_id: self.frame_id(),
            thread_id: Some(self.current_context()?),
            for_now: for_now.then_some(true),
        };
        let body: ValueBody = self.client.request("setExpression", &arguments)?;
        Ok(Report::Changed { target, value: body.value.unwrap_or_default(), made: body.made, for_now })
    }

    /// The line of the innermost function that a context is to go on from; what that comes to is said.
    fn target(&mut self, thread_id: i64, line: i64) -> Result<GotoArguments, CliError> {
        let innermost = self.at.frames.iter().position(|frame| frame.line > 0);
        if innermost != Some(self.at.frame) {
            let why = "it is the innermost function of the script that goes on from another line; look from there first, \
                       with 'use frame'";
            return Err(CliError::Refused(why.to_owned()));
        }
        let source = self.at.frames.get(self.at.frame).and_then(|frame| frame.source.clone()).unwrap_or_default();
        let body: GotoTargetsBody = self.client.request("gotoTargets", &GotoTargetsArguments { source, line })?;
        let target = body.targets.first().cloned().unwrap_or_default();
        let values = if target.label.contains(" nil") { "every other value" } else { "every value" };
        self.printer.remark(&format!("goes on from {}; {values} is what it was", target.label));
        Ok(GotoArguments { thread_id, target_id: target.id })
    }

    fn take_over(&mut self) -> Result<Report, CliError> {
        let role: RoleBody = self.client.request(extra::TAKE_OVER, &json!({}))?;
        self.role = role.into();
        Ok(Report::Role { controls: self.role.controls, controlled_by: self.role.controlled_by.clone() })
    }

    /// Says how much evaluations may take, from now on.
    fn limit(&mut self, wanted: &Limit) -> Result<Report, CliError> {
        let milliseconds = |time: Duration| Some(time.as_secs_f64() * 1000.0);
        let mut arguments = LimitsBody::default();
        match wanted {
            Limit::Show => {}
            Limit::Asked(time) => arguments.asked_milliseconds = milliseconds(*time),
            Limit::Conditions(time) => arguments.aside_milliseconds = milliseconds(*time),
            Limit::Memory(bytes) => arguments.memory_bytes = Some(*bytes),
        }
        let now: LimitsBody = self.client.request(extra::LIMITS, &arguments)?;
        let seconds = |milliseconds: Option<f64>| milliseconds.unwrap_or_default() / 1000.0;
        let asked = Duration::try_from_secs_f64(seconds(now.asked_milliseconds)).unwrap_or_default();
        self.client.be_patient(asked);
        Ok(Report::Limits {
            asked_seconds: seconds(now.asked_milliseconds),
            conditions_seconds: seconds(now.aside_milliseconds),
            memory_bytes: now.memory_bytes.unwrap_or_default(),
        })
    }

    fn restart(&mut self) -> Result<Report, CliError> {
        self.start_again()?;
        Ok(self.greeting(0))
    }

    /// Ends the host that was started for this session.
    fn end(&mut self) -> Result<Report, CliError> {
        let Some(owned) = &mut self.origin.owned else {
            let why = "this host was not started by 'adzeman start'; 'leave' detaches from it";
            return Err(CliError::Refused(why.to_owned()));
        };
        owned.launched.end()?;
        Err(CliError::HostGone("it was ended".to_owned()))
    }

    fn leave(&mut self) -> Result<Report, CliError> {
        let host = self.host.name.clone();
        match self.client.request::<_, Json>("disconnect", &json!({})) {
            Ok(_) => Ok(Report::Left { host, gone: None }),
            Err(CliError::HostGone(why)) => Ok(Report::Left { host, gone: Some(why) }),
            Err(other) => Err(other),
        }
    }
}
