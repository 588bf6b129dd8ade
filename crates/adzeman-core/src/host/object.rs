//! Host objects: pieces of host state opened for inspection by serde.

use std::sync::{Arc, Mutex, RwLock, TryLockError};

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;
use thiserror::Error;

use super::{About, Path, pick, to_data};

/// Why a host object could not be read or changed.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum HostError {
    /// No object or field there.
    #[error("'{path}' has no '{name}'; it has {known}")]
    NoField {
        /// What was looked into.
        path: String,
        /// What is not there.
        name: String,
        /// What is.
        known: String,
    },
    /// The object was opened for looking only.
    #[error("'{path}' cannot be changed: the host opened it for looking only")]
    ReadOnly {
        /// The object.
        path: String,
    },
    /// The host holds the object's lock at this moment.
    #[error("'{path}' is in use by the host at this moment; stop at another line, or go on and try again")]
    Busy {
        /// The object.
        path: String,
    },
    /// The new value does not fit.
    #[error("'{path}' does not take that value: {why}")]
    Refused {
        /// What was to be changed.
        path: String,
        /// What was expected.
        why: String,
    },
    /// The host does not want it changed.
    #[error("the host does not let '{path}' become that: {why}")]
    Vetoed {
        /// What was to be changed.
        path: String,
        /// What the host said.
        why: String,
    },
    /// The host keeps it to itself.
    #[error("'{path}' is kept secret by the host")]
    Secret {
        /// What was asked for.
        path: String,
    },
    /// The object could not be turned into data.
    #[error("'{path}' could not be read: {why}")]
    Unreadable {
        /// The object.
        path: String,
        /// What serde said.
        why: String,
    },
}

/// A handle to shared host state. Implemented for `Arc<Mutex<T>>` and `Arc<RwLock<T>>`.
///
/// The state is locked only for the moment of the access, and never waited for: a host that calls a script while it
/// holds the lock gets no deadlock, the person at the prompt gets [`HostError::Busy`].
pub trait SharedObject: Send + Sync + 'static {
    /// The state.
    type State;
    /// Lends the state, unless someone has it.
    fn with<R>(&self, look: impl FnOnce(&Self::State) -> R) -> Option<R>;
    /// Lends the state for changing, unless someone has it.
    fn with_mut<R>(&self, change: impl FnOnce(&mut Self::State) -> R) -> Option<R>;
}

impl<T: Send + 'static> SharedObject for Arc<Mutex<T>> {
    type State = T;

    fn with<R>(&self, look: impl FnOnce(&T) -> R) -> Option<R> {
        self.with_mut(|state| look(state))
    }

    fn with_mut<R>(&self, change: impl FnOnce(&mut T) -> R) -> Option<R> {
        match self.try_lock() {
            Ok(mut state) => Some(change(&mut state)),
            Err(TryLockError::Poisoned(poisoned)) => Some(change(&mut poisoned.into_inner())),
            Err(TryLockError::WouldBlock) => None,
        }
    }
}

impl<T: Send + Sync + 'static> SharedObject for Arc<RwLock<T>> {
    type State = T;

    fn with<R>(&self, look: impl FnOnce(&T) -> R) -> Option<R> {
        match self.try_read() {
            Ok(state) => Some(look(&state)),
            Err(TryLockError::Poisoned(poisoned)) => Some(look(&poisoned.into_inner())),
            Err(TryLockError::WouldBlock) => None,
        }
    }

    fn with_mut<R>(&self, change: impl FnOnce(&mut T) -> R) -> Option<R> {
        match self.try_write() {
            Ok(mut state) => Some(change(&mut state)),
            Err(TryLockError::Poisoned(poisoned)) => Some(change(&mut poisoned.into_inner())),
            Err(TryLockError::WouldBlock) => None,
        }
    }
}

type Read = dyn Fn(&str) -> Result<Json, HostError> + Send + Sync;
type PickFrom = dyn Fn(&Path) -> Option<Json> + Send + Sync;
type Write = dyn Fn(&str, Json) -> Result<(), HostError> + Send + Sync;

/// A named piece of host state.
pub struct HostObject {
    /// Its name, the first part of every path into it.
    pub name: String,
    /// What is said of its parts.
    pub about: About,
    read: Box<Read>,
    pick: Box<PickFrom>,
    write: Option<Box<Write>>,
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
        let (read, pick) = (reader(object.clone()), picker(object));
        Self { name: name.to_owned(), about: About::default(), read, pick, write: None }
    }

    /// For looking and changing. A change is made by reading the whole object back from data, so every change is
    /// checked by the type's own `Deserialize`.
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
    /// use std::sync::{Arc, Mutex};
    ///
    /// let depth = Arc::new(Mutex::new(2.0_f64));
    /// let object = HostObject::guarded("depth", depth, |_, wanted: &f64| {
    ///     if *wanted <= 6.0 { Ok(()) } else { Err("the walls are 6 m high".to_owned()) }
    /// });
    /// let error = object.write("host.depth", 7.0.into()).unwrap_err();
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
        let write = {
            let object = object.clone();
            move |path: &str, data: Json| {
                let state = serde_json::from_value(data)
                    .map_err(|error| HostError::Refused { path: path.to_owned(), why: error.to_string() })?;
                let change = |held: &mut O::State| {
                    check(held, &state)
                        .map(|()| *held = state)
                        .map_err(|why| HostError::Vetoed { path: path.to_owned(), why })
                };
                object.with_mut(change).unwrap_or_else(|| Err(HostError::Busy { path: path.to_owned() }))
            }
        };
        Self { write: Some(Box::new(write)), ..Self::read_only(name, object) }
    }

    /// Says what its parts are, and which are secret.
    #[must_use]
    pub fn about(mut self, about: About) -> Self {
        self.about = about;
        self
    }

    /// Whether it can be changed.
    #[must_use]
    pub fn is_editable(&self) -> bool {
        self.write.is_some()
    }

    /// The whole object as data.
    ///
    /// # Errors
    /// [`HostError::Busy`] while the host holds its lock, [`HostError::Unreadable`] when serde fails.
    pub fn read(&self) -> Result<Json, HostError> {
        (self.read)(&self.name)
    }

    /// One part of it, without turning the rest into data; `None` when that cannot be done, so that [`read`](Self::read) has
    /// to say what there is.
    #[must_use]
    pub fn pick(&self, path: &Path) -> Option<Json> {
        (self.pick)(path)
    }

    /// Replaces the whole object; `path` is what the person changed, for the message.
    ///
    /// # Errors
    /// [`HostError::ReadOnly`], [`HostError::Busy`], or [`HostError::Refused`] with what was expected.
    pub fn write(&self, path: &str, data: Json) -> Result<(), HostError> {
        match &self.write {
            Some(write) => write(path, data),
            None => Err(HostError::ReadOnly { path: self.name.clone() }),
        }
    }
}

fn picker<O>(object: Arc<O>) -> Box<PickFrom>
where
    O: SharedObject,
    O::State: Serialize,
{
    Box::new(move |path| object.with(|state| pick(state, path).ok().flatten()).flatten())
}

fn reader<O>(object: Arc<O>) -> Box<Read>
where
    O: SharedObject,
    O::State: Serialize,
{
    Box::new(move |name| {
        let data = object.with(to_data);
        data.ok_or_else(|| HostError::Busy { path: name.to_owned() })?
            .map_err(|error| HostError::Unreadable { path: name.to_owned(), why: error.to_string() })
    })
}
