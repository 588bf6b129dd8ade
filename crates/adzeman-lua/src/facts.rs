//! What there is to know of a script as a source, from its compiled form and its text.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use adzeman_core::source::{FunctionSpan, Line, LineSet, SourceFacts};

use crate::dialect::chunk::Prototype;
use crate::text::LANGUAGE;
use crate::text::continued::continued;
use crate::text::expressions::with_tree;
use crate::text::names::{NamedFunction, named_functions};

/// Puts together what the compiled functions and the text say.
pub(crate) fn facts(name: &str, text: Option<Arc<str>>, prototypes: &[Prototype<'_>]) -> SourceFacts {
    // What does not parse has no names, and each of its lines is as good as another.
    let read = text.as_deref().and_then(|text| with_tree(text, |tree| (named_functions(tree), continued(tree))));
    let (named, inside) = read.unwrap_or_default();
    let by_line: HashMap<u32, &NamedFunction> = named.iter().map(|function| (function.line, function)).collect();
    let mut functions: Vec<_> = prototypes.iter().filter_map(|prototype| span(prototype, &by_line)).collect();
    functions.sort_by_key(|function| (function.first, std::cmp::Reverse(function.last)));
    functions.dedup();
    let lines = holdable(prototypes, &by_line);
    let inside: BTreeMap<Line, Line> = inside
        .into_iter()
        .filter_map(|(line, start)| Some((Line::new(line)?, Line::new(start)?)))
        .filter(|(_, start)| lines.contains(*start))
        .collect();
    let lines = lines.without(&inside.keys().copied().collect());
    SourceFacts { name: name.to_owned(), language: LANGUAGE, lines, inside, text, functions }
}

fn span(prototype: &Prototype<'_>, by_line: &HashMap<u32, &NamedFunction>) -> Option<FunctionSpan> {
    let first = Line::new(prototype.first)?;
    Some(FunctionSpan {
        name: by_line.get(&prototype.first).map(|function| function.name.clone()),
        first,
        last: Line::new(prototype.last)?,
        body: prototype.lines.iter().next()?,
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
        let facts = facts("broken.lua", Some("function (\n1)".into()), &prototypes);
        assert_eq!((facts.functions.len(), &facts.functions[0].name), (1, &None));
        assert_eq!((facts.lines, facts.inside), (lines, BTreeMap::new()), "and each line with code is one to stop at");
    }
}
