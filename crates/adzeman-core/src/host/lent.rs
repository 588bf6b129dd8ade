//! Host state that is lent for the time of a handler: what the host has by `&mut`, or keeps in a cell, and no other thread sees.

use std::cell::RefCell;

use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value as Json;

use super::access::{Access, Look, Seen, access_by_look};
use super::change::{NotChanged, change_part};
use super::functions::AskedPart;
use super::{Aspect, Extent, Inside, Outline};
use crate::path::Path;

/// Some state that the host lends by this name. It may be looked at, and changed, while nobody has borrowed it; nothing waits for
/// that.
///
/// Several are lent as a tuple of up to four.
pub struct Lent<'a, A> {
    name: &'a str,
    access: A,
}

/// What is lent at a time: one [`Lent`], or a tuple of them.
pub trait Lending {
    /// Shows each, by its name.
    fn each(&self, show: &mut dyn FnMut(&str, &dyn Access));
}

impl<A: Access> Lending for Lent<'_, A> {
    fn each(&self, show: &mut dyn FnMut(&str, &dyn Access)) {
        show(self.name, &self.access);
    }
}

macro_rules! lending_of_tuples {
    ($(($($number:tt $each:ident)+))+) => {
        $(impl<$($each: Lending),+> Lending for ($($each,)+) {
            fn each(&self, show: &mut dyn FnMut(&str, &dyn Access)) {
                $(self.$number.each(show);)+
            }
        })+
    };
}

lending_of_tuples! {
    (0 A)
    (0 A 1 B)
    (0 A 1 B 2 C)
    (0 A 1 B 2 C 3 D)
}

/// State in a cell, for looking only.
pub struct Shown<'a, S>(&'a RefCell<S>);
/// State in a cell.
pub struct Kept<'a, S>(&'a RefCell<S>);
/// State that is borrowed for changing.
pub struct Borrowed<'a, 'b, S>(&'a RefCell<&'b mut S>);
/// State that functions know.
pub struct Asked<'a> {
    look: &'a dyn Fn(&Path) -> Option<Inside>,
    set: Option<&'a Set<'a>>,
}

type Set<'a> = dyn Fn(&Path, Json) -> Result<(), String> + 'a;

impl<'a, S: Serialize> Lent<'a, Shown<'a, S>> {
    /// What is in a cell, for looking only.
    pub fn to_look_at(name: &'a str, state: &'a RefCell<S>) -> Self {
        Self { name, access: Shown(state) }
    }
}

impl<'a, S: Serialize + DeserializeOwned> Lent<'a, Kept<'a, S>> {
    /// What is in a cell, such as one behind an `Rc`.
    pub fn of(name: &'a str, state: &'a RefCell<S>) -> Self {
        Self { name, access: Kept(state) }
    }
}

impl<'a, 'b, S: Serialize + DeserializeOwned> Lent<'a, Borrowed<'a, 'b, S>> {
    /// What the host has by `&mut`, in a cell for as long as it is lent.
    pub fn of_mut(name: &'a str, state: &'a RefCell<&'b mut S>) -> Self {
        Self { name, access: Borrowed(state) }
    }
}

impl<'a> Lent<'a, Asked<'a>> {
    /// State that serde does not know, by a function as [`ByFunctions`](super::ByFunctions) has it.
    pub fn by(name: &'a str, look: &'a dyn Fn(&Path) -> Option<Inside>) -> Self {
        Self { name, access: Asked { look, set: None } }
    }

    /// The same, with a function that gives the part at a path a new value, or refuses with a reason.
    #[must_use]
    pub fn with_set(self, set: &'a Set<'a>) -> Self {
        Self { access: Asked { set: Some(set), ..self.access }, ..self }
    }
}

impl<S: Serialize> Shown<'_, S> {
    fn look(&self, look: &Look<'_>) -> Option<Seen> {
        self.0.try_borrow().ok().map(|state| look.at(&*state))
    }
}

impl<S: Serialize> Kept<'_, S> {
    fn look(&self, look: &Look<'_>) -> Option<Seen> {
        Shown(self.0).look(look)
    }
}

impl<S: Serialize> Borrowed<'_, '_, S> {
    fn look(&self, look: &Look<'_>) -> Option<Seen> {
        self.0.try_borrow().ok().map(|state| look.at(&**state))
    }
}

impl Asked<'_> {
    fn look(&self, look: &Look<'_>) -> Option<Seen> {
        Some(look.at(&AskedPart::root(self.look)))
    }
}

access_by_look!({S} Shown<'_, S> where {S: Serialize} {});

access_by_look!({S} Kept<'_, S> where {S: Serialize + DeserializeOwned} {
    fn is_editable(&self) -> bool {
        true
    }

    fn change(&self, path: &Path, value: Json) -> Option<Result<(), NotChanged>> {
        let mut state = self.0.try_borrow_mut().ok()?;
        Some(change_part(&mut *state, path, value, |_, _| Ok(())))
    }
});

access_by_look!({S} Borrowed<'_, '_, S> where {S: Serialize + DeserializeOwned} {
    fn is_editable(&self) -> bool {
        true
    }

    fn change(&self, path: &Path, value: Json) -> Option<Result<(), NotChanged>> {
        let mut state = self.0.try_borrow_mut().ok()?;
        Some(change_part(&mut **state, path, value, |_, _| Ok(())))
    }
});

access_by_look!({} Asked<'_> where {} {
    fn is_editable(&self) -> bool {
        self.set.is_some()
    }

    fn change(&self, path: &Path, value: Json) -> Option<Result<(), NotChanged>> {
        Some(self.set?(path, value).map_err(NotChanged::Refused))
    }
});
