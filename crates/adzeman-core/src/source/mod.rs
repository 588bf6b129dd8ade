//! Sources: what the engines run, as far as it has been seen.
//!
//! A [`Source`] is one text under one runtime name. The [`Sources`] registry is shared by all contexts of a host, so
//! that three contexts running the same script share one source and one set of breakpoints.

mod code;
mod language;
mod lines;
mod map;
mod path;

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, OnceLock};

use serde::{Deserialize, Serialize};
use sha2::{Digest as _, Sha256};

pub use code::{Code, CodeFacts};
pub use language::Language;
pub use lines::{Line, LineSet};
pub use map::{LineMap, MOST_MAP_BYTES, MapError, MapReference, Original, map_reference};
pub use path::tail_agreement;

/// Number of a source in its [`Sources`] registry, counted from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SourceId(pub u32);

/// A place in a source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct SourceLine {
    /// Which source.
    pub source: SourceId,
    /// Which line of it.
    pub line: Line,
}

/// The first eight bytes of the SHA-256 of a source's text, in hexadecimal: enough to tell two versions apart.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct TextDigest(String);

impl TextDigest {
    /// The digest of `text`.
    #[must_use]
    pub fn of(text: &str) -> Self {
        let hash = Sha256::digest(text.as_bytes());
        Self(hash.iter().take(8).map(|byte| format!("{byte:02x}")).collect())
    }

    /// Sixteen lower-case hexadecimal digits.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// A function in a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FunctionSpan {
    /// The name it was written with (`fare`, `tariff.fare`, `boat:length`), if it has one.
    pub name: Option<String>,
    /// The line its definition starts on.
    pub first: Line,
    /// The line its definition ends on.
    pub last: Line,
    /// The first line in it that can hold a breakpoint.
    pub body: Line,
    /// Whether no other function begins and ends on the same lines.
    pub is_only: bool,
}

/// A use of a variable or field in a script's text.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct NameUse {
    /// The line it is on.
    pub line: Line,
    /// Whether it is assigned to; it is read otherwise.
    pub is_write: bool,
    /// How it is written, such as `tariff.base`.
    pub text: String,
    /// The condition under which the line comes to it, when the whole of a condition stands on that line.
    pub guard: Option<String>,
}

/// What an engine knows of a script when it is loaded.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SourceFacts {
    /// The name the engine runs it under, such as `scripts/lock.lua`.
    pub name: String,
    /// The language that it is written in.
    pub language: Language,
    /// The text, if the engine has it. [`CodeFacts::is_other_text`] says whether it is the one that runs, where that is not
    /// certain.
    pub text: Option<Arc<str>>,
    /// What its compiled form says, which is found out once someone asks.
    pub code: Code,
    /// Whether several texts run under this name at a time, so that none can be shown; it has no text then.
    pub is_several: bool,
    /// The source whose functions were given the bodies of this one, while they were alive.
    pub replaces: Option<SourceId>,
}

/// A source in the registry.
#[derive(Debug, Clone)]
pub struct Source {
    /// Its number.
    pub id: SourceId,
    /// What the engine said of it.
    pub facts: SourceFacts,
    /// The source that was loaded, where this one has come into its place and is another text.
    pub loaded_as: Option<SourceId>,
    /// Digest of the text, once that was asked for.
    digest: OnceLock<Option<TextDigest>>,
    /// Where each line of the text begins, once that was asked for.
    starts: OnceLock<Vec<usize>>,
}

impl SourceFacts {
    /// Whether both are of the same script. What only compiled code tells is compared where that is all there is, or where the
    /// text may be another one.
    fn is_same(&self, other: &Self) -> bool {
        let is_certain = self.text.is_some() && self.code.is_of_text() && other.code.is_of_text();
        self.text == other.text && (is_certain || self.code == other.code)
    }
}

impl Source {
    /// The name without its folders.
    #[must_use]
    pub fn short_name(&self) -> &str {
        self.facts.name.rsplit(['/', '\\']).next().unwrap_or(&self.facts.name)
    }

    fn new(id: SourceId, facts: SourceFacts, loaded_as: Option<SourceId>) -> Arc<Self> {
        Arc::new(Self { id, facts, loaded_as, digest: OnceLock::new(), starts: OnceLock::new() })
    }

    /// What its compiled form says. The first to ask waits until it is found out.
    #[must_use]
    pub fn code(&self) -> &CodeFacts {
        self.facts.code.get()
    }

    /// Its text, if it is known.
    #[must_use]
    pub fn text(&self) -> Option<&Arc<str>> {
        let text = self.facts.text.as_ref()?;
        (self.facts.code.is_of_text() || !self.code().is_other_text).then_some(text)
    }

    /// Digest of the text, if there is a text.
    #[must_use]
    pub fn digest(&self) -> Option<&TextDigest> {
        self.digest.get_or_init(|| self.text().map(|text| TextDigest::of(text))).as_ref()
    }

    /// What the function with these lines is called: as it was written, or by where it is, if it was written without a name. Where
    /// another one has the same lines, `called` has to agree, the name that it was called by.
    #[must_use]
    pub fn function_name(&self, (first, last): (Line, Line), called: &str) -> String {
        let is_it = |function: &&FunctionSpan| (function.first, function.last) == (first, last);
        let fits = |function: &FunctionSpan, name: &str| function.is_only || self.last_part(name) == called;
        let mut all = self.code().functions.iter().filter(is_it).peekable();
        let is_written = all.peek().is_some() && self.text().is_some();
        let written = all.find_map(|function| function.name.as_deref().filter(|name| fits(function, name)));
        match written {
            Some(name) => name.to_owned(),
            None if is_written || called.is_empty() => format!("function at {}:{}", self.short_name(), first.get()),
            None => called.to_owned(),
        }
    }

    /// The last part of a name with several.
    fn last_part<'n>(&self, name: &'n str) -> &'n str {
        let language = &self.facts.language;
        name.rsplit([language.notation.separator, language.method_separator]).next().unwrap_or(name)
    }

    /// The innermost function whose definition covers `line`.
    #[must_use]
    pub fn function_at(&self, line: Line) -> Option<&FunctionSpan> {
        self.code()
            .functions
            .iter()
            .filter(|function| function.first <= line && line <= function.last)
            .min_by_key(|function| function.last.get() - function.first.get())
    }

    /// Whether a function holds one of the lines: one between its first and last, and not inside a function defined within
    /// it. A line that such an inner function begins or ends on belongs to both. 0 and 0 stand for the whole script.
    #[must_use]
    pub fn function_holds(&self, lines: &LineSet, first: u32, last: u32) -> bool {
        let is_whole = last == 0;
        let inner = self.code().functions.iter().filter(|function| {
            let (begin, end) = (function.first.get(), function.last.get());
            is_whole || (first <= begin && end <= last && (begin, end) != (first, last))
        });
        let spans: Vec<_> = inner.map(|function| (function.first.get(), function.last.get())).collect();
        let is_own = |line: u32| {
            (is_whole || (first..=last).contains(&line))
                && !spans.iter().any(|(begin, end)| *begin < line && line < *end)
        };
        lines.iter().map(Line::get).any(is_own)
    }

    /// The text of one line, without its line break.
    #[must_use]
    pub fn text_of(&self, line: Line) -> Option<&str> {
        let text = self.text()?;
        let find_starts = || std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect();
        let start = *self.starts.get_or_init(find_starts).get(line.index())?;
        text[start..].lines().next()
    }
}

/// All sources of a host. Loading the same name again with another text makes a new source; the newest one of a name is
/// the one that breakpoints bind to.
#[derive(Debug, Clone, Default)]
pub struct Sources {
    all: HashMap<SourceId, Arc<Source>>,
    /// How many there were.
    count: u32,
    newest: HashMap<String, SourceId>,
    /// The first one of each name, of those that are known.
    first: HashMap<String, SourceId>,
    /// What compiled sources were written as.
    maps: Arc<HashMap<SourceId, Arc<Mapped>>>,
    /// Sources that are there because of a map only.
    written: HashSet<SourceId>,
}

/// The map of a compiled source, with the sources that its originals are.
#[derive(Debug, Clone)]
pub struct Mapped {
    map: LineMap,
    originals: Vec<SourceId>,
}

impl Mapped {
    /// Where a line of the compiled source comes from.
    #[must_use]
    pub fn original(&self, line: Line) -> Option<SourceLine> {
        let (original, line) = self.map.original(line)?;
        Some(SourceLine { source: *self.originals.get(original)?, line })
    }
}

impl Sources {
    /// Adds what an engine knows of a script; answers the same number for the same name and text.
    ///
    /// A source met first without its text is replaced when the text comes, and one with a text when several are called the same.
    pub fn add(&mut self, facts: SourceFacts) -> SourceId {
        if let Some(known) = self.named(&facts.name)
            && (known.facts.is_same(&facts)
                || facts.text.is_none() && known.facts.text.is_some() && !facts.is_several
                || known.facts.is_several && facts.is_several)
        {
            return known.id;
        }
        let id = SourceId(self.count);
        self.count = self.count.saturating_add(1);
        self.first.entry(facts.name.clone()).or_insert(id);
        self.newest.insert(facts.name.clone(), id);
        let replaced = facts.replaces.and_then(|before| self.get(before));
        let loaded = replaced.map(|before| before.loaded_as.unwrap_or(before.id));
        let loaded_as = loaded.filter(|loaded| self.get(*loaded).is_some_and(|held| held.facts.text != facts.text));
        self.all.insert(id, Source::new(id, facts, loaded_as));
        id
    }

    /// The first source of a name, of those that are known: what it was before its text was changed.
    #[must_use]
    pub fn first_named(&self, name: &str) -> Option<&Arc<Source>> {
        self.first.get(name).and_then(|id| self.get(*id))
    }

    /// Whether a source is there because some script was compiled from it.
    #[must_use]
    pub fn is_written(&self, id: SourceId) -> bool {
        self.written.contains(&id)
    }

    /// Forgets a source that no context has any more, with its map. Its number is not given again.
    pub fn forget(&mut self, id: SourceId) {
        self.forget_map(id);
        // Some script was written as it.
        if self.maps.values().any(|mapped| mapped.originals.contains(&id)) {
            return;
        }
        let Some(held) = self.all.remove(&id) else { return };
        let name = &held.facts.name;
        if self.newest.get(name) == Some(&id) {
            self.newest.remove(name);
        }
        if self.first.get(name) == Some(&id) {
            let of_name = self.all.values().filter(|other| other.facts.name == *name).map(|other| other.id);
            match self.newest.get(name).and_then(|_| of_name.min()) {
                Some(next) => self.first.insert(name.clone(), next),
                None => self.first.remove(name),
            };
        }
    }

    /// Takes the map of a compiled source: what it was written as becomes a source of its own.
    pub fn set_map(&mut self, compiled: SourceId, mut map: LineMap) {
        let Some(source) = self.get(compiled).cloned() else { return };
        map.leave_out_ends(&source.code().functions);
        let mut lines = map.original_lines(source.code().lines.iter()).into_iter();
        let facts = map.originals.iter().map(|original| SourceFacts {
            name: original.name.clone(),
            // Not known, but conditions at its lines are evaluated by the one that runs.
            language: source.facts.language,
            text: original.text.clone(),
            code: CodeFacts { lines: lines.next().unwrap_or_default(), ..CodeFacts::default() }.into(),
            ..SourceFacts::default()
        });
        let originals = facts.map(|facts| self.add_original(facts)).collect();
        Arc::make_mut(&mut self.maps).insert(compiled, Arc::new(Mapped { map, originals }));
    }

    /// Forgets the map of a compiled source, and what it was written as, as far as nothing else was: its own lines are shown
    /// again.
    pub fn forget_map(&mut self, compiled: SourceId) {
        if !self.maps.contains_key(&compiled) {
            return;
        }
        let Some(mapped) = Arc::make_mut(&mut self.maps).remove(&compiled) else { return };
        for id in &mapped.originals {
            let is_used = self.maps.values().any(|other| other.originals.contains(id));
            if is_used || !self.written.remove(id) {
                continue;
            }
            if let Some(held) = self.all.remove(id)
                && self.newest.get(&held.facts.name) == Some(id)
            {
                self.newest.remove(&held.facts.name);
            }
        }
    }

    /// Adds what a script was written as. Parts of one original may be compiled to several scripts: it is one source then, with
    /// the lines of all.
    fn add_original(&mut self, facts: SourceFacts) -> SourceId {
        let known = self.named(&facts.name).filter(|known| known.facts.text == facts.text).cloned();
        let Some(mut known) = known else {
            let id = self.add(facts);
            self.written.insert(id);
            return id;
        };
        let id = known.id;
        let mut code = known.code().clone();
        code.lines.extend_with(&facts.code.get().lines);
        Arc::make_mut(&mut known).facts.code = code.into();
        self.all.insert(id, known);
        id
    }

    /// The names of what a source was written as; none for one that was not compiled.
    pub fn originals(&self, compiled: SourceId) -> impl Iterator<Item = &str> {
        let originals = self.maps.get(&compiled).into_iter().flat_map(|mapped| &mapped.originals);
        originals.filter_map(|id| self.get(*id)).map(|source| source.facts.name.as_str())
    }

    /// The maps of compiled sources.
    #[must_use]
    pub fn maps(&self) -> &Arc<HashMap<SourceId, Arc<Mapped>>> {
        &self.maps
    }

    /// Where a place is in what it was written as; the place itself for what is not compiled, or not mapped.
    #[must_use]
    pub fn shown(&self, place: SourceLine) -> SourceLine {
        self.maps.get(&place.source).and_then(|mapped| mapped.original(place.line)).unwrap_or(place)
    }

    /// The places in compiled sources, as they are now, at which a place in what they were written as begins. `None` for a
    /// source that nothing was compiled from.
    #[must_use]
    pub fn compiled(&self, original: SourceLine) -> Option<Vec<SourceLine>> {
        let number_in = |mapped: &Mapped| mapped.originals.iter().position(|held| *held == original.source);
        let mut compiled: Vec<_> =
            self.maps.iter().filter_map(|(id, mapped)| Some((*id, mapped, number_in(mapped)?))).collect();
        if compiled.is_empty() {
            return None;
        }
        compiled.sort_by_key(|(id, ..)| *id);
        let mut places = Vec::new();
        for (id, mapped, number) in compiled {
            let Some(source) = self.get(id).filter(|source| self.newest.get(&source.facts.name) == Some(&id)) else {
                continue;
            };
            let lines = mapped.map.compiled(number, original.line, source.code().lines.iter());
            places.extend(lines.into_iter().map(|line| SourceLine { source: id, line }));
        }
        Some(places)
    }

    /// The source with this number.
    #[must_use]
    pub fn get(&self, id: SourceId) -> Option<&Arc<Source>> {
        self.all.get(&id)
    }

    /// The newest source of exactly this runtime name.
    #[must_use]
    pub fn named(&self, name: &str) -> Option<&Arc<Source>> {
        self.newest.get(name).and_then(|id| self.get(*id))
    }

    /// The newest source of each name, by name.
    #[must_use]
    pub fn newest(&self) -> Vec<&Arc<Source>> {
        let mut list: Vec<_> = self.newest.values().filter_map(|id| self.get(*id)).collect();
        list.sort_by(|a, b| a.facts.name.cmp(&b.facts.name));
        list
    }

    /// The newest sources whose name agrees with the end of the path `wanted`: those that agree in the most folders.
    /// An exact match wins alone.
    #[must_use]
    pub fn matching(&self, wanted: &str) -> Vec<&Arc<Source>> {
        if let Some(exact) = self.named(wanted) {
            return vec![exact];
        }
        let agreements: Vec<_> = self
            .newest()
            .into_iter()
            .filter_map(|source| tail_agreement(&source.facts.name, wanted).map(|parts| (parts, source)))
            .collect();
        let best = agreements.iter().map(|(parts, _)| *parts).max();
        agreements.into_iter().filter(|(parts, _)| Some(*parts) == best).map(|(_, source)| source).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(name: &str, text: &str) -> SourceFacts {
        SourceFacts {
            name: name.into(),
            language: Language::UNKNOWN,
            text: Some(text.into()),
            code: CodeFacts { lines: [1, 2].into_iter().collect(), ..CodeFacts::default() }.into(),
            ..SourceFacts::default()
        }
    }

    #[test]
    fn same_name_and_text_is_one_source_and_a_reload_is_another() {
        let mut sources = Sources::default();
        let first = sources.add(facts("scripts/lock.lua", "a"));
        assert_eq!(first, sources.add(facts("scripts/lock.lua", "a")));
        let second = sources.add(facts("scripts/lock.lua", "b"));
        assert_ne!(first, second);
        assert_eq!(sources.named("scripts/lock.lua").unwrap().id, second);
        assert_eq!(sources.newest().len(), 1);
    }

    /// Line 1 of the compiled script comes from line `number` of `keeper.ts`, line 2 from nowhere.
    fn map(number: u8) -> LineMap {
        let line = ['A', 'C', 'E', 'G'][usize::from(number - 1)];
        let map = format!(r#"{{"version": 3, "sources": ["keeper.ts"], "names": [], "mappings": "AA{line}A;A"}}"#);
        LineMap::parse(map.as_bytes(), "keeper.lua").unwrap()
    }

    #[test]
    fn a_map_that_is_forgotten_takes_its_originals_with_it() {
        let mut sources = Sources::default();
        let compiled: Vec<_> = ["a.lua", "b.lua"].map(|name| sources.add(facts(name, "x"))).into();
        compiled.iter().for_each(|id| sources.set_map(*id, map(1)));
        sources.forget_map(compiled[0]);
        assert!(sources.named("keeper.ts").is_some(), "the other script was written as this, too");
        sources.forget_map(compiled[1]);
        assert!(sources.named("keeper.ts").is_none() && sources.named("a.lua").is_some());
        assert_eq!(sources.newest().len(), 2);
        sources.set_map(compiled[0], map(1));
        assert!(sources.named("keeper.ts").is_some(), "it can come again");
    }

    #[test]
    fn an_original_may_be_compiled_to_several_scripts() {
        let mut sources = Sources::default();
        let compiled = ["a.lua", "b.lua"].map(|name| sources.add(facts(name, name)));
        sources.set_map(compiled[0], map(1));
        sources.set_map(compiled[1], map(3));
        let at = |source, line| SourceLine { source, line: Line::new(line).unwrap() };
        let original = sources.named("keeper.ts").unwrap().clone();
        assert_eq!(original.code().lines, [1, 3].into_iter().collect());
        assert_eq!(sources.compiled(at(original.id, 1)), Some(vec![at(compiled[0], 1)]));
        assert_eq!(sources.compiled(at(original.id, 3)), Some(vec![at(compiled[1], 1)]));
        assert_eq!(sources.compiled(at(original.id, 2)), Some(vec![]));
        assert_eq!(sources.compiled(at(compiled[0], 1)), None);
        assert_eq!(sources.shown(at(compiled[1], 1)), at(original.id, 3));
        assert_eq!(sources.shown(at(compiled[1], 2)), at(compiled[1], 2), "from nowhere");
        assert_eq!(sources.originals(compiled[0]).collect::<Vec<_>>(), ["keeper.ts"]);
        // A script that is loaded anew leaves the lines of its former text.
        let anew = sources.add(facts("b.lua", "another text"));
        sources.set_map(anew, map(2));
        assert_eq!(sources.compiled(at(original.id, 3)), Some(vec![]));
        assert_eq!(sources.compiled(at(original.id, 2)), Some(vec![at(anew, 1)]));
    }

    #[test]
    fn an_unknown_text_does_not_replace_a_known_one() {
        let mut sources = Sources::default();
        let id = sources.add(facts("a.lua", "x"));
        let bare = SourceFacts { text: None, ..facts("a.lua", "") };
        assert_eq!(sources.add(bare), id);
    }

    #[test]
    fn a_path_matches_by_its_tail_and_an_exact_name_wins() {
        let mut sources = Sources::default();
        sources.add(facts("a/toll.lua", "1"));
        sources.add(facts("b/toll.lua", "2"));
        let names = |sources: &Sources, wanted: &str| -> Vec<String> {
            sources.matching(wanted).iter().map(|source| source.facts.name.clone()).collect()
        };
        assert_eq!(names(&sources, "toll.lua"), ["a/toll.lua", "b/toll.lua"]);
        sources.add(facts("toll.lua", "3"));
        assert_eq!(names(&sources, "toll.lua"), ["toll.lua"]);
        assert_eq!(names(&sources, "a/toll.lua"), ["a/toll.lua"]);
        assert_eq!(names(&sources, "/home\\x\\a\\toll.lua"), ["a/toll.lua"]);
        assert!(names(&sources, "oll.lua").is_empty());
    }

    #[test]
    fn a_line_of_a_text_is_found_by_its_number() {
        let mut sources = Sources::default();
        let id = sources.add(facts("a.lua", "one\r\n\nthree\n"));
        let source = sources.get(id).unwrap();
        let lines: Vec<_> = (1..=4).map(|line| source.text_of(Line::new(line).unwrap())).collect();
        assert_eq!(lines, [Some("one"), Some(""), Some("three"), None]);
    }

    #[test]
    fn a_digest_is_sixteen_hex_digits() {
        assert_eq!(TextDigest::of("").as_str(), "e3b0c44298fc1c14");
    }
}
