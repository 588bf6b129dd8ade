//! Texts, numbers and data from bytes: what is at a limit comes often.

use std::path::Path;

use arbitrary::{Result, Unstructured};
use serde_json::{Value as Json, json};

/// Whole numbers at which something overflows.
const NUMBERS: [i64; 14] = [
    i64::MIN,
    i64::MIN + 1,
    i32::MIN as i64,
    -2,
    -1,
    0,
    1,
    2,
    11,
    1 << 20,
    (1 << 20) + 1,
    u32::MAX as i64,
    i64::MAX - 1,
    i64::MAX,
];

/// Texts that mean something somewhere.
const WORDS: [&str; 40] = [
    "total",
    "length",
    "host.lock.metres",
    "host.lock.names[1]",
    "event.n",
    "it",
    "it2",
    "_ENV",
    "...",
    "x",
    "frame.update",
    "never",
    "toll.lua",
    "fare",
    "update",
    "error.every",
    "error.uncaught",
    "main",
    "n > 0",
    "x =",
    "length +",
    "\u{20ac}",
    "\u{1F6A2}\u{0301}",
    "\"5 \u{20ac}",
    "{length} {",
    "{hits}{name}",
    "every 2",
    "1/3/total",
    "toll.lua:11",
    "repl",
    "hover",
    "watch",
    "clipboard",
    "bytes",
    "indexed",
    "named",
    "(function() while true do end end)()",
    "error(setmetatable({}, {}))",
    "adzeman.stop()",
    "coroutine.yield()",
];

/// What nests, and what it nests in.
const NESTED: [(&str, &str); 10] = [
    ("(", ")"),
    ("{", "}"),
    ("[", "]"),
    ("- ", ""),
    ("not ", ""),
    ("f(", ")"),
    ("a[", "]"),
    ("1 .. ", ""),
    ("1 or ", ""),
    ("(function() return ", " end)()"),
];

fn pick<'a, T>(input: &mut Unstructured<'_>, from: &'a [T]) -> &'a T {
    let last = from.len() - 1;
    &from[input.int_in_range(0..=last).unwrap_or(0)]
}

/// A text.
pub(crate) fn text(input: &mut Unstructured<'_>) -> String {
    try_text(input).unwrap_or_default()
}

fn try_text(input: &mut Unstructured<'_>) -> Result<String> {
    Ok(match input.int_in_range(0..=9)? {
        0..=4 => (*pick(input, &WORDS)).to_owned(),
        5 => {
            let (open, close) = *pick(input, &NESTED);
            let levels = *pick(input, &[1, 10, 199, 200, 201, 1554, 4774, 100_000]);
            format!("{}1{}", open.repeat(levels), close.repeat(levels))
        }
        6 => {
            // Cut anywhere, also inside what was a character.
            let whole = pick(input, &WORDS).as_bytes();
            let end = input.int_in_range(0..=whole.len())?;
            String::from_utf8_lossy(&whole[..end]).into_owned()
        }
        7 => pick(input, &NUMBERS).to_string(),
        8 => pick(input, &WORDS).repeat(*pick(input, &[2, 100, 20_000])),
        _ => {
            let count = input.int_in_range(0..=40)?;
            String::from_utf8_lossy(input.bytes(count.min(input.len()))?).into_owned()
        }
    })
}

/// A number.
pub(crate) fn number(input: &mut Unstructured<'_>) -> i64 {
    match input.int_in_range(0..=2) {
        Ok(0) => input.int_in_range(-3..=20).unwrap_or(0),
        Ok(1) => input.arbitrary().unwrap_or(0),
        _ => *pick(input, &NUMBERS),
    }
}

/// Any data, a few levels deep.
pub(crate) fn data(input: &mut Unstructured<'_>, levels: u32) -> Json {
    match input.int_in_range(0..=7).unwrap_or(0) {
        0 => Json::Null,
        1 => json!(input.arbitrary::<bool>().unwrap_or(false)),
        2 | 3 => json!(number(input)),
        4 => json!(input.arbitrary::<f64>().unwrap_or(0.0)),
        5 if levels > 0 => (0..3).map(|_| data(input, levels - 1)).collect(),
        6 if levels > 0 => json!({(*pick(input, &WORDS)): data(input, levels - 1)}),
        _ => json!(text(input)),
    }
}

/// An announcement, of a kind that a host could leave, with paths that it could not.
pub(crate) fn announcement(input: &mut Unstructured<'_>, precious: &Path, folder: &Path) -> String {
    let socket = match input.int_in_range(0..=3).unwrap_or(0) {
        0 => precious.display().to_string(),
        1 => folder.join("../precious").display().to_string(),
        2 => folder.join(text(input).chars().take(60).collect::<String>()).display().to_string(),
        _ => text(input).chars().take(200).collect(),
    };
    let note = json!({
        "name": text(input).chars().take(200).collect::<String>(),
        "processId": number(input).unsigned_abs() % (1 << 32),
        "started": number(input).unsigned_abs(),
        "socket": socket,
        "token": text(input).chars().take(200).collect::<String>(),
        "more": data(input, 2),
    });
    note.to_string()
}
