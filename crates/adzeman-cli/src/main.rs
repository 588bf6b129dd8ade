//! The command `adzeman`: attaches to a host and debugs the scripts that it runs. A client of the Debug Adapter Protocol
//! like any editor.
//!
//! ```text
//!   a line typed ─▶ command::parse ─▶ run ─▶ client ◀── DAP ──▶ host
//!                                      │
//!                                      └─▶ report ─▶ render (for people) or JSON (for programs)
//! ```
#![forbid(unsafe_code)]

mod args;
mod batch;
mod client;
mod command;
mod demo;
mod error;
mod live;
mod project;
mod prompt;
mod reach;
mod render;
mod report;
mod run;
mod session;

use std::process::ExitCode;

use clap::Parser as _;

use crate::args::{Arguments, Verb};
use crate::render::Printer;
use crate::report::Report;

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let printer = Printer::new(arguments.json);
    let outcome = match arguments.verb {
        Verb::Hosts => reach::hosts().map(|hosts| printer.report(None, &Report::Hosts { hosts })),
        Verb::Attach(attach) => batch::attach(&attach, &printer),
        Verb::Demo(demo) => demo::run(&demo, &printer),
        Verb::Lockside(options) => return adzeman_demo::main(&options),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            printer.error(None, &error);
            ExitCode::from(error.exit_code())
        }
    }
}
