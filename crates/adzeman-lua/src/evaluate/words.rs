//! Evaluated texts and what is said of them: their names as chunks, and errors without what a person need not read.

use std::ffi::CStr;

use adzeman_core::engine::EngineError;

use crate::ffi::state::State;
use crate::text::expressions::column_of_mistake;

/// What was raised and lies on top, as text. A script's own conversions do not run; those of the host's error values do.
pub(super) fn error_text(state: State) -> String {
    if let Some(text) = state.text_at(-1) {
        return strip_position(&text).to_owned();
    }
    state.native_text_at(-1).unwrap_or_else(|| {
        format!("it raised a value that is no text (a {})", format!("{:?}", state.type_at(-1)).to_lowercase())
    })
}

/// Adds where in the text the mistake is, as far as that can be told.
pub(super) fn with_column(error: EngineError, text: &str) -> EngineError {
    match error {
        EngineError::Syntax(why) => match column_of_mistake(text, &why) {
            Some(column) => EngineError::Syntax(format!("{why}, at column {column}")),
            None => EngineError::Syntax(why),
        },
        other => other,
    }
}

pub(super) fn tidy(error: EngineError) -> EngineError {
    match error {
        EngineError::Syntax(text) => EngineError::Syntax(strip_position(&text).to_owned()),
        other => other,
    }
}

/// What texts that are evaluated are called, as chunks: functions that they make are of no source.
pub(super) const EXPRESSION: &CStr = c"=expression";
pub(super) const CONDITION: &CStr = c"=condition";
pub(super) const STATEMENT: &CStr = c"=statement";
/// What calls the function that has taken the place of another one.
pub(crate) const FORWARDING: &CStr = c"=changed";
const EVALUATED: [&CStr; 3] = [EXPRESSION, CONDITION, STATEMENT];

/// What the binding calls the chunks with which it joins functions of the host to scripts (async ones, userdata, bound arguments).
const OF_THE_BINDING: &[u8] = b"=__mlua_";

/// What the module calls its own, which calls the handlers of a program's events.
const OF_THE_MODULE: &CStr = c"=(adzeman)";

/// Whether a chunk of this name was evaluated, or is of the binding: it is nobody's script.
pub(crate) fn is_evaluated(chunk_name: &[u8]) -> bool {
    is_of_binding(chunk_name) || EVALUATED.iter().any(|name| name.to_bytes() == chunk_name)
}

/// Whether a chunk of this name joins functions of the host to scripts.
pub(crate) fn is_of_binding(chunk_name: &[u8]) -> bool {
    chunk_name.starts_with(OF_THE_BINDING)
        || [FORWARDING, OF_THE_MODULE].iter().any(|name| name.to_bytes() == chunk_name)
}

/// Drops `expression:1: ` from the front of a message: which line of a text it is that was typed as one says nothing.
fn strip_position(text: &str) -> &str {
    let name = |chunk_name: &'static CStr| chunk_name.to_str().ok()?.strip_prefix('=');
    let behind = EVALUATED.into_iter().filter_map(name).find_map(|name| text.strip_prefix(name)?.strip_prefix(':'));
    let split = behind.and_then(|behind| behind.split_once(": "));
    split.filter(|(line, _)| line.parse::<u32>().is_ok()).map_or(text, |(_, message)| message)
}

pub(super) fn looks_like_statement(text: &str) -> bool {
    let first = text.split(|c: char| !c.is_alphanumeric()).find(|word| !word.is_empty()).unwrap_or_default();
    let keywords = ["local", "if", "for", "while", "do", "repeat", "return", "goto", "function", "break"];
    let bytes = text.as_bytes();
    let assigns = (1..bytes.len())
        .any(|at| bytes[at] == b'=' && !b"=~<>".contains(&bytes[at - 1]) && bytes.get(at + 1) != Some(&b'='));
    keywords.contains(&first) || assigns
}

#[cfg(test)]
mod tests {
    use super::looks_like_statement;

    #[test]
    fn statements_are_told_from_expressions() {
        for text in ["x = 1", "local y", "t.a.b=2", "for i = 1, 2 do end"] {
            assert!(looks_like_statement(text), "{text}");
        }
        for text in ["x == 1", "a ~= b", "x <= 2", "f(1)", ""] {
            assert!(!looks_like_statement(text), "{text}");
        }
    }
}
