//! What the text of a script says. Nothing here touches a state.

pub(crate) mod assigned;
pub(crate) mod beginnings;
pub(crate) mod conditions;
pub(crate) mod continued;
pub(crate) mod counted;
pub(crate) mod early;
pub(crate) mod expressions;
pub(crate) mod filters;
pub(crate) mod host_paths;
pub(crate) mod names;
pub(crate) mod nesting;
pub(crate) mod statements;
pub(crate) mod uses;
pub(crate) mod written;

use adzeman_core::path::{Notation, Segment};
use adzeman_core::source::Language;

/// The language, with lists that begin at 1 and methods as in `boat:moor`.
pub(crate) const LANGUAGE: Language = Language {
    name: "Lua",
    comment: "--",
    notation: Notation { first_index: 1, separator: '.' },
    method_separator: ':',
    whole_script: "whole script",
};

/// The name to show for a chunk (Lua reference manual, `lua_Debug.source`).
pub(crate) fn display_name(chunk_name: &str) -> String {
    match chunk_name.strip_prefix(['@', '=']) {
        Some(name) => name.to_owned(),
        None => {
            let line = chunk_name.lines().next().unwrap_or_default();
            format!("[string \"{}\"]", line.chars().take(40).collect::<String>())
        }
    }
}

/// The number by which a script finds an element.
pub(crate) fn number_of(index: i64) -> i64 {
    index.wrapping_add(LANGUAGE.notation.first_index)
}

/// The element that a script finds by a number.
pub(crate) fn element(number: i64) -> Segment {
    Segment::Index(number.wrapping_sub(LANGUAGE.notation.first_index))
}
