//! Source maps (Source Map v3, ECMA-426): from lines of a compiled script to lines of what it was written as. The engine knows
//! lines only, so of the mappings of a line the first counts.

use std::collections::BTreeMap;
use std::sync::Arc;

use sourcemap::DecodedMap;
use thiserror::Error;

use super::{FunctionSpan, Language, Line, LineSet};

/// A map of more bytes is refused.
pub const MOST_MAP_BYTES: usize = 32 * 1024 * 1024;

/// Lines of an original after this one are left out: a map may name any number.
const MOST_LINES: u32 = 5_000_000;
/// The most originals of one compiled script.
const MOST_ORIGINALS: usize = 10_000;

/// Why a source map cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum MapError {
    /// It is not one, or a broken one.
    #[error("it is no source map (version 3): {0}")]
    Unreadable(String),
    /// It maps nothing.
    #[error("no line of the script is mapped by it")]
    Empty,
    /// It would fill the memory.
    #[error("it has {0} bytes; {MOST_MAP_BYTES} are allowed")]
    TooLarge(usize),
}

/// What a script was written as.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Original {
    /// Its name, beside the compiled script unless the map says otherwise.
    pub name: String,
    /// Its text, if the map holds it.
    pub text: Option<Arc<str>>,
}

/// Which line of which original each line of a compiled script comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineMap {
    /// What the script was written as.
    pub originals: Vec<Original>,
    /// By line of the compiled script.
    lines: BTreeMap<Line, (usize, Line)>,
}

/// Where a script says that its map is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum MapReference<'a> {
    /// In itself, as a `data:` URL.
    Inline(&'a str),
    /// In this file, beside it unless the path says otherwise.
    File(&'a str),
}

/// Where the last comment of a script says that its map is (ECMA-426, 11.1.2, with the comments of its language).
///
/// ```
/// use adzeman_core::source::{Language, MapReference, map_reference};
/// let language = Language { comment: "--", ..Language::UNKNOWN };
/// let script = "return 1\n--# sourceMappingURL=keeper.lua.map\n";
/// assert_eq!(map_reference(script, &language), Some(MapReference::File("keeper.lua.map")));
/// assert_eq!(map_reference("local sourceMappingURL = 1", &language), None);
/// ```
#[must_use]
pub fn map_reference<'a>(script: &'a str, language: &Language) -> Option<MapReference<'a>> {
    let line = script.lines().rev().map(str::trim).find(|line| !line.is_empty())?;
    // Compilers that know one marker only write that one.
    let comment = line.strip_prefix(language.comment).or_else(|| line.strip_prefix(Language::UNKNOWN.comment))?;
    let marked = comment.trim_start_matches(|c| language.comment.ends_with(c)).trim_start();
    let url = marked.strip_prefix(['#', '@'])?.trim_start().strip_prefix("sourceMappingURL=")?.trim();
    Some(if url.starts_with("data:") { MapReference::Inline(url) } else { MapReference::File(url) })
}

impl LineMap {
    /// Reads a map, also an index map, of the compiled script `name`.
    ///
    /// # Errors
    /// Says why it cannot be used.
    pub fn parse(map: &[u8], name: &str) -> Result<Self, MapError> {
        if map.len() > MOST_MAP_BYTES {
            return Err(MapError::TooLarge(map.len()));
        }
        Self::read(sourcemap::decode_slice(map).map_err(unreadable)?, name)
    }

    /// The same from a `data:` URL.
    ///
    /// # Errors
    /// As [`parse`](Self::parse).
    pub fn from_url(url: &str, name: &str) -> Result<Self, MapError> {
        if url.len() > MOST_MAP_BYTES {
            return Err(MapError::TooLarge(url.len()));
        }
        Self::read(sourcemap::decode_data_url(url).map_err(unreadable)?, name)
    }

    fn read(map: DecodedMap, name: &str) -> Result<Self, MapError> {
        let map = match map {
            DecodedMap::Regular(map) => map,
            DecodedMap::Index(index) => index.flatten().map_err(unreadable)?,
            _ => return Err(MapError::Unreadable("it is of a kind for another language".to_owned())),
        };
        let original = |(number, source): (u32, &str)| Original {
            name: beside(name, source),
            text: map.get_source_contents(number).map(Arc::from),
        };
        let originals: Vec<_> = (0..).zip(map.sources()).map(original).take(MOST_ORIGINALS + 1).collect();
        if originals.len() > MOST_ORIGINALS {
            return Err(MapError::Unreadable(format!("it names more than {MOST_ORIGINALS} originals")));
        }
        let mut lines = BTreeMap::new();
        for token in map.tokens().filter(sourcemap::Token::has_source) {
            let source = usize::try_from(token.get_src_id()).unwrap_or(usize::MAX);
            // The format counts lines from 0.
            let counted = |line: u32| line.checked_add(1).and_then(Line::new);
            let places = counted(token.get_dst_line()).zip(counted(token.get_src_line()));
            let is_there = |(_, line): &(Line, Line)| source < originals.len() && line.get() <= MOST_LINES;
            if let Some((line, original)) = places.filter(is_there) {
                lines.entry(line).or_insert((source, original));
            }
        }
        if lines.is_empty() { Err(MapError::Empty) } else { Ok(Self { originals, lines }) }
    }

    /// The same map for a script that lies elsewhere: paths are relative to the folder of the compiled script.
    #[must_use]
    pub fn beside(&self, name: &str) -> Self {
        let mut map = self.clone();
        map.originals.iter_mut().for_each(|original| original.name = beside(name, &original.name));
        map
    }

    /// Leaves out the last lines of functions that map to where the function begins, as compilers write them: nobody wrote
    /// something there to stop at.
    pub(super) fn leave_out_ends(&mut self, functions: &[FunctionSpan]) {
        for function in functions.iter().filter(|function| function.first < function.last) {
            if self.original(function.last) == self.original(function.first) {
                self.lines.remove(&function.last);
            }
        }
    }

    /// Which original, by its number, and which line of it a line of the compiled script comes from.
    #[must_use]
    pub fn original(&self, line: Line) -> Option<(usize, Line)> {
        self.lines.get(&line).copied()
    }

    /// The lines of each original that some of `lines` of the compiled script come from.
    #[must_use]
    pub fn original_lines(&self, lines: impl Iterator<Item = Line>) -> Vec<LineSet> {
        let mut found = vec![LineSet::default(); self.originals.len()];
        for (original, line) in lines.filter_map(|line| self.original(line)) {
            found[original].insert(line);
        }
        found
    }

    /// The lines among `lines` of the compiled script at which a line of an original begins: of those that follow each other,
    /// the first.
    #[must_use]
    pub fn compiled(&self, original: usize, line: Line, lines: impl Iterator<Item = Line>) -> Vec<Line> {
        let mut found = Vec::new();
        let mut before = None;
        for held in lines {
            let place = self.original(held);
            if place == Some((original, line)) && before != place {
                found.push(held);
            }
            before = place;
        }
        found
    }
}

fn unreadable(error: sourcemap::Error) -> MapError {
    MapError::Unreadable(error.to_string())
}

/// A path relative to the folder that the file `name` is in.
fn beside(name: &str, path: &str) -> String {
    let is_absolute = path.starts_with(['/', '\\']) || path.contains("://") || path.get(1..2) == Some(":");
    let folder = name.rfind(['/', '\\']).map_or("", |end| &name[..=end]);
    if is_absolute || folder.is_empty() {
        return path.to_owned();
    }
    let mut parts: Vec<&str> = folder.trim_end_matches(['/', '\\']).split(['/', '\\']).collect();
    for part in path.split('/') {
        match part {
            "." => {}
            ".." if parts.last().is_some_and(|last| *last != ".." && !last.is_empty()) => {
                parts.pop();
            }
            part => parts.push(part),
        }
    }
    parts.join("/")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(number: u32) -> Line {
        Line::new(number).unwrap()
    }

    /// Lines 1 and 2 come from line 1, line 3 from nowhere, line 4 from line 3, line 5 from line 1 again.
    const MAP: &str = r#"{"version": 3, "sources": ["src/keeper.ts"], "names": [], "sourcesContent": ["one\ntwo\nthree"],
        "mappings": "AAAA;EAAA;;AAEA;AAFA"}"#;

    #[test]
    fn lines_map_both_ways() {
        let map = LineMap::parse(MAP.as_bytes(), "build/keeper.lua").unwrap();
        let originals: Vec<_> = (1..=5).map(|number| map.original(line(number)).map(|(_, line)| line.get())).collect();
        assert_eq!(originals, [Some(1), Some(1), None, Some(3), Some(1)]);
        assert_eq!(map.originals[0].name, "build/src/keeper.ts");
        assert_eq!(map.originals[0].text.as_deref(), Some("one\ntwo\nthree"));
        let compiled =
            |number| map.compiled(0, line(number), (1..=5).map(line)).into_iter().map(Line::get).collect::<Vec<_>>();
        assert_eq!((compiled(1), compiled(2), compiled(3)), (vec![1, 5], vec![], vec![4]));
    }

    #[test]
    fn an_index_map_is_one_map() {
        let index = format!(
            r#"{{"version": 3, "sections": [{{"offset": {{"line": 0, "column": 0}}, "map": {MAP}}},
                {{"offset": {{"line": 10, "column": 0}}, "map": {MAP}}}]}}"#
        );
        let map = LineMap::parse(index.as_bytes(), "keeper.lua").unwrap();
        assert_eq!(map.original(line(4)).unwrap().1, line(3));
        assert_eq!(map.original(line(14)).unwrap().1, line(3));
    }

    #[test]
    fn a_broken_map_says_why() {
        let fails = |text: &str| LineMap::parse(text.as_bytes(), "x.lua").unwrap_err().to_string();
        assert!(fails("not json").starts_with("it is no source map"));
        assert!(
            fails(r#"{"version": 3, "sources": [], "names": [], "mappings": "AAAA;!!"}"#)
                .starts_with("it is no source map")
        );
        assert_eq!(
            fails(r#"{"version": 3, "sources": [], "names": [], "mappings": ""}"#),
            "no line of the script is mapped by it"
        );
        let large = vec![b' '; MOST_MAP_BYTES + 1];
        assert_eq!(LineMap::parse(&large, "x.lua"), Err(MapError::TooLarge(MOST_MAP_BYTES + 1)));
        // Line 1,073,741,825 of the original.
        let far = r#"{"version": 3, "sources": ["a.ts"], "names": [], "mappings": "AAAA;AAggggggCA"}"#;
        assert_eq!(LineMap::parse(far.as_bytes(), "x.lua").unwrap().original(line(2)), None);
        assert!(LineMap::from_url("data:application/json;base64,????", "x.lua").is_err());
    }

    #[test]
    fn paths_are_beside_the_script() {
        for (name, path, expected) in [
            ("scripts/keeper.lua", "keeper.ts", "scripts/keeper.ts"),
            ("scripts/build/keeper.lua", "../src/keeper.ts", "scripts/src/keeper.ts"),
            ("keeper.lua", "keeper.ts", "keeper.ts"),
            ("scripts/keeper.lua", "/abs/keeper.ts", "/abs/keeper.ts"),
        ] {
            assert_eq!(beside(name, path), expected);
        }
    }
}
