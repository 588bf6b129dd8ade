//! Which version of the engine is under test, and what a test does about it.
#![allow(dead_code, reason = "each of the test programs that share this uses a part of it")]

use std::fs::OpenOptions;
use std::io::Write as _;

/// The version that the tests are built for.
pub(crate) const VERSION: &str = if cfg!(feature = "lua52") {
    "5.2"
} else if cfg!(feature = "lua53") {
    "5.3"
} else if cfg!(feature = "lua54") {
    "5.4"
} else {
    "5.5"
};

/// What scripts have the collector do.
pub(crate) const MODES: [&str; 2] = ["collectgarbage('generational')", "collectgarbage('incremental', 20, 1000, 2)"];

/// Why a case is not for every version.
pub(crate) const NO_CONSTANTS: &str = "it has no constants among the variables";
pub(crate) const NO_CLOSING: &str = "it has no variables that are closed";
pub(crate) const NOT_IN_PLACE: &str = "conditions that calculate, or tell what is less, are not decided in place";
pub(crate) const NOT_ELSEWHERE: &str =
    "an instruction is read before the hook is called, so none can be put in its place";
pub(crate) const NOT_ALL_OPERATORS: &str = "it has not all of the operators that are made up";
pub(crate) const NOT_TOLD_TO_SCRIPTS: &str = "a script cannot tell what was returned, so that is not compared";

/// Whether it is this version or a later one.
pub(crate) fn is_since(version: &str) -> bool {
    VERSION >= version
}

/// Whether a case is not for versions before this one, for a reason that is written to the file that `ADZEMAN_REFUSED` names.
pub(crate) fn is_refused_before(version: &str, why: &str) -> bool {
    if is_since(version) {
        return false;
    }
    if let Some(path) = std::env::var_os("ADZEMAN_REFUSED") {
        let name = std::thread::current().name().unwrap_or_default().to_owned();
        let file = OpenOptions::new().create(true).append(true).open(path);
        file.and_then(|mut file| file.write_all(format!("{name}\t{why}\n").as_bytes()))
            .expect("the list of refused cases");
    }
    true
}

/// What the engine says of indexing a value of this type that has this name.
pub(crate) fn cannot_index(kind: &str, name: &str) -> String {
    if is_since("5.3") {
        format!("attempt to index a {kind} value ({name})")
    } else {
        format!("attempt to index {name} (a {kind} value)")
    }
}

/// A message without what differs from run to run: before 5.3 a function that is called from C is found by either of two names.
pub(crate) fn by_short_names(text: &str) -> String {
    if is_since("5.3") { text.to_owned() } else { text.replace("'_G.", "'") }
}

/// A number with a point and nothing behind it, as scripts have it: before 5.3 all are of one kind.
pub(crate) fn whole_float(text: &str) -> &str {
    if is_since("5.3") { text } else { text.trim_end_matches(".0") }
}

/// A message of the engine as later versions have it, as this one does.
pub(crate) fn worded(text: &str) -> String {
    if is_since("5.3") {
        return text.to_owned();
    }
    text.replace("attempt to index a nil value (global 'nobody')", &cannot_index("nil", "global 'nobody'"))
        .replace("(integer)", "(number)")
}

/// A script as this version reads it: lines that end with a remark as `--since 5.4` are empty before that; and before 5.4 variables have no
/// marks, and the collector has one mode.
pub(crate) fn adapted(script: &str) -> String {
    let is_for_later = |line: &str| line.rsplit_once("--since ").is_some_and(|(_, version)| !is_since(version));
    let lines: Vec<_> = script.split('\n').map(|line| if is_for_later(line) { "" } else { line }).collect();
    let script = lines.join("\n");
    if is_since("5.4") {
        return script;
    }
    let script = script.replace(" <const>", "").replace(" <close>", "");
    script.replace(MODES[0], "collectgarbage('setpause', 100)").replace(MODES[1], "collectgarbage('setstepmul', 1000)")
}
