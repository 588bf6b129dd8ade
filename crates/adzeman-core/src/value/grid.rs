//! A list of records as rows and columns.

use serde::{Deserialize, Serialize};

use super::Variable;

/// The column of rows that are no records.
const VALUE_COLUMN: &str = "value";
/// Columns beyond this are left out; a row opened alone shows them all.
const MOST_COLUMNS: usize = 24;

/// A row: what it is called, and for each column its value, if it has one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GridRow {
    /// The element's name: `[3]`, or a key.
    pub name: String,
    /// One for each column.
    pub cells: Vec<Option<String>>,
}

/// Rows and columns.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Grid {
    /// Field names, in the order in which they are met.
    pub columns: Vec<String>,
    /// The records.
    pub rows: Vec<GridRow>,
}

impl Grid {
    /// Makes a grid of elements, each with the fields found inside it; one without any has its own preview in the column
    /// `value`.
    ///
    /// ```
    /// use adzeman_core::value::{Grid, Kind, Value, Variable};
    ///
    /// let field = |name: &str, text: &str| Variable::new(name, Value::plain(Kind::Integer, "integer", text));
    /// let boat = |name: &str| Variable::new(name, Value::plain(Kind::Table, "table", "{…}"));
    /// let grid = Grid::of([
    ///     (boat("[1]"), vec![field("length", "12")]),
    ///     (boat("[2]"), vec![field("length", "30"), field("crew", "4")]),
    /// ]);
    /// assert_eq!(grid.columns, ["length", "crew"]);
    /// assert_eq!(grid.rows[0].cells, [Some("12".to_owned()), None]);
    /// ```
    pub fn of(elements: impl IntoIterator<Item = (Variable, Vec<Variable>)>) -> Self {
        let mut grid = Self::default();
        for (element, fields) in elements {
            let mut cells = vec![None; grid.columns.len()];
            if fields.is_empty() {
                grid.put(&mut cells, VALUE_COLUMN, element.value.preview);
            }
            for field in fields {
                grid.put(&mut cells, &field.name, field.value.preview);
            }
            grid.rows.push(GridRow { name: element.name, cells });
        }
        let width = grid.columns.len();
        grid.rows.iter_mut().for_each(|row| row.cells.resize(width, None));
        grid
    }

    fn put(&mut self, cells: &mut Vec<Option<String>>, column: &str, text: String) {
        let position = self.columns.iter().position(|held| held == column).unwrap_or_else(|| {
            self.columns.push(column.to_owned());
            self.columns.len() - 1
        });
        if position >= MOST_COLUMNS {
            self.columns.truncate(MOST_COLUMNS);
            return;
        }
        cells.resize(self.columns.len(), None);
        cells[position] = Some(text);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::{Kind, Value};

    fn number(name: &str) -> Variable {
        Variable::new(name, Value::plain(Kind::Integer, "integer", "1"))
    }

    #[test]
    fn plain_elements_stand_beside_records() {
        let grid = Grid::of([(number("[1]"), vec![number("a")]), (number("[2]"), Vec::new())]);
        assert_eq!(grid.columns, ["a", "value"]);
        assert_eq!(grid.rows[0].cells, [Some("1".to_owned()), None]);
        assert_eq!(grid.rows[1].cells, [None, Some("1".to_owned())]);
    }

    #[test]
    fn a_very_wide_record_is_cut() {
        let fields = (0..1000).map(|n| number(&n.to_string())).collect();
        let grid = Grid::of([(number("[1]"), fields)]);
        assert_eq!((grid.columns.len(), grid.rows[0].cells.len()), (MOST_COLUMNS, MOST_COLUMNS));
    }
}
