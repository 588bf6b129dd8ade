//! Walking host data: finding, listing and replacing what a path names.

use serde_json::Value as Json;

use super::{Aspect, Data, HostError, Outline};
use crate::path::{Missing, Notation, Path, Segment, Tree, TreePath};
use crate::sharing::MaySend;
use crate::value::{Children, Expand, Kind, Paged, Part, Preview, Value, Variable};

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

    /// The same as far as it is shown, at the cost of what is shown.
    ///
    /// # Errors
    /// As [`get`](Self::get).
    fn outline(&self, at: &TreePath, aspect: Aspect) -> Result<Outline, HostError> {
        self.get(at).map(|data| Outline::of_data(&data, aspect))
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

/// The value at a place, for showing, of its outline as [`Aspect::Itself`].
#[must_use]
pub fn describe(outline: &Outline, place: &TreePath) -> Value {
    let (kind, type_name) = match outline {
        Outline::Plain(data) => kind_of(data),
        Outline::List { .. } => (Kind::Object, "list"),
        Outline::Object(_) => (Kind::Object, "object"),
    };
    let (indexed, named, named_is_all) = match outline {
        Outline::Plain(_) => (0, 0, true),
        Outline::List { items, .. } => (items.total, 0, true),
        Outline::Object(fields) => (0, fields.total, fields.total_is_all),
    };
    let expand = || Expand::Tree(place.clone());
    let children = (indexed + named > 0).then(|| Children { expand: expand(), indexed, named, named_is_all });
    Value { kind, type_name: type_name.to_owned(), preview: preview(outline), children }
}

fn kind_of(data: &Data) -> (Kind, &'static str) {
    match data {
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
    }
}

/// Whether what is inside an outline counts as that part: the elements of a list, the names of an object.
#[must_use]
pub fn has_part(outline: &Outline, part: Part) -> bool {
    match outline {
        Outline::List { .. } => part != Part::Named,
        Outline::Object(_) => part != Part::Indexed,
        Outline::Plain(_) => true,
    }
}

/// What is inside the value at a place, of its outline as the page that is wanted of [`Aspect::Inside`].
#[must_use]
pub fn list(outline: Outline, place: &TreePath, notation: Notation) -> Paged<Variable> {
    let child = |segment: Segment, name: String, outline: &Outline| {
        let place = place.join(segment);
        Variable::new(name, describe(outline, &place)).named_by(place.display(notation))
    };
    match outline {
        Outline::Object(fields) => fields.map(|(name, outline)| child(Segment::Field(name.clone()), name, &outline)),
        Outline::List { first, items } => {
            let mut index = i64::try_from(first).unwrap_or(i64::MAX);
            items.map(|outline| {
                let segment = Segment::Index(index);
                index = index.saturating_add(1);
                let name = Path::default().join(segment.clone()).display(notation);
                child(segment, name, &outline)
            })
        }
        Outline::Plain(_) => Paged::whole(Vec::new(), 0),
    }
}

/// Data in a line.
#[must_use]
pub fn preview(outline: &Outline) -> String {
    let mut out = Preview::default();
    write_preview(&mut out, outline, 0);
    out.finish()
}

fn write_preview(out: &mut Preview, outline: &Outline, depth: usize) {
    match outline {
        Outline::Plain(data) => write_plain(out, data),
        Outline::Object(fields) if depth < 2 && (fields.total == 0 || !fields.items.is_empty()) => {
            out.group("{", &close(fields, "}"), fields.items.iter(), |out, (name, outline)| {
                out.push(name);
                out.push(": ");
                write_preview(out, outline, depth + 1);
            });
        }
        Outline::List { items, .. } if depth < 2 && (items.total == 0 || !items.items.is_empty()) => {
            out.group("[", &close(items, "]"), items.items.iter(), |out, outline| {
                write_preview(out, outline, depth + 1);
            });
        }
        Outline::Object(_) => out.push("{…}"),
        Outline::List { items, .. } => {
            let at_least = if items.total_is_all { "" } else { "at least " };
            out.push(&format!("[{at_least}{} items]", items.total));
        }
    }
}

/// The end of a group, some of which may not be shown.
fn close<T>(shown: &Paged<T>, bracket: &str) -> String {
    if shown.items.len() < shown.total { format!(", …{bracket}") } else { bracket.to_owned() }
}

fn write_plain(out: &mut Preview, data: &Data) {
    match data {
        Data::Null => out.push("null"),
        Data::Boolean(value) => out.push(if *value { "true" } else { "false" }),
        Data::Secret => out.push("(secret)"),
        Data::Unreadable(why) => out.push(&format!("({why})")),
        Data::Text(text) => out.quoted(text.as_bytes()),
        Data::Number(number) => out.push(&short_number(number)),
        Data::Object(_) => out.push("{…}"),
        Data::List(items) => out.push(&format!("[{} items]", items.len())),
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
    use crate::value::Page;
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
        let outline = Outline::of_data(&data, Aspect::Inside(Page { start: 1, count: 1 }));
        let page = list(outline, &place, FROM_1);
        assert_eq!(page.total, 3);
        assert_eq!(page.items[0].name, "[2]");
        assert_eq!(page.items[0].evaluate_name.as_deref(), Some("host.levels[2]"));
        assert_eq!(page.items[0].value.preview, "20");
    }

    #[test]
    fn a_preview_stays_short_whatever_it_shows() {
        let data = Data::from(json!({"names": (0..10_000).map(|n| format!("boat {n}")).collect::<Vec<_>>()}));
        let value = describe(&Outline::of_data(&data, Aspect::Itself), &TreePath { root: Root::Host, path: path("x") });
        assert!(value.preview.chars().count() <= crate::value::PREVIEW_LIMIT + 8, "{}", value.preview);
    }

    #[test]
    fn what_is_secret_is_told_from_a_text_that_says_so() {
        let data =
            Data::List(vec![Data::Secret, Data::Text("(secret)".to_owned()), Data::Unreadable("busy".to_owned())]);
        assert_eq!(preview(&Outline::of_data(&data, Aspect::Itself)), "[(secret), \"(secret)\", (busy)]");
    }
}
