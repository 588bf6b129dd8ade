//! Which functions hold a breakpoint, asked at each call: remembered by definition, so that the answer is a comparison.

use super::layout::Definition;

/// Definitions remembered at one time; more of them take each other's places.
const ANSWERS: usize = 512;

#[derive(Debug, Clone, Copy, Default)]
struct Answer {
    definition: Definition,
    holds: bool,
}

/// The answers so far, for one set of breakpoints.
pub(crate) struct Gate {
    answers: Box<[Answer; ANSWERS]>,
}

impl Default for Gate {
    fn default() -> Self {
        Self { answers: Box::new([Answer::default(); ANSWERS]) }
    }
}

fn place_of(definition: &Definition) -> usize {
    definition.place() % ANSWERS
}

impl Gate {
    /// Whether the function holds a breakpoint, if that is known. A prototype that took the place of a freed one differs
    /// in its line or its source, or is the same definition compiled again.
    #[inline]
    pub(crate) fn holds(&self, definition: &Definition) -> Option<bool> {
        let answer = &self.answers[place_of(definition)];
        (answer.definition == *definition).then_some(answer.holds)
    }

    /// Notes an answer.
    pub(crate) fn note(&mut self, definition: Definition, holds: bool) {
        self.answers[place_of(&definition)] = Answer { definition, holds };
    }

    /// Forgets all answers: the breakpoints, or the sources, are others now.
    pub(crate) fn forget(&mut self) {
        self.answers.fill(Answer::default());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_for_one_definition_only() {
        let mut gate = Gate::default();
        let one = Definition { prototype: 0x10000, first_line: 3, source: 0x500 };
        let reused = Definition { first_line: 9, ..one };
        gate.note(one, true);
        assert_eq!((gate.holds(&one), gate.holds(&reused)), (Some(true), None));
        gate.note(reused, false);
        assert_eq!((gate.holds(&one), gate.holds(&reused)), (None, Some(false)));
        gate.forget();
        assert_eq!(gate.holds(&reused), None);
    }
}
