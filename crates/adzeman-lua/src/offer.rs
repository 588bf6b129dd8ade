//! What scripts are offered to ask for by themselves: the global `adzeman`, with `stop`, `wait` and `say`.

use std::rc::Rc;
use std::time::Duration;

use mlua::{Lua, MultiValue};

use crate::context::Context;
use crate::view::View;
use crate::{LuaError, caller, ffi};

/// The name of the global.
pub(crate) const NAME: &str = "adzeman";
/// How long `adzeman.wait()` waits without a number of seconds.
const WAIT_FOR: f64 = 60.0;

/// Makes the global, unless the state has one of that name.
pub(crate) fn offer(lua: &Lua, context: &Rc<Context>) -> Result<(), LuaError> {
    if lua.globals().contains_key(NAME)? {
        return Ok(());
    }
    let table = lua.create_table()?;
    let watched = Rc::downgrade(context);
    let stop = lua.create_function(move |lua, ()| {
        if let Some(context) = watched.upgrade().filter(|context| context.supervisor().is_attached()) {
            let running = ffi::running_thread(lua)?;
            // The innermost function is this one.
            context.quietly(|| context.supervisor().stop_asked(&mut View::below(&context, running, 1)));
        }
        Ok(())
    })?;
    let watched = Rc::downgrade(context);
    let wait = lua.create_function(move |_, seconds: Option<f64>| {
        let limit = Duration::try_from_secs_f64(seconds.unwrap_or(WAIT_FOR)).unwrap_or(Duration::ZERO);
        Ok(watched.upgrade().is_some_and(|context| context.supervisor().wait_asked(limit)))
    })?;
    let watched = Rc::downgrade(context);
    let say = lua.create_function(move |lua, values: MultiValue| {
        if let Some(context) = watched.upgrade().filter(|context| context.supervisor().is_attached()) {
            let texts = values.iter().map(mlua::Value::to_string).collect::<Result<Vec<_>, _>>()?;
            context.supervisor().said(&format!("{}\n", texts.join("\t")), caller(lua, &context));
        }
        Ok(())
    })?;
    table.set("stop", stop)?;
    table.set("wait", wait)?;
    table.set("say", say)?;
    lua.globals().set(NAME, table)?;
    Ok(())
}
