//! What is known of functions, by their definitions: a small table, so that the answer is a comparison.

use std::cell::Cell;

use super::layout::Definition;

/// What was noted of some definition.
type Place<T> = Cell<Option<(Definition, T)>>;

/// What was noted of functions, of so many definitions at one time: more of them take each other's places. A prototype that took the
/// place of a freed one differs in its line or its source, or is the same definition compiled again.
pub(crate) struct ByDefinition<T, const PLACES: usize>(Box<[Place<T>]>);

impl<T: Copy, const PLACES: usize> Default for ByDefinition<T, PLACES> {
    fn default() -> Self {
        Self((0..PLACES).map(|_| Cell::new(None)).collect())
    }
}

impl<T: Copy, const PLACES: usize> ByDefinition<T, PLACES> {
    #[inline]
    fn place(&self, definition: &Definition) -> &Place<T> {
        // Prototypes are at least 128 bytes apart.
        &self.0[(definition.prototype >> 7 ^ definition.prototype >> 16) % PLACES]
    }

    /// What was noted of a definition.
    #[inline]
    pub(crate) fn get(&self, definition: &Definition) -> Option<T> {
        self.place(definition).get().filter(|(held, _)| held == definition).map(|(_, noted)| noted)
    }

    /// Notes something of a definition.
    pub(crate) fn note(&self, definition: Definition, noted: T) {
        self.place(&definition).set(Some((definition, noted)));
    }

    /// Forgets all that was noted.
    pub(crate) fn forget(&self) {
        self.0.iter().for_each(|place| place.set(None));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_noted_is_of_one_definition_only() {
        let known = ByDefinition::<bool, 64>::default();
        let one = Definition { prototype: 0x10000, first_line: 3, source: 0x500 };
        let reused = Definition { first_line: 9, ..one };
        known.note(one, true);
        assert_eq!((known.get(&one), known.get(&reused)), (Some(true), None));
        known.note(reused, false);
        assert_eq!((known.get(&one), known.get(&reused)), (None, Some(false)));
        known.forget();
        assert_eq!(known.get(&reused), None);
    }
}
