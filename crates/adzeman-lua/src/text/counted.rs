//! Hit rules that stand in scripts' texts as numbers: one numbering for the whole process, as bodies are made once for all states.

use std::cell::RefCell;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

use adzeman_core::breakpoint::Passing;

/// A breakpoint as the bodies of one text count it, by a number that no others have had.
#[derive(Debug)]
pub(crate) struct Counted {
    pub(crate) number: usize,
    passing: Passing,
}

struct All {
    last: usize,
    held: Vec<Weak<Counted>>,
}

static ALL: Mutex<All> = Mutex::new(All { last: 0, held: Vec::new() });

/// Those that a thread has counted last, by their numbers.
const KEPT: usize = 64;

thread_local! {
    static LAST: RefCell<[(usize, Option<Passing>); KEPT]> = const { RefCell::new([const { (0, None) }; KEPT]) };
}

fn all() -> MutexGuard<'static, All> {
    ALL.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Counted {
    /// For a breakpoint, under a new number.
    pub(crate) fn of(passing: &Passing) -> Arc<Self> {
        let mut all = all();
        all.held.retain(|held| held.strong_count() > 0);
        all.last += 1;
        let made = Arc::new(Self { number: all.last, passing: passing.clone() });
        all.held.push(Arc::downgrade(&made));
        made
    }

    /// Counts a time that the line of the breakpoint with this number is reached, if that is no hit; false where it has to be
    /// reported, or is not known any more.
    pub(crate) fn passes(number: usize) -> bool {
        LAST.with_borrow_mut(|last| {
            let (held, passing) = &mut last[number % KEPT];
            if *held != number {
                let found = all().held.iter().filter_map(Weak::upgrade).find(|held| held.number == number);
                (*held, *passing) = (number, found.map(|found| found.passing.clone()));
            }
            passing.as_ref().is_some_and(Passing::passes)
        })
    }
}
