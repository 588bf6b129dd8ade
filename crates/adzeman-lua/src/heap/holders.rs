//! What holds a value, as paths of names and keys.

use adzeman_core::engine::EngineError;
use adzeman_core::heap::{Holder, HolderStep, Holders, Root as From};

use super::{Heap, definition, require_graph};
use crate::ffi::graph::{Edge, Found, Graph, How, Root, Work};
use crate::ffi::sizes::object_address;
use crate::ffi::state::{State, Type};
use crate::look::{Shown, captured_names, key_text};
use crate::scripts::Scripts;
use crate::text::{LANGUAGE, display_name};

/// Of the engine's registry, and of what the host keeps there.
const OF_REGISTRY: &str = "(registry)";
const OF_HOST: &str = "(the host)";
const OF_TEXTS: &str = "(all texts)";
/// The value itself, where paths begin with it.
const ITSELF: &str = "(itself)";

impl Heap {
    /// What holds the value on top of `state`, which is popped; the collector is held.
    pub(crate) fn holders(
        state: State,
        running: Vec<State>,
        (scripts, shown): (&Scripts, &Shown),
        most: usize,
        may_go_on: &mut dyn FnMut(u64) -> bool,
    ) -> Result<Option<Holders>, EngineError> {
        require_graph()?;
        refuse_plain(state)?;
        let (target, value) = (object_address(state, -1), shown.preview(state, -1)?.1);
        let work = Work::new(state)?;
        state.move_to(work.thread(), 1);
        let mut graph = Graph::new(&work, running.clone(), Some(target));
        graph.begin(&mut |_| ());
        if !graph.run(may_go_on, &mut |_| ())? {
            return Ok(None);
        }
        let mut found = std::mem::take(&mut graph.found);
        found.sort_by_key(|held| held.is_weak);
        let (mut looked_at, mut own_bytes) = (graph.count(), graph.own_bytes());
        let is_held = found.iter().any(|held| !held.is_weak);
        let mut telling = Telling { graph, target, scripts, shown };
        let mut holders = telling.all(&found, most)?;
        let mut total = found.len();
        if !is_held {
            // What it leads to may lead back to it.
            let mut graph = Graph::new(&work, running, Some(target));
            graph.begin_with_target();
            if !graph.run(may_go_on, &mut |_| ())? {
                return Ok(None);
            }
            looked_at += graph.count();
            own_bytes = own_bytes.max(graph.own_bytes());
            let mut found = std::mem::take(&mut graph.found);
            found.retain(|held| !held.is_weak);
            total += found.len();
            let mut telling = Telling { graph, target, scripts, shown };
            let itself = telling.all(&found, most)?;
            holders.splice(0..0, itself);
        }
        // What is on the stack besides variables may be there more than once.
        let is_under_way = |holder: &Holder| holder.steps.iter().any(|step| step.text.ends_with(UNDER_WAY));
        holders.sort_by_key(|holder| (holder.weak, is_under_way(holder), holder.steps.len(), holder.path()));
        let before = holders.len();
        holders.dedup_by(|a, b| is_under_way(a) && a.path() == b.path() && a.remark == b.remark);
        total -= before - holders.len();
        Ok(Some(Holders { value, holders, total, looked_at, own_bytes }))
    }
}

/// # Errors
/// For a value on top that nothing can hold.
fn refuse_plain(state: State) -> Result<(), EngineError> {
    let kind = match state.type_at(-1) {
        Type::Table | Type::Userdata | Type::Thread => return Ok(()),
        Type::Function => {
            let top = state.top();
            let is_object = !state.is_native_function(-1) || state.push_captured(-1, 1).is_some();
            state.cut_to(top);
            if is_object {
                return Ok(());
            }
            "a function of the host or of Lua's library, which is always there"
        }
        Type::Nil | Type::None => "nothing at all",
        Type::Boolean | Type::Integer | Type::Float | Type::LightUserdata => {
            "copied wherever it is used, and held by nobody"
        }
        Type::String => "a text: the engine keeps one of each, for whoever has it; ask for the table that it is in",
    };
    Err(EngineError::Runtime(format!("that value is {kind}")))
}

/// Tells paths of a graph.
struct Telling<'a> {
    graph: Graph,
    target: usize,
    scripts: &'a Scripts,
    shown: &'a Shown,
}

impl Telling<'_> {
    fn all(&mut self, found: &[Found], most: usize) -> Result<Vec<Holder>, EngineError> {
        let mut holders = Vec::new();
        for (at, held) in found.iter().enumerate().take(most) {
            let passed = found[..at].iter().filter(|other| other.node == held.node).count();
            holders.extend(self.one(held, passed)?);
        }
        Ok(holders)
    }

    /// The path to a hold, behind so many others that the same value has. It is looked at once more: nothing where it is no longer so.
    fn one(&mut self, found: &Found, passed: usize) -> Result<Option<Holder>, EngineError> {
        let way = self.graph.way_to(found.node);
        let Some(root) = way.first().and_then(|(_, root)| *root) else { return Ok(None) };
        let mut steps: Vec<HolderStep> = Vec::new();
        let mut begins_at = match root {
            Root::Globals => From::Globals,
            Root::Thread => From::Stack,
            Root::Registry | Root::OfTexts => From::Engine,
            Root::Given => From::Itself,
        };
        if let Some(text) = first_text(root) {
            steps.push(HolderStep { text: text.to_owned(), value: String::new(), made: None });
        }
        let ends = way.iter().skip(1).map(|(node, _)| self.graph.address_of(*node)).chain([self.target]);
        let ends: Vec<usize> = ends.collect();
        let mut is_host = root == Root::Registry;
        let mut remark = None;
        for ((node, _), end) in way.iter().zip(ends) {
            let (scripts, shown) = (self.scripts, self.shown);
            let is_first = steps.is_empty();
            let passed = if end == self.target { passed } else { 0 };
            let told = self.graph.with_edge(*node, (end, passed), |work, edge| {
                let step = step(work, edge, is_first, (scripts, shown));
                let of = match edge.how {
                    How::Local(level, _) => Some(function_at(work, level)),
                    _ => None,
                };
                (step, edge.how, key_is_number(work, edge), of)
            })?;
            let Some((step, how, is_numbered, of)) = told else { return Ok(None) };
            if let Some(function) = of {
                remark = Some(format!(
                    "{} of {function}",
                    if step.text.ends_with(UNDER_WAY) { "on the stack" } else { "a variable" }
                ));
            }
            // The host's handles have numbers in the registry; the engine and its libraries have names.
            if is_host && how == How::Entry && steps.len() == 1 {
                is_host = is_numbered;
            }
            if let How::Stacked(_) = how {
                begins_at = if begins_at == From::Stack || is_host { From::Host } else { begins_at };
            }
            steps.push(step);
        }
        if begins_at == From::Engine && is_host {
            begins_at = From::Host;
        }
        if begins_at == From::Host {
            // How the binding keeps it says nothing to anybody: what the host keeps comes first.
            let kept = steps.iter().rposition(|step| step.text.starts_with(HANDLE) || step.text == OF_REGISTRY);
            let behind = kept.map_or(0, |at| at + 1);
            steps.splice(..behind, [HolderStep { text: OF_HOST.to_owned(), value: String::new(), made: None }]);
        }
        Ok(Some(Holder { root: begins_at, weak: found.is_weak, steps, remark }))
    }
}

/// What a handle of the host is written as.
const HANDLE: &str = " › handle";

fn first_text(root: Root) -> Option<&'static str> {
    match root {
        Root::Globals | Root::Thread => None,
        Root::Registry => Some(OF_REGISTRY),
        Root::OfTexts => Some(OF_TEXTS),
        Root::Given => Some(ITSELF),
    }
}

fn key_is_number(work: State, edge: &Edge) -> bool {
    edge.how == How::Entry && work.type_at(-2) == Type::Integer
}

/// The step that a hold is; what it holds is on top, and what holds it further down.
fn step(work: State, edge: &Edge, is_first: bool, (scripts, shown): (&Scripts, &Shown)) -> HolderStep {
    let top = work.top();
    let value = shown.preview(work, -1).map(|(_, preview)| preview).unwrap_or_default();
    work.cut_to(top);
    let mut made = None;
    let text = match edge.how {
        How::Entry => {
            work.push_copy(-2);
            let key = key_text(work);
            work.pop(1);
            if is_first || key.starts_with('[') { key } else { format!(".{key}") }
        }
        How::Key => " › key".to_owned(),
        How::Metatable => " › metatable".to_owned(),
        How::Captured(number) => {
            // The function is below what it has captured.
            work.push_copy(-2);
            made = definition(work, scripts);
            let name = captured_names(work, -1).into_iter().nth(number - 1).unwrap_or_default();
            work.pop(1);
            format!(" › captured {}", if name.is_empty() { "by the host".to_owned() } else { name })
        }
        How::Attached(_) => " › attached by the host".to_owned(),
        How::Running(level) => format!("{}running {}", behind(is_first), function_at(work, level)),
        How::Local(level, number) => {
            format!("{}{}", behind(is_first), local_at(work, level, number))
        }
        How::Stacked(number) => format!("{HANDLE} {number}"),
    };
    HolderStep { text, value, made }
}

fn behind(is_first: bool) -> &'static str {
    if is_first { "" } else { " › " }
}

/// What a function on the thread below the value on top is called.
fn function_at(work: State, level: usize) -> String {
    let thread = work.thread_at(-2);
    let info = thread.and_then(|thread| Some(thread.level(level)?.info())).unwrap_or_default();
    match info.name.clone() {
        _ if info.is_native => info.name.unwrap_or_else(|| "a function of the host".to_owned()),
        _ if info.is_main => format!("{} {}", LANGUAGE.whole_script, display_name(&info.chunk_name)),
        Some(name) => name,
        None => format!("the function at {}:{}", display_name(&info.chunk_name), info.first_line.max(1)),
    }
}

/// What a value on a stack is called that is on no variable of the script.
const UNDER_WAY: &str = "(a value under way)";

/// The name of a local variable.
fn local_at(work: State, level: usize, number: i32) -> String {
    let Some(thread) = work.thread_at(-2) else { return String::new() };
    let name = thread.level(level).and_then(|activation| activation.push_local(number));
    if name.is_some() {
        thread.pop(1);
    }
    match name {
        _ if number < 0 => "(an extra argument)".to_owned(),
        Some(name) if !name.starts_with('(') => name,
        _ => UNDER_WAY.to_owned(),
    }
}
