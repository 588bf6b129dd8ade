//! Which version of the engine is under test, and what a test does about it.
#![allow(dead_code, reason = "each of the test programs that share this uses a part of it")]

use std::fs::OpenOptions;
use std::io::Write as _;

/// The version that the tests are built for.
pub(crate) const VERSION: &str = if cfg!(feature = "lua51") {
    "5.1"
} else if cfg!(feature = "lua52") {
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
pub(crate) const NO_JOINING: &str = "it has no way for a script to tell captured variables apart, or to join them";
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

/// A script with the names that the library of 5.1 has: texts are compiled by another function, which gives them no globals, and only
/// userdata have finalizers.
fn as_before_52(script: &str) -> String {
    let names = [("table.unpack(", "unpack("), ("package.searchers", "package.loaders"), ("_ENV.total", "_G.total")];
    let script = names.iter().fold(script.to_owned(), |script, (now, then)| script.replace(now, then));
    let loads = replaced_calls(&script, "load(", &|_, arguments| match arguments {
        [text, ..] if text.starts_with("function") || text.starts_with("forever") => None,
        [text, name, _, globals] => Some(format!("setfenv(loadstring({text}, {name}), {globals})")),
        [text, name, ..] => Some(format!("loadstring({text}, {name})")),
        _ => Some(format!("loadstring({})", arguments.join(", "))),
    });
    replaced_calls(&loads, "setmetatable(", &|before, arguments| {
        let inside = arguments.get(1)?.strip_prefix('{')?.strip_suffix('}')?.trim().strip_prefix("__gc = ")?;
        let is_value = before.trim_end().ends_with(['=', '(', ',', '{']) || before.ends_with("return ");
        (arguments[0] == "{}").then(|| match is_value {
            true => format!("(function(u) getmetatable(u).__gc = {inside} return u end)(newproxy(true))"),
            false => format!("getmetatable(newproxy(true)).__gc = {inside}"),
        })
    })
}

/// A script with what `replace` makes of what is before each call of a function, which is written with its parenthesis, and of its arguments.
fn replaced_calls(script: &str, called: &str, replace: &dyn Fn(&str, &[String]) -> Option<String>) -> String {
    let mut done = String::new();
    let mut rest = script;
    while let Some(at) = rest.find(called) {
        let is_part = rest[..at].ends_with(|c: char| c.is_alphanumeric() || "_.:".contains(c));
        let begin = at + called.len();
        done.push_str(&rest[..at]);
        match arguments(&rest[begin..])
            .filter(|_| !is_part)
            .and_then(|(held, end)| Some((replace(&rest[..at], &held)?, end)))
        {
            Some((text, end)) => {
                done.push_str(&text);
                rest = &rest[begin + end..];
            }
            None => {
                done.push_str(called);
                rest = &rest[begin..];
            }
        }
    }
    done + rest
}

/// The arguments up to a closing parenthesis, and what is behind that.
fn arguments(text: &str) -> Option<(Vec<String>, usize)> {
    let (mut held, mut from, mut depth, mut quote) = (Vec::new(), 0, 0, None);
    let mut letters = text.char_indices();
    while let Some((at, letter)) = letters.next() {
        match (quote, letter) {
            (Some(_), '\\') => drop(letters.next()),
            (Some(open), _) => quote = (letter != open).then_some(open),
            (None, '\'' | '"') => quote = Some(letter),
            (None, '(' | '{' | '[') => depth += 1,
            (None, ')') if depth == 0 => {
                held.push(text[from..at].trim().to_owned());
                return Some((held, at + 1));
            }
            (None, ')' | '}' | ']') => depth -= 1,
            (None, ',') if depth == 0 => {
                held.push(text[from..at].trim().to_owned());
                from = at + 1;
            }
            _ => {}
        }
    }
    None
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
    let script = if is_since("5.2") { script } else { as_before_52(&script) };
    script.replace(MODES[0], "collectgarbage('setpause', 100)").replace(MODES[1], "collectgarbage('setstepmul', 1000)")
}
