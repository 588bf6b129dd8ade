//! Lua 5.2.

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
        captured_count: 80,
        constant_count: 84,
        code_count: 88,
        inner_count: 96,
        first_line: 104,
        last_line: 108,
        constants: 16,
        code: 24,
        inner: 32,
        source: 72,
        shared_of_thread: 24,
        hooks_of_thread: 73,
        stack_of_thread: 56,
        call_of_thread: 32,
        function_of_call: 0,
        calls: Calls::Linked { previous: 16 },
        place_of_call: 56,
        text_of_string: 24,
    };
    /// `OP_MOVE` and `OP_LOADK`, `OP_LOADBOOL` to `OP_GETUPVAL`, `OP_NOT`, `OP_JMP` and `OP_EQ`, `OP_TEST` and `OP_TESTSET`.
    const INSTRUCTIONS: Instructions =
        Instructions { call: 29, harmless: &[0..=1, 3..=5, 20..=20, 23..=24, 27..=28], ..before54::INSTRUCTIONS };
    /// The order of bytes, four sizes, and whether numbers are whole are part of it.
    const HEADER: &'static [u8] = b"\x1bLua\x52\x00\x01\x04\x08\x04\x08\x00\x19\x93\r\n\x1a\n";
    const AFTER_HEADER: usize = 0;
    const SOURCE_COMES_FIRST: bool = false;
    const CAPTURED: usize = 2;
    const CALCULATES_IN_PLACE: bool = false;
    const READS_AHEAD: bool = true;
    const PLACE_BEFORE: Option<PlaceBefore> = Some(PlaceBefore { of_thread: 40, lines_of_prototype: 40 });
    const TAIL_CALLS_MOVE: bool = true;
    const NO_THREAD: Option<&'static CStr> = Some(c"coroutine expected");
    const TAKES_ANY_HANDLER: bool = true;
    const TELLS_MASK_OF_NO_HOOK: bool = true;
    const NO_MEMORY_FOR_BUFFER: Option<&'static str> = Some("not enough memory for buffer allocation");
    const INNER_COME_FIRST: bool = true;
    const HAS_INTEGERS: bool = false;
    const THREAD: usize = 208;
    const WHITE: u8 = 1 | 1 << 1;
    const HAS_FINALIZER: Option<u8> = Some(1 << 4);
    const CLOSES_COLLECTOR: bool = false;
    const TABLE: usize = 56;
    const NODE: Node = Node { size: 40, key: 16, tag_of_key: 24 };
    const USERDATA: usize = 40;
    const USERDATA_WITH_VALUES: usize = 40;
    /// It has room for one, always.
    const ATTACHED: usize = 0;

    fn grammar() -> LuaVersion {
        LuaVersion::lua52()
    }

    fn number(reader: &mut Reader<'_>) -> Option<usize> {
        before54::number(reader)
    }

    fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]> {
        before54::text(reader)
    }

    fn constant<'a>(reader: &mut Reader<'a>, tag: u8) -> Option<Option<&'a [u8]>> {
        before54::constant(reader, tag)
    }

    fn lines(reader: &mut Reader<'_>, _: u32) -> Option<Vec<u32>> {
        before54::lines(reader)
    }

    fn results(instruction: u32) -> Option<(u32, Option<u32>)> {
        before54::results(instruction, RETURN)
    }

    fn size_of_table(record: &[u8]) -> usize {
        before54::size_of_table(record, u32::from_ne_bytes(member(record, 12)), 24, 32)
    }

    fn size_of_text(length: usize) -> usize {
        Self::RECORDS.text_of_string + length + 1
    }

    /// There is no such instruction.
    fn prepares_arguments(_: u8) -> bool {
        false
    }
}

/// `OP_RETURN` (`lopcodes.h`).
const RETURN: u32 = 31;
