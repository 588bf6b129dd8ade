//! The prompt: history, completion, and what happens while it waits.

use std::borrow::Cow;
use std::cell::RefCell;
use std::path::PathBuf;
use std::rc::Rc;

use adzeman_dap::Event;
use rustyline::completion::{Completer, Pair};
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::history::FileHistory;
use rustyline::validate::Validator;
use rustyline::{CompletionType, Config, Context, Editor, ExternalPrinter, Helper};

use crate::client::Onlooker;
use crate::error::CliError;
use crate::render::PROMPT;
use crate::session::{Next, Session, run_line};
use crate::signals;

/// Lines of history kept.
const HISTORY_LINES: usize = 1000;

fn terminal(error: impl std::fmt::Display) -> CliError {
    CliError::Terminal(error.to_string())
}

/// Asks for commands until the person leaves or the host is gone.
pub(crate) fn talk(session: &mut Session<'_>) -> Result<(), CliError> {
    let config = Config::builder()
        .max_history_size(HISTORY_LINES)
        .map_err(terminal)?
        .completion_type(CompletionType::List)
        .build();
    let mut editor: Editor<Assistant<'_, '_>, FileHistory> = Editor::with_config(config).map_err(terminal)?;
    let history = history_file();
    if let Some(file) = &history {
        // There is none the first time.
        let _ = editor.load_history(file);
    }
    let shared = Rc::new(RefCell::new(session));
    editor.set_helper(Some(Assistant(shared.clone())));
    let outcome = ask(&mut editor, &shared);
    if let Some(file) = &history
        && let Err(error) = editor.save_history(file)
    {
        shared.borrow().printer.remark(&format!("the history could not be kept in {}: {error}", file.display()));
    }
    outcome
}

fn ask(
    editor: &mut Editor<Assistant<'_, '_>, FileHistory>,
    shared: &Rc<RefCell<&mut Session<'_>>>,
) -> Result<(), CliError> {
    loop {
        shared.borrow_mut().catch_up()?;
        let prompt = shared.borrow().prompt();
        let onlooker = editor.create_external_printer().ok().map(|printer| onlooker(printer));
        shared.borrow().client.set_onlooker(onlooker);
        let line = editor.readline(&format!("{prompt} "));
        shared.borrow().client.set_onlooker(None);
        let line = match line {
            Ok(line) => line,
            Err(ReadlineError::Interrupted) => {
                shared.borrow().printer.remark("'leave' detaches; 'pause' stops the scripts");
                continue;
            }
            Err(ReadlineError::Eof) => "leave".to_owned(),
            Err(error) => return Err(terminal(error)),
        };
        // Lines that are pasted come as one.
        let several = line.trim().contains('\n');
        for line in line.trim().split('\n').map(str::trim) {
            if several {
                shared.borrow().printer.echo(&shared.borrow().prompt(), line);
            }
            if !line.is_empty() {
                let _ = editor.add_history_entry(line);
            }
            signals::forget_interrupt();
            let outcome = run_line(&mut shared.borrow_mut(), line, false);
            match outcome {
                Ok(Next::Ask) => {}
                Ok(Next::Leave) => return Ok(()),
                Err(error) if error.is_final() => return Err(error),
                Err(error) => {
                    shared.borrow().printer.error(Some(line), &error);
                    // What was to follow may have counted on it.
                    break;
                }
            }
        }
    }
}

/// Shows what happens while the person types: output in full, a stop in a line.
fn onlooker(mut printer: impl ExternalPrinter + Send + 'static) -> Onlooker {
    Box::new(move |event: &Event| {
        let body = event.body.clone().unwrap_or_default();
        let (text, is_done) = match event.event.as_str() {
            "output" => (output_line(&body), true),
            "stopped" => {
                let what = body["description"].as_str().unwrap_or("a context stopped");
                (format!("{what}; press Enter to look"), false)
            }
            "terminated" => ("the host is gone; press Enter".to_owned(), false),
            _ => return false,
        };
        printer.print(format!("{text}\n")).is_ok() && is_done
    })
}

/// Output in a line, with where it comes from; what a breakpoint says has a mark of its own, and may ring.
fn output_line(body: &serde_json::Value) -> String {
    let mark = if body["category"] == "console" { "»" } else { "┆" };
    let bell = if body["bell"] == true { "\x07" } else { "" };
    let place = body["source"]["path"].as_str().zip(body["line"].as_i64());
    let place = place.map_or(String::new(), |(path, line)| format!(" ({path}:{line})"));
    format!("{bell}{mark} {}{place}", body["output"].as_str().unwrap_or_default().trim_end())
}

/// Where the history is kept: in the person's own state directory.
fn history_file() -> Option<PathBuf> {
    let from = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let state = from("XDG_STATE_HOME")
        .or_else(|| from("HOME").map(|home| home.join(".local").join("state")))
        .or_else(|| from("LOCALAPPDATA"))?;
    let folder = state.join("adzeman");
    std::fs::create_dir_all(&folder).ok()?;
    Some(folder.join("history"))
}

/// Completes by asking the session.
struct Assistant<'s, 'p>(Rc<RefCell<&'s mut Session<'p>>>);

impl Completer for Assistant<'_, '_> {
    type Candidate = Pair;

    fn complete(&self, line: &str, position: usize, _: &Context<'_>) -> rustyline::Result<(usize, Vec<Pair>)> {
        let (start, names) = self.0.borrow_mut().completions(&line[..position]);
        let pair = |name: String| Pair { display: name.clone(), replacement: name };
        Ok((start, names.into_iter().map(pair).collect()))
    }
}

impl Hinter for Assistant<'_, '_> {
    type Hint = String;
}

/// The prompt stands out from what was printed; the editor asks for this only on a terminal with colour.
impl Highlighter for Assistant<'_, '_> {
    fn highlight_prompt<'b, 's: 'b, 'p: 'b>(&'s self, prompt: &'p str, _: bool) -> Cow<'b, str> {
        Cow::Owned(format!("{PROMPT}{prompt}{PROMPT:#}"))
    }
}

impl Validator for Assistant<'_, '_> {}
impl Helper for Assistant<'_, '_> {}
