//! What can go wrong, each with a way forward, and what the command then exits with.

use std::io;

use adzeman_dap::ErrorCode;
use thiserror::Error;

/// For `--help`.
pub(crate) const EXIT_CODES: &str = "\
Exit codes: 0 done; 1 a command failed; 2 wrong arguments; 3 no host to attach to;
4 the host went away; 5 no stop came in time (batch)";

#[derive(Debug, Error)]
#[non_exhaustive]
pub(crate) enum CliError {
    #[error(
        "no host answers at {address} ({why}); is it running, with ADZEMAN=listen or its own option to listen, and is this the address it printed?"
    )]
    NoHost { address: String, why: String },
    #[error(
        "no host can be attached to; start one with ADZEMAN=listen (or its own option to listen), or try 'adzeman demo'"
    )]
    NoHosts,
    #[error("no host is called '{target}', is process {target} or listens there; {known}")]
    NoSuchHost { target: String, known: String },
    #[error("more than one host is meant: {0}; give the process id")]
    SeveralHosts(String),
    #[error("hosts cannot be looked for: {0}")]
    NoFolder(String),
    #[error("'{0}' is not an address; give the port or the address that the host printed, such as 127.0.0.1:7642")]
    BadAddress(String),
    #[error("what listens at {address} is not a host of scripts: {why}")]
    NotAHost { address: String, why: String },
    #[error("the host is gone ({0}); start it again and attach anew")]
    HostGone(String),
    #[error("{0}")]
    Refused(String),
    #[error("{why}")]
    RefusedByHost { why: String, code: ErrorCode },
    #[error("the host does not answer '{0}'; it may be busy: try again, or leave")]
    NoAnswer(String),
    #[error("{0} was given up; what the host was doing for it ends")]
    GivenUp(String),
    #[error("the host does not take this client: {0}")]
    TurnedAway(String),
    #[error("{0}")]
    Usage(String),
    #[error("nothing stopped within {seconds} seconds; check 'breaks', or wait longer with --patience")]
    NoStop { seconds: f64 },
    #[error("line {line} of {file}: {why}")]
    InBatch { file: String, line: usize, why: Box<CliError> },
    #[error("cannot read {file}: {why}")]
    Unreadable { file: String, why: io::Error },
    #[error("cannot write {file}: {why}")]
    Unwritable { file: String, why: io::Error },
    #[error("the project file {file} cannot be used: {why}")]
    BadProject { file: String, why: String },
    #[error("'{command}' could not be started under control: {why}")]
    NotStarted { command: String, why: String },
    #[error("the demo host did not start: {0}")]
    NoDemo(String),
    #[error("the terminal cannot be used: {0}; for use without one, see --batch")]
    Terminal(String),
    #[error("the host's answer to '{command}' cannot be understood: {why}")]
    BadAnswer { command: String, why: String },
}

impl CliError {
    /// The code for the whole command.
    pub(crate) fn exit_code(&self) -> u8 {
        match self {
            Self::NoHost { .. } | Self::NotAHost { .. } | Self::NoDemo(_) | Self::NoHosts => 3,
            Self::NoSuchHost { .. } | Self::NoFolder(_) | Self::NotStarted { .. } | Self::TurnedAway(_) => 3,
            Self::BadAddress(_) | Self::Unreadable { .. } | Self::BadProject { .. } | Self::SeveralHosts(_) => 2,
            Self::HostGone(_) => 4,
            Self::NoStop { .. } => 5,
            Self::InBatch { why, .. } => why.exit_code(),
            _ => 1,
        }
    }

    /// Whether the host may only not be there yet.
    pub(crate) fn is_absence(&self) -> bool {
        matches!(self, Self::NoHosts | Self::NoSuchHost { .. } | Self::NoHost { .. })
    }

    /// Whether nothing more can be done with this host.
    pub(crate) fn is_final(&self) -> bool {
        match self {
            Self::HostGone(_) | Self::TurnedAway(_) => true,
            Self::InBatch { why, .. } => why.is_final(),
            _ => false,
        }
    }
}

/// An error of the system without its number.
pub(crate) fn plain(error: &io::Error) -> String {
    let text = error.to_string().to_lowercase();
    text.split(" (os error").next().unwrap_or(&text).to_owned()
}
