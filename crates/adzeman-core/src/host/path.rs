//! Paths into host objects and event payloads: `locks.upper.level`, `boats[0].length`.
//!
//! Reading a path from text and walking it are two things; walking is in [`tree`](super::tree).

use std::fmt;

use thiserror::Error;

/// One step of a path.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Segment {
    /// A field by name.
    Field(String),
    /// An element of a list, counted from 0.
    Index(usize),
}

/// Steps of a path that is read from a text: each is one call inside the other when it is walked.
const MOST_STEPS: usize = 256;

/// A path, possibly empty.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct Path(Vec<Segment>);

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

impl Path {
    /// Reads `locks.upper.level` or `boats[1].length`; the first element of a list is `[base]`.
    ///
    /// # Errors
    /// Says at which column the text stops being a path.
    pub fn parse(text: &str, base: usize) -> Result<Self, PathError> {
        let fail = |why, byte: usize| PathError {
            text: text.to_owned(),
            why,
            column: text[..byte.min(text.len())].chars().count() + 1,
        };
        let mut path = Self::default();
        let mut at = 0;
        while at < text.len() {
            if path.0.len() == MOST_STEPS {
                return Err(fail("there are more than 256 steps", at));
            }
            let rest = &text[at..];
            if let Some(inner) = rest.strip_prefix('[') {
                if let Some(quoted) = inner.strip_prefix('"') {
                    let (name, length) =
                        unquote(quoted).ok_or_else(|| fail("the bracket is not closed", text.len()))?;
                    path.0.push(Segment::Field(name));
                    at += length + 2;
                    continue;
                }
                let end = inner.find(']').ok_or_else(|| fail("the bracket is not closed", text.len()))?;
                let index = inner[..end].trim().parse::<usize>().ok().and_then(|number| number.checked_sub(base));
                path.0.push(Segment::Index(
                    index.ok_or_else(|| fail("an index must be a whole number from the first", at + 1))?,
                ));
                at += end + 2;
                continue;
            }
            let start = if path.0.is_empty() { 0 } else { 1 };
            if start == 1 && !rest.starts_with('.') {
                return Err(fail("a '.' or '[' is expected", at));
            }
            let end = rest[start..].find(['.', '[']).map_or(rest.len(), |end| end + start);
            if end == start {
                return Err(fail("a name is expected", at + start));
            }
            path.0.push(Segment::Field(rest[start..end].to_owned()));
            at += end;
        }
        Ok(path)
    }

    /// The steps.
    #[must_use]
    pub fn segments(&self) -> &[Segment] {
        &self.0
    }

    /// This path and one step more.
    #[must_use]
    pub fn join(&self, segment: Segment) -> Self {
        let mut path = self.clone();
        path.0.push(segment);
        path
    }

    /// This path behind a field.
    #[must_use]
    pub fn under(&self, field: &str) -> Self {
        Self([Segment::Field(field.to_owned())].into_iter().chain(self.0.iter().cloned()).collect())
    }

    /// The first step and the path after it.
    #[must_use]
    pub fn split_first(&self) -> Option<(&Segment, Self)> {
        self.0.split_first().map(|(first, rest)| (first, Self(rest.to_vec())))
    }

    /// The path as text, with `[base]` as the first element of a list.
    #[must_use]
    pub fn display(&self, base: usize) -> String {
        let mut text = String::new();
        for segment in &self.0 {
            match segment {
                Segment::Field(name) if !is_plain(name) => text.push_str(&quote(name)),
                Segment::Field(name) if text.is_empty() => text.push_str(name),
                Segment::Field(name) => text.extend([".", name]),
                Segment::Index(index) => text.push_str(&format!("[{}]", index.saturating_add(base))),
            }
        }
        text
    }
}

/// A name in brackets and quotes, with escapes that scripts know as well.
fn quote(name: &str) -> String {
    let escaped = name.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n").replace('\r', "\\r");
    format!("[\"{escaped}\"]")
}

/// The name that ends with `"]`, and how many bytes it takes with that.
fn unquote(quoted: &str) -> Option<(String, usize)> {
    let mut name = String::new();
    let mut characters = quoted.char_indices();
    while let Some((at, c)) = characters.next() {
        match c {
            '\\' => name.push(match characters.next()?.1 {
                'n' => '\n',
                'r' => '\r',
                other => other,
            }),
            '"' => return quoted[at..].starts_with("\"]").then_some((name, at + 2)),
            other => name.push(other),
        }
    }
    None
}

/// Whether a field can stand behind a dot.
fn is_plain(name: &str) -> bool {
    name.starts_with(|c: char| c.is_alphabetic() || c == '_') && name.chars().all(|c| c.is_alphanumeric() || c == '_')
}

impl fmt::Display for Path {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.display(0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_read_and_print_the_same() {
        for text in [
            "locks",
            "locks.upper.level",
            "boats[0]",
            "a[3].b[1].name",
            "[2]",
            "",
            "a[\"two words\"].b[\"7\"]",
            r#"a["\"]"].b["\\"].c["x\ny"]"#,
            "größe[\"\u{1F6A2}\u{301}\"]",
        ] {
            assert_eq!(Path::parse(text, 0).unwrap().display(0), text);
        }
        assert_eq!(Path::parse("boats[1]", 1).unwrap(), Path::parse("boats[0]", 0).unwrap());
    }

    #[test]
    fn bad_paths_say_where() {
        let column = |text| Path::parse(text, 1).unwrap_err().column;
        assert_eq!([column("a..b"), column("a[0]"), column("a[1"), column("a[1]b"), column(".")], [3, 3, 4, 5, 1]);
    }
}
