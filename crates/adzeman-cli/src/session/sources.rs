//! Sources: listed, searched, and the lines around a place.

use adzeman_dap::requests::{LoadedSourcesBody, SourceArguments, SourceBody};
use adzeman_dap::types::{Source, StackFrame};
use serde_json::json;

use super::Session;
use crate::command::Text;
use crate::error::CliError;
use crate::report::{FoundLine, Listing, Report};

/// Lines shown before and after the current one at a stop.
pub(super) const LINES_AROUND: i64 = 3;
/// Lines shown before and after by `look source`.
const MORE_LINES: i64 = 12;
/// Lines found that are shown.
const MOST_FOUND: usize = 50;

impl Session<'_> {
    pub(super) fn look_source(&mut self, wanted: Text) -> Result<Report, CliError> {
        self.require_stop()?;
        if wanted == Text::Before {
            return self.look_before();
        }
        if wanted == Text::Generated {
            let compiled = self.at.frames.get(self.at.frame).and_then(|frame| frame.compiled.clone());
            let compiled = compiled.ok_or_else(|| {
                CliError::Refused(
                    "this frame's source was not compiled from another one, as far as the host knows".to_owned(),
                )
            })?;
            return self
                .lines_around(compiled.source, compiled.line, MORE_LINES)
                .map(|listing| Report::Source { listing });
        }
        let frame = self.at.frames.get(self.at.frame).cloned();
        let listing = frame.map(|frame| self.listing(&frame, MORE_LINES)).transpose()?.flatten();
        listing
            .map(|listing| Report::Source { listing })
            .ok_or_else(|| CliError::Refused("this frame has no source; 'look stack' shows which ones have".to_owned()))
    }

    /// The text that was there before the one of this frame, around the line that reads as this one, or has its number.
    fn look_before(&mut self) -> Result<Report, CliError> {
        let frame = self.at.frames.get(self.at.frame).cloned();
        let (source, line) = frame.and_then(|frame| Some((frame.source?, frame.line))).unwrap_or_default();
        let before = source.replaces.ok_or_else(|| {
            CliError::Refused("this frame runs the text that was loaded; there is none before it".to_owned())
        })?;
        let before = Source { path: source.path.clone(), source_reference: Some(before), ..Source::default() };
        let (now, then) = (self.text_of(source)?, self.text_of(before.clone())?);
        let nth = |text: &str| text.lines().nth(usize::try_from(line - 1).ok()?).map(|line| line.trim().to_owned());
        let wanted = nth(&now).unwrap_or_default();
        let alike = (1..).zip(then.lines()).filter(|(_, held)| held.trim() == wanted).map(|(number, _)| number);
        let same: Option<i64> = alike.min_by_key(|number: &i64| (number - line).abs());
        let mut listing = self.lines_around(before, same.unwrap_or(line), MORE_LINES)?;
        listing.path = format!("{}, as it was before", listing.path);
        listing.current = same;
        Ok(Report::Source { listing })
    }

    /// The source around the first place of a breakpoint.
    pub(super) fn look_break(&mut self, which: &str) -> Result<Report, CliError> {
        let id = self.picked_one(which)?.id;
        let infos = self.breakpoints_now()?;
        let place = infos.iter().find(|now| Some(now.id) == id).and_then(|now| now.places.first().cloned());
        let place = place.as_deref().and_then(|place| place.rsplit_once(':'));
        let found = place.and_then(|(path, line)| Some((path.to_owned(), line.parse::<i64>().ok()?)));
        let (path, line) = found.ok_or_else(|| {
            CliError::Refused(format!("breakpoint {which} has no line; 'breaks' shows what it waits for"))
        })?;
        let source = Source { path: Some(path), ..Source::default() };
        self.lines_around(source, line, LINES_AROUND).map(|listing| Report::Source { listing })
    }

    /// The lines around a frame's, if it has any.
    pub(super) fn listing(&mut self, frame: &StackFrame, around: i64) -> Result<Option<Listing>, CliError> {
        let Some(source) = frame.source.clone().filter(|_| frame.line > 0) else { return Ok(None) };
        let mut listing = self.lines_around(source, frame.line, around)?;
        let is_innermost = self.at.frames.iter().find(|held| held.line > 0).is_some_and(|held| held.id == frame.id);
        if is_innermost {
            listing.ran.clone_from(&self.at.lines_ran);
        }
        Ok(Some(listing))
    }

    /// The lines around one, as far as the host knows the text.
    fn lines_around(&mut self, source: Source, line: i64, around: i64) -> Result<Listing, CliError> {
        let path = source.path.clone().unwrap_or_default();
        let text = self.text_of(source)?;
        let first = (line - around).max(1);
        let skip = usize::try_from(first - 1).unwrap_or(0);
        let count = usize::try_from(line + around - first + 1).unwrap_or(1);
        let lines = text.lines().skip(skip).take(count).map(str::to_owned).collect();
        Ok(Listing { path: self.files.paths.to_local(&path), first, lines, current: Some(line), ran: Vec::new() })
    }

    /// The text of a source; empty when the host does not know it.
    pub(super) fn text_of(&mut self, source: Source) -> Result<String, CliError> {
        let arguments =
            SourceArguments { source_reference: source.source_reference.unwrap_or(0), source: Some(source) };
        match self.client.request::<_, SourceBody>("source", &arguments) {
            Ok(text) => Ok(text.content),
            Err(CliError::RefusedByHost { .. }) => Ok(String::new()),
            Err(error) => Err(error),
        }
    }

    pub(super) fn look_sources(&mut self, text: Option<String>) -> Result<Report, CliError> {
        let body: LoadedSourcesBody = self.client.request("loadedSources", &json!({}))?;
        let maps = self.files.paths.clone();
        let path = |source: &Source| maps.to_local(source.path.as_deref().unwrap_or_default());
        let Some(text) = text else {
            return Ok(Report::Sources { paths: body.sources.iter().map(path).collect() });
        };
        let mut found = Vec::new();
        let paths = body.sources.iter().map(path).filter(|path| path.contains(&text)).collect();
        for source in body.sources {
            let path = path(&source);
            let script = self.text_of(source)?;
            let lines = script.lines().enumerate().filter(|(_, line)| line.contains(&text));
            let line = |(number, line): (usize, &str)| FoundLine {
                path: path.clone(),
                line: number + 1,
                text: line.trim().to_owned(),
            };
            found.extend(lines.map(line));
        }
        let more = found.len() > MOST_FOUND;
        found.truncate(MOST_FOUND);
        Ok(Report::Found { text, paths, lines: found, more })
    }
}
