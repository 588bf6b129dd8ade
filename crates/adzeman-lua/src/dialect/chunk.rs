//! Reads a compiled chunk of Lua 5.4 for which lines have code, function by function.
//!
//! The layout is that of `ldump.c` and `lundump.c` of Lua 5.4; the rule for which instructions count is that of
//! `lua_getinfo` with `L`. The chunk is made by the very engine that runs the script, in this process.

use std::borrow::Cow;

use adzeman_core::source::{Line, LineSet};

use super::operations::Operation;
use super::{Dialect as _, Version};

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
    pub(crate) captured: Cow<'a, [u8]>,
    /// How many those are, also where it is not said which.
    pub(crate) captured_count: usize,
    /// Where in the chunk its instructions begin, and what is written of its captured variables: what they are, and their names.
    pub(crate) code_at: usize,
    pub(crate) captured_at: usize,
    pub(crate) names_at: usize,
    /// Their names, and how these are written; none in a chunk without names.
    pub(crate) captured_names: Vec<&'a [u8]>,
    pub(crate) names_written: Vec<&'a [u8]>,
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

/// Far beyond what the compiler itself allows.
const DEEPEST: usize = 250;

/// All functions of a chunk, outer ones first; `None` when it is not of the layout known here.
pub(crate) fn prototypes(chunk: &[u8]) -> Option<Vec<Prototype<'_>>> {
    let mut found = Vec::new();
    read(chunk, &mut found)?;
    Some(found)
}

fn read<'a>(chunk: &'a [u8], found: &mut Vec<Prototype<'a>>) -> Option<Reader<'a>> {
    let rest = chunk.strip_prefix(Version::HEADER)?;
    let mut reader = Reader { rest, size: chunk.len(), texts: Vec::new(), placed: Vec::new() };
    reader.bytes(Version::AFTER_HEADER)?;
    reader.function(found, 0)?;
    Some(reader)
}

/// What is left of a chunk.
pub(crate) struct Reader<'a> {
    rest: &'a [u8],
    size: usize,
    /// The texts so far, where later ones are told by those.
    #[cfg_attr(not(feature = "lua55"), expect(dead_code, reason = "all texts are written out"))]
    pub(super) texts: Vec<&'a [u8]>,
    /// Parts that are not the same wherever they stand: from where to where, and what to write there by itself; nothing for what
    /// aligns the rest.
    pub(super) placed: Vec<(usize, usize, Option<Vec<u8>>)>,
}

/// The same chunk, every part of which says by itself what it is.
pub(crate) fn written_out(chunk: &[u8]) -> Option<Vec<u8>> {
    let reader = read(chunk, &mut Vec::new())?;
    let (mut out, mut from) = (Vec::with_capacity(chunk.len()), 0);
    for (start, end, text) in reader.placed {
        out.extend_from_slice(&chunk[from..start]);
        match text {
            Some(text) => out.extend_from_slice(&text),
            None => out.resize(out.len().next_multiple_of(Version::ALIGNMENT), 0),
        }
        from = end;
    }
    out.extend_from_slice(&chunk[from..]);
    Some(out)
}

impl<'a> Reader<'a> {
    pub(super) fn bytes(&mut self, count: usize) -> Option<&'a [u8]> {
        let (taken, rest) = self.rest.split_at_checked(count)?;
        self.rest = rest;
        Some(taken)
    }

    /// How far the chunk is read.
    pub(super) fn at(&self) -> usize {
        self.size - self.rest.len()
    }

    pub(super) fn byte(&mut self) -> Option<u8> {
        self.bytes(1).map(|bytes| bytes[0])
    }

    /// Passes over what aligns the rest.
    pub(super) fn align(&mut self) -> Option<()> {
        let (at, aligned) = (self.at(), self.at().next_multiple_of(Version::ALIGNMENT));
        self.placed.push((at, aligned, None));
        self.bytes(aligned - at).map(drop)
    }

    /// So many numbers of 32 bits.
    pub(super) fn words(&mut self, count: usize) -> Option<Vec<u32>> {
        let bytes = self.bytes(count.checked_mul(4)?)?;
        Some(bytes.chunks_exact(4).map(|bytes| u32::from_ne_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])).collect())
    }

    pub(super) fn number(&mut self) -> Option<usize> {
        Version::number(self)
    }

    fn line(&mut self) -> Option<u32> {
        self.number()?.try_into().ok()
    }

    pub(super) fn string(&mut self) -> Option<&'a [u8]> {
        Version::text(self)
    }

    fn constants(&mut self) -> Option<Vec<Option<&'a [u8]>>> {
        let mut texts = Vec::new();
        for _ in 0..self.number()? {
            let tag = self.byte()?;
            texts.push(Version::constant(self, tag)?);
        }
        Some(texts)
    }

    fn function(&mut self, found: &mut Vec<Prototype<'a>>, depth: usize) -> Option<()> {
        if depth > DEEPEST {
            return None;
        }
        if Version::SOURCE_COMES_FIRST {
            self.string()?;
        }
        let (first, last) = (self.line()?, self.line()?);
        let captured_count = if Version::MAKES_FUNCTION.is_some() { usize::from(self.byte()?) } else { 0 };
        self.byte()?;
        let prepares_arguments = Version::prepares_arguments(self.byte()?);
        self.byte()?;
        let instructions = self.number()?;
        self.align()?;
        let code_at = self.at();
        let code = self.words(instructions)?;
        let texts = self.constants()?;
        let position = found.len();
        found.push(Prototype { first, last, code, texts, captured_count, code_at, ..Prototype::default() });
        if Version::INNER_COME_FIRST {
            self.inner(position, found, depth)?;
            self.captured(&mut found[position])?;
        } else {
            self.captured(&mut found[position])?;
            self.inner(position, found, depth)?;
        }
        if !Version::SOURCE_COMES_FIRST {
            self.string()?;
        }
        let line_of = Version::lines(self, first)?;
        // The first instruction of a function with any number of arguments only prepares them.
        let reached = &line_of[usize::from(prepares_arguments).min(line_of.len())..];
        found[position].lines = reached.iter().filter_map(|line| Line::new(*line)).collect();
        found[position].line_of = line_of;
        found[position].locals = self.locals()?;
        let count = self.number()?;
        found[position].names_at = self.at();
        for _ in 0..count {
            let before = self.rest;
            found[position].captured_names.push(self.string()?);
            found[position].names_written.push(&before[..before.len() - self.rest.len()]);
        }
        Some(())
    }

    fn captured(&mut self, function: &mut Prototype<'a>) -> Option<()> {
        if Version::MAKES_FUNCTION.is_some() {
            return Some(());
        }
        let count = self.number()?;
        function.captured_at = self.at();
        function.captured = self.bytes(count.checked_mul(Version::CAPTURED)?)?.into();
        function.captured_count = count;
        Some(())
    }

    fn inner(&mut self, position: usize, found: &mut Vec<Prototype<'a>>, depth: usize) -> Option<()> {
        let count = self.number()?;
        found[position].inside = count;
        let mut inner = Vec::new();
        for _ in 0..count {
            inner.push(found.len());
            self.function(found, depth + 1)?;
        }
        Version::MAKES_FUNCTION.map_or(Some(()), |makes| captured_in_code(found, position, &inner, makes))
    }

    fn locals(&mut self) -> Option<Vec<Local<'a>>> {
        let count = self.number()?;
        (0..count).map(|_| Some(Local { name: self.string()?, from: self.number()?, to: self.number()? })).collect()
    }
}

/// Finds what the functions inside a function capture, where its code says so behind the instruction that makes each: a move from a
/// register for a variable of its own, or what reads one that it has captured itself.
fn captured_in_code(found: &mut [Prototype<'_>], position: usize, inner: &[usize], makes: u32) -> Option<()> {
    let code = found[position].code.clone();
    for (at, instruction) in code.iter().enumerate() {
        let Some(number) = Operation::function_made(*instruction, makes) else { continue };
        let inner = *inner.get(number)?;
        let said = code.get(at + 1..at + 1 + found[inner].captured_count)?;
        let captured = said.iter().flat_map(|instruction| {
            let number = Operation::captured(*instruction);
            let register = || Operation::second(*instruction);
            number.map_or_else(|| [1, register()], |number| [0, u8::try_from(number).unwrap_or(0)])
        });
        found[inner].captured = captured.collect();
        found[inner].captured_at = found[position].code_at + (at + 1) * 4;
    }
    Some(())
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
