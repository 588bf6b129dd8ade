//! One line of commands, wherever it was typed.

use super::Session;
use crate::command::{self, Command};
use crate::error::CliError;

/// Whether a session goes on after a command.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Next {
    Ask,
    Leave,
}

/// Runs one line and prints what comes of it; errors are the caller's to print.
pub(crate) fn run_line(session: &mut Session<'_>, line: &str, echo: bool) -> Result<Next, CliError> {
    let command = command::parse(line)?;
    if command == Command::Nothing {
        // Whoever presses Enter at the prompt is shown a stop that they were told of.
        session.take_waiting()?;
        if let Some(report) = if echo { None } else { session.next_stop()? } {
            session.printer.report(None, &report);
        }
        return Ok(Next::Ask);
    }
    if !session.is_ready && !command.only_prepares() {
        session.ready()?;
    }
    session.take_waiting()?;
    // Who lets scripts go on means the stop they know of, so `go` shows one that they have not seen. Nothing typed lands in another
    // context than the one that the prompt has shown.
    if !matches!(command, Command::Go(_)) {
        session.show_own_stop()?;
    }
    if echo {
        session.printer.echo(&session.prompt(), line);
    }
    let next = if command == Command::Leave { Next::Leave } else { Next::Ask };
    let report = session.run(command)?;
    session.printer.report(Some(line), &report);
    Ok(next)
}
