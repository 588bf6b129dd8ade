//! Trails: those of hosts that run, and those that were written to files.

mod file;

use std::path::{Path, PathBuf};

use adzeman::core::trail::{Count, Entry, Filter, counts};

use crate::args::ReadTrail;
use crate::command::{Command, Trail, parse};
use crate::error::CliError;
use crate::own_file::write_text;
use crate::pictures::draw_timeline;
use crate::render::Printer;
use crate::report::{Kept, Report};

use file::write_lines;

/// Events shown where nothing else is said.
pub(crate) const FEW: usize = 20;
/// Events shown before and behind one.
pub(crate) const AROUND: usize = 3;

/// `adzeman trail FILE [COMMAND]`: answers from a file as the prompt would from a host.
pub(crate) fn read(wanted: &ReadTrail, printer: &Printer) -> Result<(), CliError> {
    let held = file::read(&wanted.file)?;
    for (line, why) in &held.broken {
        printer
            .remark(&format!("line {line} of {} is left out: it is no event of a trail: {why}", wanted.file.display()));
    }
    let line = wanted.command.join(" ");
    let line = line.trim();
    // As it is typed in a session, or without what a trail goes without saying.
    let bare = line.strip_prefix("look ").unwrap_or(line).trim();
    let bare = bare.strip_prefix("trail ").unwrap_or(bare).trim();
    let Command::Trail(command) = parse(&format!("trail {bare}"))? else {
        return Err(CliError::Usage(format!("'{line}' is nothing that a trail answers; see 'adzeman trail --help'")));
    };
    if line.is_empty() {
        printer.remark(&held.head.told());
    }
    let report = answer(&held, command)?;
    printer.report(None, &report);
    Ok(())
}

/// What comes of a command, from these entries.
fn answer(held: &file::Held, command: Trail) -> Result<Report, CliError> {
    let (entries, kept): (&[Entry], Kept) = (&held.entries, held.kept());
    let pick = |filter: &str| -> Result<Vec<&Entry>, CliError> {
        let filter = Filter::parse(filter).map_err(|why| CliError::Usage(why.to_string()))?;
        Ok(entries.iter().filter(|entry| filter.is_met(entry)).collect())
    };
    let all_of = |picked: Vec<&Entry>| picked.into_iter().cloned().collect();
    match command {
        Trail::Last { count, filter } => {
            let picked = pick(&filter)?;
            let (total, from) = (picked.len(), picked.len().saturating_sub(count.unwrap_or(FEW)));
            Ok(Report::Trail { entries: all_of(picked[from..].to_vec()), total, kept })
        }
        Trail::Slowest { filter } => {
            let mut picked = pick(&filter)?;
            let total = picked.len();
            picked.sort_by(|a, b| b.milliseconds.total_cmp(&a.milliseconds));
            picked.truncate(FEW);
            Ok(Report::Trail { entries: all_of(picked), total, kept })
        }
        Trail::Counts { filter } => {
            let counts: Vec<Count> = counts(pick(&filter)?);
            Ok(Report::TrailCounts { counts })
        }
        Trail::One(number) => {
            let at = entries.iter().position(|entry| entry.number == number).ok_or_else(|| {
                let range = entries.first().zip(entries.last());
                let has = range.map_or("; it is empty".to_owned(), |(first, last)| {
                    format!("; it has those from {} to {}", first.number, last.number)
                });
                CliError::Refused(format!("event {number} is not in the trail{has}"))
            })?;
            let around = entries[at.saturating_sub(AROUND)..(at + AROUND + 1).min(entries.len())].to_vec();
            Ok(Report::TrailEntry { entry: Box::new(entries[at].clone()), around })
        }
        Trail::Again(_) => Err(CliError::Refused(
            "a file delivers nothing again; attach to the host, which may have the event yet".to_owned(),
        )),
        Trail::To { file, filter } => write_to(&file, &all_of(pick(&filter)?), held.head.host(), None),
    }
}

/// Writes events to a file: a picture where it is called so, lines otherwise.
pub(crate) fn write_to(
    file: &str,
    entries: &[Entry],
    of: &str,
    head: Option<&serde_json::Value>,
) -> Result<Report, CliError> {
    let path = PathBuf::from(file);
    let is_picture = path.extension().is_some_and(|end| end.eq_ignore_ascii_case("svg"));
    if entries.is_empty() {
        return Err(CliError::Refused("no event is there to be written".to_owned()));
    }
    if is_picture {
        let drawn = draw_timeline(entries, of).map_err(|why| unwritable(&path, std::io::Error::other(why)))?;
        write_text(file, &drawn)?;
    } else {
        write_lines(&path, entries, head).map_err(|why| unwritable(&path, why))?;
    }
    Ok(Report::TrailWritten { file: file.to_owned(), events: entries.len() })
}

fn unwritable(file: &Path, why: std::io::Error) -> CliError {
    CliError::Unwritable { file: file.display().to_string(), why }
}
