//! `adzeman attach`: at the prompt, or with commands from a file.

use std::fs;
use std::io::{self, BufRead, BufReader};
use std::time::Duration;

use crate::args::Attach;
use crate::command::{self, Command};
use crate::error::CliError;
use crate::project::Project;
use crate::prompt;
use crate::reach;
use crate::render::Printer;
use crate::session::{Manner, Opening, Session};

/// Whether a session goes on after a command.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Next {
    Ask,
    Leave,
}

/// Attaches and does as told.
pub(crate) fn attach(arguments: &Attach, printer: &Printer) -> Result<(), CliError> {
    let Some(file) = &arguments.batch else {
        let mut session = open(arguments, None, printer)?;
        return prompt::talk(&mut session);
    };
    // Read before attaching: a file that is not there must not disturb the host.
    let input: Box<dyn BufRead> = match file.as_str() {
        "-" => Box::new(BufReader::new(io::stdin())),
        path => {
            let opened = fs::File::open(path).map_err(|why| CliError::Unreadable { file: file.clone(), why })?;
            Box::new(BufReader::new(opened))
        }
    };
    let patience = Duration::try_from_secs_f64(arguments.patience)
        .map_err(|_| CliError::Usage(format!("'{}' is no number of seconds to wait", arguments.patience)))?;
    let mut session = open(arguments, Some(patience), printer)?;
    run_lines(&mut session, input, file)
}

/// Attaches, with what the project file says, and says so.
fn open<'a>(arguments: &Attach, patience: Option<Duration>, printer: &'a Printer) -> Result<Session<'a>, CliError> {
    let project = Project::find(arguments.project.as_deref())?;
    let target = arguments.host.as_deref();
    let reached = match &arguments.listen {
        Some(address) => {
            reach::wait_at(address, |address| printer.remark(&format!("waiting for a host at {address}")))?
        }
        None if arguments.follow => reach::wait_for(target, None, |waited| {
            printer.progress(target.unwrap_or("a host"), waited);
            Ok(())
        })?,
        None => reach::reach(target)?,
    };
    let manner = Manner {
        observe: arguments.observe,
        take_over: arguments.take_over,
        follow: arguments.follow,
        only: arguments.context.clone(),
    };
    let opening = Opening { project, armed: !arguments.disarmed, patience, manner };
    let mut session = Session::attach(reached, opening, printer)?;
    let kept = session.set_kept()?;
    session.ready()?;
    printer.report(None, &session.greeting(kept));
    if let Some(name) = &arguments.context {
        session.run(Command::UseContext(name.clone()))?;
    }
    Ok(session)
}

/// Runs commands up to the first that fails; at the end, leaves.
fn run_lines(session: &mut Session<'_>, input: impl BufRead, file: &str) -> Result<(), CliError> {
    for (number, line) in (1..).zip(input.lines()) {
        let line = line.map_err(|why| CliError::Unreadable { file: file.to_owned(), why })?;
        let outcome = run_line(session, line.trim(), true);
        match outcome {
            Ok(Next::Ask) => {}
            Ok(Next::Leave) => return Ok(()),
            Err(why) => {
                let file = if file == "-" { "standard input" } else { file }.to_owned();
                return Err(CliError::InBatch { file, line: number, why: Box::new(why) });
            }
        }
    }
    run_line(session, "leave", true).map(|_| ())
}

/// Runs one line and prints what comes of it; errors are the caller's to print.
pub(crate) fn run_line(session: &mut Session<'_>, line: &str, echo: bool) -> Result<Next, CliError> {
    let command = command::parse(line)?;
    if command == Command::Nothing {
        return Ok(Next::Ask);
    }
    session.take_waiting()?;
    // Who lets scripts go on means the stop they know of, so `go` shows one that they have not seen.
    if !matches!(command, Command::Go(_)) {
        session.show_unseen()?;
    }
    if echo {
        session.printer.echo(&session.prompt(), line);
    }
    let next = if command == Command::Leave { Next::Leave } else { Next::Ask };
    let report = session.run(command)?;
    session.printer.report(Some(line), &report);
    Ok(next)
}
