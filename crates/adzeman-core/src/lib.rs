//! The computation behind Adzeman: what a breakpoint is and where it binds, when a context stops, what a step is, how
//! values and host objects look. No input or output, no thread, no clock, no script runtime.
//!
//! ```text
//!   engine ──── a line was reached ────▶ Decider ──── stop, and why ────▶ session
//!     ▲          (engine::Supervisor)    (decide)                            │
//!     │                                     ▲                                │ look, change, go
//!     │                       Armed: bound breakpoints by place              ▼
//!     │                                     ▲                         engine::Engine
//!     └── facts of each script ─▶ Sources ──┴── BreakpointStore        host::HostView
//!                                (source)       (breakpoint)             (values)
//! ```
//!
//! A step to the next line, without any script runtime, by the [`test_engine`]:
//!
//! ```
//! use adzeman_core::stepping::StepKind;
//! use adzeman_core::test_engine::{Run, TestEngine};
//!
//! let mut engine = TestEngine::new("steps", "fn main\n  x = 1\n  call work\n  y = 2\nfn work\n  z = 3\n");
//! let stops = engine.run("main", |stop| match stop.number {
//!     0 => Run::Step(StepKind::Over),
//!     1 => Run::Step(StepKind::Into),
//!     _ => Run::Freely,
//! });
//! assert_eq!(stops, [2, 3, 6], "line 2 at the start, line 3 over, line 6 into `work`");
//! ```
#![forbid(unsafe_code)]

pub mod breakpoint;
pub mod decide;
pub mod engine;
pub mod evaluation;
pub mod figures;
pub mod heap;
pub mod host;
pub mod monitor;
pub mod path;
pub mod plan;
pub mod profile;
pub mod sharing;
pub mod source;
pub mod stepping;
pub mod test_engine;
pub mod trail;
pub mod value;
