//! Values as people read them: in a glance, in rows, as a table, a shape, a tree, watches, samples.

use std::fmt::Write as _;

use adzeman_dap::extra::{ShapeLine, TableRow};
use comfy_table::{Table, presets};

use super::{CHANGED, NAME, QUIET, STRONG, TROUBLE, WIDEST, cut, cut_to, more, styled, trimmed};
use crate::report::{AboutRow, Extent, FoundLine, Report, Row, SampleRow, TreeRow, WatchRow, cost};

/// Widest cell of a table.
const WIDEST_CELL: usize = 28;
/// Widest value before a remark.
const WIDEST_REMARKED: usize = 56;
/// Widest value of an earlier stop.
const WIDEST_BEFORE: usize = 28;
/// Two values that begin with as many equal characters do not tell each other apart in a line.
const ALIKE: usize = 16;
/// Indentation of one level.
const LEVEL: &str = "  ";

/// What commands about values answer; `None` for anything else.
pub(super) fn render_value_report(report: &Report) -> Option<String> {
    Some(match report {
        Report::Scope { title, rows, extent } if rows.is_empty() && extent.total == 0 => {
            format!("no {} here\n", title.to_lowercase())
        }
        Report::Scope { rows, extent, .. } => render_rows(rows) + &more(rows.len(), *extent, "entries"),
        Report::Value { value, type_name, before, inside, extent, .. } => {
            let before = before.as_ref().map_or(String::new(), |before| format!(" ({})", was(before, value)));
            render_value(value, type_name, &before, inside, *extent) + &more(inside.len(), *extent, "entries")
        }
        Report::Table { columns, rows, extent, .. } => render_grid(columns, rows) + &more(rows.len(), *extent, "rows"),
        Report::Shape { expression, rows } => render_shape(expression, rows),
        Report::Text { text, bytes_in_all, .. } => {
            let cut = bytes_in_all
                .map_or(String::new(), |all| format!("{}\n", styled(QUIET, &format!("… of {all} bytes in all"))));
            format!("{}\n{cut}", text.strip_suffix('\n').unwrap_or(text))
        }
        Report::Tree { rows } => render_tree(rows),
        Report::Watches { watches } if watches.is_empty() => {
            "nothing is watched; 'watch EXPRESSION' shows it at every stop\n".to_owned()
        }
        Report::Watches { watches } => render_watches(watches),
        Report::Watched { watch } => render_watches(std::slice::from_ref(watch)),
        Report::WatchesRemoved { count: 1 } => "watched no longer\n".to_owned(),
        Report::WatchesRemoved { count } => format!("{count} watches removed\n"),
        Report::WatchesKept { count, file } => format!("{count} watches kept in {file}\n"),
        Report::Monitored { samples, .. } if samples.is_empty() => "no sample was taken\n".to_owned(),
        Report::Monitored { samples, .. } => {
            let count: u64 = samples.iter().map(|sample| sample.count).sum();
            let share: f64 = samples.iter().map(|sample| sample.share).sum();
            format!("{count} samples, which took {:.2}% of the time; 'monitors' shows them again\n", share * 100.0)
        }
        Report::MonitorsRemoved { .. } => "monitored no longer\n".to_owned(),
        Report::Found { text, paths, lines, .. } if paths.is_empty() && lines.is_empty() => {
            format!("no source has '{text}' in its name or text\n")
        }
        Report::Found { paths, lines, more, .. } => {
            render_found(paths, lines) + if *more { "  … and more lines; look for a longer text\n" } else { "" }
        }
        _ => return None,
    })
}

fn render_grid(columns: &[String], rows: &[TableRow]) -> String {
    let cells = |row: &TableRow| {
        let values = row.cells.iter();
        let values = values.map(|cell| cell.as_deref().map_or(String::new(), |cell| cut_to(cell, WIDEST_CELL)));
        [format!("{LEVEL}{}", row.name)].into_iter().chain(values).collect::<Vec<_>>()
    };
    let header = [String::new()].into_iter().chain(columns.iter().cloned()).collect();
    render_table(Some(header), rows.iter().map(cells))
}

fn render_shape(expression: &str, rows: &[ShapeLine]) -> String {
    let line = |row: &ShapeLine| {
        let name = if row.depth == 0 { cut_to(expression, WIDEST_CELL) } else { row.name.clone() };
        let name = format!("{}{name}", LEVEL.repeat(row.depth));
        vec![name, row.types.clone(), row.remark.clone().unwrap_or_default()]
    };
    render_table(None, rows.iter().map(line))
}

fn render_found(paths: &[String], lines: &[FoundLine]) -> String {
    let mut shown = paths.iter().fold(String::new(), |shown, path| shown + path + "\n");
    for line in lines {
        let place = styled(QUIET, &format!("{}:{}", line.path, line.line));
        let _ = writeln!(shown, "{place}  {}", cut(&line.text));
    }
    shown
}

fn render_table(header: Option<Vec<String>>, rows: impl Iterator<Item = Vec<String>>) -> String {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    let has_header = header.is_some();
    if let Some(header) = header {
        table.set_header(header);
    }
    rows.for_each(|row| {
        table.add_row(row);
    });
    let text = trimmed(&table);
    match text.split_once('\n') {
        Some((first, rest)) if has_header => format!("{}\n{rest}", styled(STRONG, first)),
        _ => text,
    }
}

/// Values in as few lines as they fit.
pub(super) fn render_glance(rows: &[Row]) -> String {
    let mut text = String::new();
    let mut used = 0;
    for row in rows {
        let shown = if row.shadowed { format!("({})", row.name) } else { row.name.clone() };
        let value = before_and_now(row, WIDEST);
        let width = shown.chars().count() + value.chars().count() + 6;
        if used > 0 && used + width > WIDEST {
            text.push('\n');
            used = 0;
        }
        let _ = write!(text, "  {} = {}", styled(NAME, &shown), with_before(row, WIDEST));
        used += width;
    }
    text + "\n"
}

/// A value, with what it was at an earlier stop if that was another one.
fn before_and_now(row: &Row, widest: usize) -> String {
    let before = row.before.as_ref().map_or(String::new(), |before| format!(" ({})", was(before, &row.value)));
    cut_to(&row.value, widest - before.chars().count()) + &before
}

/// The same, in the colour of changes if it changed.
pub(super) fn with_before(row: &Row, widest: usize) -> String {
    let text = before_and_now(row, widest);
    if row.before.is_some() { styled(CHANGED, &text) } else { text }
}

/// What a value was before, in few words; that it is another one, when the beginnings do not tell.
fn was(before: &str, now: &str) -> String {
    let begin = |text: &str| text.chars().take(ALIKE).collect::<String>();
    if begin(before) == begin(now) && before.chars().count() > ALIKE {
        return "changed".to_owned();
    }
    format!("was {}", cut_to(before, WIDEST_BEFORE))
}

/// A value with what it is measured in.
fn measured(row: &Row, widest: usize) -> String {
    let unit = row.about.unit.as_ref().map_or(String::new(), |unit| format!(" {unit}"));
    match &row.computed_by {
        Some(expression) => format!("'look {expression}' computes it"),
        None => format!("{}{unit}", cut_to(&row.value, widest)),
    }
}

/// What there is to say of a value besides itself.
fn remark(row: &Row) -> String {
    let AboutRow { doc, belongs_to, read_only, .. } = &row.about;
    let before = row.before.as_ref().map(|before| was(before, &row.value));
    let parts = before.into_iter().chain(doc.clone()).chain(belongs_to.iter().cloned());
    let parts = parts.chain(read_only.then(|| "cannot be changed".to_owned()));
    parts.collect::<Vec<_>>().join("; ")
}

fn render_rows(rows: &[Row]) -> String {
    let widest = if rows.iter().any(|row| !remark(row).is_empty()) { WIDEST_REMARKED } else { WIDEST };
    let cells = |row: &Row| {
        let name = if row.shadowed { format!("({}) hidden", row.name) } else { row.name.clone() };
        vec![format!(" {name}"), measured(row, widest), row.type_name.clone(), remark(row)]
    };
    mark_changed(&render_table(None, rows.iter().map(cells)), rows.iter())
}

/// Colours the lines of values that changed; there is one line for each row.
fn mark_changed<'r>(text: &str, rows: impl Iterator<Item = &'r Row>) -> String {
    text.lines().zip(rows).fold(String::new(), |text, (line, row)| {
        text + &if row.before.is_some() { styled(CHANGED, line) } else { line.to_owned() } + "\n"
    })
}

fn render_value(value: &str, type_name: &str, before: &str, inside: &[Row], extent: Extent) -> String {
    let before = if before.is_empty() { String::new() } else { styled(CHANGED, before) };
    match (value, type_name) {
        ("", "") => "done\n".to_owned(),
        (value, "") => format!("{value}\n"),
        _ if !inside.is_empty() => {
            let count = match extent.total {
                total if extent.at_least => format!("more than {}", total.saturating_sub(1)),
                total => total.to_string(),
            };
            let title = styled(QUIET, &format!("{type_name}, {count} inside"));
            format!("{title}{before}\n{}", render_rows(inside))
        }
        (value, type_name) => format!("{value}  {}{before}\n", styled(QUIET, type_name)),
    }
}

fn render_tree(rows: &[TreeRow]) -> String {
    let cells = |row: &TreeRow| {
        let value = if row.is_leaf { measured(&row.row, WIDEST_REMARKED) } else { String::new() };
        vec![format!("{}{}", LEVEL.repeat(row.depth), row.row.name), value, row.row.type_name.clone(), remark(&row.row)]
    };
    let text = mark_changed(&render_table(None, rows.iter().map(cells)), rows.iter().map(|row| &row.row));
    text.lines().zip(rows).fold(String::new(), |text, (line, row)| {
        text + &if row.depth == 0 { styled(STRONG, line) } else { line.to_owned() } + "\n"
    })
}

pub(super) fn render_watches(watches: &[WatchRow]) -> String {
    let cells = |(position, watch): (usize, &WatchRow)| {
        let title = if position == 0 { " watch " } else { "       " };
        let value = watch.value.as_ref().map(|value| {
            let before = watch.before.as_ref().map_or(String::new(), |before| format!(" ({})", was(before, value)));
            cut_to(value, WIDEST_REMARKED) + &before
        });
        vec![
            format!("{title}{}", watch.number),
            watch.what.clone(),
            value.or_else(|| watch.note.clone()).unwrap_or_default(),
        ]
    };
    if watches.is_empty() {
        return String::new();
    }
    let table = render_table(None, watches.iter().enumerate().map(cells));
    table.lines().zip(watches).fold(String::new(), |text, (line, watch)| {
        let style = match (&watch.before, &watch.note) {
            (Some(_), _) => CHANGED,
            (None, Some(_)) if watch.out_of_scope => QUIET,
            (None, Some(_)) => TROUBLE,
            (None, None) => return text + line + "\n",
        };
        text + &styled(style, line) + "\n"
    })
}

/// A sample in a line.
pub(super) fn render_sample(sample: &SampleRow) -> String {
    let event = sample.during.as_ref().map_or(String::new(), |event| format!(", {event}"));
    let slowed = if sample.slowed { ", slowed" } else { "" };
    let facts = format!(
        "{:.3} s{event}; {}, {:.2}% of the time{slowed}",
        sample.seconds,
        cost(sample.cost_microseconds),
        sample.share * 100.0
    );
    let value = if sample.success { styled(STRONG, &sample.value) } else { styled(TROUBLE, &sample.value) };
    format!("◇ {} = {value}  {}\n", sample.what, styled(QUIET, &facts))
}
