//! `adzeman attach`: at the prompt, or with commands from a file.

use std::fs;
use std::io::{self, BufRead, BufReader};
use std::time::Duration;

use crate::args::{Attach, Run, SessionOptions, Start};
use crate::command::Command;
use crate::error::CliError;
use crate::project::Project;
use crate::prompt;
use crate::reach::launch::{Launch, Marked};
use crate::reach::module;
use crate::reach::{self, Reached};
use crate::render::Printer;
use crate::report::Report;
use crate::session::{Manner, Next, Opening, Owned, Session, launch_shown, run_line};
use crate::signals;

/// Where commands come from.
enum Commands {
    /// A person at the prompt.
    Person,
    /// A file, by its name.
    File(Box<dyn BufRead>, String),
}

impl Commands {
    /// Opened before attaching: a file that is not there must not disturb the host.
    fn of(options: &SessionOptions) -> Result<Self, CliError> {
        let Some(file) = &options.batch else { return Ok(Self::Person) };
        let input: Box<dyn BufRead> = match file.as_str() {
            "-" => Box::new(BufReader::new(io::stdin())),
            path => {
                let opened = fs::File::open(path).map_err(|why| CliError::Unreadable { file: file.clone(), why })?;
                Box::new(BufReader::new(opened))
            }
        };
        Ok(Self::File(input, file.clone()))
    }

    /// Has them carried out, up to the last, or to the first that fails.
    fn carry_out(self, session: &mut Session<'_>) -> Result<(), CliError> {
        match self {
            Self::Person => prompt::talk(session),
            Self::File(input, file) => run_lines(session, input, &file),
        }
    }
}

/// What a session begins with.
fn opening(options: &SessionOptions, manner: Manner) -> Result<Opening, CliError> {
    let project = Project::find(options.project.as_deref())?;
    let patience = Duration::try_from_secs_f64(options.patience)
        .map_err(|_| CliError::Usage(format!("'{}' is no number of seconds to wait", options.patience)))?;
    let patience = options.batch.is_some().then_some(patience);
    Ok(Opening { project, armed: !options.disarmed, patience, manner })
}

/// Attaches and does as told.
pub(crate) fn attach(arguments: &Attach, printer: &Printer) -> Result<(), CliError> {
    let commands = Commands::of(&arguments.session)?;
    let manner = Manner {
        observe: arguments.observe,
        take_over: arguments.take_over,
        follow: arguments.follow,
        only: arguments.context.clone(),
    };
    let opening = opening(&arguments.session, manner)?;
    let target = arguments.host.as_deref();
    let reached = match &arguments.awaited {
        Some(address) => {
            reach::wait_at(address, |address| printer.remark(&format!("waiting for a host at {address}")))?
        }
        None if arguments.follow => reach::wait_for(target, None, |waited| {
            printer.progress(target.unwrap_or("a host"), waited);
            Ok(())
        })?,
        None => reach::reach(target)?,
    };
    let mut session = open(reached, opening, printer, true)?;
    if let Some(name) = &arguments.context {
        session.run(Command::UseContext(name.clone()))?;
    }
    commands.carry_out(&mut session)
}

/// Attaches, with what the project file says, and says so. Scripts that the host holds may run from then on if it `is_all`; otherwise once
/// a command wants that.
fn open<'a>(reached: Reached, opening: Opening, printer: &'a Printer, is_all: bool) -> Result<Session<'a>, CliError> {
    let mut session = Session::attach(reached, opening, printer)?;
    let kept = session.set_kept()?;
    if is_all {
        session.ready()?;
    }
    printer.report(None, &session.greeting(kept));
    let compared = session.compare_sources();
    session.tell_failure(compared)?;
    Ok(session)
}

/// Runs a plain script in a process of its own, under control.
pub(crate) fn run_script(arguments: &Run, printer: &Printer) -> Result<u8, CliError> {
    let cannot = |why: io::Error| CliError::NotStarted { command: "adzeman script".to_owned(), why: why.to_string() };
    let program = std::env::current_exe().map_err(cannot)?.display().to_string();
    let file = arguments.script.file.display().to_string();
    if !arguments.script.file.is_file() {
        return Err(CliError::Unreadable { file, why: io::ErrorKind::NotFound.into() });
    }
    let command = [program, "script".to_owned(), file].into_iter().chain(arguments.script.arguments.clone()).collect();
    let launch = Launch { command, stops_first: true, ..Launch::default() };
    control(launch, &arguments.session, printer)
}

/// Starts a host under control, and does as told. Answers what the host exited with.
pub(crate) fn start(arguments: &Start, printer: &Printer) -> Result<u8, CliError> {
    let command = arguments.command.clone();
    let environment = if arguments.with_module {
        let cannot = |why| CliError::NotStarted { command: command.join(" "), why };
        module::environment(&module::folder().map_err(cannot)?, |name| std::env::var(name).ok())
    } else {
        Vec::new()
    };
    let launch = Launch { command, environment, stops_first: arguments.first, ..Launch::default() };
    control(launch, &arguments.session, printer)
}

fn control(launch: Launch, options: &SessionOptions, printer: &Printer) -> Result<u8, CliError> {
    let commands = Commands::of(options)?;
    let opening = opening(options, Manner::default())?;
    let marked = Marked::default();
    let (launched, reached) = launch_shown(&launch, &marked, printer)?;
    let stops_first = launch.stops_first;
    // The breakpoints at the head of a file are set before the first line runs.
    let is_all = stops_first || matches!(commands, Commands::Person);
    let mut session = open(reached, opening, printer, is_all)?;
    session.owns(Owned { launch, launched, marked });
    let begun = if stops_first { session.wait().map(|stop| printer.report(None, &stop)) } else { Ok(()) };
    let mut outcome = begun.and_then(|()| commands.carry_out(&mut session));
    if !session.is_ready {
        // A command failed before anything ran: what was started runs on, as after any that fails.
        outcome = outcome.and(session.ready());
    }
    let ended = session.into_owned().map(|mut owned| owned.launched.wait());
    match (outcome, ended) {
        // A host that has ended was what the session was for.
        (outcome, Some(status)) if outcome.as_ref().err().is_none_or(CliError::is_final) => {
            let code = status?.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(1);
            printer.report(None, &Report::Ended { code });
            Ok(code)
        }
        (outcome, _) => outcome.map(|()| 0),
    }
}

/// Runs commands up to the first that fails; at the end, leaves.
fn run_lines(session: &mut Session<'_>, input: impl BufRead, file: &str) -> Result<(), CliError> {
    for (number, line) in (1..).zip(input.lines()) {
        let line = line.map_err(|why| CliError::Unreadable { file: file.to_owned(), why })?;
        if signals::take_interrupt() {
            return Err(CliError::GivenUp("the batch".to_owned()));
        }
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
