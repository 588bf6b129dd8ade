//! Following paths.

use serde_json::Value as Json;

use super::{Path, Segment};

/// Data that paths lead into.
pub trait Tree: Sized {
    /// What one step leads to.
    fn step(&self, segment: &Segment) -> Option<&Self>;

    /// The same, for changing it.
    fn step_mut(&mut self, segment: &Segment) -> Option<&mut Self>;

    /// What there is, for people.
    fn known(&self) -> String;
}

/// A step that leads nowhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Missing {
    /// How many steps could be walked.
    pub walked: usize,
    /// What there is instead, for people.
    pub known: String,
}

/// Fields that are named where one is missing.
const MOST_NAMED: usize = 12;

impl Path {
    /// What the path leads to.
    ///
    /// # Errors
    /// Says which step leads nowhere.
    pub fn walk<'a, T: Tree>(&self, tree: &'a T) -> Result<&'a T, Missing> {
        let mut here = tree;
        for (walked, segment) in self.segments().iter().enumerate() {
            here = here.step(segment).ok_or_else(|| Missing { walked, known: here.known() })?;
        }
        Ok(here)
    }

    /// Puts `value` where the path leads to; nothing is added.
    ///
    /// # Errors
    /// As [`walk`](Self::walk).
    pub fn replace<T: Tree>(&self, tree: &mut T, value: T) -> Result<(), Missing> {
        self.walk(tree)?;
        if let Some(end) = self.segments().iter().try_fold(tree, Tree::step_mut) {
            *end = value;
        }
        Ok(())
    }
}

/// What there is among `names`, or in a list of `length`, for people.
pub(crate) fn known<'a>(names: Option<impl Iterator<Item = &'a String>>, length: Option<usize>) -> String {
    match (names, length) {
        (Some(names), _) => {
            let named: Vec<_> = names.take(MOST_NAMED).map(String::as_str).collect();
            if named.is_empty() { "no fields".to_owned() } else { named.join(", ") }
        }
        (None, Some(length)) => format!("{length} elements"),
        (None, None) => "nothing inside it".to_owned(),
    }
}

impl Tree for Json {
    fn step(&self, segment: &Segment) -> Option<&Self> {
        match (segment, self) {
            (Segment::Field(name), Self::Object(fields)) => fields.get(name),
            (Segment::Index(index), Self::Array(items)) => items.get(usize::try_from(*index).ok()?),
            _ => None,
        }
    }

    fn step_mut(&mut self, segment: &Segment) -> Option<&mut Self> {
        match (segment, self) {
            (Segment::Field(name), Self::Object(fields)) => fields.get_mut(name),
            (Segment::Index(index), Self::Array(items)) => items.get_mut(usize::try_from(*index).ok()?),
            _ => None,
        }
    }

    fn known(&self) -> String {
        known(self.as_object().map(serde_json::Map::keys), self.as_array().map(Vec::len))
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::path::Notation;

    fn path(text: &str) -> Path {
        Path::parse(text, Notation::OF_DATA).unwrap()
    }

    #[test]
    fn replacing_changes_and_never_adds() {
        let mut data = json!({"boats": [{"length": 12}]});
        path("boats[0].length").replace(&mut data, json!(30)).unwrap();
        assert_eq!(data, json!({"boats": [{"length": 30}]}));
        for text in ["boats[1]", "boats[-1]", "boat", "boats[boat]", "boats[0].length.x"] {
            assert!(path(text).replace(&mut data, json!(1)).is_err(), "{text}");
        }
        path("").replace(&mut data, json!(7)).unwrap();
        assert_eq!(data, json!(7));
    }

    #[test]
    fn a_missing_step_says_what_is_there() {
        let data = json!({"upper": {"level": 1.5, "gate": "shut"}, "boats": [1, 2], "none": {}});
        let missing = |text| path(text).walk(&data).unwrap_err();
        assert_eq!(missing("upper.lvel"), Missing { walked: 1, known: "gate, level".to_owned() });
        assert_eq!(missing("boats[2]").known, "2 elements");
        assert_eq!(missing("none.x").known, "no fields");
        assert_eq!(missing("upper.level.x"), Missing { walked: 2, known: "nothing inside it".to_owned() });
    }
}
