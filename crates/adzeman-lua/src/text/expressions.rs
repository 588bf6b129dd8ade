//! What the text of an expression or a script says by itself: names it uses, where it does not parse, local variables it
//! makes.

use std::borrow::Cow;
use std::collections::{BTreeSet, VecDeque};
use std::sync::{Arc, Mutex, PoisonError};

use adzeman_core::source::Line;
use full_moon::ast::{Ast, FunctionBody, LocalAssignment, LocalFunction, NumericFor, Parameter, Prefix, Var};
use full_moon::ast::{Expression, GenericFor, Stmt};
use full_moon::tokenizer::TokenReference;
use full_moon::visitors::Visitor;

use super::nesting;
use crate::dialect::{Dialect as _, Version};

/// What stands before an expression so that it is a statement that parses.
const BEFORE: &str = "return ";

/// The names that an expression uses from around it, in order, and `...` if it uses the extra arguments. None in a text that
/// is no expression.
pub(crate) fn free_names(expression: &str) -> Arc<[String]> {
    /// What was read last, the newest first: watches are asked for at each stop.
    static KNOWN: Mutex<VecDeque<(String, Arc<[String]>)>> = Mutex::new(VecDeque::new());
    const MOST_KNOWN: usize = 64;
    const LONGEST_KNOWN: usize = 1024;
    let known = || KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, names)) = known().iter().find(|(held, _)| held == expression) {
        return names.clone();
    }
    let mut names = Vec::new();
    for (name, _) in free_uses(expression) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let names: Arc<[String]> = names.into();
    if expression.len() <= LONGEST_KNOWN {
        let mut known = known();
        known.truncate(MOST_KNOWN - 1);
        known.push_front((expression.to_owned(), names.clone()));
    }
    names
}

/// Where a text, an expression or else statements, uses a name from around it: the name, and the byte at which it stands.
fn free_uses(text: &str) -> Vec<(String, usize)> {
    let uses_in = |tree: &Ast| {
        let mut names = Names::default();
        names.visit_ast(tree);
        names.used.retain(|(name, _)| !names.made.contains(name));
        names.used
    };
    let of_expression = with_tree(&format!("{BEFORE}{text}"), |tree| {
        let uses = uses_in(tree).into_iter();
        uses.filter_map(|(name, at)| Some((name, at.checked_sub(BEFORE.len())?))).collect()
    });
    of_expression.or_else(|| with_tree(text, uses_in)).unwrap_or_default()
}

/// What stands for `_ENV` in a text that is evaluated, whose own is another one. Of the same length, for the columns of mistakes.
pub(crate) const ENVIRONMENT: &str = "__EV";

/// A text with [`ENVIRONMENT`] for the `_ENV` from around it, if it uses that.
pub(crate) fn with_environment(text: &str) -> Cow<'_, str> {
    const NAME: &str = "_ENV";
    if !text.contains(NAME) {
        return Cow::Borrowed(text);
    }
    let mut replaced = text.to_owned();
    for (_, at) in free_uses(text).into_iter().filter(|(name, _)| name == NAME) {
        replaced.replace_range(at..at + NAME.len(), ENVIRONMENT);
    }
    Cow::Owned(replaced)
}

/// The lines at which a script makes a local variable of this name.
pub(crate) fn locals_named(script: &str, name: &str) -> Vec<Line> {
    let found = with_tree(script, |tree| {
        let mut finder = Locals { name, found: Vec::new() };
        finder.visit_ast(tree);
        finder.found
    });
    found.unwrap_or_default()
}

/// The column, counted from 1, at which an expression stops making sense, for which Lua has the message `why`. The message
/// names what stands there (`near '*'`), and the parser where to look for it.
pub(crate) fn column_of_mistake(expression: &str, why: &str) -> Option<usize> {
    let text = format!("{BEFORE}{expression}");
    let first = nesting::on_large_stack(&text, |text| {
        let errors = full_moon::parse_fallible(text, Version::grammar()).into_result().err()?;
        errors.iter().map(|error| error.range().0.bytes()).min()
    });
    let from = first.flatten()?.checked_sub(BEFORE.len())?;
    let near = why.rsplit_once("near '").map(|(_, near)| near.trim_end_matches('\''));
    let at = match near {
        _ if why.ends_with("near <eof>") || why.ends_with("near '<eof>'") => expression.len(),
        Some(near) => {
            let behind = expression.get(from..)?.find(near).map(|at| from + at);
            behind.or_else(|| expression.rfind(near)).unwrap_or(from)
        }
        None => from,
    };
    expression.get(..at).map(|before| before.chars().count() + 1)
}

/// What `look` makes of a script; `None` for a text that does not parse. The tree never leaves the stack that it is read on.
pub(crate) fn with_tree<T: Send>(text: &str, look: impl FnOnce(&Ast) -> T + Send) -> Option<T> {
    let found = nesting::on_large_stack(text, |text| {
        full_moon::parse_fallible(text, Version::grammar()).into_result().ok().map(|tree| look(&tree))
    });
    found.flatten()
}

/// The same for a text that is one expression, and nothing else.
pub(crate) fn with_expression<T: Send>(text: &str, look: impl FnOnce(&Expression) -> T + Send) -> Option<T> {
    let found = with_tree(&format!("local _ = {text}"), |tree| {
        let mut statements = tree.nodes().stmts();
        let (Some(Stmt::LocalAssignment(assignment)), None) = (statements.next(), statements.next()) else {
            return None;
        };
        let mut expressions = assignment.expressions().iter();
        match (expressions.next(), expressions.next(), tree.nodes().last_stmt()) {
            (Some(expression), None, None) => Some(look(expression)),
            _ => None,
        }
    });
    found.flatten()
}

fn text(token: &TokenReference) -> String {
    token.token().to_string()
}

#[derive(Default)]
struct Names {
    /// Each use, with the byte at which it stands.
    used: Vec<(String, usize)>,
    /// Names that the text makes itself.
    made: BTreeSet<String>,
}

impl Names {
    fn add(&mut self, token: &TokenReference) {
        self.used.push((text(token), token.token().start_position().bytes()));
    }
}

impl Visitor for Names {
    fn visit_var(&mut self, node: &Var) {
        if let Var::Name(token) = node {
            self.add(token);
        }
    }

    fn visit_prefix(&mut self, node: &Prefix) {
        if let Prefix::Name(token) = node {
            self.add(token);
        }
    }

    fn visit_expression(&mut self, node: &Expression) {
        if let Expression::Symbol(token) = node
            && text(token) == "..."
        {
            self.add(token);
        }
    }

    fn visit_function_body(&mut self, node: &FunctionBody) {
        let names = node.parameters().iter().map(|parameter| match parameter {
            Parameter::Name(token) | Parameter::Ellipsis(token) => text(token),
            _ => String::new(),
        });
        self.made.extend(names);
    }

    fn visit_local_assignment(&mut self, node: &LocalAssignment) {
        self.made.extend(node.names().iter().map(text));
    }
}

struct Locals<'a> {
    name: &'a str,
    found: Vec<Line>,
}

impl Locals<'_> {
    fn look(&mut self, token: &TokenReference) {
        let line = u32::try_from(token.token().start_position().line()).ok().and_then(Line::new);
        if text(token) == self.name {
            self.found.extend(line);
        }
    }
}

impl Visitor for Locals<'_> {
    fn visit_local_assignment(&mut self, node: &LocalAssignment) {
        node.names().iter().for_each(|token| self.look(token));
    }

    fn visit_local_function(&mut self, node: &LocalFunction) {
        self.look(node.name());
    }

    fn visit_function_body(&mut self, node: &FunctionBody) {
        for parameter in node.parameters() {
            if let Parameter::Name(token) = parameter {
                self.look(token);
            }
        }
    }

    fn visit_numeric_for(&mut self, node: &NumericFor) {
        self.look(node.index_variable());
    }

    fn visit_generic_for(&mut self, node: &GenericFor) {
        node.names().iter().for_each(|token| self.look(token));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_those_from_around_the_expression() {
        let cases: [(&str, &[&str]); 7] = [
            ("level - host.locks.upper.level", &["level", "host"]),
            ("f(a[b].c, 'd'):e{g = h}", &["f", "a", "b", "h"]),
            ("(function(x) return x + y end)(z)", &["y", "z"]),
            ("select('#', ...)", &["select", "..."]),
            ("x = y + 1", &["x", "y"]),
            ("1 + 2", &[]),
            ("1 +", &[]),
        ];
        for (text, names) in cases {
            assert_eq!(free_names(text).to_vec(), names, "{text}");
            assert_eq!(free_names(text).to_vec(), names, "{text}, once more");
        }
    }

    #[test]
    fn every_way_to_make_a_local_is_found() {
        let script = "local a, b = 1\nlocal function f(a)\n  for a = 1, 2 do end\n  for k, a in pairs(b) do end\nend";
        let lines = |name| locals_named(script, name).into_iter().map(Line::get).collect::<Vec<_>>();
        assert_eq!((lines("a"), lines("f"), lines("c")), (vec![1, 2, 3, 4], vec![2], vec![]));
    }

    #[test]
    fn a_mistake_has_a_column() {
        for (text, why, column) in [
            ("length +* 2", "unexpected symbol near '*'", Some(9)),
            ("fare(24", "')' expected near <eof>", Some(8)),
            ("a b", "<eof> expected near 'b'", Some(3)),
            ("length * 2", "", None),
        ] {
            assert_eq!(column_of_mistake(text, why), column, "{text}");
        }
    }
}
