//! Names of an expression that can be looked up before it is evaluated.

use std::collections::BTreeSet;

use full_moon::ast::{BinOp, Call, Expression, Field, FunctionArgs, FunctionCall, Index, Prefix, Suffix, UnOp, Var};
use full_moon::tokenizer::TokenReference;

use super::expressions::with_expression;

/// Most names that are told: a function has 200 variables.
const MOST: usize = 32;

/// The names that an expression reads before it does anything that could run a function, and never again behind that: what they stand
/// for can be looked up before it is evaluated. None where the expression has a function of its own, extra arguments, or `_ENV`,
/// which is another one in an evaluation.
pub(crate) fn early_names(expression: &str) -> Vec<String> {
    let found = with_expression(expression, |expression| {
        let mut order = Order::default();
        order.expression(expression)?;
        let late = order.late;
        order.early.retain(|name| !late.contains(name));
        order.early.truncate(MOST);
        Some(order.early)
    });
    found.flatten().unwrap_or_default()
}

/// An expression in the order in which it is evaluated.
#[derive(Default)]
struct Order {
    /// Whether anything has been done that could run a function: a call, or what metamethods are for.
    may_have_run: bool,
    early: Vec<String>,
    late: BTreeSet<String>,
}

impl Order {
    /// `None` where that cannot be told.
    fn expression(&mut self, expression: &Expression) -> Option<()> {
        match expression {
            Expression::Parentheses { expression, .. } => self.expression(expression),
            Expression::UnaryOperator { unop, expression } => {
                self.expression(expression)?;
                self.may_have_run |= !matches!(unop, UnOp::Not(_));
                Some(())
            }
            Expression::BinaryOperator { lhs, binop, rhs } => {
                self.expression(lhs)?;
                self.expression(rhs)?;
                self.may_have_run |= !matches!(binop, BinOp::And(_) | BinOp::Or(_));
                Some(())
            }
            Expression::Number(_) | Expression::String(_) => Some(()),
            Expression::Symbol(token) => (token.token().to_string() != "...").then_some(()),
            Expression::Var(Var::Name(name)) => self.name(name),
            Expression::Var(Var::Expression(path)) => self.path(path.prefix(), path.suffixes()),
            Expression::FunctionCall(call) => self.call(call),
            Expression::TableConstructor(table) => table.fields().iter().try_for_each(|field| match field {
                Field::ExpressionKey { key, value, .. } => {
                    self.expression(key)?;
                    self.expression(value)
                }
                Field::NameKey { value, .. } => self.expression(value),
                Field::NoKey(value) => self.expression(value),
                _ => None,
            }),
            _ => None,
        }
    }

    fn name(&mut self, name: &TokenReference) -> Option<()> {
        let name = name.token().to_string();
        if name == "_ENV" {
            return None;
        }
        if self.may_have_run {
            self.late.insert(name);
        } else if !self.early.contains(&name) {
            self.early.push(name);
        }
        Some(())
    }

    fn call(&mut self, call: &FunctionCall) -> Option<()> {
        self.path(call.prefix(), call.suffixes())
    }

    fn path<'a>(&mut self, prefix: &Prefix, mut suffixes: impl Iterator<Item = &'a Suffix>) -> Option<()> {
        match prefix {
            Prefix::Name(name) => self.name(name)?,
            Prefix::Expression(expression) => self.expression(expression)?,
            _ => return None,
        }
        suffixes.try_for_each(|suffix| self.suffix(suffix))
    }

    fn suffix(&mut self, suffix: &Suffix) -> Option<()> {
        match suffix {
            Suffix::Index(Index::Dot { .. }) => {}
            Suffix::Index(Index::Brackets { expression, .. }) => self.expression(expression)?,
            Suffix::Call(Call::AnonymousCall(arguments)) => self.arguments(arguments)?,
            Suffix::Call(Call::MethodCall(call)) => {
                // The method is looked up before the arguments are evaluated.
                self.may_have_run = true;
                self.arguments(call.args())?;
            }
            _ => return None,
        }
        self.may_have_run = true;
        Some(())
    }

    fn arguments(&mut self, arguments: &FunctionArgs) -> Option<()> {
        match arguments {
            FunctionArgs::Parentheses { arguments, .. } => {
                arguments.iter().try_for_each(|argument| self.expression(argument))
            }
            FunctionArgs::String(_) => Some(()),
            FunctionArgs::TableConstructor(table) => self.expression(&Expression::TableConstructor(table.clone())),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::early_names;

    #[test]
    fn names_are_early_that_nothing_can_have_changed() {
        for (expression, expected) in [
            ("is_out(i)", "is_out i"),
            ("n", "n"),
            ("a and b or not c", "a b c"),
            // What a call, a metamethod or a field may change is read when its turn comes.
            ("is_out(i) and n > 3", "is_out i"),
            ("f(n) + n", "f"),
            ("a.x + b.y", "a"),
            ("a + b + c", "a b"),
            ("a + b == c", "a b"),
            ("-a < b", "a"),
            ("a == b", "a b"),
            ("boat:moor(n)", "boat"),
            ("t[k][j]", "t k"),
            ("f{a, [b] = c, d = e}", "f a b c e"),
            ("f 'x' .. y", "f"),
            ("f(a, g(b), c)", "f a g b"),
            ("(function() return n end)()", ""),
            ("f(n, function() n = 1 end)", ""),
            ("f(n, ...)", ""),
            ("f(_ENV)", ""),
            ("f(n) and _ENV.x", ""),
            ("n +", ""),
        ] {
            assert_eq!(early_names(expression).join(" "), expected, "{expression}");
        }
    }
}
