//! Host objects by functions of the host, for state that serde does not know: an entity store, a graph, what lies in a database.

use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;

use serde::Serialize;
use serde::ser::{Error as _, SerializeMap, SerializeSeq, Serializer};
use serde_json::Value as Json;

use super::access::{Access, Look, Seen, access_by_look};
use super::change::NotChanged;
use super::{Aspect, Extent, Outline};
use crate::path::{Path, Segment};

/// Parts that are asked for at one look: what leads back into itself has no end.
const MOST_ASKED: usize = 100_000;

/// What a function of the host says of one part of an object.
#[derive(Debug, Clone, PartialEq)]
pub enum Inside {
    /// A value, shown as it is.
    Value(Json),
    /// Parts of these names.
    Fields(Vec<String>),
    /// So many elements.
    Elements(usize),
}

type LookAt = dyn Fn(&Path) -> Option<Inside> + Send + Sync;
type Set = dyn Fn(&Path, Json) -> Result<(), String> + Send + Sync;

/// An object by functions: `look` says what is at a path from the object on, lists counted from 0, and nothing where there is
/// nothing; it is called once for each part on the way to what is looked at, and for each that is shown.
#[derive(Clone)]
pub struct ByFunctions {
    look: Arc<LookAt>,
    set: Option<Arc<Set>>,
}

impl ByFunctions {
    /// For looking only.
    pub fn new(look: impl Fn(&Path) -> Option<Inside> + Send + Sync + 'static) -> Self {
        Self { look: Arc::new(look), set: None }
    }

    /// The same, with a function that gives the part at a path a new value, or refuses with a reason.
    pub fn with_set(self, set: impl Fn(&Path, Json) -> Result<(), String> + Send + Sync + 'static) -> Self {
        Self { set: Some(Arc::new(set)), ..self }
    }

    fn look(&self, look: &Look<'_>) -> Option<Seen> {
        Some(look.at(&AskedPart::root(&*self.look)))
    }
}

access_by_look!({} ByFunctions where {} {
    fn is_editable(&self) -> bool {
        self.set.is_some()
    }

    fn change(&self, path: &Path, value: Json) -> Option<Result<(), NotChanged>> {
        Some(self.set.as_ref()?(path, value).map_err(NotChanged::Refused))
    }
});

/// A part of an object by functions, which is asked for when it is looked at.
pub(super) struct AskedPart<'a> {
    look: &'a dyn Fn(&Path) -> Option<Inside>,
    path: Path,
    left: Rc<Cell<usize>>,
}

impl<'a> AskedPart<'a> {
    pub(super) fn root(look: &'a dyn Fn(&Path) -> Option<Inside>) -> Self {
        Self { look, path: Path::default(), left: Rc::new(Cell::new(MOST_ASKED)) }
    }

    fn inside(&self, segment: Segment) -> Self {
        Self { look: self.look, path: self.path.join(segment), left: self.left.clone() }
    }
}

impl Serialize for AskedPart<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let Some(left) = self.left.get().checked_sub(1) else {
            return Err(S::Error::custom("there is too much of it; look at a part"));
        };
        self.left.set(left);
        match (self.look)(&self.path) {
            None => serializer.serialize_unit(),
            Some(Inside::Value(value)) => value.serialize(serializer),
            Some(Inside::Fields(names)) => {
                let mut parts = serializer.serialize_map(Some(names.len()))?;
                for name in names {
                    parts.serialize_entry(&name, &self.inside(Segment::Field(name.clone())))?;
                }
                parts.end()
            }
            Some(Inside::Elements(count)) => {
                let mut parts = serializer.serialize_seq(Some(count))?;
                for number in (0..).take(count) {
                    parts.serialize_element(&self.inside(Segment::Index(number)))?;
                }
                parts.end()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex;
    use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};

    use serde_json::json;

    use super::*;
    use crate::host::{Aspect, HostObject, Outline, list, preview};
    use crate::path::{Notation, Root, TreePath};
    use crate::value::Page;

    /// Barges that know the next one, in a ring, each with its level; and how often one was asked for.
    fn ring(asked: Arc<AtomicUsize>, levels: Arc<Mutex<Vec<f64>>>) -> ByFunctions {
        let held = levels.clone();
        let look = move |path: &Path| {
            asked.fetch_add(1, SeqCst);
            let levels = held.lock().unwrap();
            let mut steps = path.segments().iter();
            let Some(first) = steps.next() else { return Some(Inside::Elements(levels.len())) };
            let Segment::Index(first) = first else { return None };
            let mut at = usize::try_from(*first).ok().filter(|at| *at < levels.len())?;
            for step in steps.as_slice() {
                match step {
                    Segment::Field(name) if name == "next" => at = (at + 1) % levels.len(),
                    Segment::Field(name) if name == "level" => return Some(Inside::Value(json!(levels[at]))),
                    _ => return None,
                }
            }
            Some(Inside::Fields(vec!["level".to_owned(), "next".to_owned()]))
        };
        ByFunctions::new(look).with_set(move |path, value| {
            let [Segment::Index(at), Segment::Field(name)] = path.segments() else {
                return Err("only a level".to_owned());
            };
            let level = value.as_f64().filter(|_| name == "level").ok_or("it is a number of metres")?;
            levels.lock().unwrap()[usize::try_from(*at).unwrap()] = level;
            Ok(())
        })
    }

    #[test]
    fn what_leads_back_into_itself_is_looked_at_part_by_part() {
        let (asked, levels) = (Arc::new(AtomicUsize::new(0)), Arc::new(Mutex::new(vec![1.5; 100_000])));
        levels.lock().unwrap()[7] = 2.5;
        let object = HostObject::by_functions("barges", ring(asked.clone(), levels.clone()));
        let path = |text| Path::parse(text, Notation::OF_DATA).unwrap();
        let shown = |text, aspect| object.outline(&path(text), aspect, Notation::OF_DATA);
        assert_eq!(preview(&shown("[5].next.next.level", Aspect::Itself).unwrap()), "2.5");
        assert!(asked.swap(0, SeqCst) <= 6, "each on the way");
        let page = shown("", Aspect::Inside(Page { start: 50_000, count: 10 })).unwrap();
        let place = TreePath { root: Root::Host, path: Path::default() };
        let page = list(page, &place, Notation::OF_DATA);
        assert_eq!((page.total, page.items[9].name.as_str()), (100_000, "[50009]"));
        assert_eq!(page.items[0].value.preview, "{level: 1.5, next: {level: 1.5, next: {…}}}");
        assert!(asked.swap(0, SeqCst) <= 100, "only the page");
        object.change(&path("[7].level"), json!(3), Notation::OF_DATA).unwrap();
        assert_eq!(levels.lock().unwrap()[7], 3.0);
        let why = object.change(&path("[7].next"), json!(3), Notation::OF_DATA).unwrap_err().to_string();
        assert!(why.contains("it is a number of metres"), "{why}");
        let missing = shown("[7].nxt", Aspect::Itself).unwrap_err().to_string();
        assert_eq!(missing, "'host.barges[7]' has no 'nxt'; it has level, next");
        // All of it has no end, which is said.
        let all = object.get(&Path::default(), Notation::OF_DATA).unwrap_err().to_string();
        assert!(all.contains("could not be read"), "{all}");
        assert!(matches!(shown("", Aspect::Itself), Ok(Outline::List { .. })));
    }
}
