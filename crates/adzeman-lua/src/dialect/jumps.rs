//! Making a condition in a script's own text safe: which of its instructions become jumps, so that it neither raises nor runs
//! anything of the script ([`Filter`](crate::text::filters::Filter)).

use std::collections::BTreeSet;

use adzeman_core::source::Line;

use super::chunk::Prototype;
use super::operations::{Operation, jump_over};
use crate::text::statements::ASKING;

/// Constants that an instruction can name by itself in every place. With more, the compiler takes other instructions.
const MOST_CONSTANTS: usize = 250;

/// A jump to be put into a body: from an instruction to another one of the same body.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Jump {
    /// The position of the body in its tree.
    pub(crate) body: usize,
    /// The instruction that becomes the jump.
    pub(crate) at: usize,
    /// Where it goes to.
    pub(crate) to: usize,
}

/// The jumps that make the filters of a script safe, by its functions with calls only, and the same with filters in front
/// of some; each call is of the constant `marker`.
///
/// # Errors
/// The lines whose filters do not do there: one speaks of what is no local variable, or would capture another one.
pub(crate) fn jumps(
    calls: &[Prototype<'_>],
    filtered: &[Prototype<'_>],
    marker: &str,
) -> Result<Vec<Jump>, BTreeSet<Line>> {
    let (mut found, mut refused) = (Vec::new(), BTreeSet::new());
    for (body, (calls, filtered)) in calls.iter().zip(filtered).enumerate() {
        let Some(regions) = filters_of(calls, filtered, marker) else {
            // An inner function may be what makes this one differ.
            let last = if calls.last == 0 { calls.line_of.iter().copied().max().unwrap_or(0) } else { calls.last };
            refused.extend((calls.first..=last).filter_map(Line::new));
            continue;
        };
        for filter in regions {
            let code = &filtered.code[filter.start..filter.call];
            if !code.iter().all(|instruction| Operation::of(*instruction).is_harmless()) {
                refused.extend(filtered.line_of.get(filter.call).and_then(|line| Line::new(*line)));
                continue;
            }
            let fallbacks = (filter.start..filter.call).filter(|at| Operation::of(filtered.code[*at]).hands_on());
            found.extend(fallbacks.map(|at| Jump { body, at, to: filter.call }));
        }
    }
    if calls.len() != filtered.len() {
        refused.extend(calls.iter().flat_map(|held| held.lines.iter()));
    }
    if refused.is_empty() { Ok(found) } else { Err(refused) }
}

/// The instructions of a filter, up to the one that begins the call behind it.
struct Region {
    start: usize,
    call: usize,
}

/// What stands in front of each call in the function with filters, and not in the other one.
fn regions(calls: &Prototype<'_>, filtered: &Prototype<'_>, marker: &str) -> Option<Vec<Region>> {
    let (plain, own) = (calls_of(calls, marker), calls_of(filtered, marker));
    if plain.len() != own.len() {
        return None;
    }
    let (mut regions, mut before, mut own_before) = (Vec::new(), 0, 0);
    for (plain, call) in plain.into_iter().zip(own) {
        let start = own_before + (plain - before);
        if start > call {
            return None;
        }
        regions.push(Region { start, call });
        (before, own_before) = (plain, call);
    }
    Some(regions)
}

/// Where the calls of a function begin: with the question whether there is something to call.
fn calls_of(prototype: &Prototype<'_>, marker: &str) -> Vec<usize> {
    let is_call = |instruction: &u32| {
        Operation::constant_loaded(*instruction)
            .is_some_and(|number| prototype.texts.get(number) == Some(&Some(marker.as_bytes())))
    };
    (ASKING..prototype.code.len()).filter(|at| is_call(&prototype.code[*at])).map(|at| at - ASKING).collect()
}

/// The filters of a function, if it is the same as the one with calls only, captured variables and all, apart from them.
fn filters_of(calls: &Prototype<'_>, filtered: &Prototype<'_>, marker: &str) -> Option<Vec<Region>> {
    let regions = regions(calls, filtered, marker)?;
    let starts = regions.iter().map(|region| region.start).chain([filtered.code.len()]);
    let ends = std::iter::once(0).chain(regions.iter().map(|region| region.call));
    let left = ends.zip(starts).flat_map(|(from, to)| &filtered.code[from..to]).map(|held| Operation::of(*held));
    let is_same = filtered.texts.len() <= MOST_CONSTANTS
        && (calls.first, calls.last, calls.captured) == (filtered.first, filtered.last, filtered.captured)
        && left.eq(calls.code.iter().map(|held| Operation::of(*held)));
    is_same.then_some(regions)
}

impl Jump {
    /// The instruction.
    pub(crate) fn instruction(self) -> u32 {
        jump_over(self.to - self.at - 1)
    }
}

#[cfg(test)]
mod tests {
    use super::super::chunk::prototypes;
    use super::*;
    use crate::text::filters::Filter;
    use crate::text::statements::call;

    fn refused(script: &str, condition: &str) -> Result<usize, Vec<u32>> {
        let dumped = |call: &str| {
            let lua = mlua::Lua::new();
            lua.load(script.replace('@', call)).into_function().unwrap().dump(false)
        };
        let (calls, filtered) = (dumped(&call("m", None)), dumped(&call("m", Filter::of(condition).as_ref())));
        let found = jumps(&prototypes(&calls).unwrap(), &prototypes(&filtered).unwrap(), "m");
        found.map(|jumps| jumps.len()).map_err(|lines| lines.into_iter().map(Line::get).collect())
    }

    #[test]
    fn only_local_and_captured_variables_do() {
        assert_eq!(refused("local x, y = 1, 2\n@return x", "x < y and x ~= 7"), Ok(2));
        assert_eq!(refused("local x = 1\nreturn function()\n  @return x\nend", "x < 2"), Ok(1));
        // A global variable, which may be anything.
        assert_eq!(refused("local x = 1\n@return x", "x < level"), Err(vec![2]));
        // One that this function does not capture, and so no function around it either.
        let script = "local x = 1\nreturn function()\n  return function()\n    @return 1\n  end\nend";
        assert_eq!(refused(script, "x < 2"), Err(vec![2, 3, 4, 5, 6]));
    }

    #[test]
    fn the_order_of_captured_variables_counts() {
        let script = "local a, b = 1, 2\nreturn function()\n  @local c = a\n  return b + c\nend";
        assert_eq!(refused(script, "a < 2"), Ok(1));
        assert_eq!(refused(script, "b < 2"), Err(vec![2, 3, 4, 5]));
    }
}
