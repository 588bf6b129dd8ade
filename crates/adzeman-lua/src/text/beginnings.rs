//! Lines that begin with a statement: where a function can go on without being in the middle of anything.

use full_moon::ast::{FunctionBody, LastStmt, Stmt};
use full_moon::node::Node;
use full_moon::visitors::Visitor;

use super::expressions::with_tree;

/// A line that begins with a statement, and nothing before it but blanks and semicolons.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Beginning {
    /// The line.
    pub(crate) line: u32,
    /// The lines of the function that it is directly in; nothing for the text itself.
    pub(crate) function: Option<(u32, u32)>,
}

/// All of them; `None` when the text does not parse.
pub(crate) fn beginnings(text: &str) -> Option<Vec<Beginning>> {
    with_tree(text, |tree| {
        let mut reader = Reader { text, found: Vec::new(), functions: Vec::new() };
        reader.visit_ast(tree);
        reader.found
    })
}

struct Reader<'t> {
    text: &'t str,
    found: Vec<Beginning>,
    functions: Vec<(u32, u32)>,
}

impl Reader<'_> {
    fn add(&mut self, node: &impl Node) {
        let Some(start) = node.start_position() else { return };
        let Ok(line) = u32::try_from(start.line()) else { return };
        let before = self.text.get(..start.bytes()).unwrap_or_default();
        let before = before.rsplit('\n').next().unwrap_or_default();
        if before.bytes().all(|byte| byte.is_ascii_whitespace() || byte == b';') {
            self.found.push(Beginning { line, function: self.functions.last().copied() });
        }
    }
}

impl Visitor for Reader<'_> {
    fn visit_stmt(&mut self, node: &Stmt) {
        self.add(node);
    }

    fn visit_last_stmt(&mut self, node: &LastStmt) {
        self.add(node);
    }

    fn visit_function_body(&mut self, node: &FunctionBody) {
        let line = |position: Option<full_moon::tokenizer::Position>| {
            position.and_then(|position| u32::try_from(position.line()).ok()).unwrap_or(0)
        };
        self.functions.push((line(node.start_position()), line(node.end_position())));
    }

    fn visit_function_body_end(&mut self, _: &FunctionBody) {
        self.functions.pop();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_lines_that_begin_with_a_statement_are_found() {
        let text = "local x = 1 + \n  2\nlocal function f(a)\n  a = a; x = a\n  return function()\n    x = 2 end\nend\nf(\n  1)  f(2)\n";
        let found = beginnings(text).unwrap();
        let found: Vec<_> = found.iter().map(|held| (held.line, held.function)).collect();
        let (f, inner) = (Some((3, 7)), Some((5, 6)));
        assert_eq!(found, [(1, None), (3, None), (4, f), (5, f), (6, inner), (8, None)]);
    }
}
