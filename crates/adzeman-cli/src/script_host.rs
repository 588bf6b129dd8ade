//! A host of its own for a plain script: what `adzeman run` starts.

use std::path::Path;
use std::process::ExitCode;

use adzeman::{Host, Listen, LuaContext};

use crate::args::Script;

/// Runs a script in a clean state, open as `ADZEMAN` says. Arguments are in the global `arg`, and handed to the script.
pub(crate) fn run(script: &Script) -> ExitCode {
    match try_run(script) {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("adzeman: {why}");
            ExitCode::FAILURE
        }
    }
}

fn try_run(script: &Script) -> Result<(), Box<dyn std::error::Error>> {
    let file = script.file.display().to_string();
    let text = std::fs::read_to_string(&script.file).map_err(|why| format!("cannot read {file}: {why}"))?;
    let name = script.file.file_stem().map_or(file.clone(), |stem| stem.to_string_lossy().into_owned());
    let host = Host::builder(&name).start(Listen::from_env()?)?;
    let lua = mlua::Lua::new();
    let context = LuaContext::attach(&host, &lua, &name)?;
    let arguments = lua.create_table()?;
    arguments.set(0, file.as_str())?;
    for (position, argument) in (1..).zip(&script.arguments) {
        arguments.set(position, argument.as_str())?;
    }
    lua.globals().set("arg", arguments)?;
    add_own_folder(&lua, &script.file)?;
    let arguments = script.arguments.iter().map(|argument| lua.create_string(argument).map(mlua::Value::String));
    let arguments = arguments.collect::<Result<mlua::MultiValue, _>>()?;
    let text = without_first_line_of_a_program(&text);
    context.load(&file, &text)?.call::<()>(arguments)?;
    Ok(())
}

/// A first line that begins with `#` is for the system; it stays as an empty line, so that the others keep their numbers.
fn without_first_line_of_a_program(text: &str) -> String {
    match text.strip_prefix('#') {
        Some(rest) => rest.find('\n').map_or(String::new(), |end| rest[end..].to_owned()),
        None => text.to_owned(),
    }
}

/// Lets the script require what lies beside it.
fn add_own_folder(lua: &mlua::Lua, file: &Path) -> mlua::Result<()> {
    let folder = file.parent().map(|folder| folder.display().to_string()).filter(|folder| !folder.is_empty());
    let folder = folder.unwrap_or_else(|| ".".to_owned());
    let package: mlua::Table = lua.globals().get("package")?;
    let path: String = package.get("path")?;
    package.set("path", format!("{folder}/?.lua;{folder}/?/init.lua;{path}"))
}
