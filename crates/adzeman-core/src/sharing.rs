//! Whether script states, and all that is known of them, may move between threads.
//!
//! Bindings to script runtimes have it as a choice of the application: with the feature `send`, states are locked, so that any
//! thread may run them, one at a time; without it they stay on the thread that made them, and nothing pays for a lock. What an
//! engine and its supervisor share follows that choice.

#[cfg(feature = "send")]
mod choice {
    use std::sync::{Arc, Weak};

    /// Something that an engine shares with whom it reports to.
    pub type Shared<T> = Arc<T>;
    /// The same, without keeping it.
    pub type SharedWeak<T> = Weak<T>;

    /// What may move between threads, and be looked at from several.
    pub trait MaySend: Send + Sync {}

    impl<T: ?Sized + Send + Sync> MaySend for T {}
}

#[cfg(not(feature = "send"))]
mod choice {
    use std::rc::{Rc, Weak};

    /// Something that an engine shares with whom it reports to.
    pub type Shared<T> = Rc<T>;
    /// The same, without keeping it.
    pub type SharedWeak<T> = Weak<T>;

    /// Anything at all: nothing moves between threads.
    pub trait MaySend {}

    impl<T: ?Sized> MaySend for T {}
}

pub use choice::{MaySend, Shared, SharedWeak};
