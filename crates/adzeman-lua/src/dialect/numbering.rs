//! The numbers of captured variables, which the compiler gives by first mention: a function with filters put in mentions some
//! sooner. It is given the numbers that the closures have which are there already.

use super::chunk::Prototype;
use super::operations::Operation;
use super::{Dialect as _, Version};

/// Bytes of a captured variable in a chunk.
const BYTES: usize = Version::CAPTURED;

/// For each function of `filtered`, the number that each of its captured variables has in the same function of `calls`; none
/// for one that is not captured there.
pub(crate) fn numbering(calls: &[Prototype<'_>], filtered: &[Prototype<'_>]) -> Vec<Vec<Option<u8>>> {
    let around = around(filtered);
    let mut found: Vec<Vec<Option<u8>>> = Vec::new();
    for (position, (calls, filtered)) in calls.iter().zip(filtered).enumerate() {
        let around = around.get(position).copied().flatten().and_then(|around| found.get(around));
        let number = |held: &[u8]| {
            let there = there(held, around.map(Vec::as_slice))?;
            let number = calls.captured.chunks(BYTES).position(|other| *other == there)?;
            u8::try_from(number).ok()
        };
        found.push(filtered.captured.chunks(BYTES).map(number).collect());
    }
    found
}

/// A captured variable as the function has it whose numbers it is to get; none where the function around has none of it.
fn there(held: &[u8], around: Option<&[Option<u8>]>) -> Option<[u8; BYTES]> {
    let mut there: [u8; BYTES] = held.try_into().ok()?;
    let [is_local, number] = [*there.first()?, *there.get(1)?];
    let number = match (is_local, around) {
        (0, Some(around)) => (*around.get(usize::from(number))?)?,
        _ => number,
    };
    *there.get_mut(1)? = number;
    Some(there)
}

/// For each function, the one directly around it.
fn around(functions: &[Prototype<'_>]) -> Vec<Option<usize>> {
    let mut open: Vec<(usize, usize)> = Vec::new();
    let mut found = Vec::with_capacity(functions.len());
    for (position, function) in functions.iter().enumerate() {
        while open.last().is_some_and(|(_, left)| *left == 0) {
            open.pop();
        }
        found.push(open.last().map(|(around, _)| *around));
        if let Some((_, left)) = open.last_mut() {
            *left -= 1;
        }
        open.push((position, function.inside));
    }
    found
}

/// The chunk of `functions`, which is [written out](super::chunk::written_out), with other numbers, if they are the same ones in another
/// order in each.
pub(crate) fn renumbered(chunk: &[u8], functions: &[Prototype<'_>], numbering: &[Vec<Option<u8>>]) -> Option<Vec<u8>> {
    let mut out = chunk.to_vec();
    let around = around(functions);
    for (position, (function, numbers)) in functions.iter().zip(numbering).enumerate() {
        let numbers: Vec<u8> = numbers.iter().copied().collect::<Option<_>>()?;
        let mut old = vec![None; numbers.len()];
        for (number, new) in numbers.iter().enumerate() {
            *old.get_mut(usize::from(*new))? = Some(number);
        }
        let old: Vec<usize> = old.into_iter().collect::<Option<_>>()?;
        for (at, instruction) in function.code.iter().enumerate() {
            if let Some(number) = Operation::captured(*instruction) {
                let instruction = Operation::with_captured(*instruction, *numbers.get(number)?);
                put(&mut out, function.code_at + at * 4, &instruction.to_ne_bytes())?;
            }
        }
        let outer = around[position].map(|around| numbering[around].as_slice());
        for (new, old) in old.iter().enumerate() {
            let held = there(function.captured.get(old * BYTES..(old + 1) * BYTES)?, outer)?;
            match Version::MAKES_FUNCTION {
                Some(_) => {
                    let says = Operation::capturing(held[0] == 1, held[1]);
                    put(&mut out, function.captured_at + new * 4, &says.to_ne_bytes())?;
                }
                None => put(&mut out, function.captured_at + new * BYTES, &held)?,
            }
        }
        if !function.names_written.is_empty() {
            let names = old.iter().map(|old| function.names_written.get(*old).copied());
            put(&mut out, function.names_at, &names.collect::<Option<Vec<_>>>()?.concat())?;
        }
    }
    Some(out)
}

fn put(chunk: &mut [u8], at: usize, bytes: &[u8]) -> Option<()> {
    chunk.get_mut(at..at + bytes.len())?.copy_from_slice(bytes);
    Some(())
}
