//! Runs a script up to the lines marked `--stop` and lends the engine to the test there.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::rc::Rc;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::SeqCst};
use std::thread::JoinHandle;
use std::time::Duration;

use adzeman_core::breakpoint::{Armed, BreakpointSpec, BreakpointStore, ChangeKind, OwnerId, Site, TrackId};
use adzeman_core::decide::{Decider, Moment, Reason};
use adzeman_core::engine::{
    Engine, EngineContext as _, EngineError, Need, Reload, ReloadMode, ScopeKind, Supervisor, Syntax as _,
};
use adzeman_core::host::{Data, HostError, HostView, at};
use adzeman_core::path::{Notation, Path};
use adzeman_core::path::{Root, TreePath};
use adzeman_core::source::SourceLine;
use adzeman_core::source::{Line, LineSet, Source, SourceFacts, SourceId, Sources};
use adzeman_core::stepping::{Step, StepKind};
use adzeman_core::value::{Page, Part, Variable};
use adzeman_lua::{LuaEngine, LuaSyntax};
use mlua::Lua;
use serde_json::{Value as Json, json};

use crate::versions::adapted;

/// How a test goes on from a stop.
pub(crate) enum Go {
    Freely,
    Step(StepKind),
}

type AtStop = dyn FnMut(&mut dyn Engine, u32) -> Go;

/// The host that scripts see: `host.lock.level`, and the event `{ dt = 0.5 }`.
pub(crate) struct TestHost(pub(crate) RefCell<Json>);

impl HostView for TestHost {
    fn get(&self, place: &TreePath) -> Result<Data, HostError> {
        let event = json!({"name": "frame.update", "dt": 0.5});
        let data = match place.root {
            Root::Host => self.0.borrow().clone(),
            Root::Event => event,
        };
        at(&Data::from(data), place, 0, Notation::OF_DATA).cloned()
    }

    fn set(&self, place: &TreePath, value: Json) -> Result<(), HostError> {
        let mut data = self.0.borrow_mut();
        at(&*data, place, 0, Notation::OF_DATA)?;
        place.path.replace(&mut *data, value).unwrap();
        Ok(())
    }

    fn has_event(&self) -> bool {
        true
    }
}

pub(crate) struct Supervising {
    /// How lines are armed: those that need the hook, and why.
    hooked: RefCell<BTreeMap<u32, String>>,
    sources: RefCell<Sources>,
    decider: RefCell<Decider>,
    engine: RefCell<Option<Rc<LuaEngine>>>,
    at_stop: RefCell<Box<AtStop>>,
    stops: RefCell<Vec<u32>>,
    raises: RefCell<Vec<String>>,
    /// Lines that were reported, stop or not.
    reached: Cell<usize>,
    busy: Cell<bool>,
    /// Values that are watched for a change once the script asks for that, and what was found changed: where the script was and what
    /// had run.
    tracked: Tracked,
    changes: RefCell<Vec<String>>,
    /// Whether what is watched for is what writes to them.
    watches_writes: bool,
    /// Whether every line is told of, also where a step needs those of one call only, or changes none that nothing changed on.
    watches_widely: bool,
}

impl Supervisor for Supervising {
    fn source_loaded(&self, facts: SourceFacts) -> SourceId {
        self.sources.borrow_mut().add(facts)
    }

    fn attention(&self) -> Arc<AtomicBool> {
        Arc::default()
    }

    fn now(&self) -> Option<Duration> {
        Some(Duration::ZERO)
    }

    fn holds_line(&self, source: SourceId, lines: &LineSet, first: u32, last: u32) -> bool {
        self.sources.borrow().get(source).is_some_and(|source| source.function_holds(lines, first, last))
    }

    fn line_reached(&self, engine: &mut dyn Engine, source: Option<SourceId>, line: Line) {
        assert!(!self.busy.replace(true), "no line is reported while one is looked at");
        self.reached.set(self.reached.get() + 1);
        let place = source.map(|source| SourceLine { source, line });
        let reason = {
            let mut decider = self.decider.borrow_mut();
            decider.at_line(Moment { place, ..Moment::default() }, engine).reason
        };
        if let Some(Reason::Changed { change, .. }) = &reason {
            let ran = change.place.map_or(0, |place| place.line.get());
            let (before, now) = (&change.before.1, &change.now.1);
            self.changes.borrow_mut().push(format!("{}: {} {before} > {now} by {ran}", line.get(), change.target));
        }
        if let Some(Reason::Used { target, .. }) = &reason {
            self.changes.borrow_mut().push(format!("{}: {target}", line.get()));
        }
        if reason.is_some() {
            self.stops.borrow_mut().push(line.get());
            let go = (self.at_stop.borrow_mut())(engine, line.get());
            engine.release();
            if let Go::Step(kind) = go {
                self.decider.borrow_mut().begin_step(Step::begin(kind, engine.stack()));
            }
        }
        let need = self.need();
        if let Some(engine) = &*self.engine.borrow() {
            engine.watch(&need);
        }
        self.busy.set(false);
    }

    fn armed_as(&self, place: SourceLine, watched_because: Option<&str>) {
        match watched_because {
            Some(why) => self.hooked.borrow_mut().insert(place.line.get(), why.to_owned()),
            None => self.hooked.borrow_mut().remove(&place.line.get()),
        };
    }

    fn raised(&self, engine: &mut dyn Engine, place: Option<(SourceId, Line)>, message: &str, caught: bool) {
        let names: Vec<_> = engine.frames(Page::first(9)).unwrap().items.into_iter().map(|frame| frame.name).collect();
        let line = place.map_or(0, |(_, line)| line.get());
        let caught = if caught { "caught" } else { "uncaught" };
        self.raises.borrow_mut().push(format!("{line}: {message} ({caught}; {})", names.join(" < ")));
        (self.at_stop.borrow_mut())(engine, line);
        engine.release();
    }

    fn printed(&self, _: &str, _: Option<(SourceId, Line)>) {}

    fn is_attached(&self) -> bool {
        true
    }
}

pub(crate) fn at_line(line: u32, condition: Option<&str>) -> BreakpointSpec {
    let site = Site::Line { path: "test.lua".into(), line: Line::new(line).unwrap() };
    BreakpointSpec { condition: condition.map(str::to_owned), ..BreakpointSpec::at(site) }
}

impl Supervising {
    fn need(&self) -> Need {
        let need = self.decider.borrow().need();
        match self.watches_widely {
            true => Need { lines_of: None, changes_of: Vec::new(), ..need },
            false => need,
        }
    }

    /// Arms exactly these breakpoints.
    fn arm(&self, mut specs: Vec<BreakpointSpec>) {
        specs.extend(self.tracked.borrow().iter().map(|(track, shown)| {
            let target = adzeman_core::breakpoint::Tracked::Script { context: 0, track: *track, shown: shown.clone() };
            let how = if self.watches_writes { ChangeKind::Written } else { ChangeKind::Value };
            BreakpointSpec::at(Site::Change { target, how })
        }));
        let mut store = BreakpointStore::default();
        store.replace(OwnerId(1), |_| true, specs);
        let uses =
            |source: &Source, name: &str| source.text().map(|text| LuaSyntax.uses_of(text, name)).unwrap_or_default();
        let resolved = store.resolve(&self.sources.borrow(), &[], &uses);
        self.decider.borrow_mut().arm(Arc::new(Armed::new(&resolved, Arc::default())));
    }
}

/// A finished run.
pub(crate) struct Ran {
    pub(crate) lua: Lua,
    pub(crate) stops: Vec<u32>,
    /// How many lines were reported, stop or not.
    pub(crate) reached: usize,
    /// Errors as they were raised: line, text, whether caught, and the functions on the stack.
    pub(crate) raises: Vec<String>,
    /// Lines that were armed by the line hook, and why.
    pub(crate) hooked: BTreeMap<u32, String>,
    pub(crate) host: Rc<TestHost>,
    pub(crate) changes: Vec<String>,
    /// What the main thread had a hook for before and behind each of the script's events.
    pub(crate) hooks: Vec<(i32, i32)>,
    pub(crate) outcome: mlua::Result<mlua::Value>,
}

/// Runs `script` with a breakpoint on each line that ends with `--stop`. The script can arm other lines itself, by
/// `rearm({lines}, condition)`, come to a safe point and have sources looked for by `safe_point()` and `discover()`, and have the binding write out a function, by `host_dump(function, strips)`.
/// By `time_calls()` it is kept from there on when calls begin. With the remark `--interrupted` in it, it is interrupted all the time.
/// Functions that it leaves in a global list `events` are called one by one when it is done, with a safe point before each.
pub(crate) fn run(script: &str, at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static) -> Ran {
    run_with(script, Vec::new(), at_stop)
}

/// The same, with the text unknown to the engine, so that no body can be exchanged.
pub(crate) fn run_hooked(script: &str, at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static) -> Ran {
    run_from(script, "=test.lua", Vec::new(), false, Tracked::default(), at_stop)
}

/// As [`run`], with every line watched during a step.
pub(crate) fn run_stepping_widely(script: &str, at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static) -> Ran {
    run_from(script, "@test.lua", Vec::new(), true, Tracked::default(), at_stop)
}

/// As [`run`], with more breakpoints.
pub(crate) fn run_with(
    script: &str,
    more: Vec<BreakpointSpec>,
    at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static,
) -> Ran {
    run_from(script, "@test.lua", more, false, Tracked::default(), at_stop)
}

/// Runs a script up to its first stop, watches what these names stand for there, and answers how they changed from then on: by every
/// line told of if `widely`. With the remark `--writes` in it, what writes to them stops.
pub(crate) fn run_watching(script: &str, names: &'static [&'static str], widely: bool) -> Ran {
    let tracked = Tracked::default();
    let kept = tracked.clone();
    let track = move |engine: &mut dyn Engine, _| {
        if kept.borrow().is_empty() {
            let track = |name: &&str| (engine.track(Some(0), name).unwrap(), (*name).to_owned());
            let found: Vec<_> = names.iter().map(track).collect();
            kept.borrow_mut().extend(found);
        }
        Go::Freely
    };
    run_from(script, "@test.lua", Vec::new(), widely, tracked, track)
}

/// Interrupts an engine again and again, for as long as it is there.
struct Interrupting(Arc<AtomicBool>, Option<JoinHandle<()>>);

impl Interrupting {
    fn begin(engine: &LuaEngine) -> Self {
        let (ends, interrupt) = (Arc::new(AtomicBool::new(false)), engine.interrupt());
        let is_over = ends.clone();
        let interrupting = std::thread::spawn(move || {
            while !is_over.load(SeqCst) {
                interrupt.interrupt();
                std::thread::sleep(Duration::from_micros(10));
            }
        });
        Self(ends, Some(interrupting))
    }
}

impl Drop for Interrupting {
    fn drop(&mut self) {
        self.0.store(true, SeqCst);
        self.1.take().unwrap().join().unwrap();
    }
}

/// In the mask of a hook: it is called for lines.
pub(crate) const LINES: i32 = 1 << 2;

type Tracked = Rc<RefCell<Vec<(TrackId, String)>>>;

fn run_from(
    script: &str,
    chunk_name: &str,
    more: Vec<BreakpointSpec>,
    watches_widely: bool,
    tracked: Tracked,
    at_stop: impl FnMut(&mut dyn Engine, u32) -> Go + 'static,
) -> Ran {
    let script = &*adapted(script);
    let lua = crate::ffi::lua_with_debug();
    let host = Rc::new(TestHost(RefCell::new(json!({"lock": {"level": 1.5, "gate": "shut", "boats": [12, 30]}}))));
    let supervising = Rc::new(Supervising {
        hooked: RefCell::default(),
        sources: RefCell::default(),
        decider: RefCell::default(),
        engine: RefCell::default(),
        at_stop: RefCell::new(Box::new(at_stop)),
        stops: RefCell::default(),
        raises: RefCell::default(),
        reached: Cell::new(0),
        busy: Cell::new(false),
        tracked,
        changes: RefCell::default(),
        watches_writes: script.contains("--writes"),
        watches_widely,
    });
    let engine = Rc::new(LuaEngine::new(&lua, supervising.clone(), host.clone()).unwrap());
    *supervising.engine.borrow_mut() = Some(engine.clone());
    let rearm = {
        let (supervising, weak) = (supervising.clone(), Rc::downgrade(&engine));
        move |_: &Lua, (lines, condition): (Vec<u32>, Option<String>)| {
            supervising.arm(lines.into_iter().map(|line| at_line(line, condition.as_deref())).collect());
            if let Some(engine) = weak.upgrade() {
                engine.watch(&supervising.need());
            }
            Ok(())
        }
    };
    lua.globals().set("rearm", lua.create_function(rearm).unwrap()).unwrap();
    let time_calls = {
        let (supervising, weak) = (supervising.clone(), Rc::downgrade(&engine));
        move |_: &Lua, ()| {
            supervising.decider.borrow_mut().time_calls(true);
            weak.upgrade().iter().for_each(|engine| engine.watch(&supervising.need()));
            Ok(())
        }
    };
    if script.contains("time_calls()") {
        lua.globals().set("time_calls", lua.create_function(time_calls).unwrap()).unwrap();
    }
    let calls = [("safe_point", LuaEngine::safe_point as fn(&LuaEngine)), ("discover", LuaEngine::discover)];
    for (name, call) in calls.into_iter().filter(|(name, _)| script.contains(&format!("{name}()"))) {
        let weak = Rc::downgrade(&engine);
        let function = move |_: &Lua, ()| {
            weak.upgrade().iter().for_each(|engine| call(engine));
            Ok(())
        };
        lua.globals().set(name, lua.create_function(function).unwrap()).unwrap();
    }
    if script.contains("looks_at_lines()") {
        // Of the thread that asks, which is none of a coroutine.
        let looks = |lua: &Lua, ()| Ok(crate::ffi::hook_mask(lua) & LINES != 0);
        lua.globals().set("looks_at_lines", lua.create_function(looks).unwrap()).unwrap();
    }
    if script.contains("host_keep(") {
        offer_hiding_places(&lua);
    }
    if script.contains("host_dump(") {
        let dump = |lua: &Lua, (function, strips): (mlua::Function, bool)| lua.create_string(function.dump(strips));
        lua.globals().set("host_dump", lua.create_function(dump).unwrap()).unwrap();
    }
    let function = if chunk_name.starts_with('@') {
        engine.load("test.lua", script).unwrap()
    } else {
        let function = lua.load(script).set_name(chunk_name).into_function().unwrap();
        engine.discover();
        function
    };
    let marked = (1..).zip(script.lines()).filter(|(_, text)| text.trim_end().ends_with("--stop"));
    supervising.arm(marked.map(|(line, _)| at_line(line, None)).chain(more).collect());
    engine.watch(&supervising.need());
    let _interrupting = script.contains("--interrupted").then(|| Interrupting::begin(&engine));
    let outcome = function.call::<mlua::Value>(());
    let mut hooks = Vec::new();
    let events = lua.globals().get::<Option<Vec<mlua::Function>>>("events").unwrap().unwrap_or_default();
    for event in events {
        engine.safe_point();
        let before = crate::ffi::hook_mask(&lua);
        event.call::<()>(()).unwrap();
        hooks.push((before, crate::ffi::hook_mask(&lua)));
    }
    *supervising.engine.borrow_mut() = None;
    let stops = supervising.stops.borrow().clone();
    let raises = supervising.raises.borrow().clone();
    let hooked = supervising.hooked.borrow().clone();
    let changes = supervising.changes.borrow().clone();
    Ran { lua, stops, reached: supervising.reached.get(), raises, hooked, host, changes, hooks, outcome }
}

/// Loads a text and runs it, with a breakpoint on each of these lines if `armed`, and lends what gives it another one.
pub(crate) fn reloading(
    old: &str,
    armed: &[u32],
    work: impl FnOnce(&Lua, &dyn Fn(&str) -> Result<Reload, EngineError>),
) {
    let lua = crate::ffi::lua_with_debug();
    let host = Rc::new(TestHost(RefCell::new(json!({}))));
    let supervising = Rc::new(Supervising {
        hooked: RefCell::default(),
        sources: RefCell::default(),
        decider: RefCell::default(),
        engine: RefCell::default(),
        at_stop: RefCell::new(Box::new(|_, _| Go::Freely)),
        stops: RefCell::default(),
        raises: RefCell::default(),
        reached: Cell::new(0),
        busy: Cell::new(false),
        tracked: Tracked::default(),
        changes: RefCell::default(),
        watches_writes: false,
        watches_widely: false,
    });
    let engine = Rc::new(LuaEngine::new(&lua, supervising.clone(), host).unwrap());
    *supervising.engine.borrow_mut() = Some(engine.clone());
    engine.load("test.lua", old).unwrap().call::<()>(()).unwrap();
    let arm = || {
        supervising.arm(armed.iter().map(|line| at_line(*line, None)).collect());
        engine.watch(&supervising.need());
    };
    arm();
    work(&lua, &|text| {
        let mut outcome = Ok(None);
        engine.at_safe_point(&mut |engine| outcome = engine.reload("test.lua", text, ReloadMode::Whole));
        // Breakpoints are on lines of the newest text.
        arm();
        outcome.map(Option::unwrap)
    });
    *supervising.engine.borrow_mut() = None;
}

/// Ways of a host to hold functions: `host_box(f)` in a userdata, which `host_unbox` looks into; `host_keep(f)` by the binding, for
/// `host_call(number, x)`; and `host_capture(f)` in a function of the host.
pub(crate) fn offer_hiding_places(lua: &Lua) {
    struct Empty;
    impl mlua::UserData for Empty {}
    let globals = lua.globals();
    let offer = |name: &str, function: mlua::Result<mlua::Function>| globals.set(name, function.unwrap()).unwrap();
    let boxed = |lua: &Lua, function: mlua::Function| {
        let userdata = lua.create_userdata(Empty)?;
        userdata.set_user_value(function)?;
        Ok(userdata)
    };
    offer("host_box", lua.create_function(boxed));
    let unboxed = |_: &Lua, userdata: mlua::AnyUserData| userdata.user_value::<mlua::Function>();
    offer("host_unbox", lua.create_function(unboxed));
    let kept = Rc::new(RefCell::new(Vec::new()));
    let keep = kept.clone();
    let keep = move |_: &Lua, function: mlua::Function| {
        keep.borrow_mut().push(function);
        Ok(keep.borrow().len())
    };
    offer("host_keep", lua.create_function(keep));
    let call = move |_: &Lua, (number, x): (usize, i64)| {
        let function = kept.borrow()[number - 1].clone();
        function.call::<i64>(x)
    };
    offer("host_call", lua.create_function(call));
    let capture = |lua: &Lua, function: mlua::Function| lua.create_function(move |_, x: i64| function.call::<i64>(x));
    offer("host_capture", lua.create_function(capture));
}

/// Runs `script` to its first stop and answers what `look` makes of it there.
#[track_caller]
pub(crate) fn at_stop<T: 'static>(script: &str, mut look: impl FnMut(&mut dyn Engine) -> T + 'static) -> T {
    let seen = Rc::new(RefCell::new(None));
    let kept = seen.clone();
    let ran = run(script, move |engine, _| {
        if kept.borrow().is_none() {
            let value = look(engine);
            *kept.borrow_mut() = Some(value);
        }
        Go::Freely
    });
    if let Err(error) = &ran.outcome {
        panic!("the script failed: {error}");
    }
    let value = seen.borrow_mut().take();
    value.expect("the script stopped")
}

/// The variables of a scope of a frame.
pub(crate) fn scope(engine: &mut dyn Engine, frame: usize, kind: ScopeKind) -> Vec<Variable> {
    let scopes = engine.scopes(frame).unwrap();
    let Some(scope) = scopes.iter().find(|scope| scope.kind == kind) else { return Vec::new() };
    engine.children(scope.handle, Part::All, Page::first(100)).unwrap().items
}

/// `name = preview` of each, shadowed ones in parentheses.
pub(crate) fn shown(variables: &[Variable]) -> String {
    let one = |variable: &Variable| {
        let text = format!("{} = {}", variable.name, variable.value.preview);
        if variable.shadowed { format!("({text})") } else { text }
    };
    variables.iter().map(one).collect::<Vec<_>>().join("; ")
}

/// The inside of a value found by evaluating `text`.
pub(crate) fn inside(engine: &mut dyn Engine, text: &str, part: Part, page: Page) -> Vec<Variable> {
    let values = engine.evaluate(Some(0), text).unwrap();
    let children = values[0].children.clone().expect("there is something inside");
    let adzeman_core::value::Expand::Engine(handle) = children.expand else { panic!("{text} is the host's") };
    engine.children(handle, part, page).unwrap().items
}

/// The path `text`, for looking into the test's host.
pub(crate) fn path(text: &str) -> Path {
    Path::parse(text, Notation::OF_DATA).unwrap()
}
