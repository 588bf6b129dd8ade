//! Values of a state that can be compared, out of it and into it.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;

use super::state::{State, Type};
use crate::text::conditions::Scalar;

/// The value at an index of a stack.
pub(crate) fn scalar_at(state: State, index: c_int) -> Option<Scalar> {
    Some(match state.type_at(index) {
        Type::Nil | Type::None => Scalar::Nil,
        Type::Boolean => Scalar::Boolean(state.bool_at(index)),
        Type::Integer => Scalar::Integer(state.integer_at(index)?),
        Type::Float => Scalar::Float(state.float_at(index)?),
        Type::String => Scalar::Text(state.with_bytes(index, <[u8]>::to_vec)?),
        _ => Scalar::Other,
    })
}

/// Pushes a value; nil for what is not known.
///
/// # Errors
/// When the state has no memory left.
pub(crate) fn push_scalar(state: State, value: &Scalar) -> Result<(), EngineError> {
    match value {
        Scalar::Nil | Scalar::Other => state.push_nil(),
        Scalar::Boolean(value) => state.push_bool(*value),
        Scalar::Integer(value) => state.push_integer(*value),
        Scalar::Float(value) => state.push_float(*value),
        Scalar::Text(bytes) => return state.push_bytes(bytes),
    }
    Ok(())
}
