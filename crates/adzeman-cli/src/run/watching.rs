//! `watch`, `watches`, `unwatch`.

use adzeman_dap::requests::ValueBody;

use crate::command::Watch;
use crate::error::CliError;
use crate::report::{Report, WatchRow};
use crate::session::{HeldWatch, Session};

/// What the host says of a name that is nowhere to be seen begins so.
const NOT_IN_SCOPE: &str = "not in scope here";

impl Session<'_> {
    pub(super) fn watch(&mut self, mut wanted: Watch) -> Result<Report, CliError> {
        if self.watches.iter().any(|held| held.wanted == wanted) {
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
        self.last_watch += 1;
        self.watches.push(HeldWatch { number: self.last_watch, wanted, is_kept });
        self.last_watch
    }

    /// Whether an expression uses variables of the function being looked at. A text that is no expression is refused.
    fn uses_the_function(&mut self, expression: &str) -> Result<bool, CliError> {
        let arguments = self.evaluation(expression, "watch")?;
        match self.client.request::<_, ValueBody>("evaluate", &arguments) {
            Ok(body) => Ok(body.of_function == Some(true)),
            Err(CliError::Refused(why)) if why.starts_with("cannot read that") => Err(CliError::Refused(why)),
            Err(CliError::Refused(_)) => Ok(false),
            Err(error) => Err(error),
        }
    }

    /// The name of the function being looked at.
    fn function_here(&self) -> String {
        let name = self.frames.get(self.frame).map(|frame| frame.name.as_str()).unwrap_or_default();
        name.trim_end_matches(" (by a tail call)").to_owned()
    }

    /// Whether what is being looked at is in this function or source.
    fn is_within(&self, within: &str) -> bool {
        let path =
            self.frames.get(self.frame).and_then(|frame| frame.source.as_ref()?.path.clone()).unwrap_or_default();
        let is_source = path == within || path.ends_with(&format!("/{within}"));
        self.stopped.is_some() && (self.function_here() == within || is_source)
    }

    /// All watches, each with its value here.
    pub(super) fn watch_rows(&mut self) -> Result<Vec<WatchRow>, CliError> {
        let watches = self.watches.clone();
        watches.iter().map(|held| self.watch_row(held)).collect()
    }

    fn watch_row(&mut self, held: &HeldWatch) -> Result<WatchRow, CliError> {
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
            Err(CliError::Refused(why)) => {
                row.out_of_scope = why.starts_with(NOT_IN_SCOPE);
                row.note = Some(why);
            }
            Err(error) => return Err(error),
        }
        Ok(row)
    }

    pub(super) fn list_watches(&mut self) -> Result<Report, CliError> {
        Ok(Report::Watches { watches: self.watch_rows()? })
    }

    pub(super) fn unwatch(&mut self, number: Option<usize>) -> Result<Report, CliError> {
        let before = self.watches.len();
        let was_kept =
            self.watches.iter().any(|held| held.is_kept && number.is_none_or(|number| held.number == number));
        self.watches.retain(|held| number.is_some_and(|number| held.number != number));
        match (before - self.watches.len(), number) {
            (0, Some(number)) => Err(CliError::Refused(format!("there is no watch {number}; 'watches' lists them"))),
            (count, _) => {
                if was_kept {
                    self.write_watches()?;
                }
                Ok(Report::Unwatched { count })
            }
        }
    }

    /// What is inside a watch.
    pub(super) fn look_watch(&mut self, number: usize) -> Result<Report, CliError> {
        let Some(held) = self.watches.iter().find(|held| held.number == number).cloned() else {
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
        self.watches.iter_mut().for_each(|held| held.is_kept = true);
        self.write_watches()?;
        Ok(Report::WatchesKept { count: self.watches.len(), file: self.project.shown() })
    }

    fn write_watches(&mut self) -> Result<(), CliError> {
        let kept: Vec<_> =
            self.watches.iter().filter(|held| held.is_kept).map(|held| held.wanted.to_string()).collect();
        self.project.set_watches(&kept)
    }
}
