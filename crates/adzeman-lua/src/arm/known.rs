//! The proof that instructions are what this crate takes them for, for the library that runs.

use std::sync::OnceLock;

use crate::dialect::chunk::prototypes;
use crate::dialect::natives::Natives;
use crate::dialect::patches::made_safe;
use crate::dialect::{Dialect as _, Version};
use crate::ffi::apart::{in_new_state, notes};
use crate::ffi::body::with_body;
use crate::ffi::layout;
use crate::ffi::state::State;
use crate::text::filters::Filter;
use crate::text::statements::call;

/// Whether instructions are as this module says: found out once, by a filter with one of each, in a state of its own.
pub(crate) fn are_known() -> bool {
    static KNOWN: OnceLock<bool> = OnceLock::new();
    *KNOWN.get_or_init(|| {
        if !layout::is_known() || !Version::DECIDES_IN_PLACE {
            return false;
        }
        let known = in_new_state(behaves).flatten().unwrap_or(false);
        if !known {
            tracing::info!("the engine's instructions are not known: conditions are evaluated apart");
        }
        known
    })
}

const CONDITION: &str = "(x % 7 == 3 and y ~= nil or not (x >= 2) or x - y > 100 or y == 'text') \
                         and (x + x) * 2 // 3 / 4 ~= z and t.of.level < 5";

/// Runs a function with a filter: whether it calls for the arguments for which it must, and for no others.
fn behaves(state: State) -> Option<bool> {
    // The filter speaks of the one before the other.
    let script = |call: &str| format!("local z, w = 1, 2\nreturn function(x, y, t) {call} return w - z end");
    let (natives, filter) = (Natives::unused(|_| true), Filter::of(CONDITION)?);
    state.load(&script(&call(&natives, None)), c"=sample").ok()?;
    let calls = state.dump(-1);
    state.load(&script(&call(&natives, Some(&filter))), c"=sample").ok()?;
    let safe = made_safe(&prototypes(&calls)?, &state.dump(-1), &natives).ok()?;
    state.load_compiled(&safe.chunk).ok()?;
    if safe.patches.len() < 6 || !state.call_plainly(0, 1) {
        return Some(false);
    }
    with_body(state, -1, |body| {
        safe.patches.iter().filter(|patch| patch.body == 1).for_each(|patch| body.patch(*patch));
        body.note(state, &natives)
    })?
    .ok()?;
    let function = state.top();
    let (number, text, plain) = (Argument::Number, Argument::Text("text"), Argument::Level(1.0));
    let expected = [
        // Numbers only: decided in place.
        (number(3.0), number(1.0), plain, 0),
        (number(10.0), number(1.0), plain, 1),
        (number(11.0), number(1.0), plain, 0),
        (number(1.0), number(1.0), plain, 1),
        (number(5.5), number(1.0), plain, 0),
        (number(500.0), number(1.0), plain, 1),
        // Where something is no number, and would be calculated with: the condition is for the call to decide.
        (Argument::Nil, number(1.0), plain, 1),
        (Argument::Text("3"), number(1.0), plain, 1),
        (number(11.0), Argument::Nil, plain, 1),
        (number(11.0), text, plain, 1),
        (Argument::Table, Argument::Table, plain, 1),
        // Fields of tables.
        (number(10.0), number(1.0), Argument::Level(7.0), 0),
        (number(10.0), number(1.0), Argument::Table, 1),
        (number(10.0), number(1.0), text, 1),
        (number(10.0), number(1.0), Argument::Nil, 1),
    ];
    for (x, y, t, calls) in expected {
        let before = notes();
        state.push_copy(function);
        x.push(state)?;
        y.push(state)?;
        t.push(state)?;
        // The function's own work is what it would be without a filter.
        if !state.call_plainly(3, 1) || notes() - before != calls || state.integer_at(-1) != Some(1) {
            return Some(false);
        }
        state.pop(1);
    }
    Some(true)
}

#[derive(Clone, Copy)]
enum Argument {
    Nil,
    Number(f64),
    Text(&'static str),
    Table,
    /// A table of one that has this level.
    Level(f64),
}

impl Argument {
    fn push(self, state: State) -> Option<()> {
        match self {
            Self::Nil => state.push_nil(),
            Self::Number(number) => state.push_float(number),
            Self::Text(text) => state.push_bytes(text.as_bytes()).ok()?,
            Self::Table => state.push_table().ok()?,
            Self::Level(level) => {
                for name in ["of", "level"] {
                    state.push_table().ok()?;
                    state.push_bytes(name.as_bytes()).ok()?;
                }
                state.push_float(level);
                for _ in ["level", "of"] {
                    state.raw_set(-3).ok()?;
                }
            }
        }
        Some(())
    }
}

#[cfg(test)]
mod tests {
    use crate::dialect::{Dialect as _, Version};

    #[test]
    fn the_instructions_of_the_vendored_engine_are_known() {
        assert_eq!(super::are_known(), Version::DECIDES_IN_PLACE);
    }
}
