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
//! - `stop()`, `wait(seconds)` and `say(...)` are those of the global of the same name.

mod ffi;

use std::ffi::c_int;
use std::path::Path;
use std::sync::{Mutex, MutexGuard, Once, PoisonError};

use adzeman::{Host, Listen, ListenError, LuaContext};
use mlua::ffi::lua_State;
use mlua::{Function, Lua, Table, Value};
use thiserror::Error;

/// Where a state keeps that it is open.
const OPENED: &str = "adzeman.opened";

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
    /// How many of its states are open.
    states: usize,
}

static PROCESS: Mutex<Option<Process>> = Mutex::new(None);

fn process() -> MutexGuard<'static, Option<Process>> {
    PROCESS.lock().unwrap_or_else(PoisonError::into_inner)
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
}

impl Drop for Opened {
    fn drop(&mut self) {
        self.context = None;
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

/// Opens a state, and the process if it is the first one; answers the name of the host.
fn open(lua: &Lua, options: Options) -> mlua::Result<String> {
    if let Some(name) = opened(lua)? {
        return Err(OpenError::IsOpen(name).into());
    }
    // What a process has opened that was forked is taken out of the state.
    close(lua)?;
    let name = options.name.unwrap_or_else(|| name_of_program(lua));
    let listen = match options.listen {
        Some(choice) => Listen::from_choice(&choice).map_err(OpenError::Listen)?,
        None => Listen::from_env().map_err(OpenError::Listen)?,
    };
    let (host, host_name) = {
        let mut held = process();
        let is_here = held.as_ref().is_some_and(|process| process.id == std::process::id());
        if !is_here {
            if listen == Listen::Off {
                return Err(OpenError::NothingSaid.into());
            }
            let host = Host::builder(&name).start(listen).map_err(|why| OpenError::Start(why.to_string()))?;
            static ENDING: Once = Once::new();
            ENDING.call_once(|| ffi::at_exit(end));
            *held = Some(Process { id: std::process::id(), host, name: name.clone(), states: 0 });
        }
        let process = held.as_mut().unwrap_or_else(|| unreachable!("it was started above"));
        process.states += 1;
        (process.host.clone(), process.name.clone())
    };
    // From here on the state counts, whatever happens.
    let mut opened = Opened { process: std::process::id(), context: None, by_script: false, name: host_name.clone() };
    let context = options.context.unwrap_or(name);
    let context = LuaContext::attach(&host, lua, &context).map_err(|why| OpenError::Start(why.to_string()))?;
    context.meet_newcomers();
    opened.context = Some(context);
    lua.set_named_registry_value(OPENED, lua.create_any_userdata(opened)?)?;
    Ok(host_name)
}

/// As what a state is open, if it is.
fn opened(lua: &Lua) -> mlua::Result<Option<String>> {
    let Value::UserData(held) = lua.named_registry_value(OPENED)? else { return Ok(None) };
    let here = |opened: &Opened| (opened.process == std::process::id()).then(|| opened.name.clone());
    Ok(held.borrow::<Opened>().ok().and_then(|opened| here(&opened)))
}

/// Closes a state; whether it was open.
fn close(lua: &Lua) -> mlua::Result<bool> {
    let Value::UserData(held) = lua.named_registry_value(OPENED)? else { return Ok(false) };
    lua.set_named_registry_value(OPENED, Value::Nil)?;
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
    let module = lua.create_table()?;
    module
        .set("open", lua.create_function(|lua, options: Option<Table>| open(lua, Options::read(options.as_ref())?))?)?;
    module.set("close", lua.create_function(|lua, ()| close(lua))?)?;
    // These are there once a state is open, and stay.
    for name in ["stop", "wait", "say"] {
        let offered = move |lua: &Lua, arguments: mlua::MultiValue| {
            let global = lua.globals().raw_get::<Table>("adzeman");
            match global.and_then(|global| global.raw_get::<Function>(name)) {
                Ok(function) => function.call::<mlua::MultiValue>(arguments),
                Err(_) => Ok(mlua::MultiValue::new()),
            }
        };
        module.set(name, lua.create_function(offered)?)?;
    }
    if Listen::from_env().map_err(OpenError::Listen)? != Listen::Off && opened(lua)?.is_none() {
        open(lua, Options::default())?;
    }
    Ok(module)
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
