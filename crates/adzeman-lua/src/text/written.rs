//! The functions of a script as they are written, outer ones first, in the order in which the compiler makes their prototypes.

use std::collections::HashMap;
use std::ops::Range;

use full_moon::ast::{AnonymousFunction, FunctionBody, FunctionDeclaration, LastStmt, LocalFunction, Stmt};
use full_moon::node::Node as _;
use full_moon::tokenizer::TokenReference;
use full_moon::visitors::Visitor;

use super::expressions::with_tree;
use super::names::named_functions;

/// A function as it is written; the first one of a script is the whole of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct WrittenFunction {
    /// The position of the function around it; its own for the whole script.
    pub(crate) parent: usize,
    /// What it is called where it is defined, if anything.
    pub(crate) name: Option<String>,
    /// The lines of its definition, counted from 1; 0 for the whole script.
    pub(crate) lines: (u32, u32),
    /// From its parameters to its end, in bytes.
    pub(crate) text: Range<usize>,
    /// Where its first statement begins, in bytes; nothing for an empty one.
    pub(crate) begin: Option<usize>,
}

/// The functions of a text; `None` when it does not parse.
pub(crate) fn written_functions(text: &str) -> Option<Vec<WrittenFunction>> {
    with_tree(text, |tree| {
        let whole = WrittenFunction { parent: 0, name: None, lines: (0, 0), text: 0..text.len(), begin: None };
        let mut finder = Finder { found: vec![whole], around: vec![0], line: 0 };
        finder.visit_ast(tree);
        let mut named: HashMap<(u32, u32), Vec<String>> = HashMap::new();
        for function in named_functions(tree) {
            named.entry((function.line, function.last)).or_default().push(function.name);
        }
        // Where several are on the same lines, none of their names is sure.
        let mut counts: HashMap<(u32, u32), usize> = HashMap::new();
        finder.found.iter().for_each(|function| *counts.entry(function.lines).or_default() += 1);
        for function in &mut finder.found[1..] {
            let names = named.get(&function.lines).filter(|names| names.len() == 1 && counts[&function.lines] == 1);
            function.name = names.map(|names| names[0].clone());
        }
        finder.found
    })
}

struct Finder {
    found: Vec<WrittenFunction>,
    /// The functions around what is looked at, by their positions.
    around: Vec<usize>,
    /// The line of the word that begins the function whose body comes next.
    line: u32,
}

impl Finder {
    fn note_line(&mut self, token: &TokenReference) {
        self.line = u32::try_from(token.token().start_position().line()).unwrap_or(0);
    }

    fn begins(&mut self, node: &impl full_moon::node::Node) {
        let at = self.around.last().copied().unwrap_or(0);
        if let (Some(start), None) = (node.start_position(), self.found[at].begin) {
            self.found[at].begin = Some(start.bytes());
        }
    }
}

impl Visitor for Finder {
    fn visit_function_declaration(&mut self, node: &FunctionDeclaration) {
        self.note_line(node.function_token());
    }

    fn visit_local_function(&mut self, node: &LocalFunction) {
        self.note_line(node.local_token());
    }

    fn visit_anonymous_function(&mut self, node: &AnonymousFunction) {
        self.note_line(node.function_token());
    }

    fn visit_stmt(&mut self, node: &Stmt) {
        self.begins(node);
    }

    fn visit_last_stmt(&mut self, node: &LastStmt) {
        self.begins(node);
    }

    fn visit_function_body(&mut self, node: &FunctionBody) {
        let end = node.end_token().token();
        let begin = node.start_position().map_or(0, full_moon::tokenizer::Position::bytes);
        let last = u32::try_from(end.start_position().line()).unwrap_or(0);
        let parent = self.around.last().copied().unwrap_or(0);
        self.around.push(self.found.len());
        self.found.push(WrittenFunction {
            parent,
            name: None,
            lines: (self.line, last),
            text: begin..end.end_position().bytes(),
            begin: None,
        });
    }

    fn visit_function_body_end(&mut self, _: &FunctionBody) {
        self.around.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn functions_are_told_with_their_places_names_and_texts() {
        let text = "local a = 1\nlocal function f(x)\n  return function() return a end\nend\nt.g = function() end f()";
        let found = written_functions(text).unwrap();
        let shown: Vec<_> = found[1..]
            .iter()
            .map(|function| {
                let begin = function.begin.map_or("", |at| &text[at..at + 6]);
                (function.parent, function.name.as_deref(), function.lines, &text[function.text.clone()], begin)
            })
            .collect();
        assert_eq!(
            shown,
            [
                (0, Some("f"), (2, 4), "(x)\n  return function() return a end\nend", "return"),
                (1, None, (3, 3), "() return a end", "return"),
                (0, Some("t.g"), (5, 5), "() end", ""),
            ]
        );
        assert_eq!(found[0].begin, Some(0));
        assert_eq!(written_functions("local ="), None);
    }
}
