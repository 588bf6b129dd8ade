//! Paths into the host's data that stand in scripts' texts as numbers: one numbering for the whole process, as bodies are made
//! once for all states.

use std::sync::{Arc, PoisonError, RwLock};

use adzeman_core::path::{Segment, TreePath};

/// As many as people type; conditions with others are decided by themselves.
const MOST: usize = 10_000;

static PATHS: RwLock<Vec<Arc<TreePath>>> = RwLock::new(Vec::new());

/// The number of a path; `None` for one that another one names a part of, or when there are too many.
pub(crate) fn number_of(path: &TreePath) -> Option<usize> {
    if path.path.segments().iter().any(|segment| matches!(segment, Segment::At(_))) {
        return None;
    }
    let mut paths = PATHS.write().unwrap_or_else(PoisonError::into_inner);
    let known = paths.iter().position(|held| **held == *path);
    known.or_else(|| {
        (paths.len() < MOST).then(|| {
            paths.push(Arc::new(path.clone()));
            paths.len() - 1
        })
    })
}

/// The path with a number.
pub(crate) fn numbered(number: usize) -> Option<Arc<TreePath>> {
    PATHS.read().unwrap_or_else(PoisonError::into_inner).get(number).cloned()
}
