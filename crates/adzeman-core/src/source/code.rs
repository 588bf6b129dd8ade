//! What the compiled form of a script says, found out when someone asks: a host whose scripts nobody looks at pays nothing for it.

use std::collections::BTreeMap;
use std::fmt;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, LazyLock};

use super::{FunctionSpan, Line, LineSet};

/// What the compiled form of a script says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CodeFacts {
    /// Lines that can hold a breakpoint.
    pub lines: LineSet,
    /// Lines inside a statement that begins above them, and the line it begins on, which can hold a breakpoint.
    pub inside: BTreeMap<Line, Line>,
    /// Functions, in the order of their first lines.
    pub functions: Vec<FunctionSpan>,
    /// Whether this is said of some of its functions only, as nobody has seen more of it.
    pub is_part: bool,
    /// Whether the text is not the one that runs.
    pub is_other_text: bool,
}

/// [`CodeFacts`] that are found out when they are first asked for.
#[derive(Clone)]
pub struct Code {
    facts: Arc<Late>,
    is_of_text: bool,
}

type Late = LazyLock<CodeFacts, Box<dyn FnOnce() -> CodeFacts + Send>>;

impl Code {
    /// Found out by `find`, which is called at most once, on whichever thread asks first.
    #[must_use]
    pub fn later(find: impl FnOnce() -> CodeFacts + Send + 'static) -> Self {
        let find = || {
            let found = catch_unwind(AssertUnwindSafe(find));
            // Whoever asks learns nothing of it, and goes on.
            found.unwrap_or_else(|_| CodeFacts { is_part: true, ..CodeFacts::default() })
        };
        Self { facts: Arc::new(LazyLock::new(Box::new(find))), is_of_text: false }
    }

    /// The same for a script of which it is certain that it runs as its text says: two with the same text are the same.
    #[must_use]
    pub fn of_text(find: impl FnOnce() -> CodeFacts + Send + 'static) -> Self {
        Self { is_of_text: true, ..Self::later(find) }
    }

    pub(super) fn is_of_text(&self) -> bool {
        self.is_of_text
    }

    /// What was found out. The first to ask waits for it.
    #[must_use]
    pub fn get(&self) -> &CodeFacts {
        &self.facts
    }
}

impl From<CodeFacts> for Code {
    fn from(facts: CodeFacts) -> Self {
        Self::later(|| facts)
    }
}

impl Default for Code {
    fn default() -> Self {
        CodeFacts::default().into()
    }
}

impl PartialEq for Code {
    fn eq(&self, other: &Self) -> bool {
        Arc::ptr_eq(&self.facts, &other.facts) || self.get() == other.get()
    }
}

impl Eq for Code {}

impl fmt::Debug for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.get().fmt(f)
    }
}
