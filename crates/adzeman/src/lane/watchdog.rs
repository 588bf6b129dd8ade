//! Finding out that an evaluation, or a script that is to pause, is in a call that the engine cannot interrupt, and saying so: a
//! script thread in such a call can say nothing itself. And serving those who wait for a context whose host comes to no safe
//! point. The thread that looks is there while someone is attached.

use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::Ordering::SeqCst;
use std::thread;
use std::time::{Duration, Instant};

use adzeman_core::evaluation::{Inside, UnderWay};

use super::HostState;
use super::link::ContextLink;
use crate::state::lock;
use crate::state::notice::{Notice, Stuck, Tone};
use crate::state::standing::RunState;

/// Between two looks.
const GLANCE: Duration = Duration::from_millis(100);
/// How much longer than it may take, or than it was cancelled ago, an evaluation is under way when it is told of.
const LATE: Duration = Duration::from_secs(1);

/// Looks between two that see to contexts, where nobody has been attached for long.
const RARELY: u32 = 600;

/// How long jobs wait for a safe point of the host before the script's next line serves them.
const SERVED_WITHIN: Duration = Duration::from_millis(250);

/// What an evaluation is in, where that has no name.
pub(crate) const UNNAMED: &str = "a function that is not the script's";
/// What a script is in that the engine does not interrupt.
const FINALIZER: &str = "a finalizer of the script";

/// The script itself, that is to pause: no evaluation has this number.
const SCRIPT: u64 = 0;

/// An evaluation as it was seen first.
struct Seen {
    number: u64,
    since: Instant,
    cancelled_since: Option<Instant>,
    is_told: bool,
    /// Whether it was told that a pause waits for a line.
    is_waiting_told: bool,
}

/// Sees to it that someone looks, for as long as someone is attached.
pub(crate) fn wake(host: &Arc<HostState>) {
    let mut is_awake = lock(&host.evaluating.is_watched_over);
    if *is_awake {
        return;
    }
    let held = host.clone();
    let started = thread::Builder::new().name("adzeman-watch".to_owned()).spawn(move || watch(&held));
    *is_awake = started.is_ok();
    if let Err(error) = started {
        tracing::warn!(%error, "nobody will say what an evaluation is stuck in");
    }
}

fn watch(host: &HostState) {
    let (mut seen, mut waiting) = (HashMap::new(), HashMap::new());
    let mut alone: u32 = 0;
    loop {
        let contexts = host.contexts.all();
        {
            let mut is_awake = lock(&host.evaluating.is_watched_over);
            let is_needed =
                host.is_attached() || contexts.iter().any(|context| context.safe_points.is_lagging.load(SeqCst));
            if !is_needed || host.closing.load(SeqCst) {
                *is_awake = false;
                return;
            }
        }
        seen.retain(|id, _| contexts.iter().any(|context| context.id == *id));
        alone = if host.is_attached() { 0 } else { alone.saturating_add(1) };
        waiting.retain(|id, _| contexts.iter().any(|context| context.id == *id));
        for context in contexts {
            look(host, &context, &mut seen);
            if is_due(alone) {
                serve(&context, &mut waiting);
            }
            context.remind();
        }
        host.figures.sample_process(host.clock.now());
        thread::sleep(GLANCE);
    }
}

/// Whether contexts are seen to at a look, of so many since nobody is attached: less and less often then.
fn is_due(alone: u32) -> bool {
    alone < 2 || alone.is_power_of_two() || alone.is_multiple_of(RARELY)
}

/// Has jobs done at the next line that have waited for too long, and what the engine has to do between two handlers. What is held
/// serves by itself.
fn serve(context: &ContextLink, waiting: &mut HashMap<i64, Instant>) {
    let came_by = context.safe_points.came.swap(false, SeqCst);
    let is_wanted = !came_by && context.safe_points.is_wanted.load(SeqCst);
    if !(context.has_mail() || is_wanted) || context.standing.state() != RunState::Running {
        waiting.remove(&context.id);
        return;
    }
    let since = *waiting.entry(context.id).or_insert_with(Instant::now);
    if since.elapsed() > SERVED_WITHIN {
        context.ask_to_serve();
    }
}

fn look(host: &HostState, context: &ContextLink, seen: &mut HashMap<i64, Seen>) {
    let now = context.under_way().or_else(|| to_pause(context));
    let is_same = seen.get(&context.id).is_some_and(|held| now.as_ref().is_some_and(|now| now.number == held.number));
    if !is_same && let Some(over) = seen.remove(&context.id).filter(|held| held.is_told) {
        let since = over.since.elapsed();
        let seconds = since.as_secs_f64();
        let description = format!("{}: the call has returned, after {seconds:.1} s; all is as usual", context.name);
        tell(host, Stuck { context: context.id, is_stuck: false, native: None, since, description });
    }
    let Some(now) = now else { return };
    let begun = || Seen {
        number: now.number,
        since: Instant::now(),
        cancelled_since: None,
        is_told: false,
        is_waiting_told: false,
    };
    let held = seen.entry(context.id).or_insert_with(begun);
    if now.is_cancelled {
        held.cancelled_since.get_or_insert_with(Instant::now);
    }
    if held.cancelled_since.is_some() {
        // It may be slow to look up by itself.
        context.interrupt();
    }
    let is_over_time = now.time.is_some_and(|time| held.since.elapsed() > time.saturating_add(LATE));
    let is_deaf = held.cancelled_since.is_some_and(|since| since.elapsed() > LATE);
    if !(is_over_time || is_deaf) || held.is_told {
        return;
    }
    let (who, place) = match now.number {
        SCRIPT => ("the script", context.inside().and_then(stuck_in)),
        _ => ("an evaluation", Some(now.native)),
    };
    if let Some(native) = place {
        held.is_told = true;
        tell(host, stuck(context, who, native, held.since.elapsed()));
    } else if now.number == SCRIPT && !std::mem::replace(&mut held.is_waiting_told, true) {
        let seconds = held.since.elapsed().as_secs_f64();
        let text = format!(
            "{}: no line of a script has been reached for {seconds:.1} s since the pause was asked for; it stops at the next one. \
             A coroutine that the host resumes by itself, and not by its context, is reached only when it comes to a breakpoint or \
             has returned\n",
            context.name
        );
        host.clients.tell(Notice::text(Tone::Important, text));
    }
}

/// A script that is to pause, as if it were an evaluation that is to give up.
fn to_pause(context: &ContextLink) -> Option<UnderWay> {
    context.is_to_pause().then_some(UnderWay { number: SCRIPT, time: None, is_cancelled: true, native: None })
}

/// What keeps a script that is in this from coming to a line, and its name as far as it has one; nothing where nothing does, or
/// the host does something else meanwhile.
pub(crate) fn stuck_in(inside: Inside) -> Option<Option<String>> {
    match inside {
        Inside::Native(native) => Some(native),
        Inside::Finalizer => Some(Some(FINALIZER.to_owned())),
        Inside::Script | Inside::Host => None,
    }
}

fn stuck(context: &ContextLink, who: &str, native: Option<String>, since: Duration) -> Stuck {
    let seconds = since.as_secs_f64();
    let place = native.as_deref().map_or_else(|| UNNAMED.to_owned(), |name| format!("'{name}'"));
    let description = format!(
        "{}: {who} has been in {place} for {seconds:.1} s, in one call that cannot be interrupted; the host goes on the moment \
         that returns",
        context.name
    );
    Stuck { context: context.id, is_stuck: true, native, since, description }
}

/// Tells everyone, as what it is, and as a text for those who know no such thing.
fn tell(host: &HostState, stuck: Stuck) {
    tracing::warn!(stuck.description);
    let text = Notice::text(Tone::Important, format!("{}\n", stuck.description));
    host.clients.tell(Notice::Stuck(Box::new(stuck)));
    host.clients.tell(text);
}
