//! How many values a context holds, and what holds one of them.

use std::sync::Arc;
use std::time::{Duration, Instant};

use adzeman_core::evaluation::Cancel;
use adzeman_core::heap::{Census, Counting};
use adzeman_dap::extra::{CensusArguments, CensusBody, HoldersArguments, HoldersBody};

use super::answer::all_as_json;
use super::{Session, SessionError};
use crate::lane::ContextLink;
use crate::state::clients::Client;
use crate::state::notice::{Notice, Progress};

/// How long values are counted at a time while scripts run: an event waits for it.
const PART: Duration = Duration::from_millis(1);
/// How long counting may take where scripts stand still; it can be cancelled.
const LONGEST: Duration = Duration::from_secs(3600);
/// Between two times that a person is told how far it has come.
const TOLD_EVERY: Duration = Duration::from_secs(1);
/// Censuses that are kept to be compared with.
const MOST_KEPT: usize = 50;
/// Groups that are answered.
const MOST_GROUPS: usize = 1000;
/// Paths that are answered where nothing else is said, and at most.
const FEW_PATHS: usize = 20;
const MOST_PATHS: usize = 1000;

/// The censuses of a client.
#[derive(Default)]
pub(super) struct Censuses {
    /// Each with its number and its context.
    kept: Vec<(u64, i64, Arc<Census>)>,
    last: u64,
}

impl Censuses {
    fn get(&self, number: u64) -> Result<(i64, Arc<Census>), SessionError> {
        let held = self.kept.iter().find(|(held, ..)| *held == number);
        let held = held.map(|(_, context, census)| (*context, census.clone()));
        held.ok_or(SessionError::NoCensus { number, last: self.last })
    }

    fn keep(&mut self, context: i64, census: Arc<Census>) -> u64 {
        self.last += 1;
        self.kept.push((self.last, context, census));
        if self.kept.len() > MOST_KEPT {
            self.kept.remove(0);
        }
        self.last
    }
}

/// Says whether to go on, and tells a client that wants to know how far it has come.
struct Pace {
    cancel: Cancel,
    client: Arc<Client>,
    request: i64,
    title: String,
    told: Instant,
    has_begun: bool,
}

impl Pace {
    fn goes_on(&mut self, values: u64) -> bool {
        if self.told.elapsed() >= TOLD_EVERY && self.client.wants_progress() {
            self.told = Instant::now();
            if !std::mem::replace(&mut self.has_begun, true) {
                self.tell(Progress::Begun { title: self.title.clone() });
            }
            self.tell(Progress::At { message: format!("{}: {values} values so far", self.title) });
        }
        !self.cancel.is_cancelled()
    }

    fn tell(&self, step: Progress) {
        self.client.tell(Notice::Progress { request: self.request, step });
    }
}

impl Drop for Pace {
    fn drop(&mut self) {
        if self.has_begun {
            self.tell(Progress::Ended);
        }
    }
}

impl Session {
    fn pace(&self, request: i64, title: String) -> Pace {
        let (cancel, client) = (self.cancel.clone(), self.client.clone());
        Pace { cancel, client, request, title, told: Instant::now(), has_begun: false }
    }

    pub(super) fn census(&mut self, request: i64, arguments: &CensusArguments) -> Result<CensusBody, SessionError> {
        let earlier = arguments.since.map(|number| self.censuses.get(number)).transpose()?;
        let of_earlier = earlier.as_ref().map(|(context, _)| *context);
        let id = match arguments.thread_id.or(of_earlier) {
            Some(id) => id,
            None => self.any_context()?.id,
        };
        let context = self.context(id)?;
        if let Some((number, of)) = arguments.since.zip(of_earlier).filter(|(_, of)| *of != id) {
            let of = self.host.contexts.get(of).map_or("one that is gone".to_owned(), |other| other.name.clone());
            return Err(SessionError::CensusOfAnother { number, of, context: context.name.clone() });
        }
        let begun = Instant::now();
        let (census, parts) = if self.host.contexts.held_by(&context).is_some() {
            (self.count_standing(request, &context)?, 0)
        } else {
            self.count_running(request, &context)?
        };
        let milliseconds = begun.elapsed().as_secs_f64() * 1000.0;
        let census = Arc::new(census);
        let since_running = earlier.as_ref().map(|(_, earlier)| earlier.running);
        let grown = earlier.map(|(_, earlier)| census.since(&earlier));
        let grown = grown.map(|grown| all_as_json(&grown[..grown.len().min(MOST_GROUPS)])).transpose()?;
        let groups = census.lines.len();
        let shown = Census { lines: census.lines.iter().take(MOST_GROUPS).cloned().collect(), ..(*census).clone() };
        let number = self.censuses.keep(id, census);
        Ok(CensusBody {
            number,
            context: context.name.clone(),
            census: serde_json::to_value(&shown)?,
            groups,
            grown,
            since_running,
            milliseconds,
            parts,
        })
    }

    /// All at once: nothing runs before it is done.
    fn count_standing(&self, request: i64, context: &ContextLink) -> Result<Census, SessionError> {
        let mut pace = self.pace(request, format!("counting what {} holds", context.name));
        let counted = self.ask_for(context, LONGEST, move |point| {
            point.engine.census(Counting::Standing, &mut |values| pace.goes_on(values))
        })??;
        counted.ok_or(SessionError::Cancelled)
    }

    /// A part at a time, between events.
    fn count_running(&self, request: i64, context: &ContextLink) -> Result<(Census, u64), SessionError> {
        let (mut how, mut parts) = (Counting::Begin, 0);
        let mut pace = self.pace(request, format!("counting what {} holds", context.name));
        loop {
            parts += 1;
            let (counted, values) = self.ask(context, move |point| {
                let (begun, mut seen) = (Instant::now(), 0);
                let counted = point.engine.census(how, &mut |values| {
                    seen = values;
                    begun.elapsed() < PART
                });
                (counted, seen)
            })?;
            match counted? {
                Some(census) => return Ok((census, parts)),
                None if pace.goes_on(values) => how = Counting::GoOn,
                None => return Err(SessionError::Cancelled),
            }
        }
    }

    pub(super) fn holders(&mut self, request: i64, arguments: HoldersArguments) -> Result<HoldersBody, SessionError> {
        let (context, frame) = self.place(arguments.frame_id, arguments.thread_id)?;
        if self.host.contexts.held_by(&context).is_none() {
            return Err(SessionError::Running(context.name.clone()));
        }
        let most = arguments.count.unwrap_or(FEW_PATHS).min(MOST_PATHS);
        let mut pace = self.pace(request, format!("looking for what holds '{}'", arguments.expression));
        let found = self.ask_for(&context, LONGEST, move |point| {
            point.engine.holders(frame, &arguments.expression, most, &mut |values| pace.goes_on(values))
        })??;
        let found = found.ok_or(SessionError::Cancelled)?;
        Ok(HoldersBody { holders: serde_json::to_value(&found)?, description: found.told() })
    }
}
