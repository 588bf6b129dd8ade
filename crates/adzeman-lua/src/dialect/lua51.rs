//! Lua 5.1.

use std::ffi::CStr;

use full_moon::LuaVersion;

use super::before54;
use super::chunk::Reader;
use super::operations::Instructions;
use super::{Calls, Dialect, Node, Records, Tags, member};

/// What this version is like, where it is the one that the crate is built for.
pub(crate) enum Version {}

impl Dialect for Version {
    const RECORDS: Records = Records {
        prototype_of_closure: 32,
        code_of_native_closure: 32,
        captured_count: 72,
        constant_count: 76,
        code_count: 80,
        inner_count: 88,
        first_line: 96,
        last_line: 100,
        constants: 16,
        code: 24,
        inner: 32,
        source: 64,
        shared_of_thread: 32,
        hooks_of_thread: 101,
        stack_of_thread: 64,
        call_of_thread: 40,
        function_of_call: 8,
        calls: Calls::Numbered {
            first_of_thread: 80,
            place_of_thread: 48,
            size: 40,
            tail_calls: 36,
            base: 0,
            top_of_thread: 16,
            values_of_thread: 24,
            main_thread: 176,
        },
        place_of_call: 24,
        text_of_string: 24,
    };
    /// No object has a mark in its tag, and functions are of one tag (`ClosureHeader`, `isC`).
    const TAGS: Tags = Tags {
        script: 6,
        native: u8::MAX,
        native_closure: 6,
        short_string: 4,
        is_object: 0,
        is_native_of_closure: Some(10),
    };
    /// `OP_MOVE` to `OP_GETUPVAL`, `OP_NOT`, `OP_JMP` and `OP_EQ`, `OP_TEST` and `OP_TESTSET`.
    const INSTRUCTIONS: Instructions = Instructions {
        get_captured: 4,
        set_captured: 8,
        // Globals are not fields of a captured variable.
        get_field_of_captured: u32::MAX,
        set_field_of_captured: u32::MAX,
        get_global: Some(5),
        call: 28,
        harmless: &[0..=4, 19..=19, 22..=23, 26..=27],
        ..before54::INSTRUCTIONS
    };
    /// The order of bytes, four sizes, and whether numbers are whole are part of it.
    const HEADER: &'static [u8] = b"\x1bLua\x51\x00\x01\x04\x08\x04\x08\x00";
    const AFTER_HEADER: usize = 0;
    const SOURCE_COMES_FIRST: bool = true;
    /// As it is read off the code around.
    const CAPTURED: usize = 2;
    const MAKES_FUNCTION: Option<u32> = Some(36);
    const CALCULATES_IN_PLACE: bool = false;
    const READS_AHEAD: bool = true;
    const TAIL_CALLS_MOVE: bool = true;
    const HAS_EMPTY_STATEMENTS: bool = false;
    const NODES_OF_TABLE: usize = 32;
    const IN_USE: (usize, Option<usize>) = (120, None);
    const TAIL_CALL: Option<u32> = Some(29);
    const ENVIRONMENTS_BESIDE: bool = true;
    const NO_THREAD: Option<&'static CStr> = Some(c"coroutine expected");
    const SAYS_STATUS_OF_COROUTINE: bool = true;
    const WRAPS_SCRIPTS_ONLY: bool = true;
    const HANDS_ON_TO_PROTECTED: bool = false;
    const SEARCHERS: &'static CStr = c"loaders";
    const TAKES_ANY_HANDLER: bool = true;
    const TELLS_MASK_OF_NO_HOOK: bool = true;
    const REFUSES_TO_YIELD: Option<&'static str> = Some("attempt to yield across metamethod/C-call boundary");
    const INNER_COME_FIRST: bool = true;
    const HAS_INTEGERS: bool = false;
    const TELLS_TYPE_OF_NEW: bool = false;
    const THREAD: usize = 184;
    const WHITE: u8 = 1 | 1 << 1;
    /// Only userdata have finalizers, and stay where they are.
    const HAS_FINALIZER: Option<u8> = None;
    const CLOSES_COLLECTOR: bool = false;
    const TABLE: usize = 64;
    const FUNCTION: usize = 40;
    const NODE: Node = Node { size: 40, key: 16, tag_of_key: 24 };
    const USERDATA: usize = 40;
    const USERDATA_WITH_VALUES: usize = 40;
    /// It has a table beside it, always.
    const ATTACHED: usize = 0;

    fn grammar() -> LuaVersion {
        LuaVersion::lua51()
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
        before54::size_of_table(record, u32::from_ne_bytes(member(record, 56)), 32, 40)
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
const RETURN: u32 = 30;
