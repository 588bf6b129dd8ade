//! What is known of one state, wherever its scripts run.
//!
//! Without the feature `send`, the binding's handle of a state stays on one thread, and all of this with it. With it, the handle
//! may be used on any thread: the binding locks the state for as long as a call into it lasts, its scripts included. The same
//! lock guards what this crate knows of the state, so that neither needs one of its own, and the two are never seen apart.

use std::mem::ManuallyDrop;

use mlua::Lua;

/// Something that is only touched while its state is locked by the thread that does.
pub(crate) struct Locked<T> {
    lua: Lua,
    held: ManuallyDrop<T>,
}

// SAFETY: `held` is reached by `with`, `new` and `drop` alone, which lock the state, and from inside the state, by hooks and
// native functions that run while their caller has it locked. So all use of it, and of what it shares with itself (`Rc`, cells),
// is by one thread at a time, and each sees what the one before has done. Nothing in it depends on which thread that is.
#[cfg(feature = "send")]
unsafe impl<T> Send for Locked<T> {}
// SAFETY: as above.
#[cfg(feature = "send")]
unsafe impl<T> Sync for Locked<T> {}

impl<T> Locked<T> {
    /// Makes it while the state is locked.
    ///
    /// # Errors
    /// What `make` fails with.
    pub(crate) fn new<E>(lua: &Lua, make: impl FnOnce() -> Result<T, E>) -> Result<Self, E> {
        let held = while_locked(lua, make)?;
        Ok(Self { lua: lua.clone(), held: ManuallyDrop::new(held) })
    }

    /// The binding's handle of the state.
    pub(crate) fn lua(&self) -> &Lua {
        &self.lua
    }

    /// Lends it to `work`, once no other thread uses the state. `work` keeps nothing of it.
    pub(crate) fn with<R>(&self, work: impl FnOnce(&T) -> R) -> R {
        while_locked(&self.lua, || work(&self.held))
    }
}

impl<T> Drop for Locked<T> {
    fn drop(&mut self) {
        let held = &mut self.held;
        // SAFETY: it is dropped once, here.
        while_locked(&self.lua, || unsafe { ManuallyDrop::drop(held) });
    }
}

fn while_locked<R>(lua: &Lua, work: impl FnOnce() -> R) -> R {
    #[cfg(feature = "send")]
    return lua.exec_raw_lua(|_| work());
    #[cfg(not(feature = "send"))]
    {
        let _ = lua;
        work()
    }
}
