//! Finding the source map of a script: in the script, where it says, beside it, or as a client says.

use std::fs;
use std::path::{Path, PathBuf};

use adzeman_core::breakpoint::OwnerId;
use adzeman_core::source::{Language, LineMap, MOST_MAP_BYTES, MapReference, Original, map_reference};

/// Maps that clients gave; of more, and of more scripts with a broken map, none are kept.
pub(crate) const MOST_GIVEN_MAPS: usize = 1000;
/// Bytes of them all.
pub(crate) const MOST_GIVEN_BYTES: usize = 64 * 1024 * 1024;

/// A map that a client gave. It is read once, when it comes, and goes with the client.
pub(crate) struct Given {
    pub(crate) owner: OwnerId,
    /// The end of the path of the script that it is for.
    pub(crate) path: String,
    pub(crate) bytes: usize,
    map: Result<LineMap, String>,
}

impl Given {
    /// Reads a map. Files that it names are not read: a client is no one to say which.
    pub(crate) fn read(owner: OwnerId, path: String, map: &str) -> Self {
        let read = LineMap::parse(map.as_bytes(), "").map_err(|why| why.to_string());
        Self { owner, path, bytes: map.len(), map: read }
    }

    /// The map for a script of this name.
    pub(crate) fn of(&self, name: &str) -> Result<LineMap, String> {
        self.map.as_ref().map(|map| map.beside(name)).map_err(Clone::clone)
    }
}

/// The map of a script, if it has one; and why not, when it should have.
pub(crate) fn find(name: &str, text: &str, language: &Language) -> Option<Result<LineMap, String>> {
    let map = match map_reference(text, language) {
        Some(MapReference::Inline(url)) => LineMap::from_url(url, name).map_err(|why| why.to_string()),
        Some(MapReference::File(file)) => read(&folder_of(name).join(file), name),
        None => {
            let beside = PathBuf::from(format!("{name}.map"));
            if !beside.is_file() {
                return None;
            }
            read(&beside, name)
        }
    };
    Some(map.map(with_texts))
}

fn folder_of(name: &str) -> PathBuf {
    Path::new(name).parent().map(Path::to_owned).unwrap_or_default()
}

fn read(file: &Path, name: &str) -> Result<LineMap, String> {
    let shown = file.display();
    let size = fs::metadata(file).map_err(|why| format!("{shown} cannot be read: {why}"))?.len();
    if size > MOST_MAP_BYTES as u64 {
        return Err(format!("{shown} has {size} bytes; {MOST_MAP_BYTES} are allowed"));
    }
    let map = fs::read(file).map_err(|why| format!("{shown} cannot be read: {why}"))?;
    LineMap::parse(&map, name).map_err(|why| format!("{shown}: {why}"))
}

/// Reads what the map leaves out from the files that it names, as far as they are there.
fn with_texts(mut map: LineMap) -> LineMap {
    let read = |original: &Original| {
        let size = fs::metadata(&original.name).ok()?.len();
        (size <= MOST_MAP_BYTES as u64).then(|| fs::read_to_string(&original.name).ok())?.map(Into::into)
    };
    for original in &mut map.originals {
        if original.text.is_none() {
            original.text = read(original);
        }
    }
    map
}
