//! Reads a compiled chunk of Lua 5.4 for which lines have code, function by function.
//!
//! The layout is that of `ldump.c` and `lundump.c` of Lua 5.4; the rule for which instructions count is that of
//! `lua_getinfo` with `L`. The chunk is made by the very engine that runs the script, in this process.

use adzeman_core::source::{Line, LineSet};

/// One function of a chunk.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub(crate) struct Prototype<'a> {
    /// Line of its definition; 0 for a whole chunk.
    pub(crate) first: u32,
    /// Last line of its definition; 0 for a whole chunk.
    pub(crate) last: u32,
    /// Lines with code, nested functions not included.
    pub(crate) lines: LineSet,
    /// Its instructions.
    pub(crate) code: Vec<u32>,
    /// The line of each instruction; 0 for those of a chunk without lines.
    pub(crate) line_of: Vec<u32>,
    /// Its constants: the texts among them.
    pub(crate) texts: Vec<Option<&'a [u8]>>,
    /// Its captured variables: of which function, which of its variables, and of which kind.
    pub(crate) captured: &'a [u8],
    /// Where in the chunk its instructions begin, and what is written of its captured variables: what they are, and their names.
    pub(crate) code_at: usize,
    pub(crate) captured_at: usize,
    pub(crate) names_at: usize,
    /// Their names; none in a chunk without names.
    pub(crate) captured_names: Vec<&'a [u8]>,
    /// Its local variables, in the order in which they come into scope; none in a chunk without names.
    pub(crate) locals: Vec<Local<'a>>,
    /// How many functions are defined directly inside it.
    pub(crate) inside: usize,
}

/// A local variable: of those that are in scope at an instruction, the first is in register 0, and so on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Local<'a> {
    /// Its name; that of what a loop keeps is in parentheses.
    pub(crate) name: &'a [u8],
    /// The first instruction that it is in scope at.
    pub(crate) from: usize,
    /// The first one behind that it is not.
    pub(crate) to: usize,
}

/// A signature, the version and format, six bytes that show damaged copies, and three sizes (`ldump.c`).
const HEADER: &[u8] = b"\x1bLua\x54\x00\x19\x93\r\n\x1a\n\x04\x08\x08";
/// A sample integer and a sample float follow, then the number of captured variables.
const AFTER_HEADER: usize = 8 + 8 + 1;
/// In the list of line steps: look the line up in the list of absolute lines (`ldebug.h`).
const ABSOLUTE: i8 = -0x80;
/// Far beyond what the compiler itself allows.
const DEEPEST: usize = 250;

/// All functions of a chunk, outer ones first; `None` when it is not of the layout known here.
pub(crate) fn prototypes(chunk: &[u8]) -> Option<Vec<Prototype<'_>>> {
    let mut reader = Reader { rest: chunk.strip_prefix(HEADER)?, size: chunk.len() };
    reader.bytes(AFTER_HEADER)?;
    let mut found = Vec::new();
    reader.function(&mut found, 0)?;
    Some(found)
}

struct Reader<'a> {
    rest: &'a [u8],
    size: usize,
}

impl<'a> Reader<'a> {
    fn bytes(&mut self, count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.rest.split_at_checked(count)?;
        self.rest = rest;
        Some(taken)
    }

    /// How far the chunk is read.
    fn at(&self) -> usize {
        self.size - self.rest.len()
    }

    fn byte(&mut self) -> Option<u8> {
        self.bytes(1).map(|bytes| bytes[0])
    }

    /// Seven bits a byte, the highest first, the last one marked.
    fn number(&mut self) -> Option<usize> {
        let mut number = 0_usize;
        loop {
            let byte = self.byte()?;
            number = number.checked_mul(128)? + usize::from(byte & 0x7f);
            if byte & 0x80 != 0 {
                return Some(number);
            }
        }
    }

    fn line(&mut self) -> Option<u32> {
        self.number()?.try_into().ok()
    }

    fn string(&mut self) -> Option<&'a [u8]> {
        let size = self.number()?;
        self.bytes(size.saturating_sub(1))
    }

    fn constants(&mut self) -> Option<Vec<Option<&'a [u8]>>> {
        let mut texts = Vec::new();
        for _ in 0..self.number()? {
            texts.push(match self.byte()? {
                0 | 1 | 17 => None,
                // Functions, which only bodies of this engine have there: nothing is written behind the tag.
                6 | 22 => None,
                3 | 19 => self.bytes(8).map(|_| None)?,
                4 | 20 => Some(self.string()?),
                _ => return None,
            });
        }
        Some(texts)
    }

    fn function(&mut self, found: &mut Vec<Prototype<'a>>, depth: usize) -> Option<()> {
        if depth > DEEPEST {
            return None;
        }
        self.string()?;
        let (first, last) = (self.line()?, self.line()?);
        self.byte()?;
        let is_vararg = self.byte()? != 0;
        self.byte()?;
        let instructions = self.number()?;
        let code_at = self.at();
        let code = self.bytes(instructions.checked_mul(4)?)?;
        let code =
            code.chunks_exact(4).map(|bytes| u32::from_ne_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])).collect();
        let texts = self.constants()?;
        let captured = self.number()?;
        let captured_at = self.at();
        let captured = self.bytes(captured.checked_mul(3)?)?;
        let position = found.len();
        found.push(Prototype { first, last, code, texts, captured, code_at, captured_at, ..Prototype::default() });
        found[position].inside = self.number()?;
        for _ in 0..found[position].inside {
            self.function(found, depth + 1)?;
        }
        let line_of = self.lines(first)?;
        // The first instruction of a function with any number of arguments only prepares them.
        let reached = &line_of[usize::from(is_vararg).min(line_of.len())..];
        found[position].lines = reached.iter().filter_map(|line| Line::new(*line)).collect();
        found[position].line_of = line_of;
        found[position].locals = self.locals()?;
        (found[position].names_at, found[position].captured_names) = self.captured_names()?;
        Some(())
    }

    fn lines(&mut self, first: u32) -> Option<Vec<u32>> {
        let count = self.number()?;
        let steps = self.bytes(count)?;
        let mut absolute = Vec::new();
        for _ in 0..self.number()? {
            absolute.push((self.number()?, self.line()?));
        }
        let mut line = i64::from(first);
        let mut lines = Vec::with_capacity(count);
        for (instruction, step) in steps.iter().enumerate() {
            let step = i8::from_le_bytes([*step]);
            line = match step {
                ABSOLUTE => i64::from(absolute.iter().find(|(at, _)| *at == instruction)?.1),
                step => line + i64::from(step),
            };
            lines.push(u32::try_from(line).ok()?);
        }
        Some(lines)
    }

    fn locals(&mut self) -> Option<Vec<Local<'a>>> {
        let count = self.number()?;
        (0..count).map(|_| Some(Local { name: self.string()?, from: self.number()?, to: self.number()? })).collect()
    }

    fn captured_names(&mut self) -> Option<(usize, Vec<&'a [u8]>)> {
        let count = self.number()?;
        Some((self.at(), (0..count).map(|_| self.string()).collect::<Option<_>>()?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines_of(text: &str) -> Vec<(u32, u32, Vec<u32>)> {
        let chunk = mlua::Lua::new().load(text).into_function().unwrap().dump(false);
        let found = prototypes(&chunk).expect("the layout of this engine is known");
        found.iter().map(|p| (p.first, p.last, p.lines.iter().map(Line::get).collect())).collect()
    }

    #[test]
    fn lines_of_nested_functions_are_told_apart() {
        let text = "local a = 1\n\nlocal function f(x)\n  -- nothing\n  return x\nend\nprint(a, 2^53, 'long' .. a)\n";
        assert_eq!(lines_of(text), [(0, 0, vec![1, 6, 7]), (3, 6, vec![5, 6])]);
    }

    #[test]
    fn far_lines_and_varargs_are_read() {
        let text = format!("local t = {{...}}{}return t", "\n".repeat(1000));
        assert_eq!(lines_of(&text), [(0, 0, vec![1, 1001])]);
    }

    #[test]
    fn anything_else_is_refused() {
        assert_eq!(prototypes(b""), None);
        assert_eq!(prototypes(b"\x1bLua\x53\x00"), None);
        let chunk = mlua::Lua::new().load("return 1").into_function().unwrap().dump(false);
        for cut in 0..chunk.len() {
            assert_eq!(prototypes(&chunk[..cut]), None, "cut at {cut}");
        }
    }
}
