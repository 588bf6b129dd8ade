//! Conditions simple enough to be decided without calling into Lua: comparisons of names, fields and constants, with
//! `and`, `or` and `not`. Whatever they cannot tell exactly as Lua would (a metamethod, a comparison that raises) is left
//! to Lua.

use adzeman_core::host::Data;
use adzeman_core::path::{Path, Segment};
use adzeman_core::path::{Root, TreePath};
use full_moon::ast::{BinOp, Expression, Index, Prefix, Suffix, UnOp, Var};
use full_moon::tokenizer::{TokenReference, TokenType};

use crate::ffi::state::{State, Type};
use crate::look::Shown;
use crate::scope::{self, Place, Target, element, number_of, push_captured, push_local};
use crate::text::expressions::with_expression;

/// A condition that was understood.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Quick {
    Value(Operand),
    Compare(Operand, Comparison, Operand),
    And(Box<Quick>, Box<Quick>),
    Or(Box<Quick>, Box<Quick>),
    Not(Box<Quick>),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Operand {
    Constant(Scalar),
    /// A name, and what is behind it.
    Path(String, Path),
}

/// A value that can be compared here.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Scalar {
    Nil,
    Boolean(bool),
    Integer(i64),
    Float(f64),
    Text(Vec<u8>),
    /// True in a condition, and nothing else that is known.
    Other,
}

/// Parts of a condition inside each other: it is decided on the script's own stack. Lua decides what is deeper.
const MOST_LEVELS: usize = 32;

/// Where names are looked up.
#[derive(Clone, Copy)]
pub(crate) enum Scope {
    /// In a function on a stack, and around it.
    Function(Target),
    /// Before any script runs: only the host and the event can be told.
    Boundary,
}

impl Quick {
    /// Understands a condition; `None` for one that only Lua can decide.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        with_expression(text, |expression| condition(expression, MOST_LEVELS)).flatten()
    }

    /// Whether it holds; `None` when only Lua can tell.
    pub(crate) fn holds(&self, shown: &Shown, state: State, scope: Scope) -> Option<bool> {
        match self {
            Self::Value(operand) => Some(is_true(&operand.value(shown, state, scope)?)),
            Self::Not(inner) => inner.holds(shown, state, scope).map(|held| !held),
            Self::And(one, other) => Some(one.holds(shown, state, scope)? && other.holds(shown, state, scope)?),
            Self::Or(one, other) => Some(one.holds(shown, state, scope)? || other.holds(shown, state, scope)?),
            Self::Compare(one, how, other) => {
                compare(&one.value(shown, state, scope)?, *how, &other.value(shown, state, scope)?)
            }
        }
    }
}

fn is_true(value: &Scalar) -> bool {
    !matches!(value, Scalar::Nil | Scalar::Boolean(false))
}

fn compare(one: &Scalar, how: Comparison, other: &Scalar) -> Option<bool> {
    use Comparison::{Equal, Greater, GreaterOrEqual, Less, LessOrEqual, NotEqual};
    if matches!(how, Equal | NotEqual) {
        return equal(one, other).map(|equal| equal == (how == Equal));
    }
    let order = match (one, other) {
        (Scalar::Integer(a), Scalar::Integer(b)) => Some(a.cmp(b)),
        _ => float(one)?.partial_cmp(&float(other)?),
    };
    // No order, as with what is no number, is false in each comparison.
    Some(order.is_some_and(|order| match how {
        Less => order.is_lt(),
        LessOrEqual => order.is_le(),
        Greater => order.is_gt(),
        GreaterOrEqual => order.is_ge(),
        Equal | NotEqual => false,
    }))
}

fn equal(one: &Scalar, other: &Scalar) -> Option<bool> {
    match (one, other) {
        (Scalar::Other, Scalar::Other) => None,
        (Scalar::Integer(a), Scalar::Integer(b)) => Some(a == b),
        (Scalar::Integer(_) | Scalar::Float(_), Scalar::Integer(_) | Scalar::Float(_)) => {
            Some(float(one)? == float(other)?)
        }
        (a, b) => Some(a == b),
    }
}

/// As a float, where that is exact.
fn float(value: &Scalar) -> Option<f64> {
    const EXACT: u64 = 1 << 53;
    match value {
        Scalar::Float(float) => Some(*float),
        #[expect(clippy::cast_precision_loss, reason = "whole numbers of this size are exact")]
        Scalar::Integer(integer) if integer.unsigned_abs() <= EXACT => Some(*integer as f64),
        _ => None,
    }
}

impl Operand {
    fn value(&self, shown: &Shown, state: State, scope: Scope) -> Option<Scalar> {
        let (name, path) = match self {
            Self::Constant(value) => return Some(value.clone()),
            Self::Path(name, path) => (name, path),
        };
        let place = match scope {
            Scope::Function(target) => scope::place_of(Some(target), name),
            Scope::Boundary => Place::Global,
        };
        match (place, name.as_str()) {
            (Place::Global, "event" | "host") => {
                let target = match scope {
                    Scope::Function(target) => Some(target),
                    Scope::Boundary => None,
                };
                // A name that scripts made comes first.
                let root = if name == "event" { Root::Event } else { Root::Host };
                (!scope::is_global(shown.main(), target, name)).then(|| of_tree(shown, root, path)).flatten()
            }
            (Place::Global, _) => None,
            (place, _) => {
                let top = state.top();
                match place {
                    Place::Local(at, number) => push_local(at, number, state),
                    Place::Captured(at, number) => push_captured(at, number, state),
                    Place::Global => return None,
                }
                let found = (state.top() > top).then(|| of_value(state, path)).flatten();
                state.cut_to(top);
                found
            }
        }
    }
}

/// What a path leads to from the value on top, as long as no metamethod could have a say.
fn of_value(state: State, path: &Path) -> Option<Scalar> {
    for segment in path.segments() {
        if state.type_at(-1) != Type::Table {
            return None;
        }
        let has_metatable = state.push_metatable(-1);
        if has_metatable {
            state.pop(1);
        }
        match segment {
            Segment::Field(name) => state.raw_get_field(-1, name).ok()?,
            Segment::Index(index) => state.raw_get_index(-1, number_of(*index)),
            Segment::At(_) => return None,
        }
        if has_metatable && state.type_at(-1) == Type::Nil {
            return None;
        }
    }
    Some(match state.type_at(-1) {
        Type::Nil | Type::None => Scalar::Nil,
        Type::Boolean => Scalar::Boolean(state.bool_at(-1)),
        Type::Integer => Scalar::Integer(state.integer_at(-1)?),
        Type::Float => Scalar::Float(state.float_at(-1)?),
        Type::String => Scalar::Text(state.with_bytes(-1, <[u8]>::to_vec)?),
        _ => Scalar::Other,
    })
}

fn of_tree(shown: &Shown, root: Root, path: &Path) -> Option<Scalar> {
    if root == Root::Event && !shown.host().has_event() {
        return None;
    }
    Some(match shown.host().get(&TreePath { root, path: path.clone() }).ok()? {
        Data::Null => Scalar::Nil,
        Data::Boolean(value) => Scalar::Boolean(value),
        Data::Number(number) => match number.as_i64() {
            Some(integer) => Scalar::Integer(integer),
            None => Scalar::Float(number.as_f64()?),
        },
        Data::Text(text) => Scalar::Text(text.into_bytes()),
        Data::List(_) | Data::Object(_) | Data::Secret | Data::Unreadable(_) => Scalar::Other,
    })
}

/// `levels` is how many may be inside each other.
fn condition(expression: &Expression, levels: usize) -> Option<Quick> {
    let levels = levels.checked_sub(1)?;
    match expression {
        Expression::Parentheses { expression, .. } => condition(expression, levels),
        Expression::UnaryOperator { unop: UnOp::Not(_), expression } => {
            Some(Quick::Not(Box::new(condition(expression, levels)?)))
        }
        Expression::BinaryOperator { lhs, binop, rhs } => {
            let both = || Some((Box::new(condition(lhs, levels)?), Box::new(condition(rhs, levels)?)));
            match binop {
                BinOp::And(_) => both().map(|(one, other)| Quick::And(one, other)),
                BinOp::Or(_) => both().map(|(one, other)| Quick::Or(one, other)),
                other => Some(Quick::Compare(operand(lhs)?, comparison(other)?, operand(rhs)?)),
            }
        }
        other => operand(other).map(Quick::Value),
    }
}

fn comparison(operator: &BinOp) -> Option<Comparison> {
    Some(match operator {
        BinOp::TwoEqual(_) => Comparison::Equal,
        BinOp::TildeEqual(_) => Comparison::NotEqual,
        BinOp::LessThan(_) => Comparison::Less,
        BinOp::LessThanEqual(_) => Comparison::LessOrEqual,
        BinOp::GreaterThan(_) => Comparison::Greater,
        BinOp::GreaterThanEqual(_) => Comparison::GreaterOrEqual,
        _ => return None,
    })
}

fn operand(expression: &Expression) -> Option<Operand> {
    match expression {
        Expression::Parentheses { expression, .. } => operand(expression),
        Expression::UnaryOperator { unop: UnOp::Minus(_), expression } => match operand(expression)? {
            Operand::Constant(Scalar::Integer(number)) => {
                Some(Operand::Constant(Scalar::Integer(number.checked_neg()?)))
            }
            Operand::Constant(Scalar::Float(number)) => Some(Operand::Constant(Scalar::Float(-number))),
            _ => None,
        },
        Expression::Number(token) => number(&text(token)).map(Operand::Constant),
        Expression::String(token) => string(token).map(Operand::Constant),
        Expression::Symbol(token) => match text(token).as_str() {
            "nil" => Some(Operand::Constant(Scalar::Nil)),
            "true" => Some(Operand::Constant(Scalar::Boolean(true))),
            "false" => Some(Operand::Constant(Scalar::Boolean(false))),
            _ => None,
        },
        Expression::Var(Var::Name(token)) => Some(Operand::Path(text(token), Path::default())),
        Expression::Var(Var::Expression(path)) => {
            let Prefix::Name(name) = path.prefix() else { return None };
            let steps = path.suffixes().map(|suffix| match suffix {
                Suffix::Index(Index::Dot { name, .. }) => Some(Segment::Field(text(name))),
                Suffix::Index(Index::Brackets { expression, .. }) => match operand(expression)? {
                    Operand::Constant(Scalar::Integer(number)) => Some(element(number)),
                    Operand::Constant(Scalar::Text(name)) => String::from_utf8(name).ok().map(Segment::Field),
                    _ => None,
                },
                _ => None,
            });
            Some(Operand::Path(text(name), steps.collect::<Option<_>>()?))
        }
        _ => None,
    }
}

fn text(token: &TokenReference) -> String {
    token.token().to_string()
}

/// Decimal numbers; others are left to Lua.
fn number(text: &str) -> Option<Scalar> {
    if text.starts_with("0x") || text.starts_with("0X") {
        return None;
    }
    text.parse().map(Scalar::Integer).or_else(|_| text.parse().map(Scalar::Float)).ok()
}

/// Short texts without escapes; others are left to Lua.
fn string(token: &TokenReference) -> Option<Scalar> {
    match token.token().token_type() {
        TokenType::StringLiteral { literal, multi_line_depth: 0, .. } if !literal.contains(['\\', '\n']) => {
            let is_short = text(token).starts_with(['"', '\'']);
            is_short.then(|| Scalar::Text(literal.as_bytes().to_vec()))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(name: &str, fields: &[&str]) -> Operand {
        Operand::Path(name.to_owned(), fields.iter().map(|field| Segment::Field((*field).to_owned())).collect())
    }

    #[test]
    fn comparisons_of_names_fields_and_constants_are_understood() {
        let found = Quick::parse("event.boat and not (lock.level >= -2.5)").unwrap();
        let level = Quick::Compare(
            path("lock", &["level"]),
            Comparison::GreaterOrEqual,
            Operand::Constant(Scalar::Float(-2.5)),
        );
        let expected =
            Quick::And(Box::new(Quick::Value(path("event", &["boat"]))), Box::new(Quick::Not(Box::new(level))));
        assert_eq!(found, expected);
        let text = Quick::parse("kind == 'passage'").unwrap();
        let constant = Operand::Constant(Scalar::Text(b"passage".to_vec()));
        assert_eq!(text, Quick::Compare(path("kind", &[]), Comparison::Equal, constant));
    }

    #[test]
    fn the_rest_is_left_to_lua() {
        for text in
            ["f(x)", "x + 1 > 2", "#t > 3", "x == 0x10", "a.b:c()", "'a\\n' == x", "x,", "x y", "1, 2", "...", ""]
        {
            assert_eq!(Quick::parse(text), None, "{text}");
        }
    }

    #[test]
    fn comparing_is_as_in_lua_or_left_to_it() {
        use Comparison::{Equal, Greater, Less, NotEqual};
        let (one, two) = (Scalar::Integer(1), Scalar::Float(2.0));
        assert_eq!(compare(&one, Less, &two), Some(true));
        assert_eq!(compare(&one, Equal, &Scalar::Float(1.0)), Some(true));
        assert_eq!(compare(&Scalar::Integer(i64::MAX), Equal, &two), None, "not exact as a float");
        assert_eq!(compare(&Scalar::Float(f64::NAN), Greater, &one), Some(false));
        assert_eq!(compare(&Scalar::Float(f64::NAN), NotEqual, &Scalar::Float(f64::NAN)), Some(true));
        assert_eq!(compare(&Scalar::Nil, Less, &one), None, "raises in Lua");
        assert_eq!(compare(&Scalar::Text(b"1".to_vec()), Equal, &one), Some(false));
        assert_eq!(compare(&Scalar::Other, Equal, &Scalar::Other), None, "two tables may be the same");
    }
}
