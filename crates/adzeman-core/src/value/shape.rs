//! The shape of a value: its fields and their types, without the values.

use serde::{Deserialize, Serialize};

use super::{Expand, Nature, Page, Value, Variable};

/// Levels that are looked into.
const DEEPEST: usize = 5;
/// Elements of a list, and fields of a record, that are looked at.
const MOST_INSIDE: usize = 100;
/// Values that are looked into in all.
const MOST_LOOKS: usize = 1000;

/// One line of a shape.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ShapeRow {
    /// How deep it is, 0 for the value itself.
    pub depth: usize,
    /// The field, `[]` for the elements of a list, and nothing for the value itself.
    pub name: String,
    /// The types met there: `float`, or `float or nil`.
    pub types: String,
    /// How many elements a list has, or in how many records of a list a field is.
    pub remark: Option<String>,
}

/// What was met at one place of all records.
#[derive(Debug, Default)]
struct Node {
    seen: usize,
    types: Vec<String>,
    fields: Vec<(String, Node)>,
    elements: Option<Box<Node>>,
    lengths: Option<(usize, usize)>,
}

/// The shape of a value, in lines from the outside in. `list` answers the first of what is inside a value; elements of one
/// list are taken together.
///
/// ```
/// use adzeman_core::host::{Aspect, Data, Outline, at, describe, list};
/// use adzeman_core::path::{Root, TreePath};
/// use adzeman_core::path::{Notation, Path};
/// use adzeman_core::value::{Expand, shape_of};
/// use serde_json::json;
///
/// let host = Data::from(json!({"boats": [{"length": 12.5}, {"length": 30.0, "crew": 4}]}));
/// let place = TreePath { root: Root::Host, path: Path::default() };
/// let whole = Outline::of_data(&host, Aspect::Itself);
/// let rows = shape_of(&describe(&whole, &place), &mut |inside, page| match inside {
///     Expand::Tree(place) => {
///         let part = at(&host, place, 0, Notation::OF_DATA).unwrap();
///         list(Outline::of_data(part, Aspect::Inside(page)), place, Notation::OF_DATA).items
///     }
///     Expand::Engine(_) => Vec::new(),
/// });
/// let lines: Vec<_> = rows.iter().map(|row| format!("{}{} {}", "  ".repeat(row.depth), row.name, row.types)).collect();
/// assert_eq!(lines, [" object", "  boats list", "    [] object", "      length float", "      crew integer"]);
/// assert_eq!(rows[4].remark.as_deref(), Some("in 1 of 2"));
/// ```
pub fn shape_of(value: &Value, list: &mut dyn FnMut(&Expand, Page) -> Vec<Variable>) -> Vec<ShapeRow> {
    let mut root = Node::default();
    let mut looks = 0;
    root.take(value, 0, &mut looks, list);
    let mut rows = Vec::new();
    root.write(String::new(), 0, 1, &mut rows);
    rows
}

impl Node {
    fn take(
        &mut self,
        value: &Value,
        depth: usize,
        looks: &mut usize,
        list: &mut dyn FnMut(&Expand, Page) -> Vec<Variable>,
    ) {
        self.seen += 1;
        if !self.types.contains(&value.type_name) {
            self.types.push(value.type_name.clone());
        }
        let Some(children) = value.children.as_ref() else { return };
        if children.indexed > 0 {
            let (least, most) = self.lengths.unwrap_or((children.indexed, children.indexed));
            self.lengths = Some((least.min(children.indexed), most.max(children.indexed)));
        }
        *looks += 1;
        if depth >= DEEPEST || *looks > MOST_LOOKS {
            return;
        }
        for child in list(&children.expand, Page::first(MOST_INSIDE)) {
            // What is looked into already, or belongs to the type and not to the value, has no shape of its own here.
            if child.nature != Nature::Data || child.cycle.is_some() {
                continue;
            }
            let is_element = children.indexed > 0 && child.name.starts_with('[');
            let node = if is_element { self.elements.get_or_insert_default() } else { self.field(child.name) };
            node.take(&child.value, depth + 1, looks, list);
        }
    }

    fn field(&mut self, name: String) -> &mut Self {
        let position = self.fields.iter().position(|(held, _)| *held == name).unwrap_or_else(|| {
            self.fields.push((name, Self::default()));
            self.fields.len() - 1
        });
        &mut self.fields[position].1
    }

    /// `of` is how many values this one could have been in.
    fn write(self, name: String, depth: usize, of: usize, rows: &mut Vec<ShapeRow>) {
        let remark = match self.lengths {
            _ if self.seen < of => Some(format!("in {} of {of}", self.seen)),
            Some((least, most)) if least == most => Some(format!("{most} elements")),
            Some((least, most)) => Some(format!("{least} to {most} elements")),
            None => None,
        };
        rows.push(ShapeRow { depth, name, types: self.types.join(" or "), remark });
        if let Some(elements) = self.elements {
            let all = elements.seen;
            elements.write("[]".to_owned(), depth + 1, all, rows);
        }
        for (name, field) in self.fields {
            field.write(name, depth + 1, self.seen, rows);
        }
    }
}
