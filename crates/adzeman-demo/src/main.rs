//! The command `lockside`.

use std::process::ExitCode;

use clap::Parser as _;

fn main() -> ExitCode {
    adzeman_demo::main(&adzeman_demo::Options::parse())
}
