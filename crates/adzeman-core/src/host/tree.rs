//! Walking host data: finding, listing and replacing what a path names.

use serde_json::Value as Json;

use super::{Data, HostError};
use crate::path::{Missing, Notation, Path, Segment, Tree, TreePath};
use crate::sharing::MaySend;
use crate::value::{Children, Expand, Kind, Page, Paged, Preview, Value, Variable};

/// The host as an engine sees it, on the thread that runs the scripts.
pub trait HostView: MaySend {
    /// What is at a path. The root of [`Root::Host`](crate::path::Root::Host) is an object with the names of all host objects.
    ///
    /// # Errors
    /// When there is nothing, or the host has it in use.
    fn get(&self, at: &TreePath) -> Result<Data, HostError>;

    /// The same, with nothing inside: a list or an object is empty. For those who only need to know what it is, or hold a plain
    /// value.
    ///
    /// # Errors
    /// As [`get`](Self::get).
    fn bare(&self, at: &TreePath) -> Result<Data, HostError> {
        self.get(at)
    }

    /// Replaces what is at a path.
    ///
    /// # Errors
    /// When there is nothing there, it cannot be changed, or the value does not fit; nothing is changed then.
    fn set(&self, at: &TreePath, value: Json) -> Result<(), HostError>;

    /// Whether an event is being handled on this thread.
    fn has_event(&self) -> bool;
}

/// What `place` names, whose path leads there from `data` once `skipped` steps are left out.
///
/// # Errors
/// [`HostError::NoField`] with what is there instead.
pub fn at<'a, T: Tree>(data: &'a T, place: &TreePath, skipped: usize, notation: Notation) -> Result<&'a T, HostError> {
    let path: Path = place.path.segments().iter().skip(skipped).cloned().collect();
    path.walk(data).map_err(|missing| no_field(&missing, place, skipped, notation))
}

fn no_field(missing: &Missing, place: &TreePath, skipped: usize, notation: Notation) -> HostError {
    let mut walked = place.path.segments().iter();
    let path = walked.by_ref().take(skipped + missing.walked).cloned().collect();
    let name: Path = walked.next().into_iter().cloned().collect();
    HostError::NoField {
        path: TreePath { root: place.root, path }.display(notation),
        name: name.display(notation),
        known: missing.known.clone(),
    }
}

/// The value at a place, for showing.
#[must_use]
pub fn describe(data: &Data, place: &TreePath) -> Value {
    let (kind, type_name) = match data {
        Data::Null => (Kind::Nil, "null"),
        Data::Boolean(_) => (Kind::Boolean, "boolean"),
        Data::Number(number) if number.is_f64() => (Kind::Float, "float"),
        Data::Number(number) if number.is_i64() => (Kind::Integer, "integer"),
        Data::Number(_) => (Kind::Whole { bits: 64, signed: false }, "integer"),
        Data::Secret => (Kind::Withheld, "secret"),
        Data::Unreadable(_) => (Kind::Withheld, "unreadable"),
        Data::Text(_) => (Kind::String, "string"),
        Data::List(_) => (Kind::Object, "list"),
        Data::Object(_) => (Kind::Object, "object"),
    };
    let (indexed, named) = match data {
        Data::List(items) => (items.len(), 0),
        Data::Object(fields) => (0, fields.len()),
        _ => (0, 0),
    };
    let children = (indexed + named > 0).then(|| Children {
        expand: Expand::Tree(place.clone()),
        indexed,
        named,
        named_is_all: true,
    });
    Value { kind, type_name: type_name.to_owned(), preview: preview(data), children }
}

/// A page of what is inside `data`, in the order of its names.
#[must_use]
pub fn list(data: &Data, place: &TreePath, page: Page, notation: Notation) -> Paged<Variable> {
    let child = |segment: Segment, name: String, data: &Data| {
        let place = place.join(segment);
        Variable::new(name, describe(data, &place)).named_by(place.display(notation))
    };
    match data {
        Data::Object(fields) => {
            page.of(fields.len(), fields.iter(), |(name, data)| child(Segment::Field(name.clone()), name.clone(), data))
        }
        Data::List(items) => page.of(items.len(), (0..).zip(items), |(index, data)| {
            let segment = Segment::Index(index);
            let name = Path::default().join(segment.clone()).display(notation);
            child(segment, name, data)
        }),
        _ => Paged::whole(Vec::new(), 0),
    }
}

/// Data in a line.
#[must_use]
pub fn preview(data: &Data) -> String {
    let mut out = Preview::default();
    write_preview(&mut out, data, 0);
    out.finish()
}

fn write_preview(out: &mut Preview, data: &Data, depth: usize) {
    match data {
        Data::Null => out.push("null"),
        Data::Boolean(value) => out.push(if *value { "true" } else { "false" }),
        Data::Secret => out.push("(secret)"),
        Data::Unreadable(why) => out.push(&format!("({why})")),
        Data::Text(text) => out.quoted(text.as_bytes()),
        Data::Object(fields) if depth < 2 => out.group("{", "}", fields.iter(), |out, (name, data)| {
            out.push(name);
            out.push(": ");
            write_preview(out, data, depth + 1);
        }),
        Data::List(items) if depth < 2 => {
            out.group("[", "]", items.iter(), |out, data| write_preview(out, data, depth + 1));
        }
        Data::Object(_) => out.push("{…}"),
        Data::List(items) => out.push(&format!("[{} items]", items.len())),
        Data::Number(number) => out.push(&short_number(number)),
    }
}

/// Six decimals are enough for one look; the full value is there when asked for alone.
fn short_number(number: &serde_json::Number) -> String {
    match number.as_f64() {
        Some(float) if number.is_f64() => crate::value::short_float(float),
        _ => number.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::path::Root;
    use serde_json::json;

    fn path(text: &str) -> Path {
        Path::parse(text, Notation::OF_DATA).unwrap()
    }

    const FROM_1: Notation = Notation { first_index: 1, separator: '.' };

    #[test]
    fn a_missing_field_names_what_is_there() {
        let data = Data::from(json!({"upper": {"level": 1.5, "gate": "shut"}, "boats": [7]}));
        let missing = |text| {
            let place = TreePath { root: Root::Host, path: path(text) };
            at(&data, &place, 1, FROM_1).unwrap_err().to_string()
        };
        assert_eq!(missing("locks.upper.lvel"), "'host.locks.upper' has no 'lvel'; it has gate, level");
        assert_eq!(missing("locks.boats[1]"), "'host.locks.boats' has no '[2]'; it has 1 elements");
    }

    #[test]
    fn listing_pages_and_names_elements_as_the_language_does() {
        let data = Data::from(json!([10, 20, 30]));
        let place = TreePath { root: Root::Host, path: path("levels") };
        let page = list(&data, &place, Page { start: 1, count: 1 }, FROM_1);
        assert_eq!(page.total, 3);
        assert_eq!(page.items[0].name, "[2]");
        assert_eq!(page.items[0].evaluate_name.as_deref(), Some("host.levels[2]"));
        assert_eq!(page.items[0].value.preview, "20");
    }

    #[test]
    fn a_preview_stays_short_whatever_it_shows() {
        let data = Data::from(json!({"names": (0..10_000).map(|n| format!("boat {n}")).collect::<Vec<_>>()}));
        let value = describe(&data, &TreePath { root: Root::Host, path: path("x") });
        assert!(value.preview.chars().count() <= crate::value::PREVIEW_LIMIT + 8, "{}", value.preview);
    }

    #[test]
    fn what_is_secret_is_told_from_a_text_that_says_so() {
        let data =
            Data::List(vec![Data::Secret, Data::Text("(secret)".to_owned()), Data::Unreadable("busy".to_owned())]);
        assert_eq!(preview(&data), "[(secret), \"(secret)\", (busy)]");
    }
}
