//! Fitting text to the terminal: lines that are too long go on below, at words, a little further in.

use std::borrow::Cow;
use std::io::{self, IsTerminal as _};

use textwrap::core::display_width;
use textwrap::{Options, wrap};

/// The narrowest terminal that is heeded.
const NARROWEST: usize = 20;
/// How much further in a line goes on.
const FURTHER: &str = "  ";

/// Columns of the terminal, where what is printed goes to one. Elsewhere `COLUMNS` says, or nothing does.
pub(crate) fn columns() -> Option<usize> {
    if io::stdout().is_terminal()
        && let Ok((columns, _)) = ratatui::crossterm::terminal::size()
    {
        return Some(usize::from(columns)).filter(|columns| *columns > 0);
    }
    std::env::var("COLUMNS").ok()?.parse().ok()
}

/// A text whose lines fit. Wide characters count as two, and escape sequences as nothing.
pub(crate) fn folded(text: &str, columns: Option<usize>) -> String {
    let mut fitted = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        let (line, end) = line.strip_suffix('\n').map_or((line, ""), |line| (line, "\n"));
        fitted.push_str(&parts(line, columns).join("\n"));
        fitted.push_str(end);
    }
    fitted
}

/// The parts of a line that fit, all but the first one further in than it.
pub(super) fn parts(line: &str, columns: Option<usize>) -> Vec<String> {
    let Some(columns) = columns.map(|columns| columns.max(NARROWEST)).filter(|columns| display_width(line) > *columns)
    else {
        return vec![line.to_owned()];
    };
    let begin: String = line.chars().take_while(|c| *c == ' ').take(columns / 2).collect();
    let next = begin + FURTHER;
    let parts = wrap(line, Options::new(columns).subsequent_indent(&next).break_words(true));
    parts.into_iter().map(Cow::into_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_lines_go_on_below_and_further_in() {
        let text = "  a line that is longer than the terminal is wide\nshort\n";
        assert_eq!(folded(text, Some(24)), "  a line that is longer\n    than the terminal is\n    wide\nshort\n");
        assert_eq!(folded(text, None), text);
        assert_eq!(folded("水水水水水水水水水水水水\n", Some(20)), "水水水水水水水水水\n  水水水\n");
        assert_eq!(
            folded("\u{1b}[1mtwenty characters it is\u{1b}[0m", Some(23)),
            "\u{1b}[1mtwenty characters it is\u{1b}[0m"
        );
    }
}
