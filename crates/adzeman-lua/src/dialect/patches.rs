//! Making a condition in a script's own text safe: which of its instructions become jumps, so that it neither raises nor runs
//! anything of the script ([`Filter`](crate::text::filters::Filter)); and which become cheaper ones.

use std::collections::{BTreeMap, BTreeSet};

use adzeman_core::source::Line;

use super::chunk::{Prototype, prototypes, written_out};
use super::natives::Natives;
use super::numbering::{numbering, renumbered};
use super::operations::Operation;
use super::{Dialect as _, Version};

/// Constants that an instruction can name by itself in every place. With more, the compiler takes other instructions.
const MOST_CONSTANTS: usize = 250;

/// An instruction to be put into a body.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Patch {
    /// The position of the body in its tree.
    pub(crate) body: usize,
    /// The position of the instruction whose place it takes.
    pub(crate) at: usize,
    pub(crate) instruction: u32,
}

/// A script compiled with filters, and what makes those safe.
#[derive(Debug)]
pub(crate) struct Safe {
    pub(crate) chunk: Vec<u8>,
    pub(crate) patches: Vec<Patch>,
}

/// What of filters does not do, by the lines of their calls.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Refused {
    /// Filters that speak of what is not at hand there, or are not of instructions that are known to be harmless.
    pub(crate) lines: BTreeSet<Line>,
    /// Names that are no variables there.
    pub(crate) globals: BTreeMap<Line, BTreeSet<String>>,
    /// Filters that read globals where the function has no `_ENV`.
    pub(crate) without_environment: BTreeSet<Line>,
}

impl Refused {
    fn is_nothing(&self) -> bool {
        self.lines.is_empty() && self.globals.is_empty() && self.without_environment.is_empty()
    }
}

/// Makes the filters of a script safe, by its functions with calls only, and the same, compiled, with filters in front of some.
///
/// # Errors
/// What does not do.
pub(crate) fn made_safe(calls: &[Prototype<'_>], chunk: &[u8], natives: &Natives) -> Result<Safe, Refused> {
    let filtered = prototypes(chunk).ok_or_else(Refused::default)?;
    let numbers = numbering(calls, &filtered);
    let refused = refused_names(calls, &filtered, &numbers, natives);
    if !refused.is_nothing() {
        return Err(refused);
    }
    let of_these = |filtered: &[Prototype<'_>]| {
        patches(calls, filtered, natives).map_err(|lines| Refused { lines, ..Refused::default() })
    };
    let is_in_order = |numbers: &Vec<Option<u8>>| numbers.iter().zip(0..).all(|(held, number)| *held == Some(number));
    if numbers.iter().all(is_in_order) {
        return Ok(Safe { chunk: chunk.to_vec(), patches: of_these(&filtered)? });
    }
    let chunk = written_out(chunk).ok_or_else(Refused::default)?;
    let filtered = prototypes(&chunk).ok_or_else(Refused::default)?;
    let chunk = renumbered(&chunk, &filtered, &numbers).unwrap_or_else(|| chunk.clone());
    let patches = of_these(&prototypes(&chunk).ok_or_else(Refused::default)?)?;
    Ok(Safe { chunk, patches })
}

/// The names in filters that stand for no variable of the function, or for one that it does not capture.
fn refused_names(
    calls: &[Prototype<'_>],
    filtered: &[Prototype<'_>],
    numbers: &[Vec<Option<u8>>],
    natives: &Natives,
) -> Refused {
    let mut refused = Refused::default();
    for ((calls, filtered), numbers) in calls.iter().zip(filtered).zip(numbers) {
        for region in regions(calls, filtered, &natives.report).into_iter().flatten() {
            let Some(line) = filtered.line_of.get(region.call).and_then(|line| Line::new(*line)) else { continue };
            for instruction in &filtered.code[region.start..region.call] {
                if let Some(name) =
                    Operation::global_read(*instruction).and_then(|number| *filtered.texts.get(number)?)
                {
                    refused.globals.entry(line).or_default().insert(String::from_utf8_lossy(name).into_owned());
                }
                let captured = Operation::captured(*instruction);
                let Some(number) = captured.filter(|number| numbers.get(*number).is_none_or(Option::is_none)) else {
                    continue;
                };
                let is_environment = filtered.captured_names.get(number).is_some_and(|name| *name == b"_ENV");
                if is_environment { &mut refused.without_environment } else { &mut refused.lines }.insert(line);
            }
        }
    }
    // What is to be read otherwise needs no environment yet.
    for line in refused.globals.keys() {
        refused.without_environment.remove(line);
    }
    refused
}

/// What makes filters safe: jumps to the call that reports, behind each of them. And the question whether a native function is there
/// is one whether it is true, which costs less than whether it is nil.
///
/// # Errors
/// The lines whose filters do not do there.
fn patches(
    calls: &[Prototype<'_>],
    filtered: &[Prototype<'_>],
    natives: &Natives,
) -> Result<Vec<Patch>, BTreeSet<Line>> {
    let (mut found, mut refused) = (Vec::new(), BTreeSet::new());
    for (body, (calls, filtered)) in calls.iter().zip(filtered).enumerate() {
        let Some(regions) = filters_of(calls, filtered, &natives.report) else {
            // An inner function may be what makes this one differ.
            let last = if calls.last == 0 { calls.line_of.iter().copied().max().unwrap_or(0) } else { calls.last };
            refused.extend((calls.first..=last).filter_map(Line::new));
            continue;
        };
        for filter in regions {
            if !is_harmless(filtered, &filter, natives) {
                refused.extend(filtered.line_of.get(filter.call).and_then(|line| Line::new(*line)));
                continue;
            }
            let fallbacks = (filter.start..filter.call).filter(|at| Operation::of(filtered.code[*at]).hands_on());
            found.extend(fallbacks.filter_map(|at| {
                let instruction = Version::jump_over(filter.call - at - 1)?;
                Some(Patch { body, at, instruction })
            }));
            for at in filter.start..filter.call + 1 {
                let Some(question) = filtered.code.get(at..at + 2).and_then(Version::asked_whether_true) else {
                    continue;
                };
                if question.constant.is_some_and(|constant| is_native(filtered, constant, natives)) {
                    found.extend((at..).zip(question.instructions).map(|(at, instruction)| Patch {
                        body,
                        at,
                        instruction,
                    }));
                }
            }
        }
    }
    if calls.len() != filtered.len() {
        refused.extend(calls.iter().flat_map(|held| held.lines.iter()));
    }
    if refused.is_empty() { Ok(found) } else { Err(refused) }
}

/// Whether all instructions of a filter are harmless: of calls, those of the functions that are asked, each in the register that it was
/// loaded into last.
fn is_harmless(filtered: &Prototype<'_>, filter: &Region, natives: &Natives) -> bool {
    let mut loaded = Vec::new();
    filtered.code[filter.start..filter.call].iter().all(|instruction| {
        if Operation::constant_loaded(*instruction).is_some_and(|number| is_native(filtered, number, natives)) {
            loaded.push(Operation::register_loaded(*instruction));
        }
        match Operation::called_for_one(*instruction) {
            Some(register) => loaded.pop() == Some(register),
            None => Operation::of(*instruction).is_harmless(),
        }
    })
}

/// Whether a constant stands for a native function.
fn is_native(function: &Prototype<'_>, constant: usize, natives: &Natives) -> bool {
    let text = function.texts.get(constant).copied().flatten();
    text.is_some_and(|text| [&natives.report].into_iter().chain(natives.asked()).any(|held| held.as_bytes() == text))
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
    let asking = Version::INSTRUCTIONS.asking;
    (asking..prototype.code.len()).filter(|at| is_call(&prototype.code[*at])).map(|at| at - asking).collect()
}

/// The filters of a function, if it is the same as the one with calls only, captured variables and all, apart from them.
fn filters_of(calls: &Prototype<'_>, filtered: &Prototype<'_>, marker: &str) -> Option<Vec<Region>> {
    let regions = regions(calls, filtered, marker)?;
    let starts = regions.iter().map(|region| region.start).chain([filtered.code.len()]);
    let ends = std::iter::once(0).chain(regions.iter().map(|region| region.call));
    let told = |held: &u32| (Operation::of(*held), Operation::captured(*held));
    let left = ends.zip(starts).flat_map(|(from, to)| &filtered.code[from..to]).map(told);
    let is_same = filtered.texts.len() <= MOST_CONSTANTS
        && (calls.first, calls.last, &calls.captured) == (filtered.first, filtered.last, &filtered.captured)
        && left.eq(calls.code.iter().map(told));
    is_same.then_some(regions)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::filters::Filter;
    use crate::text::statements::call;
    use crate::versions::{NOT_IN_PLACE, is_refused_before};

    fn made(script: &str, condition: &str) -> Result<Safe, Refused> {
        let natives = Natives::short();
        let dumped = |call: &str| {
            let lua = mlua::Lua::new();
            lua.load(script.replace('@', call)).into_function().unwrap().dump(false)
        };
        let (calls, filtered) =
            (dumped(&call(&natives, None)), dumped(&call(&natives, Filter::of(condition).as_ref())));
        made_safe(&prototypes(&calls).unwrap(), &filtered, &natives)
    }

    fn refused(script: &str, condition: &str) -> Result<usize, Vec<u32>> {
        let lines = |refused: Refused| refused.lines.into_iter().map(Line::get).collect();
        made(script, condition).map(|safe| jumps(&safe)).map_err(lines)
    }

    /// The jumps among the patches.
    fn jumps(safe: &Safe) -> usize {
        let jump = Version::jump_over(0).map(Operation::of);
        safe.patches.iter().filter(|patch| Some(Operation::of(patch.instruction)) == jump).count()
    }

    #[test]
    fn variables_do_that_the_function_has_and_fields_of_them() {
        if is_refused_before("5.4", NOT_IN_PLACE) {
            return;
        }
        assert_eq!(refused("local x, y = 1, 2\n@return x", "x < y and x ~= 7"), Ok(2));
        assert_eq!(refused("local x = 1\nreturn function()\n  @return x\nend", "x < 2"), Ok(1));
        assert_eq!(refused("local x = {}\n@return x", "x.a.b < 2 and x[x] ~= x"), Ok(3));
        // One that this function does not capture, and so no function around it either.
        let script = "local x = 1\nreturn function()\n  return function()\n    @return 1\n  end\nend";
        assert_eq!(refused(script, "x < 2"), Err(vec![4]));
    }

    #[test]
    fn globals_are_told() {
        let refused = made("local x = 1\n@return x", "level == 2 and x").unwrap_err();
        assert_eq!(
            refused.globals.into_iter().map(|(line, names)| (line.get(), names)).collect::<Vec<_>>(),
            [(2, ["level".to_owned()].into())]
        );
        assert!(refused.lines.is_empty() && refused.without_environment.is_empty());
    }

    #[test]
    fn captured_variables_keep_their_numbers() {
        let script = "local a, b, c = 1, 2, 3\nreturn function()\n  @local d = a\n  local e = function() c = d + b end\n  return b + d\nend";
        let plain = mlua::Lua::new().load(script.replace('@', "")).into_function().unwrap().dump(false);
        let plain = prototypes(&plain).unwrap();
        let calculating = ["b < 2", "c < b and a == 1"].into_iter().filter(|_| Version::CALCULATES_IN_PLACE);
        for condition in ["a == 2", "not b", "c and a == 1", "c == 1"].into_iter().chain(calculating) {
            let safe = made(script, condition).unwrap();
            let found = prototypes(&safe.chunk).unwrap();
            for (found, plain) in found.iter().zip(&plain) {
                assert_eq!(
                    (&found.captured, &found.captured_names),
                    (&plain.captured, &plain.captured_names),
                    "{condition}"
                );
            }
        }
    }
}
