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
    /// List the hosts that can be attached to
    Hosts,
    /// Attach to a host
    Attach(Attach),
    /// Start a host under control and attach to it; exits as the host does
    Start(Start),
    /// Run a Lua script in a clean state of its own, stopping at its first line
    Run(Run),
    /// Serve the Debug Adapter Protocol on standard input and output, for editors that start an adapter
    Adapter,
    /// Look at a trail that a host has written to a file, with the same commands as in a session
    Trail(ReadTrail),
    /// What `run` starts
    #[command(hide = true)]
    Script(Script),
    /// Start the demo host `lockside`, attach to it and play a short session
    Demo(Demo),
    /// Run the demo host alone, to attach to it from elsewhere
    Lockside(adzeman_demo::Options),
}

#[derive(Debug, Clone, Args)]
pub(crate) struct ReadTrail {
    /// The file: of ADZEMAN_TRAIL=FILE, or written by 'trail to FILE'
    pub(crate) file: std::path::PathBuf,
    /// What of it: 'failed', 'slowest', 'counts', 'look 812', 'record.save when event.cost > 5ms', 'to day.svg'; the last events
    /// without it
    #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
    pub(crate) command: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Attach {
    /// The host: its name, its process id, its address or port; without it, the only one there is
    pub(crate) host: Option<String>,
    #[command(flatten)]
    pub(crate) session: SessionOptions,
    /// When the host is gone, wait until it is there again, and set everything again; also for the first time
    #[arg(long)]
    pub(crate) follow: bool,
    /// Wait at this address for a host that was started with ADZEMAN=dial:ADDRESS
    #[arg(long = "await", value_name = "ADDRESS", conflicts_with_all = ["host", "follow"])]
    pub(crate) awaited: Option<String>,
    /// Look, and nothing else; any number of clients may
    #[arg(long)]
    pub(crate) observe: bool,
    /// Take control from whoever has it
    #[arg(long, conflicts_with = "observe")]
    pub(crate) take_over: bool,
    /// Break in this context only
    #[arg(long, value_name = "NAME")]
    pub(crate) context: Option<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Start {
    #[command(flatten)]
    pub(crate) session: SessionOptions,
    /// Stop at the first line of a script
    #[arg(long)]
    pub(crate) first: bool,
    /// Have the program load the module first: for interpreters of Lua, and whatever else honours LUA_INIT and LUA_PATH
    #[arg(long)]
    pub(crate) with_module: bool,
    /// The command, behind `--`; it is run with ADZEMAN in its environment
    #[arg(last = true, required = true, value_name = "COMMAND")]
    pub(crate) command: Vec<String>,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Run {
    #[command(flatten)]
    pub(crate) session: SessionOptions,
    #[command(flatten)]
    pub(crate) script: Script,
}

#[derive(Debug, Clone, Args)]
pub(crate) struct Script {
    /// The script
    pub(crate) file: std::path::PathBuf,
    /// What it is given
    #[arg(trailing_var_arg = true, allow_hyphen_values = true)]
    pub(crate) arguments: Vec<String>,
}

/// How a session is held.
#[derive(Debug, Clone, Args)]
pub(crate) struct SessionOptions {
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
