//! What there is to know of a script as a source, from its compiled form and its text.

use std::collections::{BTreeMap, HashMap};
use std::ffi::CStr;
use std::sync::Arc;

use adzeman_core::source::{Code, CodeFacts, FunctionSpan, Line, LineSet, SourceFacts};

use crate::dialect::chunk::{Prototype, prototypes};
use crate::ffi::apart::in_new_state;
use crate::text::LANGUAGE;
use crate::text::continued::continued;
use crate::text::expressions::with_tree;
use crate::text::names::{NamedFunction, named_functions};

/// What there is to know of a script that was loaded as this text.
pub(crate) fn of_text(name: &str, chunk_name: &CStr, text: Arc<str>) -> SourceFacts {
    let (held, chunk_name) = (text.clone(), chunk_name.to_owned());
    let code = Code::of_text(move || match compiled(&held, &chunk_name) {
        Some(chunk) => code_of(Some(&held), &prototypes(&chunk).unwrap_or_default()),
        None => CodeFacts::default(),
    });
    SourceFacts { name: name.to_owned(), language: LANGUAGE, text: Some(text), code, ..SourceFacts::default() }
}

/// The same of one of which these functions were seen, as compiled code. The text, if there is one, is that of the script only if
/// it gives all of them.
pub(crate) fn of_functions(name: &str, chunk_name: &CStr, text: Option<Arc<str>>, seen: Vec<Vec<u8>>) -> SourceFacts {
    let (held, chunk_name) = (text.clone(), chunk_name.to_owned());
    let code = Code::later(move || {
        let seen: Vec<_> = seen.iter().filter_map(|chunk| prototypes(chunk)).collect();
        let whole = held.as_deref().and_then(|text| compiled(text, &chunk_name));
        let whole = whole.as_deref().and_then(prototypes);
        if let Some(whole) = whole.filter(|whole| seen.iter().all(|seen| holds(whole, &seen[0]))) {
            return code_of(held.as_deref(), &whole);
        }
        let is_part = seen.iter().all(|seen| seen[0].last > 0);
        let functions: Vec<_> = seen.into_iter().flatten().collect();
        CodeFacts { is_part, is_other_text: held.is_some(), ..code_of(None, &functions) }
    });
    SourceFacts { name: name.to_owned(), language: LANGUAGE, text, code, ..SourceFacts::default() }
}

/// A text as compiled code; `None` when it does not compile.
pub(crate) fn compiled(text: &str, chunk_name: &CStr) -> Option<Vec<u8>> {
    in_new_state(|state| state.load(text, chunk_name).ok().map(|()| state.dump(-1))).flatten()
}

/// Whether a compiled function is one of those of a text.
pub(crate) fn is_part(function: &[u8], text: &str, chunk_name: &CStr) -> bool {
    let whole = compiled(text, chunk_name);
    let whole = whole.as_deref().and_then(prototypes).unwrap_or_default();
    prototypes(function).is_some_and(|function| holds(&whole, &function[0]))
}

/// Whether a function is among those of a text.
fn holds(whole: &[Prototype<'_>], function: &Prototype<'_>) -> bool {
    let is_same = |held: &Prototype<'_>| {
        (held.first, held.last, &held.lines) == (function.first, function.last, &function.lines)
            && held.code == function.code
            && held.captured_count == function.captured_count
    };
    whole.iter().any(is_same)
}

/// Puts together what the compiled functions and the text say.
fn code_of(text: Option<&str>, prototypes: &[Prototype<'_>]) -> CodeFacts {
    // What does not parse has no names, and each of its lines is as good as another.
    let read = text.and_then(|text| with_tree(text, |tree| (named_functions(tree), continued(tree))));
    let (named, inside) = read.unwrap_or_default();
    let by_line: HashMap<u32, &NamedFunction> = named.iter().map(|function| (function.line, function)).collect();
    let by_lines: HashMap<(u32, u32), &NamedFunction> =
        named.iter().map(|function| ((function.line, function.last), function)).collect();
    let mut lines_of: HashMap<(u32, u32), usize> = HashMap::new();
    prototypes.iter().for_each(|prototype| *lines_of.entry((prototype.first, prototype.last)).or_default() += 1);
    let span =
        |prototype: &Prototype<'_>| span(prototype, &by_lines, lines_of[&(prototype.first, prototype.last)] == 1);
    let mut functions: Vec<_> = prototypes.iter().filter_map(span).collect();
    functions.sort_by_key(|function| (function.first, std::cmp::Reverse(function.last)));
    functions.dedup();
    let lines = holdable(prototypes, &by_line);
    let inside: BTreeMap<Line, Line> = inside
        .into_iter()
        .filter_map(|(line, start)| Some((Line::new(line)?, Line::new(start)?)))
        .filter(|(_, start)| lines.contains(*start))
        .collect();
    let lines = lines.without(&inside.keys().copied().collect());
    CodeFacts { lines, inside, functions, ..CodeFacts::default() }
}

fn span(
    prototype: &Prototype<'_>,
    by_lines: &HashMap<(u32, u32), &NamedFunction>,
    is_only: bool,
) -> Option<FunctionSpan> {
    let first = Line::new(prototype.first)?;
    Some(FunctionSpan {
        name: by_lines.get(&(prototype.first, prototype.last)).map(|function| function.name.clone()),
        first,
        last: Line::new(prototype.last)?,
        body: prototype.lines.iter().next()?,
        is_only,
    })
}

/// All lines with code, without those that only define a function: nobody who asks for a stop on `function fare(...)`
/// means the moment it is defined.
fn holdable(prototypes: &[Prototype<'_>], by_line: &HashMap<u32, &NamedFunction>) -> LineSet {
    let inner: LineSet = prototypes.iter().filter(|p| p.first > 0).flat_map(|p| p.lines.iter()).collect();
    let only_defines =
        |line: Line| !inner.contains(line) && by_line.get(&line.get()).is_some_and(|function| function.is_statement);
    // Lua gives the definition of a function statement the line of its `end` or its first line, by version.
    let ends: LineSet = prototypes
        .iter()
        .filter(|p| by_line.get(&p.first).is_some_and(|function| function.is_statement))
        .map(|p| p.last)
        .filter(|last| Line::new(*last).is_some_and(|line| !inner.contains(line)))
        .collect();
    prototypes
        .iter()
        .flat_map(|p| p.lines.iter())
        .filter(|line| !only_defines(*line) && !ends.contains(*line))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_that_does_not_parse_has_no_names() {
        let lines: LineSet = [1, 2].into_iter().collect();
        let prototypes = [Prototype { first: 1, last: 2, lines: lines.clone(), ..Prototype::default() }];
        let facts = code_of(Some("function (\n1)"), &prototypes);
        assert_eq!((facts.functions.len(), &facts.functions[0].name), (1, &None));
        assert_eq!((facts.lines, facts.inside), (lines, BTreeMap::new()), "and each line with code is one to stop at");
    }
}
