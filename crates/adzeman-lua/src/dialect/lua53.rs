//! Lua 5.3.

use std::ffi::CStr;

use full_moon::LuaVersion;

use super::before54;
use super::chunk::Reader;
use super::operations::Instructions;
use super::{Calls, Dialect, Node, PlaceBefore, Records, member};

/// What this version is like, where it is the one that the crate is built for.
pub(crate) enum Version {}

impl Dialect for Version {
    const RECORDS: Records = Records {
        prototype_of_closure: 24,
        code_of_native_closure: 24,
        captured_count: 16,
        constant_count: 20,
        code_count: 24,
        inner_count: 32,
        first_line: 40,
        last_line: 44,
        constants: 48,
        code: 56,
        inner: 64,
        source: 104,
        shared_of_thread: 24,
        hooks_of_thread: 204,
        stack_of_thread: 56,
        call_of_thread: 32,
        function_of_call: 0,
        calls: Calls::Linked { previous: 16 },
        place_of_call: 40,
        text_of_string: 24,
    };
    /// `OP_MOVE` and `OP_LOADK`, `OP_LOADBOOL` to `OP_GETUPVAL`, `OP_NOT`, `OP_JMP` and `OP_EQ`, `OP_TEST` and `OP_TESTSET`.
    const INSTRUCTIONS: Instructions =
        Instructions { call: 36, harmless: &[0..=1, 3..=5, 27..=27, 30..=31, 34..=35], ..before54::INSTRUCTIONS };
    /// Five sizes are part of it.
    const HEADER: &'static [u8] = b"\x1bLua\x53\x00\x19\x93\r\n\x1a\n\x04\x08\x04\x08\x08";
    /// A sample integer, a sample float, and the number of captured variables.
    const AFTER_HEADER: usize = 8 + 8 + 1;
    const SOURCE_COMES_FIRST: bool = true;
    const CAPTURED: usize = 2;
    const CALCULATES_IN_PLACE: bool = false;
    const READS_AHEAD: bool = true;
    const PLACE_BEFORE: Option<PlaceBefore> = Some(PlaceBefore { of_thread: 40, lines_of_prototype: 72 });
    const TAIL_CALLS_MOVE: bool = true;
    const NO_THREAD: Option<&'static CStr> = Some(c"thread expected");
    const TELLS_MASK_OF_NO_HOOK: bool = true;
    const NO_MEMORY_FOR_BUFFER: Option<&'static str> = Some("not enough memory for buffer allocation");
    const THREAD: usize = 208;
    const WHITE: u8 = 1 | 1 << 1;
    const HAS_FINALIZER: Option<u8> = Some(1 << 3);
    const CLOSES_COLLECTOR: bool = false;
    const TABLE: usize = 56;
    const NODE: Node = Node { size: 32, key: 16, tag_of_key: 24 };
    const USERDATA: usize = 40;
    const USERDATA_WITH_VALUES: usize = 40;
    /// It has room for one, always.
    const ATTACHED: usize = 0;

    fn grammar() -> LuaVersion {
        LuaVersion::lua53()
    }

    fn number(reader: &mut Reader<'_>) -> Option<usize> {
        before54::number(reader)
    }

    /// Its length and one in a byte, or in eight behind one that is full, and its bytes.
    fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]> {
        let size = match reader.byte()? {
            LONG => usize::from_ne_bytes(reader.bytes(8)?.try_into().ok()?),
            size => usize::from(size),
        };
        reader.bytes(size.saturating_sub(1))
    }

    fn constant<'a>(reader: &mut Reader<'a>, tag: u8) -> Option<Option<&'a [u8]>> {
        Some(match tag {
            // Functions, which only bodies of this engine have there: nothing is written behind the tag.
            0 | 6 | 22 => None,
            1 => reader.byte().map(|_| None)?,
            3 | 19 => reader.bytes(8).map(|_| None)?,
            4 | 20 => Some(reader.string()?),
            _ => return None,
        })
    }

    fn lines(reader: &mut Reader<'_>, _: u32) -> Option<Vec<u32>> {
        before54::lines(reader)
    }

    fn results(instruction: u32) -> Option<(u32, Option<u32>)> {
        before54::results(instruction, RETURN)
    }

    fn size_of_table(record: &[u8]) -> usize {
        let [log_of_nodes] = member(record, 11);
        let elements = u32::from_ne_bytes(member(record, 12)) as usize;
        let last_free = usize::from_ne_bytes(member(record, 32));
        let nodes = if last_free == 0 { 0 } else { 1_usize << (log_of_nodes & 31) };
        Self::TABLE + 16 * elements + 32 * nodes
    }

    fn size_of_text(length: usize) -> usize {
        Self::RECORDS.text_of_string + length + 1
    }

    /// There is no such instruction.
    fn prepares_arguments(_: u8) -> bool {
        false
    }
}

/// The first byte of a text whose length takes more.
const LONG: u8 = 0xff;
/// `OP_RETURN` (`lopcodes.h`).
const RETURN: u32 = 38;
