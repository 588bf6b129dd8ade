//! What Lua 5.2 and 5.3 have in common.

use super::chunk::Reader;

/// Bits of an instruction that say what it does, its first operand behind them, and where its second one begins (`lopcodes.h`).
const OPERATION: u32 = 0x3f;
const FIRST: u32 = 6;
const FIRST_OPERAND: u32 = 0xff;
const SECOND: u32 = 23;

/// A number of 32 bits.
pub(super) fn number(reader: &mut Reader<'_>) -> Option<usize> {
    usize::try_from(reader.words(1)?[0]).ok()
}

/// The line of each instruction.
pub(super) fn lines(reader: &mut Reader<'_>) -> Option<Vec<u32>> {
    let count = number(reader)?;
    reader.words(count)
}

/// What an instruction returns, if it is `returns`: the register of the first value, and how many; all that are left where that is not
/// said. It counts one more than there are.
pub(super) fn results(instruction: u32, returns: u32) -> Option<(u32, Option<u32>)> {
    let is_return = instruction & OPERATION == returns;
    is_return.then(|| (instruction >> FIRST & FIRST_OPERAND, (instruction >> SECOND).checked_sub(1)))
}
