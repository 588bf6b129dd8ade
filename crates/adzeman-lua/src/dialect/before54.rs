//! What Lua 5.1, 5.2 and 5.3 have in common.

use super::chunk::Reader;
use super::operations::Instructions;
#[cfg(any(feature = "lua51", feature = "lua52"))]
use super::{Dialect as _, Version, member};

/// Bits of an instruction that say what it does, its first operand behind them, and where its second one begins (`lopcodes.h`).
const OPERATION: u32 = 0x3f;
const FIRST: u32 = 6;
const FIRST_OPERAND: u32 = 0xff;
const SECOND: u32 = 23;

/// What they have in common; [harmless](Instructions::harmless) are the first instructions, which load, and others by their numbers. No
/// calculation is among them: it runs metamethods, or raises, by itself.
pub(super) const INSTRUCTIONS: Instructions = Instructions {
    operation_bits: FIRST,
    second: SECOND,
    third: 14,
    second_mask: 0x1ff,
    third_mask: 0x1ff,
    constant: 14,
    load_constant: 1,
    moves: 0,
    get_global: None,
    get_captured: 5,
    set_captured: 9,
    get_field_of_captured: 6,
    set_field_of_captured: 8,
    call: u32::MAX,
    harmless: &[],
    fallbacks: None,
    asking: 2,
};

/// A number of 32 bits.
pub(super) fn number(reader: &mut Reader<'_>) -> Option<usize> {
    usize::try_from(reader.words(1)?[0]).ok()
}

/// Reads a text of 5.1 or 5.2: its length and one, its bytes and a zero; 0 for none.
#[cfg(any(feature = "lua51", feature = "lua52"))]
pub(super) fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]> {
    match usize::from_ne_bytes(reader.bytes(8)?.try_into().ok()?) {
        0 => Some(&[]),
        size => reader.bytes(size)?.strip_suffix(&[0]),
    }
}

/// Reads a constant of 5.1 or 5.2.
#[cfg(any(feature = "lua51", feature = "lua52"))]
pub(super) fn constant<'a>(reader: &mut Reader<'a>, tag: u8) -> Option<Option<&'a [u8]>> {
    Some(match tag {
        // Functions, which only bodies of this engine have there: nothing is written behind the tag.
        0 | 6 => None,
        1 => reader.byte().map(|_| None)?,
        3 => reader.bytes(8).map(|_| None)?,
        4 => Some(reader.string()?),
        _ => return None,
    })
}

/// The size of a table of 5.1 or 5.2, which has so many elements, and says in its record where its nodes are and which of them was free last.
#[cfg(any(feature = "lua51", feature = "lua52"))]
pub(super) fn size_of_table(record: &[u8], elements: u32, nodes: usize, last_free: usize) -> usize {
    let [log_of_nodes] = member(record, 11);
    let (nodes, last_free): ([u8; 8], [u8; 8]) = (member(record, nodes), member(record, last_free));
    // That of all tables without nodes of their own has no free one.
    let nodes = if log_of_nodes == 0 && nodes == last_free { 0 } else { 1_usize << (log_of_nodes & 31) };
    Version::TABLE + 16 * elements as usize + Version::NODE.size * nodes
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
