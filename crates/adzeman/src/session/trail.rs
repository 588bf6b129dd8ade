//! The trail, as clients look at it, and events of it that are delivered once more.

use adzeman_core::trail::{Entry, Filter, counts};
use adzeman_dap::extra::{TrailAgainArguments, TrailArguments, TrailBody, TrailCountsBody};
use serde_json::Value as Json;

use super::{Session, SessionError};

/// Events that are answered where nothing else is said, and at most.
const FEW: usize = 20;
const MOST: usize = 2000;
/// Bytes of them that are answered at most; a message takes 8 MiB.
const MOST_BYTES: usize = 4 << 20;
/// Sums that are answered.
const MOST_COUNTS: usize = 1000;

impl Session {
    pub(super) fn trail(&self, arguments: &TrailArguments) -> Result<TrailBody, SessionError> {
        let trail = self.host.trail.look();
        let entries = trail.entries();
        let (kept, range) = (entries.len(), first_and_last(&entries));
        let filter = filter_of(arguments)?;
        let count = arguments.count.unwrap_or(FEW).min(MOST);
        let mut picked: Vec<&Entry> = entries.iter().filter(|entry| filter.is_met(entry)).collect();
        let total = picked.len();
        if let Some(number) = arguments.number {
            let at = entries.iter().position(|entry| entry.number == number);
            let at = at.ok_or(SessionError::NotInTrail { number, range })?;
            picked = entries[at.saturating_sub(count)..(at + count + 1).min(kept)].iter().collect();
        } else if let Some(after) = arguments.after {
            picked.retain(|entry| entry.number > after);
            picked.truncate(count);
        } else if arguments.slowest == Some(true) {
            picked.sort_by(|a, b| b.milliseconds.total_cmp(&a.milliseconds));
            picked.truncate(count);
        } else {
            picked.drain(..total.saturating_sub(count));
        }
        let (dropped, bytes, most_bytes) = (trail.dropped, trail.bytes, trail.most_bytes);
        Ok(TrailBody { entries: as_far_as_they_fit(&picked), total, kept, dropped, bytes, most_bytes })
    }

    pub(super) fn trail_counts(&self, arguments: &TrailArguments) -> Result<TrailCountsBody, SessionError> {
        let entries = self.host.trail.look().entries();
        let filter = filter_of(arguments)?;
        let picked: Vec<_> = entries.iter().filter(|entry| filter.is_met(entry)).collect();
        let total = picked.len();
        let counts = counts(picked).into_iter().take(MOST_COUNTS);
        Ok(TrailCountsBody { counts: counts.filter_map(|count| serde_json::to_value(count).ok()).collect(), total })
    }

    /// Has the host deliver an event of the trail once more, at the next safe point of the thread that takes events of its kind.
    pub(super) fn trail_again(&mut self, arguments: &TrailAgainArguments) -> Result<(), SessionError> {
        let entries = self.host.trail.look().entries();
        let entry = entries.iter().find(|entry| entry.number == arguments.number);
        let entry = entry
            .ok_or_else(|| SessionError::NotInTrail { number: arguments.number, range: first_and_last(&entries) })?;
        if let Some(why) = &entry.payload_left_out {
            return Err(SessionError::NotCopied(entry.title(), why.clone()));
        }
        if !self.host.ask_again(entry) {
            return Err(SessionError::NotTakenAgain(entry.event.clone()));
        }
        Ok(())
    }
}

fn filter_of(arguments: &TrailArguments) -> Result<Filter, SessionError> {
    Filter::parse(arguments.filter.as_deref().unwrap_or_default())
        .map_err(|why| SessionError::BadFilter(why.to_string()))
}

/// The numbers of the first and the last one.
fn first_and_last(entries: &[Entry]) -> Option<(u64, u64)> {
    Some((entries.first()?.number, entries.last()?.number))
}

fn as_far_as_they_fit(entries: &[&Entry]) -> Vec<Json> {
    let mut bytes = 0;
    let as_json = |entry: &&Entry| serde_json::to_value(entry).ok();
    let fits = |json: &Json| {
        bytes += json.to_string().len();
        bytes <= MOST_BYTES
    };
    entries.iter().filter_map(as_json).take_while(fits).collect()
}
