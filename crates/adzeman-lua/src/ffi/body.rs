//! Exchanging the bodies of functions: a closure gets another prototype, compiled from the same text with calls put in.
//!
//! Nothing is assumed of where prototypes and constants lie: [`layout::is_known`] has checked it for the library that runs.
//! What keeps this sound:
//!
//! - A prototype is only put in the place of one that it was paired with: the text compiled as it is gives a tree of
//!   prototypes of the same shape, and a function belongs to one of them when its code is the same, instruction by
//!   instruction ([`Body::is_same`]). So the number and order of captured variables agree.
//! - No function that is on a stack gets another body: its frame goes on in the code, constants and line numbers it began
//!   with. The caller leaves out all of those, on all threads.
//! - Prototypes themselves are never changed, but for the constants and the patches of filters put in before any function has
//!   them. A function that was left out and defines others gives them the bodies it knows; they are found like it when it has
//!   returned.
//! - A body that functions have is kept alive by the closure of its whole script in the registry, for as long as it is
//!   used. So the collector finds it whatever colour the closure has that points to it, and no barrier is needed.
//! - The collector is held while functions are walked.

use std::ffi::{c_int, c_void};
use std::marker::PhantomData;
use std::{ptr, slice};

use super::api as ffi;
use adzeman_core::engine::EngineError;

use super::activation::Activation;
use super::asked;
use super::hook::{self, watch_of};
use super::layout;
use super::leap;
use super::offered::ask;
use super::state::{Slot, State};
use crate::dialect::natives::Natives;
use crate::dialect::patches::Patch;
use crate::dialect::{Dialect as _, Version};

/// A prototype that is alive for as long as this is: a tree, or a function on a stack, holds it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Body<'a>(usize, PhantomData<&'a Tree>);

/// A whole script compiled: its prototypes, outer ones first, kept alive under a number in the registry.
#[derive(Debug)]
pub(crate) struct Tree {
    /// The addresses of the prototypes, alive until the tree is [released](Self::release).
    bodies: Vec<usize>,
    /// For each, the positions of those defined directly inside it.
    inside: Vec<Vec<usize>>,
    /// Their positions by the lines of their definitions, in order.
    by_lines: Vec<((usize, usize), usize)>,
    /// Address of the function that keeps it alive, which must keep its body itself.
    pub(crate) root: usize,
    anchor: i64,
}

unsafe fn read<T>(from: usize, offset: usize) -> T {
    // SAFETY: given by the callers: `from` is a live prototype or closure, and the offset one of those that were checked.
    unsafe { ptr::read((from as *const c_void).byte_add(offset).cast()) }
}

/// Lends the body of the Lua function at `index`, which stays there meanwhile; `None` for a native one.
pub(crate) fn with_body<T>(state: State, index: c_int, look: impl FnOnce(Body<'_>) -> T) -> Option<T> {
    if state.is_native_function(index) {
        return None;
    }
    // SAFETY: the layout is known, and a Lua closure holds a prototype.
    let address = unsafe { read(state.address_at(index), layout::PROTOTYPE_OF_CLOSURE) };
    Some(look(Body(address, PhantomData)))
}

/// How many variables the Lua function at `index` has captured; 0 for a native one.
pub(crate) fn captured_by(state: State, index: c_int) -> usize {
    let mut captured = 0;
    with_body(state, index, |body| captured = body.captured());
    captured
}

/// The body of a Lua function.
///
/// # Safety
/// The layout is known, and at the address is a Lua function that stays alive for as long as the answer is used.
pub(super) unsafe fn body_of<'a>(closure: usize) -> Body<'a> {
    // SAFETY: given by the caller.
    Body(unsafe { read(closure, layout::PROTOTYPE_OF_CLOSURE) }, PhantomData)
}

impl<'a> Body<'a> {
    pub(crate) fn address(self) -> usize {
        self.0
    }

    fn count(self, offset: usize) -> usize {
        // SAFETY: a body is a live prototype.
        usize::try_from(unsafe { read::<c_int>(self.0, offset) }).unwrap_or(0)
    }

    /// The bodies of functions defined directly inside.
    fn inner(self) -> &'a [usize] {
        // SAFETY: a body is a live prototype, whose array has as many elements as it says.
        unsafe {
            let start: *const usize = read(self.0, layout::INNER_OF_PROTOTYPE);
            if start.is_null() { &[] } else { slice::from_raw_parts(start, self.count(layout::INNER_COUNT)) }
        }
    }

    /// This body and all inside it, outer ones first; for each, the positions of those defined directly inside.
    fn tree(self, into: &mut Vec<usize>, inside: &mut Vec<Vec<usize>>) -> usize {
        let position = into.len();
        into.push(self.0);
        inside.push(Vec::new());
        let inner: Vec<usize> = self.inner().iter().map(|inner| Self(*inner, PhantomData).tree(into, inside)).collect();
        inside[position] = inner;
        position
    }

    /// How many variables a function with this body has captured.
    pub(crate) fn captured(self) -> usize {
        self.count(layout::CAPTURED_COUNT)
    }

    /// The addresses of this body and of all inside it.
    pub(crate) fn with_all_inside(self, into: &mut Vec<usize>) {
        into.push(self.0);
        self.inner().iter().for_each(|inner| Self(*inner, PhantomData).with_all_inside(into));
    }

    fn code(self) -> &'a [u32] {
        // SAFETY: as in `inner`; instructions are 32 bits wide in Lua 5.4.
        unsafe { slice::from_raw_parts(read(self.0, layout::CODE_OF_PROTOTYPE), self.count(layout::CODE_COUNT)) }
    }

    /// The lines of the definition, 0 and 0 for a whole script.
    pub(crate) fn lines(self) -> (usize, usize) {
        (self.count(layout::FIRST_LINE_OF_PROTOTYPE), self.count(layout::LAST_LINE_OF_PROTOTYPE))
    }

    /// Whether both were compiled from the same definition.
    pub(crate) fn is_same(self, other: Body<'_>) -> bool {
        let captured = |body: Body<'_>| body.count(layout::CAPTURED_COUNT);
        self.lines() == other.lines() && captured(self) == captured(other) && self.code() == other.code()
    }

    /// Whether one can stand where the other does.
    fn fits(self, other: Body<'_>) -> bool {
        let shape =
            |body: Body<'_>| (body.lines(), body.count(layout::CAPTURED_COUNT), body.count(layout::INNER_COUNT));
        shape(self) == shape(other)
    }

    /// Gives the function at `index` this body.
    pub(crate) fn give_to(self, state: State, index: c_int) {
        // SAFETY: the function is a Lua closure that is on no stack, and this body was paired with the one it has (see the
        // module's text).
        unsafe { self.give_to_closure(state.address_at(index)) };
    }

    /// # Safety
    /// At the address is a Lua function that is alive and on no stack, and this body was paired with the one it has.
    pub(super) unsafe fn give_to_closure(self, closure: usize) {
        let closure = closure as *mut c_void;
        // SAFETY: given by the caller.
        unsafe { ptr::write(closure.byte_add(layout::PROTOTYPE_OF_CLOSURE).cast(), self.0) };
    }

    /// Puts native functions where the constants are that have these addresses. One without captured variables is no object of the
    /// collector, so it can stand where a string did; where it is one, it is kept alive.
    fn call(self, called: &[(usize, usize)]) {
        for (marker, native) in called {
            self.replace_constant(*marker, *native, NATIVE);
        }
    }

    /// Puts a value where the constant is that has the address `marker`; whether there is one.
    fn replace_constant(self, marker: usize, value: usize, kind: u8) -> bool {
        let mut is_there = false;
        for number in 0..self.count(layout::CONSTANT_COUNT) {
            // SAFETY: as in `inner`; a constant is a value of 16 bytes.
            unsafe {
                let constants: *mut c_void = read(self.0, layout::CONSTANTS_OF_PROTOTYPE);
                let constant = constants.byte_add(number * layout::SIZE_OF_VALUE);
                let tag = constant.byte_add(layout::TAG_OF_VALUE).cast::<u8>();
                if ptr::read(tag) == layout::SHORT_STRING && ptr::read(constant.cast::<usize>()) == marker {
                    ptr::write(constant.cast::<usize>(), value);
                    ptr::write(tag, kind);
                    is_there = true;
                }
            }
        }
        is_there
    }

    /// Puts a function of the script where the constant is that is the text `marker`; false where there is none. The body is one that
    /// nothing has looked at since it was made, the collector being held; and what is put there lives.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn put_function(self, state: State, marker: &str, function: usize) -> Result<bool, EngineError> {
        let marker = address_of_text(state, marker)?;
        Ok(self.replace_constant(marker, function, layout::LUA_FUNCTION))
    }

    /// Has what would report only [note](super::apart::note) that.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn note(self, state: State, natives: &Natives) -> Result<(), EngineError> {
        self.call(&called(state, natives, super::apart::note)?);
        Ok(())
    }

    /// Puts an instruction in the place of another one, if that is in the body.
    pub(crate) fn patch(self, patch: Patch) {
        if patch.at < self.count(layout::CODE_COUNT) {
            // SAFETY: as in `code`; the instruction is one of the body, which no function has yet that runs.
            unsafe {
                let code: *mut u32 = read(self.0, layout::CODE_OF_PROTOTYPE);
                ptr::write(code.add(patch.at), patch.instruction);
            }
        }
    }
}

/// The addresses of the constants that stand for native functions, and what they become.
///
/// # Errors
/// When the state has no memory left.
fn called(state: State, natives: &Natives, report: ffi::lua_CFunction) -> Result<Vec<(usize, usize)>, EngineError> {
    let all = [(&natives.report, report), (&natives.assigned, at_assignment)].into_iter().chain(asked::asked(natives));
    let found = all.map(|(text, native)| Ok((address_of_text(state, text)?, what_is_called(state, native)?)));
    found.collect()
}

/// What a constant holds that is a native function without captured variables.
const NATIVE: u8 =
    if Version::TAGS.is_native_of_closure.is_some() { layout::NATIVE_CLOSURE } else { layout::NATIVE_FUNCTION };

/// A native function as a constant holds it: its address, or that of the object that it is, of which there is one a state.
///
/// # Errors
/// When the state has no memory left.
fn what_is_called(state: State, native: ffi::lua_CFunction) -> Result<usize, EngineError> {
    if Version::TAGS.is_native_of_closure.is_none() {
        return Ok(native as *const () as usize);
    }
    state.push_function(native)?;
    let address = state.address_at(-1);
    state.pop(1);
    Ok(address)
}

/// The address of a short text, which is the same object wherever it is, as long as something holds it.
///
/// # Errors
/// When the state has no memory left.
fn address_of_text(state: State, text: &str) -> Result<usize, EngineError> {
    state.push_bytes(text.as_bytes())?;
    let address = state.with_bytes(-1, |bytes| bytes.as_ptr() as usize - layout::TEXT_OF_STRING);
    state.pop(1);
    Ok(address.unwrap_or(0))
}

/// Loads a whole script that was compiled.
///
/// # Errors
/// When the state has no memory left.
pub(crate) fn load_tree(state: State, chunk: &[u8], anchor: i64) -> Result<Tree, EngineError> {
    let top = state.top();
    let outcome = load_on_top(state, chunk, anchor);
    state.cut_to(top);
    outcome
}

fn load_on_top(state: State, chunk: &[u8], anchor: i64) -> Result<Tree, EngineError> {
    state.load_compiled(chunk)?;
    let closure = state.top();
    // It is never run: that it was given the globals of the state says nothing about what functions of its source see.
    (1..=captured_by(state, closure)).for_each(|number| {
        state.push_nil();
        state.set_captured(closure, number);
    });
    let (mut bodies, mut inside) = (Vec::new(), Vec::new());
    with_body(state, closure, |root| root.tree(&mut bodies, &mut inside));
    let lines = |address: &usize| Body(*address, PhantomData).lines();
    let mut by_lines: Vec<_> = bodies.iter().map(lines).zip(0..).collect();
    by_lines.sort_unstable();
    state.push_slot(Slot::Bodies);
    state.push_integer(anchor);
    state.push_copy(closure);
    state.raw_set(-3)?;
    Ok(Tree { bodies, inside, by_lines, root: state.address_at(closure), anchor })
}

impl Tree {
    /// Its bodies, outer ones first.
    pub(crate) fn bodies(&self) -> impl Iterator<Item = Body<'_>> {
        self.bodies.iter().map(|address| Body(*address, PhantomData))
    }

    /// The positions of bodies that are the [same](Body::is_same) as one of another tree.
    pub(crate) fn same_as(&self, other: Body<'_>) -> impl Iterator<Item = usize> {
        let lines = other.lines();
        let first = self.by_lines.partition_point(|(held, _)| *held < lines);
        let candidates = self.by_lines[first..].iter().take_while(move |(held, _)| *held == lines);
        candidates
            .map(|(_, position)| *position)
            .filter(move |at| self.body(*at).is_some_and(|body| body.is_same(other)))
    }

    /// The body of this position.
    pub(crate) fn body(&self, position: usize) -> Option<Body<'_>> {
        self.bodies.get(position).map(|address| Body(*address, PhantomData))
    }

    /// Whether every body of this tree can stand where the one of the other does.
    pub(crate) fn fits(&self, other: &Self) -> bool {
        self.inside == other.inside && self.bodies().zip(other.bodies()).all(|(a, b)| a.fits(b))
    }

    /// Has what reports call [`at_site`], what stands behind assignments [`at_assignment`], and what reads the functions that do
    /// ([`asked`]), and puts patches in.
    ///
    /// # Errors
    /// When the state has no memory left.
    pub(crate) fn report(&self, state: State, natives: &Natives, patches: &[Patch]) -> Result<(), EngineError> {
        for patch in patches {
            if let Some(body) = self.body(patch.body) {
                body.patch(*patch);
            }
        }
        let called = called(state, natives, at_site)?;
        self.bodies().for_each(|body| body.call(&called));
        Ok(())
    }

    /// Lets the collector have it, as far as no function uses it.
    pub(crate) fn release(self, state: State) {
        let top = state.top();
        state.push_slot(Slot::Bodies);
        state.push_integer(self.anchor);
        state.push_nil();
        if let Err(error) = state.raw_set(-3) {
            tracing::warn!(%error, "the body of a function is kept alive");
        }
        state.cut_to(top);
    }
}

/// What an exchanged body calls where a line has a breakpoint.
pub(super) unsafe extern "C-unwind" fn at_site(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua; nothing is owned here when it raises. The record is filled in for the caller, which is there.
    unsafe {
        let Some(watch) = watch_of(raw).filter(|watch| !watch.is_busy()) else { return 0 };
        let mut record = std::mem::zeroed::<ffi::lua_Debug>();
        if ffi::lua_getstack(raw, 1, &raw mut record) == 0 {
            return 0;
        }
        ffi::lua_getinfo(raw, c"l".as_ptr(), &raw mut record);
        let line = u32::try_from(record.currentline).unwrap_or(0);
        hook::caught(|| {
            let here = (State::new(raw), Activation::of_hook(State::new(raw), &raw const record));
            watch.tell_of_line(false, |told| told.site_reached(here.0, &here.1, line));
        });
        if watch.is_abandoning() {
            watch.leaping.forget();
            hook::abandon(raw);
        }
        if watch.leaping.is_under_way() {
            leap::go_on(watch, raw);
        }
    }
    0
}

/// What an exchanged body calls behind a statement that has given a variable a value, if its assignments are asked for.
pub(super) unsafe extern "C-unwind" fn at_assignment(raw: *mut ffi::lua_State) -> c_int {
    // SAFETY: called by Lua, in a call that a function written in Lua makes; nothing is owned here when it is left.
    unsafe { ask(raw, |told, state| told.assigned(state)) };
    0
}
