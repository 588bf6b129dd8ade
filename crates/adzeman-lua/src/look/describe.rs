//! A value in a line.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::host::{self, Aspect, Outline};
use adzeman_core::source::Line;
use adzeman_core::value::{Children, Kind, Preview, Value, WholeText};

use super::Shown;
use super::preview::{full_float, preview_table};
use super::userdata::{NO_TYPE_NAME, type_name_of};
use crate::dialect::{Dialect as _, Version};
use crate::ffi::proxy;
use crate::ffi::state::{State, Type};
use crate::text::{LANGUAGE, display_name};

/// Names of captured variables in a function's line.
const CAPTURES_NAMED: usize = 4;

/// What numbers are called, whole ones and others.
const NUMBERS: [&str; 2] = if Version::HAS_INTEGERS { ["integer", "float"] } else { ["number", "number"] };

impl Shown {
    /// The value at `index`, as shown.
    pub(crate) fn describe(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        let index = state.absolute(index);
        let plain = |kind, type_name: &str, preview: String| Ok(Value::plain(kind, type_name, preview));
        match state.type_at(index) {
            Type::Nil | Type::None => plain(Kind::Nil, "nil", "nil".to_owned()),
            Type::Boolean => plain(Kind::Boolean, "boolean", state.bool_at(index).to_string()),
            Type::Integer => plain(Kind::Integer, NUMBERS[0], state.integer_at(index).unwrap_or(0).to_string()),
            Type::Float => plain(Kind::Float, NUMBERS[1], full_float(state.float_at(index).unwrap_or(0.0))),
            Type::String => plain(Kind::String, "string", string_text(state, index)),
            Type::Table => self.describe_table(state, index),
            Type::Function => self.describe_function(state, index),
            Type::Thread => {
                let text = state.thread_at(index).map_or("coroutine".to_owned(), coroutine_text);
                let children = Some(Children { named_is_all: false, ..self.inside(state, index, 0, 1)? });
                Ok(Value { children, ..Value::plain(Kind::Coroutine, "coroutine", text) })
            }
            Type::Userdata | Type::LightUserdata => self.describe_userdata(state, index),
        }
    }

    fn describe_table(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        let mut preview = Preview::default();
        let counts = preview_table(state, index, &mut preview)?;
        let has_metatable = has_metatable(state, index);
        let named = counts.named + usize::from(has_metatable);
        let children = (counts.indexed + named > 0 || !counts.all)
            .then(|| self.inside(state, index, counts.indexed, named))
            .transpose()?
            .map(|children| Children { named_is_all: counts.all, ..children });
        let type_name = weak_mode(state, index)?.map_or("table".to_owned(), |mode| format!("table ({mode})"));
        Ok(Value { children, ..Value::plain(Kind::Table, &type_name, preview.finish()) })
    }

    fn describe_function(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        let mut captures = captured_names(state, index);
        captures.retain(|name| name != "_ENV");
        let children = (!captures.is_empty()).then(|| self.inside(state, index, 0, captures.len())).transpose()?;
        let mut text = function_text(state, index);
        if !captures.is_empty() {
            let more = if captures.len() > CAPTURES_NAMED { ", …" } else { "" };
            captures.truncate(CAPTURES_NAMED);
            text.push_str(&format!(", captures {}{more}", captures.join(", ")));
        }
        Ok(Value { children, ..Value::plain(Kind::Function, "function", text) })
    }

    fn describe_userdata(&self, state: State, index: c_int) -> Result<Value, EngineError> {
        if let Some(place) = proxy::place_at(state, index) {
            return Ok(host::describe(&self.host.outline(&place, Aspect::Itself)?, &place));
        }
        let name = type_name_of(state, index)?;
        let data = self.data_of(state, index);
        let preview = match &data {
            Some(Ok(data)) => host::preview(&Outline::of_data(data, Aspect::Itself)),
            Some(Err(why)) => format!("{name} ({why})"),
            None => error_of_binding(state, index, &name).unwrap_or_else(|| format!("{name} (a value of the host)")),
        };
        let has_inside = matches!(data, Some(Ok(_))) || has_metatable(state, index);
        let children = has_inside.then(|| self.inside(state, index, 0, 1)).transpose()?;
        let children = children.map(|children| Children { named_is_all: false, ..children });
        Ok(Value { children, ..Value::plain(Kind::Userdata, &name, preview) })
    }
}

impl Shown {
    /// The text of the value at `index` as the script would print it, as far as that runs nothing of the script.
    pub(crate) fn whole_text(&self, state: State, index: c_int) -> Result<WholeText, EngineError> {
        if let Some(text) = state.with_bytes(index, WholeText::cut) {
            return Ok(text);
        }
        if let Some(number) = state.number_text(index) {
            return Ok(WholeText::cut(number.as_bytes()));
        }
        if let Some(place) = proxy::place_at(state, index) {
            let data = self.host.get(&place)?;
            let text = format!("{data:#}");
            return Ok(WholeText::cut(text.as_bytes()));
        }
        if let Some(text) = binding_text(state, index)? {
            return Ok(WholeText::cut(text.as_bytes()));
        }
        self.preview(state, index).map(|(_, preview)| WholeText::cut(preview.as_bytes()))
    }
}

/// The text of an error that a function of the host has raised: the binding's own kind of value, which is of no named type.
fn binding_text(state: State, index: c_int) -> Result<Option<String>, EngineError> {
    let is_named = type_name_of(state, index)? != NO_TYPE_NAME;
    Ok(if is_named { None } else { state.native_text_at(index) })
}

/// The first line of such an error, in a line.
fn error_of_binding(state: State, index: c_int, name: &str) -> Option<String> {
    let text = binding_text(state, index).ok()??;
    let mut preview = Preview::default();
    preview.text_or_bytes(text.lines().next()?.as_bytes());
    Some(format!("{name} with the text {}", preview.finish()))
}

fn string_text(state: State, index: c_int) -> String {
    let mut preview = Preview::default();
    let length = state.with_bytes(index, |bytes| {
        preview.text_or_bytes(bytes);
        bytes.len()
    });
    let is_cut = preview.is_full();
    let mut text = preview.finish();
    if is_cut {
        text.push_str(&format!(" ({} bytes)", length.unwrap_or(0)));
    }
    text
}

pub(super) fn has_metatable(state: State, index: c_int) -> bool {
    let has = state.push_metatable(index);
    if has {
        state.pop(1);
    }
    has
}

/// Which references of a table do not keep what they lead to alive (Lua reference manual, 2.5.4).
fn weak_mode(state: State, index: c_int) -> Result<Option<&'static str>, EngineError> {
    let top = state.top();
    let mut mode = None;
    if state.push_metatable(index) {
        state.raw_get_field(-1, "__mode")?;
        mode = state.with_bytes(-1, |mode| (mode.contains(&b'k'), mode.contains(&b'v')));
    }
    state.cut_to(top);
    Ok(match mode {
        Some((true, true)) => Some("weak keys and values"),
        Some((true, false)) => Some("weak keys"),
        Some((false, true)) => Some("weak values"),
        _ => None,
    })
}

pub(crate) fn captured_names(state: State, index: c_int) -> Vec<String> {
    let mut names = Vec::new();
    if state.is_native_function(index) {
        return names;
    }
    while let Some(name) = state.push_captured(index, names.len() + 1) {
        state.pop(1);
        names.push(name);
    }
    names
}

fn function_text(state: State, index: c_int) -> String {
    let info = state.function_info(index);
    match Line::new(info.first_line) {
        _ if info.is_native => "function of the host or of Lua's library".to_owned(),
        Some(line) => format!("function at {}:{line}", display_name(&info.chunk_name)),
        None => format!("{} {}", LANGUAGE.whole_script, display_name(&info.chunk_name)),
    }
}

fn coroutine_text(coroutine: State) -> String {
    let place = (0..coroutine.depth()).find_map(|level| {
        let info = coroutine.level(level)?.info();
        Some(format!(" at {}:{}", display_name(&info.chunk_name), info.current_line?))
    });
    let status = if coroutine.is_suspended() {
        "suspended"
    } else if coroutine.depth() > 0 {
        "active"
    } else if coroutine.top() > 0 {
        "not started"
    } else {
        "finished"
    };
    format!("coroutine, {status}{}", place.unwrap_or_default())
}
