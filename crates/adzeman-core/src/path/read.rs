//! Reading paths from texts.

use thiserror::Error;

use super::{Notation, Path, Segment};

/// Steps of a path that is read from a text.
const MOST_STEPS: usize = 256;
/// Paths inside the brackets of others.
const MOST_LEVELS: usize = 16;

/// A text that is no path.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("'{text}' is not a path: {why} at column {column}")]
pub struct PathError {
    /// The text.
    pub text: String,
    /// What was wrong.
    pub why: &'static str,
    /// Where, in characters counted from 1.
    pub column: usize,
}

/// What is wrong, and at which byte.
type Mistake = (&'static str, usize);

impl Path {
    /// Reads `locks.upper.level`, `boats[1].length`, `["two words"].x` or `tariff[kind]`. `*` in brackets is a field of that
    /// name.
    ///
    /// # Errors
    /// Says at which column the text stops being a path.
    pub fn parse(text: &str, notation: Notation) -> Result<Self, PathError> {
        let whole = Reader { text, notation };
        whole.path(0, text.len(), MOST_LEVELS).map_err(|(why, byte)| PathError {
            text: text.to_owned(),
            why,
            column: text[..byte.min(text.len())].chars().count() + 1,
        })
    }
}

struct Reader<'a> {
    text: &'a str,
    notation: Notation,
}

impl Reader<'_> {
    /// The path between two bytes.
    fn path(&self, start: usize, end: usize, levels: usize) -> Result<Path, Mistake> {
        let mut path = Path::default();
        let mut at = start;
        loop {
            let rest = self.text[at..end].trim_start();
            at = end - rest.len();
            if rest.is_empty() {
                return Ok(path);
            }
            if path.0.len() == MOST_STEPS {
                return Err(("there are more than 256 steps", at));
            }
            let (segment, length) = match rest.strip_prefix('[') {
                Some(_) => self.bracket(at, end, levels)?,
                None if path.is_empty() => self.name(at, end, 0)?,
                None if rest.starts_with(self.notation.separator) => {
                    self.name(at, end, self.notation.separator.len_utf8())?
                }
                None => return Err(("a '.' or '[' is expected", at)),
            };
            path.0.push(segment);
            at += length;
        }
    }

    /// A name behind `skipped` bytes, and how long it is with those.
    fn name(&self, at: usize, end: usize, skipped: usize) -> Result<(Segment, usize), Mistake> {
        let rest = &self.text[at + skipped..end];
        let length = rest.find([self.notation.separator, '[']).unwrap_or(rest.len());
        let name = rest[..length].trim();
        if name.is_empty() {
            return Err(("a name is expected", at + skipped));
        }
        Ok((Segment::Field(name.to_owned()), skipped + length))
    }

    /// What is in brackets, and how long it is with them.
    fn bracket(&self, at: usize, end: usize, levels: usize) -> Result<(Segment, usize), Mistake> {
        let inner = &self.text[at + 1..end];
        let length = closing(inner).ok_or(("the bracket is not closed", end))?;
        let (inner, whole) = (&inner[..length], length + 2);
        let trimmed = inner.trim();
        let begins_at = at + 1 + (inner.len() - inner.trim_start().len());
        if let Some(name) = trimmed.chars().next().filter(|quote| ['"', '\''].contains(quote)).map(|_| unquote(trimmed))
        {
            return Ok((Segment::Field(name.ok_or(("the quotes are not closed", begins_at))?), whole));
        }
        if trimmed == "*" {
            return Ok((Segment::Field(trimmed.to_owned()), whole));
        }
        if trimmed.starts_with(|c: char| c.is_ascii_digit() || c == '-') {
            let index = trimmed.parse::<i64>().ok().and_then(|number| number.checked_sub(self.notation.first_index));
            return Ok((Segment::Index(index.ok_or(("an index must be a whole number", begins_at))?), whole));
        }
        let left = levels.checked_sub(1).ok_or(("brackets are more than 16 deep", at))?;
        let path = self.path(begins_at, begins_at + trimmed.len(), left)?;
        if path.is_empty() {
            return Err(("an index or a name is expected", begins_at));
        }
        Ok((Segment::At(path), whole))
    }
}

/// Where the bracket that is open before `text` is closed, quotes and other brackets aside.
fn closing(text: &str) -> Option<usize> {
    let (mut open, mut quote, mut is_escaped) = (0_usize, None, false);
    for (at, c) in text.char_indices() {
        match (quote, c) {
            (Some(_), _) if is_escaped => is_escaped = false,
            (Some(_), '\\') => is_escaped = true,
            (Some(held), _) if held == c => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '[') => open += 1,
            (None, ']') if open == 0 => return Some(at),
            (None, ']') => open -= 1,
            (None, _) => {}
        }
    }
    None
}

/// The name inside quotes.
fn unquote(quoted: &str) -> Option<String> {
    let mut characters = quoted.chars();
    let quote = characters.next()?;
    let mut name = String::new();
    loop {
        match characters.next()? {
            '\\' => name.push(match characters.next()? {
                'n' => '\n',
                'r' => '\r',
                other => other,
            }),
            c if c == quote => return characters.next().is_none().then_some(name),
            c => name.push(c),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FROM_1: Notation = Notation { first_index: 1, separator: '.' };

    fn path(text: &str) -> Path {
        Path::parse(text, Notation::OF_DATA).unwrap()
    }

    #[test]
    fn paths_read_and_print_the_same() {
        for text in [
            "locks",
            "locks.upper.level",
            "boats[0]",
            "a[3].b[1].name",
            "a[-3]",
            "[2]",
            "",
            "a[\"two words\"].b[\"7\"]",
            r#"a["\"]"].b["\\"].c["x\ny"]"#,
            "größe[\"\u{1F6A2}\u{301}\"]",
            "tariff[kind]",
            "tariff[boats[2].kind].small",
        ] {
            assert_eq!(path(text).display(Notation::OF_DATA), text);
            let there_and_back = Path::parse(&path(text).display(FROM_1), FROM_1);
            assert_eq!(there_and_back, Ok(path(text)), "{text}");
        }
        assert_eq!(Path::parse("boats[1]", FROM_1).unwrap(), path("boats[0]"));
        assert_eq!(Path::parse("boats[0]", FROM_1).unwrap(), path("boats[-1]"));
        assert_eq!(path("a [ 'x' ] . b [ 1 ]"), path("a.x.b[1]"));
        assert_eq!(path("crew[*].home"), path("crew.*.home"));
    }

    #[test]
    fn a_language_has_its_own_separator() {
        let notation = Notation { first_index: 1, separator: '/' };
        let read = Path::parse("locks/upper[1]", notation).unwrap();
        assert_eq!(read, path("locks.upper[0]"));
        assert_eq!(read.display(notation), "locks/upper[1]");
    }

    #[test]
    fn bad_paths_say_where() {
        let column = |text| Path::parse(text, FROM_1).unwrap_err().column;
        for (text, expected) in [
            ("a..b", 3),
            ("a[-9223372036854775808]", 3),
            ("a[1x]", 3),
            ("a[1", 4),
            ("a[1]b", 5),
            (".", 1),
            ("a[]", 3),
            ("a['x]", 6),
            ("a['x'y]", 3),
            ("é[b..c]", 5),
        ] {
            assert_eq!(column(text), expected, "{text}");
        }
        assert!(Path::parse(&"a.".repeat(300), FROM_1).unwrap_err().why.contains("256"));
        let deep = format!("{}a{}", "a[".repeat(100_000), "]".repeat(100_000));
        assert!(Path::parse(&deep, FROM_1).unwrap_err().why.contains("deep"));
    }
}
