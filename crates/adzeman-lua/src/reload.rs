//! What becomes of the functions of a script whose text is changed: which take the place of which, and how the new text is compiled
//! so that they can.
//!
//! A function keeps what it has captured, as an array in the order of its first body. So a new body can take the place of an old one
//! only if it captures variables of the same names in the same order. That is made so: where it would not be, the new text is
//! compiled with those names mentioned before the first statement, in code that is never reached, on the line of that statement.
//! Whether it came out so is checked by what was compiled.

use std::collections::{HashMap, VecDeque};
use std::ffi::CStr;
use std::sync::{Arc, Mutex, PoisonError};

use adzeman_core::engine::FunctionFate;

use crate::dialect::chunk::{Prototype, prototypes};
use crate::dialect::{Dialect as _, Version};
use crate::facts::compiled;
use crate::text::written::{WrittenFunction, written_functions};

const NOT_PAIRED: &str = "its text does not give the functions that run";

/// A function of the new text, or one that is gone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Row {
    /// What it is called, if anything.
    pub(crate) name: Option<String>,
    /// The line that it begins on: of the new text, or of the old one where it is gone. 0 for the whole script.
    pub(crate) line: u32,
    /// Its position among the functions of the old text.
    pub(crate) old: Option<usize>,
    pub(crate) fate: FunctionFate,
}

/// A function that captures more than before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Forward {
    /// Its position among the functions of the old text, and of the new one.
    pub(crate) old: usize,
    pub(crate) new: usize,
    /// What it captured before, in that order.
    pub(crate) names: Vec<String>,
    /// What it captures besides, in the order of its new body.
    pub(crate) more: Vec<More>,
}

/// A variable that a function captures besides those of before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct More {
    pub(crate) name: String,
    /// The functions of the old text that captured it, and as which of their variables, from 0.
    pub(crate) held_by: Vec<(usize, usize)>,
}

/// What is to be done.
#[derive(Debug)]
pub(crate) struct Plan {
    /// The new text as it is compiled.
    pub(crate) compiled_as: Arc<str>,
    /// For each function of the old text, which one of the new text takes its place.
    pub(crate) successors: Vec<Option<usize>>,
    /// Those that capture more than before: what takes their place has to be made for each.
    pub(crate) forwards: Vec<Forward>,
    pub(crate) rows: Vec<Row>,
    /// Whether what stands outside of all functions is another text.
    pub(crate) top_level_changed: bool,
}

/// Plans that are kept, for all states that are to do the same, and for what compiles a text that another one follows.
const MOST_PLANS: usize = 16;

type Planned = Result<Arc<Plan>, &'static str>;

/// What was planned last: the texts before and after, and what the first one was compiled as.
static PLANS: Mutex<VecDeque<([Arc<str>; 3], Planned)>> = Mutex::new(VecDeque::new());

/// The [plan] for a change, which may have been made before.
///
/// # Errors
/// Why nothing can be paired at all.
pub(crate) fn planned(old: &str, compiled_as: &str, new: &str, chunk_name: &CStr) -> Planned {
    let plans = || PLANS.lock().unwrap_or_else(PoisonError::into_inner);
    let is_it = |texts: &[Arc<str>; 3]| *texts[0] == *old && *texts[1] == *compiled_as && *texts[2] == *new;
    if let Some((_, known)) = plans().iter().find(|(texts, _)| is_it(texts)) {
        return known.clone();
    }
    let made = plan(old, compiled_as, new, chunk_name).map(Arc::new);
    let mut plans = plans();
    plans.push_back(([old, compiled_as, new].map(Arc::from), made.clone()));
    if plans.len() > MOST_PLANS {
        plans.pop_front();
    }
    made
}

/// What a text was compiled as that was planned to take the place of another one; itself where it was not.
pub(crate) fn compiled_as(text: &str) -> Arc<str> {
    let plans = PLANS.lock().unwrap_or_else(PoisonError::into_inner);
    let planned = plans.iter().rev().find(|(texts, _)| *texts[2] == *text);
    planned.and_then(|(_, plan)| Some(plan.as_ref().ok()?.compiled_as.clone())).unwrap_or_else(|| text.into())
}

/// Plans the change of a text, which was compiled as `compiled_as`, to another one, which compiles.
///
/// # Errors
/// Why nothing can be paired at all.
fn plan(old: &str, compiled_as: &str, new: &str, chunk_name: &CStr) -> Result<Plan, &'static str> {
    let (was, is) = (written_functions(old).ok_or(NOT_PAIRED)?, written_functions(new).ok_or(NOT_PAIRED)?);
    let held = compiled(compiled_as, chunk_name).ok_or(NOT_PAIRED)?;
    let held = prototypes(&held).filter(|held| held.len() == was.len()).ok_or(NOT_PAIRED)?;
    let mut successors = pair((old, &was), (new, &is));
    let plain = compiled(new, chunk_name).ok_or(NOT_PAIRED)?;
    let plain = prototypes(&plain).filter(|plain| plain.len() == is.len()).ok_or(NOT_PAIRED)?;
    let text = mentioning(new, &is, &successors, &held, &plain);
    let fitted = compiled(&text, chunk_name).ok_or(NOT_PAIRED)?;
    let fitted = prototypes(&fitted).filter(|fitted| fitted.len() == is.len()).ok_or(NOT_PAIRED)?;
    let (before, after) = (Captures::of(&held, &was), Captures::of(&fitted, &is));
    let (rows, forwards) = rows((old, &was), (new, &is), &mut successors, &before, &after);
    let top_level_changed = top_level(old, &was) != top_level(new, &is);
    Ok(Plan { compiled_as: text.into(), successors, forwards, rows, top_level_changed })
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
    before: &Captures<'_>,
    after: &Captures<'_>,
) -> (Vec<Row>, Vec<Forward>) {
    let (mut rows, mut forwards) = (Vec::new(), Vec::new());
    let paired = successors.to_vec();
    let predecessors: HashMap<usize, usize> =
        successors.iter().enumerate().filter_map(|(old, new)| Some(((*new)?, old))).collect();
    for (at, function) in is.iter().enumerate() {
        let predecessor = predecessors.get(&at).copied();
        let fate = match predecessor {
            None => FunctionFate::New,
            Some(held) => match fit((before, held), (after, at), &paired) {
                Fit::Refused(why) => {
                    successors[held] = None;
                    FunctionFate::Refused(why)
                }
                Fit::Forwards(more) => {
                    successors[held] = None;
                    let names = before.names(held).map(str::to_owned).collect();
                    forwards.push(Forward { old: held, new: at, names, more });
                    FunctionFate::Changed
                }
                Fit::Same if old[was[held].text.clone()] == new[function.text.clone()] => FunctionFate::Unchanged,
                Fit::Same => FunctionFate::Changed,
            },
        };
        rows.push(Row { name: function.name.clone(), line: function.lines.0, old: predecessor, fate });
    }
    let gone = was.iter().enumerate().filter(|(at, _)| paired[*at].is_none());
    rows.extend(gone.map(|(at, function)| Row {
        name: function.name.clone(),
        line: function.lines.0,
        old: Some(at),
        fate: FunctionFate::Gone,
    }));
    (rows, forwards)
}

/// What the functions of a text have captured.
struct Captures<'a> {
    prototypes: &'a [Prototype<'a>],
    written: &'a [WrittenFunction],
}

impl<'a> Captures<'a> {
    fn of(prototypes: &'a [Prototype<'a>], written: &'a [WrittenFunction]) -> Self {
        Self { prototypes, written }
    }

    fn names(&self, function: usize) -> impl Iterator<Item = &'a str> {
        self.prototypes[function].captured_names.iter().map(|name| std::str::from_utf8(name).unwrap_or_default())
    }

    /// The function that a captured variable is a local of; none for what the whole script was given.
    fn declared_in(&self, function: usize, number: usize) -> Option<usize> {
        let [is_local, from, ..] = self.prototypes[function].captured.get(Version::CAPTURED * number..)? else {
            return None;
        };
        match (function, is_local) {
            (0, _) => None,
            (_, 0) => self.declared_in(self.written[function].parent, usize::from(*from)),
            (_, _) => Some(self.written[function].parent),
        }
    }
}

/// How the body of a function can take the place of another one.
enum Fit {
    /// It captures the same.
    Same,
    /// It captures this besides.
    Forwards(Vec<More>),
    Refused(String),
}

/// Whether the variables that two functions capture are the same, by their names and the functions that they are locals of.
fn fit((before, old): (&Captures<'_>, usize), (after, new): (&Captures<'_>, usize), paired: &[Option<usize>]) -> Fit {
    let now_in = |declared: Option<usize>| match declared {
        None => Some(None),
        Some(function) => paired[function].map(Some),
    };
    let (held, fitted): (Vec<_>, Vec<_>) = (before.names(old).collect(), after.names(new).collect());
    for (number, name) in held.iter().enumerate() {
        let is_there = fitted.get(number) == Some(name);
        if !is_there || now_in(before.declared_in(old, number)) != Some(after.declared_in(new, number)) {
            return Fit::Refused(match fitted.contains(name) {
                true => format!("'{name}' is another variable there now"),
                false => format!("'{name}', which it used, is not there any more"),
            });
        }
    }
    let more: Vec<_> = (held.len()..fitted.len())
        .map(|number| {
            let (name, declared) = (fitted[number], after.declared_in(new, number));
            let is_it = |(function, at): &(usize, usize)| now_in(before.declared_in(*function, *at)) == Some(declared);
            let named = (0..before.prototypes.len())
                .flat_map(|function| before.names(function).enumerate().map(move |(at, held)| (function, at, held)))
                .filter(|(.., held)| *held == name)
                .map(|(function, at, _)| (function, at));
            More { name: name.to_owned(), held_by: named.filter(is_it).collect() }
        })
        .collect();
    match more.iter().find(|more| more.held_by.is_empty() && more.name != "_ENV") {
        Some(more) => Fit::Refused(format!("it uses '{}', which nothing of the script has kept", more.name)),
        None if more.is_empty() => Fit::Same,
        None => Fit::Forwards(more),
    }
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
            FunctionFate::Refused(why) => why.clone(),
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
            ["g: 'f', which it used, is not there any more", "f: changed", "i: new", "h: gone"]
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
        // What captures more gets a body of its own, where something has kept what it needs.
        let more = |new: &str| {
            fates(&(around("return a") + "\nfunction g() return b end"), &(around(new) + "\nfunction g() return b end"))
        };
        assert_eq!(more("return a + print(b)")[0], "f: changed");
        assert_eq!(more("return a + c")[0], "f: it uses 'c', which nothing of the script has kept");
        assert_eq!(
            fates("local a = 1\nfunction f() return a end", "local b = 1\nfunction f() local a = 2 return b end"),
            ["f: 'a', which it used, is not there any more"]
        );
        let inner = |declared: &str| format!("local a = 1\nfunction f() {declared} return function() return a end end");
        assert_eq!(fates(&inner(""), &inner("local a = 2"))[1], "?: 'a' is another variable there now");
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
