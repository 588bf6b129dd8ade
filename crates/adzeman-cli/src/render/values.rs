//! Values as people read them: in a glance, in rows, as a table, a shape, a tree, watches, samples.

use std::fmt::Write as _;

use adzeman_dap::extra::{ShapeLine, TableRow};
use textwrap::core::display_width;

use super::table::{cut_to, groups, lay_out, styled_lines};
use super::{CHANGED, NAME, QUIET, STRONG, TROUBLE, WIDEST, cut, more, styled};
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
pub(super) fn render_value_report(report: &Report, columns: Option<usize>) -> Option<String> {
    Some(match report {
        Report::Scope { title, rows, extent } if rows.is_empty() && extent.total == 0 => {
            format!("no {} here\n", title.to_lowercase())
        }
        Report::Scope { rows, extent, .. } => render_rows(rows, columns) + &more(rows.len(), *extent, "entries"),
        Report::Value { value, type_name, before, inside, extent, .. } => {
            let before = before.as_ref().map_or(String::new(), |before| format!(" ({})", was(before, value)));
            render_value((value, type_name), &before, (inside, *extent), columns)
                + &more(inside.len(), *extent, "entries")
        }
        Report::Table { columns: names, rows, extent, .. } => {
            render_grid(names, rows, columns) + &more(rows.len(), *extent, "rows")
        }
        Report::Shape { expression, rows } => render_shape(expression, rows, columns),
        Report::Text { text, bytes_in_all, .. } => {
            let cut = bytes_in_all
                .map_or(String::new(), |all| format!("{}\n", styled(QUIET, &format!("… of {all} bytes in all"))));
            format!("{}\n{cut}", text.strip_suffix('\n').unwrap_or(text))
        }
        Report::Tree { rows } => render_tree(rows, columns),
        Report::Watches { watches } if watches.is_empty() => {
            "nothing is watched; 'watch EXPRESSION' shows it at every stop\n".to_owned()
        }
        Report::Watches { watches } => render_watches(watches, columns),
        Report::Watched { watch } => render_watches(std::slice::from_ref(watch), columns),
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

/// Records in rows. Columns that do not fit beside the others come below them, with the names of the rows again.
fn render_grid(names: &[String], rows: &[TableRow], columns: Option<usize>) -> String {
    let cell = |row: &TableRow, number: usize| {
        let cell = row.cells.get(number).and_then(|cell| cell.as_deref());
        cell.map_or(String::new(), |cell| cut_to(cell, WIDEST_CELL))
    };
    let title = |row: &TableRow| format!("{LEVEL}{}", row.name);
    let first = rows.iter().map(|row| display_width(&title(row)) + 2).max().unwrap_or(0);
    let width = |number: usize| rows.iter().map(|row| display_width(&cell(row, number))).max().unwrap_or(0);
    let widths: Vec<_> =
        names.iter().enumerate().map(|(number, name)| width(number).max(display_width(name))).collect();
    let group = |group: std::ops::Range<usize>| {
        let header = [String::new()].into_iter().chain(names[group.clone()].iter().cloned()).collect();
        let cells = |row: &TableRow| {
            [title(row)].into_iter().chain(group.clone().map(|number| cell(row, number))).collect::<Vec<_>>()
        };
        lay_out(Some(header), rows.iter().map(cells), columns).text(STRONG)
    };
    groups(first, &widths, columns).into_iter().map(group).collect::<Vec<_>>().join("\n")
}

fn render_shape(expression: &str, rows: &[ShapeLine], columns: Option<usize>) -> String {
    let line = |row: &ShapeLine| {
        let name = if row.depth == 0 { cut_to(expression, WIDEST_CELL) } else { row.name.clone() };
        let name = format!("{}{name}", LEVEL.repeat(row.depth));
        vec![name, row.types.clone(), row.remark.clone().unwrap_or_default()]
    };
    lay_out(None, rows.iter().map(line), columns).text(STRONG)
}

fn render_found(paths: &[String], lines: &[FoundLine]) -> String {
    let mut shown = paths.iter().fold(String::new(), |shown, path| shown + path + "\n");
    for line in lines {
        let place = styled(QUIET, &format!("{}:{}", line.path, line.line));
        let _ = writeln!(shown, "{place}  {}", cut(&line.text));
    }
    shown
}

/// Values in as few lines as they fit.
pub(super) fn render_glance(rows: &[Row], columns: Option<usize>) -> String {
    let widest = columns.map_or(WIDEST, |columns| columns.min(WIDEST));
    let mut text = String::new();
    let mut used = 0;
    for row in rows {
        let shown = if row.shadowed { format!("({})", row.name) } else { row.name.clone() };
        let value = before_and_now(row, WIDEST);
        let width = display_width(&shown) + display_width(&value) + 5;
        if used > 0 && used + width > widest {
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
    cut_to(&row.value, widest.saturating_sub(display_width(&before))) + &before
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

fn render_rows(rows: &[Row], columns: Option<usize>) -> String {
    let widest = if rows.iter().any(|row| !remark(row).is_empty()) { WIDEST_REMARKED } else { WIDEST };
    let cells = |row: &Row| {
        let name = if row.shadowed { format!("({}) hidden", row.name) } else { row.name.clone() };
        vec![format!(" {name}"), measured(row, widest), row.type_name.clone(), remark(row)]
    };
    let laid = lay_out(None, rows.iter().map(cells), columns);
    laid.rows.iter().zip(rows).map(|(text, row)| mark_changed(text, row)).collect()
}

/// Colours the lines of a value that changed.
fn mark_changed(text: &str, row: &Row) -> String {
    if row.before.is_some() { styled_lines(CHANGED, text) } else { text.to_owned() }
}

fn render_value(
    (value, type_name): (&str, &str),
    before: &str,
    (inside, extent): (&[Row], Extent),
    columns: Option<usize>,
) -> String {
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
            format!("{title}{before}\n{}", render_rows(inside, columns))
        }
        (value, type_name) => format!("{value}  {}{before}\n", styled(QUIET, type_name)),
    }
}

fn render_tree(rows: &[TreeRow], columns: Option<usize>) -> String {
    let cells = |row: &TreeRow| {
        let value = if row.is_leaf { measured(&row.row, WIDEST_REMARKED) } else { String::new() };
        vec![format!("{}{}", LEVEL.repeat(row.depth), row.row.name), value, row.row.type_name.clone(), remark(&row.row)]
    };
    let laid = lay_out(None, rows.iter().map(cells), columns);
    let line = |(text, row): (&String, &TreeRow)| match row.depth {
        0 => styled_lines(STRONG, text),
        _ => mark_changed(text, &row.row),
    };
    laid.rows.iter().zip(rows).map(line).collect()
}

pub(super) fn render_watches(watches: &[WatchRow], columns: Option<usize>) -> String {
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
    let laid = lay_out(None, watches.iter().enumerate().map(cells), columns);
    laid.rows.iter().zip(watches).fold(String::new(), |text, (lines, watch)| {
        let style = match (&watch.before, &watch.note) {
            (Some(_), _) => CHANGED,
            (None, Some(_)) if watch.out_of_scope => QUIET,
            (None, Some(_)) => TROUBLE,
            (None, None) => return text + lines,
        };
        text + &styled_lines(style, lines)
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
