//! Guides: files of Lua that say which functions of a program are the handlers of which events.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::ffi::c_void;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};

use adzeman::{Event, EventKind, EventUnderWay, Host, Payload, WeakHost};
use mlua::{Function, Lua, LuaString, Table, Thread, Value, Variadic};
use serde_json::{Map, Value as Json};

use crate::ffi;

/// Where a guide of a program's name is looked for, from the folder on that the program runs in, and beside the module.
const IN_PROJECT: &str = "adzeman/guides";
const IN_MODULE: &str = "guides";
/// Names one by itself.
const VARIABLE: &str = "ADZEMAN_GUIDE";

/// Of a table that an event carries: how many fields of each, and how deep; what there is beyond is said.
const MOST_FIELDS: usize = 32;
const MOST_DEPTH: usize = 3;
/// Bytes of a text; of a longer one it is said how long it is.
const MOST_TEXT: usize = 64 * 1024;

thread_local! {
    /// Events that have begun on this thread, by what tells them apart, and which state's they are.
    static BEGUN: RefCell<HashMap<i64, (usize, EventUnderWay)>> = RefCell::default();
    static LAST: Cell<i64> = const { Cell::new(0) };
}
/// Frames between the function that stands for a handler and what is told here: `started` of `guide.lua`, and the native one.
const FRAMES: usize = 2;
/// So many may have been left before it is looked which were.
const MANY: usize = 64;

/// What a state was told by its guide.
pub(crate) struct Guide {
    functions: Table,
    /// What the state is open as.
    opened: Rc<RefCell<Option<WeakHost>>>,
    /// Whether the state is there, as it was opened last.
    is_there: Rc<RefCell<Arc<AtomicBool>>>,
    /// What tells the state from others.
    state: usize,
}

impl Guide {
    /// That of a state that was told nothing; `host` answers what it is open as, if it is.
    pub(crate) fn new(lua: &Lua, host: impl Fn() -> Option<Host> + 'static) -> mlua::Result<Rc<Self>> {
        let state = lua.globals().to_pointer() as usize;
        // Asked at each call: no lock, and not which process this is, which begins no event elsewhere.
        let opened = Rc::<RefCell<Option<WeakHost>>>::default();
        let wants = lua.create_function({
            let opened = opened.clone();
            move |_, ()| {
                let host = opened.borrow().as_ref().and_then(WeakHost::upgrade);
                Ok(host.is_some_and(|host| host.wants_events()))
            }
        })?;
        let is_there = Rc::<RefCell<Arc<AtomicBool>>>::default();
        let begin = lua.create_function({
            let is_there = is_there.clone();
            move |lua, call: Call| {
                let Some(host) = host() else { return Ok(None) };
                begin(lua, &host, (state, is_there.borrow().clone()), call)
            }
        })?;
        let finish = lua.create_function(|_, (number, why): (i64, Option<LuaString>)| {
            let event = BEGUN.with_borrow_mut(|begun| begun.remove(&number));
            if let Some((_, event)) = event {
                event.end(why.map_or(Ok(()), |why| Err(why.to_string_lossy())));
            }
            Ok(())
        })?;
        let warn = lua.create_function(|_, why: LuaString| {
            eprintln!("adzeman: {}", why.to_string_lossy());
            Ok(())
        })?;
        let runtime = lua.load(include_str!("guide.lua")).set_name("=(adzeman)");
        let functions = runtime.call((wants, begin, finish, warn, cfg!(feature = "lua54")))?;
        Ok(Rc::new(Self { functions, opened, is_there, state }))
    }

    /// What scripts and guides say events by.
    pub(crate) fn event(&self) -> mlua::Result<Function> {
        self.functions.get("event")
    }

    /// Reads the guide of a program of this name, if there is one: a file that is given the module. Trouble with it is said, and the program
    /// goes on without.
    pub(crate) fn read(&self, lua: &Lua, name: &str, module: &Table, beside: Option<&Path>) {
        match found(name, beside) {
            Ok(None) => {}
            Ok(Some(file)) => {
                let chunk_name = format!("@{}", file.display());
                let run = std::fs::read(&file)
                    .map_err(mlua::Error::external)
                    .and_then(|text| lua.load(text).set_name(chunk_name).call::<()>(module));
                if let Err(why) = run {
                    eprintln!("adzeman: the guide {} could not be read to its end: {why}", file.display());
                }
            }
            Err(why) => eprintln!("adzeman: {why}"),
        }
    }

    /// The kinds of events that it has told of.
    pub(crate) fn kinds(&self) -> mlua::Result<Vec<EventKind>> {
        let all: Vec<Table> = self.functions.get::<Function>("kinds")?.call(())?;
        let kind = |kind: Table| {
            let calls: Vec<LuaString> = kind.get("calls")?;
            let calls: Vec<_> = calls.iter().map(LuaString::to_string_lossy).collect();
            let mut made = EventKind::new(&kind.get::<LuaString>("name")?.to_string_lossy());
            if !calls.is_empty() {
                made = made.doc(&format!("a call of {}", calls.join(", ")));
            }
            for field in kind.get::<Table>("fields")?.pairs::<LuaString, bool>() {
                made = made.field(&field?.0.to_string_lossy(), "an argument of the function");
            }
            Ok(made)
        };
        all.into_iter().map(kind).collect()
    }

    /// The functions that it names are handlers from now on, of kinds that the host has told of.
    pub(crate) fn open(&self, host: &Host, kinds: &[String]) -> mlua::Result<()> {
        self.opened.replace(Some(host.downgrade()));
        self.functions.get::<Function>("open")?.call(kinds.to_vec())
    }

    /// What ends the events of a state that was just opened, once it goes.
    pub(crate) fn ending(&self) -> Ending {
        let is_there = Arc::new(AtomicBool::new(true));
        self.is_there.replace(is_there.clone());
        Ending { is_there, state: self.state }
    }

    /// They are what they were.
    pub(crate) fn close(&self) -> mlua::Result<()> {
        self.opened.take();
        end_all(self.state);
        self.functions.get::<Function>("close")?.call(())
    }
}

/// Ends the events of a state when it is dropped. Those of other threads end when these look next.
pub(crate) struct Ending {
    is_there: Arc<AtomicBool>,
    state: usize,
}

impl Drop for Ending {
    fn drop(&mut self) {
        self.is_there.store(false, SeqCst);
        end_all(self.state);
    }
}

/// Ends what has begun on this thread in a state.
fn end_all(state: usize) {
    let of_state =
        |begun: &mut HashMap<i64, (usize, EventUnderWay)>| begun.extract_if(|_, (of, _)| *of == state).collect();
    let all: Vec<_> = BEGUN.with_borrow_mut(of_state);
    drop(all);
}

/// A call that an event is made of: the kind, the subject, the function that stands for the one that is called, the names of arguments,
/// what the guide has to add, and the arguments. No text of a script has to be UTF-8: what is raised here would be raised in its host.
type Call = (LuaString, Option<LuaString>, Function, Table, Option<Table>, Variadic<Value>);

fn begin(lua: &Lua, host: &Host, (state, is_there): (usize, Arc<AtomicBool>), call: Call) -> mlua::Result<Option<i64>> {
    let (kind, subject, wrapper, names, more, arguments) = call;
    let (kind, subject) = (kind.to_string_lossy(), subject.map(|subject| subject.to_string_lossy()));
    let mut fields = Map::new();
    for (number, argument) in arguments.iter().enumerate() {
        let Ok(name) = names.raw_get::<LuaString>(number + 1) else { break };
        fields.insert(name.to_string_lossy(), data(argument, MOST_DEPTH));
    }
    for pair in more.iter().flat_map(|more| more.pairs::<Value, Value>()).take(MOST_FIELDS) {
        let (Value::String(name), value) = pair? else { continue };
        fields.insert(name.to_string_lossy(), data(&value, MOST_DEPTH));
    }
    let event = match &subject {
        Some(subject) => Event::of(&kind).subject(subject.as_str()),
        None => Event::of(&kind),
    };
    let was_left = was_left(lua.current_thread(), wrapper.to_pointer(), is_there);
    let Some(event) = host.begin(event.carrying(Fields(fields)), FRAMES, was_left) else { return Ok(None) };
    let number = LAST.replace(LAST.get() + 1) + 1;
    let left = BEGUN.with_borrow_mut(|begun| {
        let is_left = |_: &i64, (_, event): &mut (usize, EventUnderWay)| !event.is_under_way();
        let left: Vec<_> = if begun.len() >= MANY { begun.extract_if(is_left).collect() } else { Vec::new() };
        begun.insert(number, (state, event));
        left
    });
    drop(left);
    Ok(Some(number))
}

/// How an event was left without its end, by the thread that runs it and the function that stands for its handler: by a yield, which is its
/// end, or by an error.
fn was_left(
    thread: Thread,
    wrapper: *const c_void,
    is_there: Arc<AtomicBool>,
) -> impl Fn() -> Option<Result<(), String>> + 'static {
    let calls = ffi::calls_of(&thread, wrapper);
    move || match ffi::standing_of(&thread, &is_there) {
        ffi::Standing::Gone => Some(Err("its state was closed".to_owned())),
        ffi::Standing::Waits => Some(Ok(())),
        ffi::Standing::Died => Some(Err("an error ended its coroutine".to_owned())),
        // What is closed is told of at once.
        ffi::Standing::Runs if cfg!(feature = "lua54") || ffi::calls_of(&thread, wrapper) >= calls => None,
        ffi::Standing::Runs => Some(Err("an error passed by its function".to_owned())),
    }
}

/// What an event carries.
struct Fields(Map<String, Json>);

impl Payload for Fields {
    fn write(&self, fields: &mut Map<String, Json>) {
        fields.extend(self.0.iter().map(|(name, value)| (name.clone(), value.clone())));
    }

    fn field(&self, name: &str) -> Option<Json> {
        self.0.get(name).cloned()
    }
}

/// A value as data: of tables the first fields, some levels deep; what is neither data nor a table, by what it is.
fn data(value: &Value, depth: usize) -> Json {
    match value {
        Value::Nil => Json::Null,
        Value::Boolean(value) => Json::Bool(*value),
        Value::Integer(value) => Json::from(*value),
        Value::Number(value) => {
            serde_json::Number::from_f64(*value).map_or_else(|| Json::String(value.to_string()), Json::Number)
        }
        Value::String(text) => match text.as_bytes().len() {
            0..=MOST_TEXT => Json::String(text.to_string_lossy()),
            length => Json::String(format!("(a text of {length} bytes)")),
        },
        Value::Table(table) if depth > 0 => {
            let length = table.raw_len();
            if length > 0 {
                let at = |number| table.raw_get::<Value>(number).map_or(Json::Null, |value| data(&value, depth - 1));
                let more = length.saturating_sub(MOST_FIELDS);
                let more = (more > 0).then(|| Json::String(format!("({more} more)")));
                return Json::Array((1..=length.min(MOST_FIELDS)).map(at).chain(more).collect());
            }
            let mut fields = table.pairs::<Value, Value>().flatten();
            let named = |(name, value): (Value, Value)| match name {
                Value::String(name) => Some((name.to_string_lossy(), data(&value, depth - 1))),
                _ => None,
            };
            let mut named: Map<String, Json> = fields.by_ref().take(MOST_FIELDS).filter_map(named).collect();
            if fields.next().is_some() {
                named.insert("...".to_owned(), Json::String("(there are more)".to_owned()));
            }
            Json::Object(named)
        }
        other => Json::String(format!("({})", other.type_name())),
    }
}

/// The guide of a program of this name. One that another user might have written is not run.
fn found(name: &str, beside: Option<&Path>) -> Result<Option<PathBuf>, String> {
    if let Some(named) = std::env::var_os(VARIABLE).filter(|named| !named.is_empty()) {
        let file = PathBuf::from(named);
        if !file.is_file() {
            return Err(format!("there is no guide {}, which {VARIABLE} names", file.display()));
        }
        return Ok(Some(file));
    }
    if name.contains(['/', '\\']) {
        return Ok(None);
    }
    let file = format!("{name}.lua");
    let in_project = Path::new(IN_PROJECT).join(&file);
    let beside = beside.map(|folder| folder.join(IN_MODULE).join(&file));
    let Some(file) = [Some(in_project), beside].into_iter().flatten().find(|file| file.is_file()) else {
        return Ok(None);
    };
    if !ffi::is_own(&file) {
        return Err(format!(
            "the guide {} is not read: it, or a folder that it is in, belongs to another user; {VARIABLE} names one that is to be read",
            file.display()
        ));
    }
    Ok(Some(file))
}
