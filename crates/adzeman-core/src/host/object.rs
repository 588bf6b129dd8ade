//! Host objects: pieces of host state opened for inspection by serde.

use std::sync::Arc;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use super::change::{Changed, NotChanged};
use super::{
    About, Aspect, ByFunctions, Data, Extent, HostError, Outline, SharedObject, at, describe, outline, pick, to_data,
};
use crate::path::{Notation, Path, Root, TreePath};

/// How a part is read, of the path from the object on; `None` where there is nothing, or the object is in use.
type Pick = dyn Fn(&Path, Extent) -> Option<Json> + Send + Sync;
/// How a part is read as far as it is shown, likewise.
type Outlined = dyn Fn(&Path, Aspect) -> Option<Outline> + Send + Sync;
/// How the whole is read; `None` while the object is in use.
type Read = dyn Fn() -> Option<Result<Json, String>> + Send + Sync;
/// How the part at a path gets another value; `None` while the object is in use.
type Change = dyn Fn(&Path, Json) -> Option<Result<(), NotChanged>> + Send + Sync;

/// A named piece of host state.
pub struct HostObject {
    name: String,
    about: About,
    read: Box<Read>,
    pick: Box<Pick>,
    outline: Box<Outlined>,
    change: Option<Box<Change>>,
}

impl HostObject {
    /// For looking only.
    #[must_use]
    pub fn read_only<O>(name: &str, object: O) -> Self
    where
        O: SharedObject,
        O::State: Serialize,
    {
        let object = Arc::new(object);
        let read = {
            let object = object.clone();
            Box::new(move || object.with(|state| to_data(state).map_err(|error| error.to_string())))
        };
        let pick = {
            let object = object.clone();
            Box::new(move |path: &Path, extent: Extent| {
                object.with(|state| pick(state, path, extent).ok().flatten()).flatten()
            })
        };
        let outline = Box::new(move |path: &Path, aspect: Aspect| {
            object.with(|state| outline(state, path, aspect).ok().flatten()).flatten()
        });
        Self { name: name.to_owned(), about: About::default(), read, pick, outline, change: None }
    }

    /// For looking and changing.
    ///
    /// A change is made under one lock: the state is turned into data, the part is replaced, and the state is read back from
    /// that by the type's own `Deserialize`, so that the type has its say. Fields that serde skips keep what they hold in
    /// structs, and in structs in lists and boxes; in maps, options and variants of enums they are made anew, by their
    /// default. Where they matter, open the object by [`changed_by`](Self::changed_by). A change by which another part would
    /// become something else is refused.
    #[must_use]
    pub fn editable<O>(name: &str, object: O) -> Self
    where
        O: SharedObject + Clone,
        O::State: Serialize + DeserializeOwned,
    {
        Self::guarded(name, object, |_, _| Ok(()))
    }

    /// The same, with a last word of the host: `check` is shown the state as it is and as it would be, and may refuse with a
    /// reason.
    ///
    /// ```
    /// use adzeman_core::host::{HostError, HostObject};
    /// use adzeman_core::path::{Notation, Path};
    /// use std::sync::{Arc, Mutex};
    ///
    /// let depth = Arc::new(Mutex::new(2.0_f64));
    /// let object = HostObject::guarded("depth", depth, |_, wanted: &f64| {
    ///     if *wanted <= 6.0 { Ok(()) } else { Err("the walls are 6 m high".to_owned()) }
    /// });
    /// let error = object.change(&Path::default(), 7.0.into(), Notation::OF_DATA).unwrap_err();
    /// assert_eq!(error.to_string(), "the host does not let 'host.depth' become that: the walls are 6 m high");
    /// ```
    #[must_use]
    pub fn guarded<O>(
        name: &str,
        object: O,
        check: impl Fn(&O::State, &O::State) -> Result<(), String> + Send + Sync + 'static,
    ) -> Self
    where
        O: SharedObject + Clone,
        O::State: Serialize + DeserializeOwned,
    {
        let shared = object.clone();
        let change = move |path: &Path, value: Json| {
            shared.with_mut(|state| {
                let data = Changed::of(state, path, value)?;
                check(state, &data.state).map_err(NotChanged::Vetoed)?;
                data.put_into(state);
                Ok(())
            })
        };
        Self { change: Some(Box::new(change)), ..Self::read_only(name, object) }
    }

    /// For looking, and for changing by a function of the host: `change` is given the state, the path from the object on, and
    /// the new value of what that names. It changes that part only, or refuses with a reason and changes nothing.
    ///
    /// ```
    /// use adzeman_core::host::HostObject;
    /// use adzeman_core::path::{Notation, Path};
    /// use std::sync::{Arc, Mutex};
    ///
    /// let depth = Arc::new(Mutex::new(2.0_f64));
    /// let object = HostObject::changed_by("depth", depth.clone(), |depth: &mut f64, _, value| {
    ///     *depth = value.as_f64().ok_or("it is a number of metres")?;
    ///     Ok(())
    /// });
    /// object.change(&Path::default(), 2.5.into(), Notation::OF_DATA).unwrap();
    /// assert_eq!(*depth.lock().unwrap(), 2.5);
    /// ```
    #[must_use]
    pub fn changed_by<O>(
        name: &str,
        object: O,
        change: impl Fn(&mut O::State, &Path, Json) -> Result<(), String> + Send + Sync + 'static,
    ) -> Self
    where
        O: SharedObject + Clone,
        O::State: Serialize,
    {
        let shared = object.clone();
        let change = move |path: &Path, value: Json| {
            shared.with_mut(|state| change(state, path, value).map_err(NotChanged::Refused))
        };
        Self { change: Some(Box::new(change)), ..Self::read_only(name, object) }
    }

    /// By functions of the host, for state that serde does not know. It can be changed where they can
    /// ([`ByFunctions::with_set`]).
    ///
    /// ```
    /// use adzeman_core::host::{ByFunctions, HostObject, Inside};
    /// use adzeman_core::path::{Notation, Path};
    ///
    /// let depths = |path: &Path| match path.display(Notation::OF_DATA).as_str() {
    ///     "" => Some(Inside::Fields(vec!["upper".to_owned(), "lower".to_owned()])),
    ///     "upper" => Some(Inside::Value(4.5.into())),
    ///     "lower" => Some(Inside::Value(2.0.into())),
    ///     _ => None,
    /// };
    /// let object = HostObject::by_functions("depths", ByFunctions::new(depths));
    /// let all = object.get(&Path::default(), Notation::OF_DATA).unwrap();
    /// assert_eq!(all.to_string(), r#"{"lower":2.0,"upper":4.5}"#);
    /// ```
    #[must_use]
    pub fn by_functions(name: &str, functions: ByFunctions) -> Self {
        match functions.set.clone() {
            Some(set) => Self::changed_by(name, functions, move |_, path, value| set(path, value)),
            None => Self::read_only(name, functions),
        }
    }

    /// Says what its parts are, and which are secret.
    #[must_use]
    pub fn with_about(mut self, about: About) -> Self {
        self.about = about;
        self
    }

    /// Its name, the first part of every path into it.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// What is said of its parts.
    #[must_use]
    pub fn about(&self) -> &About {
        &self.about
    }

    /// Whether it can be changed.
    #[must_use]
    pub fn is_editable(&self) -> bool {
        self.change.is_some()
    }

    /// The part at a path from the object on, without what is secret. Only that part is turned into data.
    ///
    /// # Errors
    /// [`HostError::Secret`], [`HostError::NoField`], [`HostError::Busy`] while the host holds its lock, or
    /// [`HostError::Unreadable`] when serde fails.
    pub fn get(&self, path: &Path, notation: Notation) -> Result<Data, HostError> {
        self.part(path, Extent::Whole, notation)
    }

    /// The same, with nothing inside: a list or an object is empty. However large it is, only the path is visited.
    ///
    /// # Errors
    /// As [`get`](Self::get).
    pub fn bare(&self, path: &Path, notation: Notation) -> Result<Data, HostError> {
        self.part(path, Extent::Bare, notation)
    }

    /// The same as far as it is shown: however large it is, only the path is visited, and what is shown.
    ///
    /// # Errors
    /// As [`get`](Self::get).
    pub fn outline(&self, path: &Path, aspect: Aspect, notation: Notation) -> Result<Outline, HostError> {
        if self.about.is_secret(path) {
            return Err(HostError::Secret { path: self.place(path).display(notation) });
        }
        let outline = match (self.outline)(path, aspect) {
            Some(outline) => outline,
            None => Outline::of_data(&self.missing(path, notation)?.into(), aspect),
        };
        Ok(self.about.sealed_outline(path, outline))
    }

    fn part(&self, path: &Path, extent: Extent, notation: Notation) -> Result<Data, HostError> {
        if self.about.is_secret(path) {
            return Err(HostError::Secret { path: self.place(path).display(notation) });
        }
        let part = match (self.pick)(path, extent) {
            Some(part) => part,
            None => self.missing(path, notation)?,
        };
        Ok(self.about.sealed(path, part))
    }

    /// What is there instead of what a path names; the part itself, if it has come meanwhile.
    fn missing(&self, path: &Path, notation: Notation) -> Result<Json, HostError> {
        let segments = path.segments();
        for walked in (0..segments.len()).rev() {
            let (before, behind) = segments.split_at(walked);
            let before: Path = before.iter().cloned().collect();
            if let Some(names) = (self.pick)(&before, Extent::Names) {
                let next: Path = behind.iter().take(1).cloned().collect();
                let skipped = TreePath { root: Root::Host, path: before.under(&self.name) };
                let place = TreePath {
                    path: skipped.path.segments().iter().chain(next.segments()).cloned().collect(),
                    ..skipped
                };
                at(&names, &place, walked + 1, notation)?;
                break;
            }
        }
        // It is in use, cannot be read, or has come meanwhile.
        at(&self.whole(notation)?, &self.place(path), 1, notation).cloned()
    }

    /// Gives the part at a path another value.
    ///
    /// # Errors
    /// [`HostError::ReadOnly`], [`HostError::Secret`], [`HostError::NoField`], [`HostError::Busy`], [`HostError::Refused`] with
    /// what was expected, or [`HostError::Vetoed`]. Nothing is changed then.
    pub fn change(&self, path: &Path, value: Json, notation: Notation) -> Result<(), HostError> {
        let place = self.place(path);
        let shown = || place.display(notation);
        let Some(change) = &self.change else {
            return Err(HostError::ReadOnly { path: self.place(&Path::default()).display(notation) });
        };
        if self.about.is_secret(path) {
            return Err(HostError::Secret { path: shown() });
        }
        if self.about.hides_within(path) {
            let why = "parts of it are secret, and would be lost; change its other parts one by one".to_owned();
            return Err(HostError::Refused { path: shown(), why });
        }
        match change(path, value) {
            None => Err(HostError::Busy { path: shown() }),
            Some(Ok(())) => Ok(()),
            Some(Err(NotChanged::Unreadable(why))) => Err(HostError::Unreadable { path: shown(), why }),
            Some(Err(NotChanged::Vetoed(why))) => Err(HostError::Vetoed { path: shown(), why }),
            Some(Err(NotChanged::NotThere)) => self.get(path, notation).and(Err(HostError::Busy { path: shown() })),
            Some(Err(NotChanged::Refused(why))) => {
                let held = self.outline(path, Aspect::Itself, notation).map(|held| describe(&held, &place));
                let now = held.map(|held| format!("; it holds {} ({}) now", held.preview, held.type_name));
                Err(HostError::Refused { path: shown(), why: why + &now.unwrap_or_default() })
            }
        }
    }

    fn whole(&self, notation: Notation) -> Result<Json, HostError> {
        let path = || self.place(&Path::default()).display(notation);
        let read = (self.read)().ok_or_else(|| HostError::Busy { path: path() })?;
        read.map_err(|why| HostError::Unreadable { path: path(), why })
    }

    fn place(&self, path: &Path) -> TreePath {
        TreePath { root: Root::Host, path: path.under(&self.name) }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, HashSet};
    use std::sync::Mutex;
    use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};

    use serde::Deserialize;
    use serde_json::json;

    use super::*;

    #[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
    struct Lock {
        level: f64,
        #[serde(skip)]
        handle: u32,
        boats: Vec<Boat>,
        marks: HashSet<String>,
        by_name: BTreeMap<String, Boat>,
    }

    #[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
    struct Boat {
        length: u8,
        #[serde(skip)]
        seen: u32,
    }

    fn lock() -> Lock {
        let boat = Boat { length: 12, seen: 5 };
        let marks = (0..50).map(|number| format!("mark {number}")).collect();
        Lock { level: 1.5, handle: 7, boats: vec![boat.clone(); 3], marks, by_name: [("a".to_owned(), boat)].into() }
    }

    fn change(object: &HostObject, path: &str, value: Json) -> Result<(), String> {
        let path = Path::parse(path, Notation::OF_DATA).unwrap();
        object.change(&path, value, Notation::OF_DATA).map_err(|error| error.to_string())
    }

    #[test]
    fn a_change_is_of_the_part_that_is_named() {
        let state = Arc::new(Mutex::new(lock()));
        let object = HostObject::editable("lock", state.clone());
        let mut expected = lock();
        change(&object, "level", json!(2.5)).unwrap();
        expected.level = 2.5;
        change(&object, "boats[1].length", json!(30)).unwrap();
        expected.boats[1].length = 30;
        #[cfg(feature = "keep-skipped")]
        {
            // In a map, what serde skips is made anew.
            expected.by_name.get_mut("a").unwrap().seen = 0;
            assert_eq!(*state.lock().unwrap(), expected);
        }
        let refused = [
            (
                "level",
                json!("high"),
                "'host.lock.level' does not take that value: invalid type: string \"high\", expected f64; it holds 2.5 (float) now",
            ),
            ("lvl", json!(1), "'host.lock' has no 'lvl'; it has boats, by_name, level, marks"),
            ("boats[3].length", json!(1), "'host.lock.boats' has no '[3]'; it has 3 elements"),
            ("handle", json!(1), "'host.lock' has no 'handle'; it has boats, by_name, level, marks"),
        ];
        for (path, value, why) in refused {
            assert_eq!(change(&object, path, value), Err(why.to_owned()));
        }
        assert_eq!(state.lock().unwrap().level, 2.5, "and nothing was changed");
    }

    /// A type with a mind of its own: a level above 3 closes the gate.
    #[derive(Clone, Serialize, Deserialize)]
    #[serde(from = "Raw")]
    struct Gate {
        level: f64,
        is_open: bool,
    }

    #[derive(Deserialize)]
    struct Raw {
        level: f64,
        is_open: bool,
    }

    impl From<Raw> for Gate {
        fn from(raw: Raw) -> Self {
            Self { level: raw.level.min(6.0), is_open: raw.is_open && raw.level <= 3.0 }
        }
    }

    #[test]
    fn what_would_change_another_part_is_refused() {
        let state = Arc::new(Mutex::new(Gate { level: 2.0, is_open: true }));
        let object = HostObject::editable("gate", state.clone());
        let why = change(&object, "level", json!(4)).unwrap_err();
        assert!(why.contains("its part 'is_open' would become something else with it"), "{why}");
        change(&object, "is_open", json!(false)).unwrap();
        change(&object, "level", json!(40)).unwrap();
        assert_eq!(state.lock().unwrap().level, 6.0, "the part itself is what its type makes of it");
    }

    #[test]
    fn what_cannot_be_read_back_says_so_and_not_that_the_value_is_wrong() {
        let object = HostObject::editable("levels", Arc::new(Mutex::new((1.0, f64::NAN))));
        let why = change(&object, "[0]", json!(2.0)).unwrap_err();
        assert!(why.contains("it cannot be read back as it is"), "{why}");
    }

    /// Counts how often its state is lent.
    #[derive(Clone, Default)]
    struct Counted(Arc<Mutex<Lock>>, Arc<[AtomicUsize; 2]>);

    impl SharedObject for Counted {
        type State = Lock;

        fn with<R>(&self, look: impl FnOnce(&Lock) -> R) -> Option<R> {
            self.1[0].fetch_add(1, SeqCst);
            self.0.with(look)
        }

        fn with_mut<R>(&self, change: impl FnOnce(&mut Lock) -> R) -> Option<R> {
            self.1[1].fetch_add(1, SeqCst);
            self.0.with_mut(change)
        }
    }

    #[test]
    fn a_change_is_made_under_one_lock() {
        let state = Counted::default();
        let object = HostObject::guarded("lock", state.clone(), |_, _| Ok(()));
        change(&object, "level", json!(2.5)).unwrap();
        assert_eq!([0, 1].map(|at| state.1[at].load(SeqCst)), [0, 1]);
        let held = state.0.lock().unwrap();
        assert!(change(&object, "level", json!(3)).unwrap_err().contains("in use by the host"));
        drop(held);
    }

    #[test]
    fn secrets_are_neither_read_nor_written_nor_lost() {
        let state = Arc::new(Mutex::new(json!({"pin": 1234, "name": "upper"})));
        let object = HostObject::editable("lock", state.clone()).with_about(About::new("").secret("pin"));
        assert!(change(&object, "pin", json!(1)).unwrap_err().contains("kept secret"));
        assert!(change(&object, "", json!({})).unwrap_err().contains("would be lost"));
        change(&object, "name", json!("lower")).unwrap();
        assert_eq!(*state.lock().unwrap(), json!({"pin": 1234, "name": "lower"}));
    }
}
