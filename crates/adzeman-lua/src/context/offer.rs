//! What scripts are offered to ask for by themselves: the global `adzeman`, with `stop`, `wait` and `say`.

use std::rc::Rc;
use std::time::Duration;

use adzeman_core::source::{Line, SourceId};
use mlua::{Function, Lua, MultiValue};

use super::{Context, View};
use crate::error::LuaError;
use crate::ffi;
use crate::look::OFFERED;

/// How long `adzeman.wait()` waits without a number of seconds.
const WAIT_FOR: f64 = 60.0;

/// Makes the global, unless the state has one of that name.
pub(crate) fn offer(lua: &Lua, context: &Rc<Context>) -> Result<(), LuaError> {
    if lua.globals().contains_key(OFFERED)? {
        return Ok(());
    }
    let table = lua.create_table()?;
    let watched = Rc::downgrade(context);
    let stop = lua.create_function(move |lua, ()| {
        if let Some(context) = watched.upgrade().filter(|context| context.supervisor().is_attached()) {
            let running = ffi::running_thread(lua)?;
            // The innermost function is this one.
            context.watch.quietly(|| context.supervisor().stop_asked(&mut View::below(&context, running, 1)));
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
    lua.globals().set(OFFERED, table)?;
    Ok(())
}

/// Replaces `print` by one that also reports, while someone is attached. Arguments are made texts once, as `print` does.
pub(crate) fn take_over_print(lua: &Lua, context: &Rc<Context>) -> Result<(), LuaError> {
    let original: Function = lua.globals().get("print")?;
    let context = Rc::downgrade(context);
    let print = lua.create_function(move |lua, values: MultiValue| {
        let Some(context) = context.upgrade().filter(|context| context.supervisor().is_attached()) else {
            return original.call::<()>(values);
        };
        let texts = values.iter().map(mlua::Value::to_string).collect::<Result<Vec<_>, _>>()?;
        context.supervisor().printed(&format!("{}\n", texts.join("\t")), caller(lua, &context));
        original.call::<()>(MultiValue::from_iter(
            texts.iter().map(|text| lua.create_string(text).map(mlua::Value::String)).collect::<Result<Vec<_>, _>>()?,
        ))
    })?;
    lua.globals().set("print", print)?;
    Ok(())
}

fn caller(lua: &Lua, context: &Context) -> Option<(SourceId, Line)> {
    let place = lua.inspect_stack(1, |caller| {
        let chunk_name = caller.source().source.map(std::borrow::Cow::into_owned);
        chunk_name.zip(caller.current_line().and_then(|line| u32::try_from(line).ok()))
    })?;
    let (chunk_name, line) = place?;
    Some((context.scripts.named(&chunk_name)?, Line::new(line)?))
}
