//! The Lua engine through its public interface, on real scripts. Supervisors here stay on their thread; states that move are tested with hosts.
#![cfg(not(feature = "send"))]

mod common;
mod conditions;
mod cutting;
mod errors;
mod evaluating;
mod exchanging;
mod ffi;
mod going;
mod heap;
mod hiding;
mod interrupting;
mod looking;
mod reloading;
mod stopping;
mod unchanged;
mod versions;
