//! What could stand where something is being typed.

use adzeman_dap::extra::{self, FunctionInfo, FunctionsArguments, FunctionsBody};
use adzeman_dap::requests::{BreakpointLocationsBody, CompletionsArguments, CompletionsBody};
use serde_json::json;

use super::Session;
use crate::command::{FORMS, VERBS};

/// What `look` knows besides expressions.
const LOOKS: [&str; 15] = [
    "stack",
    "locals",
    "captured",
    "varargs",
    "globals",
    "built-ins",
    "event",
    "host",
    "source",
    "sources",
    "contexts",
    "events",
    "watch",
    "trail",
    "running",
];
/// What narrows a breakpoint, and what it does.
const QUALIFIERS: [&str; 11] = ["when", "for", "after", "every", "once", "until", "as", "off", "say", "run", "ring"];
/// After these, something of the person's own comes.
const TAKES_TEXT: [&str; 9] = ["when", "for", "after", "every", "until", "as", "say", "run", "on"];
/// Lines of one source among which is looked for those that can hold a breakpoint.
const MOST_LINES: usize = 100_000;

impl Session<'_> {
    /// What could stand for the last word of `line`, and where that word begins.
    pub(crate) fn completions(&mut self, line: &str) -> (usize, Vec<String>) {
        let start =
            line.len() - line.chars().rev().take_while(|c| !c.is_whitespace()).map(char::len_utf8).sum::<usize>();
        let word = &line[start..];
        let words: Vec<_> = line[..start].split_whitespace().collect();
        let own: Vec<String> = match words[..] {
            [] | ["help"] => VERBS.iter().map(|verb| verb.name.to_owned()).collect(),
            ["break"] => ["at", "in", "on"].map(str::to_owned).to_vec(),
            ["go"] => ["over", "into", "out", "line", "next", "from", "again"].map(str::to_owned).to_vec(),
            ["reload" | "edit"] => {
                self.source_names().iter().map(|name| name.trim_end_matches(':').to_owned()).collect()
            }
            ["reload", ..] => ["--partly", "--original", "--run"].map(str::to_owned).to_vec(),
            ["trail"] => {
                let words = ["last", "failed", "refused", "for", "when", "slowest", "counts", "to", "again"];
                self.event_names().chain(words.map(str::to_owned)).collect()
            }
            ["trail", "slowest" | "counts"] => self.event_names().collect(),
            ["undo"] => ["all", "anyway"].map(str::to_owned).to_vec(),
            ["undo", _] => vec!["anyway".to_owned()],
            ["breaks"] => ["on", "off"].map(str::to_owned).to_vec(),
            ["enable" | "disable" | "remove"] | ["look", "break"] => self.breakpoint_names(),
            ["keep"] => self.breakpoint_names().into_iter().chain(["watches".to_owned()]).collect(),
            ["remove" | "look", "watch"] => self.watches.all.iter().map(|held| held.number.to_string()).collect(),
            ["remove", "monitor"] => self.monitors.all.iter().map(|held| held.number.to_string()).collect(),
            ["look", .., "as"] => FORMS.iter().map(|(name, _)| (*name).to_owned()).collect(),
            ["look"] => return self.with_expressions(&LOOKS, line, word),
            ["monitor", .., "on"] => self.event_names().collect(),
            ["use"] => ["frame", "context"].map(str::to_owned).to_vec(),
            ["go", "next"] => self.event_names().collect(),
            ["break", "on"] => {
                self.event_names().chain(["error", "every", "change", "write", "read"].map(str::to_owned)).collect()
            }
            ["break", "in"] => return (start, self.functions(word)),
            ["use", "context"] | ["look", "running"] => {
                self.contexts.iter().map(|context| context.name.clone()).collect()
            }
            ["break", "at"] if word.contains(':') => self.lines_of(word),
            ["break", "at"] => self.source_names(),
            ["break", _, _, ..] if words.last().is_some_and(|last| !TAKES_TEXT.contains(last)) => {
                return self.with_expressions(&QUALIFIERS, line, word);
            }
            ["use", "frame"] => (0..self.at.frames_in_all).map(|number| number.to_string()).collect(),
            _ => return self.expression_completions(line),
        };
        (start, own.into_iter().filter(|name| name.starts_with(word)).collect())
    }

    /// Words of a command's own, and what an expression could go on with there.
    fn with_expressions(&mut self, own: &[&str], line: &str, word: &str) -> (usize, Vec<String>) {
        let (start, found) = self.expression_completions(line);
        let own = own.iter().filter(|name| name.starts_with(word)).map(|name| (*name).to_owned());
        (start, if start == line.len() - word.len() { own.chain(found).collect() } else { found })
    }

    /// `FILE:LINE` for each line of a source that can hold a breakpoint.
    fn lines_of(&mut self, word: &str) -> Vec<String> {
        let Some((path, _)) = word.rsplit_once(':') else { return Vec::new() };
        let arguments = json!({"source": {"path": path}, "line": 1, "endLine": MOST_LINES});
        let body: Result<BreakpointLocationsBody, _> = self.client.ask_soon("breakpointLocations", &arguments);
        let places = body.map(|body| body.breakpoints).unwrap_or_default();
        places.into_iter().map(|place| format!("{path}:{}", place.line)).collect()
    }

    /// Functions that `word` may be the beginning of: of their names, of the last parts of those, or of `FILE:NAME`.
    fn functions(&mut self, word: &str) -> Vec<String> {
        let (path, name) = word.rsplit_once(':').map_or((None, word), |(path, name)| (Some(path), name));
        let is_path = |path: &str, held: &FunctionInfo| held.path.ends_with(path);
        let mut found = self.functions_like(name);
        if let Some(path) = path.filter(|path| found.iter().any(|held| is_path(path, held))) {
            found.retain(|held| is_path(path, held));
            return found.into_iter().map(|held| format!("{path}:{}", held.name)).collect();
        }
        // A method is written with a colon of its own.
        let mut names: Vec<_> = self.functions_like(word).into_iter().map(|held| held.name).collect();
        names.sort_unstable();
        names.dedup();
        names
    }

    fn functions_like(&mut self, beginning: &str) -> Vec<FunctionInfo> {
        let arguments = FunctionsArguments { beginning: beginning.to_owned() };
        let body: Result<FunctionsBody, _> = self.client.ask_soon(extra::FUNCTIONS, &arguments);
        body.map(|body| body.functions).unwrap_or_default()
    }

    fn event_names(&self) -> impl Iterator<Item = String> + '_ {
        self.host.events.iter().filter_map(|kind| Some(kind["name"].as_str()?.to_owned()))
    }

    fn breakpoint_names(&self) -> Vec<String> {
        let name = |held: &crate::session::KnownBreakpoint| {
            held.wanted.name.clone().unwrap_or_else(|| held.number.to_string())
        };
        self.breakpoints.all.iter().map(name).chain(["all".to_owned()]).collect()
    }

    fn source_names(&mut self) -> Vec<String> {
        let body: Result<adzeman_dap::requests::LoadedSourcesBody, _> =
            self.client.ask_soon("loadedSources", &serde_json::json!({}));
        let sources = body.map(|body| body.sources).unwrap_or_default();
        sources.into_iter().filter_map(|source| Some(format!("{}:", source.name?))).collect()
    }

    fn expression_completions(&mut self, line: &str) -> (usize, Vec<String>) {
        let is_part = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | ':' | '[' | ']');
        let start = line.len() - line.chars().rev().take_while(|c| is_part(*c)).map(char::len_utf8).sum::<usize>();
        let column = i64::try_from(line.chars().count()).unwrap_or(0).saturating_add(1);
        let arguments = CompletionsArguments { frame_id: self.frame_id(), text: line.to_owned(), column };
        let body: Result<CompletionsBody, _> = self.client.ask_soon("completions", &arguments);
        let targets = body.map(|body| body.targets).unwrap_or_default();
        (start, targets.into_iter().map(|target| target.label).collect())
    }
}
