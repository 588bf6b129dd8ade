//! What is kept for one Lua state while it is watched.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;

use adzeman_core::decide::Need;
use adzeman_core::engine::{EngineError, Supervisor};
use adzeman_core::host::HostView;
use adzeman_core::source::{Line, LineSet, SourceId};

use crate::chunk::prototypes;
use crate::evaluate::Evaluation;
use crate::facts::facts;
use crate::ffi::activation::Activation;
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::{hook, proxy, walk};
use crate::values::Node;
use crate::view::View;

/// The largest file read to show the text of a source that was loaded from it.
const MOST_SOURCE_BYTES: u64 = 8 * 1024 * 1024;

/// Everything about one Lua state. Its address is known to the state's hooks, so it stays boxed.
pub(crate) struct Context {
    pub(crate) main: State,
    supervisor: Rc<dyn Supervisor>,
    host: Rc<dyn HostView>,
    need: RefCell<Need>,
    /// The parts of `need` that the hook asks for first.
    every_line: Cell<bool>,
    mask: RefCell<LineSet>,
    hooked: Cell<bool>,
    by_chunk_name: RefCell<HashMap<Vec<u8>, SourceId>>,
    pub(crate) nodes: RefCell<Vec<Node>>,
    pub(crate) evaluation: Evaluation,
}

impl Context {
    pub(crate) fn new(main: State, supervisor: Rc<dyn Supervisor>, host: Rc<dyn HostView>) -> Self {
        Self {
            main,
            supervisor,
            host,
            need: RefCell::new(Need { every_line: false, every_stack: false, armed: Arc::default() }),
            every_line: Cell::new(false),
            mask: RefCell::default(),
            hooked: Cell::new(false),
            by_chunk_name: RefCell::default(),
            nodes: RefCell::default(),
            evaluation: Evaluation::default(),
        }
    }

    /// Makes the tables that the state keeps for this crate, and enters this context as the one that watches it.
    pub(crate) fn prepare(&self) -> Result<(), EngineError> {
        proxy::prepare(self.main)?;
        walk::prepare_threads(self.main)?;
        for slot in [Slot::Anchors, Slot::Conditions] {
            self.main.push_table()?;
            self.main.set_slot(slot)?;
        }
        self.main.push_self();
        walk::note_thread(self.main)?;
        hook::register(self.main, self)
    }

    pub(crate) fn host(&self) -> &dyn HostView {
        &*self.host
    }

    pub(crate) fn supervisor(&self) -> &dyn Supervisor {
        &*self.supervisor
    }

    /// Whether a line of any source is worth a closer look: the first question of the hook.
    #[inline]
    pub(crate) fn covers(&self, line: u32) -> bool {
        self.every_line.get()
            || Line::new(line).is_some_and(|line| self.mask.borrow().contains(line))
            || self.supervisor.wants_attention()
    }

    /// Whether lines are to be watched at all.
    #[inline]
    pub(crate) fn is_hooked(&self) -> bool {
        self.hooked.get()
    }

    /// Called by the hook on a line that is covered.
    pub(crate) fn line_reached(&self, state: State, activation: &Activation, line: u32) {
        let source = self.source_of(state, activation);
        let line = Line::new(line).unwrap_or(Line::FIRST);
        self.supervisor.line_reached(&mut View::new(self, state), source, line);
        if self.need.borrow().is_nothing() {
            hook::watch_lines(state, false);
        }
    }

    /// Takes what is to be watched, and sets or removes the hook on every thread known.
    pub(crate) fn watch(&self, need: &Need) {
        let before = self.need.replace(need.clone());
        let wanted = !need.is_nothing();
        let more_stacks = need.every_stack && !before.every_stack;
        let rearmed = wanted && !Arc::ptr_eq(&before.armed, &need.armed);
        self.every_line.set(need.every_line);
        if !Arc::ptr_eq(&before.armed, &need.armed) {
            self.mask.borrow_mut().clone_from(need.mask());
        }
        if rearmed || more_stacks {
            self.find_threads();
        }
        if rearmed || more_stacks || self.hooked.get() != wanted {
            self.hooked.set(wanted);
            let set = walk::for_each_thread(self.main, &mut |thread| hook::watch_lines(thread, wanted));
            report(set);
        }
    }

    /// The source of a running function; one met for the first time is learnt.
    pub(crate) fn source_of(&self, state: State, activation: &Activation) -> Option<SourceId> {
        let known = activation.with_chunk_name(|name| self.by_chunk_name.borrow().get(name).copied());
        if known.is_some() {
            return known;
        }
        let top = state.top();
        activation.push_function();
        if !state.is_native_function(-1) {
            self.learn(state);
        }
        state.cut_to(top);
        activation.with_chunk_name(|name| self.by_chunk_name.borrow().get(name).copied())
    }

    /// The source that functions of this chunk belong to.
    pub(crate) fn source_named(&self, chunk_name: &str) -> Option<SourceId> {
        self.by_chunk_name.borrow().get(chunk_name.as_bytes()).copied()
    }

    /// Notes that functions of this chunk belong to a source.
    pub(crate) fn note_source(&self, chunk_name: &str, id: SourceId) {
        self.by_chunk_name.borrow_mut().insert(chunk_name.as_bytes().to_vec(), id);
    }

    /// Learns the source of the function on top, from its compiled form; the text is read from the file it names, or is
    /// the chunk name itself.
    fn learn(&self, state: State) {
        let chunk_name = state.function_info(-1).chunk_name;
        if self.by_chunk_name.borrow().contains_key(chunk_name.as_bytes()) {
            return;
        }
        let Some(prototypes) = prototypes(&state.dump(-1)) else { return };
        let text = text_of(&chunk_name);
        let id = self.supervisor.source_loaded(facts(&display_name(&chunk_name), text, &prototypes));
        self.note_source(&chunk_name, id);
    }

    /// Looks for functions of sources that nobody reported, whole chunks and outer functions before inner ones.
    pub(crate) fn discover(&self) {
        let mut unknown: HashMap<String, (u32, Vec<u8>)> = HashMap::new();
        let mut show = |state: State, kind: Type| match kind {
            Type::Function => {
                let info = state.function_info(-1);
                let is_known = self.by_chunk_name.borrow().contains_key(info.chunk_name.as_bytes());
                let is_better = unknown.get(&info.chunk_name).is_none_or(|(first, _)| info.first_line < *first);
                if !is_known && is_better {
                    unknown.insert(info.chunk_name, (info.first_line, state.dump(-1)));
                }
            }
            _ => note(state),
        };
        report(walk::walk(self.main, &mut show));
        for (chunk_name, (_, chunk)) in unknown {
            if let Some(prototypes) = prototypes(&chunk) {
                let facts = facts(&display_name(&chunk_name), text_of(&chunk_name), &prototypes);
                let id = self.supervisor.source_loaded(facts);
                self.note_source(&chunk_name, id);
            }
        }
    }

    fn find_threads(&self) {
        let mut show = |state: State, kind: Type| {
            if kind == Type::Thread {
                note(state);
            }
        };
        report(walk::walk(self.main, &mut show));
    }
}

fn note(state: State) {
    state.push_copy(-1);
    report(walk::note_thread(state));
}

/// Trouble while looking around is worth a line in the log, and no more.
fn report(outcome: Result<(), EngineError>) {
    if let Err(error) = outcome {
        tracing::warn!(%error, "the Lua state could not be walked whole");
    }
}

/// The name to show for a chunk (Lua reference manual, `lua_Debug.source`).
pub(crate) fn display_name(chunk_name: &str) -> String {
    match chunk_name.strip_prefix(['@', '=']) {
        Some(name) => name.to_owned(),
        None => {
            let line = chunk_name.lines().next().unwrap_or_default();
            format!("[string \"{}\"]", line.chars().take(40).collect::<String>())
        }
    }
}

fn text_of(chunk_name: &str) -> Option<Arc<str>> {
    match chunk_name.strip_prefix('@') {
        Some(path) => {
            let size = std::fs::metadata(path).ok()?.len();
            (size <= MOST_SOURCE_BYTES).then(|| std::fs::read_to_string(path).ok())?.map(Into::into)
        }
        None if chunk_name.starts_with('=') => None,
        None => Some(chunk_name.into()),
    }
}
