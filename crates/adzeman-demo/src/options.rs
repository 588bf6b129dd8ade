//! What `lockside` is told on its command line.

use std::path::PathBuf;

use clap::Parser;

/// A small canal company: three locks, boats, weather, and the books.
#[derive(Debug, Clone, Parser)]
#[command(name = "lockside", version)]
pub struct Options {
    /// Decides boats and weather; the same seed gives the same result
    #[arg(long, default_value_t = 7)]
    pub seed: u64,
    /// Frames to run, each one second of the canal's time; without it, until Ctrl-C
    #[arg(long)]
    pub frames: Option<u64>,
    /// Frames a second; 0 for as fast as it goes
    #[arg(long, default_value_t = 60)]
    pub fps: u32,
    /// File for the passages; without it they are kept in memory
    #[arg(long, value_name = "FILE")]
    pub db: Option<PathBuf>,
    /// Script that works the locks in place of lockside's own
    #[arg(long, value_name = "FILE")]
    pub lock_script: Option<PathBuf>,
    /// Address to listen on for someone who attaches, such as 127.0.0.1:7642 or 0 for any free port; without it, what the
    /// environment variable ADZEMAN says
    #[arg(long, value_name = "ADDRESS")]
    pub listen: Option<String>,
    /// Wait with the first frame until someone is attached
    #[arg(long)]
    pub hold: bool,
}
