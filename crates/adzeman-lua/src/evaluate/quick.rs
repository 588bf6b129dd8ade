//! Deciding conditions without calling into Lua, as far as they compare names, fields and constants. Whatever cannot be told
//! exactly as Lua would (a metamethod, a comparison that raises) is left to Lua.

use adzeman_core::host::Data;
use adzeman_core::path::{Path, Root, Segment, TreePath};

use super::names::may_mean_more;
use crate::ffi::scalars::{push_scalar, scalar_at};
use crate::ffi::state::{State, Type};
use crate::look::Shown;
use crate::scope::{self, Place, Target, push_captured, push_local};
use crate::text::conditions::{Comparison, Condition, Operand, Scalar};
use crate::text::number_of;

/// Where names are looked up.
#[derive(Clone, Copy)]
pub(crate) enum Scope {
    /// In a function on a stack, and around it.
    Function(Target),
    /// Before any script runs: only the host and the event can be told.
    Boundary,
}

/// Whether a condition holds; `None` when only Lua can tell.
pub(crate) fn holds(condition: &Condition, shown: &Shown, state: State, scope: Scope) -> Option<bool> {
    let value = |operand: &Operand| value(operand, shown, state, scope);
    let holds = |condition: &Condition| holds(condition, shown, state, scope);
    match condition {
        Condition::Value(operand) => Some(is_true(&value(operand)?)),
        Condition::Not(inner) => holds(inner).map(|held| !held),
        Condition::And(all) => {
            for part in all {
                if !holds(part)? {
                    return Some(false);
                }
            }
            Some(true)
        }
        Condition::Or(any) => {
            for part in any {
                if holds(part)? {
                    return Some(true);
                }
            }
            Some(false)
        }
        Condition::Compare(one, how, other) => compare(&value(one)?, *how, &value(other)?),
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

fn value(operand: &Operand, shown: &Shown, state: State, scope: Scope) -> Option<Scalar> {
    let (name, path) = match operand {
        Operand::Number { value, .. } | Operand::Literal { value, .. } => return value.clone(),
        Operand::Path(name, path) => (name, path),
        Operand::Calculation(..) | Operand::Other => return None,
    };
    let top = state.top();
    let found = tree(name, path, shown, scope).or_else(|| {
        push_path(name, path, shown, state, scope)?;
        scalar_at(state, -1)
    });
    state.cut_to(top);
    found
}

fn target_of(scope: Scope) -> Option<Target> {
    match scope {
        Scope::Function(target) => Some(target),
        Scope::Boundary => None,
    }
}

/// Pushes a value; nothing where only Lua can tell, and whatever is above the former top is to go.
pub(super) fn push(operand: &Operand, shown: &Shown, state: State, scope: Scope) -> Option<()> {
    let known = match operand {
        Operand::Number { value, .. } | Operand::Literal { value, .. } => Some(value.clone()?),
        Operand::Path(name, path) => tree(name, path, shown, scope),
        Operand::Calculation(..) | Operand::Other => return None,
    };
    match (known, operand) {
        // A part that holds others is an object of its own for the script.
        (Some(Scalar::Other), _) => None,
        (Some(value), _) => push_scalar(state, &value).ok(),
        (None, Operand::Path(name, path)) => push_path(name, path, shown, state, scope),
        (None, _) => None,
    }
}

/// What the host tells, where a name stands for its data.
fn tree(name: &str, path: &Path, shown: &Shown, scope: Scope) -> Option<Scalar> {
    let root = *Root::ALL.iter().find(|root| root.name() == name)?;
    let target = target_of(scope);
    // A name that scripts made comes first.
    let is_own =
        !matches!(scope::place_of(target, name), Place::Global) || scope::is_global(shown.main(), target, name);
    (!is_own).then(|| of_tree(shown, &TreePath { root, path: path.clone() })).flatten()
}

/// Pushes what a name stands for in a function; nothing where only Lua can tell.
pub(super) fn push_name(name: &str, shown: &Shown, target: Target) -> Option<()> {
    let top = target.state.top();
    let found = push_path(name, &Path::default(), shown, target.state, Scope::Function(target));
    if found.is_none() {
        target.state.cut_to(top);
    } else if target.state.top() > top + 1 {
        // What led to it is below.
        target.state.replace(top + 1);
        target.state.cut_to(top + 1);
    }
    found
}

/// Pushes what a path of the script leads to.
fn push_path(name: &str, path: &Path, shown: &Shown, state: State, scope: Scope) -> Option<()> {
    let (target, top) = (target_of(scope), state.top());
    match scope::place_of(target, name) {
        Place::Local(at, number) => push_local(at, number, state),
        Place::Captured(at, number) => push_captured(at, number, state),
        Place::Removed(true) => scope::push_removed(target, name, state),
        Place::Removed(false) => return None,
        Place::Global => global(shown, state, target, name)?,
    }
    if state.top() > top { push_inside(state, path) } else { None }
}

/// Pushes a global, as long as no metamethod could have a say; nothing where another meaning of the name would.
fn global(shown: &Shown, state: State, target: Option<Target>, name: &str) -> Option<()> {
    scope::push_globals_at(state, target).ok()?;
    let has_metatable = state.push_metatable(-1);
    if has_metatable {
        state.pop(1);
    }
    state.raw_get_field(-1, name).ok()?;
    let is_known = state.type_at(-1) != Type::Nil || !has_metatable && !may_mean_more(shown, name);
    is_known.then_some(())
}

/// Pushes what a path leads to from the value on top, as long as no metamethod could have a say.
fn push_inside(state: State, path: &Path) -> Option<()> {
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
    Some(())
}

/// What the host tells of a part of its data, as a condition sees that.
pub(crate) fn of_tree(shown: &Shown, path: &TreePath) -> Option<Scalar> {
    let is_computed = path.path.segments().iter().any(|segment| matches!(segment, Segment::At(_)));
    if is_computed || path.root == Root::Event && !shown.host().has_event() {
        return None;
    }
    Some(match shown.host().bare(path).ok()? {
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

#[cfg(test)]
mod tests {
    use super::*;

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
