//! Sessions with a host that runs Lua scripts on a thread of its own, over the pipe within the process and over a real
//! socket. Each scenario runs on both.

mod breakpoints;
mod compiled;
mod conformance;
mod faults;
mod found;
mod going;
mod harness;
mod heap;
mod host_side;
mod hosted;
mod inspecting;
mod languages;
mod lent;
mod looking;
mod many;
mod monitoring;
#[cfg(feature = "send")]
mod moving;
mod numbers;
mod opened;
mod places;
mod raw;
mod reloading;
mod scenarios;
mod stepping;
mod survival;
#[cfg(feature = "async")]
mod tasks;
mod trail;
mod trust;
mod trying;
mod unnoticed;
#[path = "../../../adzeman-lua/tests/lua/versions.rs"]
mod versions;
