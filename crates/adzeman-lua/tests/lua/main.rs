//! The Lua engine through its public interface, on real scripts.

mod common;
mod evaluating;
mod looking;
mod stopping;
