//! Functions on the stack of a Lua thread, and what is known of functions.

use std::ffi::{CStr, c_int, c_void};
use std::{mem, ptr};

use super::api as ffi;

use super::layout;
use super::state::State;
use crate::dialect::{Dialect as _, Version};

/// What is known of a function on the stack or of one that is only held.
#[derive(Debug, Clone, Default)]
pub(crate) struct FunctionInfo {
    /// The name it was called by, as far as the caller's code tells.
    pub(crate) name: Option<String>,
    /// Whether it is written in C or Rust.
    pub(crate) is_native: bool,
    /// Whether it is a whole chunk.
    pub(crate) is_main: bool,
    /// Chunk name with its leading mark (`@`, `=` or none).
    pub(crate) chunk_name: String,
    /// Line being run, if known.
    pub(crate) current_line: Option<u32>,
    /// Line of the definition.
    pub(crate) first_line: u32,
    /// Last line of the definition.
    pub(crate) last_line: u32,
    /// Whether it was called by a tail call.
    pub(crate) tail_call: bool,
    /// How many parameters it names.
    pub(crate) parameters: i32,
    /// Whether it is called as a finalizer.
    pub(crate) is_finalizer: bool,
}

/// A function on the stack of a thread; valid while that thread does not run.
pub(crate) struct Activation {
    state: State,
    record: ffi::lua_Debug,
}

impl State {
    /// The function at `level`, counted from 0 at the innermost.
    pub(crate) fn level(self, level: usize) -> Option<Activation> {
        if Version::CALLS_ARE_NUMBERED && layout::is_known() {
            return self.numbered_level(level);
        }
        let level = c_int::try_from(level).ok()?;
        // SAFETY: an all-zero record is valid; the call fills it in for a level that is there.
        unsafe {
            let mut record = mem::zeroed::<ffi::lua_Debug>();
            (ffi::lua_getstack(self.raw(), level, &raw mut record) != 0).then_some(Activation { state: self, record })
        }
    }

    /// The same where the library counts calls that other ones took the place of.
    fn numbered_level(self, level: usize) -> Option<Activation> {
        // SAFETY: the layout is known, and the thread is live; the call at the bottom of its stack is of no function. An all-zero record is
        // valid.
        unsafe {
            let mut call = layout::current_call(self.raw());
            for _ in 0..level {
                if call.is_null() {
                    return None;
                }
                call = layout::call_below(self.raw(), call);
            }
            if call.is_null() || layout::call_below(self.raw(), call).is_null() {
                return None;
            }
            let mut record = mem::zeroed::<ffi::lua_Debug>();
            layout::set_call(self.raw(), &raw mut record, call);
            Some(Activation { state: self, record })
        }
    }

    /// The function that has called the one that runs, if it is written in Lua, as far as that is known: others are at no line.
    pub(crate) fn caller(self) -> Option<Activation> {
        if !layout::is_known() {
            return self.level(1);
        }
        self.call_of_caller().map(|(_, record)| Activation { state: self, record })
    }

    /// The definition of that function, and the line that it is at; nothing where definitions are not known.
    pub(crate) fn line_of_caller(self) -> Option<(layout::Definition, u32)> {
        if !layout::is_known() {
            return None;
        }
        let (definition, mut record) = self.call_of_caller()?;
        // SAFETY: the record is of a function on this thread's stack; `l` only fills in a field.
        unsafe { ffi::lua_getinfo(self.raw(), c"l".as_ptr(), &raw mut record) };
        Some((definition, u32::try_from(record.currentline).unwrap_or(0)))
    }

    /// The same with a record that is of that call, where the layout is known.
    #[inline]
    fn call_of_caller(self) -> Option<(layout::Definition, ffi::lua_Debug)> {
        // SAFETY: the layout is known, and the thread is live; the call at the bottom of its stack is of no function. An all-zero record is
        // valid.
        unsafe {
            let below = layout::call_below(self.raw(), layout::current_call(self.raw()));
            if below.is_null() || layout::call_below(self.raw(), below).is_null() {
                return None;
            }
            let definition = layout::definition_of(below)?;
            let mut record = mem::zeroed::<ffi::lua_Debug>();
            layout::set_call(self.raw(), &raw mut record, below);
            Some((definition, record))
        }
    }

    /// Shows the functions on the stack, from the innermost outwards, until `look` answers false. Each look at a
    /// [`level`](Self::level) walks there; this walks once.
    pub(crate) fn for_each_level(self, mut look: impl FnMut(usize, &mut Activation) -> bool) {
        if !layout::is_known() {
            let levels = (0..).map_while(|level| Some((level, self.level(level)?)));
            for (level, mut function) in levels {
                if !look(level, &mut function) {
                    return;
                }
            }
            return;
        }
        let Some(mut function) = self.level(0) else { return };
        for level in 0.. {
            // SAFETY: the record is of a function on this stack, which does not change while it is looked at, or is as it was
            // again afterwards; the one at the bottom is of none.
            let below = unsafe { layout::call_below(self.raw(), function.record_of_call()) };
            if !look(level, &mut function) {
                return;
            }
            // SAFETY: as above.
            unsafe {
                if below.is_null() || layout::call_below(self.raw(), below).is_null() {
                    return;
                }
                layout::set_call(self.raw(), &raw mut function.record, below);
            }
        }
    }

    /// How many functions are on the stack: doubling, then halving, since each look walks the stack.
    pub(crate) fn depth(self) -> usize {
        let (mut low, mut high) = (0, 1);
        while self.level(high - 1).is_some() {
            (low, high) = (high, high * 2);
        }
        while high - low > 1 {
            let middle = usize::midpoint(low, high);
            if self.level(middle - 1).is_some() { low = middle } else { high = middle }
        }
        low
    }

    /// What is known of the function at `index`.
    pub(crate) fn function_info(self, index: c_int) -> FunctionInfo {
        self.push_copy(index);
        // SAFETY: an all-zero record is valid; the function on top is popped by the call.
        let record = unsafe {
            let mut record = mem::zeroed::<ffi::lua_Debug>();
            ffi::lua_getinfo(self.raw(), c">S".as_ptr(), &raw mut record);
            record
        };
        // SAFETY: the call above filled in the fields of `S`.
        unsafe { read_record(&record, false) }
    }
}

impl Activation {
    /// Wraps the record that a hook was given.
    ///
    /// # Safety
    /// `record` is that of the function running on `state` at this moment.
    pub(super) unsafe fn of_hook(state: State, record: *const ffi::lua_Debug) -> Self {
        // SAFETY: given by the caller.
        Self { state, record: unsafe { ptr::read(record) } }
    }

    /// The thread that it runs on.
    pub(crate) fn thread(&self) -> State {
        self.state
    }

    pub(super) fn record_mut(&mut self) -> *mut ffi::lua_Debug {
        &raw mut self.record
    }

    /// What tells the call from others: equal for the same call, and used again for a later one at the same depth.
    pub(crate) fn call(&self) -> usize {
        // SAFETY: the record was filled in by Lua.
        unsafe { layout::identity_of(self.state.raw(), &raw const self.record) }
    }

    /// The engine's record of the call, which may lie elsewhere once anything was called.
    pub(super) fn record_of_call(&self) -> *const c_void {
        // SAFETY: the record was filled in by Lua.
        unsafe { layout::call_of(self.state.raw(), &raw const self.record) }
    }

    /// What tells the function's definition from others; `None` for one that is not written in Lua, or when the engine's
    /// records are not known.
    pub(crate) fn definition(&self) -> Option<layout::Definition> {
        // SAFETY: the layout is known, and the record is of a function on this thread's stack.
        layout::is_known().then(|| unsafe { layout::definition_of(self.record_of_call()) }).flatten()
    }

    /// What the function, at its return, hands back: the numbers of the first of these values, as of a local, and how many; nothing
    /// where that is not told.
    pub(crate) fn transferred(&self) -> Option<(c_int, c_int)> {
        let mut record = self.copy_record();
        // SAFETY: as in `info`; `r` only fills in fields.
        unsafe { ffi::lua_getinfo(self.state.raw(), c"r".as_ptr(), &raw mut record) };
        ffi::transferred(&record).or_else(|| self.results())
    }

    /// The same by the instruction that the function returns by, for one that is written in Lua.
    fn results(&self) -> Option<(c_int, c_int)> {
        self.definition()?;
        // SAFETY: the layout is known, and the call is of a function written in Lua on this thread's stack.
        let instruction = unsafe { layout::instruction_of_call(self.state.raw(), self.record_of_call()) };
        let (first, count) = Version::results(instruction)?;
        let first = c_int::try_from(first).ok()? + 1;
        let is_there = |number: &c_int| {
            let is_there = self.push_local(*number).is_some();
            if is_there {
                self.state.pop(1);
            }
            is_there
        };
        let count = match count {
            Some(count) => c_int::try_from(count).ok()?,
            // All that are left.
            None => c_int::try_from((first..).take_while(is_there).count()).ok()?,
        };
        Some((first, count))
    }

    fn copy_record(&self) -> ffi::lua_Debug {
        // SAFETY: the record is plain data without ownership.
        unsafe { ptr::read(&raw const self.record) }
    }

    pub(crate) fn info(&self) -> FunctionInfo {
        let mut record = self.copy_record();
        // SAFETY: the record is of a function on this thread's stack; `nSltu` pushes nothing and fills the fields read.
        unsafe {
            ffi::lua_getinfo(self.state.raw(), c"nSltu".as_ptr(), &raw mut record);
            let mut info = read_record(&record, true);
            if Version::CALLS_ARE_NUMBERED && layout::is_known() {
                let held = layout::details_of(self.record_of_call()).unwrap_or_default();
                (info.tail_call, info.parameters) = (held.is_tail_call, held.parameters);
            }
            info
        }
    }

    /// The line that it is at; 0 where that is not known.
    pub(crate) fn current_line(&self) -> u32 {
        let mut record = self.copy_record();
        // SAFETY: as in `info`; `l` only fills in a field.
        unsafe { ffi::lua_getinfo(self.state.raw(), c"l".as_ptr(), &raw mut record) };
        u32::try_from(record.currentline).unwrap_or(0)
    }

    /// Runs `look` on the chunk name, without copying it.
    pub(crate) fn with_chunk_name<T>(&self, look: impl FnOnce(&[u8]) -> T) -> T {
        let mut record = self.copy_record();
        // SAFETY: as in `info`; the name lives as long as the function, which is on the stack.
        let name = unsafe {
            ffi::lua_getinfo(self.state.raw(), c"S".as_ptr(), &raw mut record);
            ffi::chunk_name(&raw const record)
        };
        look(name)
    }

    /// Pushes the function itself.
    pub(crate) fn push_function(&self) {
        let mut record = self.copy_record();
        self.state.room(1);
        // SAFETY: as in `info`; there is room for the function.
        unsafe { ffi::lua_getinfo(self.state.raw(), c"f".as_ptr(), &raw mut record) };
    }

    /// Pushes the local variable `number` (from 1; extra arguments from -1 downwards) and answers its name.
    pub(crate) fn push_local(&self, number: c_int) -> Option<String> {
        self.state.room(1);
        if Version::CALLS_ARE_NUMBERED && number < 0 {
            // SAFETY: the record is of a function on the stack, and there is room.
            let is_there =
                layout::is_known() && unsafe { layout::push_extra(self.state.raw(), self.record_of_call(), -number) };
            return is_there.then(|| "(*vararg)".to_owned());
        }
        // SAFETY: the record is of a function on the stack and there is room; the name lives as long as the function.
        unsafe {
            let name = ffi::lua_getlocal(self.state.raw(), &raw const self.record, number);
            (!name.is_null()).then(|| CStr::from_ptr(name).to_string_lossy().into_owned())
        }
    }

    /// How many extra arguments it was given: doubling, then halving.
    pub(crate) fn varargs(&self) -> c_int {
        let has = |number: c_int| {
            let is_there = self.push_local(-number).is_some();
            if is_there {
                self.state.pop(1);
            }
            is_there
        };
        let (mut low, mut high) = (0, 1);
        while has(high) {
            (low, high) = (high, high * 2);
        }
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            if has(middle) { low = middle } else { high = middle }
        }
        low
    }

    /// The number of the last local variable of this name that is in scope.
    pub(crate) fn find_local(&self, name: &str) -> Option<c_int> {
        self.state.room(1);
        let mut found = None;
        for number in 1.. {
            // SAFETY: as in `push_local`; the value pushed is popped.
            let held = unsafe {
                let held = ffi::lua_getlocal(self.state.raw(), &raw const self.record, number);
                if held.is_null() {
                    break;
                }
                ffi::lua_settop(self.state.raw(), -2);
                CStr::from_ptr(held)
            };
            if held.to_bytes() == name.as_bytes() {
                found = Some(number);
            }
        }
        found
    }

    /// Gives the local variable `number` the value on top, which is popped.
    pub(crate) fn set_local(&self, number: c_int) {
        self.state.check(-1);
        if Version::CALLS_ARE_NUMBERED && number < 0 && layout::is_known() {
            // SAFETY: as below.
            return unsafe { layout::set_extra(self.state.raw(), self.record_of_call(), -number) };
        }
        // SAFETY: the record is of a function on the stack and the value is on top.
        unsafe { ffi::lua_setlocal(self.state.raw(), &raw const self.record, number) };
    }
}

/// Reads the fields that `lua_getinfo` filled in.
///
/// # Safety
/// The fields of `S`, and those of `nltu` when `active`, were filled in, and the function still lives.
unsafe fn read_record(record: &ffi::lua_Debug, active: bool) -> FunctionInfo {
    // SAFETY: given by the caller; the texts are of static or function lifetime and copied here.
    unsafe {
        let what = CStr::from_ptr(record.what).to_bytes();
        let source = ffi::chunk_name(record);
        FunctionInfo {
            name: (active && !record.name.is_null())
                .then(|| CStr::from_ptr(record.name).to_string_lossy().into_owned()),
            is_native: what == b"C",
            is_main: what == b"main",
            chunk_name: String::from_utf8_lossy(source).into_owned(),
            current_line: if active { u32::try_from(record.currentline).ok().filter(|line| *line > 0) } else { None },
            first_line: u32::try_from(record.linedefined).unwrap_or(0),
            last_line: u32::try_from(record.lastlinedefined).unwrap_or(0),
            tail_call: active && ffi::is_tail_call(record),
            is_finalizer: active
                && !record.namewhat.is_null()
                && CStr::from_ptr(record.namewhat).to_bytes() == b"metamethod"
                && !record.name.is_null()
                && CStr::from_ptr(record.name).to_bytes() == b"__gc",
            parameters: if active { ffi::parameters(record) } else { 0 },
        }
    }
}
