//! Lua 5.5.

use full_moon::LuaVersion;

use super::chunk::Reader;
use super::operations::{Instructions, Question};
use super::since54::{self, constant, lines_by_steps};
use super::{Dialect, Records, member};

/// What this version is like, where it is the one that the crate is built for.
pub(crate) enum Version {}

/// A function that has its further arguments on the stack, or in a table (`PF_VAHID`, `PF_VATAB`).
const TAKES_ANY: u8 = 1 | 2;

/// In the flags of a table: its nodes are none of its own (`BITDUMMY`).
const HAS_NO_NODES: u8 = 1 << 6;
/// From how many nodes on a table keeps which of them are free, as a power of two (`LIMFORLAST`).
const LOG_OF_MANY: u8 = 3;
/// The longest text that is interned (`LUAI_MAXSHORTLEN`).
const MOST_SHORT: usize = 40;

impl Dialect for Version {
    const RECORDS: Records = Records { hooks_of_thread: 10, ..since54::RECORDS };
    const INSTRUCTIONS: Instructions = since54::INSTRUCTIONS;
    const HEADER: &'static [u8] = b"\x1bLua\x55\x00\x19\x93\r\n\x1a\n";
    /// The sizes of an `int`, an instruction, an integer and a float, each with a sample, and the number of captured variables.
    const AFTER_HEADER: usize = (1 + 4) + (1 + 4) + (1 + 8) + (1 + 8) + 1;
    const ALIGNMENT: usize = 4;
    const SOURCE_COMES_FIRST: bool = false;
    const POINTS_TO_LONG_TEXTS: bool = true;
    const DEBT_IS_BESIDE: bool = false;
    const TABLE: usize = 48;
    const USERDATA_WITH_VALUES: usize = 48;

    /// What declares globals is not known to it: such a text does not parse.
    fn grammar() -> LuaVersion {
        LuaVersion::lua54()
    }

    /// Seven bits a byte, the highest first, all but the last one marked.
    fn number(reader: &mut Reader<'_>) -> Option<usize> {
        let mut number = 0_usize;
        loop {
            let byte = reader.byte()?;
            number = number.checked_mul(128)? + usize::from(byte & 0x7f);
            if byte & 0x80 == 0 {
                return Some(number);
            }
        }
    }

    /// Its length and one, its bytes and a zero, where it is new; 0 and its number among those that were, or 0 for none.
    fn text<'a>(reader: &mut Reader<'a>) -> Option<&'a [u8]> {
        let start = reader.at();
        match Self::number(reader)? {
            0 => match Self::number(reader)?.checked_sub(1) {
                None => Some(&[]),
                Some(number) => {
                    let text = *reader.texts.get(number)?;
                    reader.placed.push((start, reader.at(), Some(written(text))));
                    Some(text)
                }
            },
            size => {
                let text = reader.bytes(size)?.strip_suffix(&[0])?;
                reader.texts.push(text);
                Some(text)
            }
        }
    }

    fn constant<'a>(reader: &mut Reader<'a>, tag: u8) -> Option<Option<&'a [u8]>> {
        constant(reader, tag, |reader| {
            // Of up to 64 bits.
            while reader.byte()? & 0x80 != 0 {}
            Some(())
        })
    }

    fn lines(reader: &mut Reader<'_>, first: u32) -> Option<Vec<u32>> {
        lines_by_steps(reader, first, |reader| {
            let count = Self::number(reader)?;
            if count == 0 {
                return Some(Vec::new());
            }
            reader.align()?;
            let pairs = reader.words(count.checked_mul(2)?)?;
            Some(pairs.chunks_exact(2).map(|pair| (pair[0] as usize, pair[1])).collect())
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

    /// Elements are kept as values and their tags, with a number between them (`concretesize`); many nodes have one more word.
    fn jump_over(count: usize) -> Option<u32> {
        Some(since54::jump_over(count))
    }

    fn asked_whether_true(code: &[u32]) -> Option<Question> {
        since54::asked_whether_true(code)
    }

    fn size_of_table(record: &[u8]) -> usize {
        let [flags, log_of_nodes] = member(record, 10);
        let elements = u32::from_ne_bytes(member(record, 12)) as usize;
        let elements = if elements == 0 { 0 } else { elements * (8 + 1) + 4 };
        let nodes = match log_of_nodes {
            _ if flags & HAS_NO_NODES != 0 => 0,
            log @ 0..LOG_OF_MANY => 24 << log,
            log => (24 << (log & 31)) + 8,
        };
        Self::TABLE + elements + nodes
    }

    fn size_of_text(length: usize) -> usize {
        let header = if length > MOST_SHORT { 32 } else { Self::RECORDS.text_of_string };
        header + length + 1
    }

    fn prepares_arguments(flags: u8) -> bool {
        flags & TAKES_ANY != 0
    }
}

/// A text as it is where it is new.
fn written(text: &[u8]) -> Vec<u8> {
    let length = text.len() + 1;
    let mut bytes = vec![(length & 0x7f) as u8];
    let mut rest = length >> 7;
    while rest > 0 {
        bytes.insert(0, (rest & 0x7f) as u8 | 0x80);
        rest >>= 7;
    }
    bytes.extend_from_slice(text);
    bytes.push(0);
    bytes
}
