//! Names and paths as a script uses them in a function: how they are written, and following them without running anything.

use std::ffi::c_int;

use adzeman_core::engine::EngineError;
use adzeman_core::path::{Notation, Path, Root, Segment};

use crate::dialect::{Dialect as _, Version};
use crate::environments;
use crate::ffi::hook;
use crate::ffi::places::{NamePlace, name_place};
use crate::ffi::state::{Slot, State, Type};
use crate::ffi::watch::Sees;
use crate::text::{LANGUAGE, number_of};

/// How paths are written in Lua: the first element of a list is 1.
pub(crate) const NOTATION: Notation = LANGUAGE.notation;

/// Why a path cannot be followed, watched or given a value.
pub(crate) fn cannot(name: &str, why: &str) -> EngineError {
    EngineError::NotAssignable { name: name.to_owned(), why: format!("{why}; give a name, or a table's field") }
}

/// Reads a path as it is written in Lua.
///
/// # Errors
/// [`EngineError::NotAssignable`], which says where it is none.
pub(crate) fn read(text: &str) -> Result<Path, EngineError> {
    let path = Path::parse(text.trim(), NOTATION);
    path.map_err(|error| cannot(text.trim(), &format!("{} at column {}", error.why, error.column)))
}

/// A function on a stack whose names an evaluation sees.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Target {
    pub(crate) state: State,
    pub(crate) level: usize,
}

/// Where a name of the script is.
pub(crate) enum Place {
    /// A local variable, by its number.
    Local(Target, i32),
    /// A captured variable, by its number.
    Captured(Target, usize),
    /// A variable that the compiler has removed; whether it is known what it was.
    Removed(bool),
    /// Nowhere nearer.
    Global,
}

/// Why a name is not told.
pub(crate) fn unclear(name: &str) -> EngineError {
    let why = "is a constant that the compiler has put in where it is used, and what it is here is not known: the line has more than one \
               of this name, or the text is not the one that runs";
    EngineError::Runtime(format!("'{name}' {why}"))
}

/// Why a removed variable gets no value.
pub(crate) fn constant(name: &str) -> EngineError {
    let why = "it is a constant, which the compiler has put in where it is used".to_owned();
    EngineError::NotAssignable { name: name.to_owned(), why }
}

/// Where a name is that a script uses in a frame.
pub(crate) fn place_of(target: Option<Target>, name: &str) -> Place {
    let Some((target, function)) = target.and_then(|target| Some((target, target.state.level(target.level)?))) else {
        return Place::Global;
    };
    let mut removed = None;
    let place = name_place((&function, target.level), name, || {
        removed = hook::push_removed(target.state, target.level, name);
        match removed {
            Some(is_known) => {
                target.state.pop(c_int::from(is_known));
                None
            }
            None => {
                let local = function.find_local(name).map(NamePlace::Local);
                let captured = || captured_number(target, name).map(NamePlace::Captured);
                Some(local.or_else(captured).unwrap_or(NamePlace::Elsewhere))
            }
        }
    });
    match place {
        Some(NamePlace::Local(number)) => Place::Local(target, number),
        Some(NamePlace::Captured(number)) => Place::Captured(target, number),
        Some(NamePlace::Elsewhere) => Place::Global,
        None => removed.map_or(Place::Global, Place::Removed),
    }
}

/// Makes the texts of the names that stand for the host's data.
///
/// # Errors
/// When the state has no memory left.
pub(crate) fn prepare(main: State) -> Result<(), EngineError> {
    main.push_table()?;
    for (number, root) in (1..).zip(Root::ALL) {
        main.push_integer(number);
        main.push_bytes(root.name().as_bytes())?;
        main.raw_set(-3)?;
    }
    main.set_slot(Slot::RootNames)
}

/// Whether scripts have made a global of this name.
pub(crate) fn is_global(main: State, target: Option<Target>, name: &str) -> bool {
    let root = Root::ALL.iter().position(|root| root.name() == name).and_then(|at| i64::try_from(at + 1).ok());
    if let (None, Some(root)) = (target, root) {
        return main.has_root_as_global(root);
    }
    let top = main.top();
    if push_globals_at(main, target).is_err() {
        main.cut_to(top);
        return false;
    }
    let pushed = match root {
        Some(number) => {
            main.push_slot(Slot::RootNames);
            main.raw_get_index(-1, number);
            main.remove(main.top() - 1);
            true
        }
        None => main.push_bytes(name.as_bytes()).is_ok(),
    };
    let found = pushed && {
        main.raw_get(-2);
        main.type_at(-1) != Type::Nil
    };
    main.cut_to(top);
    found
}

/// Whether a name can be assigned to without making a new global; also where it is not known which globals are meant, which the
/// assignment says.
pub(crate) fn is_known_name(main: State, target: Option<Target>, name: &str) -> bool {
    if !matches!(place_of(target, name), Place::Global) {
        return true;
    }
    let top = main.top();
    let is_unclear = push_globals_at(main, target).is_err();
    main.cut_to(top);
    is_unclear || is_global(main, target, name)
}

/// Pushes the value of a name that a script uses in a frame, without metamethods.
///
/// # Errors
/// When the state has no memory left.
pub(crate) fn push_raw_name(state: State, target: Option<Target>, name: &str) -> Result<(), EngineError> {
    match place_of(target, name) {
        Place::Local(at, number) => push_local(at, number, state),
        Place::Captured(at, number) => push_captured(at, number, state),
        Place::Removed(true) => push_removed(target, name, state),
        Place::Removed(false) => return Err(unclear(name)),
        Place::Global => {
            push_globals_at(state, target)?;
            state.raw_get_field(-1, name)?;
            state.remove(state.top() - 1);
        }
    }
    Ok(())
}

/// Pushes the table that holds the globals as a frame sees them.
///
/// # Errors
/// As [`push_environment_of`].
pub(crate) fn push_globals_at(state: State, target: Option<Target>) -> Result<(), EngineError> {
    let Some(target) = target else {
        state.push_globals();
        return Ok(());
    };
    push_environment_of(target, state)?;
    if state.type_at(-1) != Type::Table {
        state.pop(1);
        state.push_globals();
    }
    Ok(())
}

fn captured_number(target: Target, name: &str) -> Option<usize> {
    push_function_of(target);
    let found = target.state.find_captured(-1, name);
    target.state.pop(1);
    found
}

/// Pushes a local variable onto `state`.
pub(crate) fn push_local(target: Target, number: i32, state: State) {
    if let Some(function) = target.state.level(target.level) {
        function.push_local(number);
        target.state.move_to(state, 1);
    }
}

/// Pushes a captured variable onto `state`.
pub(crate) fn push_captured(target: Target, number: usize, state: State) {
    push_function_of(target);
    target.state.push_captured(-1, number);
    target.state.swap();
    target.state.pop(1);
    target.state.move_to(state, 1);
}

/// Pushes what a [removed](Place::Removed) variable was onto `state`.
pub(crate) fn push_removed(target: Option<Target>, name: &str, state: State) {
    match target.map(|target| (target.state, hook::push_removed(target.state, target.level, name))) {
        Some((from, Some(true))) => from.move_to(state, 1),
        _ => state.push_nil(),
    }
}

pub(crate) fn push_function_of(target: Target) {
    match target.state.level(target.level) {
        Some(function) => function.push_function(),
        None => target.state.push_nil(),
    }
}

/// Pushes what a function sees as `_ENV`, whatever that is; where it uses no globals, what the others of its source see.
///
/// # Errors
/// Where those do not see the same.
pub(crate) fn push_environment_of(target: Target, state: State) -> Result<(), EngineError> {
    if Version::ENVIRONMENTS_BESIDE {
        push_function_of(target);
        target.state.push_environment(-1);
        target.state.swap();
        target.state.pop(1);
        target.state.move_to(state, 1);
        return Ok(());
    }
    let function = target.state.level(target.level);
    match function.as_ref().and_then(hook::sees) {
        Some(Sees::Captured(number)) => {
            push_captured(target, number, state);
            return Ok(());
        }
        Some(Sees::Kept(number)) if environments::push_kept(state, number) => return Ok(()),
        _ => {}
    }
    match place_of(Some(target), "_ENV") {
        Place::Local(at, number) => push_local(at, number, state),
        Place::Captured(at, number) => {
            push_captured(at, number, state);
            function.iter().for_each(|function| hook::note_sees(function, Sees::Captured(number)));
        }
        Place::Removed(_) | Place::Global => match function.as_ref().map(|function| (function, function.info())) {
            Some((function, info)) if !info.is_native => {
                let number = environments::push(state, &info.chunk_name)?;
                hook::note_sees(function, Sees::Kept(number));
            }
            _ => state.push_globals(),
        },
    }
    Ok(())
}

pub(crate) fn push_varargs(target: Target, onto: State) -> i32 {
    let Some(function) = target.state.level(target.level) else { return 0 };
    let mut count = 0;
    while count < 200 && function.push_local(-count - 1).is_some() {
        target.state.move_to(onto, 1);
        count += 1;
    }
    count
}

/// Pushes what a path leads to, without metamethods.
///
/// # Errors
/// [`EngineError::NotAssignable`] where it begins with no name, or leads through what is no table.
pub(crate) fn push_raw_path(state: State, target: Option<Target>, path: &Path) -> Result<(), EngineError> {
    let shown = || path.display(NOTATION);
    let (name, rest) = path.split_name().ok_or_else(|| cannot(&shown(), "it begins with no name"))?;
    push_raw_name(state, target, name)?;
    for (walked, segment) in (1..).zip(rest.segments()) {
        if state.type_at(-1) != Type::Table {
            let table: Path = path.segments().iter().take(walked).cloned().collect();
            let why = format!("'{}' holds no table, so it has no fields", table.display(NOTATION));
            return Err(cannot(&shown(), &why));
        }
        push_key(state, target, segment)?;
        state.raw_get(-2);
        state.remove(state.top() - 1);
    }
    Ok(())
}

/// Pushes the key that a step of a path looks up.
///
/// # Errors
/// As [`push_raw_path`], for one that another path names.
pub(crate) fn push_key(state: State, target: Option<Target>, segment: &Segment) -> Result<(), EngineError> {
    match segment {
        Segment::Field(name) => state.push_bytes(name.as_bytes()),
        Segment::Index(index) => {
            state.push_integer(number_of(*index));
            Ok(())
        }
        Segment::At(path) => push_raw_path(state, target, path),
    }
}
