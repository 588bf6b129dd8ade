//! Panics, on whatever thread, whether caught or not: each is a fault.

use std::sync::{Mutex, Once, PoisonError};

static SEEN: Mutex<Vec<String>> = Mutex::new(Vec::new());

/// Notes every panic of this process from here on.
pub fn watch_panics() {
    static WATCHING: Once = Once::new();
    WATCHING.call_once(|| {
        let before = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            let thread = std::thread::current().name().unwrap_or("a thread").to_owned();
            SEEN.lock().unwrap_or_else(PoisonError::into_inner).push(format!("{thread}: {info}"));
            before(info);
        }));
    });
}

/// Those that were seen, each with its thread and place.
#[must_use]
pub fn panics() -> Vec<String> {
    SEEN.lock().unwrap_or_else(PoisonError::into_inner).clone()
}

/// Begins anew.
pub fn forget_panics() {
    SEEN.lock().unwrap_or_else(PoisonError::into_inner).clear();
}
