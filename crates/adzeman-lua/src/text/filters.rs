//! Conditions in the script's own text: where a breakpoint's condition speaks of local variables, a filter goes in front of
//! the call that reports the line, so that a condition that does not hold costs what an `if` costs.
//!
//! A filter only says when a line need *not* be reported: where it is false, the condition is false as well, and could not
//! have failed. Everything else is decided by the condition itself, after the call. So a filter must neither raise nor run
//! anything of the script. Lua compares and calculates with numbers without either, and hands everything else on to
//! metamethods by the instruction behind (`lvm.c`, `op_arith`); that instruction is made a jump to the call instead
//! ([`jumps`](crate::dialect::jumps)). Comparisons have no such instruction, so `x < 5` is written as `(x + 0) < 5`.

use full_moon::ast::{BinOp, Expression, UnOp, Var};
use full_moon::tokenizer::TokenReference;

use super::expressions::with_expression;

/// What is put in front of a call: one of these must hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Filter {
    /// The parts of each that must all hold.
    either: Vec<Vec<String>>,
}

impl Filter {
    /// For a condition; `None` for one that has to be decided by itself each time.
    pub(crate) fn of(condition: &str) -> Option<Self> {
        let parts = with_expression(condition, |expression| {
            let mut parts = Vec::new();
            add_parts(expression, &mut parts);
            parts
        })?;
        // A text of several lines would move those below it.
        let is_one_line = parts.iter().all(|part| !part.contains(['\n', '\r']));
        (is_one_line && !parts.is_empty()).then(|| Self { either: vec![parts] })
    }

    /// One for several breakpoints of a line.
    pub(crate) fn any(filters: impl Iterator<Item = Option<Self>>) -> Option<Self> {
        let either: Vec<_> = filters.map(|filter| Some(filter?.either)).collect::<Option<_>>()?;
        (!either.is_empty()).then(|| Self { either: either.concat() })
    }

    /// Lets more through: leaves out the last part of each that has more than one. False if nothing could be left out.
    pub(crate) fn weaken(&mut self) -> bool {
        let longer = self.either.iter_mut().filter(|parts| parts.len() > 1);
        longer.map(Vec::pop).count() > 0
    }

    /// As an expression of Lua.
    pub(crate) fn text(&self) -> String {
        self.either.iter().map(|parts| parts.join(" and ")).collect::<Vec<_>>().join(" or ")
    }
}

/// Adds parts that are all true whenever the expression is true, or fails; answers whether that is all there is to it, so
/// that a part to the right cannot hide that one to the left fails.
fn add_parts(expression: &Expression, parts: &mut Vec<String>) -> bool {
    match expression {
        Expression::Parentheses { expression, .. } => add_parts(expression, parts),
        Expression::BinaryOperator { lhs, binop: BinOp::And(_), rhs } => add_parts(lhs, parts) && add_parts(rhs, parts),
        other => match exact(other) {
            Some(part) => {
                parts.push(part);
                true
            }
            None => {
                parts.extend(either(other));
                false
            }
        },
    }
}

/// What is true whenever one of two sides is true, or fails.
fn either(expression: &Expression) -> Option<String> {
    let Expression::BinaryOperator { lhs, binop: BinOp::Or(_), rhs } = expression else { return None };
    let side = |side: &Expression| {
        let mut parts = Vec::new();
        add_parts(side, &mut parts);
        (!parts.is_empty()).then(|| parts.join(" and "))
    };
    Some(format!("({} or {})", side(lhs)?, side(rhs)?))
}

/// The expression itself, where all that can fail goes to the call.
fn exact(expression: &Expression) -> Option<String> {
    match expression {
        Expression::Parentheses { expression, .. } => exact(expression),
        Expression::UnaryOperator { unop: UnOp::Not(_), expression } => Some(format!("(not {})", exact(expression)?)),
        Expression::BinaryOperator { lhs, binop: BinOp::And(_), rhs } => {
            Some(format!("({} and {})", exact(lhs)?, exact(rhs)?))
        }
        Expression::BinaryOperator { lhs, binop: BinOp::Or(_), rhs } => {
            Some(format!("({} or {})", exact(lhs)?, exact(rhs)?))
        }
        Expression::BinaryOperator { lhs, binop, rhs } => comparison(lhs, binop, rhs).or_else(|| number(expression)),
        Expression::Var(Var::Name(name)) => Some(text(name)),
        other => literal(other).or_else(|| number(other)),
    }
}

fn comparison(lhs: &Expression, how: &BinOp, rhs: &Expression) -> Option<String> {
    let sign = match how {
        BinOp::TwoEqual(_) => "==",
        BinOp::TildeEqual(_) => "~=",
        BinOp::LessThan(_) => "<",
        BinOp::LessThanEqual(_) => "<=",
        BinOp::GreaterThan(_) => ">",
        BinOp::GreaterThanEqual(_) => ">=",
        _ => return None,
    };
    let is_equality = matches!(how, BinOp::TwoEqual(_) | BinOp::TildeEqual(_));
    // A constant that is no table has no metamethod, whatever it is compared with.
    let plain = match (lhs, rhs) {
        (Expression::Var(Var::Name(name)), other) if is_equality => literal(other).map(|held| (text(name), held)),
        (other, Expression::Var(Var::Name(name))) if is_equality => literal(other).map(|held| (held, text(name))),
        _ => None,
    };
    let (left, right) = match plain {
        Some(sides) => sides,
        None => (side(lhs)?, side(rhs)?),
    };
    Some(format!("({left} {sign} {right})"))
}

/// One side of a comparison of numbers.
fn side(expression: &Expression) -> Option<String> {
    match expression {
        Expression::Parentheses { expression, .. } => side(expression),
        Expression::Var(Var::Name(name)) => Some(format!("({} + 0)", text(name))),
        other => number(other),
    }
}

/// A calculation with numbers.
fn number(expression: &Expression) -> Option<String> {
    match expression {
        Expression::Number(token) => Some(text(token)),
        Expression::Parentheses { expression, .. } => number(expression),
        Expression::UnaryOperator { unop: UnOp::Minus(_), expression } => match &**expression {
            Expression::Number(token) => Some(format!("(-{})", text(token))),
            _ => None,
        },
        Expression::BinaryOperator { lhs, binop, rhs } => {
            let sign = match binop {
                BinOp::Plus(_) => "+",
                BinOp::Minus(_) => "-",
                BinOp::Star(_) => "*",
                BinOp::Slash(_) => "/",
                // Whole numbers cannot be divided by zero.
                BinOp::Percent(_) if is_above_zero(rhs) => "%",
                BinOp::DoubleSlash(_) if is_above_zero(rhs) => "//",
                _ => return None,
            };
            Some(format!("({} {sign} {})", term(lhs)?, term(rhs)?))
        }
        _ => None,
    }
}

/// A name can stand in a calculation as it is.
fn term(expression: &Expression) -> Option<String> {
    match expression {
        Expression::Var(Var::Name(name)) => Some(text(name)),
        other => number(other),
    }
}

fn is_above_zero(expression: &Expression) -> bool {
    matches!(expression, Expression::Number(token) if text(token).parse::<f64>().is_ok_and(|number| number >= 1.0))
}

/// `nil`, a truth value, a number or a text.
fn literal(expression: &Expression) -> Option<String> {
    match expression {
        Expression::Number(token) | Expression::String(token) => Some(text(token)),
        Expression::Symbol(token) => Some(text(token)).filter(|word| word != "..."),
        _ => None,
    }
}

fn text(token: &TokenReference) -> String {
    token.token().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_fail_is_guarded_or_left_out() {
        for (condition, expected) in [
            ("s < 0", "((s + 0) < 0)"),
            ("n % 100 == 0 and ok", "((n % 100) == 0) and ok"),
            ("name == 'upper'", "(name == 'upper')"),
            ("nil ~= x or not (a >= b)", "((nil ~= x) or (not ((a + 0) >= (b + 0))))"),
            ("x * 2 - y > -1.5", "(((x * 2) - y) > (-1.5))"),
            // The part that cannot be told is left to the condition itself.
            ("s < 0 and t.level > 1", "((s + 0) < 0)"),
            ("a and t.b and c", "a"),
            ("a and (b or f())", "a"),
            ("a and (b and t.x or c)", "a and (b or c)"),
        ] {
            assert_eq!(Filter::of(condition).map(|filter| filter.text()).as_deref(), Some(expected), "{condition}");
        }
        assert_eq!(Filter::of("x == 1 -- a remark").map(|filter| filter.text()).as_deref(), Some("(x == 1)"));
        for condition in
            ["a == [[b\n]]", "t.level > 1", "t.b and a", "f(x)", "a or f()", "#t > 3", "-x > 2", "x // y > 1", "a .. b"]
        {
            assert_eq!(Filter::of(condition), None, "{condition}");
        }
    }

    #[test]
    fn a_filter_is_weakened_part_by_part() {
        let two = ["a and b < 1 and c", "d"].map(Filter::of);
        let mut filter = Filter::any(two.into_iter()).unwrap();
        assert_eq!(filter.text(), "a and ((b + 0) < 1) and c or d");
        assert!(filter.weaken() && filter.weaken());
        assert_eq!(filter.text(), "a or d");
        assert!(!filter.weaken());
        assert_eq!(Filter::any([Filter::of("a"), None].into_iter()), None, "one of them has to be asked each time");
    }
}
