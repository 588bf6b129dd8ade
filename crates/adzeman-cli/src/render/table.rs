//! Rows in columns that fit the terminal: cells that are too wide go on below, within their column.

use comfy_table::{ColumnConstraint, ContentArrangement, Table, Width, presets};
use textwrap::core::display_width;

use super::{Style, styled};

/// Stands, without a width, before the first cell of each row, to tell its lines from those of the row before.
const BEGIN: char = '\u{200b}';
/// Words up to this length are not broken.
const LONGEST_WORD: usize = 24;
/// Blanks between two columns.
const GAP: usize = 2;

/// Rows laid out, each a line or several, with their ends.
pub(super) struct Laid {
    pub(super) header: String,
    pub(super) rows: Vec<String>,
}

impl Laid {
    /// The header in its style, and the rows.
    pub(super) fn text(self, of_header: Style) -> String {
        let header = if self.header.is_empty() { String::new() } else { styled_lines(of_header, &self.header) };
        header + &self.rows.concat()
    }
}

/// Lays out rows in as many columns as the terminal has; as wide as they are where that is not known.
pub(super) fn lay_out(
    header: Option<Vec<String>>,
    rows: impl Iterator<Item = Vec<String>>,
    columns: Option<usize>,
) -> Laid {
    let mut table = Table::new();
    table.load_style(presets::NOTHING);
    if let Some(columns) = columns {
        table.set_content_arrangement(ContentArrangement::Dynamic);
        table.set_width(u16::try_from(columns).unwrap_or(u16::MAX));
    }
    let has_header = header.is_some();
    let rows: Vec<_> = header.into_iter().chain(rows).collect();
    let narrowest = narrowest(&rows);
    let fits = columns.is_none_or(|columns| narrowest.iter().map(|width| width + GAP).sum::<usize>() <= columns);
    if !fits {
        // Without columns; what prints it goes on below at words.
        let joined = |cells: Vec<String>| {
            let cells: Vec<_> = cells.into_iter().filter(|cell| !cell.trim().is_empty()).collect();
            format!(" {}\n", cells.join("  "))
        };
        let mut rows: Vec<_> = rows.into_iter().map(joined).collect();
        let header = if has_header { rows.remove(0) } else { String::new() };
        return Laid { header, rows };
    }
    for mut row in rows {
        if let Some(first) = row.first_mut() {
            first.insert(0, BEGIN);
        }
        table.add_row(row);
    }
    if columns.is_some() {
        for (column, width) in table.column_iter_mut().zip(narrowest) {
            let width = u16::try_from(width + GAP).unwrap_or(u16::MAX);
            column.set_constraint(ColumnConstraint::LowerBoundary(Width::Fixed(width)));
        }
    }
    let mut rows: Vec<String> = Vec::new();
    for line in table.lines() {
        let is_new = line.contains(BEGIN);
        let line = line.replace(BEGIN, "");
        match rows.last_mut().filter(|_| !is_new) {
            Some(row) => row.push_str(line.trim_end()),
            None => rows.push(line.trim_end().to_owned()),
        }
        if let Some(row) = rows.last_mut() {
            row.push('\n');
        }
    }
    let header = if has_header && !rows.is_empty() { rows.remove(0) } else { String::new() };
    Laid { header, rows }
}

/// How wide columns have to be for their longest words.
fn narrowest(rows: &[Vec<String>]) -> Vec<usize> {
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let words = |cell: &String| cell.split_whitespace().map(display_width).max().unwrap_or(0);
    let width =
        |column: usize| rows.iter().filter_map(|row| row.get(column)).map(words).max().unwrap_or(0).min(LONGEST_WORD);
    (0..columns).map(width).collect()
}

/// Splits columns into groups that fit beside a first one each, by how wide they are; one that is too wide by itself is alone.
pub(super) fn groups(first: usize, widths: &[usize], columns: Option<usize>) -> Vec<std::ops::Range<usize>> {
    let mut groups = Vec::new();
    let (mut begin, mut used) = (0, first);
    for (number, width) in widths.iter().enumerate() {
        if number > begin && columns.is_some_and(|columns| used + GAP + width > columns) {
            groups.push(begin..number);
            (begin, used) = (number, first);
        }
        used += GAP + width;
    }
    groups.push(begin..widths.len());
    groups
}

/// Each line in a style.
pub(super) fn styled_lines(style: Style, text: &str) -> String {
    text.lines().fold(String::new(), |text, line| text + &styled(style, line) + "\n")
}

/// The beginning of a text that takes at most so many columns, with a mark where it is not all.
pub(super) fn cut_to(text: &str, widest: usize) -> String {
    if text.len() <= widest || display_width(text) <= widest {
        return text.to_owned();
    }
    let mut shown = String::new();
    let mut used = 0;
    for c in text.chars() {
        used += display_width(c.encode_utf8(&mut [0; 4]));
        if used > widest {
            break;
        }
        shown.push(c);
    }
    shown + "…"
}

/// Columns between two places that a tab leads to.
const TAB: usize = 4;

/// A line with its tabs as blanks, so that it looks the same wherever it begins.
pub(super) fn without_tabs(line: &str) -> String {
    let mut parts = line.split('\t');
    let mut text = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        text.push_str(&" ".repeat(TAB - display_width(&text) % TAB));
        text.push_str(part);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(cells: &[&[&str]]) -> Vec<Vec<String>> {
        cells.iter().map(|row| row.iter().map(|cell| (*cell).to_owned()).collect()).collect()
    }

    #[test]
    fn cells_go_on_in_their_column_and_wide_characters_count_as_two() {
        let cells = rows(&[&["水門", "a value that is long", "x"], &["b", "2", "a remark of some length"]]);
        let laid = lay_out(None, cells.clone().into_iter(), Some(30));
        assert!(laid.rows.iter().all(|row| row.lines().all(|line| display_width(line) <= 30)), "{:?}", laid.rows);
        assert_eq!(laid.rows.len(), 2);
        assert!(laid.rows[0].lines().count() > 1);
        let wide = lay_out(None, cells.into_iter(), None);
        let columns: Vec<_> =
            wide.rows.iter().map(|row| display_width(&row[..row.find("a value").or(row.find('2')).unwrap()])).collect();
        assert_eq!(columns[0], columns[1], "{:?}", wide.rows);
    }

    #[test]
    fn tabs_lead_to_the_same_columns() {
        assert_eq!(without_tabs("\tif x then\t-- so"), "    if x then   -- so");
        assert_eq!(without_tabs("水\tx"), "水  x");
    }

    #[test]
    fn what_does_not_fit_beside_each_other_comes_below() {
        assert_eq!(groups(4, &[10, 10, 10], Some(30)), [0..2, 2..3]);
        assert_eq!(groups(4, &[50, 1], Some(30)), [0..1, 1..2]);
        assert_eq!(groups(4, &[50, 1], None), vec![0..2; 1]);
        assert_eq!(groups(4, &[], Some(30)), vec![0..0; 1]);
    }

    #[test]
    fn texts_are_cut_by_columns() {
        assert_eq!((cut_to("水水水", 4), cut_to("水水", 4)), ("水水…".to_owned(), "水水".to_owned()));
        assert_eq!(cut_to("abc", 2), "ab…");
    }
}
