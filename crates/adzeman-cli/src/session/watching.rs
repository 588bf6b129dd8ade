//! `watch`, `watches`, `remove watch`.

use adzeman_dap::ErrorCode;
use adzeman_dap::requests::ValueBody;

use super::{KnownWatch, Session};
use crate::command::Watch;
use crate::error::CliError;
use crate::report::{Report, WatchRow};

/// What the host says of a name that is nowhere to be seen begins so.
const NOT_IN_SCOPE: &str = "not in scope here";

impl Session<'_> {
    pub(super) fn watch(&mut self, mut wanted: Watch) -> Result<Report, CliError> {
        if self.watches.all.iter().any(|held| held.wanted == wanted) {
            return Err(CliError::Refused("that is watched already; 'watches' lists them".to_owned()));
        }
        if wanted.within.is_none() && self.uses_the_function(&wanted.expression)? {
            wanted.within = Some(self.function_here());
        }
        let number = self.add_watch(wanted, false);
        let watch = self.watch_rows()?.into_iter().find(|row| row.number == number);
        watch.map(|watch| Report::Watched { watch }).ok_or_else(|| CliError::Refused("it is not watched".to_owned()))
    }

    /// Takes a watch; answers its number.
    pub(crate) fn add_watch(&mut self, wanted: Watch, is_kept: bool) -> usize {
        self.watches.last_number += 1;
        self.watches.all.push(KnownWatch { number: self.watches.last_number, wanted, is_kept });
        self.watches.last_number
    }

    /// Whether an expression uses variables of the function being looked at. A text that is no expression is refused.
    fn uses_the_function(&mut self, expression: &str) -> Result<bool, CliError> {
        let arguments = self.evaluation(expression, "watch")?;
        match self.client.request::<_, ValueBody>("evaluate", &arguments) {
            Ok(body) => Ok(body.of_function == Some(true)),
            Err(CliError::RefusedByHost { code, .. }) if code != ErrorCode::Syntax => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// The name of the function being looked at.
    fn function_here(&self) -> String {
        let name = self.at.frames.get(self.at.frame).map(|frame| frame.name.as_str()).unwrap_or_default();
        name.trim_end_matches(" (by a tail call)").to_owned()
    }

    /// Whether what is being looked at is in this function or source.
    fn is_within(&self, within: &str) -> bool {
        let path =
            self.at.frames.get(self.at.frame).and_then(|frame| frame.source.as_ref()?.path.clone()).unwrap_or_default();
        let is_source = path == within || path.ends_with(&format!("/{within}"));
        self.at.stopped.is_some() && (self.function_here() == within || is_source)
    }

    /// All watches, each with its value here.
    pub(super) fn watch_rows(&mut self) -> Result<Vec<WatchRow>, CliError> {
        let watches = self.watches.all.clone();
        watches.iter().map(|held| self.watch_row(held)).collect()
    }

    fn watch_row(&mut self, held: &KnownWatch) -> Result<WatchRow, CliError> {
        let mut row =
            WatchRow { number: held.number, what: held.wanted.to_string(), kept: held.is_kept, ..WatchRow::default() };
        if let Some(within) = held.wanted.within.as_deref().filter(|within| !self.is_within(within)) {
            row.note = Some(format!("{NOT_IN_SCOPE}: it is in {within}"));
            row.out_of_scope = true;
            return Ok(row);
        }
        let arguments = self.evaluation(&held.wanted.expression, "watch")?;
        match self.client.request::<_, ValueBody>("evaluate", &arguments) {
            Ok(body) => {
                row.value = body.result;
                row.type_name = body.type_name;
                row.before = body.before;
            }
            Err(CliError::RefusedByHost { why, code }) => {
                row.out_of_scope = code == ErrorCode::NotInScope;
                row.note = Some(why);
            }
            Err(error) => return Err(error),
        }
        Ok(row)
    }

    pub(super) fn list_watches(&mut self) -> Result<Report, CliError> {
        Ok(Report::Watches { watches: self.watch_rows()? })
    }

    pub(super) fn remove_watch(&mut self, number: Option<usize>) -> Result<Report, CliError> {
        let before = self.watches.all.len();
        let was_kept =
            self.watches.all.iter().any(|held| held.is_kept && number.is_none_or(|number| held.number == number));
        self.watches.all.retain(|held| number.is_some_and(|number| held.number != number));
        match (before - self.watches.all.len(), number) {
            (0, Some(number)) => Err(CliError::Refused(format!("there is no watch {number}; 'watches' lists them"))),
            (count, _) => {
                if was_kept {
                    self.write_watches()?;
                }
                Ok(Report::WatchesRemoved { count })
            }
        }
    }

    /// What is inside a watch.
    pub(super) fn look_watch(&mut self, number: usize) -> Result<Report, CliError> {
        let Some(held) = self.watches.all.iter().find(|held| held.number == number).cloned() else {
            return Err(CliError::Refused(format!("there is no watch {number}; 'watches' lists them")));
        };
        if let WatchRow { note: Some(why), .. } = self.watch_row(&held)? {
            return Err(CliError::Refused(why));
        }
        let arguments = self.evaluation(&held.wanted.expression, "watch")?;
        let body: ValueBody = self.client.request("evaluate", &arguments)?;
        self.show_value(held.wanted.expression, body, None)
    }

    pub(super) fn keep_watches(&mut self) -> Result<Report, CliError> {
        self.watches.all.iter_mut().for_each(|held| held.is_kept = true);
        self.write_watches()?;
        Ok(Report::WatchesKept { count: self.watches.all.len(), file: self.files.project.shown() })
    }

    fn write_watches(&mut self) -> Result<(), CliError> {
        let kept: Vec<_> =
            self.watches.all.iter().filter(|held| held.is_kept).map(|held| held.wanted.to_string()).collect();
        self.files.project.set_watches(&kept)
    }
}
