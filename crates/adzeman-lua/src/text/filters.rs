//! Conditions in the script's own text: where a breakpoint's condition speaks of local variables, a filter goes in front of
//! the call that reports the line, so that a condition that does not hold costs what an `if` costs.
//!
//! A filter only says when a line need *not* be reported: where it is false, the condition is false as well, and could not
//! have failed. Everything else is decided by the condition itself, after the call. So a filter must neither raise nor run
//! anything of the script. Lua compares and calculates with numbers without either, and hands everything else on to
//! metamethods by the instruction behind (`lvm.c`, `op_arith`); that instruction is made a jump to the call instead
//! ([`jumps`](crate::dialect::jumps)). Comparisons have no such instruction, so `x < 5` is written as `(x + 0) < 5`.

use super::conditions::{Comparison, Condition, Operand, Scalar};

/// What is put in front of a call: one of these must hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Filter {
    /// The parts of each that must all hold.
    either: Vec<Vec<String>>,
}

impl Filter {
    /// For a condition; `None` for one that has to be decided by itself each time.
    pub(crate) fn of(condition: &str) -> Option<Self> {
        let mut parts = Vec::new();
        add_parts(&Condition::parse(condition)?, &mut parts);
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

/// Adds parts that are all true whenever the condition is true, or fails; answers whether that is all there is to it, so
/// that a part to the right cannot hide that one to the left fails.
fn add_parts(condition: &Condition, parts: &mut Vec<String>) -> bool {
    if let Condition::And(all) = condition {
        return all.iter().all(|part| add_parts(part, parts));
    }
    let exact = exact(condition);
    let is_exact = exact.is_some();
    parts.extend(exact.or_else(|| either(condition)));
    is_exact
}

/// What is true whenever one of several is true, or fails.
fn either(condition: &Condition) -> Option<String> {
    let Condition::Or(any) = condition else { return None };
    let side = |side: &Condition| {
        let mut parts = Vec::new();
        add_parts(side, &mut parts);
        (!parts.is_empty()).then(|| parts.join(" and "))
    };
    Some(format!("({})", any.iter().map(side).collect::<Option<Vec<_>>>()?.join(" or ")))
}

/// The condition itself, where all that can fail goes to the call.
fn exact(condition: &Condition) -> Option<String> {
    let chain = |parts: &[Condition], sign: &str| {
        Some(format!("({})", parts.iter().map(exact).collect::<Option<Vec<_>>>()?.join(sign)))
    };
    match condition {
        Condition::Not(inner) => Some(format!("(not {})", exact(inner)?)),
        Condition::And(all) => chain(all, " and "),
        Condition::Or(any) => chain(any, " or "),
        Condition::Compare(lhs, how, rhs) => comparison(lhs, *how, rhs),
        Condition::Value(operand) => name(operand).or_else(|| constant(operand)).or_else(|| number(operand)),
    }
}

fn comparison(lhs: &Operand, how: Comparison, rhs: &Operand) -> Option<String> {
    // A constant that is no table has no metamethod, whatever it is compared with.
    let plain =
        if how.is_equality() { name(lhs).zip(constant(rhs)).or_else(|| constant(lhs).zip(name(rhs))) } else { None };
    let (left, right) = match plain {
        Some(sides) => sides,
        None => (side(lhs)?, side(rhs)?),
    };
    Some(format!("({left} {} {right})", how.sign()))
}

/// One side of a comparison of numbers.
fn side(operand: &Operand) -> Option<String> {
    name(operand).map(|name| format!("({name} + 0)")).or_else(|| number(operand))
}

/// A calculation with numbers.
fn number(operand: &Operand) -> Option<String> {
    match operand {
        Operand::Number { text, .. } => Some(text.clone()),
        // Whole numbers cannot be divided by zero.
        Operand::Calculation(_, "%" | "//", rhs) if !is_above_zero(rhs) => None,
        Operand::Calculation(lhs, sign, rhs) => Some(format!("({} {sign} {})", term(lhs)?, term(rhs)?)),
        _ => None,
    }
}

/// A name can stand in a calculation as it is.
fn term(operand: &Operand) -> Option<String> {
    name(operand).or_else(|| number(operand))
}

fn is_above_zero(operand: &Operand) -> bool {
    let Operand::Number { value, .. } = operand else { return false };
    match value {
        Some(Scalar::Integer(number)) => *number >= 1,
        Some(Scalar::Float(number)) => *number >= 1.0,
        _ => false,
    }
}

/// A name with nothing behind it.
fn name(operand: &Operand) -> Option<String> {
    match operand {
        Operand::Path(name, path) if path.is_empty() => Some(name.clone()),
        _ => None,
    }
}

/// `nil`, a truth value, a number or a text.
fn constant(operand: &Operand) -> Option<String> {
    match operand {
        Operand::Number { text, .. } | Operand::Literal { text, .. } => Some(text.clone()),
        _ => None,
    }
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
            ("x == -1.5 or y or z", "((x == (-1.5)) or y or z)"),
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
