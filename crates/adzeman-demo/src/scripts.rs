//! The Lua side: one state for each lock, one for the ledger.

use std::cell::RefCell;
use std::fs;
use std::path::Path;
use std::rc::Rc;

use adzeman::{Host, LuaContext};
use mlua::{FromLuaMulti, Function, IntoLuaMulti, Lua, LuaSerdeExt as _, Table, Value};

use crate::books::Passage;
use crate::canal::{Gate, Lock, Pound, Side, Sides};
use crate::error::LocksideError;
use crate::traffic::Boat;
use crate::weather::Weather;

const LEDGER_SCRIPT: (&str, &str) = ("scripts/ledger.lua", include_str!("../scripts/ledger.lua"));

/// What a script orders.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) enum Order {
    Sluice(Side, f64),
    Gate(Side, Gate),
}

/// The script that works the locks.
pub(crate) struct LockScript {
    name: String,
    text: String,
}

impl LockScript {
    /// lockside's own, or the one in a file.
    pub(crate) fn read(file: Option<&Path>) -> Result<Self, LocksideError> {
        let Some(file) = file else {
            let text = include_str!("../scripts/lock.lua").to_owned();
            return Ok(Self { name: "scripts/lock.lua".to_owned(), text });
        };
        let name = file.display().to_string();
        match fs::read_to_string(file) {
            Ok(text) => Ok(Self { name, text }),
            Err(why) => Err(LocksideError::LockScript { path: name, why }),
        }
    }
}

/// A script state with its script loaded.
struct State {
    lua: Lua,
    context: LuaContext,
}

impl State {
    fn open(
        host: &Host,
        name: &str,
        prepare: impl FnOnce(&Lua) -> mlua::Result<()>,
        script: (&str, &str),
    ) -> Result<Self, LocksideError> {
        let lua = Lua::new();
        prepare(&lua)?;
        let context = LuaContext::attach(host, &lua, name)?;
        context.load(script.0, script.1)?.call::<()>(())?;
        Ok(Self { lua, context })
    }

    fn function(&self, name: &str) -> mlua::Result<Function> {
        self.lua.globals().get(name)
    }

    /// Calls a function of the script; the context is entered for it, so that the trail knows that it ran.
    fn call<R: FromLuaMulti>(&self, function: &Function, arguments: impl IntoLuaMulti) -> mlua::Result<R> {
        self.context.enter(|| function.call(arguments))
    }
}

/// The script that works a lock.
pub(crate) struct Keeper {
    state: State,
    update: Function,
    orders: Rc<RefCell<Vec<Order>>>,
}

impl Keeper {
    pub(crate) fn open(host: &Host, lock: &str, script: &LockScript) -> Result<Self, LocksideError> {
        let script = (script.name.as_str(), script.text.as_str());
        let orders = Rc::new(RefCell::new(Vec::new()));
        let state = State::open(host, &format!("lock.{lock}"), |lua| give_orders_to(lua, &orders), script)?;
        Ok(Self { update: state.function("update")?, state, orders })
    }

    pub(crate) fn update(&self, dt: f64, view: &Table) -> mlua::Result<()> {
        self.state.call(&self.update, (dt, view))
    }

    pub(crate) fn boat_arrived(&self, boat: &Boat, view: &Table) -> mlua::Result<()> {
        self.state.call(&self.state.function("boat_arrived")?, (self.state.lua.to_value(boat)?, view))
    }

    pub(crate) fn weather_changed(&self, weather: &Weather) -> mlua::Result<()> {
        self.state.call(&self.state.function("weather_changed")?, self.state.lua.to_value(weather)?)
    }

    /// What the script ordered since the last time.
    pub(crate) fn take_orders(&self) -> Vec<Order> {
        std::mem::take(&mut self.orders.borrow_mut())
    }

    /// The lock as its script sees it.
    pub(crate) fn view(
        &self,
        name: &str,
        lock: &Lock,
        pounds: (&Pound, &Pound),
        waiting: Sides<u32>,
        boat: Option<&Boat>,
    ) -> mlua::Result<Table> {
        let lua = &self.state.lua;
        let view = lua.create_table()?;
        view.set("name", name)?;
        view.set("level", lock.level)?;
        view.set("below", pounds.0.level)?;
        view.set("above", pounds.1.level)?;
        view.set("gates", lua.to_value(&lock.gates)?)?;
        view.set("waiting", lua.to_value(&waiting)?)?;
        if let Some(boat) = boat {
            view.set("boat", lua.to_value(boat)?)?;
        }
        Ok(view)
    }
}

fn give_orders_to(lua: &Lua, orders: &Rc<RefCell<Vec<Order>>>) -> mlua::Result<()> {
    let sluices = orders.clone();
    let sluice = lua.create_function(move |lua, (side, opening): (Value, f64)| {
        sluices.borrow_mut().push(Order::Sluice(lua.from_value(side)?, opening));
        Ok(())
    })?;
    let gates = orders.clone();
    let gate = lua.create_function(move |lua, (side, gate): (Value, Value)| {
        gates.borrow_mut().push(Order::Gate(lua.from_value(side)?, lua.from_value(gate)?));
        Ok(())
    })?;
    lua.globals().set("sluice", sluice)?;
    lua.globals().set("gate", gate)
}

/// What the ledger script says to a record.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Verdict {
    Toll(f64),
    Refused(String),
}

/// The script that keeps the books.
pub(crate) struct Ledger {
    state: State,
}

impl Ledger {
    pub(crate) fn open(host: &Host) -> Result<Self, LocksideError> {
        Ok(Self { state: State::open(host, "ledger", |_| Ok(()), LEDGER_SCRIPT)? })
    }

    pub(crate) fn before_save(&self, passage: &Passage) -> mlua::Result<Verdict> {
        let record = self.state.lua.to_value(passage)?;
        let before_save = self.state.function("before_save")?;
        let answer: (Option<f64>, Option<String>) = self.state.call(&before_save, record)?;
        Ok(match answer {
            (Some(toll), _) => Verdict::Toll(toll),
            (None, why) => Verdict::Refused(why.unwrap_or_else(|| "no reason given".to_owned())),
        })
    }

    pub(crate) fn after_save(&self, passage: &Passage, toll: f64) -> mlua::Result<()> {
        let record = self.state.lua.to_value(passage)?;
        if let Value::Table(record) = &record {
            record.set("toll", toll)?;
        }
        self.state.call(&self.state.function("after_save")?, record)
    }
}
