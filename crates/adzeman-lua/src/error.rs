//! Why a Lua state could not be watched.

use adzeman_core::engine::EngineError;
use thiserror::Error;

/// Why a Lua state could not be watched, or a script not be loaded.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum LuaError {
    /// From Lua, a syntax error for instance.
    #[error(transparent)]
    Lua(#[from] mlua::Error),
    /// From this engine.
    #[error(transparent)]
    Engine(#[from] EngineError),
}
