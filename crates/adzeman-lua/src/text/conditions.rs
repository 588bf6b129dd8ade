//! What the text of a condition says, as far as anything but Lua can tell: names and what is behind them, constants,
//! calculations, comparisons, `and`, `or`, `not`. From this, conditions are put into the script's own text
//! ([`filters`](super::filters)) and decided apart from it ([`holds`](crate::evaluate::holds)).

use adzeman_core::path::{Path, Segment};
use full_moon::ast::{BinOp, Expression, Index, Prefix, Suffix, UnOp, Var};
use full_moon::tokenizer::{TokenReference, TokenType};

use super::element;
use super::expressions::with_expression;

/// A condition, or a part of one.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Condition {
    /// Holds unless it is `nil` or `false`.
    Value(Operand),
    Compare(Operand, Comparison, Operand),
    /// All of these, in this order.
    And(Vec<Condition>),
    /// One of these, in this order.
    Or(Vec<Condition>),
    Not(Box<Condition>),
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

/// A value in a condition. Texts are as they are written, or mean the same.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Operand {
    /// A number; its value is known where it is written in the usual way.
    Number { text: String, value: Option<Scalar> },
    /// `nil`, a truth value or a text; its value is known where nothing stands for something else in it.
    Literal { text: String, value: Option<Scalar> },
    /// A name, and what is behind it.
    Path(String, Path),
    /// A calculation, by the sign that Lua has for it.
    Calculation(Box<Operand>, &'static str, Box<Operand>),
    /// What only Lua can tell.
    Other,
}

/// A value that can be compared.
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

/// Parts of a condition inside each other: it is decided on the script's own stack. What is deeper is left to Lua.
const MOST_LEVELS: usize = 32;

impl Condition {
    /// Reads a condition; `None` for a text that is no expression.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        with_expression(text, |expression| condition(expression, MOST_LEVELS))
    }
}

impl Comparison {
    /// As Lua writes it.
    pub(crate) fn sign(self) -> &'static str {
        match self {
            Self::Equal => "==",
            Self::NotEqual => "~=",
            Self::Less => "<",
            Self::LessOrEqual => "<=",
            Self::Greater => ">",
            Self::GreaterOrEqual => ">=",
        }
    }

    /// Whether it asks for the same or not, and for no order.
    pub(crate) fn is_equality(self) -> bool {
        matches!(self, Self::Equal | Self::NotEqual)
    }

    fn of(operator: &BinOp) -> Option<Self> {
        Some(match operator {
            BinOp::TwoEqual(_) => Self::Equal,
            BinOp::TildeEqual(_) => Self::NotEqual,
            BinOp::LessThan(_) => Self::Less,
            BinOp::LessThanEqual(_) => Self::LessOrEqual,
            BinOp::GreaterThan(_) => Self::Greater,
            BinOp::GreaterThanEqual(_) => Self::GreaterOrEqual,
            _ => return None,
        })
    }
}

/// `levels` is how many may be inside each other.
fn condition(expression: &Expression, levels: usize) -> Condition {
    let Some(levels) = levels.checked_sub(1) else { return Condition::Value(Operand::Other) };
    let chain = |is_link: fn(&BinOp) -> bool| {
        let links = links(expression, is_link);
        links.into_iter().map(|link| condition(link, levels)).collect()
    };
    match expression {
        Expression::Parentheses { expression, .. } => condition(expression, levels),
        Expression::UnaryOperator { unop: UnOp::Not(_), expression } => {
            Condition::Not(Box::new(condition(expression, levels)))
        }
        Expression::BinaryOperator { binop: BinOp::And(_), .. } => {
            Condition::And(chain(|operator| matches!(operator, BinOp::And(_))))
        }
        Expression::BinaryOperator { binop: BinOp::Or(_), .. } => {
            Condition::Or(chain(|operator| matches!(operator, BinOp::Or(_))))
        }
        Expression::BinaryOperator { lhs, binop, rhs } => match Comparison::of(binop) {
            Some(how) => Condition::Compare(operand(lhs, levels), how, operand(rhs, levels)),
            None => Condition::Value(operand(expression, levels)),
        },
        other => Condition::Value(operand(other, levels)),
    }
}

/// The links of a chain of one operator, which nests to the left.
fn links(expression: &Expression, is_link: fn(&BinOp) -> bool) -> Vec<&Expression> {
    let (mut links, mut rest) = (Vec::new(), expression);
    while let Expression::BinaryOperator { lhs, binop, rhs } = rest
        && is_link(binop)
    {
        links.push(&**rhs);
        rest = lhs;
    }
    links.push(rest);
    links.reverse();
    links
}

fn operand(expression: &Expression, levels: usize) -> Operand {
    let Some(levels) = levels.checked_sub(1) else { return Operand::Other };
    match expression {
        Expression::Parentheses { expression, .. } => operand(expression, levels),
        Expression::UnaryOperator { unop: UnOp::Minus(_), expression } => negated(operand(expression, levels)),
        Expression::BinaryOperator { lhs, binop, rhs } => match sign(binop) {
            Some(sign) => Operand::Calculation(Box::new(operand(lhs, levels)), sign, Box::new(operand(rhs, levels))),
            None => Operand::Other,
        },
        Expression::Number(token) => Operand::Number { value: number(&text(token)), text: text(token) },
        Expression::String(token) => Operand::Literal { value: string(token), text: text(token) },
        Expression::Symbol(token) => match text(token).as_str() {
            "nil" => literal("nil", Scalar::Nil),
            "true" => literal("true", Scalar::Boolean(true)),
            "false" => literal("false", Scalar::Boolean(false)),
            _ => Operand::Other,
        },
        Expression::Var(Var::Name(token)) => Operand::Path(text(token), Path::default()),
        Expression::Var(Var::Expression(path)) => match (path.prefix(), steps(path.suffixes())) {
            (Prefix::Name(name), Some(steps)) => Operand::Path(text(name), steps),
            _ => Operand::Other,
        },
        _ => Operand::Other,
    }
}

fn literal(text: &str, value: Scalar) -> Operand {
    Operand::Literal { text: text.to_owned(), value: Some(value) }
}

fn negated(operand: Operand) -> Operand {
    let Operand::Number { text, value } = operand else { return Operand::Other };
    let value = match value {
        Some(Scalar::Integer(number)) => number.checked_neg().map(Scalar::Integer),
        Some(Scalar::Float(number)) => Some(Scalar::Float(-number)),
        _ => None,
    };
    Operand::Number { text: format!("(-{text})"), value }
}

fn sign(operator: &BinOp) -> Option<&'static str> {
    Some(match operator {
        BinOp::Plus(_) => "+",
        BinOp::Minus(_) => "-",
        BinOp::Star(_) => "*",
        BinOp::Slash(_) => "/",
        BinOp::Percent(_) => "%",
        BinOp::DoubleSlash(_) => "//",
        _ => return None,
    })
}

/// What is behind a name; `None` where something of it is only known when it runs.
fn steps<'a>(suffixes: impl Iterator<Item = &'a Suffix>) -> Option<Path> {
    let step = |suffix: &Suffix| match suffix {
        Suffix::Index(Index::Dot { name, .. }) => Some(Segment::Field(text(name))),
        Suffix::Index(Index::Brackets { expression, .. }) => match operand(expression, 2) {
            Operand::Number { value: Some(Scalar::Integer(number)), .. } => Some(element(number)),
            Operand::Literal { value: Some(Scalar::Text(name)), .. } => {
                String::from_utf8(name).ok().map(Segment::Field)
            }
            Operand::Path(name, path) => Some(Segment::At(
                std::iter::once(Segment::Field(name)).chain(path.segments().iter().cloned()).collect(),
            )),
            _ => None,
        },
        _ => None,
    };
    suffixes.map(step).collect()
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
        let found = Condition::parse("event.boat and not (lock.level >= -2.5)").unwrap();
        let least = Operand::Number { text: "(-2.5)".to_owned(), value: Some(Scalar::Float(-2.5)) };
        let level = Condition::Compare(path("lock", &["level"]), Comparison::GreaterOrEqual, least);
        let expected =
            Condition::And(vec![Condition::Value(path("event", &["boat"])), Condition::Not(Box::new(level))]);
        assert_eq!(found, expected);
        let text = Condition::parse("kind == 'passage'").unwrap();
        let value = Some(Scalar::Text(b"passage".to_vec()));
        let constant = Operand::Literal { text: "'passage'".to_owned(), value };
        assert_eq!(text, Condition::Compare(path("kind", &[]), Comparison::Equal, constant));
    }

    #[test]
    fn what_only_lua_can_tell_is_said_so_where_it_stands() {
        for text in ["f(x)", "#t", "a.b:c()", "...", "a .. b", "-x", "t[f(i)]", "function() end", "{}"] {
            assert_eq!(Condition::parse(text), Some(Condition::Value(Operand::Other)), "{text}");
        }
        let Some(Condition::And(parts)) = Condition::parse("x and f(x) and y") else { panic!("a chain") };
        assert_eq!(parts[1], Condition::Value(Operand::Other));
        assert_eq!(parts[2], Condition::Value(path("y", &[])));
        let Some(Condition::Value(Operand::Number { value: None, .. })) = Condition::parse("0x10") else { panic!() };
        for text in ["x,", "x y", "1, 2", ""] {
            assert_eq!(Condition::parse(text), None, "{text}");
        }
    }

    #[test]
    fn what_is_compared_is_known_or_left_to_lua() {
        for text in ["x + 1 > 2", "#t > 3", "x == 0x10", "'a\\n' == x"] {
            let Some(Condition::Compare(one, _, other)) = Condition::parse(text) else { panic!("{text}") };
            let is_left = |operand: &Operand| match operand {
                Operand::Number { value, .. } | Operand::Literal { value, .. } => value.is_none(),
                Operand::Path(..) => false,
                Operand::Calculation(..) | Operand::Other => true,
            };
            assert!([&one, &other].into_iter().any(is_left), "{text}");
        }
    }

    #[test]
    fn long_chains_are_no_deep_ones() {
        let chain = vec!["x == 1"; 1000].join(" and ");
        let Some(Condition::And(parts)) = Condition::parse(&chain) else { panic!("a chain") };
        assert_eq!((parts.len(), parts[999].clone()), (1000, Condition::parse("x == 1").unwrap()));
        let deep = format!("{}x{}", "not (".repeat(40), ")".repeat(40));
        let mut inner = Condition::parse(&deep).unwrap();
        while let Condition::Not(next) = inner {
            inner = *next;
        }
        assert_eq!(inner, Condition::Value(Operand::Other));
    }
}
