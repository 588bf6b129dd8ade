//! The few instructions of the engine that have to be told apart (`lopcodes.h`). That they are what they are called here is found out for
//! the library that runs ([`are_known`](crate::arm::known::are_known)).

use std::ops::RangeInclusive;

use super::{Dialect as _, Version};

/// How instructions are made up, and which is which (`lopcodes.h`).
pub(crate) struct Instructions {
    /// Bits of an instruction that say what it does; its first operand of eight bits is behind them.
    pub(crate) operation_bits: u32,
    /// Where the second and the third operand of an instruction with three begin.
    pub(crate) second: u32,
    pub(crate) third: u32,
    /// Bits of the second one and the third.
    pub(crate) second_mask: u32,
    pub(crate) third_mask: u32,
    /// Where the number of a constant begins that is loaded.
    pub(crate) constant: u32,
    pub(crate) load_constant: u32,
    /// Copies a register.
    pub(crate) moves: u32,
    pub(crate) get_captured: u32,
    pub(crate) set_captured: u32,
    /// The one with the captured variable as its second operand, and the key, a constant, as its third.
    pub(crate) get_field_of_captured: u32,
    /// The one that reads a global by its name, a constant, where these are not fields of a captured variable.
    pub(crate) get_global: Option<u32>,
    /// The one with the captured variable as its first operand.
    pub(crate) set_field_of_captured: u32,
    pub(crate) call: u32,
    /// Those that neither raise nor run anything: they move, load, calculate with numbers, test and jump. (`==` runs a metamethod only for
    /// two tables or two userdata, and filters compare no two of those.)
    pub(crate) harmless: &'static [RangeInclusive<u32>],
    /// Those that stand behind a calculation, for what is no number.
    pub(crate) fallbacks: Option<RangeInclusive<u32>>,
    /// How many the question takes whether there is something to call, right before that is loaded.
    pub(crate) asking: usize,
}

const IS: &Instructions = &Version::INSTRUCTIONS;

/// What an instruction does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Operation(pub(super) u32);

impl Operation {
    pub(crate) fn of(instruction: u32) -> Self {
        Self(instruction & ((1 << IS.operation_bits) - 1))
    }

    /// The one of this number.
    pub(crate) fn numbered(number: u32) -> Self {
        Self(number)
    }

    /// The number, among those inside, of the function that an instruction makes, if it `makes` one.
    pub(crate) fn function_made(instruction: u32, makes: u32) -> Option<usize> {
        (Self::of(instruction) == Self(makes)).then_some((instruction >> IS.constant) as usize)
    }

    /// The second operand of an instruction, as a register.
    pub(crate) fn second(instruction: u32) -> u8 {
        u8::try_from(second_operand(instruction) & 0xff).unwrap_or(0)
    }

    /// What says behind where a function is made that it captures a variable: of the function around it, or one captured by that.
    pub(crate) fn capturing(is_local: bool, number: u8) -> u32 {
        let operation = if is_local { IS.moves } else { IS.get_captured };
        operation | u32::from(number) << IS.second
    }

    /// The register of the function that an instruction calls with arguments of a known number, for one result.
    pub(crate) fn called_for_one(instruction: u32) -> Option<u32> {
        let (arguments, results) = (second_operand(instruction), third_operand(instruction));
        // Both count one more than there are (`lopcodes.h`, `OP_CALL`).
        let is_one = Self::of(instruction) == Self(IS.call) && arguments != 0 && results == 2;
        is_one.then(|| first_operand(instruction))
    }

    /// The register that a constant is loaded into.
    pub(crate) fn register_loaded(instruction: u32) -> u32 {
        first_operand(instruction)
    }

    /// The number of the constant that is the name of the global which an instruction reads.
    pub(crate) fn global_read(instruction: u32) -> Option<usize> {
        if let Some(get_global) = IS.get_global {
            return (Self::of(instruction) == Self(get_global)).then_some((instruction >> IS.constant) as usize);
        }
        let reads = Self::of(instruction) == Self(IS.get_field_of_captured);
        // Where an operand may be a register as well, a bit above the number says that it is a constant.
        reads.then(|| (third_operand(instruction) & 0xff) as usize)
    }

    /// Where in an instruction the number of the captured variable stands that it uses.
    fn captured_operand(instruction: u32) -> Option<u32> {
        let operation = Self::of(instruction).0;
        if [IS.get_captured, IS.set_captured, IS.get_field_of_captured].contains(&operation) {
            Some(IS.second)
        } else {
            (operation == IS.set_field_of_captured).then_some(IS.operation_bits)
        }
    }

    /// The number of the captured variable that an instruction uses.
    pub(crate) fn captured(instruction: u32) -> Option<usize> {
        Self::captured_operand(instruction).map(|at| (instruction >> at & 0xff) as usize)
    }

    /// The same instruction, of another captured variable.
    pub(crate) fn with_captured(instruction: u32, number: u8) -> u32 {
        match Self::captured_operand(instruction) {
            Some(at) => instruction & !(0xff << at) | u32::from(number) << at,
            None => instruction,
        }
    }

    /// The number of the constant that an instruction loads.
    pub(crate) fn constant_loaded(instruction: u32) -> Option<usize> {
        let loads = Self::of(instruction) == Self(IS.load_constant);
        loads.then_some((instruction >> IS.constant) as usize)
    }

    /// Whether it stands behind a calculation, for what is no number.
    pub(crate) fn hands_on(self) -> bool {
        IS.fallbacks.as_ref().is_some_and(|range| range.contains(&self.0))
    }

    /// Whether it neither raises nor runs anything, once those that [hand on](Self::hands_on) are jumps.
    pub(crate) fn is_harmless(self) -> bool {
        IS.harmless.iter().any(|range| range.contains(&self.0)) || self.hands_on()
    }
}

pub(super) fn first_operand(instruction: u32) -> u32 {
    (instruction >> IS.operation_bits) & 0xff
}

fn second_operand(instruction: u32) -> u32 {
    (instruction >> IS.second) & IS.second_mask
}

fn third_operand(instruction: u32) -> u32 {
    (instruction >> IS.third) & IS.third_mask
}

/// The question whether a constant is there.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Question {
    pub(crate) constant: Option<usize>,
    /// What asks whether it is true.
    pub(crate) instructions: [u32; 2],
}
