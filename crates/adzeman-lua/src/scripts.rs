//! The scripts of a state, as they became known.

use std::cell::{Cell, RefCell};
use std::collections::{HashMap, HashSet};
use std::ffi::CString;
use std::rc::Rc;
use std::sync::Arc;

use adzeman_core::engine::Supervisor;
use adzeman_core::sharing::Shared;
use adzeman_core::source::{SourceFacts, SourceId, tail_agreement};

use crate::constants::{Constants, Declarations};
use crate::dialect::chunk::prototypes;
use crate::evaluate::is_evaluated;
use crate::facts::{compiled, is_part, of_functions, of_text};
use crate::ffi::activation::Activation;
use crate::ffi::by_definition::ByDefinition;
use crate::ffi::layout::Definition;
use crate::ffi::state::State;
use crate::text::display_name;

/// The largest file read to show the text of a source that was loaded from it.
const MOST_SOURCE_BYTES: u64 = 8 * 1024 * 1024;

/// Sources that a state has before it is looked which of them are gone, beyond as many as there were after the last look.
const MOST_UNCHECKED: usize = 1000;
/// Sources that are known in all, where nobody looks because nobody is attached. Who attaches finds those that are alive.
const MOST_KNOWN: usize = 10_000;

/// What a source was compiled from.
struct SourceText {
    chunk_name: String,
    text: Option<Arc<str>>,
    /// The text that its functions are compiled from, where that is another one.
    compiled_as: Option<Arc<str>>,
    /// Functions of it that were seen, as compiled code, where there is no text.
    seen: Vec<Vec<u8>>,
    /// How many looks for what is gone had begun by then.
    look: u32,
}

/// What is found out of sources that are gone.
#[derive(Default)]
struct Living {
    /// Looks that have begun.
    looks: Cell<u32>,
    /// The chunk names of functions that were met in this one.
    met: RefCell<HashSet<Vec<u8>>>,
    /// How many sources were there after the last look.
    left: Cell<usize>,
}

/// What is known of the variables that sources declare, and of those that the compiler has removed.
#[derive(Default)]
struct Removals {
    /// Sources that are yet to be asked whether they may have any.
    unasked: RefCell<HashSet<SourceId>>,
    any: Cell<bool>,
    of_source: RefCell<HashMap<SourceId, Option<Rc<Constants>>>>,
    /// What sources declare, as far as that was asked for.
    declared: RefCell<HashMap<SourceId, Option<Rc<Declarations>>>>,
    /// Whether functions of these prototypes were compiled from the text of their source.
    are_of_text: RefCell<HashMap<usize, bool>>,
}

impl Removals {
    /// A source is gone.
    fn forget(&self, source: SourceId) {
        self.unasked.borrow_mut().remove(&source);
        self.of_source.borrow_mut().remove(&source);
        self.declared.borrow_mut().remove(&source);
    }
}

/// A function that was met.
struct Seen {
    /// The lines of its definition; all of them for a whole chunk.
    lines: (u32, u32),
    compiled: Vec<u8>,
}

/// The scripts of one state.
pub(crate) struct Scripts {
    supervisor: Shared<dyn Supervisor>,
    by_chunk_name: RefCell<HashMap<Vec<u8>, SourceId>>,
    /// The sources of functions that were looked at last.
    last: ByDefinition<SourceId, 64>,
    texts: RefCell<HashMap<SourceId, SourceText>>,
    living: Living,
    constants: Removals,
    /// Chunks met that nobody reported: the functions of each that are in no other one that was met.
    seen: RefCell<HashMap<String, Vec<Seen>>>,
    /// Prototypes of functions that ran when the text of their source was changed, and the source of each.
    kept_on: RefCell<HashMap<usize, SourceId>>,
}

impl Scripts {
    pub(crate) fn new(supervisor: Shared<dyn Supervisor>) -> Self {
        Self {
            supervisor,
            by_chunk_name: RefCell::default(),
            last: ByDefinition::default(),
            texts: RefCell::default(),
            living: Living::default(),
            constants: Removals::default(),
            seen: RefCell::default(),
            kept_on: RefCell::default(),
        }
    }

    /// Whether functions of this chunk belong to a source of the script's.
    pub(crate) fn knows_chunk(&self, chunk_name: &[u8]) -> bool {
        !is_evaluated(chunk_name) && self.by_chunk_name.borrow().contains_key(chunk_name)
    }

    /// Whether it was loaded by this state.
    pub(crate) fn has_text(&self, source: SourceId) -> bool {
        self.texts.borrow().contains_key(&source)
    }

    /// The text of a source, as far as it is known, and its chunk name.
    pub(crate) fn text_of(&self, source: SourceId) -> Option<(Arc<str>, CString)> {
        let texts = self.texts.borrow();
        let held = texts.get(&source)?;
        let text = held.compiled_as.clone().or_else(|| held.text.clone())?;
        Some((text, CString::new(held.chunk_name.as_str()).ok()?))
    }

    /// The chunk of which functions are of a source of this name now, and the source.
    pub(crate) fn now_called(&self, name: &str) -> Option<(String, SourceId)> {
        let by_name = self.by_chunk_name.borrow();
        let mut found = by_name.iter().filter_map(|(chunk_name, source)| {
            let chunk_name = std::str::from_utf8(chunk_name).ok()?;
            (display_name(chunk_name) == name).then(|| (chunk_name.to_owned(), *source))
        });
        found.next()
    }

    /// The text of a source as it is written, as far as it is known.
    pub(crate) fn written(&self, source: SourceId) -> Option<Arc<str>> {
        self.texts.borrow().get(&source)?.text.clone()
    }

    /// A source has taken the place of another one of the same chunk, and is compiled as this text.
    pub(crate) fn succeed(&self, chunk_name: &str, text: Arc<str>, compiled_as: Arc<str>, by: SourceId) {
        self.note(chunk_name, Some(text), by);
        if let Some(held) = self.texts.borrow_mut().get_mut(&by) {
            held.compiled_as = Some(compiled_as);
        }
    }

    /// Functions of these prototypes, which are kept, run on in the text of a source that another one has taken the place of.
    pub(crate) fn keep_on(&self, prototypes: &[usize], source: SourceId) {
        let mut kept_on = self.kept_on.borrow_mut();
        kept_on.extend(prototypes.iter().map(|prototype| (*prototype, source)));
        self.last.forget();
    }

    /// The chunk name of a source.
    pub(crate) fn chunk_name_of(&self, source: SourceId) -> Option<String> {
        self.texts.borrow().get(&source).map(|held| held.chunk_name.clone())
    }

    /// The source of a running function. One met for the first time is learnt, and shown to `is_new`.
    pub(crate) fn of(&self, state: State, activation: &Activation, is_new: impl FnOnce(SourceId)) -> Option<SourceId> {
        let definition = activation.definition();
        if let Some(source) = definition.and_then(|held| self.known(&held)) {
            return Some(source);
        }
        let kept_on = || self.kept_on.borrow().get(&definition?.prototype).copied();
        let known = || {
            let by_name = || activation.with_chunk_name(|name| self.by_chunk_name.borrow().get(name).copied());
            kept_on().or_else(by_name)
        };
        let source = known().or_else(|| {
            let top = state.top();
            activation.push_function();
            let learnt = if state.is_native_function(-1) { None } else { self.learn(state) };
            state.cut_to(top);
            if let Some(id) = learnt {
                is_new(id);
            }
            known()
        });
        if let Some((definition, source)) = definition.zip(source) {
            self.last.note(definition, source);
        }
        source
    }

    /// The source of a function of this definition, if that was looked at lately.
    pub(crate) fn known(&self, definition: &Definition) -> Option<SourceId> {
        self.last.get(definition)
    }

    /// What there is to know of the sources without a text that are named by the end of their path, if this is the text of them.
    pub(crate) fn with_text(&self, path: &str, text: &str) -> Vec<SourceFacts> {
        let texts = self.texts.borrow();
        let is_meant = |held: &&SourceText| tail_agreement(&display_name(&held.chunk_name), path).is_some();
        let with_it = |held: &SourceText| {
            let (name, c_name) = (display_name(&held.chunk_name), CString::new(held.chunk_name.as_str()).ok()?);
            Some(of_functions(&name, &c_name, Some(text.into()), held.seen.clone()))
        };
        self.textless(&texts).filter(is_meant).filter_map(with_it).collect()
    }

    /// The source that functions of this chunk belong to, as far as that is known.
    pub(crate) fn named(&self, chunk_name: &str) -> Option<SourceId> {
        self.by_chunk_name.borrow().get(chunk_name.as_bytes()).copied()
    }

    /// The chunk name of a source of this name that has no text.
    pub(crate) fn without_text(&self, name: &str) -> Option<String> {
        let texts = self.texts.borrow();
        let mut held = self.textless(&texts).filter(|held| display_name(&held.chunk_name) == name);
        held.next().map(|held| held.chunk_name.clone())
    }

    /// Those of which functions are known and no text, as they are called now.
    fn textless<'a>(&self, texts: &'a HashMap<SourceId, SourceText>) -> impl Iterator<Item = &'a SourceText> {
        let by_name = self.by_chunk_name.borrow();
        let is_now = |source: &SourceId, held: &SourceText| by_name.get(held.chunk_name.as_bytes()) == Some(source);
        let is_textless = |(source, held): &(&SourceId, &SourceText)| !held.seen.is_empty() && is_now(source, held);
        texts.iter().filter(is_textless).map(|(_, held)| held).collect::<Vec<_>>().into_iter()
    }

    /// A text was compiled to a function of this code, under a name that no file may have. Answers what there is to know of it
    /// as a source, unless that is known. Where several texts are called the same, none is shown: it might be another
    /// than that which runs.
    pub(crate) fn compiled(&self, chunk_name: &str, text: &str, code: impl FnOnce() -> Vec<u8>) -> Option<SourceFacts> {
        // A chunk that is named after nothing has its text as its name; compiled code has no text, nor have bytes that are none.
        let is_text = !text.is_empty()
            && chunk_name.starts_with(['@', '='])
            && !text.starts_with('\u{1b}')
            && !text.contains('\u{fffd}');
        if !is_text || is_evaluated(chunk_name.as_bytes()) || text.len() as u64 > MOST_SOURCE_BYTES {
            return None;
        }
        let (name, c_name) = (display_name(chunk_name), CString::new(chunk_name).ok()?);
        let source = self.by_chunk_name.borrow().get(chunk_name.as_bytes()).copied();
        let held = source.and_then(|source| Some(self.texts.borrow().get(&source)?.text.clone()));
        let is_known_otherwise = match &held {
            Some(Some(held)) if **held == *text => return None,
            Some(_) => text_of(chunk_name).as_deref() != Some(text),
            None => false,
        };
        if !is_known_otherwise {
            return Some(of_text(&name, &c_name, text.into()));
        }
        let other = held.flatten()?;
        let seen = [Some(code()), compiled(&other, &c_name)].into_iter().flatten().collect();
        let facts = of_functions(&name, &c_name, None, seen);
        Some(SourceFacts { is_several: true, ..facts })
    }

    /// Notes that functions of this chunk belong to a source.
    pub(crate) fn note(&self, chunk_name: &str, text: Option<Arc<str>>, id: SourceId) {
        let look = self.living.looks.get();
        let held = SourceText { chunk_name: chunk_name.to_owned(), text, compiled_as: None, seen: Vec::new(), look };
        self.texts.borrow_mut().insert(id, held);
        self.by_chunk_name.borrow_mut().insert(chunk_name.as_bytes().to_vec(), id);
        self.constants.unasked.borrow_mut().insert(id);
        self.constants.declared.borrow_mut().remove(&id);
        self.constants.are_of_text.borrow_mut().clear();
        // What was compiled before may be found at the same addresses.
        self.last.forget();
    }

    /// Whether some source may have variables that the compiler has removed.
    pub(crate) fn may_have_constants(&self) -> bool {
        if !self.constants.unasked.borrow().is_empty() {
            let texts = self.texts.borrow();
            let may_have = |id: SourceId| texts.get(&id)?.text.as_ref().map(|text| Constants::may_be_in(text));
            let any = self.constants.unasked.take().into_iter().any(|id| may_have(id) == Some(true));
            self.constants.any.set(self.constants.any.get() || any);
        }
        self.constants.any.get()
    }

    /// The variables of a source, if the compiler has removed some.
    pub(crate) fn constants_of(&self, source: SourceId) -> Option<Rc<Constants>> {
        if let Some(known) = self.constants.of_source.borrow().get(&source) {
            return known.clone();
        }
        let text = self.texts.borrow().get(&source)?.text.clone()?;
        let found = Constants::of(&text).map(Rc::new);
        self.constants.of_source.borrow_mut().insert(source, found.clone());
        found
    }

    /// What a source declares, if its text is known and parses. Reads all of it for that the first time.
    pub(crate) fn declared_in(&self, source: SourceId) -> Option<Rc<Declarations>> {
        if let Some(known) = self.constants.declared.borrow().get(&source) {
            return known.clone();
        }
        let text = self.texts.borrow().get(&source)?.text.clone()?;
        let found = Declarations::of(&text).map(Rc::new);
        self.constants.declared.borrow_mut().insert(source, found.clone());
        found
    }

    /// Whether a function was compiled from the text of its source, by its own code.
    pub(crate) fn is_of_text(&self, source: SourceId, held: &Definition, code: impl FnOnce() -> Vec<u8>) -> bool {
        if let Some(known) = self.constants.are_of_text.borrow().get(&held.prototype) {
            return *known;
        }
        let is_of_text = self.text_of(source).is_some_and(|(text, chunk_name)| is_part(&code(), &text, &chunk_name));
        self.constants.are_of_text.borrow_mut().insert(held.prototype, is_of_text);
        is_of_text
    }

    /// Learns the source of the function on top, from its compiled form; the text is read from the file it names, or is
    /// the chunk name itself.
    fn learn(&self, state: State) -> Option<SourceId> {
        let chunk_name = state.function_info(-1).chunk_name;
        if self.is_new(&chunk_name) { self.take(&chunk_name, vec![state.dump(-1)]) } else { None }
    }

    /// Whether a chunk is a script's that nobody reported.
    fn is_new(&self, chunk_name: &str) -> bool {
        !is_evaluated(chunk_name.as_bytes()) && !self.by_chunk_name.borrow().contains_key(chunk_name.as_bytes())
    }

    /// Takes a chunk that nobody reported, of which these functions were met.
    fn take(&self, chunk_name: &str, seen: Vec<Vec<u8>>) -> Option<SourceId> {
        let seen: Vec<_> = seen.into_iter().filter(|chunk| prototypes(chunk).is_some()).collect();
        if seen.is_empty() {
            return None;
        }
        let (text, c_name) = (text_of(chunk_name), CString::new(chunk_name).ok()?);
        let kept = if text.is_none() { seen.clone() } else { Vec::new() };
        let id = self.supervisor.source_loaded(of_functions(&display_name(chunk_name), &c_name, text.clone(), seen));
        self.note(chunk_name, text, id);
        if let Some(held) = self.texts.borrow_mut().get_mut(&id) {
            held.seen = kept;
        }
        Some(id)
    }

    /// Whether it is time to look which sources are gone.
    pub(crate) fn wants_look(&self) -> bool {
        self.texts.borrow().len() > 2 * self.living.left.get() + MOST_UNCHECKED
    }

    /// Begins to look which sources are gone.
    pub(crate) fn begin_look(&self) {
        self.living.looks.set(self.living.looks.get() + 1);
        self.living.met.borrow_mut().clear();
    }

    /// Ends that; answers those that were there when it began, and of which no function was met.
    pub(crate) fn end_look(&self) -> Vec<SourceId> {
        let met = self.living.met.take();
        let began = self.living.looks.get();
        let is_gone = |held: &SourceText| held.look < began && !met.contains(held.chunk_name.as_bytes());
        let gone: Vec<_> =
            self.texts.borrow().iter().filter(|(_, held)| is_gone(held)).map(|(source, _)| *source).collect();
        self.forget(&gone);
        self.living.left.set(self.texts.borrow().len());
        gone
    }

    /// While nobody is attached: the sources that came first where there are too many, which are forgotten, but for those that
    /// have to be kept.
    pub(crate) fn pass_over(&self, is_kept: impl Fn(SourceId) -> bool) -> Vec<SourceId> {
        if self.texts.borrow().len() <= MOST_KNOWN {
            return Vec::new();
        }
        // Their numbers rise.
        let mut oldest: Vec<_> = self.texts.borrow().keys().copied().filter(|source| !is_kept(*source)).collect();
        oldest.sort_unstable();
        oldest.truncate(oldest.len() / 2);
        self.forget(&oldest);
        oldest
    }

    fn forget(&self, gone: &[SourceId]) {
        let (mut texts, mut by_name) = (self.texts.borrow_mut(), self.by_chunk_name.borrow_mut());
        for source in gone {
            self.constants.forget(*source);
            if let Some(held) = texts.remove(source)
                && by_name.get(held.chunk_name.as_bytes()) == Some(source)
            {
                by_name.remove(held.chunk_name.as_bytes());
            }
        }
        self.last.forget();
    }

    /// Looks at the function on top, which may be of a source that nobody reported: what is known of it is what all of its
    /// functions say that are alive.
    pub(crate) fn see(&self, state: State) {
        let info = state.function_info(-1);
        if !self.is_new(&info.chunk_name) {
            let mut met = self.living.met.borrow_mut();
            if !met.contains(info.chunk_name.as_bytes()) {
                met.insert(info.chunk_name.into_bytes());
            }
            return;
        }
        let lines = if info.last_line == 0 { (0, u32::MAX) } else { (info.first_line, info.last_line) };
        let is_in = |inner: (u32, u32), outer: (u32, u32)| outer.0 <= inner.0 && inner.1 <= outer.1;
        let mut unknown = self.seen.borrow_mut();
        let seen = unknown.entry(info.chunk_name).or_default();
        // Two on the same lines may be different ones.
        let is_known = seen.iter().any(|held| held.lines != lines && is_in(lines, held.lines));
        if is_known {
            return;
        }
        let compiled = state.dump(-1);
        if seen.iter().all(|held| held.lines != lines || held.compiled != compiled) {
            seen.retain(|held| held.lines == lines || !is_in(held.lines, lines));
            seen.push(Seen { lines, compiled });
        }
    }

    /// Takes the sources that were seen; answers those that nobody had reported.
    pub(crate) fn take_seen(&self) -> Vec<SourceId> {
        let unknown = self.seen.take();
        let new = unknown.into_iter().filter(|(chunk_name, _)| self.is_new(chunk_name)).collect::<Vec<_>>();
        let compiled = |seen: Vec<Seen>| seen.into_iter().map(|held| held.compiled).collect();
        new.into_iter().filter_map(|(chunk_name, seen)| self.take(&chunk_name, compiled(seen))).collect()
    }
}

/// The text that a chunk of this name is from, if a file has it, or the name itself.
pub(crate) fn text_of(chunk_name: &str) -> Option<Arc<str>> {
    match chunk_name.strip_prefix('@') {
        Some(path) => {
            let size = std::fs::metadata(path).ok()?.len();
            (size <= MOST_SOURCE_BYTES).then(|| std::fs::read_to_string(path).ok())?.map(Into::into)
        }
        None if chunk_name.starts_with('=') => None,
        None => Some(chunk_name.into()),
    }
}
