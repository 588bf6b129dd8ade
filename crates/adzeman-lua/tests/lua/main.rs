//! The Lua engine through its public interface, on real scripts.

mod common;
mod cutting;
mod errors;
mod evaluating;
mod exchanging;
mod ffi;
mod looking;
mod stopping;
mod unchanged;
