//! `lockside`, the demo host: a small canal company.
//!
//! ```text
//!   options ─▶ Company::run ─┬─ weather, boats ── events ──▶ lock.lua (one for each lock) ──▶ gates, sluices
//!                            ├─ water: levels and flows                                            │
//!                            └─ passages ── record.before_save ──▶ ledger.lua ──▶ SQLite ◀─────────┘
//! ```
//!
//! The same seed gives the same result, to the bit: only operations that IEEE 754 rounds exactly are used.
//!
//! ```
//! use adzeman_demo::{Company, Options};
//! use clap::Parser as _;
//!
//! # fn main() -> Result<(), adzeman_demo::LocksideError> {
//! let options = Options::parse_from(["lockside", "--frames", "600", "--fps", "0", "--listen", "0"]);
//! let summary = Company::open(&options)?.run()?;
//! assert_eq!(summary.frames, 600);
//! assert!(summary.passages > 0);
//! # Ok(())
//! # }
//! ```
#![forbid(unsafe_code)]

mod books;
mod canal;
mod company;
mod error;
mod options;
mod scripts;
mod traffic;
mod weather;

pub use company::{Company, Summary};
pub use error::LocksideError;
pub use options::Options;

use std::process::ExitCode;

/// Runs `lockside` as a command: prints where it listens to standard error, and its summary to standard output.
#[must_use]
pub fn main(options: &Options) -> ExitCode {
    match Company::open(options).and_then(|mut company| company.run()) {
        Ok(summary) => {
            println!("{summary}");
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("lockside: {error}");
            ExitCode::FAILURE
        }
    }
}
