//! Paths of a script: how they are written, and following them without running anything.

use adzeman_core::engine::EngineError;
use adzeman_core::path::{Notation, Path, Segment};

use crate::context::Context;
use crate::evaluate::Target;
use crate::ffi::state::{State, Type};

/// How paths are written in Lua: the first element of a list is 1.
pub(crate) const NOTATION: Notation = Notation { first_index: 1, separator: '.' };

/// The number by which a script finds an element.
pub(crate) fn number_of(index: i64) -> i64 {
    index.wrapping_add(NOTATION.first_index)
}

/// The element that a script finds by a number.
pub(crate) fn element(number: i64) -> Segment {
    Segment::Index(number.wrapping_sub(NOTATION.first_index))
}

/// Why a path cannot be followed, watched or given a value.
pub(crate) fn cannot(name: &str, why: &str) -> EngineError {
    EngineError::NotAssignable { name: name.to_owned(), why: format!("{why}; give a name, or a table's field") }
}

/// Reads a path as it is written in Lua.
///
/// # Errors
/// [`EngineError::NotAssignable`], which says where it is none.
pub(crate) fn read(text: &str) -> Result<Path, EngineError> {
    let path = Path::parse(text.trim(), NOTATION);
    path.map_err(|error| cannot(text.trim(), &format!("{} at column {}", error.why, error.column)))
}

impl Context {
    /// Pushes what a path leads to, without metamethods.
    ///
    /// # Errors
    /// [`EngineError::NotAssignable`] where it begins with no name, or leads through what is no table.
    pub(crate) fn push_raw_path(&self, state: State, target: Option<Target>, path: &Path) -> Result<(), EngineError> {
        let shown = || path.display(NOTATION);
        let (name, rest) = path.split_name().ok_or_else(|| cannot(&shown(), "it begins with no name"))?;
        self.push_raw_name(state, target, name)?;
        for (walked, segment) in (1..).zip(rest.segments()) {
            if state.type_at(-1) != Type::Table {
                let table: Path = path.segments().iter().take(walked).cloned().collect();
                let why = format!("'{}' holds no table, so it has no fields", table.display(NOTATION));
                return Err(cannot(&shown(), &why));
            }
            self.push_key(state, target, segment)?;
            state.raw_get(-2);
            state.remove(state.top() - 1);
        }
        Ok(())
    }

    /// Pushes the key that a step of a path looks up.
    ///
    /// # Errors
    /// As [`push_raw_path`](Self::push_raw_path), for one that another path names.
    pub(crate) fn push_key(&self, state: State, target: Option<Target>, segment: &Segment) -> Result<(), EngineError> {
        match segment {
            Segment::Field(name) => state.push_bytes(name.as_bytes()),
            Segment::Index(index) => {
                state.push_integer(number_of(*index));
                Ok(())
            }
            Segment::At(path) => self.push_raw_path(state, target, path),
        }
    }
}
