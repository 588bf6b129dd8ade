//! Paths into data: `locks.upper.level`, `boats[1].length`, `tariff[kind]`.
//!
//! A path is read from a text and printed as one by the [`Notation`] of the language that it is written in; walking it, and
//! changing what it names, is the same for all of them.

mod place;
mod read;
mod walk;

pub use place::{Root, TreePath};
pub use read::PathError;
pub(crate) use walk::known;
pub use walk::{Missing, Tree};

/// One step of a path.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Segment {
    /// A field by name.
    Field(String),
    /// An element by its place in a list, counted from 0 whatever the language. In front of the first one there may be others
    /// where lists are tables.
    Index(i64),
    /// The element or field that another value names, found by its own path: `kind` in `tariff[kind]`. Host data has none.
    At(Path),
}

/// How paths are written in a language.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Notation {
    /// The number of the first element of a list.
    pub first_index: i64,
    /// What stands between a value and the name of a field.
    pub separator: char,
}

impl Notation {
    /// That of data as such: lists count from 0.
    pub const OF_DATA: Self = Self { first_index: 0, separator: '.' };
}

impl Default for Notation {
    fn default() -> Self {
        Self::OF_DATA
    }
}

/// A path, possibly empty.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct Path(Vec<Segment>);

impl Path {
    /// The steps.
    #[must_use]
    pub fn segments(&self) -> &[Segment] {
        &self.0
    }

    /// Whether it has no step.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
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

    /// The path before the last step, and that.
    #[must_use]
    pub fn split_last(&self) -> Option<(Self, &Segment)> {
        self.0.split_last().map(|(last, rest)| (Self(rest.to_vec()), last))
    }

    /// The name that it begins with, and the path after that.
    #[must_use]
    pub fn split_name(&self) -> Option<(&str, Self)> {
        match self.split_first()? {
            (Segment::Field(name), rest) => Some((name, rest)),
            _ => None,
        }
    }

    /// The path as text.
    #[must_use]
    pub fn display(&self, notation: Notation) -> String {
        let mut text = String::new();
        for segment in &self.0 {
            match segment {
                Segment::Field(name) if !is_plain(name) => text.push_str(&quote(name)),
                Segment::Field(name) if text.is_empty() => text.push_str(name),
                Segment::Field(name) => {
                    text.push(notation.separator);
                    text.push_str(name);
                }
                Segment::Index(index) => {
                    text.push_str(&format!("[{}]", index.saturating_add(notation.first_index)));
                }
                Segment::At(path) => text.push_str(&format!("[{}]", path.display(notation))),
            }
        }
        text
    }
}

impl FromIterator<Segment> for Path {
    fn from_iter<I: IntoIterator<Item = Segment>>(segments: I) -> Self {
        Self(segments.into_iter().collect())
    }
}

/// A name in brackets and quotes, with escapes that scripts know as well.
fn quote(name: &str) -> String {
    let escaped = name.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n").replace('\r', "\\r");
    format!("[\"{escaped}\"]")
}

/// Whether a field can stand behind a separator.
fn is_plain(name: &str) -> bool {
    name.starts_with(|c: char| c.is_alphabetic() || c == '_') && name.chars().all(|c| c.is_alphanumeric() || c == '_')
}
