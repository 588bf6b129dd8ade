//! What the command is told.

use clap::{Args, Parser, Subcommand};

/// Attach to a host application and debug the scripts it runs.
#[derive(Debug, Parser)]
#[command(name = "adzeman", version, after_help = crate::error::EXIT_CODES)]
pub(crate) struct Arguments {
    /// Print one JSON object a line, for programs
    #[arg(long, global = true)]
    pub(crate) json: bool,
    #[command(subcommand)]
    pub(crate) verb: Verb,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Verb {
    /// Attach to a host that listens
    Attach(Attach),
    /// Start the demo host `lockside`, attach to it and play a short session
    Demo(Demo),
    /// Run the demo host alone, to attach to it from elsewhere
    Lockside(adzeman_demo::Options),
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Attach {
    /// Address the host listens on: a port of this machine, or such as 127.0.0.1:4711
    pub(crate) address: String,
    /// Run the commands of a file (`-` for standard input) instead of asking for them; ends at the first that fails
    #[arg(long, value_name = "FILE")]
    pub(crate) batch: Option<String>,
    /// Seconds that `go` waits for a stop in a batch
    #[arg(long, value_name = "SECONDS", default_value_t = 30.0)]
    pub(crate) patience: f64,
    /// Begin with all breakpoints disarmed; `breaks on` arms them
    #[arg(long)]
    pub(crate) disarmed: bool,
    /// Project file with breakpoints to set; without it, the nearest adzeman.toml from here up
    #[arg(long, value_name = "FILE")]
    pub(crate) project: Option<std::path::PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Start and attach only, and leave the prompt to you
    #[arg(long)]
    pub(crate) hands_on: bool,
}
