//! What differs between versions of the engine: its compiled code, and where it keeps what. One file a version says how that one
//! has it; nothing here touches a state. Whatever is said of records and instructions is compared with the library that runs
//! before it is used (`ffi/layout.rs`, `arm/known.rs`).

pub(crate) mod chunk;
pub(crate) mod numbering;
pub(crate) mod operations;
pub(crate) mod patches;

#[cfg(feature = "lua54")]
#[path = "lua54.rs"]
mod version;
#[cfg(feature = "lua55")]
#[path = "lua55.rs"]
mod version;

#[cfg(not(any(feature = "lua54", feature = "lua55")))]
compile_error!("choose the engine's version by one of the features 'lua54' and 'lua55'");
#[cfg(all(feature = "lua54", feature = "lua55"))]
compile_error!("choose one version of the engine: 'lua54' and 'lua55' cannot be used at once");

/// The version that this is built for.
pub(crate) use version::Version;

use chunk::Reader;

/// A version of the engine.
pub(crate) trait Dialect {
    /// Where it keeps what.
    const RECORDS: Records;
    /// What a chunk begins with: a signature, the version and format, and bytes that show damaged copies (`ldump.c`).
    const HEADER: &'static [u8];
    /// Bytes between these and the first function.
    const AFTER_HEADER: usize;
    /// To what multiple of bytes instructions are aligned in a chunk.
    const ALIGNMENT: usize;
    /// Whether a function begins with the name of its source, and does not end with it.
    const SOURCE_COMES_FIRST: bool;
    /// Whether a long text lies elsewhere, where the record says that has a short one in that place.
    const POINTS_TO_LONG_TEXTS: bool;
    /// Bytes of the record of a table.
    const TABLE: usize;
    /// Bytes of a userdata before those of the host, where values are attached to it, without these.
    const USERDATA_WITH_VALUES: usize;

    /// Reads a number that takes as many bytes as it needs.
    fn number(reader: &mut Reader<'_>) -> Option<usize>;

    /// Reads a text.
    fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]>;

    /// Passes over a constant that is a whole number.
    fn whole_constant(reader: &mut Reader<'_>) -> Option<()>;

    /// Reads the pairs of instructions and their lines that are not told by steps.
    fn absolute_lines(reader: &mut Reader<'_>) -> Option<Vec<(usize, u32)>>;

    /// The size of a table with this record.
    fn size_of_table(record: &[u8]) -> usize;

    /// The size of a text of so many bytes.
    fn size_of_text(length: usize) -> usize;

    /// Whether a function's flags say that it takes any number of arguments, so that its first instruction only prepares them.
    fn prepares_arguments(flags: u8) -> bool;
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

/// A number of a record.
fn member<const BYTES: usize>(record: &[u8], at: usize) -> [u8; BYTES] {
    let bytes = record.get(at..at + BYTES).and_then(|bytes| bytes.try_into().ok());
    bytes.unwrap_or([0; BYTES])
}
