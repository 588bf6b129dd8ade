//! The Lua engine of Adzeman, for Lua 5.4 by `mlua` and its C API.
//!
//! ```text
//!   host ── mlua ──▶ Lua state ── line hook ──▶ Watch::covers ── rarely ──▶ Supervisor::line_reached
//!                        ▲                        (ffi)                            │
//!                        └───── frames, scopes, values, evaluate ◀── View (Engine) ─┘
//! ```
//!
//! A [`LuaEngine`] watches one Lua state. It sets a hook only while something needs one; see
//! [`Need`].
//!
//! What a script is, is known when it is loaded, before it runs:
//!
//! ```
//! use std::cell::RefCell;
//! use std::rc::Rc;
//! use std::sync::Arc;
//! use std::sync::atomic::AtomicBool;
//! use adzeman_core::engine::{Engine, Supervisor};
//! use adzeman_core::host::{Data, HostError, HostView};
//! use adzeman_core::path::{Notation, TreePath};
//! use adzeman_core::source::{Line, LineSet, SourceFacts, SourceId};
//! use adzeman_lua::LuaEngine;
//!
//! /// Notes which sources come.
//! #[derive(Default)]
//! struct Notes(RefCell<Vec<SourceFacts>>);
//!
//! impl Supervisor for Notes {
//!     fn source_loaded(&self, facts: SourceFacts) -> SourceId {
//!         self.0.borrow_mut().push(facts);
//!         SourceId(0)
//!     }
//!     fn attention(&self) -> Arc<AtomicBool> { Arc::default() }
//!     fn line_reached(&self, _: &mut dyn Engine, _: Option<SourceId>, _: Line) {}
//!     fn printed(&self, _: &str, _: Option<(SourceId, Line)>) {}
//!     fn is_attached(&self) -> bool { false }
//!     fn holds_line(&self, _: SourceId, _: &LineSet, _: u32, _: u32) -> bool { false }
//! }
//!
//! /// A host without anything to show.
//! struct Bare;
//!
//! impl HostView for Bare {
//!     fn get(&self, at: &TreePath) -> Result<Data, HostError> {
//!         Err(HostError::NoField { path: "host".into(), name: at.display(Notation::OF_DATA), known: "nothing".into() })
//!     }
//!     fn set(&self, at: &TreePath, _: serde_json::Value) -> Result<(), HostError> {
//!         Err(HostError::ReadOnly { path: at.display(Notation::OF_DATA) })
//!     }
//!     fn has_event(&self) -> bool { false }
//! }
//!
//! let (lua, notes) = (mlua::Lua::new(), Rc::new(Notes::default()));
//! let engine = LuaEngine::new(&lua, notes.clone(), Rc::new(Bare)).unwrap();
//! engine.load("toll.lua", "function fare(x)\n\n  return 2 * x\nend").unwrap();
//!
//! let facts = &notes.0.borrow()[0];
//! assert_eq!(facts.functions[0].name.as_deref(), Some("fare"));
//! assert_eq!(facts.lines.iter().map(Line::get).collect::<Vec<_>>(), [3, 4], "a definition is no place to stop");
//! ```
#![deny(unsafe_code)]

mod arm;
mod context;
mod dialect;
mod error;
mod evaluate;
mod facts;
mod ffi;
mod look;
mod scope;
mod scripts;
mod text;

use std::rc::Rc;
use std::sync::Arc;

use adzeman_core::engine::{Engine, EngineContext, Interrupt, Need, Supervisor, Syntax};
use adzeman_core::evaluation::{Inside, UnderWay};
use adzeman_core::host::{About, HostView};
use adzeman_core::source::{Language, Line, NameUse};
use mlua::{FromLuaMulti, Function, IntoLuaMulti, Lua, Thread};
use serde::Serialize;

use crate::context::{Context, View};
use crate::ffi::bounds::Progress;
use crate::ffi::interrupt;
use crate::ffi::watch::Attendant as _;

pub use error::LuaError;
pub use ffi::lua_of;

/// A Lua state under watch. Dropping it leaves the state as if it had never been.
pub struct LuaEngine {
    context: Rc<Context>,
    lua: Lua,
}

impl LuaEngine {
    /// Begins to watch a state, reporting to `supervisor` and showing scripts the host by `host`. `print` is taken over, so
    /// that what scripts print can be shown to whoever is attached; it still prints.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn new(lua: &Lua, supervisor: Rc<dyn Supervisor>, host: Rc<dyn HostView>) -> Result<Self, LuaError> {
        let main = ffi::main_thread_of(lua)?;
        let context = Context::open(lua, main, supervisor, host)?;
        ffi::offered::offer(main)?;
        Ok(Self { context, lua: lua.clone() })
    }

    /// Compiles a script under a name, such as `scripts/lock.lua`, and makes it known as a source, with all lines that can
    /// hold a breakpoint. It is not run.
    ///
    /// # Errors
    /// Lua's own, with the position, for a text that does not compile.
    pub fn load(&self, name: &str, text: &str) -> Result<Function, LuaError> {
        let chunk_name = format!("@{name}");
        let function = self.lua.load(text).set_name(&chunk_name).into_function()?;
        let dumped = function.dump(false);
        let prototypes = dialect::chunk::prototypes(&dumped).unwrap_or_default();
        let facts = facts::facts(name, Some(Arc::from(text)), &prototypes);
        let id = self.context.supervisor().source_loaded(facts);
        self.context.note_source(&chunk_name, Some(Arc::from(text)), id);
        Ok(function)
    }

    /// The function as compiled code, as it was loaded: without what breakpoints have put in. [`Function::dump`] of the binding
    /// sees that, so what it answers while a line of the function is armed is longer, though it runs just the same.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn dump(&self, function: &Function, strips: bool) -> Result<Vec<u8>, LuaError> {
        Ok(ffi::dump(&self.lua, function, strips, |state, strips| self.context.dump(state, strips))?)
    }

    /// Has values of the host that scripts hold, of the type `T`, show what they hold, by serde. What `about` calls secret is
    /// left out.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn show_type<T: Serialize + 'static>(&self, about: About) -> Result<(), LuaError> {
        self.context.shown.types.add::<T>(&self.lua, about)
    }

    /// Resumes a coroutine as [`Thread::resume`] does, for hosts that run scripts in coroutines of their own: a pause reaches
    /// it even in an endless loop. (Coroutines that scripts resume are known by themselves.)
    ///
    /// # Errors
    /// Those of [`Thread::resume`].
    pub fn resume<R: FromLuaMulti>(&self, thread: &Thread, arguments: impl IntoLuaMulti) -> mlua::Result<R> {
        let coroutine = ffi::thread_of(&self.lua, thread)?;
        let before = self.context.watch.set_running(Some(coroutine));
        let outcome = thread.resume(arguments);
        self.context.watch.set_running(before);
        outcome
    }

    /// What other threads interrupt this state by.
    #[must_use]
    pub fn interrupt(&self) -> Arc<dyn Interrupt> {
        let watch = &self.context.watch;
        Arc::new(Remote { interrupt: watch.remote(), progress: watch.bounds.progress.clone() })
    }
}

impl Drop for LuaEngine {
    fn drop(&mut self) {
        self.context.close();
    }
}

/// The grammar of the Lua that this crate is built with.
#[derive(Debug, Clone, Copy, Default)]
pub struct LuaSyntax;

impl Syntax for LuaSyntax {
    fn check_expression(&self, text: &str) -> Result<(), String> {
        text::nesting::check_typed(text)?;
        check(&format!("return {text}"))
    }

    fn check_statement(&self, text: &str) -> Result<(), String> {
        text::nesting::check_typed(text)?;
        check(text)
    }

    fn language(&self) -> Language {
        text::LANGUAGE
    }

    fn locals_named(&self, script: &str, name: &str) -> Vec<Line> {
        text::expressions::locals_named(script, name)
    }

    fn uses_of(&self, script: &str, name: &str) -> Vec<NameUse> {
        text::uses::uses_of(script, name)
    }
}

/// Compiles a text in a state of its own, without libraries, in which nothing is run.
fn check(chunk: &str) -> Result<(), String> {
    let lua = Lua::new_with(mlua::StdLib::NONE, mlua::LuaOptions::default()).map_err(|error| error.to_string())?;
    let checked = lua.load(chunk).set_name("=text").into_function();
    checked.map(|_| ()).map_err(|error| match error {
        mlua::Error::SyntaxError { message, .. } => message.strip_prefix("text:1: ").unwrap_or(&message).to_owned(),
        other => other.to_string(),
    })
}

struct Remote {
    interrupt: interrupt::Remote,
    progress: Arc<Progress>,
}

impl Interrupt for Remote {
    fn interrupt(&self) -> bool {
        self.interrupt.interrupt()
    }

    fn inside(&self) -> Option<Inside> {
        self.interrupt.inside()
    }

    fn under_way(&self) -> Option<UnderWay> {
        self.progress.under_way()
    }
}

impl EngineContext for LuaEngine {
    fn watch(&self, need: &Need) {
        self.context.watch(need);
    }

    fn depth(&self) -> usize {
        View::new(&self.context, self.context.watch.running()).total()
    }

    fn safe_point(&self) {
        self.context.safe_point();
    }

    fn abandon(&self) -> bool {
        self.context.watch.abandon();
        true
    }

    fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine)) {
        // The script has run since the last one.
        self.context.shown.forget_keys();
        if let Err(error) = self.context.shown.forget_surplus() {
            tracing::warn!(%error, "values that were shown are kept alive");
        }
        work(&mut View::new(&self.context, self.context.main));
    }

    fn discover(&self) {
        self.context.discover();
    }
}
