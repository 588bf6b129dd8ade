//! Lua 5.4.

use full_moon::LuaVersion;

use super::chunk::Reader;
use super::operations::{Instructions, Question};
use super::since54::{self, constant, lines_by_steps};
use super::{Dialect, Records, member};

/// What this version is like, where it is the one that the crate is built for.
pub(crate) enum Version {}

/// In the flags of a table: the limit of its elements is not how many there is room for (`BITRAS`).
const LIMIT_IS_A_HINT: u8 = 1 << 7;

impl Dialect for Version {
    const RECORDS: Records = since54::RECORDS;
    /// Three sizes are part of it.
    const INSTRUCTIONS: Instructions = since54::INSTRUCTIONS;
    const HEADER: &'static [u8] = b"\x1bLua\x54\x00\x19\x93\r\n\x1a\n\x04\x08\x08";
    /// A sample integer, a sample float, and the number of captured variables.
    const AFTER_HEADER: usize = 8 + 8 + 1;
    const SOURCE_COMES_FIRST: bool = true;
    const TABLE: usize = 56;
    const USERDATA_WITH_VALUES: usize = 40;

    fn grammar() -> LuaVersion {
        LuaVersion::lua54()
    }

    /// Seven bits a byte, the highest first, the last one marked.
    fn number(reader: &mut Reader<'_>) -> Option<usize> {
        let mut number = 0_usize;
        loop {
            let byte = reader.byte()?;
            number = number.checked_mul(128)? + usize::from(byte & 0x7f);
            if byte & 0x80 != 0 {
                return Some(number);
            }
        }
    }

    /// Its length and one, and its bytes.
    fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]> {
        let size = Self::number(reader)?;
        reader.bytes(size.saturating_sub(1))
    }

    fn constant<'a>(reader: &mut Reader<'a>, tag: u8) -> Option<Option<&'a [u8]>> {
        constant(reader, tag, |reader| reader.bytes(8).map(drop))
    }

    fn lines(reader: &mut Reader<'_>, first: u32) -> Option<Vec<u32>> {
        lines_by_steps(reader, first, |reader| {
            let count = Self::number(reader)?;
            (0..count).map(|_| Some((Self::number(reader)?, Self::number(reader)?.try_into().ok()?))).collect()
        })
    }

    fn jump_to(at: usize, to: usize) -> Option<u32> {
        since54::jump_to(at, to)
    }

    fn close_from(register: u8) -> Option<u32> {
        Some(since54::close_from(register))
    }

    fn marks_closing(instruction: u32) -> Option<u32> {
        since54::marks_closing(instruction)
    }

    fn jump_over(count: usize) -> Option<u32> {
        Some(since54::jump_over(count))
    }

    fn asked_whether_true(code: &[u32]) -> Option<Question> {
        since54::asked_whether_true(code)
    }

    fn size_of_table(record: &[u8]) -> usize {
        let [flags, log_of_nodes] = member(record, 10);
        let limit = u32::from_ne_bytes(member(record, 12)) as usize;
        let last_free = usize::from_ne_bytes(member(record, 32));
        let elements = if flags & LIMIT_IS_A_HINT == 0 || limit == 0 { limit } else { limit.next_power_of_two() };
        let nodes = if last_free == 0 { 0 } else { 1_usize << (log_of_nodes & 31) };
        Self::TABLE + 16 * elements + 24 * nodes
    }

    fn size_of_text(length: usize) -> usize {
        Self::RECORDS.text_of_string + length + 1
    }

    fn prepares_arguments(flags: u8) -> bool {
        flags != 0
    }
}
