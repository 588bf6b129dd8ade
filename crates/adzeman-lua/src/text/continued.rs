//! Which lines are inside a statement that begins above them: a breakpoint there is one on the statement.
//!
//! Only the parts of a statement that are evaluated with it count: not the bodies of functions defined within, nor the
//! `elseif` and `until` of a statement, which come after others have run, nor the head of a loop.

use std::collections::BTreeMap;

use full_moon::ast::{Ast, FunctionBody, LastStmt, Stmt};
use full_moon::node::Node;
use full_moon::tokenizer::{Position, TokenReference};
use full_moon::visitors::Visitor;

/// For each such line, the one that its statement begins on, counted from 1.
pub(crate) fn continued(tree: &Ast) -> BTreeMap<u32, u32> {
    let mut finder = Finder::default();
    finder.visit_ast(tree);
    let Finder { mut found, starts } = finder;
    starts.iter().for_each(|line| {
        found.remove(line);
    });
    found
}

#[derive(Default)]
struct Finder {
    found: BTreeMap<u32, u32>,
    starts: Vec<u32>,
}

impl Finder {
    fn begins(&mut self, node: &impl Node) {
        self.starts.extend(line(node.start_position()));
    }

    /// All lines of a statement behind its first, up to `end`.
    fn spans(&mut self, node: &impl Node, end: Option<Position>) {
        if let (Some(first), Some(last)) = (line(node.start_position()), line(end)) {
            self.found.extend((first + 1..=last).map(|line| (line, first)));
        }
    }
}

impl Visitor for Finder {
    fn visit_stmt(&mut self, node: &Stmt) {
        self.begins(node);
        match node {
            Stmt::Assignment(_) | Stmt::LocalAssignment(_) | Stmt::FunctionCall(_) => {
                self.spans(node, node.end_position());
            }
            Stmt::If(held) => self.spans(node, at(held.then_token())),
            _ => {}
        }
    }

    fn visit_last_stmt(&mut self, node: &LastStmt) {
        self.begins(node);
        self.spans(node, node.end_position());
    }

    fn visit_function_body(&mut self, node: &FunctionBody) {
        let head = line(at(node.parameters_parentheses().tokens().1));
        if let (Some(head), Some(end)) = (head, line(at(node.end_token()))) {
            self.found.retain(|line, _| *line <= head || end < *line);
        }
    }
}

fn at(token: &TokenReference) -> Option<Position> {
    Some(token.token().start_position())
}

fn line(position: Option<Position>) -> Option<u32> {
    u32::try_from(position?.line()).ok()
}

#[cfg(test)]
mod tests {
    #[track_caller]
    fn check(text: &str, expected: &[(u32, u32)]) {
        let found = crate::text::expressions::with_tree(text, super::continued).unwrap();
        assert_eq!(found.into_iter().collect::<Vec<_>>(), expected, "{text}");
    }

    #[test]
    fn calls_tables_and_conditions_over_several_lines() {
        check("f(1,\n  2,\n  3)\ng()", &[(2, 1), (3, 1)]);
        check("local t = {\n  a = 1,\n}\nreturn t,\n  2", &[(2, 1), (3, 1), (5, 4)]);
        check("if a\n  and b\nthen\n  c()\nelseif d\n  or e then\n  f()\nend", &[(2, 1), (3, 1)]);
        check("x = [[\ny()\n]] z(\n)", &[(2, 1), (4, 3)]);
    }

    #[test]
    fn bodies_of_functions_have_statements_of_their_own() {
        let text = "f(function(a)\n  g(a,\n    1)\nend,\n2)\nt.x = function() return 1 end";
        check(text, &[(3, 2), (5, 1)]);
    }

    #[test]
    fn loops_are_left_out() {
        check("while a\n  and b do\n  c()\nend\nrepeat\n  d()\nuntil e\n  or f", &[]);
    }
}
