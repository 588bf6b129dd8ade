//! Where a script uses a name, from its text.

use adzeman_core::source::{Line, NameUse};
use full_moon::ast::{
    Assignment, Expression, FunctionCall, FunctionDeclaration, If, Index, Prefix, Suffix, Var, VarExpression,
};
use full_moon::node::Node as _;
use full_moon::tokenizer::{Position, TokenReference};
use full_moon::visitors::Visitor;

/// All uses of a variable or field of this name in a text, and of fields whose names only show when it runs; none in a
/// text that does not parse.
pub(crate) fn uses_of(text: &str, name: &str) -> Vec<NameUse> {
    let found = crate::text::expressions::with_tree(text, |tree| {
        let mut finder = Finder { name, found: Vec::new(), guards: Vec::new() };
        finder.visit_ast(tree);
        finder.found
    });
    found.unwrap_or_default()
}

struct Finder<'a> {
    name: &'a str,
    found: Vec<NameUse>,
    /// Conditions around, that stand on one line with all that depends on them: where that begins, and the text.
    guards: Vec<(usize, String)>,
}

impl Finder<'_> {
    fn add(&mut self, text: &str, at: Option<Position>, is_write: bool) {
        let Some(at) = at else { return };
        let guards: Vec<_> = self.guards.iter().filter(|(from, _)| *from <= at.bytes()).collect();
        let guards: Vec<_> = guards.into_iter().map(|(_, text)| format!("({text})")).collect();
        let guard = (!guards.is_empty()).then(|| guards.join(" and "));
        if let Some(line) = u32::try_from(at.line()).ok().and_then(Line::new) {
            let found = NameUse { line, is_write, text: text.to_owned(), guard };
            if !self.found.contains(&found) {
                self.found.push(found);
            }
        }
    }

    fn name_token(&mut self, token: &TokenReference, is_write: bool) {
        if token.token().to_string() == self.name {
            self.add(self.name, Some(token.token().start_position()), is_write);
        }
    }

    /// A name and what is behind it: each step but the last is read; the last is read or written.
    fn path<'s>(&mut self, prefix: &Prefix, suffixes: impl Iterator<Item = &'s Suffix>, is_write: bool) {
        let Prefix::Name(first) = prefix else { return };
        let mut shown = first.token().to_string();
        let mut suffixes = suffixes.peekable();
        self.name_token(first, is_write && suffixes.peek().is_none());
        while let Some(Suffix::Index(index)) = suffixes.next() {
            shown.push_str(index.to_string().trim());
            let is_last = !matches!(suffixes.peek(), Some(Suffix::Index(_)));
            if self.may_be(index) {
                self.add(&shown, index.end_position(), is_write && is_last);
            }
        }
    }

    /// Whether a step may be to a field of this name.
    fn may_be(&self, index: &Index) -> bool {
        match index {
            Index::Dot { name, .. } => name.token().to_string() == self.name,
            Index::Brackets { expression, .. } => match &**expression {
                Expression::String(text) => text.token().to_string().trim_matches(['"', '\'']) == self.name,
                Expression::Number(number) => number.token().to_string() == self.name,
                _ => true,
            },
            _ => false,
        }
    }

    fn var(&mut self, var: &Var, is_write: bool) {
        match var {
            Var::Name(token) => self.name_token(token, is_write),
            Var::Expression(path) => self.path(path.prefix(), path.suffixes(), is_write),
            _ => {}
        }
    }
}

/// The condition of a statement that stands on one line as a whole, and where what depends on it begins.
fn guard(node: &If) -> Option<(usize, String)> {
    let on_one_line = node.start_position()?.line() == node.end_position()?.line();
    let is_simple = node.else_if().is_none() && node.else_block().is_none();
    let from = node.then_token().token().start_position().bytes();
    (on_one_line && is_simple).then(|| (from, node.condition().to_string().trim().to_owned()))
}

impl Visitor for Finder<'_> {
    fn visit_assignment(&mut self, node: &Assignment) {
        for target in node.variables() {
            self.var(target, true);
        }
    }

    fn visit_function_declaration(&mut self, node: &FunctionDeclaration) {
        let shown = node.name().to_string();
        let shown = shown.trim().replace(':', ".");
        if shown.rsplit('.').next() == Some(self.name) {
            self.add(&shown, Some(node.function_token().token().start_position()), true);
        }
    }

    fn visit_if(&mut self, node: &If) {
        self.guards.extend(guard(node));
    }

    fn visit_if_end(&mut self, node: &If) {
        if guard(node).is_some() {
            self.guards.pop();
        }
    }

    fn visit_expression(&mut self, node: &Expression) {
        if let Expression::Var(var) = node {
            self.var(var, false);
        }
    }

    fn visit_var_expression(&mut self, node: &VarExpression) {
        // Brackets hold expressions of their own, which are visited as such; what is left of a call is seen here.
        if node.suffixes().any(|suffix| !matches!(suffix, Suffix::Index(_))) {
            self.path(node.prefix(), node.suffixes(), false);
        }
    }

    fn visit_function_call(&mut self, node: &FunctionCall) {
        self.path(node.prefix(), node.suffixes(), false);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(text: &str, name: &str, expected: &[(u32, &str, &str)]) {
        let found = uses_of(text, name);
        let found: Vec<_> = found
            .iter()
            .map(|held| (held.line.get(), if held.is_write { "write" } else { "read" }, held.text.as_str()))
            .collect();
        assert_eq!(found, expected, "{text}");
    }

    #[test]
    fn names_are_told_from_fields_and_writes_from_reads() {
        check(
            "total = total + 1\nlocal x = t.total",
            "total",
            &[(1, "write", "total"), (1, "read", "total"), (2, "read", "t.total")],
        );
        check(
            "tariff.base = 3\nprint(tariff.base,\n  tariff['base'])",
            "base",
            &[(1, "write", "tariff.base"), (2, "read", "tariff.base"), (3, "read", "tariff['base']")],
        );
    }

    #[test]
    fn what_only_shows_when_it_runs_is_kept() {
        check(
            "boats[name] = (boats[name] or 0) + 1",
            "Heron",
            &[(1, "write", "boats[name]"), (1, "read", "boats[name]")],
        );
        check("t[2] = t[3]", "2", &[(1, "write", "t[2]")]);
    }

    #[test]
    fn a_condition_on_the_same_line_is_known() {
        let found = uses_of("if n == total then total = 1 end\nif n then\n  total = 2\nend", "total");
        let guards: Vec<_> = found.iter().map(|held| held.guard.as_deref()).collect();
        assert_eq!(guards, [None, Some("(n == total)"), None]);
    }

    #[test]
    fn calls_and_definitions_count() {
        check(
            "fare(1)\nt.fare(2)\nfunction m:fare() end",
            "fare",
            &[(1, "read", "fare"), (2, "read", "t.fare"), (3, "write", "m.fare")],
        );
        check("function (", "fare", &[]);
    }
}
