//! The trail: its events in a table, one of them, and sums.

use std::fmt::Write as _;

use adzeman::core::trail::{Count, Entry, Outcome, Speaker};
use serde_json::Value as Json;

use super::table::{cut_to, lay_out};
use super::{NAME, QUIET, STRONG, TROUBLE, styled};
use crate::report::Kept;

/// Widest text of what an event failed with, in the table.
const WIDEST_WHY: usize = 60;

/// Milliseconds, with as many digits as are worth it.
pub(super) fn milliseconds(value: f64) -> String {
    let digits = if value >= 100.0 {
        0
    } else if value >= 1.0 {
        1
    } else {
        3
    };
    format!("{value:.digits$} ms")
}

/// What came of an event, in words; nothing for one that was just done.
fn outcome(entry: &Entry) -> String {
    let mut parts = Vec::new();
    match entry.outcome {
        Outcome::Done => {}
        Outcome::Refused => parts.push("refused".to_owned()),
        Outcome::Failed => parts.push("failed".to_owned()),
    }
    if let Some(why) = &entry.why {
        let first = why.lines().next().unwrap_or_default();
        parts.push(cut_to(first, WIDEST_WHY));
    }
    let mut text = parts.join(": ");
    if let Some(budget) = entry.budget_milliseconds.filter(|_| entry.is_over_budget()) {
        text += if text.is_empty() { "" } else { "; " };
        text += &format!("over its {}", milliseconds(budget));
    }
    if entry.runs > 1 {
        text += if text.is_empty() { "" } else { "; " };
        text += &format!("ran {} times", entry.runs);
    }
    if !entry.said.is_empty() {
        text += if text.is_empty() { "" } else { "; " };
        text += &format!("{} said", entry.said.len());
    }
    text
}

fn table(entries: &[Entry], here: Option<u64>, columns: Option<usize>) -> String {
    let header = ["", "when", "event", "of", "in", "took", ""].map(str::to_owned);
    let cells = |entry: &Entry| {
        let mark = if here == Some(entry.number) { "›" } else { " " };
        let inside = if entry.within.is_some() { "· " } else { "" };
        vec![
            format!("{mark}{}", entry.number),
            format!("{:.3} s", entry.seconds),
            format!("{inside}{}", entry.event),
            entry.subject.clone().unwrap_or_default(),
            entry.contexts.join(", "),
            milliseconds(entry.milliseconds),
            outcome(entry),
        ]
    };
    let laid = lay_out(Some(header.into()), entries.iter().map(cells), columns);
    let mut text = styled(QUIET, laid.header.trim_end()) + "\n";
    // Rows of one event may be several lines; what failed stands out in all of them.
    for row in &laid.rows {
        let _ = writeln!(text, "{}", row.trim_end());
    }
    text
}

pub(super) fn render_trail(entries: &[Entry], total: usize, kept: &Kept, columns: Option<usize>) -> String {
    if kept.events == 0 {
        return "no event has happened since someone is attached\n".to_owned();
    }
    if entries.is_empty() {
        return format!(
            "none of the {} events of the trail is meant; 'trail counts' shows which there are\n",
            kept.events
        );
    }
    let mut text = table(entries, None, columns);
    let dropped = match kept.dropped {
        0 => String::new(),
        dropped => format!("; {dropped} earlier ones are gone"),
    };
    let shown = match (entries.len(), total) {
        (1, 1) => "1 event".to_owned(),
        (shown, total) if shown == total => format!("{total} events"),
        (shown, total) => format!("{shown} of {total} events"),
    };
    text +=
        &styled(QUIET, &format!("{shown}, of {} that are kept{dropped}; 'look trail NUMBER' opens one", kept.events));
    text.push('\n');
    text
}

pub(super) fn render_entry(entry: &Entry, around: &[Entry], columns: Option<usize>) -> String {
    let mut text = format!("{}\n", styled(STRONG, &format!("event {}: {}", entry.number, entry.title())));
    let in_contexts = match &entry.contexts[..] {
        [] => "of no context that is known".to_owned(),
        [one] => format!("context {one}"),
        several => format!("contexts {}", several.join(", ")),
    };
    let inside = entry.within.map_or(String::new(), |within| format!(", inside event {within}"));
    let again = if entry.runs > 1 { format!(", the last of {} runs", entry.runs) } else { String::new() };
    let _ = writeln!(
        text,
        "  at {:.3} s{inside}, took {}{again}; {in_contexts}",
        entry.seconds,
        milliseconds(entry.milliseconds)
    );
    let why = entry.why.as_deref().unwrap_or_default();
    match entry.outcome {
        Outcome::Done => {}
        Outcome::Refused => text += &(styled(TROUBLE, &format!("  refused: {why}")) + "\n"),
        Outcome::Failed => {
            for (number, line) in format!("failed: {why}").lines().enumerate() {
                let indent = if number == 0 { "  " } else { "    " };
                text += &(styled(TROUBLE, &format!("{indent}{line}")) + "\n");
            }
        }
    }
    if let Some(budget) = entry.budget_milliseconds.filter(|_| entry.is_over_budget()) {
        text += &(styled(TROUBLE, &format!("  over its {}", milliseconds(budget))) + "\n");
    }
    if let Some(why) = &entry.payload_left_out {
        let _ = writeln!(text, "  what it carried is not known: {why}");
    }
    render_fields(&mut text, &entry.payload, 1);
    for said in &entry.said {
        let _ = match (said.by, &said.of) {
            (Speaker::Monitor, Some(of)) => writeln!(text, "  ~ {of} = {}", said.text),
            _ => writeln!(text, "  » {}", said.text),
        };
    }
    text + &table(around, Some(entry.number), columns)
}

/// Fields, those of an inner object below it.
fn render_fields(text: &mut String, value: &Json, depth: usize) {
    let Json::Object(fields) = value else { return };
    for (name, value) in fields {
        let indent = "  ".repeat(depth);
        match value {
            Json::Object(inner) if !inner.is_empty() && depth < 6 => {
                let _ = writeln!(text, "{indent}{}", styled(NAME, name));
                render_fields(text, value, depth + 1);
            }
            value => {
                let _ = writeln!(text, "{indent}{} = {value}", styled(NAME, name));
            }
        }
    }
}

pub(super) fn render_counts(counts: &[Count], columns: Option<usize>) -> String {
    if counts.is_empty() {
        return "no event of the trail is meant\n".to_owned();
    }
    let header = ["event", "of", "in", "events", "took", "mean", "worst", ""].map(str::to_owned);
    let cells = |count: &Count| {
        #[expect(clippy::cast_precision_loss, reason = "a mean of so many events needs no more digits")]
        let mean = count.milliseconds / count.events.max(1) as f64;
        let told = |number: u64, what: &str| (number > 0).then(|| format!("{number} {what}"));
        let trouble =
            [told(count.failed, "failed"), told(count.refused, "refused"), told(count.over_budget, "over budget")];
        vec![
            count.event.clone(),
            count.subject.clone().unwrap_or_default(),
            count.contexts.join(", "),
            count.events.to_string(),
            milliseconds(count.milliseconds),
            milliseconds(mean),
            format!("{} (event {})", milliseconds(count.worst_milliseconds), count.worst),
            trouble.into_iter().flatten().collect::<Vec<_>>().join(", "),
        ]
    };
    lay_out(Some(header.into()), counts.iter().map(cells), columns).text(QUIET)
}
