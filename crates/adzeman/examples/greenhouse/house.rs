//! The greenhouse itself: one application with the shapes that applications have. What of it is there for people who attach is
//! named by `context`, `emit` and `lends`.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::ops::RangeInclusive;
use std::sync::{Arc, Mutex};
use std::thread;

use adzeman::{About, Event, EventKind, Host, HostBuilder, Inside, Lent, LuaContext, Path, Segment};
use mlua::{FromLuaMulti, Function, IntoLuaMulti, Lua, Result, Thread, UserData, UserDataMethods};
use serde::{Deserialize, Serialize};
use tokio::task::yield_now;

/// Where the scripts are that `require` and the greenhouse's own loader find.
pub(crate) const SCRIPTS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/examples/greenhouse/scripts");
const RECIPE: &str = "local n = ...\nlocal parts = n * 2\nreturn parts";
const ROBOTS: [&str; 3] = ["hoe", "hose", "lamp"];

/// What is said of the greenhouse, once.
pub(crate) fn describe() -> HostBuilder {
    Host::builder("greenhouse")
        .event(EventKind::new("day").doc("a day, for all beds").field("n", "which"))
        .event(EventKind::new("frost").doc("it freezes"))
        .event(EventKind::new("robot.turn").doc("a robot goes on; the subject is its name"))
        .event(EventKind::new("order").doc("somebody orders seeds").field("count", "how many"))
        .event(EventKind::new("job").doc("a forecast, in a state of its own"))
        .event(EventKind::new("booking").doc("the ledger is written, by whichever thread is free"))
        .lends("beds")
        .about("beds", About::new("the beds").measured("*.water", "water in the soil", "l"))
        .lends("stock")
}

/// One script state. Without a context it is nobody's business.
pub(crate) struct Station {
    // Closed before the state goes.
    context: Option<LuaContext>,
    pub(crate) lua: Lua,
}

impl Station {
    /// `prepare` is what the application does with each of its states: it sets a limit on them, by a hook of its own.
    fn open(house: &House, name: &str) -> Result<Self> {
        let lua = Lua::new();
        // Before the context: a hook that is set later stands alone until the next event.
        (house.prepare)(&lua)?;
        let context = house.opens.then(|| LuaContext::attach(&house.host, &lua, name)).transpose();
        Ok(Self { context: context.map_err(mlua::Error::external)?, lua })
    }

    /// Whatever loads a script is fine; a context knows its text by this.
    fn load(&self, name: &str, text: &str) -> Result<Function> {
        match &self.context {
            Some(context) => context.load(name, text),
            None => self.lua.load(text).set_name(format!("@{name}")).into_function(),
        }
    }

    /// A coroutine that the application resumes by itself.
    fn resume<R: FromLuaMulti>(&self, thread: &Thread, arguments: impl IntoLuaMulti) -> Result<R> {
        match &self.context {
            Some(context) => context.resume(thread, arguments),
            None => thread.resume(arguments),
        }
    }

    /// A call that may wait for the host.
    async fn call<R: FromLuaMulti>(&self, function: &Function, arguments: impl IntoLuaMulti) -> Result<R> {
        let thread = self.lua.create_thread(function.clone())?;
        match &self.context {
            Some(context) => context.enter_async(context.resume_async(&thread, arguments)?).await,
            None => thread.into_async(arguments)?.await,
        }
    }

    /// What runs scripts on a thread that another one may have run them on before.
    fn enter<T>(&self, work: impl FnOnce() -> T) -> T {
        match &self.context {
            Some(context) => context.enter(work),
            None => work(),
        }
    }
}

/// A bed, which the application has by `&mut`.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Bed {
    pub(crate) water: i64,
}

/// A value of the host in which a script keeps a function.
struct Valve(Function);

impl UserData for Valve {
    fn add_methods<M: UserDataMethods<Self>>(methods: &mut M) {
        methods.add_method("turn", |_, this, litres: i64| this.0.call::<i64>(litres));
    }
}

/// What the application does with each of its states.
pub(crate) type Prepare = Arc<dyn Fn(&Lua) -> Result<()> + Send + Sync>;

/// The application.
pub(crate) struct House {
    pub(crate) host: Host,
    /// Whether its states are opened to people who attach.
    opens: bool,
    prepare: Prepare,
}

/// What is open of it.
pub(crate) struct Opened {
    main: Station,
    robots: Vec<(&'static str, Thread)>,
    ledger: Station,
    on_frost: Arc<Mutex<Vec<Function>>>,
    beds: Vec<Bed>,
    /// An entity store, of which serde knows nothing.
    stock: BTreeMap<u32, i64>,
}

impl House {
    pub(crate) fn new(host: Host, opens: bool, prepare: Prepare) -> Self {
        Self { host, opens, prepare }
    }

    /// Loads the scripts: by `require`, by a loader of its own, and by the context.
    pub(crate) fn open(&self) -> Result<Opened> {
        let main = Station::open(self, "house")?;
        let (lua, globals) = (&main.lua, main.lua.globals());
        globals.get::<mlua::Table>("package")?.set("path", format!("{SCRIPTS}/?.lua"))?;
        let bring = |lua: &Lua, name: String| {
            let text = std::fs::read_to_string(format!("{SCRIPTS}/{name}.lua"))?;
            lua.load(text).set_name(format!("@{name}.lua")).call::<mlua::Value>(())
        };
        globals.set("bring", lua.create_function(bring)?)?;
        let on_frost = Arc::new(Mutex::new(Vec::new()));
        let callbacks = on_frost.clone();
        let on = move |_: &Lua, callback: Function| {
            callbacks.lock().expect("nobody panics").push(callback);
            Ok(())
        };
        globals.set("on_frost", lua.create_function(on)?)?;
        globals.set("recipe", lua.create_function(|_, ()| Ok(RECIPE))?)?;
        let valve = |lua: &Lua, body: Function| {
            let valve = lua.create_userdata(Valve(body))?;
            let turn = move |_: &Lua, litres: i64| mlua::ObjectLike::call_method::<i64>(&valve, "turn", litres);
            lua.globals().set("turn_valve", lua.create_function(turn)?)
        };
        globals.set("valve", lua.create_function(valve)?)?;
        main.load("beds.lua", include_str!("scripts/beds.lua"))?.call::<()>(())?;
        main.load("robot.lua", include_str!("scripts/robot.lua"))?.call::<()>(())?;
        let robot: Function = globals.get("robot")?;
        let robots = ROBOTS.into_iter().map(|name| Ok((name, lua.create_thread(robot.clone())?)));
        let robots = robots.collect::<Result<_>>()?;
        let ledger = Station::open(self, "ledger")?;
        ledger.load("ledger.lua", include_str!("scripts/ledger.lua"))?.call::<()>(())?;
        let stock = BTreeMap::from([(3, 40), (8, 12)]);
        Ok(Opened { main, robots, ledger, on_frost, beds: vec![Bed::default(); 3], stock })
    }

    /// Some days, with all that happens beside them. Answers the water in each bed.
    pub(crate) fn run(&self, opened: &mut Opened, days: RangeInclusive<i64>) -> Result<Vec<i64>> {
        let Opened { main, robots, ledger, on_frost, beds, stock } = opened;
        let (ledger, count) = (&*ledger, days.end() - days.start() + 1);
        thread::scope(|scope| {
            let orders = scope.spawn(move || self.take_orders(count));
            let others: Vec<_> = (0..2_i64)
                .map(|worker| scope.spawn(move || self.book(ledger, count).and_then(|()| self.forecast(worker, count))))
                .collect();
            for n in days {
                self.day(main, on_frost, beds, stock, n)?;
                for (name, thread) in &*robots {
                    let order = if n % 5 == 0 { "home" } else { *name };
                    let turn = || main.resume::<i64>(thread, order);
                    self.host.emit(Event::of("robot.turn").subject(*name), turn)?;
                }
            }
            for worker in others.into_iter().chain([orders]) {
                worker.join().expect("it does not panic")?;
            }
            Ok(beds.iter().map(|bed| bed.water).collect())
        })
    }

    /// One day: the beds are the application's own, and scripts reach them by functions for that long.
    fn day(
        &self,
        main: &Station,
        on_frost: &Mutex<Vec<Function>>,
        beds: &mut Vec<Bed>,
        stock: &BTreeMap<u32, i64>,
        n: i64,
    ) -> Result<()> {
        let beds = RefCell::new(beds);
        let look = |path: &Path| match path.segments() {
            [] => Some(Inside::Fields(stock.keys().map(|seed| format!("seed{seed}")).collect())),
            [Segment::Field(seed)] => {
                Some(Inside::Value((*stock.get(&seed.strip_prefix("seed")?.parse().ok()?)?).into()))
            }
            _ => None,
        };
        let lent = (Lent::of_mut("beds", &beds), Lent::by("stock", &look));
        main.lua.scope(|scope| {
            let water = |_: &Lua, (bed, litres): (usize, i64)| {
                let mut beds = beds.borrow_mut();
                let bed = beds.get_mut(bed - 1).ok_or_else(|| mlua::Error::runtime("there is no such bed"))?;
                bed.water += litres;
                Ok(())
            };
            main.lua.globals().set("water", scope.create_function(water)?)?;
            let day: Function = main.lua.globals().get("day")?;
            self.host.emit_with(Event::of("day").with("n", n), &lent, || day.call::<i64>(n))?;
            if n % 6 == 0 {
                let callbacks = on_frost.lock().expect("nobody panics").clone();
                for callback in callbacks {
                    self.host.emit_with(Event::of("frost"), &lent, || callback.call::<()>(1 + n % 3))?;
                }
            }
            Ok(())
        })
    }

    /// Tasks on several threads, all in one state.
    fn take_orders(&self, count: i64) -> Result<()> {
        let station = Arc::new(Station::open(self, "orders")?);
        let ask_price = station.lua.create_async_function(async |_, n: i64| {
            for _ in 0..n {
                yield_now().await;
            }
            Ok(n * 3)
        })?;
        station.lua.globals().set("ask_price", ask_price)?;
        station.load("orders.lua", include_str!("scripts/orders.lua"))?.call::<()>(())?;
        let order: Function = station.lua.globals().get("order")?;
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).build()?;
        let tasks = (1..=count).map(|n| {
            let (host, station, order) = (self.host.clone(), station.clone(), order.clone());
            runtime.spawn(async move {
                let customer = format!("customer {}", n % 3);
                let event = Event::of("order").subject(customer.as_str()).with("count", n % 4);
                host.emit_async(event, station.call::<i64>(&order, (customer.as_str(), n % 4))).await
            })
        });
        let tasks: Vec<_> = tasks.collect();
        tasks.into_iter().try_for_each(|task| runtime.block_on(task).map_err(mlua::Error::external)?.map(drop))
    }

    /// States that live for one job; all of them are called the same.
    fn forecast(&self, worker: i64, count: i64) -> Result<()> {
        for n in 0..count {
            let station = Station::open(self, "job")?;
            let job = station.load("job.lua", include_str!("scripts/job.lua"))?;
            self.host.emit(Event::of("job").subject(("job", n.unsigned_abs())), || job.call::<i64>(worker + n % 5))?;
        }
        Ok(())
    }

    /// The ledger, on whichever thread is free.
    fn book(&self, ledger: &Station, count: i64) -> Result<()> {
        for _ in 0..count {
            ledger.enter(|| {
                let book: Function = ledger.lua.globals().get("book")?;
                self.host.emit(Event::of("booking"), || book.call::<i64>(30))
            })?;
        }
        Ok(())
    }
}
