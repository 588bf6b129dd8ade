//! Host objects: pieces of host state opened for inspection by serde.

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use super::access::{Access, Look, ObjectRef, Seen, access_by_look};
use super::change::{NotChanged, change_part};
use super::{About, Aspect, ByFunctions, Data, Extent, HostError, Outline, SharedObject};
use crate::path::{Notation, Path};

/// How the part at a path of a state gets another value.
type Change<S> = dyn Fn(&mut S, &Path, Json) -> Result<(), NotChanged> + Send + Sync;

/// A named piece of host state.
pub struct HostObject {
    name: String,
    about: About,
    access: Box<dyn Access + Send + Sync>,
}

/// State behind a handle that threads share.
struct Opened<O: SharedObject> {
    object: O,
    change: Option<Box<Change<O::State>>>,
}

impl<O> Opened<O>
where
    O: SharedObject,
    O::State: Serialize,
{
    fn look(&self, look: &Look<'_>) -> Option<Seen> {
        self.object.with(|state| look.at(state))
    }
}

access_by_look!({O} Opened<O> where {O: SharedObject, O::State: Serialize} {
    fn is_editable(&self) -> bool {
        self.change.is_some()
    }

    fn change(&self, path: &Path, value: Json) -> Option<Result<(), NotChanged>> {
        let change = self.change.as_ref()?;
        self.object.with_mut(|state| change(state, path, value))
    }
});

impl HostObject {
    /// For looking only.
    #[must_use]
    pub fn read_only<O>(name: &str, object: O) -> Self
    where
        O: SharedObject,
        O::State: Serialize,
    {
        Self::of(name, object, None)
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
        O: SharedObject,
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
        O: SharedObject,
        O::State: Serialize + DeserializeOwned,
    {
        let change = move |state: &mut O::State, path: &Path, value: Json| change_part(state, path, value, &check);
        Self::of(name, object, Some(Box::new(change)))
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
        O: SharedObject,
        O::State: Serialize,
    {
        let change = move |state: &mut O::State, path: &Path, value: Json| {
            change(state, path, value).map_err(NotChanged::Refused)
        };
        Self::of(name, object, Some(Box::new(change)))
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
        Self { name: name.to_owned(), about: About::default(), access: Box::new(functions) }
    }

    fn of<O>(name: &str, object: O, change: Option<Box<Change<O::State>>>) -> Self
    where
        O: SharedObject,
        O::State: Serialize,
    {
        Self { name: name.to_owned(), about: About::default(), access: Box::new(Opened { object, change }) }
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
        self.access.is_editable()
    }

    /// The object as it is looked at.
    #[must_use]
    pub fn look(&self) -> ObjectRef<'_> {
        ObjectRef { name: &self.name, about: &self.about, access: &*self.access }
    }

    /// See [`ObjectRef::get`].
    ///
    /// # Errors
    /// Those of it.
    pub fn get(&self, path: &Path, notation: Notation) -> Result<Data, HostError> {
        self.look().get(path, notation)
    }

    /// See [`ObjectRef::bare`].
    ///
    /// # Errors
    /// Those of it.
    pub fn bare(&self, path: &Path, notation: Notation) -> Result<Data, HostError> {
        self.look().bare(path, notation)
    }

    /// See [`ObjectRef::outline`].
    ///
    /// # Errors
    /// Those of it.
    pub fn outline(&self, path: &Path, aspect: Aspect, notation: Notation) -> Result<Outline, HostError> {
        self.look().outline(path, aspect, notation)
    }

    /// See [`ObjectRef::change`].
    ///
    /// # Errors
    /// Those of it.
    pub fn change(&self, path: &Path, value: Json, notation: Notation) -> Result<(), HostError> {
        self.look().change(path, value, notation)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, HashSet};
    use std::sync::atomic::{AtomicUsize, Ordering::SeqCst};
    use std::sync::{Arc, Mutex};

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
