//! What differs between versions of the engine: its compiled code, and where it keeps what. One file a version says how that one
//! has it; nothing here touches a state. Whatever is said of records and instructions is compared with the library that runs
//! before it is used (`ffi/layout.rs`, `arm/known.rs`).

#[cfg(any(feature = "lua52", feature = "lua53"))]
mod before54;
pub(crate) mod chunk;
pub(crate) mod natives;
pub(crate) mod numbering;
pub(crate) mod operations;
pub(crate) mod patches;
#[cfg(any(feature = "lua54", feature = "lua55"))]
mod since54;

#[cfg(feature = "lua52")]
mod lua52;
#[cfg(feature = "lua53")]
mod lua53;
#[cfg(feature = "lua54")]
mod lua54;
#[cfg(feature = "lua55")]
mod lua55;

#[cfg(not(any(feature = "lua52", feature = "lua53", feature = "lua54", feature = "lua55")))]
compile_error!("choose the engine's version by one of the features 'lua52' to 'lua55'");

#[cfg(feature = "lua52")]
pub(crate) use lua52::Version;
#[cfg(feature = "lua53")]
pub(crate) use lua53::Version;
#[cfg(feature = "lua54")]
pub(crate) use lua54::Version;
#[cfg(feature = "lua55")]
pub(crate) use lua55::Version;

use std::ffi::CStr;

use chunk::Reader;
use full_moon::LuaVersion;
use operations::{Instructions, Question};

/// A version of the engine. What is given here is as the latest ones have it.
pub(crate) trait Dialect {
    /// Where it keeps what.
    const RECORDS: Records;
    /// What a chunk begins with: a signature, the version and format, and bytes that show damaged copies (`ldump.c`).
    const HEADER: &'static [u8];
    /// Bytes between these and the first function.
    const AFTER_HEADER: usize;
    /// To what multiple of bytes instructions are aligned in a chunk.
    const ALIGNMENT: usize = 1;
    /// Whether a function begins with the name of its source, and does not end with it.
    const SOURCE_COMES_FIRST: bool;
    /// Whether a long text lies elsewhere, where the record says that has a short one in that place.
    const POINTS_TO_LONG_TEXTS: bool = false;
    /// Bytes that a captured variable takes in a chunk: whether it is a variable of the function around, its number there, and what
    /// else there is to say of it.
    const CAPTURED: usize = 3;
    /// Its instructions.
    const INSTRUCTIONS: Instructions;
    /// Whether conditions calculate in the functions themselves: what does so is followed by an instruction for what is no number.
    const CALCULATES_IN_PLACE: bool = true;
    /// Whether an instruction is read before the hook is called that comes before it.
    const READS_AHEAD: bool = false;
    /// How a new line is told from one that was come to before, where that is by the place of any function before.
    const PLACE_BEFORE: Option<PlaceBefore> = None;
    /// Whether a tail call is told of before its function has taken the place of its caller.
    const TAIL_CALLS_MOVE: bool = false;
    /// What is said of what is no coroutine where one is wanted; its type, where this is nothing.
    const NO_THREAD: Option<&'static CStr> = None;
    /// Whether `xpcall` takes anything for its handler.
    const TAKES_ANY_HANDLER: bool = false;
    /// Whether a script that asks for a hook where there is none is told of its mask and count.
    const TELLS_MASK_OF_NO_HOOK: bool = false;
    /// What is raised, as any error, where there is no memory for a text that is being made.
    const NO_MEMORY_FOR_BUFFER: Option<&'static str> = None;
    /// Bytes of the record of a thread.
    const THREAD: usize = 192;
    /// In the mark of an object: its colour while it is white, and whether it is among those that have finalizers.
    const WHITE: u8 = 1 << 3 | 1 << 4;
    const HAS_FINALIZER: u8 = 1 << 6;
    /// Whether the collector's whole API can be closed (`gcstp`).
    const CLOSES_COLLECTOR: bool = true;
    /// Whether what the collector's debt counts is in use beside the total, or is not in use of it.
    const DEBT_IS_BESIDE: bool = true;
    /// Bytes of the record of a table.
    const TABLE: usize;
    /// The nodes of a table.
    const NODE: Node = Node { size: 24, key: 16, tag_of_key: 9 };
    /// Bytes of a userdata before those of the host: where no value is attached to it; where some are, without these; and of each value.
    const USERDATA: usize = 32;
    const USERDATA_WITH_VALUES: usize;
    const ATTACHED: usize = 16;
    /// Whether the functions inside a function come before its captured variables.
    const INNER_COME_FIRST: bool = false;
    /// Whether numbers are of two kinds.
    const HAS_INTEGERS: bool = true;

    /// How its texts are read.
    fn grammar() -> LuaVersion;

    /// Reads a number that takes as many bytes as it needs.
    fn number(reader: &mut Reader<'_>) -> Option<usize>;

    /// Reads a text.
    fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]>;

    /// Reads a constant of this tag: its text, if it is one.
    fn constant<'a>(reader: &mut Reader<'a>, tag: u8) -> Option<Option<&'a [u8]>>;

    /// Reads the line of each instruction of a function that begins on line `first`.
    fn lines(reader: &mut Reader<'_>, first: u32) -> Option<Vec<u32>>;

    /// The instruction that goes on at `to`, standing at `at`, where it can be [put in](Self::READS_AHEAD).
    fn jump_to(at: usize, to: usize) -> Option<u32> {
        let _ = (at, to);
        None
    }

    /// The instruction that closes the captured variables from this register on, where it can be put in.
    fn close_from(register: u8) -> Option<u32> {
        let _ = register;
        None
    }

    /// The register of the variable that an instruction marks as one to be closed when it leaves its scope.
    fn marks_closing(instruction: u32) -> Option<u32> {
        let _ = instruction;
        None
    }

    /// Of the instruction that a function returns by: the register of its first result, and how many there are, unless all that are left
    /// on the stack. Nothing where the engine tells by itself.
    fn results(instruction: u32) -> Option<(u32, Option<u32>)> {
        let _ = instruction;
        None
    }

    /// The instruction that jumps over so many others, where any is needed: [in place](Self::CALCULATES_IN_PLACE) of one that hands on what
    /// is no number.
    fn jump_over(count: usize) -> Option<u32> {
        let _ = count;
        None
    }

    /// Makes of two instructions the question whether a constant is true, if they are the one whether it is nil and that costs less: for
    /// what is nil or a function, it is the same.
    fn asked_whether_true(code: &[u32]) -> Option<Question> {
        let _ = code;
        None
    }

    /// The size of a table with this record.
    fn size_of_table(record: &[u8]) -> usize;

    /// The size of a text of so many bytes.
    fn size_of_text(length: usize) -> usize;

    /// Whether a function's flags say that it takes any number of arguments, so that its first instruction only prepares them.
    fn prepares_arguments(flags: u8) -> bool;
}

/// Where it is by which a new line is told: the place of a thread before (`lua_State.oldpc`), and the lines of a body's instructions
/// (`Proto.lineinfo`).
#[derive(Debug, Clone, Copy)]
pub(crate) struct PlaceBefore {
    pub(crate) of_thread: usize,
    pub(crate) lines_of_prototype: usize,
}

/// Where members lie in the engine's records, in bytes, on 64-bit machines (`lobject.h`, `lstate.h`).
pub(crate) struct Records {
    /// `LClosure.p`.
    pub(crate) prototype_of_closure: usize,
    /// `CClosure.f`.
    pub(crate) code_of_native_closure: usize,
    /// Of `Proto`: how many captured variables, constants, instructions, and functions inside.
    pub(crate) captured_count: usize,
    pub(crate) constant_count: usize,
    pub(crate) code_count: usize,
    pub(crate) inner_count: usize,
    /// The lines of its definition.
    pub(crate) first_line: usize,
    pub(crate) last_line: usize,
    /// Where constants, instructions, functions inside, and the name of its source are.
    pub(crate) constants: usize,
    pub(crate) code: usize,
    pub(crate) inner: usize,
    pub(crate) source: usize,
    /// Of `lua_State`: what all threads share, whether a hook may run (0 while one does, or a finalizer), the stack, and the call
    /// under way.
    pub(crate) shared_of_thread: usize,
    pub(crate) hooks_of_thread: usize,
    pub(crate) stack_of_thread: usize,
    pub(crate) call_of_thread: usize,
    /// Of `CallInfo`: the function, the call below, and the instruction behind the one that runs.
    pub(crate) function_of_call: usize,
    pub(crate) previous_of_call: usize,
    pub(crate) place_of_call: usize,
    /// The text of a short `TString`.
    pub(crate) text_of_string: usize,
}

/// A node of a table, in bytes: how long it is, and where its key and the tag of that lie in it. Its value comes first.
pub(crate) struct Node {
    pub(crate) size: usize,
    pub(crate) key: usize,
    pub(crate) tag_of_key: usize,
}

/// A number of a record.
fn member<const BYTES: usize>(record: &[u8], at: usize) -> [u8; BYTES] {
    let bytes = record.get(at..at + BYTES).and_then(|bytes| bytes.try_into().ok());
    bytes.unwrap_or([0; BYTES])
}
