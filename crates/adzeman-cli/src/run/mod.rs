//! Carrying commands out.

mod breakpoints;
mod looking;

use serde_json::{Value as Json, json};

use adzeman_dap::requests::{SetExpressionArguments, ValueBody};

use crate::command::{Command, Go};
use crate::error::CliError;
use crate::report::Report;
use crate::session::Session;

impl Session<'_> {
    /// Carries a command out and answers what came of it.
    pub(crate) fn run(&mut self, command: Command) -> Result<Report, CliError> {
        match command {
            Command::Nothing => Ok(Report::Nothing),
            Command::Break(wanted) => self.add_breakpoint(wanted),
            Command::Breaks => self.list_breakpoints(),
            Command::Remove(number) => self.remove_breakpoints(number),
            Command::Go(go) => self.go(go),
            Command::Look(what) => self.look(what),
            Command::Let { target, value } => self.change(target, value),
            Command::UseFrame(number) => self.use_frame(number),
            Command::UseContext(name) => self.use_context(&name),
            Command::Pause => self.pause(),
            Command::Leave => self.leave(),
            Command::Help => Ok(Report::Help),
        }
    }

    /// Lets the stopped context go on, and waits for the next stop. With nothing stopped, it only waits; a stop that came
    /// meanwhile is shown first.
    fn go(&mut self, go: Go) -> Result<Report, CliError> {
        if let Some(report) = self.unseen_stop()? {
            return Ok(report);
        }
        let command = match go {
            Go::Freely => "continue",
            Go::Over => "next",
            Go::Into => "stepIn",
            Go::Out => "stepOut",
        };
        match self.stopped {
            Some(thread) => {
                let _: Json = self.client.request(command, &json!({ "threadId": thread }))?;
                self.forget_stop();
            }
            None if go == Go::Freely => {}
            None => {
                self.require_stop()?;
            }
        }
        self.wait()
    }

    fn pause(&mut self) -> Result<Report, CliError> {
        if let Some(stopped) = self.stopped {
            let name = self.context_name(stopped);
            return Err(CliError::Refused(format!("{name} is stopped already; 'look' shows where")));
        }
        let thread_id = self.current_context()?;
        let _: Json = self.client.request("pause", &json!({ "threadId": thread_id }))?;
        self.printer.report(None, &Report::PauseAsked { context: self.context_name(thread_id) });
        self.wait()
    }

    fn change(&mut self, target: String, value: String) -> Result<Report, CliError> {
        let arguments = SetExpressionArguments {
            expression: target.clone(),
            value,
            frame_id: self.frame_id(),
            thread_id: Some(self.current_context()?),
        };
        let body: ValueBody = self.client.request("setExpression", &arguments)?;
        Ok(Report::Changed { target, value: body.value.unwrap_or_default() })
    }

    fn leave(&mut self) -> Result<Report, CliError> {
        let _: Json = self.client.request("disconnect", &json!({}))?;
        Ok(Report::Left { host: self.host.name.clone() })
    }
}
