//! What becomes of the functions of a script whose text is changed: which take the place of which, and how the new text is compiled
//! so that they can.
//!
//! A function keeps what it has captured, as an array in the order of its first body. So a new body can take the place of an old one
//! only if it captures variables of the same names in the same order. That is made so: where it would not be, the new text is
//! compiled with those names mentioned before the first statement, in code that is never reached, on the line of that statement.
//! Whether it came out so is checked by what was compiled.

use std::collections::HashMap;
use std::ffi::CStr;
use std::sync::Arc;

use crate::dialect::chunk::{Prototype, prototypes};
use crate::facts::compiled;
use crate::text::written::{WrittenFunction, written_functions};

const NOT_PAIRED: &str = "its text does not give the functions that run";

/// What becomes of a function.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Fate {
    /// It gets its new body.
    Changed,
    /// It is written as before.
    Unchanged,
    /// There was none of this name at this place.
    New,
    /// It is not written any more: those that are alive stay as they are.
    Gone,
    /// It cannot take its new body, and why.
    Refused(String),
}

/// A function of the new text, or one that is gone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Row {
    /// What it is called, if anything.
    pub(crate) name: Option<String>,
    /// The line that it begins on: of the new text, or of the old one where it is gone. 0 for the whole script.
    pub(crate) line: u32,
    /// Its position among the functions of the old text.
    pub(crate) old: Option<usize>,
    pub(crate) fate: Fate,
}

/// What is to be done.
#[derive(Debug)]
pub(crate) struct Plan {
    /// The new text as it is compiled.
    pub(crate) compiled_as: Arc<str>,
    /// For each function of the old text, which one of the new text takes its place.
    pub(crate) successors: Vec<Option<usize>>,
    pub(crate) rows: Vec<Row>,
    /// Whether what stands outside of all functions is another text.
    pub(crate) top_level_changed: bool,
}

/// Plans the change of a text, which was compiled as `compiled_as`, to another one, which compiles.
///
/// # Errors
/// Why nothing can be paired at all.
pub(crate) fn plan(old: &str, compiled_as: &str, new: &str, chunk_name: &CStr) -> Result<Plan, &'static str> {
    let (was, is) = (written_functions(old).ok_or(NOT_PAIRED)?, written_functions(new).ok_or(NOT_PAIRED)?);
    let held = compiled(compiled_as, chunk_name).ok_or(NOT_PAIRED)?;
    let held = prototypes(&held).filter(|held| held.len() == was.len()).ok_or(NOT_PAIRED)?;
    let mut successors = pair((old, &was), (new, &is));
    let plain = compiled(new, chunk_name).ok_or(NOT_PAIRED)?;
    let plain = prototypes(&plain).filter(|plain| plain.len() == is.len()).ok_or(NOT_PAIRED)?;
    let text = mentioning(new, &is, &successors, &held, &plain);
    let fitted = compiled(&text, chunk_name).ok_or(NOT_PAIRED)?;
    let fitted = prototypes(&fitted).filter(|fitted| fitted.len() == is.len()).ok_or(NOT_PAIRED)?;
    let rows = rows((old, &was), (new, &is), &mut successors, &held, &fitted);
    let top_level_changed = top_level(old, &was) != top_level(new, &is);
    Ok(Plan { compiled_as: text.into(), successors, rows, top_level_changed })
}

/// What of a text stands outside of all functions, without blanks.
fn top_level(text: &str, functions: &[WrittenFunction]) -> String {
    let mut out = String::new();
    let mut from = 0;
    for function in functions[1..].iter().filter(|function| function.parent == 0) {
        out.extend(text[from..function.text.start].split_whitespace());
        from = function.text.end;
    }
    out.extend(text[from..].split_whitespace());
    out
}

/// Which function of the new text takes the place of each of the old one: inside of paired ones, by name, then by text, then by
/// order where as many are left on both sides.
fn pair((old, was): (&str, &[WrittenFunction]), (new, is): (&str, &[WrittenFunction])) -> Vec<Option<usize>> {
    let mut successors = vec![None; was.len()];
    successors[0] = Some(0);
    for outer in 0..was.len() {
        let Some(successor) = successors[outer] else { continue };
        let inside = |all: &[WrittenFunction], outer: usize| {
            let mut by_name: HashMap<Option<String>, Vec<usize>> = HashMap::new();
            for (at, function) in all.iter().enumerate().skip(1).filter(|(_, function)| function.parent == outer) {
                by_name.entry(function.name.clone()).or_default().push(at);
            }
            by_name
        };
        let mut candidates = inside(is, successor);
        for (name, before) in inside(was, outer) {
            let Some(now) = candidates.remove(&name) else { continue };
            for (one, other) in
                pair_alike(&before, &now, |one, other| old[was[one].text.clone()] == new[is[other].text.clone()])
            {
                successors[one] = Some(other);
            }
        }
    }
    successors
}

/// Pairs what is the same, in order, and between two such pairs what is left where that is as much on both sides.
fn pair_alike(before: &[usize], now: &[usize], is_same: impl Fn(usize, usize) -> bool) -> Vec<(usize, usize)> {
    let mut pairs = Vec::new();
    let (mut from, mut to) = (0, 0);
    let gap = |before: &[usize], now: &[usize], pairs: &mut Vec<(usize, usize)>| {
        if before.len() == now.len() {
            pairs.extend(before.iter().copied().zip(now.iter().copied()));
        }
    };
    for (at, one) in before.iter().enumerate() {
        if let Some(found) = now[to..].iter().position(|other| is_same(*one, *other)) {
            gap(&before[from..at], &now[to..to + found], &mut pairs);
            pairs.push((*one, now[to + found]));
            (from, to) = (at + 1, to + found + 1);
        }
    }
    gap(&before[from..], &now[to..], &mut pairs);
    pairs
}

/// The new text in which functions mention what those captured whose places they take.
fn mentioning(
    text: &str,
    is: &[WrittenFunction],
    successors: &[Option<usize>],
    held: &[Prototype<'_>],
    plain: &[Prototype<'_>],
) -> String {
    let mut inserted: Vec<(usize, String)> = Vec::new();
    for (old, new) in successors.iter().enumerate().skip(1).filter_map(|(old, new)| Some((old, (*new)?))) {
        let names = &held[old].captured_names;
        let at = is[new].begin.unwrap_or_else(|| is[new].text.end - "end".len());
        if !names.is_empty() && *names != plain[new].captured_names {
            let names: Vec<_> = names.iter().map(|name| String::from_utf8_lossy(name)).collect();
            inserted.push((at, format!(" if nil then local _={} end ", names.join(";_="))));
        }
    }
    inserted.sort_unstable_by_key(|(at, _)| *at);
    let mut out = String::with_capacity(text.len());
    let mut from = 0;
    for (at, mention) in inserted {
        out.push_str(&text[from..at]);
        out.push_str(&mention);
        from = at;
    }
    out + &text[from..]
}

/// What becomes of each; those that cannot take their bodies have no successor any more.
fn rows(
    (old, was): (&str, &[WrittenFunction]),
    (new, is): (&str, &[WrittenFunction]),
    successors: &mut [Option<usize>],
    held: &[Prototype<'_>],
    fitted: &[Prototype<'_>],
) -> Vec<Row> {
    let mut rows = Vec::new();
    let predecessors: HashMap<usize, usize> =
        successors.iter().enumerate().filter_map(|(old, new)| Some(((*new)?, old))).collect();
    for (at, function) in is.iter().enumerate() {
        let predecessor = predecessors.get(&at).copied();
        let fate = match predecessor {
            None => Fate::New,
            Some(before) => match refused(&held[before], &fitted[at]) {
                Some(why) => {
                    successors[before] = None;
                    Fate::Refused(why)
                }
                None if old[was[before].text.clone()] == new[function.text.clone()] => Fate::Unchanged,
                None => Fate::Changed,
            },
        };
        rows.push(Row { name: function.name.clone(), line: function.lines.0, old: predecessor, fate });
    }
    let gone = was.iter().enumerate().filter(|(at, _)| !predecessors.values().any(|before| before == at));
    rows.extend(gone.map(|(at, function)| Row {
        name: function.name.clone(),
        line: function.lines.0,
        old: Some(at),
        fate: Fate::Gone,
    }));
    rows
}

/// Why a body cannot take the place of another one.
fn refused(held: &Prototype<'_>, fitted: &Prototype<'_>) -> Option<String> {
    if held.captured_names == fitted.captured_names {
        return None;
    }
    let text = |name: &&[u8]| match *name {
        b"_ENV" => "globals (its '_ENV')".to_owned(),
        name => format!("'{}'", String::from_utf8_lossy(name)),
    };
    let new: Vec<_> =
        fitted.captured_names.iter().filter(|name| !held.captured_names.contains(name)).map(text).collect();
    Some(if new.is_empty() {
        "it captures variables of the same names in another order".to_owned()
    } else {
        format!("it uses {} of what is around it, which it did not before", new.join(", "))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What becomes of the functions, as `name: fate`, and whether what is compiled gives the variables in the order of before.
    fn fates(old: &str, new: &str) -> Vec<String> {
        let plan = plan(old, old, new, c"@test.lua").unwrap();
        let (before, after) =
            (compiled(old, c"@test.lua").unwrap(), compiled(&plan.compiled_as, c"@test.lua").unwrap());
        let (before, after) = (prototypes(&before).unwrap(), prototypes(&after).unwrap());
        for (old, new) in plan.successors.iter().enumerate() {
            if let Some(new) = new {
                assert_eq!(before[old].captured_names, after[*new].captured_names);
            }
        }
        let fate = |row: &Row| match &row.fate {
            Fate::Refused(why) => why.clone(),
            fate => format!("{fate:?}").to_lowercase(),
        };
        plan.rows[1..].iter().map(|row| format!("{}: {}", row.name.as_deref().unwrap_or("?"), fate(row))).collect()
    }

    #[test]
    fn functions_are_paired_by_where_they_are_and_what_they_are_called() {
        let old = "local a, b = 1, 2\nlocal function f() return a + b end\nfunction g() return f() end\nlocal function h() return 3 end";
        let new = "local a, b = 1, 2\n\nfunction g(x) return f() + x end\nlocal function f() return b - a end\nlocal function i() end";
        assert_eq!(
            fates(old, new),
            [
                "g: it uses globals (its '_ENV') of what is around it, which it did not before",
                "f: changed",
                "i: new",
                "h: gone",
            ]
        );
    }

    #[test]
    fn what_was_captured_stays_in_its_order() {
        let around = |body: &str| format!("local a, b, c = 1, 2, 3\nfunction f(x)\n  {body}\nend");
        let old = around("return a + b + c + print(x)");
        for body in [
            "return print(c + b + a)",
            "return x",
            "",
            "print(x)",
            "local a = b return a",
            "return function() return c end",
        ] {
            let fates = fates(&old, &around(body));
            assert_eq!(fates[0], "f: changed", "{body}");
        }
        assert_eq!(fates(&old, &around("return a + b + c + print(x)")), ["f: unchanged"]);
        assert_eq!(
            fates(&around("return a"), &around("return a + b + print(c)")),
            ["f: it uses 'b', globals (its '_ENV'), 'c' of what is around it, which it did not before"]
        );
    }

    #[test]
    fn functions_without_names_are_paired_by_their_texts_and_then_by_order() {
        let old = "on(function() return 1 end)\non(function() return 2 end)\non(function() return 3 end)";
        let new = "on(function() return 1 end)\non(function() return 20 end)\non(function() return 3 end)";
        assert_eq!(fates(old, new), ["?: unchanged", "?: changed", "?: unchanged"]);
        let fewer = "on(function() return 3 end)";
        assert_eq!(fates(old, fewer), ["?: unchanged", "?: gone", "?: gone"]);
        let more = "on(function() return 0 end)\non(function() return 1 end)\non(function() return 2 end)\non(function() return 3 end)";
        assert_eq!(fates(old, more), ["?: new", "?: unchanged", "?: unchanged", "?: unchanged"]);
    }
}
