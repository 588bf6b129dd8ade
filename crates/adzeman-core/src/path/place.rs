//! Places in the host's data.

use super::{Notation, Path, Segment};

/// Which tree a path starts in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Root {
    /// The host's objects, by name.
    Host,
    /// The event being handled: `name`, `subject`, and the fields of its payload.
    Event,
}

impl Root {
    /// All of them.
    pub const ALL: [Self; 2] = [Self::Host, Self::Event];

    /// The one with this name.
    #[must_use]
    pub fn named(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|root| root.name() == name)
    }

    /// The name it has in expressions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Host => "host",
            Self::Event => "event",
        }
    }
}

/// A place in one of the trees.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TreePath {
    /// Which tree.
    pub root: Root,
    /// Where in it.
    pub path: Path,
}

impl TreePath {
    /// The place that a path stands for which begins with the name of a tree; `None` for any other.
    #[must_use]
    pub fn of(path: &Path) -> Option<Self> {
        let (name, path) = path.split_name()?;
        Some(Self { root: Root::named(name)?, path })
    }

    /// One step further.
    #[must_use]
    pub fn join(&self, segment: Segment) -> Self {
        Self { root: self.root, path: self.path.join(segment) }
    }

    /// The path as written in an expression: `host.locks.upper`.
    #[must_use]
    pub fn display(&self, notation: Notation) -> String {
        self.path.under(self.root.name()).display(notation)
    }
}
