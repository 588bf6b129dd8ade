//! Printing: for people with a little colour, or as JSON. Colour only on a terminal, and never with `NO_COLOR`.

mod changing;
mod figures;
mod fold;
mod heap;
mod plan;
mod profile;
mod reports;
#[cfg(test)]
mod samples;
mod table;
#[cfg(test)]
mod tests;
mod trail;
mod values;

use std::cell::{Cell, RefCell};
use std::io::{self, IsTerminal as _, Write as _};
use std::sync::Arc;
use std::time::Duration;

use anstyle::{AnsiColor, Color, Style};
use serde_json::json;

use crate::error::CliError;
use crate::reach::launch::{ShowLine, Stream};
use crate::report::{Notice, Report};

use fold::{columns, folded};
use reports::{cut, more, render, render_notice};

const fn colour(colour: AnsiColor) -> Style {
    Style::new().fg_color(Some(Color::Ansi(colour)))
}

const STRONG: Style = Style::new().bold();
const QUIET: Style = Style::new().dimmed();
const HERE: Style = colour(AnsiColor::Cyan).bold();
const NAME: Style = colour(AnsiColor::Green);
const TROUBLE: Style = colour(AnsiColor::BrightRed);
const CHANGED: Style = colour(AnsiColor::Yellow).bold();
pub(crate) const PROMPT: Style = colour(AnsiColor::Cyan);
const TYPED: Style = colour(AnsiColor::Magenta).bold();

/// Widest value in a row before it is cut.
const WIDEST: usize = 100;
pub(crate) struct Printer {
    json: bool,
    /// What happened by itself while the terminal belongs to a view, which shows it.
    held: RefCell<Option<Vec<String>>>,
    has_told_progress: Cell<bool>,
}

fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// Text for people, fitted to the terminal.
fn to_person(text: &str) {
    to_stdout(&folded(text, columns()));
}

/// Written to the terminal, or whatever stands for it; when nobody reads any more, there is nobody to tell.
fn to_stdout(text: &str) {
    let mut out = anstream::stdout().lock();
    let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
}

fn to_stderr(text: &str) {
    let mut out = anstream::stderr().lock();
    let _ = out.write_all(text.as_bytes()).and_then(|()| out.flush());
}

/// Says that a host does not answer, in place on a terminal, once elsewhere.
#[derive(Default)]
pub(crate) struct Progress {
    told: Option<u64>,
}

impl Progress {
    /// It has come so far: on a terminal in one line, which is written again.
    pub(crate) fn show(&mut self, message: &str) {
        let is_terminal = io::stderr().is_terminal();
        let begin = if self.told.is_some() && is_terminal { "\r" } else { "" };
        to_stderr(&format!("{begin}{message}; Ctrl-C gives up{}", if is_terminal { " " } else { "\n" }));
        self.told = Some(0);
    }

    /// It has not answered for so long.
    pub(crate) fn tell(&mut self, host: &str, waited: Duration) {
        let seconds = waited.as_secs();
        let is_news = self.told.is_none_or(|told| told < seconds && io::stderr().is_terminal());
        if is_news {
            let begin = if self.told.is_some() { "\r" } else { "" };
            let end = if io::stderr().is_terminal() { "" } else { "\n" };
            to_stderr(&format!("{begin}{host} has not answered for {seconds} s; Ctrl-C gives up {end}"));
            self.told = Some(seconds);
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if self.told.is_some() && io::stderr().is_terminal() {
            to_stderr("\n");
        }
    }
}

impl Printer {
    pub(crate) fn new(json: bool) -> Self {
        Self { json, held: RefCell::new(None), has_told_progress: Cell::new(false) }
    }

    /// Has a view show what happens by itself, or no longer.
    pub(crate) fn hold_notices(&self, hold: bool) {
        *self.held.borrow_mut() = hold.then(Vec::new);
    }

    /// What happened since the last time, for the view.
    pub(crate) fn held_notices(&self) -> Vec<String> {
        self.held.borrow_mut().as_mut().map(std::mem::take).unwrap_or_default()
    }

    /// Whether it prints for programs.
    pub(crate) fn is_json(&self) -> bool {
        self.json
    }

    /// A command as a person would type it, when nobody does.
    pub(crate) fn echo(&self, prompt: &str, command: &str) {
        if !self.json {
            to_stdout(&format!("\n{} {}\n", styled(PROMPT, prompt), styled(TYPED, command)));
        }
    }

    /// A remark between commands; programs do not need it.
    pub(crate) fn remark(&self, text: &str) {
        if !self.json {
            to_person(&format!("{text}\n"));
        }
    }

    /// Shows lines of a host's own output, from any thread.
    pub(crate) fn show_line(&self) -> ShowLine {
        let json = self.json;
        Arc::new(move |stream, line| {
            let is_error = stream == Stream::Errors;
            if json {
                let notice = json!({"event": "host-output", "stderr": is_error, "text": line});
                to_stdout(&format!("{}\n", json!({ "notice": notice })));
            } else {
                to_stdout(&format!("{} {line}\n", styled(QUIET, if is_error { "!" } else { "|" })));
            }
        })
    }

    /// Says how long something has been waited for: on a terminal in one line, which is written again.
    pub(crate) fn progress(&self, what: &str, waited: Duration) {
        if self.json || !io::stderr().is_terminal() {
            if waited.is_zero() || !self.has_told_progress.replace(true) {
                to_stderr(&format!("waiting for {what}\n"));
            }
            return;
        }
        to_stderr(&format!("\rwaiting for {what}, {} s \r", waited.as_secs()));
    }

    /// Says that nothing has happened yet, and what to do about it.
    pub(crate) fn waiting(&self, host: &str) {
        self.remark(&styled(QUIET, &format!("{host} runs; Ctrl-C stops it at its next line")));
    }

    /// What a command answered.
    pub(crate) fn report(&self, command: Option<&str>, report: &Report) {
        if self.json {
            if *report != Report::Nothing {
                let line = json!({"command": command, "ok": true, "report": report});
                to_stdout(&format!("{line}\n"));
            }
        } else {
            to_person(&render(report, columns()));
        }
    }

    /// The same as a text without colours, as wide as the terminal.
    pub(crate) fn plain(&self, report: &Report) -> String {
        let columns = columns();
        anstream::adapter::strip_str(&folded(&render(report, columns), columns)).to_string()
    }

    /// Something that happened by itself.
    pub(crate) fn notice(&self, notice: &Notice) {
        if self.json {
            to_stdout(&format!("{}\n", json!({ "notice": notice })));
        } else if let Some(held) = self.held.borrow_mut().as_mut() {
            held.push(anstream::adapter::strip_str(&render_notice(notice)).to_string());
        } else {
            to_person(&render_notice(notice));
        }
    }

    pub(crate) fn error(&self, command: Option<&str>, error: &CliError) {
        if self.json {
            to_stdout(&format!("{}\n", json!({"command": command, "ok": false, "error": error.to_string()})));
        }
        let text = format!("{}\n", styled(TROUBLE, &error.to_string()));
        to_stderr(&if self.json { text } else { folded(&text, columns()) });
    }
}
