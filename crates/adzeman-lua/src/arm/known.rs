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
        if !layout::is_known() {
            return false;
        }
        let known = in_new_state(behaves).flatten().unwrap_or(false);
        if !known {
            tracing::info!("the engine's instructions are not known: conditions are evaluated apart");
        }
        known
    })
}

/// What a filter is tried with, and how often it has to call for arguments.
struct Trial {
    condition: &'static str,
    /// Instructions that it has to have put into it, at least.
    patches: usize,
    cases: &'static [(Argument, Argument, Argument, usize)],
}

const THREE: Argument = Argument::Number(3.0);
const TEN: Argument = Argument::Number(10.0);
const ELEVEN: Argument = Argument::Number(11.0);
const ONE: Argument = Argument::Number(1.0);
const TEXT: Argument = Argument::Text("text");
const PLAIN: Argument = Argument::Level(1.0);

const CALCULATING: Trial = Trial {
    condition: "(x % 7 == 3 and y ~= nil or not (x >= 2) or x - y > 100 or y == 'text') \
                and (x + x) * 2 // 3 / 4 ~= z and t.of.level < 5",
    patches: 6,
    cases: &[
        // Numbers only: decided in place.
        (THREE, ONE, PLAIN, 0),
        (TEN, ONE, PLAIN, 1),
        (ELEVEN, ONE, PLAIN, 0),
        (ONE, ONE, PLAIN, 1),
        (Argument::Number(5.5), ONE, PLAIN, 0),
        (Argument::Number(500.0), ONE, PLAIN, 1),
        // Where something is no number, and would be calculated with: the condition is for the call to decide.
        (Argument::Nil, ONE, PLAIN, 1),
        (Argument::Text("3"), ONE, PLAIN, 1),
        (ELEVEN, Argument::Nil, PLAIN, 1),
        (ELEVEN, TEXT, PLAIN, 1),
        (Argument::Table, Argument::Table, PLAIN, 1),
        // Fields of tables.
        (TEN, ONE, Argument::Level(7.0), 0),
        (TEN, ONE, Argument::Table, 1),
        (TEN, ONE, TEXT, 1),
        (TEN, ONE, Argument::Nil, 1),
    ],
};

/// Where nothing is calculated with.
const ASKING: Trial = Trial {
    condition: "(x == 10 and y ~= nil or y == 'text' or not x) and z and t.of.level == 1",
    patches: 0,
    cases: &[
        (TEN, ONE, PLAIN, 1),
        (THREE, ONE, PLAIN, 0),
        (TEN, Argument::Nil, PLAIN, 0),
        (THREE, TEXT, PLAIN, 1),
        (Argument::Text("10"), ONE, PLAIN, 0),
        (Argument::Nil, Argument::Nil, PLAIN, 1),
        (Argument::Table, Argument::Table, PLAIN, 0),
        (TEN, ONE, Argument::Level(7.0), 0),
        (TEN, ONE, Argument::Table, 1),
        (TEN, ONE, TEXT, 1),
        (THREE, ONE, TEXT, 0),
        (TEN, ONE, Argument::Nil, 1),
    ],
};

/// Runs a function with a filter: whether it calls for the arguments for which it must, and for no others.
fn behaves(state: State) -> Option<bool> {
    // The filter speaks of the one before the other.
    let script = |call: &str| format!("local z, w = 1, 2\nreturn function(x, y, t) {call} return w - z end");
    let trial = if Version::CALCULATES_IN_PLACE { CALCULATING } else { ASKING };
    let (natives, filter) = (Natives::unused(|_| true), Filter::of(trial.condition)?);
    state.load(&script(&call(&natives, None)), c"=sample").ok()?;
    let calls = state.dump(-1);
    state.load(&script(&call(&natives, Some(&filter))), c"=sample").ok()?;
    let safe = made_safe(&prototypes(&calls)?, &state.dump(-1), &natives).ok()?;
    state.load_compiled(&safe.chunk).ok()?;
    if safe.patches.len() < trial.patches || !state.call_plainly(0, 1) {
        return Some(false);
    }
    with_body(state, -1, |body| {
        safe.patches.iter().filter(|patch| patch.body == 1).for_each(|patch| body.patch(*patch));
        body.note(state, &natives)
    })?
    .ok()?;
    let function = state.top();
    for (x, y, t, calls) in trial.cases {
        let before = notes();
        state.push_copy(function);
        x.push(state)?;
        y.push(state)?;
        t.push(state)?;
        // The function's own work is what it would be without a filter.
        if !state.call_plainly(3, 1) || notes() - before != *calls || state.integer_at(-1) != Some(1) {
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
    #[test]
    fn the_instructions_of_the_vendored_engine_are_known() {
        assert!(super::are_known());
    }
}
