//! What a breakpoint does when it is hit.

use thiserror::Error;

/// What a breakpoint does when it is hit.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Action {
    /// Holds the context.
    #[default]
    Stop,
    /// Says a text and goes on.
    Say(Template),
    /// Runs a statement of the script's language in the innermost frame and goes on.
    Run(String),
    /// Rings the terminal's bell and goes on.
    Ring,
}

/// A text with expressions in braces.
///
/// ```
/// use adzeman_core::breakpoint::{Piece, Template};
/// let template = Template::parse("fare {length} ({hits})").unwrap();
/// assert_eq!(template.pieces()[1], Piece::Expression("length".to_owned()));
/// assert_eq!(template.pieces()[3], Piece::Hits);
/// ```
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Template {
    text: String,
    pieces: Vec<Piece>,
}

/// A part of a [`Template`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// Said as it is.
    Text(String),
    /// `{hits}`: how often the breakpoint was hit.
    Hits,
    /// `{name}`: the breakpoint's name, or its number.
    Name,
    /// Anything else in braces.
    Expression(String),
}

/// Parts of a text.
pub const MOST_PIECES: usize = 1000;
const TOO_MANY_PIECES: &str = "it has more than 1,000 parts; say less at once: it is read";

/// A text whose braces do not fit.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("the text '{text}' cannot be read: {why} at column {column}; write '{{{{' for a brace itself")]
pub struct TemplateError {
    /// The text.
    pub text: String,
    /// What is wrong.
    pub why: &'static str,
    /// Where, in characters counted from 1.
    pub column: usize,
}

impl Template {
    /// Reads a text. Braces nest, so that an expression may hold some; `{{` and `}}` stand for themselves.
    ///
    /// # Errors
    /// For a brace that is not closed, or an empty one, and for more than [`MOST_PIECES`] parts.
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let fail = |why, column| TemplateError { text: text.to_owned(), why, column };
        let characters: Vec<char> = text.chars().collect();
        let (mut pieces, mut plain, mut at) = (Vec::new(), String::new(), 0);
        while at < characters.len() {
            let (here, next) = (characters[at], characters.get(at + 1));
            if matches!(here, '{' | '}') && next == Some(&here) {
                plain.push(here);
                at += 2;
            } else if here == '{' {
                let end = closing(&characters, at).ok_or_else(|| fail("a brace is not closed", at + 1))?;
                let inside: String = characters[at + 1..end].iter().collect();
                if inside.trim().is_empty() {
                    return Err(fail("there is nothing between the braces", at + 1));
                }
                if !plain.is_empty() {
                    pieces.push(Piece::Text(std::mem::take(&mut plain)));
                }
                pieces.push(match inside.trim() {
                    "hits" => Piece::Hits,
                    "name" => Piece::Name,
                    expression => Piece::Expression(expression.to_owned()),
                });
                at = end + 1;
            } else {
                plain.push(here);
                at += 1;
            }
        }
        if !plain.is_empty() {
            pieces.push(Piece::Text(plain));
        }
        if pieces.len() > MOST_PIECES {
            return Err(fail(TOO_MANY_PIECES, 1));
        }
        Ok(Self { text: text.to_owned(), pieces })
    }

    /// The text as given.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Its parts, in order.
    #[must_use]
    pub fn pieces(&self) -> &[Piece] {
        &self.pieces
    }

    /// The expressions in it.
    pub fn expressions(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Expression(text) => Some(text.as_str()),
            _ => None,
        })
    }
}

/// The position of the brace that closes the one at `open`.
fn closing(characters: &[char], open: usize) -> Option<usize> {
    let mut depth = 0_usize;
    for (at, character) in characters.iter().enumerate().skip(open) {
        match character {
            '{' => depth += 1,
            '}' if depth == 1 => return Some(at),
            '}' => depth -= 1,
            _ => {}
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn braces_hold_expressions_and_may_nest() {
        let template = Template::parse("{{x}} is {#{1, 2}} of {name}").unwrap();
        let expected = [
            Piece::Text("{x} is ".to_owned()),
            Piece::Expression("#{1, 2}".to_owned()),
            Piece::Text(" of ".to_owned()),
            Piece::Name,
        ];
        assert_eq!(template.pieces(), expected);
        assert_eq!(template.expressions().collect::<Vec<_>>(), ["#{1, 2}"]);
    }

    #[test]
    fn a_brace_that_does_not_fit_says_where() {
        let why = |text| Template::parse(text).unwrap_err().to_string();
        assert!(why("a {b").contains("a brace is not closed at column 3"));
        assert!(why("{ }").contains("nothing between the braces"));
        assert_eq!(Template::parse("").unwrap().pieces(), []);
    }
}
