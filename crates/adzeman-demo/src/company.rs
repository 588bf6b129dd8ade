//! The company: frame by frame.

use std::fmt;
use std::path::PathBuf;
use std::rc::Rc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::sleep;
use std::time::{Duration, Instant};

use adzeman::core::source::TextDigest;
use adzeman::{About, Event, EventKind, Figure, Host, HostBuilder, Listen, Placed, SharedObject};
use serde::{Deserialize, Serialize};

use crate::Options;
use crate::books::{Books, Passage};
use crate::canal::{self, CHAMBER, LOCKS, Locks, Pound, Side, Sides, ends_of_pound, flow, order_gate};
use crate::error::LocksideError;
use crate::scripts::{Keeper, Ledger, LockScript, Order, Verdict};
use crate::traffic::{BOAT_WIDTH, Boat, CANAL_WIDTH, CHAMBER_WIDTH, Happening, Place, move_boats, new_boat};
use crate::weather::{Chance, Weather};

/// Seconds of the canal's time in a frame.
const DT: f64 = 1.0;
/// Frames between two changes of the weather.
const WEATHER_FRAMES: u64 = 240;
/// Frames between two boats, on the average.
const BOAT_FRAMES: u64 = 160;

/// What can be looked at and changed from outside.
struct Open {
    locks: Arc<Mutex<Locks>>,
    pounds: Arc<Mutex<Vec<Pound>>>,
    boats: Arc<Mutex<Vec<Boat>>>,
    weather: Arc<Mutex<Weather>>,
    office: Arc<Mutex<Office>>,
}

/// What the company counts.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct Office {
    /// Opens the safe; nobody who attaches needs it.
    safe_code: u32,
    frame: u64,
    boats: u64,
    passages: u64,
    refused: u64,
    takings: f64,
}

impl Default for Office {
    fn default() -> Self {
        Self { safe_code: 271_828, frame: 0, boats: 0, passages: 0, refused: 0, takings: 0.0 }
    }
}

/// How a run ended.
#[derive(Debug, Clone, PartialEq)]
pub struct Summary {
    /// Frames run.
    pub frames: u64,
    /// Boats that came.
    pub boats: u64,
    /// Passages in the books.
    pub passages: u64,
    /// Records refused by the ledger.
    pub refused: u64,
    /// Tolls in the books.
    pub takings: f64,
    /// How often a gate was told to open against the water.
    pub gate_refusals: u32,
    /// Level of each lock, in metres.
    pub levels: Vec<(String, f64)>,
    /// Digest of everything: equal for runs that went the same way.
    pub digest: TextDigest,
}

impl fmt::Display for Summary {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let levels: Vec<_> = self.levels.iter().map(|(name, level)| format!("{name} {level:.2} m")).collect();
        writeln!(f, "lockside closes after {} frames", self.frames)?;
        writeln!(f, "  boats     {} came, {} passages, {} refused", self.boats, self.passages, self.refused)?;
        writeln!(f, "  takings   {:.2}", self.takings)?;
        writeln!(f, "  locks     {}; gates held shut by the water {} times", levels.join(", "), self.gate_refusals)?;
        write!(f, "  state     {}", self.digest.as_str())
    }
}

/// The company.
pub struct Company {
    host: Host,
    open: Open,
    keepers: Vec<Keeper>,
    ledger: Rc<Ledger>,
    books: Books,
    chance: Chance,
    frames: Option<u64>,
    frame_time: Option<Duration>,
    hold: bool,
    ending: Arc<AtomicBool>,
}

/// Asks the ledger for the toll; a record that it refuses is one that the trail shows as refused.
fn asked(host: &Host, ledger: &Ledger, passage: &Passage) -> mlua::Result<Verdict> {
    let verdict = ledger.before_save(passage);
    if let Ok(Verdict::Refused(why)) = &verdict {
        host.note_refused(why);
    }
    verdict
}

/// Opens the ledger, which also says of a record of the trail once more what it would say to it. Nothing is saved then.
fn open_ledger(host: &Host) -> Result<Rc<Ledger>, LocksideError> {
    let ledger = Rc::new(Ledger::open(host)?);
    let (host_again, ledger_again) = (host.downgrade(), Rc::downgrade(&ledger));
    host.on_again("record.before_save", move |recorded| {
        let (host, ledger) = host_again.upgrade().zip(ledger_again.upgrade()).ok_or("lockside has closed")?;
        let record = recorded.payload["record"].clone();
        let passage: Passage =
            serde_json::from_value(record).map_err(|why| format!("the record is not whole: {why}"))?;
        let event = Event::of("record.before_save").subject(("passage", passage.number)).with("record", &passage);
        let verdict = host.emit_repeatable(event, || asked(&host, &ledger, &passage));
        verdict.map(|_| ()).map_err(|error| error.to_string())
    });
    Ok(ledger)
}

impl Company {
    /// Opens the company: scripts, database, and what it lets people see.
    ///
    /// # Errors
    /// Says what cannot be used.
    pub fn open(options: &Options) -> Result<Self, LocksideError> {
        let listen = options.listen.as_deref().map_or_else(Listen::from_env, Listen::at)?;
        let open = Open {
            locks: shared(canal::locks()),
            pounds: shared(canal::pounds()),
            boats: shared(Vec::new()),
            weather: shared(Weather::at_start()),
            office: shared(Office::default()),
        };
        let path = options.db.as_deref();
        let books = Books::open(path).map_err(|why| database_error(options.db.as_ref(), why))?;
        let script = LockScript::read(options.lock_script.as_deref())?;
        let host = describe(&open).start(listen)?;
        follow(&host, &open);
        Ok(Self {
            keepers: LOCKS.iter().map(|lock| Keeper::open(&host, lock, &script)).collect::<Result<_, _>>()?,
            ledger: open_ledger(&host)?,
            host,
            open,
            books,
            chance: Chance::new(options.seed),
            frames: options.frames,
            frame_time: (options.fps > 0).then(|| Duration::from_secs(1) / options.fps.max(1)),
            hold: options.hold,
            ending: Arc::new(AtomicBool::new(false)),
        })
    }

    /// Runs to the last frame, or until Ctrl-C.
    ///
    /// # Errors
    /// When Ctrl-C cannot be listened for, or the books cannot be read at the end.
    pub fn run(&mut self) -> Result<Summary, LocksideError> {
        if let Some(address) = self.host.address() {
            eprintln!("lockside listens on {address}");
        }
        self.end_on_ctrl_c()?;
        let mut frame = 0;
        let mut last = Instant::now();
        while self.hold && !self.host.is_attached() && !self.is_ending() {
            sleep(Duration::from_millis(5));
        }
        while self.frames.is_none_or(|frames| frame < frames) && !self.is_ending() {
            frame += 1;
            self.frame(frame);
            if let Some(frame_time) = self.frame_time {
                sleep(frame_time.saturating_sub(last.elapsed()));
                last = Instant::now();
            }
        }
        let summary = self.summary(frame);
        self.host.close();
        summary
    }

    fn is_ending(&self) -> bool {
        self.ending.load(SeqCst)
    }

    fn end_on_ctrl_c(&self) -> Result<(), LocksideError> {
        let (ending, host) = (self.ending.clone(), self.host.clone());
        let outcome = ctrlc::set_handler(move || {
            ending.store(true, SeqCst);
            // A script that is held must go on, so that the frame can end.
            host.close();
        });
        match outcome {
            // A second company in the same process, in a test for instance, ends by its frames.
            Err(ctrlc::Error::MultipleHandlers) => Ok(()),
            other => Ok(other?),
        }
    }

    fn frame(&mut self, frame: u64) {
        lock(&self.open.office).frame = frame;
        self.host.poll();
        self.change_weather(frame);
        self.let_boats_come(frame);
        self.work_locks(frame);
        let happenings = {
            let weather = lock(&self.open.weather).clone();
            move_boats(&mut lock(&self.open.boats), &mut lock(&self.open.locks), &weather, DT)
        };
        for happening in happenings {
            match happening {
                Happening::Arrived(boat) => self.announce(&boat),
                Happening::Cleared(boat) => self.record(&boat, frame),
            }
        }
    }

    fn change_weather(&mut self, frame: u64) {
        let weather = {
            let mut weather = lock(&self.open.weather);
            weather.fall(&mut lock(&self.open.pounds), DT);
            if !frame.is_multiple_of(WEATHER_FRAMES) {
                return;
            }
            weather.change(&mut self.chance);
            weather.clone()
        };
        for (name, keeper) in LOCKS.iter().zip(&self.keepers) {
            let subject = format!("lock.{name}");
            let event =
                Event::of("weather.changed").subject(&*subject).with("rain", weather.rain).with("wind", weather.wind);
            tell(self.host.emit(event, || keeper.weather_changed(&weather)));
        }
    }

    fn let_boats_come(&mut self, frame: u64) {
        // One waits when the day begins.
        if frame == 1 || self.chance.below(BOAT_FRAMES) == 0 {
            let mut office = lock(&self.open.office);
            office.boats += 1;
            lock(&self.open.boats).push(new_boat(office.boats, &mut self.chance));
        }
    }

    fn work_locks(&self, frame: u64) {
        for (position, name) in LOCKS.iter().enumerate() {
            let keeper = &self.keepers[position];
            let Some(view) = self.view(position, name) else { continue };
            let subject = format!("lock.{name}");
            let level = view.get::<f64>("level").unwrap_or_default();
            let event = Event::of("frame.update")
                .subject(&*subject)
                .with("dt", DT)
                .with("frame", frame)
                .with("level", level)
                .with("boat", view.contains_key("boat").unwrap_or_default());
            // Delivered again, it begins with no orders; the view is as it was.
            tell(self.host.emit_repeatable(event, || {
                keeper.take_orders();
                keeper.update(DT, &view)
            }));
            let mut locks = lock(&self.open.locks);
            let mut pounds = lock(&self.open.pounds);
            let (Some(held), [below, above]) = (locks.get_mut(*name), &mut pounds[position..=position + 1]) else {
                continue;
            };
            for order in keeper.take_orders() {
                let pound = |side| if side == Side::Below { below.level } else { above.level };
                match order {
                    Order::Sluice(side, opening) => held.sluices.set(side, opening),
                    Order::Gate(side, gate) => order_gate(held, side, gate, pound(side)),
                }
            }
            flow(held, below, above, DT);
        }
    }

    /// The lock as its script sees it; no lock is held when it returns.
    fn view(&self, position: usize, name: &str) -> Option<mlua::Table> {
        let (locks, pounds, boats) = (lock(&self.open.locks), lock(&self.open.pounds), lock(&self.open.boats));
        let held = locks.get(name)?;
        let here = || boats.iter().filter(|boat| boat.lock == name);
        let count = |side| {
            let waits = |boat: &&Boat| matches!(boat.place, Place::Waiting(_)) && boat.heading.waits_on() == side;
            u32::try_from(here().filter(waits).count()).unwrap_or(u32::MAX)
        };
        let waiting = Sides { below: count(Side::Below), above: count(Side::Above) };
        let inside = here().find(|boat| Some(boat.number) == held.boat);
        let pounds = (pounds.get(position)?, pounds.get(position + 1)?);
        self.keepers[position]
            .view(name, held, pounds, waiting, inside)
            .map_err(|error| eprintln!("lockside: {error}"))
            .ok()
    }

    fn announce(&self, boat: &Boat) {
        let Some(position) = LOCKS.iter().position(|name| *name == boat.lock) else { return };
        let Some(view) = self.view(position, &boat.lock) else { return };
        let event =
            Event::of("boat.arrived").subject(("boat", boat.number)).with("boat", boat).with("lock", &boat.lock);
        tell(self.host.emit(event, || self.keepers[position].boat_arrived(boat, &view)));
    }

    fn record(&self, boat: &Boat, frame: u64) {
        let number = {
            let office = lock(&self.open.office);
            office.passages + office.refused + 1
        };
        let passage = Passage {
            kind: "passage".to_owned(),
            number,
            boat: boat.name.clone(),
            length: boat.length,
            lock: boat.lock.clone(),
            minutes: (boat.waited / 6.0).round() / 10.0,
            frame,
        };
        let before = Event::of("record.before_save").subject(("passage", number)).with("record", &passage);
        match self.host.emit_repeatable(before, || asked(&self.host, &self.ledger, &passage)) {
            Ok(Verdict::Toll(toll)) => self.save(&passage, toll),
            Ok(Verdict::Refused(why)) => {
                lock(&self.open.office).refused += 1;
                eprintln!("lockside: passage {number} was refused: {why}");
            }
            Err(error) => {
                lock(&self.open.office).refused += 1;
                tell(Err(error));
            }
        }
    }

    fn save(&self, passage: &Passage, toll: f64) {
        if let Err(error) = self.books.save(passage, toll) {
            eprintln!("lockside: passage {} could not be stored: {error}", passage.number);
            return;
        }
        {
            let mut office = lock(&self.open.office);
            office.passages += 1;
            office.takings += toll;
        }
        let after = Event::of("record.after_save")
            .subject(("passage", passage.number))
            .with("record", passage)
            .with("toll", toll);
        tell(self.host.emit(after, || self.ledger.after_save(passage, toll)));
    }

    fn summary(&self, frames: u64) -> Result<Summary, LocksideError> {
        let totals = self.books.totals().map_err(|why| database_error(None, why))?;
        let (locks, office) = (lock(&self.open.locks), lock(&self.open.office));
        let everything = (
            &*locks,
            &*lock(&self.open.pounds),
            &*lock(&self.open.boats),
            &*lock(&self.open.weather),
            &*office,
            totals,
        );
        let data = serde_json::to_string(&everything).unwrap_or_default();
        Ok(Summary {
            frames,
            boats: office.boats,
            passages: office.passages,
            refused: office.refused,
            takings: office.takings,
            gate_refusals: locks.values().map(|lock| lock.gate_refusals).sum(),
            levels: LOCKS.iter().filter_map(|name| Some(((*name).to_owned(), locks.get(*name)?.level))).collect(),
            digest: TextDigest::of(&data),
        })
    }
}

fn shared<T>(value: T) -> Arc<Mutex<T>>
where
    Arc<Mutex<T>>: SharedObject,
{
    Arc::new(Mutex::new(value))
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn database_error(path: Option<&PathBuf>, why: rusqlite::Error) -> LocksideError {
    let path = path.map_or("in memory".to_owned(), |path| path.display().to_string());
    LocksideError::Database { path, why }
}

/// A script that fails does not stop the canal.
fn tell(outcome: mlua::Result<()>) {
    if let Err(error) = outcome {
        eprintln!("lockside: {error}");
    }
}

fn describe(open: &Open) -> HostBuilder {
    with_objects(with_events(Host::builder("lockside")), open)
}

/// Numbers of the canal that can be followed.
fn follow(host: &Host, open: &Open) {
    let boats = open.boats.clone();
    let waiting = Figure::new("boats.waiting", move || {
        let boats = boats.try_lock().ok()?;
        let waits = |boat: &&Boat| matches!(boat.place, Place::Waiting(_));
        u32::try_from(boats.iter().filter(waits).count()).ok().map(f64::from)
    });
    host.figure(waiting.describe("boats that wait at locks").in_unit("boats").usually(0.0..=6.0));
    let locks = open.locks.clone();
    let water = Figure::new("locks.water", move || {
        Some(locks.try_lock().ok()?.values().map(|lock| lock.water_used).sum::<f64>())
    });
    host.figure(water.describe("water that passed the sluices").in_unit("m³"));
}

/// What the canal does.
fn with_events(host: HostBuilder) -> HostBuilder {
    host.event(
        EventKind::new("frame.update")
            .doc("a lock is worked for one frame")
            .field("dt", "seconds of the canal's time since the last frame")
            .field("frame", "number of the frame, from 1")
            .field("level", "metres of water in the chamber")
            .field("boat", "whether a boat is in the chamber"),
    )
    .event(
        EventKind::new("boat.arrived")
            .doc("a boat has come to a lock and waits")
            .field("boat", "the boat: number, name, length, heading")
            .field("lock", "name of the lock"),
    )
    .event(
        EventKind::new("weather.changed")
            .doc("a keeper is told of new weather")
            .field("rain", "millimetres an hour")
            .field("wind", "metres a second"),
    )
    .event(
        EventKind::new("record.before_save")
            .doc("a passage is about to be stored; the ledger sets its toll and may refuse it")
            .field("record", "the passage: boat, length, lock, minutes"),
    )
    .event(
        EventKind::new("record.after_save")
            .doc("a passage is in the books")
            .field("record", "the passage")
            .field("toll", "what it paid"),
    )
}

/// Where boats lie: on the canal, along which x goes.
fn boats_lie() -> Placed {
    let (_, end) = ends_of_pound(LOCKS.len());
    let banks = CANAL_WIDTH / 2.0;
    Placed::at("spot.x", "spot.y")
        .sized("length", BOAT_WIDTH)
        .turned("spot.degrees")
        .named("name")
        .in_unit("m")
        .within((0.0, -banks), (end, banks))
}

/// What of the canal can be looked at.
fn with_objects(host: HostBuilder, open: &Open) -> HostBuilder {
    host.guarded_object("locks", open.locks.clone(), |_, wanted| canal::within_the_walls(wanted))
        .about(
            "locks",
            About::new("the flight of locks, by name")
                .measured("*.level", "water in the chamber, above the basin's bed", "m")
                .measured("*.water_used", "water that passed its sluices", "m³")
                .field("*.gates", "open or shut, on each side")
                .field("*.sluices", "from 0, shut, to 1, fully open")
                .field("*.boat", "number of the boat in the chamber")
                .field("*.gate_refusals", "how often a gate was held shut by the water")
                .subject("*", "lock.*")
                .measured("*.x", "its middle, along the canal", "m")
                .placed(
                    "*",
                    Placed::at("x", 0.0).sized(CHAMBER, CHAMBER_WIDTH).noted("level").in_unit("m").as_ground(),
                ),
        )
        .editable_object("pounds", open.pounds.clone())
        .about(
            "pounds",
            About::new("the water between the locks, from the lowest up")
                .measured("*.level", "water level", "m")
                .measured("*.area", "surface", "m²")
                .measured("*.length", "along the canal", "m")
                .measured("*.x", "its middle, along the canal", "m")
                .placed("*", Placed::at("x", 0.0).sized("length", CANAL_WIDTH).noted("level").in_unit("m").as_ground()),
        )
        .editable_object("boats", open.boats.clone())
        .about(
            "boats",
            About::new("boats on the canal")
                .measured("*.length", "over all", "m")
                .measured("*.waited", "at locks", "s")
                .field("*.spot", "where it lies, worked out each frame")
                .placed("*", boats_lie()),
        )
        .editable_object("weather", open.weather.clone())
        .about(
            "weather",
            About::new("the weather").measured("rain", "", "mm/h").measured("wind", "", "m/s").for_trying("rain", 0.5),
        )
        .object("office", open.office.clone())
        .about("office", About::new("what the company counts").secret("safe_code"))
}
