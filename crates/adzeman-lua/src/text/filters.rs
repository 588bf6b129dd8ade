//! Conditions in the script's own text: where a breakpoint's condition speaks of variables, of fields of plain tables and of the host's
//! data, a filter goes in front of the call that reports the line, so that a condition that does not hold costs what an `if` costs.
//!
//! A filter only says when a line need *not* be reported: where it is false, the condition is false as well, and could not
//! have failed. Everything else is decided by the condition itself, after the call. So a filter must neither raise nor run
//! anything of the script:
//!
//! - Lua compares and calculates with numbers without either, and hands everything else on to metamethods by the instruction
//!   behind (`lvm.c`, `op_arith`); that instruction is made a jump to the call instead
//!   ([`patches`](crate::dialect::patches)). Comparisons have no such instruction, so `x < 5` is written as `(x + 0) < 5`.
//! - A field is read by a native function ([`asked`](crate::ffi::asked)), which answers nil where the value is not there to be read
//!   raw. What it answers is calculated with, so that nil leads to the call at once, whatever stands behind. Where a field is only
//!   to be true, or equal to a constant, the function answers 1 or 0.
//! - Before Lua 5.4 no instruction stands behind a calculation, which runs metamethods, or raises, by itself. There nothing is calculated
//!   with: a variable is only to be true, or equal to a constant; and a field only where nothing stands behind, so that what cannot be told
//!   of it leads to the call as well.
//! - A hit rule counts the times that are no hits.
//! - A name is a variable, or else a global, which is a field of `_ENV`. Which it is, the compiler tells: a filter begins by taking
//!   each for a variable, and [learns](Filter::is_global). A function that uses no globals has no `_ENV`: what it would see is handed
//!   out by a native function.

use std::collections::BTreeSet;
use std::sync::Arc;

use adzeman_core::breakpoint::{Idle, Passing, TrackId};
use adzeman_core::path::{Path, Root, Segment, TreePath};
use adzeman_core::source::NameUse;

use super::conditions::{Comparison, Condition, Operand, Scalar};
use super::counted::Counted;
use super::host_paths;
use super::number_of;
use crate::dialect::natives::Natives;
use crate::dialect::{Dialect as _, Version};

/// What is put in front of a call: one of these must hold.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct Filter {
    either: Vec<Alternative>,
    /// What may name a watched value.
    named: Vec<(TrackId, Vec<Operand>)>,
    /// A hit rule, of which each time that it is asked is one that its line is reached. So it is asked last.
    counted: Option<HitRule>,
    names: Names,
}

/// A hit rule, with the number by which bodies count it once they are made.
#[derive(Debug, Clone)]
struct HitRule {
    passing: Passing,
    numbered: Option<Arc<Counted>>,
}

impl PartialEq for HitRule {
    fn eq(&self, other: &Self) -> bool {
        self.passing == other.passing
    }
}

/// A condition, as the parts that must all hold, without the last ones of them that are left out.
#[derive(Debug, Clone, PartialEq)]
struct Alternative {
    condition: Arc<Condition>,
    left_out: usize,
}

/// What is known of the names in a filter.
#[derive(Debug, Clone, PartialEq, Default)]
struct Names {
    globals: BTreeSet<String>,
    /// Whether the function has no `_ENV` to read them from.
    lacks_environment: bool,
}

impl Filter {
    /// For a breakpoint that needs no report where this is so; `None` where only who decides can tell.
    pub(crate) fn unless(idle: &Idle) -> Option<Self> {
        match idle {
            Idle::Unless(condition) => Self::of(condition),
            Idle::Passing(passing) => Some(Self::counting(passing)),
            Idle::Unnamed(track, uses) => Self::of_uses(*track, uses),
        }
    }

    /// For a condition; `None` for one that has to be decided by itself each time.
    pub(crate) fn of(condition: &str) -> Option<Self> {
        Self::parsed(condition)?.of_one_line()
    }

    fn parsed(condition: &str) -> Option<Self> {
        let condition = Arc::new(Condition::parse(condition)?);
        Some(Self { either: vec![Alternative { condition, left_out: 0 }], ..Self::default() })
    }

    /// Unless its text has several lines, which would move those below it, or is none.
    fn of_one_line(self) -> Option<Self> {
        let text = self.text(&Natives::default())?;
        (!text.contains(['\n', '\r'])).then_some(self)
    }

    /// For uses of a watched value.
    fn of_uses(track: TrackId, uses: &[NameUse]) -> Option<Self> {
        let operand = |held: &NameUse| match Condition::parse(&held.text)? {
            Condition::Value(operand @ Operand::Path(..)) => Some(operand),
            _ => None,
        };
        let operands = uses.iter().map(operand).collect::<Option<Vec<_>>>()?;
        Self { named: vec![(track, operands)], ..Self::default() }.of_one_line()
    }

    /// For a hit rule.
    fn counting(passing: &Passing) -> Self {
        Self { counted: Some(HitRule { passing: passing.clone(), numbered: None }), ..Self::default() }
    }

    /// Whether it counts.
    pub(crate) fn counts(&self) -> bool {
        self.counted.is_some()
    }

    /// Gives what is counted a number for the bodies that are made, and answers it.
    pub(crate) fn number(&mut self) -> Option<Arc<Counted>> {
        let rule = self.counted.as_mut()?;
        rule.numbered = Some(Counted::of(&rule.passing));
        rule.numbered.clone()
    }

    /// One for several breakpoints of a line. Of those that count, only one can do so by itself: a time that another one reports is
    /// counted by all.
    pub(crate) fn any(filters: impl Iterator<Item = Option<Self>>) -> Option<Self> {
        let (mut either, mut named, mut counted) = (Vec::new(), Vec::new(), Vec::new());
        for filter in filters {
            let filter = filter?;
            either.extend(filter.either);
            named.extend(filter.named);
            counted.extend(filter.counted);
        }
        let is_one = counted.len() < 2 && either.len() + named.len() + counted.len() > 0;
        is_one.then(|| Self { either, named, counted: counted.pop(), ..Self::default() })
    }

    /// Lets more through: leaves out the last part of each that has more than one. False if nothing could be left out.
    pub(crate) fn weaken(&mut self) -> bool {
        let names = &self.names;
        let natives = Natives::default();
        let longer = self.either.iter_mut().filter(|held| held.parts(&Writer::of(names, &natives)).len() > 1);
        longer.map(|held| held.left_out += 1).count() > 0
    }

    /// Takes notice of a name that is no variable where the filter stands; false if that was known.
    pub(crate) fn is_global(&mut self, name: &str) -> bool {
        self.names.globals.insert(name.to_owned())
    }

    /// Takes notice that the function in which the filter stands has no `_ENV`; false if that was known, or it reads no globals.
    pub(crate) fn lacks_environment(&mut self) -> bool {
        !self.names.globals.is_empty() && !std::mem::replace(&mut self.names.lacks_environment, true)
    }

    /// As an expression of Lua; `None` when nothing is left to be asked.
    pub(crate) fn text(&self, natives: &Natives) -> Option<String> {
        self.written(&Writer::of(&self.names, natives))
    }

    fn written(&self, writer: &Writer<'_>) -> Option<String> {
        let side = |held: &Alternative| {
            let parts = held.parts(writer);
            (!parts.is_empty()).then(|| parts.join(" and "))
        };
        let mut either = self.either.iter().map(side).collect::<Option<Vec<_>>>()?;
        for (track, operands) in &self.named {
            let names = operands.iter().map(|operand| writer.names(*track, operand));
            either.push(names.collect::<Option<Vec<_>>>()?.join(" or "));
        }
        if let Some(rule) = &self.counted {
            let number = rule.numbered.as_ref().map_or(0, |held| held.number);
            either.push(format!("(\"{}\")({number}) == 1", writer.natives.count));
        }
        Some(either.join(" or "))
    }
}

impl Alternative {
    fn parts(&self, writer: &Writer<'_>) -> Vec<String> {
        let mut parts = Vec::new();
        writer.add_parts(&self.condition, &mut parts);
        // What is left out was counted with other names.
        parts.truncate(parts.len().saturating_sub(self.left_out).max(1));
        parts
    }
}

/// Writes a filter.
struct Writer<'a> {
    names: &'a Names,
    natives: &'a Natives,
    /// Whether it may calculate.
    calculates: bool,
}

/// What a part of the host's data is read for, as a number in a text: see [`Purpose`].
pub(crate) const VALUE: i64 = 0;
pub(crate) const TRUTH: i64 = 1;
pub(crate) const SAME: i64 = 2;

/// What a value is read for.
#[derive(Clone, Copy)]
enum Purpose<'a> {
    /// To be calculated with, or looked into: what is neither is left to the call.
    Value,
    /// To be true or false.
    Truth,
    /// To be the same as this constant.
    Same(&'a str),
}

impl<'a> Writer<'a> {
    /// One for the engine that it is built for.
    fn of(names: &'a Names, natives: &'a Natives) -> Self {
        Self { names, natives, calculates: Version::CALCULATES_IN_PLACE }
    }

    /// Adds parts that are all true whenever the condition is true, or fails; answers whether that is all there is to it, so
    /// that a part to the right cannot hide that one to the left fails.
    fn add_parts(&self, condition: &Condition, parts: &mut Vec<String>) -> bool {
        if let Condition::And(all) = condition {
            return all.iter().all(|part| self.add_parts(part, parts));
        }
        let exact = self.exact(condition);
        let is_exact = exact.is_some();
        parts.extend(exact.or_else(|| self.either(condition)).or_else(|| self.asked(condition, true)));
        is_exact
    }

    /// What a native function is asked that answers 1, or 0, or nothing where it cannot tell: true also then. It has to be last.
    fn asked(&self, condition: &Condition, holds: bool) -> Option<String> {
        if self.calculates {
            return None;
        }
        let (call, holds) = match condition {
            Condition::Not(inner) => return self.asked(inner, !holds),
            Condition::Compare(lhs, how, rhs) if how.is_equality() => {
                let same = |operand: &Operand, other: &Operand| self.answer(operand, Purpose::Same(&constant(other)?));
                (same(lhs, rhs).or_else(|| same(rhs, lhs))?, holds == (*how == Comparison::Equal))
            }
            Condition::Value(operand) => (self.answer(operand, Purpose::Truth)?, holds),
            _ => return None,
        };
        Some(format!("({call} ~= {})", i32::from(!holds)))
    }

    /// Whether a call answers 1 and not 0; with anything else it leads to the call that reports. Where nothing is calculated with, as
    /// [`asked`](Self::asked).
    fn is_one(&self, call: &str) -> String {
        if self.calculates { format!("(({call} + 0) == 1)") } else { format!("({call} ~= 0)") }
    }

    /// What is true whenever one of several is true, or fails.
    fn either(&self, condition: &Condition) -> Option<String> {
        let Condition::Or(any) = condition else { return None };
        let side = |side: &Condition| {
            let mut parts = Vec::new();
            self.add_parts(side, &mut parts);
            (!parts.is_empty()).then(|| parts.join(" and "))
        };
        Some(format!("({})", any.iter().map(side).collect::<Option<Vec<_>>>()?.join(" or ")))
    }

    /// The condition itself, where all that can fail, or cannot be told, goes to the call.
    fn exact(&self, condition: &Condition) -> Option<String> {
        let chain = |parts: &[Condition], sign: &str| {
            let parts = parts.iter().map(|part| self.exact(part));
            Some(format!("({})", parts.collect::<Option<Vec<_>>>()?.join(sign)))
        };
        match condition {
            Condition::Not(inner) => Some(format!("(not {})", self.exact(inner)?)),
            Condition::And(all) => chain(all, " and "),
            Condition::Or(any) => chain(any, " or "),
            Condition::Compare(lhs, how, rhs) => self.comparison(lhs, *how, rhs),
            Condition::Value(operand) => {
                let read = self.read(operand, Purpose::Truth);
                read.or_else(|| constant(operand)).or_else(|| self.number(operand))
            }
        }
    }

    fn comparison(&self, lhs: &Operand, how: Comparison, rhs: &Operand) -> Option<String> {
        // A constant that is no table has no metamethod, whatever it is compared with.
        let with_constant = |operand: &Operand, other: &Operand| {
            let constant = constant(other).filter(|_| how.is_equality())?;
            let is_same = self.read(operand, Purpose::Same(&constant))?;
            Some(if how == Comparison::Equal { is_same } else { format!("(not {is_same})") })
        };
        let plain = with_constant(lhs, rhs).or_else(|| with_constant(rhs, lhs));
        plain.or_else(|| Some(format!("({} {} {})", self.side(lhs)?, how.sign(), self.side(rhs)?)))
    }

    /// One side of a comparison of numbers.
    fn side(&self, operand: &Operand) -> Option<String> {
        if !self.calculates {
            return None;
        }
        self.read(operand, Purpose::Value).map(|name| format!("({name} + 0)")).or_else(|| self.number(operand))
    }

    /// A calculation with numbers.
    fn number(&self, operand: &Operand) -> Option<String> {
        match operand {
            Operand::Number { text, .. } => Some(text.clone()),
            _ if !self.calculates => None,
            // Whole numbers cannot be divided by zero.
            Operand::Calculation(_, "%" | "//", rhs) if !is_above_zero(rhs) => None,
            Operand::Calculation(lhs, sign, rhs) => Some(format!("({} {sign} {})", self.term(lhs)?, self.term(rhs)?)),
            _ => None,
        }
    }

    /// What is read can stand in a calculation as it is.
    fn term(&self, operand: &Operand) -> Option<String> {
        self.read(operand, Purpose::Value).or_else(|| self.number(operand))
    }

    /// A name, and what is behind it, to be used as it is.
    fn read(&self, operand: &Operand, purpose: Purpose<'_>) -> Option<String> {
        let Operand::Path(name, path) = operand else { return None };
        let is_asked = !path.segments().is_empty() || self.names.globals.contains(name);
        if is_asked && !self.calculates {
            return None;
        }
        let answer = self.answer(operand, purpose)?;
        Some(if is_asked && !matches!(purpose, Purpose::Value) { self.is_one(&answer) } else { answer })
    }

    /// A name, and what is behind it: what a native function answers, if it is not a variable.
    fn answer(&self, operand: &Operand, purpose: Purpose<'_>) -> Option<String> {
        let Operand::Path(name, path) = operand else { return None };
        let root = Root::ALL.iter().find(|root| root.name() == name);
        match root.filter(|_| self.names.globals.contains(name)) {
            Some(root) => self.host(*root, path, purpose),
            None => self.variable(name, path.segments(), purpose),
        }
    }

    /// Whether a path is that of a watched field.
    fn names(&self, track: TrackId, operand: &Operand) -> Option<String> {
        let Operand::Path(name, path) = operand else { return None };
        let (table, key) = match path.segments().split_last() {
            Some((last, table)) => (self.variable(name, table, Purpose::Value)?, self.key(last)?),
            // A variable of its own is another matter: so is what cannot be read. The compiler tells whether it is one.
            None if !self.names.globals.contains(name) => return Some(format!("({name} == nil or true)")),
            None => (self.globals(), format!("\"{name}\"")),
        };
        Some(self.is_one(&format!("(\"{}\")({}, {table}, {key})", self.natives.name, track.0)))
    }

    /// A variable, or a field inside it.
    fn variable(&self, name: &str, path: &[Segment], purpose: Purpose<'_>) -> Option<String> {
        let (table, key) = match path.split_last() {
            Some((last, table)) => (self.variable(name, table, Purpose::Value)?, self.key(last)?),
            None if !self.names.globals.contains(name) => {
                return Some(match purpose {
                    Purpose::Value | Purpose::Truth => name.to_owned(),
                    Purpose::Same(constant) => format!("({name} == {constant})"),
                });
            }
            None => (self.globals(), format!("\"{name}\"")),
        };
        let Natives { field, test, .. } = self.natives;
        Some(match purpose {
            // In parentheses it is one value, wherever it stands.
            Purpose::Value => format!("((\"{field}\")({table}, {key}))"),
            Purpose::Truth => format!("(\"{test}\")({table}, {key})"),
            Purpose::Same(constant) => format!("(\"{test}\")({table}, {key}, {constant})"),
        })
    }

    /// What the function sees as its globals.
    fn globals(&self) -> String {
        if self.names.lacks_environment || Version::ENVIRONMENTS_BESIDE {
            format!("(\"{}\")()", self.natives.globals)
        } else {
            "_ENV".to_owned()
        }
    }

    fn key(&self, segment: &Segment) -> Option<String> {
        match segment {
            Segment::Field(name) => quoted(name),
            Segment::Index(index) => Some(number_of(*index).to_string()),
            Segment::At(path) => {
                let (name, rest) = path.split_name()?;
                self.variable(name, rest.segments(), Purpose::Value)
            }
        }
    }

    /// What the host tells. A global of the script's own comes first.
    fn host(&self, root: Root, path: &Path, purpose: Purpose<'_>) -> Option<String> {
        let number = host_paths::number_of(&TreePath { root, path: path.clone() })?;
        let (host, globals, name) = (&self.natives.host, self.globals(), root.name());
        let call = |purpose: i64, constant: &str| {
            format!("(\"{host}\")({number}, {purpose}, {constant}, {globals}, \"{name}\")")
        };
        Some(match purpose {
            Purpose::Value => call(VALUE, "nil"),
            Purpose::Truth => call(TRUTH, "nil"),
            Purpose::Same(constant) => call(SAME, constant),
        })
    }
}

fn is_above_zero(operand: &Operand) -> bool {
    let Operand::Number { value, .. } = operand else { return false };
    match value {
        Some(Scalar::Integer(number)) => *number >= 1,
        Some(Scalar::Float(number)) => *number >= 1.0,
        _ => false,
    }
}

/// `nil`, a truth value, a number or a text.
fn constant(operand: &Operand) -> Option<String> {
    match operand {
        Operand::Number { text, .. } | Operand::Literal { text, .. } => Some(text.clone()),
        _ => None,
    }
}

/// A text as Lua writes it, if it is written as it is.
fn quoted(text: &str) -> Option<String> {
    (!text.contains(|held: char| held.is_control() || held == '"' || held == '\\')).then(|| format!("\"{text}\""))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(condition: &str) -> Option<String> {
        written(&Filter::parsed(condition)?, true)
    }

    fn written(filter: &Filter, calculates: bool) -> Option<String> {
        filter.written(&Writer { calculates, ..Writer::of(&filter.names, &Natives::short()) })
    }

    #[test]
    fn what_can_fail_is_guarded_or_left_out() {
        for (condition, expected) in [
            ("s < 0", "((s + 0) < 0)"),
            ("n % 100 == 0 and ok", "((n % 100) == 0) and ok"),
            ("name == 'upper'", "(name == 'upper')"),
            ("nil ~= x or not (a >= b)", "((not (x == nil)) or (not ((a + 0) >= (b + 0))))"),
            ("x == -1.5 or y or z", "((x == (-1.5)) or y or z)"),
            ("x * 2 - y > -1.5", "(((x * 2) - y) > (-1.5))"),
            // The part that cannot be told is left to the condition itself.
            ("s < 0 and f(t) > 1", "((s + 0) < 0)"),
            ("a and -b > 2 and c", "a"),
            ("a and (b or f())", "a"),
            ("a and (b and f(x) or c)", "a and (b or c)"),
        ] {
            assert_eq!(text(condition).as_deref(), Some(expected), "{condition}");
        }
        assert_eq!(text("x == 1 -- a remark").as_deref(), Some("(x == 1)"));
        for condition in ["a == [[b\n]]", "f(x)", "a or f()", "#t > 3", "-x > 2", "x // y > 1", "a .. b", "t['a\\n']"] {
            assert_eq!(Filter::of(condition), None, "{condition}");
        }
    }

    #[test]
    fn what_is_read_by_a_function_is_calculated_with() {
        for (condition, expected) in [
            ("t.level > 1", r#"(((("f")(t, "level")) + 0) > 1)"#),
            ("t.open", r#"((("t")(t, "open") + 0) == 1)"#),
            ("not t.open", r#"(not ((("t")(t, "open") + 0) == 1))"#),
            ("t.name == 'up'", r#"((("t")(t, "name", 'up') + 0) == 1)"#),
            ("t.name ~= 'up'", r#"(not ((("t")(t, "name", 'up') + 0) == 1))"#),
            ("nil == t.a.b", r#"((("t")((("f")(t, "a")), "b", nil) + 0) == 1)"#),
            ("t[3] % 2 == 0 or t[k]", r#"((((("f")(t, 3)) % 2) == 0) or ((("t")(t, k) + 0) == 1))"#),
        ] {
            assert_eq!(text(condition).as_deref(), Some(expected), "{condition}");
        }
    }

    #[test]
    fn where_nothing_is_calculated_with_a_field_is_asked_for_last() {
        for (condition, expected) in [
            ("n == 7 and t.open and ok", Some(r#"(n == 7) and (("t")(t, "open") ~= 0)"#)),
            ("not ok and t.open and n == 7", Some(r#"(not ok) and (("t")(t, "open") ~= 0)"#)),
            ("not t.open", Some(r#"(("t")(t, "open") ~= 1)"#)),
            ("t.a.b ~= nil", Some(r#"(("t")((("f")(t, "a")), "b", nil) ~= 1)"#)),
            ("not ('up' ~= t.name)", Some(r#"(("t")(t, "name", 'up') ~= 0)"#)),
            ("t.x == 1 or a", Some(r#"((("t")(t, "x", 1) ~= 0) or a)"#)),
            ("a ~= 'up' and s < 0 and b", Some("(not (a == 'up'))")),
            ("s < 0 and a", None),
            ("n % 2 == 0", None),
            ("x == y", None),
            ("t.x and (a and t.x < 1 or b)", Some(r#"(("t")(t, "x") ~= 0)"#)),
            ("not (a and t.x)", None),
        ] {
            let filter = Filter::parsed(condition).unwrap();
            assert_eq!(written(&filter, false).as_deref(), expected, "{condition}");
        }
        let mut filter = Filter::parsed("limit == 3").unwrap();
        assert!(filter.is_global("limit") && filter.lacks_environment());
        assert_eq!(written(&filter, false).as_deref(), Some(r#"(("t")(("g")(), "limit", 3) ~= 0)"#));
    }

    #[test]
    fn globals_are_fields_of_the_environment_and_the_host_s_names_come_after_them() {
        let mut filter = Filter::parsed("limit < 3 and event.n == 2 and t.x").unwrap();
        assert!(filter.is_global("limit") && filter.is_global("event") && !filter.is_global("event"));
        let path = TreePath { root: Root::Event, path: [Segment::Field("n".into())].into_iter().collect() };
        let number = host_paths::number_of(&path).unwrap();
        let expected = format!(
            r#"(((("f")(_ENV, "limit")) + 0) < 3) and ((("h")({number}, 2, 2, _ENV, "event") + 0) == 1) and ((("t")(t, "x") + 0) == 1)"#
        );
        let handed_out = expected.replace("_ENV", r#"("g")()"#);
        let first = if Version::ENVIRONMENTS_BESIDE { handed_out.clone() } else { expected };
        assert_eq!(written(&filter, true), Some(first));
        assert!(filter.lacks_environment() && !filter.lacks_environment());
        assert_eq!(written(&filter, true), Some(handed_out));
        let mut filter = Filter::parsed("event.n == 2").unwrap();
        assert!(filter.is_global("event") && filter.lacks_environment());
        assert_eq!(written(&filter, true), Some(format!(r#"((("h")({number}, 2, 2, ("g")(), "event") + 0) == 1)"#)));
    }

    #[test]
    fn a_use_asks_for_the_table_and_the_key() {
        let line = adzeman_core::source::Line::FIRST;
        let named = |text: &str| NameUse { line, is_write: true, text: text.to_owned(), guard: None };
        let uses = [named("one.x"), named("boats[k]"), named("total")];
        let mut filter = Filter::of_uses(TrackId(3), &uses).unwrap();
        let expected = r#"((("n")(3, one, "x") + 0) == 1) or ((("n")(3, boats, k) + 0) == 1) or "#;
        assert_eq!(written(&filter, true), Some(format!("{expected}(total == nil or true)")));
        assert!(filter.is_global("total"));
        let globals = if Version::ENVIRONMENTS_BESIDE { r#"("g")()"# } else { "_ENV" };
        let last = format!(r#"((("n")(3, {globals}, "total") + 0) == 1)"#);
        assert_eq!(written(&filter, true), Some(format!("{expected}{last}")));
        assert_eq!(Filter::of_uses(TrackId(3), &[named("f(x).y")]), None);
    }

    #[test]
    fn a_filter_is_weakened_part_by_part() {
        let two = ["a and b == 1 and c", "d"].map(Filter::of);
        let mut filter = Filter::any(two.into_iter()).unwrap();
        let text = |filter: &Filter| filter.text(&Natives::short()).unwrap();
        assert_eq!(text(&filter), "a and (b == 1) and c or d");
        assert!(filter.weaken() && filter.weaken());
        assert_eq!(text(&filter), "a or d");
        assert!(!filter.weaken());
        assert_eq!(Filter::any([Filter::of("a"), None].into_iter()), None, "one of them has to be asked each time");
    }
}
