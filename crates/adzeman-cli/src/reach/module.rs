//! The module that programs load by themselves: where it is, and the environment by which Lua's own interpreters, and whatever else
//! honours `LUA_INIT` and `LUA_PATH`, load it before any script.

use std::path::{Path, PathBuf};

/// The loader, which finds its libraries beside itself.
const LOADER: &str = "adzeman.lua";
/// The folder, where it lies beside the command.
const FOLDER: &str = "adzeman-module";
/// Versions with variables of their own, which come before the plain ones where they are set (`lua.c`, `loadlib.c`).
const VERSIONS: [&str; 5] = ["", "_5_2", "_5_3", "_5_4", "_5_5"];

/// The folder of the module: what `ADZEMAN_MODULE` says, or else beside the command, or where programs keep what is not run.
///
/// # Errors
/// Where it was looked for, and what to do.
pub(crate) fn folder() -> Result<PathBuf, String> {
    let said = std::env::var_os("ADZEMAN_MODULE").filter(|said| !said.is_empty()).map(PathBuf::from);
    let beside = std::env::current_exe().ok().and_then(|command| Some(command.parent()?.to_owned()));
    let looked_in: Vec<PathBuf> = match (said, beside) {
        (Some(said), _) => vec![said],
        (None, Some(beside)) => vec![beside.join(FOLDER), beside.join("../lib").join(FOLDER)],
        (None, None) => Vec::new(),
    };
    let found = looked_in.iter().find(|folder| folder.join(LOADER).is_file());
    found.and_then(|folder| std::path::absolute(folder).ok()).ok_or_else(|| {
        let places: Vec<_> = looked_in.iter().map(|folder| folder.display().to_string()).collect();
        format!(
            "there is no module in {}; 'crates/adzeman-module/assemble FOLDER' of the sources puts one together, and \
             ADZEMAN_MODULE=FOLDER says where it is",
            places.join(", or in ")
        )
    })
}

/// What the environment has to be for a program to load it first; `held` is what a variable is now.
pub(crate) fn environment(folder: &Path, held: impl Fn(&str) -> Option<String>) -> Vec<(String, String)> {
    let mut environment = Vec::new();
    for version in VERSIONS {
        let is_plain = version.is_empty();
        let (path, init) = (format!("LUA_PATH{version}"), format!("LUA_INIT{version}"));
        let (held_path, held_init) = (held(&path), held(&init));
        if is_plain || held_path.is_some() {
            // Two semicolons stand for the usual path.
            let rest = held_path.unwrap_or_else(|| ";".to_owned());
            environment.push((path, format!("{}/?.lua;{rest}", folder.display())));
        }
        if is_plain || held_init.is_some() {
            environment.push((init, loading_first(held_init.as_deref().unwrap_or_default())));
        }
    }
    environment
}

/// What loads it before what was loaded first up to now: a text, or a file behind an `@`.
fn loading_first(held: &str) -> String {
    match held.strip_prefix('@') {
        Some(file) => format!("require 'adzeman' dofile({})", quoted(file)),
        None => format!("require 'adzeman' {held}").trim_end().to_owned(),
    }
}

/// A text as Lua reads it.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'").replace('\n', "\\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_set_already_stays_behind_the_module() {
        let held = |name: &str| match name {
            "LUA_PATH_5_3" => Some("/mine/?.lua".to_owned()),
            "LUA_INIT" => Some("@/home/o'neil/start.lua".to_owned()),
            "LUA_INIT_5_4" => Some("x = 1".to_owned()),
            _ => None,
        };
        let set = environment(Path::new("/m"), held);
        let expected = [
            ("LUA_PATH", "/m/?.lua;;"),
            ("LUA_INIT", "require 'adzeman' dofile('/home/o\\'neil/start.lua')"),
            ("LUA_PATH_5_3", "/m/?.lua;/mine/?.lua"),
            ("LUA_INIT_5_4", "require 'adzeman' x = 1"),
        ];
        let set: Vec<_> = set.iter().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        assert_eq!(set, expected);
        assert_eq!(environment(Path::new("/m"), |_| None)[1].1, "require 'adzeman'");
    }
}
