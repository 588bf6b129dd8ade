//! Where names are at places of exchanged bodies: what was found out once is so each time that the body is there. Of other functions
//! nothing is kept, since another one may come to lie where one was, and be the same but for the names.

use std::cell::RefCell;
use std::hash::{Hash as _, Hasher as _};

use rustc_hash::FxHasher;

use super::activation::Activation;
use super::hook::watch_of;
use super::layout::{self, Definition};

/// Names at places that are kept; more of them take each other's places.
const MOST: usize = 256;

/// Where a name is in a function that is at some instruction.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum NamePlace {
    /// A local variable, by its number.
    Local(i32),
    /// A captured one, by its number.
    Captured(usize),
    /// None of the function's.
    Elsewhere,
}

/// What was found out.
#[derive(Default)]
pub(super) struct Places(RefCell<Vec<Option<Known>>>);

struct Known {
    at: (Definition, usize),
    name: Box<str>,
    place: NamePlace,
}

/// The place of a name among those that are kept.
fn number(at: (Definition, usize), name: &str) -> usize {
    let mut hasher = FxHasher::default();
    (at.0.prototype, at.1, name).hash(&mut hasher);
    usize::try_from(hasher.finish() >> 40).unwrap_or(0) % MOST
}

impl Places {
    fn get(&self, at: (Definition, usize), name: &str) -> Option<NamePlace> {
        let held = self.0.borrow();
        let known = held.get(number(at, name))?.as_ref()?;
        (known.at == at && *known.name == *name).then_some(known.place)
    }

    fn note(&self, at: (Definition, usize), name: &str, place: NamePlace) {
        let mut held = self.0.borrow_mut();
        if held.is_empty() {
            held.resize_with(MOST, || None);
        }
        held[number(at, name)] = Some(Known { at, name: name.into(), place });
    }

    /// Forgets all: bodies may be gone.
    pub(super) fn forget(&self) {
        self.0.borrow_mut().clear();
    }
}

/// Where a function is: its definition, and the address of the instruction behind the one that it is at.
fn place_of(function: &Activation) -> Option<(Definition, usize)> {
    let definition = function.definition()?;
    // SAFETY: the layout is known where there is a definition, and the call is of a function written in Lua on its thread's stack.
    Some((definition, unsafe { layout::place_of_call(function.thread().raw(), function.record_of_call()) }))
}

/// Where a name is in the function at a level: for a body that reports its line, what is known of that place, or else what `find` finds,
/// which is kept if it finds anything.
pub(crate) fn name_place(
    (function, level): (&Activation, usize),
    name: &str,
    find: impl FnOnce() -> Option<NamePlace>,
) -> Option<NamePlace> {
    let state = function.thread();
    state.room(1);
    // SAFETY: states are looked at on their threads; the answer is used here alone, and there is room.
    let watch = unsafe { watch_of(state.raw()) };
    // What reports is the native function that the body calls.
    let watch = watch.filter(|watch| level == 1 && watch.at_line() == Some(false) && state == watch.running());
    let Some((watch, at)) = watch.zip(place_of(function)) else { return find() };
    watch.places.get(at, name).or_else(|| {
        let found = find()?;
        watch.places.note(at, name, found);
        Some(found)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_known_at_its_place_alone() {
        let definition = Definition { prototype: 0x10000, first_line: 3, source: 0x500 };
        let (places, at) = (Places::default(), (definition, 8));
        assert_eq!(places.get(at, "x"), None);
        places.note(at, "x", NamePlace::Local(2));
        assert_eq!(places.get(at, "x"), Some(NamePlace::Local(2)));
        let of_another = (Definition { first_line: 4, ..definition }, 8);
        assert_eq!(
            (places.get((definition, 12), "x"), places.get(of_another, "x"), places.get(at, "y")),
            (None, None, None)
        );
        places.forget();
        assert_eq!(places.get(at, "x"), None);
    }
}
