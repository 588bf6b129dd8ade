//! The few instructions of the engine that have to be told apart (`lopcodes.h` of Lua 5.4 and 5.5). That they are what they are called
//! here is found out for the library that runs ([`are_known`](crate::arm::known::are_known)).

/// What an instruction does: its lowest seven bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Operation(pub(super) u32);

const MOVE: u32 = 0;
const LOAD_CONSTANT: u32 = 3;
const LOAD_NIL: u32 = 8;
const TEST: u32 = 66;
const EQUAL_TO_CONSTANT: u32 = 60;
const GET_CAPTURED: u32 = 9;
const SET_CAPTURED: u32 = 10;
const GET_FIELD_OF_CAPTURED: u32 = 11;
const SET_FIELD_OF_CAPTURED: u32 = 15;
const ADD_NUMBER: u32 = 21;
const DIVIDE_WHOLE_BY_CONSTANT: u32 = 28;
const ADD: u32 = 34;
const DIVIDE_WHOLE: u32 = 40;
const FIRST_FALLBACK: u32 = 46;
const LAST_FALLBACK: u32 = 48;
const NOT: u32 = 51;
pub(super) const JUMP: u32 = 56;
const EQUAL: u32 = 57;
const LAST_TEST: u32 = 67;
const CALL: u32 = 68;

/// Bits of an instruction that say what it does, and those of its first operand.
pub(super) const OPERATION_BITS: u32 = 7;
const OPERAND_BITS: u32 = 8;
/// The second and the third operand of an instruction with three: where they begin.
const SECOND: u32 = 16;
const THIRD: u32 = 24;
/// What is added to the distance of a jump, so that it is never negative.
pub(super) const JUMP_OFFSET: usize = (1 << 24) - 1;

impl Operation {
    pub(crate) fn of(instruction: u32) -> Self {
        Self(instruction & ((1 << OPERATION_BITS) - 1))
    }

    /// The register of the function that an instruction calls with arguments of a known number, for one result.
    pub(crate) fn called_for_one(instruction: u32) -> Option<u32> {
        let (arguments, results) = (instruction >> SECOND & 0xff, instruction >> THIRD);
        // Both count one more than there are (`lopcodes.h`, `OP_CALL`).
        let is_one = Self::of(instruction) == Self(CALL) && arguments != 0 && results == 2;
        is_one.then(|| first_operand(instruction))
    }

    /// The register that a constant is loaded into.
    pub(crate) fn register_loaded(instruction: u32) -> u32 {
        first_operand(instruction)
    }

    /// The number of the constant that is the name of the global which an instruction reads.
    pub(crate) fn global_read(instruction: u32) -> Option<usize> {
        let reads = Self::of(instruction) == Self(GET_FIELD_OF_CAPTURED);
        reads.then_some((instruction >> THIRD) as usize)
    }

    /// The number of the captured variable that an instruction uses, and where in it that stands.
    fn captured_operand(instruction: u32) -> Option<u32> {
        match Self::of(instruction).0 {
            GET_CAPTURED | SET_CAPTURED | GET_FIELD_OF_CAPTURED => Some(SECOND),
            SET_FIELD_OF_CAPTURED => Some(OPERATION_BITS),
            _ => None,
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
        let loads = Self::of(instruction) == Self(LOAD_CONSTANT);
        loads.then_some((instruction >> (OPERATION_BITS + OPERAND_BITS)) as usize)
    }

    /// Whether it stands behind a calculation, for what is no number.
    pub(crate) fn hands_on(self) -> bool {
        (FIRST_FALLBACK..=LAST_FALLBACK).contains(&self.0)
    }

    /// Whether it neither raises nor runs anything, once those that [hand on](Self::hands_on) are jumps: it moves, loads,
    /// calculates with numbers, tests and jumps. (`==` runs a metamethod only for two tables or two userdata, and filters
    /// compare no two of those.)
    pub(crate) fn is_harmless(self) -> bool {
        let loads = MOVE..=LOAD_NIL;
        let calculates = [ADD_NUMBER..=DIVIDE_WHOLE_BY_CONSTANT, ADD..=DIVIDE_WHOLE];
        let tests = EQUAL..=LAST_TEST;
        loads.contains(&self.0)
            || calculates.iter().any(|range| range.contains(&self.0))
            || tests.contains(&self.0)
            || [GET_CAPTURED, NOT, JUMP].contains(&self.0)
            || self.hands_on()
    }
}

/// The question whether a constant is there.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Question {
    pub(crate) constant: Option<usize>,
    /// What asks whether it is true.
    pub(crate) instructions: [u32; 2],
}

/// Makes the question whether a constant is nil, in front of a jump for where it is, one whether it is true: for what is nil or a
/// function, that is the same. `None` for other instructions.
pub(crate) fn asked_whether_true(code: &[u32]) -> Option<Question> {
    let [nil, equal] = *code else { return None };
    let register = first_operand(nil);
    let loads_one = Operation::of(nil) == Operation(LOAD_NIL) && nil >> SECOND & 0xff == 0;
    let jumps_if_equal = equal >> (OPERATION_BITS + OPERAND_BITS) & 1 == 1;
    let is_question = Operation::of(equal) == Operation(EQUAL_TO_CONSTANT)
        && first_operand(equal) == register
        && loads_one
        && jumps_if_equal;
    let constant = equal >> SECOND & 0xff;
    let load = LOAD_CONSTANT | register << OPERATION_BITS | constant << (OPERATION_BITS + OPERAND_BITS);
    let instructions = [load, TEST | register << OPERATION_BITS];
    is_question.then_some(Question { constant: usize::try_from(constant).ok(), instructions })
}

pub(super) fn first_operand(instruction: u32) -> u32 {
    (instruction >> OPERATION_BITS) & ((1 << OPERAND_BITS) - 1)
}

/// The instruction that jumps over `count` others.
pub(crate) fn jump_over(count: usize) -> u32 {
    let distance = u32::try_from(JUMP_OFFSET + count).unwrap_or(u32::MAX);
    JUMP | distance << OPERATION_BITS
}
