//! Holding a context at a stop: its thread serves the mailbox until someone lets it go.

use std::cell::{Cell, RefCell};
use std::sync::atomic::Ordering::SeqCst;
use std::time::{Duration, Instant};

use adzeman_core::breakpoint::OwnerId;
use adzeman_core::decide::Reason;
use adzeman_core::engine::Engine;
use adzeman_core::source::Line;
use adzeman_core::stepping::{Step, StepKind};

use super::context::LocalContext;
use super::{AtLine, Lane};
use crate::state::clients::Client;
use crate::state::notice::{Notice, Tone};
use crate::state::standing::Outer;

/// Time between two calls of the host's pause pump: about 60 a second.
const PUMP_INTERVAL: Duration = Duration::from_millis(16);
/// Time between two looks whether anyone is attached at all, for a host without a pump.
const IDLE_INTERVAL: Duration = Duration::from_millis(250);

/// Contexts of a thread among which a step goes on to the next one: each of them is watched for its next line.
const MOST_STEPPED_TO: usize = 100;

/// How a held context goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Go {
    Freely,
    Step(StepKind),
    /// The handler is given up, and the event delivered again.
    Again,
    /// The innermost function goes on at this line of its own, where it stops.
    From(Line),
}

/// A stop under way.
#[derive(Debug)]
pub(crate) struct Hold {
    /// Which of the host's stops it is, from 1 on.
    pub(crate) number: u64,
    /// The context that stopped; the others of its thread are held with it.
    pub(crate) context: i64,
    pub(crate) reason: Reason,
    /// The clients that were told of it.
    told: RefCell<Vec<OwnerId>>,
    go: Cell<Option<Go>>,
    /// The client that asked for it to go on: to that one it is no news that it does.
    let_go_by: Cell<Option<OwnerId>>,
}

impl Hold {
    /// Lets it go on.
    pub(crate) fn let_go(&self, go: Go, by: Option<OwnerId>) {
        self.go.set(Some(go));
        self.let_go_by.set(by);
    }

    /// Whether a client was not told of this stop before; it counts as told from now on.
    pub(crate) fn is_news_to(&self, client: &Client) -> bool {
        let mut told = self.told.borrow_mut();
        let is_news = !told.contains(&client.owner);
        if is_news {
            told.push(client.owner);
        }
        is_news
    }
}

/// What is put back when a stop is over, also by a fault.
struct StopGuard<'a> {
    context: &'a LocalContext,
    lane: &'a Lane,
    hold: &'a Hold,
    outer: Outer,
    was_holding: bool,
}

impl Drop for StopGuard<'_> {
    fn drop(&mut self) {
        let (link, host) = (&self.context.link, &self.lane.host);
        link.standing.leave(&self.outer);
        host.clock.release();
        self.lane.holding.set(self.was_holding);
        let notice = Notice::Continued { context: link.id, are_all: host.contexts.is_last_stopped(link.id) };
        host.clients.tell_all_but(self.hold.let_go_by.get(), notice);
    }
}

impl LocalContext {
    /// Holds this context, at the place its engine is at, until it is let go; answers how.
    pub(crate) fn hold(&self, lane: &Lane, engine: &mut dyn Engine, reason: &Reason) -> Go {
        let hold = Hold {
            number: lane.host.stops.fetch_add(1, SeqCst) + 1,
            context: self.link.id,
            reason: reason.clone(),
            told: RefCell::default(),
            go: Cell::new(None),
            let_go_by: Cell::new(None),
        };
        let was_holding = lane.holding.replace(true);
        lane.host.end_temporary();
        lane.host.clock.hold();
        let outer = self.link.standing.enter(hold.number);
        let held = StopGuard { context: self, lane, hold: &hold, outer, was_holding };
        self.tell_stopped(&hold, engine);
        let go = self.serve_until_let_go(lane, engine, &hold);
        self.release_handles(lane, engine);
        drop(held);
        match go {
            Go::Freely => {}
            Go::Step(kind) => self.step_on(lane, kind, engine),
            Go::Again => lane.again.set(true),
            Go::From(line) => self.go_on_from(line, engine),
        }
        go
    }

    /// Has the innermost function go on elsewhere, to stop there.
    fn go_on_from(&self, line: Line, engine: &mut dyn Engine) {
        match engine.go_from(line) {
            Ok(()) => self.await_arrival(),
            // It was looked at before, at this very stop.
            Err(why) => {
                let text = format!("{} goes on where it was: {why}\n", self.link.name);
                self.host.clients.tell(Notice::text(Tone::Important, text));
            }
        }
    }

    /// Begins a step. Where nothing of this context runs, or nothing does any more, it goes on to the first line of whichever
    /// context handles the event next.
    fn step_on(&self, lane: &Lane, kind: StepKind, engine: &mut dyn Engine) {
        let is_at_boundary = engine.stack().depth() == 0;
        self.begin_step(Step::begin(if is_at_boundary { StepKind::Into } else { kind }, engine.stack()));
        let contexts = lane.contexts();
        if contexts.len() <= MOST_STEPPED_TO {
            contexts.iter().filter(|other| other.link.id != self.link.id).for_each(|other| other.await_step());
        }
    }

    fn serve_until_let_go(&self, lane: &Lane, engine: &mut dyn Engine, hold: &Hold) -> Go {
        let mut pumped_at = Instant::now();
        loop {
            if let Some(go) = hold.go.get() {
                return go;
            }
            if !lane.host.clients.is_controlled() || lane.host.closing.load(SeqCst) {
                return Go::Freely;
            }
            let has_pump = lane.pump.borrow().is_some();
            let wait = if has_pump { PUMP_INTERVAL } else { IDLE_INTERVAL };
            if let Ok(mail) = lane.mailbox.receiver.recv_timeout(wait.saturating_sub(pumped_at.elapsed())) {
                lane.serve(mail, Some(AtLine { context: self, engine: &mut *engine, hold: Some(hold) }));
            }
            // However many jobs come, the host's window is drawn.
            if pumped_at.elapsed() >= wait {
                lane.run_pump();
                pumped_at = Instant::now();
            }
        }
    }

    /// Forgets what was shown of every context of this thread.
    fn release_handles(&self, lane: &Lane, engine: &mut dyn Engine) {
        let forget = |engine: &mut dyn Engine| {
            engine.release();
            engine.goes_on();
        };
        forget(engine);
        for other in lane.contexts().iter().filter(|other| other.link.id != self.link.id) {
            other.at_safe_point(&mut |engine| forget(engine));
        }
    }
}

impl Lane {
    fn run_pump(&self) {
        // Taken out while it runs, so that it may replace itself.
        let pump = self.pump.borrow_mut().take();
        if let Some(mut pump) = pump {
            pump();
            self.pump.borrow_mut().get_or_insert(pump);
        }
    }
}
