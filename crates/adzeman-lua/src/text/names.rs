//! The names functions are written with, from the text of a script: compiled code does not hold them.

use full_moon::ast::{
    Assignment, Ast, Expression, Field, FunctionBody, FunctionDeclaration, LocalAssignment, LocalFunction,
    TableConstructor,
};
use full_moon::visitors::Visitor;

/// A function as written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct NamedFunction {
    /// `fare`, `tariff.fare`, `boat:length`.
    pub(crate) name: String,
    /// Line of the word `function`, counted from 1.
    pub(crate) line: u32,
    /// Line of its `end`.
    pub(crate) last: u32,
    /// Whether it is a statement of its own, so that its first line does nothing but define it.
    pub(crate) is_statement: bool,
}

/// The named functions of a script.
pub(crate) fn named_functions(tree: &Ast) -> Vec<NamedFunction> {
    let mut finder = Finder::default();
    finder.visit_ast(tree);
    finder.found
}

#[derive(Default)]
struct Finder {
    found: Vec<NamedFunction>,
}

impl Finder {
    fn add(&mut self, name: &str, line: usize, body: &FunctionBody, is_statement: bool) {
        let last = body.end_token().token().start_position().line();
        if let (Ok(line), Ok(last)) = (line.try_into(), last.try_into()) {
            self.found.push(NamedFunction { name: name.trim().to_owned(), line, last, is_statement });
        }
    }

    fn add_value(&mut self, name: &str, value: &Expression) {
        if let Expression::Function(function) = value {
            self.add(name, function.function_token().token().start_position().line(), function.body(), false);
        }
    }
}

impl Visitor for Finder {
    fn visit_function_declaration(&mut self, node: &FunctionDeclaration) {
        let line = node.function_token().token().start_position().line();
        self.add(&node.name().to_string(), line, node.body(), true);
    }

    fn visit_local_function(&mut self, node: &LocalFunction) {
        let line = node.local_token().token().start_position().line();
        self.add(&node.name().token().to_string(), line, node.body(), true);
    }

    fn visit_local_assignment(&mut self, node: &LocalAssignment) {
        for (name, value) in node.names().iter().zip(node.expressions()) {
            self.add_value(&name.token().to_string(), value);
        }
    }

    fn visit_assignment(&mut self, node: &Assignment) {
        for (target, value) in node.variables().iter().zip(node.expressions()) {
            self.add_value(&target.to_string(), value);
        }
    }

    fn visit_table_constructor(&mut self, node: &TableConstructor) {
        for field in node.fields() {
            if let Field::NameKey { key, value, .. } = field {
                self.add_value(&key.token().to_string(), value);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_way_to_name_a_function() {
        let text = "function fare(x) end\nlocal function half(x) end\nfunction tariff.fare() end\n\
                    function boat:length() end\nlocal a, b = 1, function() end\nt.x = function() end\n\
                    return { key = function() end, function() end }\n";
        let named = crate::text::expressions::with_tree(text, named_functions).unwrap();
        let found: Vec<_> = named.into_iter().map(|f| (f.name, f.line, f.is_statement)).collect();
        let expected = [
            ("fare", 1, true),
            ("half", 2, true),
            ("tariff.fare", 3, true),
            ("boat:length", 4, true),
            ("b", 5, false),
            ("t.x", 6, false),
            ("key", 7, false),
        ];
        assert_eq!(found, expected.map(|(name, line, statement)| (name.to_owned(), line, statement)));
    }
}
