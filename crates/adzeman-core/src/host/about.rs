//! What a host says of its objects: what a part is, in which unit, which subject it belongs to, and what is secret.

use serde_json::Value as Json;

use super::{Path, Segment};

/// Shown in the place of what is secret.
pub const SECRET: &str = "(secret)";

/// Says what parts of a host object are. Parts are named by paths from the object on, in which `*` stands for any name or
/// number.
///
/// ```
/// use adzeman_core::host::{About, Path};
/// use serde_json::json;
///
/// let about = About::new("the flight of locks")
///     .measured("*.level", "water above the sill", "m")
///     .secret("*.pin")
///     .subject("*", "lock.*");
/// let path = |text| Path::parse(text, 0).unwrap();
/// assert_eq!(about.part(&path("upper.level")).unwrap().unit, "m");
/// assert_eq!(about.subject_of(&path("upper")).as_deref(), Some("lock.upper"));
/// assert!(about.is_secret(&path("upper.pin")));
///
/// let mut data = json!({"upper": {"level": 2.5, "pin": 1234}});
/// about.hide_secrets(&path(""), &mut data);
/// assert_eq!(data, json!({"upper": {"level": 2.5, "pin": "(secret)"}}));
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct About {
    /// What the object is, in a few words.
    pub doc: String,
    parts: Vec<AboutPart>,
    subjects: Vec<(Pattern, String)>,
}

/// What a host says of one part.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AboutPart {
    pattern: Pattern,
    /// What it is, in a few words.
    pub doc: String,
    /// What it is measured in, or nothing.
    pub unit: String,
    /// Whether it never leaves the host.
    pub is_secret: bool,
}

/// A path with `*` for any step.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Pattern(Vec<String>);

impl Pattern {
    fn new(text: &str) -> Self {
        let text = text.replace('[', ".").replace(']', "");
        Self(text.split('.').filter(|part| !part.is_empty()).map(str::to_owned).collect())
    }

    /// Whether as many steps of the path as this has are met.
    fn begins(&self, steps: &[Segment]) -> bool {
        self.0.iter().zip(steps).all(|(part, step)| match step {
            _ if part == "*" => true,
            Segment::Field(name) => part == name,
            Segment::Index(index) => *part == index.to_string(),
        })
    }

    fn is(&self, steps: &[Segment]) -> bool {
        self.0.len() == steps.len() && self.begins(steps)
    }
}

impl About {
    /// Says what the object is.
    #[must_use]
    pub fn new(doc: &str) -> Self {
        Self { doc: doc.to_owned(), ..Self::default() }
    }

    /// Says what a part is.
    #[must_use]
    pub fn field(self, path: &str, doc: &str) -> Self {
        self.measured(path, doc, "")
    }

    /// Says what a part is, and what it is measured in.
    #[must_use]
    pub fn measured(mut self, path: &str, doc: &str, unit: &str) -> Self {
        let (pattern, doc, unit) = (Pattern::new(path), doc.to_owned(), unit.to_owned());
        self.parts.push(AboutPart { pattern, doc, unit, is_secret: false });
        self
    }

    /// Keeps a part, with all that is in it, within the host: nobody who attaches sees it, or can change it.
    #[must_use]
    pub fn secret(mut self, path: &str) -> Self {
        let pattern = Pattern::new(path);
        self.parts.push(AboutPart { pattern, doc: String::new(), unit: String::new(), is_secret: true });
        self
    }

    /// Says which subject of events a part is; a `*` in the name stands for what it stands for in the path. A context of the
    /// same name belongs to the part too.
    #[must_use]
    pub fn subject(mut self, path: &str, name: &str) -> Self {
        self.subjects.push((Pattern::new(path), name.to_owned()));
        self
    }

    /// What was said of the part at a path.
    #[must_use]
    pub fn part(&self, path: &Path) -> Option<&AboutPart> {
        self.parts.iter().find(|part| !part.is_secret && part.pattern.is(path.segments()))
    }

    /// The subject that the part at a path is.
    #[must_use]
    pub fn subject_of(&self, path: &Path) -> Option<String> {
        let (pattern, name) = self.subjects.iter().find(|(pattern, _)| pattern.is(path.segments()))?;
        let star = pattern.0.iter().position(|part| part == "*").map(|at| match &path.segments()[at] {
            Segment::Field(name) => name.clone(),
            Segment::Index(index) => index.to_string(),
        });
        Some(name.replace('*', star.as_deref().unwrap_or("*")))
    }

    /// Whether the part at a path is secret, or inside one that is.
    #[must_use]
    pub fn is_secret(&self, path: &Path) -> bool {
        let steps = path.segments();
        self.secrets().any(|pattern| pattern.0.len() <= steps.len() && pattern.begins(steps))
    }

    /// Whether something inside the part at a path may be secret.
    #[must_use]
    pub fn hides_within(&self, path: &Path) -> bool {
        let steps = path.segments();
        self.secrets().any(|pattern| pattern.0.len() > steps.len() && pattern.begins(steps))
    }

    /// Replaces what is secret in the data of the part at `path`.
    pub fn hide_secrets(&self, path: &Path, data: &mut Json) {
        if self.is_secret(path) {
            *data = Json::String(SECRET.to_owned());
            return;
        }
        if !self.hides_within(path) {
            return;
        }
        match data {
            Json::Object(fields) => {
                fields
                    .iter_mut()
                    .for_each(|(name, data)| self.hide_secrets(&path.join(Segment::Field(name.clone())), data));
            }
            Json::Array(items) => {
                items
                    .iter_mut()
                    .enumerate()
                    .for_each(|(at, data)| self.hide_secrets(&path.join(Segment::Index(at)), data));
            }
            _ => {}
        }
    }

    fn secrets(&self) -> impl Iterator<Item = &Pattern> {
        self.parts.iter().filter(|part| part.is_secret).map(|part| &part.pattern)
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
    fn a_secret_holds_for_all_that_is_in_it_and_for_nothing_beside_it() {
        let about = About::new("").secret("crew[*].home").secret("key");
        for hidden in ["key", "key.bits[0]", "crew[7].home", "crew[7].home.street"] {
            assert!(about.is_secret(&path(hidden)), "{hidden}");
        }
        for open in ["", "keys", "crew", "crew[7]", "crew[7].name", "home"] {
            assert!(!about.is_secret(&path(open)), "{open}");
        }
        assert!(about.hides_within(&path("crew[2]")) && !about.hides_within(&path("keys")));
    }

    #[test]
    fn secrets_are_hidden_at_every_depth() {
        let about = About::new("").secret("crew[*].home");
        let whole = json!({"crew": [{"name": "Ada", "home": {"street": "Weir Lane"}}, {"home": 2}]});
        let mut data = whole.clone();
        about.hide_secrets(&path(""), &mut data);
        assert_eq!(data, json!({"crew": [{"name": "Ada", "home": SECRET}, {"home": SECRET}]}));
        let mut part = whole["crew"][0]["home"]["street"].clone();
        about.hide_secrets(&path("crew[0].home.street"), &mut part);
        assert_eq!(part, json!(SECRET));
    }
}
