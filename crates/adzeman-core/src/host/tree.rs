//! Walking host data: finding, listing and replacing what a path names.

use serde_json::Value as Json;

use super::{HostError, Path, SECRET, Segment};
use crate::value::{Children, Expand, Kind, Page, Paged, Preview, Value, Variable};

/// Which tree a path starts in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Root {
    /// The host's objects, by name.
    Host,
    /// The event being handled: `name`, `subject`, and the fields of its payload.
    Event,
}

impl Root {
    /// The name it has in expressions.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Host => "host",
            Self::Event => "event",
        }
    }
}

/// A place in one of the trees.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TreePath {
    /// Which tree.
    pub root: Root,
    /// Where in it.
    pub path: Path,
}

impl TreePath {
    /// The path as written in an expression: `host.locks.upper`, with `[base]` as the first element of a list.
    #[must_use]
    pub fn display(&self, base: usize) -> String {
        let path = self.path.display(base);
        let dot = if path.is_empty() || path.starts_with('[') { "" } else { "." };
        format!("{}{dot}{path}", self.root.name())
    }
}

/// The host as an engine sees it, on the thread that runs the scripts.
pub trait HostView {
    /// What is at a path. The root of [`Root::Host`] is an object with the names of all host objects.
    ///
    /// # Errors
    /// When there is nothing, or the host has it in use.
    fn get(&self, at: &TreePath) -> Result<Json, HostError>;

    /// Replaces what is at a path.
    ///
    /// # Errors
    /// When there is nothing there, it cannot be changed, or the value does not fit; nothing is changed then.
    fn set(&self, at: &TreePath, value: Json) -> Result<(), HostError>;

    /// Whether an event is being handled on this thread.
    fn has_event(&self) -> bool;
}

/// What `path` names within `data`; `shown` is how the data itself is called, for the message.
///
/// # Errors
/// [`HostError::NoField`] with what is there instead.
pub fn at<'a>(data: &'a Json, path: &Path, shown: &str) -> Result<&'a Json, HostError> {
    let mut here = data;
    let mut walked = shown.to_owned();
    for segment in path.segments() {
        let next = match (segment, here) {
            (Segment::Field(name), Json::Object(fields)) => fields.get(name),
            (Segment::Index(index), Json::Array(items)) => items.get(*index),
            _ => None,
        };
        here = next.ok_or_else(|| missing(&walked, segment, here))?;
        match segment {
            Segment::Field(name) => walked.extend([".", name]),
            Segment::Index(index) => walked.push_str(&format!("[{index}]")),
        }
    }
    Ok(here)
}

/// Replaces what `path` names within `data`; fields and elements are not added.
///
/// # Errors
/// [`HostError::NoField`] with what is there instead.
pub fn set_at(data: &mut Json, path: &Path, value: Json, shown: &str) -> Result<(), HostError> {
    at(data, path, shown)?;
    let mut here = data;
    for segment in path.segments() {
        let next = match (segment, here) {
            (Segment::Field(name), Json::Object(fields)) => fields.get_mut(name),
            (Segment::Index(index), Json::Array(items)) => items.get_mut(*index),
            _ => None,
        };
        let Some(next) = next else { return Ok(()) };
        here = next;
    }
    *here = value;
    Ok(())
}

fn missing(walked: &str, segment: &Segment, here: &Json) -> HostError {
    let name = match segment {
        Segment::Field(name) => name.clone(),
        Segment::Index(index) => format!("element {index} (counted from 0)"),
    };
    let known = match here {
        Json::Object(fields) if fields.is_empty() => "no fields".to_owned(),
        Json::Object(fields) => fields.keys().take(12).cloned().collect::<Vec<_>>().join(", "),
        Json::Array(items) => format!("{} elements", items.len()),
        _ => "nothing inside it".to_owned(),
    };
    HostError::NoField { path: walked.to_owned(), name, known }
}

/// The value at a place, for showing.
#[must_use]
pub fn describe(data: &Json, place: &TreePath) -> Value {
    let (kind, type_name) = match data {
        Json::Null => (Kind::Nil, "null"),
        Json::Bool(_) => (Kind::Boolean, "boolean"),
        Json::Number(number) if number.is_f64() => (Kind::Float, "float"),
        Json::Number(_) => (Kind::Integer, "integer"),
        Json::String(text) if text == SECRET => (Kind::String, "secret"),
        Json::String(_) => (Kind::String, "string"),
        Json::Array(_) => (Kind::Object, "list"),
        Json::Object(_) => (Kind::Object, "object"),
    };
    let (indexed, named) = match data {
        Json::Array(items) => (items.len(), 0),
        Json::Object(fields) => (0, fields.len()),
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

/// A page of what is inside `data`, in the order of its names; lists count from `base`.
#[must_use]
pub fn list(data: &Json, place: &TreePath, page: Page, base: usize) -> Paged<Variable> {
    let child = |segment: Segment, name: String, data: &Json| {
        let place = TreePath { root: place.root, path: place.path.join(segment) };
        Variable::new(name, describe(data, &place)).named_by(place.display(base))
    };
    match data {
        Json::Object(fields) => {
            page.of(fields.len(), fields.iter(), |(name, data)| child(Segment::Field(name.clone()), name.clone(), data))
        }
        Json::Array(items) => page.of(items.len(), items.iter().enumerate(), |(index, data)| {
            child(Segment::Index(index), format!("[{}]", index + base), data)
        }),
        _ => Paged::whole(Vec::new(), 0),
    }
}

/// Data in a line.
#[must_use]
pub fn preview(data: &Json) -> String {
    let mut out = Preview::default();
    write_preview(&mut out, data, 0);
    out.finish()
}

fn write_preview(out: &mut Preview, data: &Json, depth: usize) {
    match data {
        Json::String(text) if text == SECRET => out.push(text),
        Json::String(text) => out.quoted(text.as_bytes()),
        Json::Object(fields) if depth < 2 => out.group("{", "}", fields.iter(), |out, (name, data)| {
            out.push(name);
            out.push(": ");
            write_preview(out, data, depth + 1);
        }),
        Json::Array(items) if depth < 2 => {
            out.group("[", "]", items.iter(), |out, data| write_preview(out, data, depth + 1));
        }
        Json::Object(_) => out.push("{…}"),
        Json::Array(items) => out.push(&format!("[{} items]", items.len())),
        Json::Number(number) => out.push(&short_number(number)),
        other => out.push(&other.to_string()),
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
    use serde_json::json;

    fn path(text: &str) -> Path {
        Path::parse(text, 0).unwrap()
    }

    #[test]
    fn a_missing_field_names_what_is_there() {
        let data = json!({"upper": {"level": 1.5, "gate": "shut"}});
        let error = at(&data, &path("upper.lvel"), "host.locks").unwrap_err();
        assert_eq!(error.to_string(), "'host.locks.upper' has no 'lvel'; it has gate, level");
    }

    #[test]
    fn set_replaces_and_never_adds() {
        let mut data = json!({"boats": [{"length": 12}]});
        set_at(&mut data, &path("boats[0].length"), json!(30), "x").unwrap();
        assert_eq!(data, json!({"boats": [{"length": 30}]}));
        assert!(set_at(&mut data, &path("boats[1]"), json!(1), "x").is_err());
        assert!(set_at(&mut data, &path("boat"), json!(1), "x").is_err());
    }

    #[test]
    fn listing_pages_and_names_elements_from_the_base() {
        let data = json!([10, 20, 30]);
        let place = TreePath { root: Root::Host, path: path("levels") };
        let page = list(&data, &place, Page { start: 1, count: 1 }, 1);
        assert_eq!(page.total, 3);
        assert_eq!(page.items[0].name, "[2]");
        assert_eq!(page.items[0].evaluate_name.as_deref(), Some("host.levels[2]"));
        assert_eq!(page.items[0].value.preview, "20");
    }

    #[test]
    fn a_preview_stays_short_whatever_it_shows() {
        let data = json!({"names": (0..10_000).map(|n| format!("boat {n}")).collect::<Vec<_>>()});
        let value = describe(&data, &TreePath { root: Root::Host, path: path("x") });
        assert!(value.preview.chars().count() <= crate::value::PREVIEW_LIMIT + 8, "{}", value.preview);
    }
}
