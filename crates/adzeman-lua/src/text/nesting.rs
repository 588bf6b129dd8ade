//! How deep a text nests, found out before anything reads it that calls itself for each level; and a stack that is large enough
//! for what does.
//!
//! The parser takes up to 70 KiB of stack a level in a debug build, and a script's thread may have 256 KiB in all. So every text
//! is read, and what it became dropped, on a thread with a stack of [`STACK_BYTES`], and texts that nest deeper than Lua itself
//! allows (`LUAI_MAXCCALLS`, `llimits.h`) are not read at all.

use std::thread;

/// Levels: brackets, blocks, functions, and operators that take what is to their right.
const MOST_LEVELS: usize = 200;
/// Operators one after the other that take what is to their left (`a or b or c`): the tree is as deep as there are.
const MOST_OPERATORS: usize = 10_000;
/// Bytes of a text that a person types or a client sends.
pub(crate) const MOST_TYPED_BYTES: usize = 64 * 1024;
/// Bytes of a script that is read.
const MOST_SCRIPT_BYTES: usize = 32 * 1024 * 1024;
/// Stack for reading a text that is within these bounds; of memory, only what is used is taken.
const STACK_BYTES: usize = 128 * 1024 * 1024;

/// Refuses a text that a person types or a client sends, before anything reads it.
///
/// # Errors
/// Says what is too much, and how much there can be.
pub(crate) fn check_typed(text: &str) -> Result<(), String> {
    if text.len() > MOST_TYPED_BYTES {
        let length = text.len();
        return Err(format!("it is {length} bytes long, and {MOST_TYPED_BYTES} are read; put it into a script"));
    }
    check(text)
}

/// The same for the text of a script.
///
/// # Errors
/// As [`check_typed`].
fn check(text: &str) -> Result<(), String> {
    if text.len() > MOST_SCRIPT_BYTES {
        return Err(format!("it is {} bytes long, and {MOST_SCRIPT_BYTES} are read", text.len()));
    }
    let deepest = deepest(text);
    if deepest.has_backtick {
        return Err("a '`' means nothing in Lua".to_owned());
    }
    if deepest.levels > MOST_LEVELS {
        return Err(format!("it nests deeper than {MOST_LEVELS} levels, which is as deep as Lua reads"));
    }
    if deepest.operators > MOST_OPERATORS {
        return Err(format!("it has more than {MOST_OPERATORS} operators in one expression; use several"));
    }
    Ok(())
}

/// Does `read` on a stack that is large enough for a text that is within the bounds; nothing for one that is not.
pub(crate) fn on_large_stack<T: Send>(text: &str, read: impl FnOnce(&str) -> T + Send) -> Option<T> {
    check(text).ok()?;
    thread::scope(|scope| {
        let reading = thread::Builder::new()
            .name("adzeman-reader".to_owned())
            .stack_size(STACK_BYTES)
            .spawn_scoped(scope, || read(text));
        match reading {
            Ok(reading) => reading.join().ok(),
            Err(error) => {
                tracing::warn!(%error, "a text is not read: no thread could be started for it");
                None
            }
        }
    })
}

/// How deep a text nests, at most.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Depth {
    levels: usize,
    operators: usize,
    /// Whether there is a backtick outside of texts and comments, which the parser has no answer to.
    has_backtick: bool,
}

/// What was seen last.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Last {
    /// Something that a value can end with.
    Operand,
    Other,
}

/// Counts while a text is gone through once.
struct Counter {
    /// For each open bracket or block, the operators in the expression around it.
    open: Vec<(usize, usize)>,
    /// Of the expression at hand: operators that take what is to their right, and to their left.
    right: usize,
    left: usize,
    /// The sum of the first over all open expressions.
    right_around: usize,
    deepest: Depth,
    last: Last,
}

fn deepest(text: &str) -> Depth {
    let bytes = text.as_bytes();
    let (right, left, right_around, deepest) = (0, 0, 0, Depth::default());
    let mut counter = Counter { open: Vec::new(), right, left, right_around, deepest, last: Last::Other };
    let mut at = 0;
    while let Some(byte) = bytes.get(at) {
        let rest = &bytes[at..];
        at += match byte {
            b'-' if rest.starts_with(b"--") => comment(rest),
            b'"' | b'\'' => counter.operand(quoted(rest)),
            b'[' if long_bracket(rest).is_some() => counter.operand(long_bracket(rest).unwrap_or(1)),
            b'_' | b'a'..=b'z' | b'A'..=b'Z' | 0x80.. => counter.word(rest),
            b'0'..=b'9' => {
                counter.operand(rest.iter().take_while(|byte| byte.is_ascii_alphanumeric() || **byte == b'.').count())
            }
            _ if byte.is_ascii_whitespace() => 1,
            _ => counter.symbol(rest),
        };
    }
    counter.deepest
}

impl Counter {
    fn operand(&mut self, length: usize) -> usize {
        self.last = Last::Operand;
        length
    }

    fn word(&mut self, rest: &[u8]) -> usize {
        let is_part = |byte: &&u8| byte.is_ascii_alphanumeric() || **byte == b'_' || **byte >= 0x80;
        let length = rest.iter().take_while(is_part).count();
        match &rest[..length] {
            b"function" | b"do" | b"if" | b"repeat" => self.open(),
            b"end" => {
                self.close();
                self.last = Last::Operand;
            }
            b"until" => self.close(),
            b"and" | b"or" => self.operator(false),
            b"not" => self.operator(true),
            b"local" | b"return" | b"then" | b"else" | b"elseif" | b"while" | b"for" | b"in" | b"goto" | b"break" => {
                self.expression_ends();
            }
            _ => {
                // A name right behind a value begins another statement.
                if self.last == Last::Operand {
                    self.expression_ends();
                }
                self.last = Last::Operand;
            }
        }
        length
    }

    fn symbol(&mut self, rest: &[u8]) -> usize {
        match rest {
            [b'.', b'.', b'.', ..] => return self.operand(3),
            [b'.', b'.', ..] => {
                self.operator(true);
                return 2;
            }
            [b'(' | b'[' | b'{', ..] => self.open(),
            [b')' | b']' | b'}', ..] => {
                self.close();
                self.last = Last::Operand;
            }
            [b',' | b';', ..] => self.expression_ends(),
            [b'=' | b'~' | b'<' | b'>', b'=', ..] | [b'<', b'<', ..] | [b'>', b'>', ..] | [b'/', b'/', ..] => {
                self.operator(false);
                return 2;
            }
            [b':', b':', ..] => {
                self.expression_ends();
                return 2;
            }
            [b'=', ..] => self.expression_ends(),
            [b'`', ..] => self.deepest.has_backtick = true,
            [b'^' | b'#', ..] => self.operator(true),
            [b'-' | b'~', ..] => self.operator(self.last == Last::Other),
            [b'+' | b'*' | b'/' | b'%' | b'&' | b'|' | b'<' | b'>', ..] => self.operator(false),
            _ => {}
        }
        1
    }

    fn operator(&mut self, takes_right: bool) {
        if takes_right {
            self.right += 1;
        } else {
            self.left += 1;
        }
        self.last = Last::Other;
        self.note();
    }

    fn open(&mut self) {
        self.open.push((self.right, self.left));
        self.right_around += self.right;
        (self.right, self.left) = (0, 0);
        self.last = Last::Other;
        self.note();
    }

    fn close(&mut self) {
        (self.right, self.left) = self.open.pop().unwrap_or_default();
        self.right_around -= self.right;
    }

    fn expression_ends(&mut self) {
        (self.right, self.left) = (0, 0);
        self.last = Last::Other;
    }

    fn note(&mut self) {
        let levels = self.open.len() + self.right_around + self.right;
        self.deepest.levels = self.deepest.levels.max(levels);
        self.deepest.operators = self.deepest.operators.max(self.left);
    }
}

/// The length of a comment at the beginning of a text.
fn comment(rest: &[u8]) -> usize {
    let behind = &rest[2..];
    match long_bracket(behind) {
        Some(length) => 2 + length,
        None => rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len()),
    }
}

/// The length of a quoted text at the beginning, as the parser sees it: one that is not ended goes up to the end of the line, and
/// an escape allows for one end of a line behind it.
fn quoted(rest: &[u8]) -> usize {
    let quote = rest[0];
    let (mut is_escaped, mut may_end_line) = (false, false);
    for (at, byte) in rest.iter().enumerate().skip(1) {
        match byte {
            _ if is_escaped => (is_escaped, may_end_line) = (false, true),
            b'\\' => is_escaped = true,
            b'\n' | b'\r' if may_end_line => may_end_line = false,
            b'\n' | b'\r' => return at,
            _ if *byte == quote => return at + 1,
            _ => {}
        }
    }
    rest.len()
}

/// The length of a text or comment in long brackets, if one begins here; all that is left for one that is not ended.
fn long_bracket(rest: &[u8]) -> Option<usize> {
    let level = rest.strip_prefix(b"[")?.iter().take_while(|byte| **byte == b'=').count();
    if rest.get(1 + level) != Some(&b'[') {
        return None;
    }
    let closes =
        |window: &[u8]| window[0] == b']' && window[level + 1] == b']' && window[1..=level].iter().all(|b| *b == b'=');
    let end = rest.windows(level + 2).position(closes);
    Some(end.map_or(rest.len(), |end| end + level + 2))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn depth(text: &str, levels: usize, operators: usize) {
        assert_eq!(deepest(text), Depth { levels, operators, has_backtick: false }, "{text}");
    }

    #[test]
    fn levels_are_brackets_blocks_and_operators_that_take_the_right() {
        depth("", 0, 0);
        depth("f(a[b].c, {d = 1})", 2, 0);
        depth("- - not #x", 4, 0);
        depth("a .. b .. c ^ 2", 3, 0);
        depth("a - b - c + -d", 1, 3);
        depth("if x then for i = 1, 2 do f() end end", 3, 0);
        depth("return function(x) return x end", 2, 0);
        depth("(a or b) or (c or d) or e", 1, 2);
        depth("x = a .. b\ny = c .. d\nz = e .. f", 1, 0);
        depth("repeat f() until x ~= y", 2, 1);
    }

    #[test]
    fn texts_and_comments_do_not_nest() {
        depth("'((((' .. \"{{\\\"{{\" .. [[((]] .. [==[ ]] (( ]==]", 3, 0);
        depth("-- ((((\nx = 1 --[[ (( ]] --[=[ ]] (( ]=]", 0, 0);
        depth("'never ended ((((", 0, 0);
        depth("[[never ended ((((", 0, 0);
        depth("grün = {größe = (1)}", 2, 0);
    }

    #[test]
    fn too_much_is_said_to_be() {
        let deep = |open: &str, close: &str, count: usize| format!("{}1{}", open.repeat(count), close.repeat(count));
        assert!(check_typed(&deep("(", ")", 100)).is_ok());
        for text in [deep("(", ")", 201), deep("{", "}", 20_000), deep("- ", "", 3053), deep("not ", "", 60_000 / 4)] {
            assert!(check_typed(&text).unwrap_err().contains("nests deeper than 200"));
        }
        assert!(check_typed(&deep("1 or ", "", 4774)).is_ok());
        assert!(check_typed(&deep("1+", "", 20_000)).unwrap_err().contains("more than 10000 operators"));
        for text in ["`", "a.`b`", "x = `{1}`", "'not ended\r`", "'\\z\n\n`"] {
            assert!(check_typed(text).unwrap_err().contains("'`' means nothing"));
            assert_eq!(on_large_stack(text, |_| ()), None);
        }
        assert!(check_typed("'`' .. [[`]] -- `").is_ok());
        assert!(check_typed(&"x".repeat(70_000)).unwrap_err().contains("70000 bytes long"));
    }
}
