//! What a host says of its objects: what a part is, in which unit, which subject it belongs to, and what is secret.

use serde_json::Value as Json;

use super::{Data, Outline, Placed};
use crate::path::{Notation, Path, PathError, Segment};

/// Says what parts of a host object are. Parts are named by paths from the object on, in which `*` stands for any name or
/// number, and lists count from 0.
///
/// ```
/// use adzeman_core::host::{About, Data};
/// use adzeman_core::path::{Notation, Path};
/// use serde_json::json;
///
/// let about = About::new("the flight of locks")
///     .measured("*.level", "water above the sill", "m")
///     .secret("*.pin")
///     .subject("*", "lock.*");
/// let path = |text| Path::parse(text, Notation::OF_DATA).unwrap();
/// assert_eq!(about.part(&path("upper.level")).unwrap().unit, "m");
/// assert_eq!(about.subject_of(&path("upper")).as_deref(), Some("lock.upper"));
/// assert!(about.is_secret(&path("upper.pin")));
///
/// let shown = about.sealed(&path(""), json!({"upper": {"level": 2.5, "pin": 1234}}));
/// assert_eq!(path("upper.pin").walk(&shown), Ok(&Data::Secret));
/// ```
#[derive(Debug, Clone, Default, PartialEq)]
pub struct About {
    /// What the object is, in a few words.
    pub doc: String,
    parts: Vec<AboutPart>,
    subjects: Vec<(Pattern, String)>,
    usual: Vec<(Pattern, Json)>,
    placed: Vec<(Pattern, Placed)>,
    /// Texts that are no paths.
    mistakes: Vec<PathError>,
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
struct Pattern(Path);

/// The name that stands for any step in what is said of parts.
pub const ANY: &str = "*";

impl Pattern {
    fn steps(&self) -> &[Segment] {
        self.0.segments()
    }

    /// Whether as many steps of the path as this has are met.
    fn begins(&self, steps: &[Segment]) -> bool {
        self.steps().iter().zip(steps).all(|(part, step)| part == step || is_any(part))
    }

    fn is(&self, steps: &[Segment]) -> bool {
        self.steps().len() == steps.len() && self.begins(steps)
    }
}

fn is_any(part: &Segment) -> bool {
    matches!(part, Segment::Field(name) if name == ANY)
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
    pub fn measured(self, path: &str, doc: &str, unit: &str) -> Self {
        let (doc, unit) = (doc.to_owned(), unit.to_owned());
        self.with(path, |about, pattern| about.parts.push(AboutPart { pattern, doc, unit, is_secret: false }))
    }

    /// Keeps a part, with all that is in it, within the host: nobody who attaches sees it, or can change it.
    #[must_use]
    pub fn secret(self, path: &str) -> Self {
        let (doc, unit) = Default::default();
        self.with(path, |about, pattern| about.parts.push(AboutPart { pattern, doc, unit, is_secret: true }))
    }

    /// Says that a part is meant to be tried with other values, and which one is usual: what a person sets there is shown with how far
    /// from that it is.
    ///
    /// ```
    /// use adzeman_core::host::About;
    /// use adzeman_core::path::{Notation, Path};
    ///
    /// let about = About::new("the weather").measured("rain", "what falls", "mm/h").for_trying("rain", 2.0);
    /// let rain = Path::parse("rain", Notation::OF_DATA).unwrap();
    /// assert_eq!(about.usual(&rain), Some(&2.0.into()));
    /// ```
    #[must_use]
    pub fn for_trying(self, path: &str, usual: impl Into<Json>) -> Self {
        self.with(path, |about, pattern| about.usual.push((pattern, usual.into())))
    }

    /// Says which subject of events a part is; a `*` in the name stands for what it stands for in the path. A context of the
    /// same name belongs to the part too.
    #[must_use]
    pub fn subject(self, path: &str, name: &str) -> Self {
        self.with(path, |about, pattern| about.subjects.push((pattern, name.to_owned())))
    }

    /// Says where a part lies, for `plan`.
    #[must_use]
    pub fn placed(self, path: &str, placed: Placed) -> Self {
        let wrong = placed.check().err();
        let mut said = self.with(path, |about, pattern| about.placed.push((pattern, placed)));
        said.mistakes.extend(wrong);
        said
    }

    fn with(mut self, path: &str, add: impl FnOnce(&mut Self, Pattern)) -> Self {
        match Path::parse(path, Notation::OF_DATA) {
            Ok(path) => add(&mut self, Pattern(path)),
            Err(error) => self.mistakes.push(error),
        }
        self
    }

    /// Whether all that was said is of paths.
    ///
    /// # Errors
    /// The first text that is none.
    pub fn check(&self) -> Result<(), PathError> {
        self.mistakes.first().map_or(Ok(()), |mistake| Err(mistake.clone()))
    }

    /// What was said of the part at a path.
    #[must_use]
    pub fn part(&self, path: &Path) -> Option<&AboutPart> {
        self.parts.iter().find(|part| !part.is_secret && part.pattern.is(path.segments()))
    }

    /// The parts that have places: paths in which [`ANY`] stands for any step.
    pub fn places(&self) -> impl Iterator<Item = (&Path, &Placed)> {
        self.placed.iter().map(|(pattern, placed)| (&pattern.0, placed))
    }

    /// What is usual for the part at a path, if it is meant to be tried with other values.
    #[must_use]
    pub fn usual(&self, path: &Path) -> Option<&Json> {
        self.usual.iter().find(|(pattern, _)| pattern.is(path.segments())).map(|(_, usual)| usual)
    }

    /// The subject that the part at a path is.
    #[must_use]
    pub fn subject_of(&self, path: &Path) -> Option<String> {
        let (pattern, name) = self.subjects.iter().find(|(pattern, _)| pattern.is(path.segments()))?;
        let star = pattern.steps().iter().position(is_any).map(|at| match &path.segments()[at] {
            Segment::Field(name) => name.clone(),
            Segment::Index(index) => index.to_string(),
            Segment::At(inner) => inner.display(Notation::OF_DATA),
        });
        Some(name.replace('*', star.as_deref().unwrap_or("*")))
    }

    /// Whether the part at a path is secret, or inside one that is.
    #[must_use]
    pub fn is_secret(&self, path: &Path) -> bool {
        let steps = path.segments();
        self.secrets().any(|pattern| pattern.steps().len() <= steps.len() && pattern.begins(steps))
    }

    /// Whether something inside the part at a path may be secret.
    #[must_use]
    pub fn hides_within(&self, path: &Path) -> bool {
        let steps = path.segments();
        self.secrets().any(|pattern| pattern.steps().len() > steps.len() && pattern.begins(steps))
    }

    /// The data of the part at `path`, as it is shown.
    #[must_use]
    pub fn sealed(&self, path: &Path, data: Json) -> Data {
        if self.is_secret(path) {
            return Data::Secret;
        }
        if !self.hides_within(path) {
            return data.into();
        }
        match data {
            Json::Object(fields) => Data::Object(
                fields
                    .into_iter()
                    .map(|(name, data)| (name.clone(), self.sealed(&path.join(Segment::Field(name)), data)))
                    .collect(),
            ),
            Json::Array(items) => Data::List(
                (0..).zip(items).map(|(at, data)| self.sealed(&path.join(Segment::Index(at)), data)).collect(),
            ),
            plain => plain.into(),
        }
    }

    /// The outline of the part at `path`, as it is shown.
    #[must_use]
    pub fn sealed_outline(&self, path: &Path, outline: Outline) -> Outline {
        if self.is_secret(path) {
            return Outline::Plain(Data::Secret);
        }
        if !self.hides_within(path) {
            return outline;
        }
        match outline {
            Outline::Object(fields) => Outline::Object(fields.map(|(name, outline)| {
                let sealed = self.sealed_outline(&path.join(Segment::Field(name.clone())), outline);
                (name, sealed)
            })),
            Outline::List { first, items } => {
                let mut indices = i64::try_from(first).unwrap_or(i64::MAX)..;
                let mut sealed = |outline| {
                    let index = indices.next().unwrap_or(i64::MAX);
                    self.sealed_outline(&path.join(Segment::Index(index)), outline)
                };
                Outline::List { first, items: items.map(&mut sealed) }
            }
            plain @ Outline::Plain(_) => plain,
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
        Path::parse(text, Notation::OF_DATA).unwrap()
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
        let whole =
            json!({"crew": [{"name": "Ada", "home": {"street": "Weir Lane"}}, {"home": 2, "name": "(secret)"}]});
        let shown = about.sealed(&path(""), whole.clone());
        let of = |text| path(text).walk(&shown).unwrap();
        assert_eq!([of("crew[0].home"), of("crew[1].home")], [&Data::Secret; 2]);
        assert_eq!(of("crew[1].name"), &Data::Text("(secret)".to_owned()), "a text is only a text");
        let part = whole["crew"][0]["home"]["street"].clone();
        assert_eq!(about.sealed(&path("crew[0].home.street"), part), Data::Secret);
    }

    #[test]
    fn what_is_no_path_is_found_out() {
        assert_eq!(About::new("").secret("crew[*].home").field("[0].name", "").check(), Ok(()));
        let why = About::new("").field("level", "").secret("crew[*.home").check().unwrap_err();
        assert_eq!(why.to_string(), "'crew[*.home' is not a path: the bracket is not closed at column 12");
    }
}
