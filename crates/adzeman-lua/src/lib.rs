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
//! What a script is, can be known when it is loaded, before it runs:
//!
//! ```
//! use std::sync::atomic::AtomicBool;
//! use std::sync::{Arc, Mutex};
//! use adzeman_core::engine::{Engine, Supervisor};
//! use adzeman_core::host::{Data, HostError, HostView};
//! use adzeman_core::path::{Notation, TreePath};
//! use adzeman_core::sharing::Shared;
//! use adzeman_core::source::{Line, LineSet, SourceFacts, SourceId};
//! use adzeman_lua::LuaEngine;
//!
//! /// Notes which sources come.
//! #[derive(Default)]
//! struct Notes(Mutex<Vec<SourceFacts>>);
//!
//! impl Supervisor for Notes {
//!     fn source_loaded(&self, facts: SourceFacts) -> SourceId {
//!         self.0.lock().unwrap().push(facts);
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
//! let (lua, notes) = (mlua::Lua::new(), Shared::new(Notes::default()));
//! let engine = LuaEngine::new(&lua, notes.clone(), Shared::new(Bare)).unwrap();
//! engine.load("toll.lua", "function fare(x)\n\n  return 2 * x\nend").unwrap();
//!
//! let facts = &notes.0.lock().unwrap()[0];
//! let code = facts.code.get();
//! assert_eq!(code.functions[0].name.as_deref(), Some("fare"));
//! assert_eq!(code.lines.iter().map(Line::get).collect::<Vec<_>>(), [3, 4], "a definition is no place to stop");
//! ```
#![deny(unsafe_code)]

mod arm;
mod constants;
mod context;
mod dialect;
mod environments;
mod error;
mod evaluate;
mod facts;
mod ffi;
mod heap;
mod look;
mod reload;
mod scope;
mod scripts;
mod text;
#[cfg(test)]
#[path = "../tests/lua/versions.rs"]
mod versions;

use std::collections::BTreeSet;
use std::ffi::CString;
#[cfg(feature = "async")]
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
#[cfg(feature = "async")]
use std::task::{self, Poll};
use std::time::Duration;

use adzeman_core::engine::{Engine, EngineContext, EngineError, Interrupt, Need, Supervisor, Syntax};
use adzeman_core::evaluation::{Inside, UnderWay};
use adzeman_core::host::{About, HostView};
use adzeman_core::profile::Profile;
use adzeman_core::sharing::Shared;
#[cfg(feature = "async")]
use adzeman_core::sharing::SharedWeak;
use adzeman_core::source::{Language, Line, NameUse};
use adzeman_core::stepping::{Stack as _, StackId, StackState};
use mlua::{FromLuaMulti, Function, IntoLuaMulti, Lua, Thread};
use serde::Serialize;

use crate::context::{Context, View};
use crate::ffi::bounds::Progress;
use crate::ffi::interrupt;
use crate::ffi::locked::Locked;
use crate::ffi::watch::Attendant as _;

pub use error::LuaError;
pub use ffi::forks::forks;
pub use ffi::lua_of;

/// A Lua state under watch. Dropping it leaves the state as if it had never been. With the feature `send` it may be used on any
/// thread, as the state may; whatever is asked of it waits then until no other thread runs the state.
pub struct LuaEngine(Shared<Locked<Rc<Context>>>);

// It moves between threads where the binding's state does.
#[cfg(feature = "send")]
const _: fn() = || {
    fn is_shared<T: Send + Sync>() {}
    is_shared::<LuaEngine>();
};

impl LuaEngine {
    /// Begins to watch a state, reporting to `supervisor` and showing scripts the host by `host`. `print` is taken over, so
    /// that what scripts print can be shown to whoever is attached; it still prints.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn new(lua: &Lua, supervisor: Shared<dyn Supervisor>, host: Shared<dyn HostView>) -> Result<Self, LuaError> {
        let context = Locked::new(lua, || {
            let main = ffi::main_thread_of(lua)?;
            let context = Context::open(lua, main, supervisor, host)?;
            ffi::offered::offer(main)?;
            ffi::print::take_over(main)?;
            Ok::<_, LuaError>(context)
        })?;
        Ok(Self(Shared::new(context)))
    }

    /// The host says nothing of this crate: it makes coroutines and resumes them by itself, and may put a hook of its own onto each before
    /// it does. From now on these are met by what they allocate, while something needs a hook; an allocator of this crate stands before
    /// that of the state then. Not for states whose binding looks for its own allocator there, as those of [`Lua::new`].
    pub fn meet_newcomers(&self) {
        self.0.with(|context| context.watch.meet_newcomers(true));
    }

    /// Compiles a script under a name, such as `scripts/lock.lua`, and makes it known as a source, with all lines that can
    /// hold a breakpoint. It is not run.
    ///
    /// # Errors
    /// Lua's own, with the position, for a text that does not compile.
    pub fn load(&self, name: &str, text: &str) -> Result<Function, LuaError> {
        let chunk_name = format!("@{name}");
        self.0.with(|context| {
            let function = self.0.lua().load(text).set_name(&chunk_name).into_function()?;
            // A name that holds no zero was just accepted.
            let c_name = CString::new(chunk_name.as_str()).unwrap_or_default();
            context.report_source(&chunk_name, facts::of_text(name, &c_name, Arc::from(text)));
            context.renew();
            context.watch.look_soon();
            Ok(function)
        })
    }

    /// The function as compiled code, as it was loaded: without what breakpoints have put in. [`Function::dump`] of the binding
    /// sees that, so what it answers while a line of the function is armed is longer, though it runs just the same.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn dump(&self, function: &Function, strips: bool) -> Result<Vec<u8>, LuaError> {
        let dump = |context: &Rc<Context>| {
            ffi::dump(self.0.lua(), function, strips, |state, strips| context.dump(state, strips))
        };
        Ok(self.0.with(dump)?)
    }

    /// Has values of the host that scripts hold, of the type `T`, show what they hold, by serde. What `about` calls secret is
    /// left out.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn show_type<T: Serialize + 'static>(&self, about: About) -> Result<(), LuaError> {
        self.0.with(|context| context.shown.types.add::<T>(self.0.lua(), about))
    }

    /// Resumes a coroutine as [`Thread::resume`] does, for hosts that run scripts in coroutines of their own: a pause reaches
    /// it even in an endless loop. (Coroutines that scripts resume are known by themselves.)
    ///
    /// # Errors
    /// Those of [`Thread::resume`].
    pub fn resume<R: FromLuaMulti>(&self, thread: &Thread, arguments: impl IntoLuaMulti) -> mlua::Result<R> {
        self.0.with(|context| {
            let coroutine = ffi::thread_of(self.0.lua(), thread)?;
            context.watch.host_resumes(coroutine, || {
                let outcome = thread.resume(arguments);
                context.host_resumed(coroutine, outcome.as_ref().err());
                outcome
            })
        })
    }

    /// Runs a coroutine that may call asynchronous functions of the host to its end, as `Thread::into_async` does. Each run is known
    /// by itself, as with [`resume`](Self::resume).
    ///
    /// # Errors
    /// Those of the binding.
    #[cfg(feature = "async")]
    pub fn resume_async<R: FromLuaMulti>(&self, thread: &Thread, arguments: impl IntoLuaMulti) -> mlua::Result<Run<R>> {
        let run = thread.clone().into_async(arguments)?;
        Ok(Run { engine: Shared::downgrade(&self.0), thread: thread.clone(), run })
    }

    /// What other threads interrupt this state by.
    #[must_use]
    pub fn interrupt(&self) -> Arc<dyn Interrupt> {
        self.0.with(|context| {
            let watch = &context.watch;
            let remote: Arc<dyn Interrupt> = Arc::new(Remote {
                interrupt: watch.remote(),
                progress: watch.bounds.progress.clone(),
                #[cfg(feature = "send")]
                state: Arc::downgrade(&self.0),
                #[cfg(feature = "send")]
                is_reminding: Arc::default(),
            });
            remote
        })
    }
}

/// A coroutine that runs to its end: what [`LuaEngine::resume_async`] answers.
#[cfg(feature = "async")]
#[must_use = "a coroutine runs as it is polled"]
pub struct Run<R> {
    engine: SharedWeak<Locked<Rc<Context>>>,
    thread: Thread,
    run: mlua::thread::AsyncThread<R>,
}

#[cfg(feature = "async")]
impl<R: FromLuaMulti> Future for Run<R> {
    type Output = mlua::Result<R>;

    fn poll(mut self: Pin<&mut Self>, cx: &mut task::Context<'_>) -> Poll<Self::Output> {
        // Whoever has closed the context goes on without it.
        let Some(engine) = self.engine.upgrade() else { return Pin::new(&mut self.run).poll(cx) };
        engine.with(|context| {
            let coroutine = ffi::thread_of(engine.lua(), &self.thread)?;
            context.watch.host_resumes(coroutine, || {
                let outcome = Pin::new(&mut self.run).poll(cx);
                if let Poll::Ready(Err(error)) = &outcome {
                    context.host_resumed(coroutine, Some(error));
                }
                outcome
            })
        })
    }
}

impl Drop for LuaEngine {
    fn drop(&mut self) {
        self.0.with(|context| context.close());
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

    fn prepare_reload(&self, name: &str, old: &str, new: &str) {
        arm::prepare_reload(name, old, new);
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

/// How long it is waited for that a state which no thread seems to run is reminded.
#[cfg(feature = "send")]
const REMINDED_WITHIN: std::time::Duration = std::time::Duration::from_millis(20);

struct Remote {
    interrupt: interrupt::Remote,
    progress: Arc<Progress>,
    #[cfg(feature = "send")]
    state: std::sync::Weak<Locked<Rc<Context>>>,
    /// Whether a thread waits for the state to remind it.
    #[cfg(feature = "send")]
    is_reminding: Arc<std::sync::atomic::AtomicBool>,
}

#[cfg(feature = "send")]
impl Remote {
    /// While nobody runs it, a state is touched by whoever locks it. Another thread does: it has to wait if one runs it by then.
    fn remind_idle(&self) {
        use std::sync::atomic::Ordering::SeqCst;
        if !self.interrupt.is_idle() || self.is_reminding.swap(true, SeqCst) {
            return;
        }
        let (state, is_reminding) = (self.state.clone(), self.is_reminding.clone());
        let (done, is_done) = std::sync::mpsc::channel();
        let started = std::thread::Builder::new().name("adzeman-remind".to_owned()).spawn(move || {
            if let Some(state) = state.upgrade() {
                state.with(|context| context.watch.look_soon());
            }
            is_reminding.store(false, SeqCst);
            // Who asked may not wait any more.
            let _ = done.send(());
        });
        match started {
            // Unless another thread has come first.
            Ok(_) => drop(is_done.recv_timeout(REMINDED_WITHIN)),
            Err(error) => {
                tracing::warn!(%error, "a state that no thread runs takes no notice of what changed until one does");
                self.is_reminding.store(false, SeqCst);
            }
        }
    }
}

impl Interrupt for Remote {
    fn prepare(&self) {
        self.interrupt.prepare();
    }

    fn reach(&self, reached: &mut BTreeSet<i64>) -> bool {
        let is_reached = self.interrupt.reach(reached);
        let is_met = self.interrupt.meet_newcomers();
        #[cfg(feature = "send")]
        self.remind_idle();
        is_reached || is_met
    }

    fn remind(&self) {
        self.interrupt.meet_newcomers();
        #[cfg(feature = "send")]
        self.remind_idle();
    }

    fn prepare_sample(&self) -> bool {
        self.interrupt.prepare_sample()
    }

    fn reach_costs(&self) -> Duration {
        self.interrupt.reach_costs()
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
        self.0.with(|context| context.watch(need));
    }

    fn depth(&self) -> usize {
        self.0.with(|context| View::new(context, context.watch.running()).total())
    }

    fn memory_bytes(&self) -> Option<u64> {
        Some(self.0.with(|context| ffi::sizes::bytes_in_use(context.main)))
    }

    fn begin_profile(&self) -> Result<(), EngineError> {
        self.0.with(|context| context.begin_profile())
    }

    fn end_profile(&self) -> Profile {
        self.0.with(|context| context.end_profile())
    }

    fn safe_point(&self) {
        self.0.with(|context| context.safe_point());
    }

    fn keep_watch(&self) {
        self.0.with(|context| context.keep_watch());
    }

    fn wants_safe_point(&self) -> bool {
        self.0.with(|context| context.wants_safe_point())
    }

    fn is_lagging(&self) -> bool {
        self.0.with(|context| context.is_lagging())
    }

    fn is_settled(&self) -> bool {
        self.0.with(|context| context.is_settled())
    }

    fn awaits_host(&self, stack: StackId) -> bool {
        self.0.with(|context| View::new(context, context.main).state_of(stack) == StackState::Waiting)
    }

    fn abandon(&self) -> bool {
        self.0.with(|context| context.watch.abandon());
        true
    }

    fn at_safe_point(&self, work: &mut dyn FnMut(&mut dyn Engine)) {
        self.0.with(|context| {
            // The script has run since the last one.
            context.shown.forget_keys();
            if let Err(error) = context.shown.forget_surplus() {
                tracing::warn!(%error, "values that were shown are kept alive");
            }
            work(&mut View::new(context, context.main));
        });
    }

    fn discover(&self) {
        self.0.with(|context| context.discover());
    }

    fn enter(&self, work: &mut dyn FnMut()) {
        self.0.with(|context| context.watch.here(work));
    }
}
