//! Lua contexts.

use std::future::poll_fn;
use std::pin::pin;
use std::sync::Arc;

use adzeman_core::host::About;
use adzeman_core::sharing::Shared;
use adzeman_lua::{LuaEngine, LuaError, LuaSyntax};
use mlua::{FromLuaMulti, Function, IntoLuaMulti, Lua, Thread};
use serde::Serialize;

use crate::handle::ContextHandle;
use crate::host::Host;
use crate::lane::AttachError;

/// A Lua state opened as a context of a host. Keep it for as long as the state is to be open; dropping it leaves the state
/// as it was.
///
/// With the feature `send`, which the binding has to have as well, it is [`Send`] and [`Sync`] as the state is: it belongs to the
/// thread that runs it now. Say which that is by [`enter`](Self::enter).
#[cfg_attr(not(feature = "send"), doc = "```compile_fail")]
#[cfg_attr(not(feature = "send"), doc = "fn moves<T: Send>() {}")]
#[cfg_attr(not(feature = "send"), doc = "moves::<adzeman::LuaContext>(); // Without it, it stays on its thread.")]
#[cfg_attr(not(feature = "send"), doc = "```")]
pub struct LuaContext {
    // Closed before the engine goes.
    handle: ContextHandle,
    engine: Shared<LuaEngine>,
}

// It moves between threads where the binding's state does.
#[cfg(feature = "send")]
const _: fn() = || {
    fn is_shared<T: Send + Sync>() {}
    is_shared::<LuaContext>();
};

impl LuaContext {
    /// Opens a Lua state as the context `name`, on the thread that runs it. While another context of that name is open, a number
    /// stands behind it: `job`, `job (2)`, `job (3)`.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub fn attach(host: &Host, lua: &Lua, name: &str) -> Result<Self, AttachError> {
        let (handle, engine) = ContextHandle::open(host, name, Arc::new(LuaSyntax), |supervisor, view| {
            let engine = LuaEngine::new(lua, supervisor, view)?;
            let interrupt = engine.interrupt();
            Ok::<_, LuaError>((Shared::new(engine), interrupt))
        })?;
        Ok(Self { handle, engine })
    }

    /// The context's name.
    #[must_use]
    pub fn name(&self) -> &str {
        self.handle.name()
    }

    /// Does `work`, during which this thread runs the scripts of the state, whichever thread ran them before.
    ///
    /// Hosts that run a state on one thread need no such care. With the feature `send`, wrap in it what runs scripts, such as a
    /// frame's events: then a pause reaches a script even in an endless loop, and what a person asks for is done on the thread
    /// that has the state anyway. Other threads that want the state wait until `work` is done, whether anyone is attached or
    /// not. With someone attached it is a safe point to begin with.
    ///
    /// ```
    /// use adzeman::{Event, Host, Listen, LuaContext};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let lua = mlua::Lua::new();
    /// let context = LuaContext::attach(&host, &lua, "keeper")?;
    /// let update = context.load("keeper.lua", "local dt = ... return 2 * dt")?;
    /// let passed = context.enter(|| host.emit(Event::of("frame.update"), || update.call::<f64>(0.5)))?;
    /// assert_eq!(passed, 1.0);
    /// # Ok(())
    /// # }
    /// ```
    pub fn enter<T>(&self, work: impl FnOnce() -> T) -> T {
        self.handle.enter(work)
    }

    /// The same for asynchronous work, each bit of which is done as [`enter`](Self::enter) does it: on whatever thread it is polled.
    pub async fn enter_async<T>(&self, work: impl Future<Output = T>) -> T {
        let mut work = pin!(work);
        poll_fn(|cx| self.handle.enter(|| work.as_mut().poll(cx))).await
    }

    /// Says that the program resumes coroutines by itself, and perhaps puts a hook of its own onto each before it does, without
    /// [`resume`](Self::resume): as one that knows nothing of the host. Coroutines that it makes are met by what they allocate then, while
    /// something needs a hook; an allocator stands before that of the state for as long. Not for states whose binding looks for its own
    /// allocator there, as those of [`Lua::new`].
    pub fn meet_newcomers(&self) {
        self.engine.meet_newcomers();
    }

    /// Resumes a coroutine as [`Thread::resume`] does, for hosts that run scripts in coroutines of their own: a pause reaches
    /// it even in an endless loop. Coroutines that scripts resume need no such care.
    ///
    /// # Errors
    /// Those of [`Thread::resume`].
    ///
    /// ```
    /// use adzeman::{Host, Listen, LuaContext};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let lua = mlua::Lua::new();
    /// let context = LuaContext::attach(&host, &lua, "keeper")?;
    /// let body = context.load("keeper.lua", "local a = ... local b = coroutine.yield(a + 1) return b * 2")?;
    /// let thread = lua.create_thread(body)?;
    /// assert_eq!(context.resume::<i64>(&thread, 1)?, 2);
    /// assert_eq!(context.resume::<i64>(&thread, 5)?, 10);
    /// # Ok(())
    /// # }
    /// ```
    pub fn resume<R: FromLuaMulti>(&self, thread: &Thread, arguments: impl IntoLuaMulti) -> mlua::Result<R> {
        self.engine.resume(thread, arguments)
    }

    /// Runs a coroutine that may call asynchronous functions of the host, as `Thread::into_async` of the binding does, to its end:
    /// a step over a call that waits ends on the next line of this very run, whatever else runs meanwhile; an error stops where it
    /// is raised, and a pause reaches it even in an endless loop. With the feature `async`.
    ///
    /// `Function::call_async` works as well. Then a step over a call that waits knows the coroutine only, which the binding uses
    /// again for other calls, and an error or a pause is told as it comes to the host.
    ///
    /// # Errors
    /// Those of the binding.
    #[cfg(feature = "async")]
    pub fn resume_async<R: FromLuaMulti>(
        &self,
        thread: &Thread,
        arguments: impl IntoLuaMulti,
    ) -> mlua::Result<adzeman_lua::Run<R>> {
        self.engine.resume_async(thread, arguments)
    }

    /// Has values of a host type `T` that scripts hold show what is in them, by serde, to whoever looks; once for each type.
    /// Parts that `about` calls secret are left out.
    ///
    /// # Errors
    /// When the state has no memory left.
    ///
    /// ```
    /// use adzeman::{About, Host, Listen, LuaContext};
    /// use serde::Serialize;
    ///
    /// #[derive(Serialize)]
    /// struct Winch { load: f64, serial: String }
    /// impl mlua::UserData for Winch {}
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let lua = mlua::Lua::new();
    /// let context = LuaContext::attach(&host, &lua, "keeper")?;
    /// context.show_type::<Winch>(About::new("a winch").measured("load", "pull on the chain", "kN").secret("serial"))?;
    /// lua.globals().set("winch", Winch { load: 2.5, serial: "W-17".to_owned() })?;
    /// # Ok(())
    /// # }
    /// ```
    pub fn show_type<T: Serialize + 'static>(&self, about: About) -> mlua::Result<()> {
        self.engine.show_type::<T>(about).map_err(lua_error)
    }

    /// The function as compiled code, as it was loaded, whoever is attached; empty for one that is not written in Lua. What
    /// [`Function::dump`] answers while a line is armed holds what a breakpoint has put in: it runs just the same elsewhere, and
    /// stops nowhere, but it is another text of bytes.
    ///
    /// # Errors
    /// When the state has no memory left.
    ///
    /// ```
    /// use adzeman::{Host, Listen, LuaContext};
    ///
    /// # fn main() -> Result<(), Box<dyn std::error::Error>> {
    /// let host = Host::builder("canal").start(Listen::Off)?;
    /// let lua = mlua::Lua::new();
    /// let context = LuaContext::attach(&host, &lua, "keeper")?;
    /// let fare = context.load("toll.lua", "local length = ...\nreturn 10 + length")?;
    /// let compiled = context.dump(&fare, true)?;
    /// assert_eq!(lua.load(&compiled).call::<i64>(5)?, 15);
    /// # Ok(())
    /// # }
    /// ```
    pub fn dump(&self, function: &Function, strips: bool) -> mlua::Result<Vec<u8>> {
        self.engine.dump(function, strips).map_err(lua_error)
    }

    /// Compiles a script under a name such as `scripts/lock.lua`, without running it. Breakpoints in it bind at once.
    /// Scripts loaded in other ways are found when someone attaches.
    ///
    /// # Errors
    /// Lua's own, with the position, for a text that does not compile.
    pub fn load(&self, name: &str, text: &str) -> mlua::Result<Function> {
        self.engine.load(name, text).map_err(lua_error)
    }
}

fn lua_error(error: LuaError) -> mlua::Error {
    match error {
        LuaError::Lua(error) => error,
        other => mlua::Error::external(other),
    }
}
