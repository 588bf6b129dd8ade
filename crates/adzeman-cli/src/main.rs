//! The command `adzeman`: attaches to a host and debugs the scripts that it runs. A client of the Debug Adapter Protocol
//! like any editor.
//!
//! ```text
//!   a line typed ─▶ command::parse ─▶ session ─▶ client ◀── DAP ──▶ host
//!                                        │
//!                                        └─▶ report ─▶ render (for people) or JSON (for programs)
//! ```
#![forbid(unsafe_code)]

mod args;
mod batch;
mod client;
mod command;
mod demo;
mod dot;
mod error;
mod live;
mod own_file;
mod pictures;
mod project;
mod prompt;
mod reach;
mod render;
mod report;
mod script_host;
mod session;
mod signals;
mod trail;

use std::process::ExitCode;

use clap::Parser as _;

use crate::args::{Arguments, Verb};
use crate::error::CliError;
use crate::render::Printer;
use crate::report::Report;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let printer = Printer::new(arguments.json);
    // The hosts that this command can be have signals of their own.
    let is_host = matches!(arguments.verb, Verb::Script(_) | Verb::Lockside(_));
    if !is_host && let Err(error) = signals::listen() {
        printer.remark(&format!("Ctrl-C ends this command at once: {error}"));
    }
    let outcome = match arguments.verb {
        Verb::Hosts => reach::hosts().map(|hosts| printer.report(None, &Report::Hosts { hosts })),
        Verb::Start(start) => return end_with(batch::start(&start, &printer), &printer),
        Verb::Run(run) => return end_with(batch::run_script(&run, &printer), &printer),
        Verb::Script(script) => return script_host::run(&script),
        Verb::Adapter => reach::adapter::serve(),
        Verb::Attach(attach) => batch::attach(&attach, &printer),
        Verb::Trail(wanted) => trail::read(&wanted, &printer),
        Verb::Demo(demo) => demo::run(&demo, &printer),
        Verb::Lockside(options) => return adzeman_demo::main(&options),
    };
    end_with(outcome.map(|()| 0), &printer)
}

/// Exits with a code, or says what went wrong.
fn end_with(outcome: Result<u8, CliError>, printer: &Printer) -> ExitCode {
    match outcome {
        Ok(code) => ExitCode::from(code),
        Err(error) => {
            printer.error(None, &error);
            ExitCode::from(error.exit_code())
        }
    }
}
