//! What differs between versions of the engine: its compiled code, and where it keeps what. One file a version says how that one
//! has it; nothing here touches a state. Whatever is said of records and instructions is compared with the library that runs
//! before it is used (`ffi/layout.rs`, `arm/known.rs`).

#[cfg(any(feature = "lua51", feature = "lua52", feature = "lua53"))]
mod before54;
pub(crate) mod chunk;
pub(crate) mod natives;
pub(crate) mod numbering;
pub(crate) mod operations;
pub(crate) mod patches;
#[cfg(any(feature = "lua54", feature = "lua55"))]
mod since54;

#[cfg(feature = "lua51")]
mod lua51;
#[cfg(feature = "lua52")]
mod lua52;
#[cfg(feature = "lua53")]
mod lua53;
#[cfg(feature = "lua54")]
mod lua54;
#[cfg(feature = "lua55")]
mod lua55;

#[cfg(not(any(feature = "lua51", feature = "lua52", feature = "lua53", feature = "lua54", feature = "lua55")))]
compile_error!("choose the engine's version by one of the features 'lua51' to 'lua55'");

#[cfg(feature = "lua51")]
pub(crate) use lua51::Version;
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
    /// How its values are tagged: variants of functions are 0, 1 and 2.
    const TAGS: Tags = Tags {
        script: 6 | 64,
        native: 6 | 1 << 4,
        native_closure: 6 | 2 << 4 | 64,
        short_string: 4 | 64,
        is_object: 64,
        is_native_of_closure: None,
    };
    /// Whether they are in an array.
    const CALLS_ARE_NUMBERED: bool = matches!(Self::RECORDS.calls, Calls::Numbered { .. });
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
    /// The instruction that calls a function in the place of its caller, where a hook is told of returns from there and not of such calls
    /// (`OP_TAILCALL`, `LUA_HOOKTAILRET`).
    const TAIL_CALL: Option<u32> = None;
    /// Whether functions have their globals beside them, and not in a variable that they capture (`lua_getfenv`).
    const ENVIRONMENTS_BESIDE: bool = false;
    /// Whether a semicolon is a statement.
    const HAS_EMPTY_STATEMENTS: bool = true;
    /// Where a table says where its nodes are.
    const NODES_OF_TABLE: usize = 24;
    /// In what threads share: what is in use, and what is to be taken into account (`totalbytes`, `GCdebt`).
    const IN_USE: (usize, Option<usize>) = (16, Some(24));
    /// The instruction that makes a function, where those behind it say what that captures, which in a chunk it says by its number only
    /// (`OP_CLOSURE`).
    const MAKES_FUNCTION: Option<u32> = None;
    /// What is said of what is no coroutine where one is wanted; its type, where this is nothing.
    const NO_THREAD: Option<&'static CStr> = None;
    /// Whether a script that resumes a coroutine which cannot be resumed is told of the status of that.
    const SAYS_STATUS_OF_COROUTINE: bool = false;
    /// Whether coroutines are made of functions written in Lua only.
    const WRAPS_SCRIPTS_ONLY: bool = false;
    /// Whether `xpcall` hands arguments on.
    const HANDS_ON_TO_PROTECTED: bool = true;
    /// Where in `package` the functions are that `require` finds files by.
    const SEARCHERS: &'static CStr = c"searchers";
    /// Whether `xpcall` takes anything for its handler.
    const TAKES_ANY_HANDLER: bool = false;
    /// Whether a script that asks for a hook where there is none is told of its mask and count.
    const TELLS_MASK_OF_NO_HOOK: bool = false;
    /// What is raised where a text yields that is evaluated, as it cannot be left by that.
    const REFUSES_TO_YIELD: Option<&'static str> = None;
    /// What is raised, as any error, where there is no memory for a text that is being made.
    const NO_MEMORY_FOR_BUFFER: Option<&'static str> = None;
    /// Whether an allocator is told the type of a new object (`lua_Alloc`).
    const TELLS_TYPE_OF_NEW: bool = true;
    /// Bytes of the record of a thread.
    const THREAD: usize = 192;
    /// In the mark of an object: its colour while it is white, and whether it is among those that have finalizers.
    const WHITE: u8 = 1 << 3 | 1 << 4;
    const HAS_FINALIZER: Option<u8> = Some(1 << 6);
    /// Whether the collector's whole API can be closed (`gcstp`).
    const CLOSES_COLLECTOR: bool = true;
    /// Whether what the collector's debt counts is in use beside the total, or is not in use of it.
    const DEBT_IS_BESIDE: bool = true;
    /// Bytes of the record of a function, without what it captures (`ClosureHeader`, and one pointer).
    const FUNCTION: usize = 32;
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
    /// Of `CallInfo`: the function, how the calls of a stack follow each other, and the instruction behind the one that runs.
    pub(crate) function_of_call: usize,
    pub(crate) calls: Calls,
    pub(crate) place_of_call: usize,
    /// The text of a short `TString`.
    pub(crate) text_of_string: usize,
}

/// How the calls of a stack follow each other.
#[allow(dead_code, reason = "a version has it in one of these ways")]
pub(crate) enum Calls {
    /// Each says which one is below (`CallInfo.previous`), and a `lua_Debug` where it is.
    Linked { previous: usize },
    /// They are in an array, which may be moved: where in the thread's record that begins (`lua_State.base_ci`) and where the one that runs
    /// has its place (`lua_State.savedpc`), and how long each is. A `lua_Debug` says the number of one (`i_ci`).
    ///
    /// Also of such versions: how many calls were made in the place of a call, in its record (`tailcalls`), and where its variables
    /// begin (`base`); in the thread's where the stack ends (`top`) and where the values begin of what runs (`base`), and in what threads
    /// share which is the main one.
    Numbered {
        first_of_thread: usize,
        place_of_thread: usize,
        size: usize,
        tail_calls: usize,
        base: usize,
        top_of_thread: usize,
        values_of_thread: usize,
        main_thread: usize,
    },
}

/// The tags of values (`lobject.h`).
pub(crate) struct Tags {
    /// Functions written in Lua; native ones without captured variables, and with them.
    pub(crate) script: u8,
    pub(crate) native: u8,
    pub(crate) native_closure: u8,
    /// A string that is interned (`LUA_VSHRSTR`, `BIT_ISCOLLECTABLE`).
    pub(crate) short_string: u8,
    /// The bit that says that a value is an object, if there is one (`BIT_ISCOLLECTABLE`).
    pub(crate) is_object: u8,
    /// Where in the record of a function it is said whether that is native, where their tags are the same (`isC`).
    pub(crate) is_native_of_closure: Option<usize>,
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
