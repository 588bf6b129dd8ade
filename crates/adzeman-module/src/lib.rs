//! Adzeman as a module of Lua: `require "adzeman"` in a program that knows nothing of it.
//!
//! The file `adzeman.lua` beside the library finds out which Lua runs, and loads the library that was built for it. What a script gets is a
//! table:
//!
//! - `open { name = "canal", listen = "dormant", context = "canal" }` opens this process, as `ADZEMAN` says if nothing else is said;
//!   answers its name. The module does so by itself when it is loaded, where `ADZEMAN` says what to open.
//! - `close()` leaves the state as it was, and the process closed if no other state is open.
//!
//! A state that is closed by its program leaves the process open, for the next one. A process that is forked is not open in its copies,
//! which can be opened anew.
//! - `event("frame.update", "game", "update", { "dt" })` says that calls of a function are events; see `docs/hosts.md`.
//! - `stop()`, `wait(seconds)` and `say(...)` are those of the global of the same name.

mod ffi;
mod guide;

use std::ffi::c_int;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::{Mutex, MutexGuard, Once, PoisonError};

use adzeman::{Host, HostBuilder, Listen, ListenError, LuaContext};
use mlua::ffi::lua_State;
use mlua::{Function, Lua, Table, Value};
use thiserror::Error;

use guide::{Ending, Guide};

/// Where a state keeps that it is open.
const OPENED: &str = "adzeman.opened";
/// Where the file beside the library says which folder that is (`adzeman.lua`).
const FOLDER: &str = "adzeman.folder";

/// Why this process is not opened.
#[derive(Debug, Error)]
enum OpenError {
    #[error("adzeman: {0}")]
    Listen(#[from] ListenError),
    #[error("adzeman: {0}")]
    Start(String),
    #[error("adzeman: nothing is opened: ADZEMAN is not set, and 'listen' was not given; say listen = \"dormant\"")]
    NothingSaid,
    #[error("adzeman: this state is open already, as '{0}'; close() ends that")]
    IsOpen(String),
    #[error("adzeman: there is no option '{0}'; there are 'name', 'listen' and 'context'")]
    UnknownOption(String),
}

impl From<OpenError> for mlua::Error {
    fn from(error: OpenError) -> Self {
        Self::runtime(error)
    }
}

/// The host that a process is: several states are contexts of one.
struct Process {
    /// The number of the process: a fork of it is another one.
    id: u32,
    host: Host,
    name: String,
    /// The kinds of events that it has told of.
    kinds: Vec<String>,
    /// How many of its states are open.
    states: usize,
}

impl Process {
    /// Whether it is this one, and not the one that this is a copy of.
    fn is_here(&self) -> bool {
        self.id == std::process::id()
    }
}

static PROCESS: Mutex<Option<Process>> = Mutex::new(None);

fn process() -> MutexGuard<'static, Option<Process>> {
    PROCESS.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The host that this process is, unless it is a copy of one.
fn host_here() -> Option<Host> {
    process().as_ref().filter(|process| process.is_here()).map(|process| process.host.clone())
}

/// Ends what this process has opened, when it exits: those who are attached are told, and nothing is left for others to find.
extern "C" fn end() {
    let held = process().take();
    drop(held);
}

/// A state that is open.
struct Opened {
    process: u32,
    /// Closed before its host, and when the state is closed.
    context: Option<LuaContext>,
    /// Whether the script closes it: that ends the host, if it is the last one.
    by_script: bool,
    name: String,
    /// Of its events.
    ending: Option<Ending>,
}

impl Drop for Opened {
    fn drop(&mut self) {
        self.context = None;
        self.ending = None;
        let last = {
            let mut held = process();
            let is_last = held.as_mut().filter(|process| process.id == self.process).is_some_and(|process| {
                process.states -= 1;
                process.states == 0
            });
            if is_last && self.by_script { held.take() } else { None }
        };
        // Ended without the lock: whatever its clients are told takes its time.
        drop(last);
    }
}

/// What a script may say about how it is opened.
#[derive(Default)]
struct Options {
    name: Option<String>,
    listen: Option<String>,
    context: Option<String>,
}

impl Options {
    fn read(table: Option<&Table>) -> mlua::Result<Self> {
        let mut options = Self::default();
        for pair in table.into_iter().flat_map(|table| table.pairs::<String, String>()) {
            let (option, value) = pair?;
            match option.as_str() {
                "name" => options.name = Some(value),
                "listen" => options.listen = Some(value),
                "context" => options.context = Some(value),
                _ => return Err(OpenError::UnknownOption(option).into()),
            }
        }
        Ok(options)
    }
}

/// What a state has of the module.
struct Module {
    /// What scripts get.
    table: Table,
    guide: Rc<Guide>,
    /// The folder that it lies in, where that is told.
    folder: Option<PathBuf>,
}

/// Opens a state, and the process if it is the first one; answers the name of the host.
fn open(lua: &Lua, module: &Module, options: Options) -> mlua::Result<String> {
    if let Some(name) = opened(lua)? {
        return Err(OpenError::IsOpen(name).into());
    }
    // What a process has opened that was forked is taken out of the state.
    close(lua, &module.guide)?;
    let name = options.name.unwrap_or_else(|| name_of_program(lua));
    let listen = match options.listen {
        Some(choice) => Listen::from_choice(&choice).map_err(OpenError::Listen)?,
        None => Listen::from_env().map_err(OpenError::Listen)?,
    };
    if listen == Listen::Off && host_here().is_none() {
        return Err(OpenError::NothingSaid.into());
    }
    module.guide.read(lua, &name, &module.table, module.folder.as_deref());
    let told = module.guide.kinds()?;
    let (host, host_name, kinds) = {
        let mut held = process();
        if !held.as_ref().is_some_and(Process::is_here) {
            let kinds = told.iter().map(|kind| kind.name.clone()).collect();
            let builder = told.into_iter().fold(Host::builder(&name), HostBuilder::event);
            let host = builder.start(listen).map_err(|why| OpenError::Start(why.to_string()))?;
            static ENDING: Once = Once::new();
            ENDING.call_once(|| ffi::at_exit(end));
            *held = Some(Process { id: std::process::id(), host, name: name.clone(), kinds, states: 0 });
        }
        let process = held.as_mut().unwrap_or_else(|| unreachable!("it was started above"));
        process.states += 1;
        (process.host.clone(), process.name.clone(), process.kinds.clone())
    };
    // From here on the state counts, whatever happens.
    let ending = Some(module.guide.ending());
    let (process, name_of_host) = (std::process::id(), host_name.clone());
    let mut opened = Opened { process, context: None, by_script: false, name: name_of_host, ending };
    let context = options.context.unwrap_or(name);
    let context = LuaContext::attach(&host, lua, &context).map_err(|why| OpenError::Start(why.to_string()))?;
    context.meet_newcomers();
    opened.context = Some(context);
    lua.set_named_registry_value(OPENED, lua.create_any_userdata(opened)?)?;
    module.guide.open(&host, &kinds)?;
    Ok(host_name)
}

/// As what a state is open, if it is.
fn opened(lua: &Lua) -> mlua::Result<Option<String>> {
    let Value::UserData(held) = lua.named_registry_value(OPENED)? else { return Ok(None) };
    let here = |opened: &Opened| (opened.process == std::process::id()).then(|| opened.name.clone());
    Ok(held.borrow::<Opened>().ok().and_then(|opened| here(&opened)))
}

/// Closes a state; whether it was open.
fn close(lua: &Lua, guide: &Guide) -> mlua::Result<bool> {
    let Value::UserData(held) = lua.named_registry_value(OPENED)? else { return Ok(false) };
    lua.set_named_registry_value(OPENED, Value::Nil)?;
    guide.close()?;
    let Ok(mut opened) = held.take::<Opened>() else { return Ok(false) };
    opened.by_script = true;
    Ok(true)
}

/// The script that was started, or else the program.
fn name_of_program(lua: &Lua) -> String {
    let script = lua.globals().raw_get::<Table>("arg").and_then(|arguments| arguments.raw_get::<String>(0)).ok();
    let program = || std::env::current_exe().ok().map(|path| path.display().to_string());
    let path = script.or_else(program).unwrap_or_default();
    let name = Path::new(&path).file_name().map(|name| name.to_string_lossy().into_owned());
    let name = name.map(|name| name.strip_suffix(".lua").map_or(name.clone(), str::to_owned));
    name.filter(|name| !name.is_empty()).unwrap_or_else(|| "lua".to_owned())
}

fn module(lua: &Lua) -> mlua::Result<Table> {
    let table = lua.create_table()?;
    // The file beside the library says where that is.
    let folder = lua.globals().get::<Table>("package").and_then(|package| package.get::<Table>("loaded"));
    let folder = folder.and_then(|loaded| loaded.raw_get::<String>(FOLDER)).ok().map(PathBuf::from);
    let guide = Guide::new(lua, host_here)?;
    let module = Rc::new(Module { table: table.clone(), guide, folder });
    table.set("event", module.guide.event()?)?;
    let opening = module.clone();
    let open_it = move |lua: &Lua, options: Option<Table>| open(lua, &opening, Options::read(options.as_ref())?);
    table.set("open", lua.create_function(open_it)?)?;
    let guide = module.guide.clone();
    table.set("close", lua.create_function(move |lua, ()| close(lua, &guide))?)?;
    // These are there once a state is open, and stay.
    for name in ["stop", "wait", "say"] {
        let offered = move |lua: &Lua, arguments: mlua::MultiValue| {
            let global = lua.globals().raw_get::<Table>("adzeman");
            match global.and_then(|global| global.raw_get::<Function>(name)) {
                Ok(function) => function.call::<mlua::MultiValue>(arguments),
                Err(_) => Ok(mlua::MultiValue::new()),
            }
        };
        table.set(name, lua.create_function(offered)?)?;
    }
    if Listen::from_env().map_err(OpenError::Listen)? != Listen::Off && opened(lua)?.is_none() {
        open(lua, &module, Options::default())?;
    }
    Ok(table)
}

/// What `package.loadlib` calls for a library of this Lua: its name says which that is, so that one of another Lua is not found in it.
///
/// # Safety
/// Called by Lua, of this version, with a live state.
#[cfg_attr(feature = "lua51", unsafe(export_name = "luaopen_adzeman_lua51"))]
#[cfg_attr(feature = "lua52", unsafe(export_name = "luaopen_adzeman_lua52"))]
#[cfg_attr(feature = "lua53", unsafe(export_name = "luaopen_adzeman_lua53"))]
#[cfg_attr(feature = "lua54", unsafe(export_name = "luaopen_adzeman_lua54"))]
pub unsafe extern "C-unwind" fn open_library(raw: *mut lua_State) -> c_int {
    // SAFETY: given by the caller.
    unsafe { Lua::entrypoint1(raw, module) }
}
