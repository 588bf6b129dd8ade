//! Where time goes: stacks are sampled for a while.

use std::cell::RefCell;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_core::profile::Profile;
use adzeman_dap::extra::{ProfileArguments, ProfileBody};

use super::{Session, SessionError};
use crate::lane::ContextLink;
use crate::state::standing::RunState;

/// How long samples are taken where nothing else is said, and at most.
const USUAL: Duration = Duration::from_secs(5);
const LONGEST: Duration = Duration::from_secs(60);
/// Between two samples, at least and at most.
const EVERY: Duration = Duration::from_millis(1);
const RAREST: Duration = Duration::from_secs(1);
/// The share of the time that they may take.
const SHARE: f64 = 0.01;
/// How much more they take than is measured of them, since caches have to be filled again behind each: 1.8 to 2.7 times, by the bench
/// `profiling`.
const MEASURED_PART: u32 = 2;
/// When it is looked at first what they take, and between two looks after that.
const FIRST_LOOK: Duration = Duration::from_millis(30);
const LOOKED_AT_EVERY: Duration = Duration::from_secs(1);
/// Stacks that are answered.
const MOST_STACKS: usize = 5_000;

/// Samples that are being taken. They end when this goes, whatever happens.
struct Sampling<'s> {
    session: &'s Session,
    contexts: Vec<Arc<ContextLink>>,
    /// What samples have cost the thread of each context so far.
    spent: RefCell<Vec<Duration>>,
}

impl Sampling<'_> {
    /// What was sampled so far of a context; it goes on from there, or ends.
    fn take(&self, context: &ContextLink, goes_on: bool) -> Result<Profile, SessionError> {
        self.session.ask(context, move |point| {
            let taken = point.context.end_profile();
            if goes_on {
                point.context.begin_profile()?;
            }
            Ok::<_, SessionError>(taken)
        })?
    }
}

impl Drop for Sampling<'_> {
    fn drop(&mut self) {
        for context in &self.contexts {
            super::ask::tell(context, |point| drop(point.context.end_profile()));
        }
    }
}

impl Session {
    pub(super) fn profile(&self, arguments: &ProfileArguments) -> Result<ProfileBody, SessionError> {
        let wanted = arguments.milliseconds.and_then(|time| Duration::try_from_secs_f64(time / 1000.0).ok());
        let wanted = wanted.unwrap_or(USUAL).min(LONGEST);
        let contexts = match arguments.thread_id {
            Some(id) => {
                let context = self.context(id)?;
                if context.standing.state() != RunState::Running {
                    return Err(SessionError::Stopped(context.name.clone()));
                }
                vec![context]
            }
            None => self.host.contexts.all(),
        };
        if contexts.is_empty() {
            return Err(SessionError::NoContexts);
        }
        let mut sampling = Sampling { session: self, contexts: Vec::new(), spent: RefCell::default() };
        for context in contexts {
            let begun = self.ask(&context, |point| point.context.begin_profile());
            match begun {
                // One that is held, or comes to no safe point, has no part in it.
                Err(_) if arguments.thread_id.is_none() => {}
                other => {
                    other??;
                    sampling.contexts.push(context);
                }
            }
        }
        sampling.spent.borrow_mut().resize(sampling.contexts.len(), Duration::ZERO);
        let (begun, mut ticks, mut one, mut slowed) = (Instant::now(), 0_u64, Duration::ZERO, false);
        let mut profile = Profile::default();
        let mut look_at = begun + FIRST_LOOK;
        let mut next = begun;
        while begun.elapsed() < wanted && !self.cancel.is_cancelled() {
            ContextLink::sample_all(&sampling.contexts);
            ticks += 1;
            if Instant::now() >= look_at {
                look_at = Instant::now() + LOOKED_AT_EVERY;
                one = self.gather(&sampling, true, &mut profile, ticks);
            }
            // The rate gives way: the next one is taken when all so far are within their share.
            let owed = spent(one, ticks).div_f64(SHARE).saturating_sub(begun.elapsed());
            slowed |= owed > EVERY;
            // Those that were missed are not made up for.
            next = (next + owed.clamp(EVERY, RAREST)).max(Instant::now());
            thread::sleep(next.saturating_duration_since(Instant::now()));
        }
        let share = spent(self.gather(&sampling, false, &mut profile, ticks), ticks).as_secs_f64();
        let share = share / begun.elapsed().as_secs_f64();
        let took = begun.elapsed();
        let passed_over = during(&mut profile, arguments.event.as_deref());
        self.name_functions(&mut profile);
        profile.stacks.sort_by_key(|stack| std::cmp::Reverse(stack.samples));
        profile.stacks.truncate(MOST_STACKS);
        let milliseconds = took.as_secs_f64() * 1000.0;
        #[expect(clippy::cast_precision_loss, reason = "no profile has 2^53 samples")]
        let every_milliseconds = milliseconds / ticks.max(1) as f64;
        Ok(ProfileBody {
            profile: serde_json::to_value(profile)?,
            milliseconds,
            every_milliseconds,
            ticks,
            share,
            slowed,
            passed_over,
        })
    }

    /// Takes in what was sampled of all contexts; answers what one of the `ticks` so far costs that context which it costs most.
    fn gather(&self, sampling: &Sampling<'_>, goes_on: bool, into: &mut Profile, ticks: u64) -> Duration {
        let mut most = Duration::ZERO;
        let mut spent = sampling.spent.borrow_mut();
        for (at, context) in sampling.contexts.iter().enumerate() {
            // One that comes to no safe point is asked again the next time.
            let Ok(mut taken) = sampling.take(context, goes_on) else { continue };
            spent[at] += Duration::from_nanos(taken.spent_nanoseconds);
            let measured = spent[at] / u32::try_from(ticks.max(1)).unwrap_or(u32::MAX) + context.reach_costs();
            most = most.max(measured * MEASURED_PART);
            for stack in &mut taken.stacks {
                stack.context.clone_from(&context.name);
            }
            into.take_in(taken);
        }
        most
    }

    /// Names functions that were called by no name as their source has them.
    fn name_functions(&self, profile: &mut Profile) {
        let sources = self.host.sources.look();
        for function in &mut profile.functions {
            let (None, Some(defined)) = (&function.name, &function.defined) else { continue };
            function.name = sources.named(&defined.source).and_then(|source| {
                let spans = &source.facts.code.get().functions;
                spans.iter().find(|span| span.first.get() == defined.line)?.name.clone()
            });
        }
    }
}

/// What so many samples cost, of which one costs so much.
fn spent(one: Duration, ticks: u64) -> Duration {
    one.saturating_mul(u32::try_from(ticks).unwrap_or(u32::MAX))
}

/// Leaves what was sampled while other events were handled, or none; answers how many samples that were.
fn during(profile: &mut Profile, event: Option<&str>) -> u64 {
    let Some(event) = event else { return 0 };
    let before = profile.samples();
    profile.stacks.retain(|stack| stack.event.as_deref() == Some(event));
    before - profile.samples()
}
